"""Columns of the matrix as they would be with other values in the source, built by the resolved plan."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property

import numpy as np

from facturum.audit.counterfactual.reads import Reads
from facturum.data.values import Array, FloatArray, Mask, Values
from facturum.engine.blocks.source import Source
from facturum.engine.blocks.windows import Change, Windows
from facturum.engine.passes.outline import Outline
from facturum.language.tree.blocks import Block, Dense
from facturum.language.tree.failures import RowFailure
from facturum.language.tree.nodes import Node

LONG = 240  # periods before a row of which a carried state is made anew
FAR = 12  # periods around those that are read, in which values that fill others may lie


class Worlds:
    """Rows of a build with other values in the source.

    Args:
        outline: the resolved plan over its table, and its columns.
        targets: positions of rows in the table.
        reads: what expressions read.
    """

    def __init__(self, outline: Outline, targets: Array, reads: Reads) -> None:
        self._outline, self._reads = outline, reads
        prepared = outline.prepared
        offsets = [o for term in prepared.terms.values() for each in reads.of(term).values() for o in each]
        filled = any(node.filled_from() for term in prepared.terms.values() for node in prepared.reached(term))
        far = FAR if filled else 0
        if any(node.carries for term in prepared.terms.values() for node in prepared.reached(term)):
            far = LONG  # what is carried from further back stays the same on both sides of a change
        before, after = max(0, -min(offsets, default=0)) + far, max(0, max(offsets, default=0)) + far
        self._windows = Windows(prepared.source(), targets, before, after)
        self._held: dict[tuple[str, int], tuple[Array, Mask]] = {}

    @property
    def targets(self) -> Array:
        """The positions of the rows in the table."""
        return self._windows.targets

    @property
    def count(self) -> int:
        """How many rows there are."""
        return len(self._windows.targets)

    def at(self, chosen: Array) -> Worlds:
        """Return some of the rows."""
        return Worlds(self._outline, self._windows.targets[chosen], self._reads)

    @cached_property
    def _terms(self) -> dict[str, tuple[Node, tuple[Node, ...], int]]:
        """Each term: its expression, the formulas of its columns, and the position of the first."""
        found: dict[str, tuple[Node, tuple[Node, ...], int]] = {}
        for piece in self._outline.pieces:
            if piece.node is not None and piece.columns:
                key = self._outline.columns[piece.first].term
                found[key] = (piece.node, tuple(column.formula for column in piece.columns), piece.first)
        return found

    def every_term(self) -> list[str]:
        """Return all terms."""
        return list(self._terms)

    def reading(self, variables: Sequence[str]) -> list[str]:
        """Return the terms that read some of the variables."""
        if len(variables) == 1:
            return self._readers.get(variables[0], [])
        wanted = {key for name in variables for key in self._readers.get(name, ())}
        return [key for key in self._terms if key in wanted]

    @cached_property
    def _readers(self) -> dict[str, list[str]]:
        """The terms that read each variable."""
        found: dict[str, list[str]] = {}
        for key, (node, _, _) in self._terms.items():
            for name in self._reads.of(node):
                found.setdefault(name, []).append(key)
        return found

    def positions(self, terms: Sequence[str]) -> Array:
        """Return the positions of the columns of some terms."""
        parts = [self._terms[key][2] + np.arange(len(self._terms[key][1])) for key in terms]
        return np.concatenate(parts) if parts else np.zeros(0, dtype=np.int64)

    def columns(self, chosen: Array, changes: Sequence[Change], terms: Sequence[str]) -> FloatArray:
        """Return the columns of some terms for rows with other values, NaN where there is none.

        Args:
            chosen: which of the rows, one of them as often as it is wanted.
            changes: of the rows chosen.
            terms: the terms.
        """
        nodes = [self._terms[key][0] for key in terms]
        source, at = self._windows.source(chosen, changes, self._names(nodes))
        parts = [_matrix(source, at, *self._terms[key][:2]) for key in terms]
        return np.concatenate(parts, axis=1) if parts else np.zeros((len(chosen), 0))

    def values(self, chosen: Array, changes: Sequence[Change], node: Node) -> FloatArray:
        """Return an expression for rows with other values, NaN where there is none."""
        source, at = self._windows.source(chosen, changes, self._names([node]))
        return _numbers(source.values_at(node, at), len(at))

    def known(self, node: Node) -> Mask:
        """Return which of the rows have a value of an expression."""
        source, at = self._windows.source(np.arange(self.count), (), self._names([node]))
        valid = source.rows_at(at).valid(node)
        return np.ones(self.count, dtype=bool) if valid is None else np.broadcast_to(valid, self.count)

    def held(self, variable: str, when: int | None) -> tuple[Array, Mask]:
        """Return what a variable is stored as in the period of each row or another, and where it has a value."""
        key = (variable, when or 0)
        if key not in self._held:
            self._held[key] = self._windows.held(self._outline.prepared.table.variables[variable], when)
        return self._held[key]

    def _names(self, nodes: Sequence[Node]) -> Iterator[str]:
        timing = self._outline.prepared.spec.data.timing
        if timing is not None:
            yield from (timing.panel if timing.time is None else (timing.time, *timing.panel))
        for node in nodes:
            yield from self._reads.of(node)


def _matrix(source: Source, at: Array, node: Node, formulas: Sequence[Node]) -> FloatArray:
    """Return the columns of a term at some rows, NaN where there is none; a row in which it fails has none."""
    if len(formulas) == 1 or node.missing_by_column:
        return np.column_stack([_numbers(source.values_at(formula, at), len(at)) for formula in formulas])
    matrix = np.full((len(at), len(formulas)), np.nan)
    left = np.arange(len(at))
    while len(left):
        rows = source.rows_at(at[left])
        try:
            valid = rows.valid(node)
            there = np.arange(len(left)) if valid is None else np.flatnonzero(np.broadcast_to(valid, len(left)))
            block = rows.where(there).block(node) if len(there) else None
        except RowFailure as failure:
            left = left[~np.isin(at[left], np.array(failure.looking))]
            continue
        if block is not None:
            matrix[left[there]] = _dense(block, len(there))
        return matrix
    return matrix


def _dense(block: Block, length: int) -> FloatArray:
    if isinstance(block, Dense):
        return np.column_stack([np.broadcast_to(column, length) for column in block.columns])
    matrix = np.zeros((length, block.width))
    for offset, layer in zip(block.offsets, block.layers, strict=True):
        rows = np.flatnonzero(block.base >= 0)
        matrix[rows, block.base[rows] + offset] = 1.0 if layer is None else layer[rows]
    return matrix


def _numbers(values: Values, length: int) -> FloatArray:
    full = values.full(length)
    numbers = full.numbers() if full.valid is None else np.where(full.valid, full.numbers(), np.nan)
    return np.asarray(numbers, dtype=np.float64)
