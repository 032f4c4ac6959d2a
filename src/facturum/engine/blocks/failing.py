"""Evaluating an expression where some rows may fail: they are missing, and refused where another row reads them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np

from facturum.data.values import Array, Mask, Values
from facturum.language.tree.failures import RowFailure
from facturum.language.tree.nodes import Node

if TYPE_CHECKING:
    from facturum.engine.blocks.rows import LeafRows
    from facturum.engine.blocks.source import Source

NOWHERE = -1  # in place of the position of a row
Failed = dict[Node, tuple[RowFailure, Array]]  # of each operation that fails, for each row the row in which it does


def evaluated(source: Source, node: Node, start: int, stop: int, rows: LeafRows | None = None) -> tuple[Values, Failed]:
    """Return an expression over a range of rows, and where it fails; there it is missing.

    Args:
        source: the table.
        node: the expression.
        start, stop: the range.
        rows: the rows of the range, where something of them has been computed.
    """
    failed: Failed = {}

    def remember(failure: RowFailure) -> Array:
        at: Array = np.array(failure.looking, dtype=np.int64) - start
        _, origins = failed.setdefault(failure.node, (failure, np.full(stop - start, NOWHERE)))
        origins[at] = failure.because
        return at

    part = fine_values(rows or source.rows(start, stop), node, remember)
    return part, failed


def fine_values(rows: LeafRows, node: Node, failing_rows: Callable[[RowFailure], Array]) -> Values:
    """Return an expression over some rows, missing in those in which it fails.

    Args:
        rows: the rows.
        node: the expression.
        failing_rows: returns which of the rows, counted from the first, a failure is of.
    """
    fine = np.ones(rows.length, dtype=bool)
    while True:
        part_rows = rows if fine.all() else rows.where(np.flatnonzero(fine))
        try:
            part = part_rows.evaluate(node).full(part_rows.length)
            break
        except RowFailure as failure:
            at = failing_rows(failure)
            if not fine[at].any():
                raise
            fine[at] = False
    if part_rows is rows:
        return part
    data = np.zeros(rows.length, dtype=part.data.dtype)
    valid = np.zeros(rows.length, dtype=bool)
    data[fine] = part.data
    valid[fine] = part.present_mask()
    return Values(data, valid, part.labels)


def failing(failed: Failed, length: int) -> Mask:
    """Return the rows in which an expression fails."""
    mask = np.zeros(length, dtype=bool)
    for _, origins in failed.values():
        mask |= origins > NOWHERE
    return mask


def taken(values: Values, at: Array) -> Values:
    """Return values at some places; -1 has none."""
    there = at >= 0
    if values.valid is not None and len(values.valid):
        there = there & values.valid[np.maximum(at, 0)]
    data = values.data[np.maximum(at, 0)] if len(values.data) else np.zeros(len(at))
    return Values(data, None if there.all() else there, values.labels)


def origins_at(at: Array, reading: Mask, origins: Array) -> Array:
    """Return the row in which an expression fails that rows read at some places; NOWHERE for none."""
    found: Array = np.where(reading & (at >= 0), origins[at], NOWHERE)
    return found


def refuse(failed: Failed, rows: LeafRows, reads: Sequence[Callable[[Array], Array]]) -> None:
    """Refuse rows that read a row in which an expression fails.

    Args:
        failed: where it fails.
        rows: those that read.
        reads: each returns, of an array over all rows, what the rows that read have of it.
    """
    for failure, origins in failed.values():
        last = np.full(rows.length, NOWHERE)
        met: set[int] = set()
        for read in reads:
            seen = read(origins)
            np.maximum(last, seen, out=last)
            met.update(np.unique(seen[seen > NOWHERE]).tolist())
        if (bad := last > NOWHERE).any():
            looking, because = rows.positions(bad), last[bad].tolist()
            raise RowFailure(failure.node, failure.what, sorted(met), failure.remedy, looking, because)
