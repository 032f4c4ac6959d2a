"""Filling the design matrix, leaf by leaf, each value written once and at its final place."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from facturum.data.values import Array, FloatArray
from facturum.engine.leaves import LEAF, Reporter, on_threads, run, run_together, thread_count
from facturum.engine.rows import LeafRows
from facturum.engine.selection import LeafSelection, Selection
from facturum.engine.source import Source
from facturum.errors import DataError
from facturum.language.nodes import Column, Dense, Node, Scattered
from facturum.numerics.moments import Moments

MAX_COLUMNS = 100_000
TOUCH = 128  # doubles; a quarter of a page, since NumPy lets other threads run only while it writes many
ONES = np.ones(LEAF)  # writing an array is four times as fast as writing one number to many places
LEAF_BITS = LEAF.bit_length() - 1
ROW_NUMBERS = np.arange(LEAF, dtype=np.int32)
NARROW = 2**31 // LEAF  # columns whose number and a row's fit into 32 bits together


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
    reporter: Reporter,
    threads: int | None,
    tick: Callable[[], None] | None = None,
    complete: bool = True,
) -> tuple[FloatArray, Moments, list[int]]:
    """Return the matrix of the remaining rows, the moments of its columns, and how many rows of each term are missing.

    Args:
        pieces: the terms, in the order of their columns.
        source: the table.
        selection: the remaining rows.
        reporter: names the place of an expression that fails, and its rows.
        threads: how many threads.
        tick: is called after each leaf, for progress.
        complete: whether all terms have a value in all rows; otherwise a missing value becomes NaN.

    Raises:
        DataError: where the matrix would not fit into memory, or an operation has no finite value in some rows.
    """
    width = sum(piece.width for piece in pieces)
    count = selection.count
    _refuse_size(count, width)
    matrix: FloatArray = np.zeros((count, width), order="F")
    offsets = np.cumsum([0] + [leaf.count for leaf in selection.leaves]).tolist()

    def work(group: range) -> list[tuple[Moments, dict[int, int]]]:
        leaves = [_leaf(source, selection.leaves[at], slice(*offsets[at : at + 2]), width) for at in group]
        with np.errstate(all="ignore"):  # the moments find values that are not finite
            _write(matrix, pieces, leaves, complete)
        return [
            (Moments.merged([leaf.moments, *[part.moments for part in leaf.parts]]), leaf.missing) for leaf in leaves
        ]

    sizes = [leaf.count for leaf in selection.leaves]
    parts = run_together(work, len(selection.leaves), thread_count(threads), reporter, tick, sizes)
    moments = Moments.merged([part for part, _ in parts])
    missing = [sum(counts.get(piece.first, 0) for _, counts in parts) for piece in pieces if piece.node is not None]
    _refuse_infinite(pieces, moments, source, selection, reporter)
    if selection.order is not None:
        _reorder(matrix, selection.order, threads)
    return matrix, moments, missing


def _reorder(matrix: FloatArray, order: Array, threads: int | None) -> None:
    """Bring the rows of a matrix into another order, column by column: reading here and there beats writing so."""

    def take(column: int) -> None:
        np.take(matrix[:, column].copy(), order, out=matrix[:, column], mode="clip")

    on_threads(take, range(matrix.shape[1]), threads)


def _refuse_infinite(
    pieces: Sequence[Piece], moments: Moments, source: Source, selection: Selection, reporter: Reporter
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
                    rows.evaluate(column.formula)

    run(search, len(selection.leaves), 1, reporter)
    odd = next(piece for piece in pieces if wrong[piece.first : piece.first + piece.width].any())
    raise DataError(
        f"'{odd.node}' is infinite or not a number in some rows",
        remedy="Correct these rows, or leave them out with [rows] keep.",
    )


def _refuse_size(count: int, width: int) -> None:
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


@dataclass(frozen=True)
class _Leaf:
    """The rows of one leaf, their rows in the matrix, and the moments of their columns.

    Args:
        rows: the rows.
        at: the rows of the matrix that the leaf has.
        chosen: which of these, counted from the first, the rows are; None for all.
        moments: of their columns.
        sorts: the rows by their columns, of each base.
        parts: leaves of some of the rows, where a term is missing in others.
        missing: for each piece, by its first column, in how many rows it is missing.
    """

    rows: LeafRows
    at: slice
    moments: Moments
    chosen: Array | None = None
    sorts: dict[int, _Sorted] = field(default_factory=dict)
    parts: list[_Leaf] = field(default_factory=list)
    missing: dict[int, int] = field(default_factory=dict)

    def part(self, chosen: Array) -> _Leaf:
        """Return some of the rows, whose moments count beside those of the leaf."""
        part = _Leaf(self.rows.where(chosen), self.at, Moments.of(len(self.moments.count)), chosen)
        self.parts.append(part)
        return part

    def target(self, matrix: FloatArray, column: int) -> FloatArray:
        """Return memory for the values of a column, which `put` enters where it is not the matrix's own."""
        return matrix[self.at, column] if self.chosen is None else np.empty(self.rows.length)

    def put(self, matrix: FloatArray, column: int, values: FloatArray) -> None:
        """Enter the values of a column that are not in place yet."""
        if self.chosen is not None:
            matrix[self.at, column][self.chosen] = values

    def sorted(self, block: Scattered) -> _Sorted:
        """Return the rows by their columns, sorted once for all blocks of the same base."""
        sorted_block = self.sorts.get(id(block.base))
        if sorted_block is None:
            sorted_block = self.sorts[id(block.base)] = _sort(block)
        return sorted_block


def _leaf(source: Source, leaf: LeafSelection, at: slice, width: int) -> _Leaf:
    rows = source.rows(leaf.start, leaf.stop, leaf.remaining)
    return _Leaf(rows, at, Moments.of(width))


def _write(matrix: FloatArray, pieces: Sequence[Piece], leaves: Sequence[_Leaf], complete: bool) -> None:
    """Write all columns of some neighbouring leaves.

    Args:
        matrix: is written to.
        pieces: the terms.
        leaves: the rows.
        complete: whether all terms have a value in all of them.
    """
    filled = [leaf for leaf in leaves if leaf.rows.length]
    for piece in pieces:
        scattered: list[tuple[_Leaf, Scattered]] = []
        rest: list[_Leaf] = []
        for leaf in filled:
            if piece.node is None:
                matrix[leaf.at, piece.first] = 1.0
                leaf.moments.put_ones(np.array([piece.first]), np.array([leaf.rows.length]), leaf.rows.length)
            elif not complete and (valid := leaf.rows.valid(piece.node)) is not None:
                blocks, others = _incomplete(leaf, piece, piece.node, valid)
                scattered += blocks
                rest.append(others)
            elif isinstance(block := leaf.rows.block(piece.node), Scattered):
                scattered.append((leaf, block))
            else:
                _write_dense(matrix, leaf, block, piece.first)
        _write_scattered(matrix, scattered, piece.first)
        for at, column in enumerate(piece.columns):
            for leaf in rest:
                if leaf.chosen is None or (piece.node is not None and piece.node.missing_by_column):
                    _write_formula(matrix, leaf, column, piece.first + at)
                else:
                    matrix[leaf.at, piece.first + at][leaf.chosen] = np.nan


def _incomplete(leaf: _Leaf, piece: Piece, node: Node, valid: Array) -> tuple[list[tuple[_Leaf, Scattered]], _Leaf]:
    """Return, of a term that is missing in some rows, what is written as a block, and the other rows."""
    node.examine(leaf.rows)
    present = np.flatnonzero(valid) if len(piece.columns) > 1 else None
    leaf.missing[piece.first] = len(valid) - int(np.count_nonzero(valid))
    if present is not None and len(present) and isinstance(leaf.rows.where(present[:1]).block(node), Scattered):
        part = leaf.part(present)
        block = part.rows.block(node)
        if isinstance(block, Scattered):
            return [(part, block)], leaf.part(np.flatnonzero(~valid))
    return [], leaf


def _write_formula(matrix: FloatArray, leaf: _Leaf, column: Column, at: int) -> None:
    """Write one column by its formula, NaN where it is missing."""
    values = leaf.rows.evaluate(column.formula).full(leaf.rows.length)
    target = leaf.target(matrix, at)
    np.add(values.numbers(), 0.0, out=target)
    if values.valid is None:
        leaf.moments.put_dense(at, target)
    else:
        leaf.moments.put_missing(at, target, ~values.valid)
    leaf.put(matrix, at, target)


def _write_dense(matrix: FloatArray, leaf: _Leaf, block: Dense, first: int) -> None:
    for at, values in enumerate(block.columns, first):
        target = matrix[leaf.at, at]
        np.add(values, 0.0, out=target)
        leaf.moments.put_dense(at, target)


def _write_scattered(matrix: FloatArray, parts: Sequence[tuple[_Leaf, Scattered]], first: int) -> None:
    """Write the values that are not zero, one column of all leaves after the other, while its memory is at hand."""
    runs: dict[int, list[tuple[FloatArray, Array, FloatArray]]] = {}
    for leaf, block in parts:
        leaf.moments.put_zeros(slice(first, first + block.width), leaf.rows.length)
        for offset, layer in zip(block.offsets, block.layers, strict=True):
            for column, rows, values in _runs_of(leaf, block, layer, first + offset):
                rows = rows if leaf.chosen is None else leaf.chosen[rows]
                runs.setdefault(column, []).append((matrix[leaf.at, column], rows, values))
    for _, stretches in sorted(runs.items(), key=lambda item: item[0]):
        for target, _, _ in stretches:
            # fresh memory is touched first, which other threads need not wait for, unlike for scattered writes
            target[::TOUCH] = 0.0
        for target, rows, values in stretches:
            target[rows] = values


def _runs_of(leaf: _Leaf, block: Scattered, layer: Array | None, first: int) -> Iterator[tuple[int, Array, FloatArray]]:
    """Give for each column of a layer its rows that are not zero and their values, and enter its moments."""
    by_column = leaf.sorted(block)
    columns, total = by_column.present + first, leaf.rows.length
    values = ONES
    if layer is None:
        leaf.moments.put_ones(columns, by_column.sizes, total)
    elif len(by_column.rows):
        values = np.broadcast_to(layer, total)[by_column.rows]
        values += 0.0
        leaf.moments.put_groups(columns, values, by_column.starts, by_column.sizes, total)
    ends = by_column.starts + by_column.sizes
    for column, start, end in zip(columns.tolist(), by_column.starts.tolist(), ends.tolist(), strict=True):
        yield column, by_column.rows[start:end], values[start:end]


def _sort(block: Scattered) -> _Sorted:
    """Bring rows together by sorting one whole number for column and row, which is faster than an indirect sort."""
    keys = np.left_shift(block.base, LEAF_BITS, dtype=np.int64 if block.width >= NARROW else np.int32)
    keys |= ROW_NUMBERS[: len(keys)]
    keys.sort()
    edges = np.searchsorted(keys, np.left_shift(np.arange(block.width + 1, dtype=keys.dtype), LEAF_BITS))
    keys &= LEAF - 1
    rows = keys[int(edges[0]) :].astype(np.intp)
    counts = np.diff(edges)
    present = np.flatnonzero(counts)
    return _Sorted(rows, present, edges[present] - edges[0], counts[present])
