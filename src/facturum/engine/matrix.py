"""Filling the design matrix, leaf by leaf, each value written once and at its final place."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from facturum.data.values import Array, FloatArray
from facturum.engine.evaluate import LeafRows, Source
from facturum.engine.leaves import LEAF, Where, run, thread_count
from facturum.engine.selection import Selection
from facturum.errors import DataError
from facturum.language.nodes import Block, Column, Node, Scattered
from facturum.numerics.moments import Moments

MOST_COLUMNS = 100_000
PAGE = 512  # doubles
ONES = np.ones(LEAF)  # writing an array is four times as fast as writing one number to many places
LEAF_BITS = LEAF.bit_length() - 1


@dataclass(frozen=True)
class Piece:
    """A term as the matrix sees it: its expression, its columns, and where they begin. No node: the intercept."""

    node: Node | None
    columns: tuple[Column, ...]
    first: int

    @property
    def width(self) -> int:
        return 1 if self.node is None else len(self.columns)


@dataclass(frozen=True)
class _Sorted:
    """Rows brought together by the column that they belong to."""

    rows: Array
    present: Array
    starts: Array
    sizes: Array


def fill(
    pieces: Sequence[Piece],
    source: Source,
    selection: Selection,
    where: Where,
    threads: int | None,
    tick: object = None,
) -> tuple[FloatArray, Moments]:
    """Return a column-major matrix of the remaining rows, and the moments of its columns.

    Args:
        pieces: the terms, in the order of their columns.
        source: the table.
        selection: the remaining rows; where not all of them have all values, a value not there becomes NaN.
        where: tells the place of an expression that fails.
        threads: how many threads.

    Raises:
        DataError: where the matrix would not fit into memory, or an operation has no finite value in some rows.
    """
    width = sum(piece.width for piece in pieces)
    count = selection.count
    _refuse_size(count, width)
    matrix: FloatArray = np.zeros((count, width), order="F")
    offsets = np.cumsum([0] + [leaf.count for leaf in selection.leaves])

    def work(at: int) -> Moments:
        leaf = selection.leaves[at]
        rows = source.rows(leaf.start, leaf.stop, leaf.remaining)
        writer = _Writer(matrix, int(offsets[at]), rows, Moments.of(width))
        complete = not leaf.missing.any() or leaf.remaining is not leaf.kept
        with np.errstate(all="ignore"):  # what is not finite is found by its moments, and told with its rows
            for piece in pieces:
                writer.write(piece, complete)
        return writer.moments

    sizes = [leaf.count for leaf in selection.leaves]
    parts = run(work, len(selection.leaves), thread_count(threads), where, tick if callable(tick) else None, sizes)
    moments = Moments.merged(parts)
    _refuse_infinite(pieces, moments, source, selection, where)
    return matrix, moments


def _refuse_infinite(
    pieces: Sequence[Piece], moments: Moments, source: Source, selection: Selection, where: Where
) -> None:
    """Find the operation and the rows behind a value that is not finite, by the formulas."""
    wrong = (moments.count > 0) & ~(np.isfinite(moments.smallest) & np.isfinite(moments.largest))
    if not wrong.any():
        return

    def search(at: int) -> None:
        leaf = selection.leaves[at]
        rows = source.rows(leaf.start, leaf.stop, leaf.remaining)
        for piece in pieces:
            for column, bad in zip(piece.columns, wrong[piece.first : piece.first + piece.width], strict=False):
                if bad:
                    rows.of(column.formula)

    run(search, len(selection.leaves), 1, where)
    raise AssertionError("a formula is finite where its column is not")


def _refuse_size(count: int, width: int) -> None:
    if width > MOST_COLUMNS or count * width * 8 > _memory():
        raise DataError(
            f"the matrix would have {count:,} rows and {width:,} columns, {count * width * 8 / 2**30:,.1f} GiB",
            place="terms",
            remedy="Pool or regroup the categories, or take interactions of many categories out.",
        )


def _memory() -> float:
    """Return the machine's memory in bytes, or no bound where the system does not tell."""
    try:
        return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    except (AttributeError, ValueError, OSError):
        return float("inf")


class _Writer:
    """Writes the columns of one leaf."""

    def __init__(self, matrix: FloatArray, offset: int, rows: LeafRows, moments: Moments) -> None:
        self._matrix = matrix
        self._offset = offset
        self._rows = rows
        self._stop = offset + rows.length
        self.moments = moments
        self._sorts: dict[int, _Sorted] = {}

    def write(self, piece: Piece, complete: bool) -> None:
        if not self._rows.length:
            return
        if piece.node is None:
            self._matrix[self._offset : self._stop, piece.first] = 1.0
            self.moments.put_ones(np.array([piece.first]), np.array([self._rows.length]), self._rows.length)
        elif complete:
            self._write_block(self._rows.block(piece.node), piece)
        else:
            for at, column in enumerate(piece.columns):
                self._write_formula(column, piece.first + at)

    def _write_formula(self, column: Column, at: int) -> None:
        """Write one column by its formula, NaN where it has no value."""
        values = self._rows.of(column.formula).full(self._rows.length)
        target = self._matrix[self._offset : self._stop, at]
        np.add(values.numbers(), 0.0, out=target)
        if values.valid is None:
            self.moments.put_dense(at, target)
        else:
            target[~values.valid] = np.nan
            self.moments.put_dense(at, target[values.valid])

    def _write_block(self, block: Block, piece: Piece) -> None:
        if isinstance(block, Scattered):
            self._write_scattered(block, piece)
            return
        for at, values in enumerate(block.columns):
            target = self._matrix[self._offset : self._stop, piece.first + at]
            np.add(values, 0.0, out=target)
            self.moments.put_dense(piece.first + at, target)

    def _write_scattered(self, block: Scattered, piece: Piece) -> None:
        own = self._sorted(block)
        total = self._rows.length
        each = slice(piece.first, piece.first + block.width)
        # fresh memory is touched page by page first, which other threads need not wait for, unlike for scattered writes
        self._matrix[self._offset : self._stop : PAGE, each] = 0.0
        self.moments.put_zeros(each, total)
        for offset, layer in zip(block.offsets, block.layers, strict=True):
            columns = own.present + (piece.first + offset)
            values: Array | None = None
            if layer is None:
                self.moments.put_ones(columns, own.sizes, total)
            elif len(own.rows):
                values = np.broadcast_to(layer, total).take(own.rows)
                values += 0.0
                self.moments.put_groups(columns, values, own.starts, own.sizes, total)
            self._scatter(columns, own, ONES if values is None else values)

    def _scatter(self, columns: Array, own: _Sorted, values: Array) -> None:
        """Write the values that are not zero, one column after the other."""
        ends = own.starts + own.sizes
        for column, start, end in zip(columns.tolist(), own.starts.tolist(), ends.tolist(), strict=True):
            target = self._matrix[self._offset : self._stop, column]
            target[own.rows[start:end]] = values[start:end]

    def _sorted(self, block: Scattered) -> _Sorted:
        found = self._sorts.get(id(block.base))
        if found is None:
            found = self._sorts[id(block.base)] = self._sort(block)
        return found

    def _sort(self, block: Scattered) -> _Sorted:
        base = block.base
        if base.dtype.itemsize <= 2:  # which are sorted by their digits, faster than by comparing
            rows = np.argsort(base, kind="stable")
            starts = np.searchsorted(base.take(rows), np.arange(block.width).astype(base.dtype))
            edges: Array = np.append(starts, len(rows))
            rows = rows[int(edges[0]) :]
        else:
            # one whole number for column and row sorts faster than an indirect sort of the columns
            keys = np.left_shift(base.astype(np.int64), LEAF_BITS) | np.arange(len(base))
            keys.sort()
            edges = np.searchsorted(keys, np.left_shift(np.arange(block.width + 1), LEAF_BITS))
            rows = np.bitwise_and(keys[int(edges[0]) :], LEAF - 1).astype(np.intp)
        counts = np.diff(edges)
        present = np.flatnonzero(counts)
        return _Sorted(rows, present, edges[present] - edges[0], counts[present])
