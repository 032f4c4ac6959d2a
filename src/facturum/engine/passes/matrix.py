"""Filling the design matrix, leaf by leaf, each value written once and at its final place."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TypeVar

import numpy as np

from facturum.data.values import Array
from facturum.engine.blocks.leaves import Reporter, run, run_together
from facturum.engine.blocks.source import Source
from facturum.engine.passes.leaf_columns import LeafColumns
from facturum.engine.passes.selection import LeafSelection, Selection
from facturum.engine.passes.sinks import Sink, dense
from facturum.errors import DataError
from facturum.language.tree.blocks import Dense, Scattered
from facturum.language.tree.nodes import Column, Node
from facturum.numerics.exact.moments import Moments
from facturum.support.threads import thread_count

M = TypeVar("M")


@dataclass(frozen=True)
class Piece:
    """A term as the matrix sees it: its expression, its columns, and where they begin. No node: the intercept."""

    node: Node | None
    columns: tuple[Column, ...]
    first: int

    @property
    def width(self) -> int:
        return 1 if self.node is None else len(self.columns)

    @property
    def missing_by_column(self) -> bool:
        """Whether its columns can be missing in different rows."""
        return self.node is not None and self.node.missing_by_column


def fill(
    sink: Sink[M],
    pieces: Sequence[Piece],
    source: Source,
    selection: Selection,
    reporter: Reporter,
    threads: int | None,
    tick: Callable[[], None] | None = None,
    complete: bool = True,
) -> tuple[M, list[Moments], list[int]]:
    """Hand the columns of all remaining rows to a sink.

    Args:
        sink: takes them.
        pieces: the terms, in the order of their columns.
        source: the table.
        selection: the remaining rows.
        reporter: names the place of an expression that fails, and its rows.
        threads: how many threads.
        tick: is called after each leaf, for progress.
        complete: whether all terms have a value in all rows; otherwise a missing value becomes NaN.

    Returns:
        What the sink has made of them, the moments of the columns in each leaf, and how many rows of each term are
        missing.

    Raises:
        DataError: where an operation has no finite value in some rows.
    """
    width = sum(piece.width for piece in pieces)
    offsets = np.cumsum([0] + [leaf.count for leaf in selection.leaves]).tolist()

    def work(group: range) -> list[tuple[Moments, dict[int, int]]]:
        leaves = [_leaf(source, selection.leaves[at], slice(*offsets[at : at + 2]), width) for at in group]
        with np.errstate(all="ignore"):  # the moments find values that are not finite
            _write(sink, pieces, leaves, complete)
        return [(leaf.all_moments(), leaf.missing) for leaf in leaves]

    sizes = [leaf.count for leaf in selection.leaves]
    parts = run_together(work, len(selection.leaves), thread_count(threads), reporter, tick, sizes)
    moments = [part for part, _ in parts]
    missing = [sum(counts.get(piece.first, 0) for _, counts in parts) for piece in pieces if piece.node is not None]
    _refuse_infinite(pieces, Moments.merged(moments), source, selection, reporter)
    return sink.finished(selection.order, threads), moments, missing


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


def _leaf(source: Source, leaf: LeafSelection, at: slice, width: int) -> LeafColumns:
    rows = source.rows(leaf.start, leaf.stop, leaf.remaining)
    return LeafColumns(rows, at, Moments.of(width))


def _write(sink: Sink[M], pieces: Sequence[Piece], leaves: Sequence[LeafColumns], complete: bool) -> None:
    """Write all columns of some neighbouring leaves.

    Args:
        sink: takes them.
        pieces: the terms.
        leaves: the rows.
        complete: whether all terms have a value in all of them.
    """
    filled = [leaf for leaf in leaves if leaf.rows.length]
    for piece in pieces:
        scattered: list[tuple[LeafColumns, Scattered]] = []
        rest: list[LeafColumns] = []
        for leaf in filled:
            if piece.node is None:
                sink.ones(leaf, piece.first)
            elif not complete and (valid := leaf.rows.valid(piece.node)) is not None:
                blocks, others = _incomplete(leaf, piece, piece.node, valid)
                scattered += blocks
                rest.append(others)
            elif isinstance(block := leaf.rows.block(piece.node), Scattered):
                scattered.append((leaf, block))
            else:
                dense(sink, leaf, block, piece.first)
        if scattered:
            sink.scattered(scattered, piece.first)
        for at, column in enumerate(piece.columns):
            for leaf in rest:
                if leaf.chosen is None or piece.missing_by_column:
                    sink.numbers(leaf, piece.first + at, leaf.rows.evaluate(column.formula).full(leaf.rows.length))
                else:
                    sink.missing(leaf, piece.first + at)


def _incomplete(
    leaf: LeafColumns, piece: Piece, node: Node, valid: Array
) -> tuple[list[tuple[LeafColumns, Scattered]], LeafColumns]:
    """Return, of a term that is missing in some rows, what is written as a block, and the other rows."""
    node.examine(leaf.rows)
    present = np.flatnonzero(valid) if len(piece.columns) > 1 else None
    leaf.missing[piece.first] = len(valid) - int(np.count_nonzero(valid))
    if present is None or not len(present) or isinstance(leaf.rows.where(present[:1]).block(node), Dense):
        return [], leaf
    part = leaf.part(present)
    block = part.rows.block(node)
    assert isinstance(block, Scattered)  # as that of one row is
    return [(part, block)], leaf.part(np.flatnonzero(~valid))
