"""The rows of one leaf on their way into the matrix: sorted by their columns, with the moments of these."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from facturum.data.values import Array, FloatArray, Values
from facturum.engine.blocks.leaves import LEAF
from facturum.engine.blocks.rows import LeafRows
from facturum.language.tree.blocks import Scattered
from facturum.numerics.exact.moments import Moments

ONES = np.ones(LEAF)  # writing an array is four times as fast as writing one number to many places
LEAF_BITS = LEAF.bit_length() - 1
ROW_NUMBERS = np.arange(LEAF, dtype=np.int32)
NARROW = 2**31 // LEAF  # columns whose number and a row's fit into 32 bits together


@dataclass(frozen=True)
class SortedRows:
    """Rows brought together by the column that they belong to.

    Args:
        rows: column after column, increasing within each.
        present: the columns that have rows.
        starts, sizes: where the rows of each of these begin, and how many there are.
    """

    rows: Array
    present: Array
    starts: Array
    sizes: Array


@dataclass(frozen=True)
class LeafColumns:
    """The rows of one leaf, their rows in the matrix, and the moments of their columns.

    Args:
        rows: the rows.
        at: the rows of the matrix that the leaf has.
        moments: of their columns.
        chosen: which of the leaf's rows, counted from the first, the rows are; None for all.
        sorts: the rows by their columns, of each base.
        parts: leaves of some of the rows, where a term is missing in others.
        missing: for each piece, by its first column, in how many rows it is missing.
    """

    rows: LeafRows
    at: slice
    moments: Moments
    chosen: Array | None = None
    sorts: dict[int, SortedRows] = field(default_factory=dict)
    parts: list[LeafColumns] = field(default_factory=list)
    missing: dict[int, int] = field(default_factory=dict)

    def part(self, chosen: Array) -> LeafColumns:
        """Return some of the rows, whose moments count beside those of the leaf."""
        moments = Moments.of(len(self.moments.count))
        part = LeafColumns(self.rows.where(chosen), self.at, moments, chosen)
        self.parts.append(part)
        return part

    def matrix_rows(self, rows: Array | None = None) -> Array:
        """Return the rows of the matrix that some of these rows are."""
        own = np.arange(self.rows.length) if rows is None else rows
        rows_of_leaf: Array = own if self.chosen is None else self.chosen[own]
        return rows_of_leaf + int(self.at.start)

    def all_moments(self) -> Moments:
        """Return the moments of all parts together."""
        return Moments.merged([self.moments, *[part.moments for part in self.parts]])

    def enter(self, column: int, values: Values, target: FloatArray) -> None:
        """Put the values of a column into memory, NaN where they are missing, and enter its moments."""
        np.add(values.numbers(), 0.0, out=target)
        if values.valid is None:
            self.moments.put_dense(column, target)
        else:
            self.moments.put_missing(column, target, ~values.valid)

    def enter_ones(self, column: int) -> None:
        """Enter the moments of a column of ones."""
        self.moments.put_ones(np.array([column]), np.array([self.rows.length]), self.rows.length)

    def layers(self, block: Scattered, first: int) -> Iterator[tuple[int, SortedRows, FloatArray]]:
        """Yield the layers of a block whose columns begin at ``first``: the first column, the rows, their values."""
        self.moments.put_zeros(slice(first, first + block.width), self.rows.length)
        for offset, layer in zip(block.offsets, block.layers, strict=True):
            yield first + offset, *self._layer(block, layer, first + offset)

    def _layer(self, block: Scattered, layer: Array | None, first: int) -> tuple[SortedRows, FloatArray]:
        """Return the rows of a layer by their columns and their values, and enter the moments of these columns."""
        by_column = self.sorted(block)
        columns, total = by_column.present + first, self.rows.length
        if layer is None:
            self.moments.put_ones(columns, by_column.sizes, total)
            return by_column, ONES[: len(by_column.rows)]
        values: FloatArray = np.broadcast_to(layer, total)[by_column.rows]
        if len(by_column.rows):
            values += 0.0
            self.moments.put_groups(columns, values, by_column.starts, by_column.sizes, total)
        return by_column, values

    def sorted(self, block: Scattered) -> SortedRows:
        """Return the rows by their columns, sorted once for all blocks of the same base."""
        sorted_rows = self.sorts.get(id(block.base))
        if sorted_rows is None:
            sorted_rows = self.sorts[id(block.base)] = _sort(block)
        return sorted_rows


def _sort(block: Scattered) -> SortedRows:
    """Bring rows together by sorting one whole number for column and row, which is faster than an indirect sort."""
    keys = np.left_shift(block.base, LEAF_BITS, dtype=np.int64 if block.width >= NARROW else np.int32)
    keys |= ROW_NUMBERS[: len(keys)]
    keys.sort()
    edges = np.searchsorted(keys, np.left_shift(np.arange(block.width + 1, dtype=keys.dtype), LEAF_BITS))
    keys &= LEAF - 1
    rows = keys[int(edges[0]) :].astype(np.intp)
    counts = np.diff(edges)
    present = np.flatnonzero(counts)
    return SortedRows(rows, present, edges[present] - edges[0], counts[present])
