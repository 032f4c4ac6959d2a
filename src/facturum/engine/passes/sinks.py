"""Where the values of a matrix go: into memory for all cells, or for those that are not zero."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol, TypeVar

import numpy as np

from facturum.data.values import Array, FloatArray, Values
from facturum.engine.passes.leaf_columns import LeafColumns
from facturum.errors import DataError
from facturum.language.tree.blocks import Dense, Scattered
from facturum.numerics.linear.sparse import SparseColumns
from facturum.support.threads import on_threads

TOUCH = 128  # doubles; a quarter of a page, since NumPy lets other threads run only while it writes many


M_co = TypeVar("M_co", covariant=True)
MAX_COLUMNS = 100_000


class Sink(Protocol[M_co]):
    """Takes the columns of leaves; leaves come in any order, and each cell once."""

    def ones(self, leaf: LeafColumns, column: int) -> None: ...
    def numbers(self, leaf: LeafColumns, column: int, values: Values) -> None: ...
    def missing(self, leaf: LeafColumns, column: int) -> None: ...
    def scattered(self, parts: Sequence[tuple[LeafColumns, Scattered]], first: int) -> None: ...
    def finished(self, order: Array | None, threads: int | None) -> M_co: ...


def refuse_size(count: int, width: int) -> None:
    """Refuse a matrix that would not fit into memory.

    Raises:
        DataError: with its size.
    """
    if width > MAX_COLUMNS or count * width * 8 > _memory():
        raise DataError(
            f"the matrix would have {count:,} rows and {width:,} columns, {count * width * 8 / 2**30:,.1f} GiB",
            place="terms",
            remedy="Pool or regroup the categories, or take interactions of many categories out.",
        )


def _memory() -> float:
    """Return the machine's memory in bytes, or no bound where the system does not report it."""
    try:
        return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    except (AttributeError, ValueError, OSError):
        return float("inf")


def dense(sink: Sink[Any], leaf: LeafColumns, block: Dense, first: int) -> None:
    """Hand all columns of a block to a sink."""
    for at, values in enumerate(block.columns, first):
        sink.numbers(leaf, at, Values(values).full(leaf.rows.length))


@dataclass(frozen=True)
class DenseSink:
    """A column-major matrix, each value written once and at its final place."""

    matrix: FloatArray

    @classmethod
    def of(cls, length: int, width: int) -> DenseSink:
        """Return the sink of a matrix.

        Raises:
            DataError: where it would not fit into memory.
        """
        refuse_size(length, width)
        return cls(np.zeros((length, width), order="F"))

    def ones(self, leaf: LeafColumns, column: int) -> None:
        leaf.enter_ones(column)
        self.matrix[leaf.at, column] = 1.0

    def numbers(self, leaf: LeafColumns, column: int, values: Values) -> None:
        target = self.matrix[leaf.at, column]
        if leaf.chosen is None:
            leaf.enter(column, values, target)
            return
        own = np.empty(leaf.rows.length)
        leaf.enter(column, values, own)
        target[leaf.chosen] = own

    def missing(self, leaf: LeafColumns, column: int) -> None:
        self.matrix[leaf.at, column][leaf.chosen] = np.nan

    def scattered(self, parts: Sequence[tuple[LeafColumns, Scattered]], first: int) -> None:
        """Write the values that are not zero, one column of all leaves after the other, while its memory is at hand."""
        runs: dict[int, list[tuple[FloatArray, Array, FloatArray]]] = {}
        for leaf, block in parts:
            for offset, found, values in leaf.layers(block, first):
                stops = (found.starts + found.sizes).tolist()
                for column, start, stop in zip(found.present.tolist(), found.starts.tolist(), stops, strict=True):
                    rows = found.rows[start:stop]
                    rows = rows if leaf.chosen is None else leaf.chosen[rows]
                    target = self.matrix[leaf.at, offset + column]
                    runs.setdefault(offset + column, []).append((target, rows, values[start:stop]))
        for _, stretches in sorted(runs.items(), key=lambda item: item[0]):
            for target, _, _ in stretches:
                # fresh memory is touched first, which other threads need not wait for, unlike for scattered writes
                target[::TOUCH] = 0.0
            for target, rows, values in stretches:
                target[rows] = values

    def finished(self, order: Array | None, threads: int | None) -> FloatArray:
        """Return the matrix, its rows in another order where one is given; reading here and there beats writing so."""
        matrix = self.matrix
        if order is not None:

            def take(column: int) -> None:
                np.take(matrix[:, column].copy(), order, out=matrix[:, column], mode="clip")

            on_threads(take, range(matrix.shape[1]), threads)
        return matrix


@dataclass(frozen=True)
class SparseSink:
    """The cells that are not zero, of a matrix of so many rows and columns."""

    length: int
    width: int
    cells: list[tuple[Array, Array, FloatArray]] = field(default_factory=list)

    @classmethod
    def of(cls, length: int, width: int) -> SparseSink:
        """Return the sink of a matrix.

        Raises:
            DataError: where it would have too many columns.
        """
        refuse_size(1, width)
        return cls(length, width)

    def ones(self, leaf: LeafColumns, column: int) -> None:
        leaf.enter_ones(column)
        self._keep(leaf, column, None, np.ones(leaf.rows.length))

    def numbers(self, leaf: LeafColumns, column: int, values: Values) -> None:
        own = np.empty(leaf.rows.length)
        leaf.enter(column, values, own)
        self._keep(leaf, column, np.flatnonzero(own), own)

    def missing(self, leaf: LeafColumns, column: int) -> None:
        self._keep(leaf, column, None, np.full(leaf.rows.length, np.nan))

    def _keep(self, leaf: LeafColumns, column: int, chosen: Array | None, own: FloatArray) -> None:
        rows, data = leaf.matrix_rows(chosen), own if chosen is None else own[chosen]
        self.cells.append((np.full(len(rows), column, dtype=np.int32), rows, data))

    def scattered(self, parts: Sequence[tuple[LeafColumns, Scattered]], first: int) -> None:
        for leaf, block in parts:
            for offset, found, values in leaf.layers(block, first):
                columns = np.repeat((found.present + offset).astype(np.int32), found.sizes)
                self.cells.append((columns, leaf.matrix_rows(found.rows), values))

    def finished(self, order: Array | None, threads: int | None) -> SparseColumns:
        """Return the matrix of all cells, its rows in another order where one is given."""
        cells = self.cells
        if order is not None:
            row = np.empty(self.length, dtype=np.int64)
            row[order] = np.arange(self.length)
            cells = [(columns, row[rows], values) for columns, rows, values in cells]
        return SparseColumns.of(cells, self.length, self.width)
