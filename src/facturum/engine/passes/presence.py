"""Which rows have a value of an expression, where it may fail in some of them."""

from __future__ import annotations

import numpy as np

from facturum.data.values import Mask
from facturum.engine.blocks.rows import LeafRows
from facturum.language.core.literals import Name
from facturum.language.tree.failures import RowFailure
from facturum.language.tree.nodes import Node


def present(rows: LeafRows, node: Node) -> Mask | None:
    """Return which rows have a value of an expression, or None where all have.

    A row in which it fails counts as one that has a value, unless it lacks an operand: that it fails is told once its
    values are computed, if it is not left out anyway.
    """
    try:
        return rows.valid(node)
    except RowFailure as failure:
        fine = ~_looking(rows, failure)
        if fine.all():
            raise
    found = np.ones(rows.length, dtype=bool)
    inner = present(rows.where(np.flatnonzero(fine)), node)
    if inner is not None:
        found[fine] = inner
    failing = rows.where(np.flatnonzero(~fine))
    derived = rows.source.derived.get(node.variable) if isinstance(node, Name) else None
    for operand in node.needs() if derived is None else (derived,):
        inner = present(failing, operand)
        if inner is not None:
            found[~fine] &= inner
    return found


def _looking(rows: LeafRows, failure: RowFailure) -> Mask:
    """Return which of some rows a failure is of."""
    positions = rows.positions(np.ones(rows.length, dtype=bool))
    return np.isin(positions, np.array(failure.looking, dtype=np.int64))
