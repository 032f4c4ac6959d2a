"""Where the values of a matrix go: into memory for all cells, or for those that are not zero."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from facturum.data.values import Array, FloatArray, Values
from facturum.engine.blocks.leaves import on_threads
from facturum.engine.passes.leaf_columns import LeafColumns
from facturum.language.nodes import Dense, Scattered
from facturum.numerics.sparse import SparseColumns

TOUCH = 128  # doubles; a quarter of a page, since NumPy lets other threads run only while it writes many


class Sink(Protocol):
    """Takes the columns of leaves; leaves come in any order, and each cell once."""

    def ones(self, leaf: LeafColumns, column: int) -> None: ...
    def numbers(self, leaf: LeafColumns, column: int, values: Values) -> None: ...
    def missing(self, leaf: LeafColumns, column: int) -> None: ...
    def scattered(self, parts: Sequence[tuple[LeafColumns, Scattered]], first: int) -> None: ...


def dense(sink: Sink, leaf: LeafColumns, block: Dense, first: int) -> None:
    """Hand all columns of a block to a sink."""
    for at, values in enumerate(block.columns, first):
        sink.numbers(leaf, at, Values(values).full(leaf.rows.length))


@dataclass(frozen=True)
class DenseSink:
    """A column-major matrix, each value written once and at its final place."""

    matrix: FloatArray

    def ones(self, leaf: LeafColumns, column: int) -> None:
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
        self.matrix[leaf.at, column][leaf.chosen if leaf.chosen is not None else slice(None)] = np.nan

    def scattered(self, parts: Sequence[tuple[LeafColumns, Scattered]], first: int) -> None:
        """Write the values that are not zero, one column of all leaves after the other, while its memory is at hand."""
        runs: dict[int, list[tuple[FloatArray, Array, FloatArray]]] = {}
        for leaf, block in parts:
            leaf.moments.put_zeros(slice(first, first + block.width), leaf.rows.length)
            for offset, layer in zip(block.offsets, block.layers, strict=True):
                found, values = leaf.layer(block, layer, first + offset)
                stops = (found.starts + found.sizes).tolist()
                for column, start, stop in zip(found.present.tolist(), found.starts.tolist(), stops, strict=True):
                    rows = found.rows[start:stop]
                    rows = rows if leaf.chosen is None else leaf.chosen[rows]
                    target = self.matrix[leaf.at, first + offset + column]
                    runs.setdefault(first + offset + column, []).append((target, rows, values[start:stop]))
        for _, stretches in sorted(runs.items(), key=lambda item: item[0]):
            for target, _, _ in stretches:
                # fresh memory is touched first, which other threads need not wait for, unlike for scattered writes
                target[::TOUCH] = 0.0
            for target, rows, values in stretches:
                target[rows] = values

    def reorder(self, order: Array, threads: int | None) -> None:
        """Bring the rows into another order, column by column: reading here and there beats writing so."""
        matrix = self.matrix

        def take(column: int) -> None:
            np.take(matrix[:, column].copy(), order, out=matrix[:, column], mode="clip")

        on_threads(take, range(matrix.shape[1]), threads)


@dataclass(frozen=True)
class SparseSink:
    """The cells that are not zero, kept by their leaves until all are there."""

    def ones(self, leaf: LeafColumns, column: int) -> None:
        self._keep(leaf, column, None, np.ones(leaf.rows.length))

    def numbers(self, leaf: LeafColumns, column: int, values: Values) -> None:
        own = np.empty(leaf.rows.length)
        leaf.enter(column, values, own)
        self._keep(leaf, column, np.flatnonzero(own), own)

    def missing(self, leaf: LeafColumns, column: int) -> None:
        self._keep(leaf, column, None, np.full(leaf.rows.length, np.nan))

    def _keep(self, leaf: LeafColumns, column: int, chosen: Array | None, own: FloatArray) -> None:
        rows, data = leaf.matrix_rows(chosen), own if chosen is None else own[chosen]
        leaf.cells.append((np.full(len(rows), column, dtype=np.int32), rows, data))

    def scattered(self, parts: Sequence[tuple[LeafColumns, Scattered]], first: int) -> None:
        for leaf, block in parts:
            leaf.moments.put_zeros(slice(first, first + block.width), leaf.rows.length)
            for offset, layer in zip(block.offsets, block.layers, strict=True):
                found, values = leaf.layer(block, layer, first + offset)
                columns = np.repeat((found.present + (first + offset)).astype(np.int32), found.sizes)
                leaf.cells.append((columns, leaf.matrix_rows(found.rows), values))

    def assembled(
        self, cells: Sequence[tuple[Array, Array, FloatArray]], order: Array | None, length: int, width: int
    ) -> SparseColumns:
        """Return the matrix of all cells, its rows in another order where one is given."""
        if order is not None:
            row = np.empty(length, dtype=np.int64)
            row[order] = np.arange(length)
            cells = [(columns, row[rows], values) for columns, rows, values in cells]
        return SparseColumns.of(cells, length, width)
