"""Which rows are kept, which of them are learned from, and why the others are left out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np

from facturum.data.values import Array, Mask
from facturum.engine.blocks.leaves import TOGETHER, batched, leaves_of, run, thread_count
from facturum.engine.blocks.numbering import row_numbers
from facturum.engine.blocks.source import Source
from facturum.engine.planning.prepared import Prepared
from facturum.errors import DataError, counted
from facturum.language.core import truths
from facturum.language.nodes import Node
from facturum.language.rows import Rows

KEEP_FALSE = "keep is false"
KEEP_MISSING = "keep is missing"
NO_VALUE = "a value is missing"


@dataclass(frozen=True)
class LeafSelection:
    """The rows of one leaf.

    Args:
        start, stop: the leaf.
        kept: positions of the rows that [rows] keep takes, or None for all.
        remaining: positions of the rows that become rows of the matrix, or None for all.
        learning: for each remaining row whether it is learned from, or None for all.
        dropped: positions of the rows left out.
        causes: for each of them the number of its reason: -1 keep is false, -2 keep is missing, else the part without
            a value.
        missing: for each part, in how many kept rows it is missing.
    """

    start: int
    stop: int
    kept: Array | None
    remaining: Array | None
    learning: Mask | None
    dropped: Array
    causes: Array
    missing: Array

    @property
    def count(self) -> int:
        """How many rows remain."""
        return self.stop - self.start if self.remaining is None else len(self.remaining)

    def positions(self) -> Array:
        """Return the positions of the remaining rows in the table."""
        return np.arange(self.start, self.stop) if self.remaining is None else self.remaining + self.start

    @property
    def learned(self) -> Array | None:
        """Positions of the remaining rows that are learned from, or None for all."""
        if self.learning is None:
            return self.remaining
        return np.flatnonzero(self.learning) if self.remaining is None else self.remaining[self.learning]


@dataclass(frozen=True)
class Selection:
    """The rows of all leaves.

    Args:
        leaves: in their order.
        parts: the places whose values a row needs: the response and each term.
        history_rows: how many rows of history there are besides those given.
        numbers: the row number of each position of the table; None where they are in order.
        missing_filled: where no row is left out for it, the number of rows missing of each part, counted by filling.
    """

    leaves: tuple[LeafSelection, ...]
    parts: tuple[str, ...]
    history_rows: int = 0
    numbers: Array | None = None
    missing_filled: Mapping[str, int] | None = None

    @property
    def given(self) -> int:
        return self.leaves[-1].stop - self.history_rows

    def _numbers_of(self, positions: Array) -> Array:
        return row_numbers(positions, self.history_rows, self.numbers)

    @property
    def count(self) -> int:
        return sum(leaf.count for leaf in self.leaves)

    @property
    def learned(self) -> int:
        """How many rows are learned from."""
        return sum(leaf.count if leaf.learning is None else int(leaf.learning.sum()) for leaf in self.leaves)

    def missing(self) -> dict[str, int]:
        """Return for each part in how many kept rows it is missing."""
        total = np.sum([leaf.missing for leaf in self.leaves], axis=0)
        counted = {part: int(count) for part, count in zip(self.parts, total, strict=True)}
        return counted if self.missing_filled is None else dict(self.missing_filled)

    def reasons(self) -> dict[tuple[str, str], int]:
        """Return how many rows were left out, by reason and by the part that caused it."""
        causes = np.concatenate([leaf.causes for leaf in self.leaves])
        causes_met, sizes = np.unique(causes, return_counts=True)
        return {self.reason(int(cause)): int(size) for cause, size in zip(causes_met, sizes, strict=True)}

    def reason(self, cause: int) -> tuple[str, str]:
        """Return the reason that a number encodes, and the place that caused it."""
        if cause < 0:
            return (KEEP_FALSE if cause == -1 else KEEP_MISSING), "rows.keep"
        return NO_VALUE, self.parts[cause]

    def source_rows(self) -> Array:
        """Return the source row number of each row of the matrix, counted from 1."""
        return self._numbers_of(self.positions())

    def positions(self) -> Array:
        """Return the position of each row of the matrix in the table that the plan works on, counted from 0."""
        remaining, order = self._remaining, self.order
        return remaining if order is None else remaining[order]

    @cached_property
    def _remaining(self) -> Array:
        """The positions of the remaining rows, in the order of the table."""
        return np.concatenate([leaf.positions() for leaf in self.leaves])

    @cached_property
    def order(self) -> Array | None:
        """What brings them into the order of the rows given, which is that of the matrix; None where they are."""
        if self.numbers is None:
            return None
        places = np.full(self.given, -1)
        places[self.numbers[self._remaining] - 1] = np.arange(self.count)
        order: Array = places if self.count == self.given else places[places >= 0]
        return order

    def learning_rows(self) -> Mask:
        """Return for each row of the matrix whether it is learned from."""
        each = [np.ones(leaf.count, dtype=bool) if leaf.learning is None else leaf.learning for leaf in self.leaves]
        learning = np.concatenate(each)
        return learning if self.order is None else learning[self.order]

    def dropped_rows(self) -> tuple[Array, Array]:
        """Return the source row numbers left out, and the numbers of their reasons."""
        rows = self._numbers_of(np.concatenate([leaf.dropped + leaf.start for leaf in self.leaves]))
        causes = np.concatenate([leaf.causes for leaf in self.leaves])
        if self.numbers is None:
            return rows, causes
        order = np.argsort(rows)
        return rows[order], causes[order]


def select(
    prepared: Prepared, source: Source, threads: int | None = None, complete: bool = True, leaf: int | None = None
) -> Selection:
    """Return which rows remain, evaluating no more than which values are there.

    Args:
        prepared: the plan.
        source: the table.
        threads: how many threads.
        complete: whether [rows] missing applies as well; otherwise only `keep` does.

    Raises:
        DataError: where no row is left, or where rows without a value are refused.
    """
    parts: dict[str, Node] = {}
    if complete and prepared.spec.rows.missing != "keep":  # else filling counts what is missing
        parts = {place: node for place, node in prepared.parts().items() if not place.startswith("derived.")}
    ranges = leaves_of(source.table.length) if leaf is None else leaves_of(source.table.length, leaf)

    groups = batched(ranges, TOGETHER)
    parts_selected = run(
        lambda at: _select(prepared, source, list(parts.values()), groups[at]),
        len(groups),
        thread_count(threads),
        prepared,
    )
    leaves = [leaf for group in parts_selected for leaf in group]
    selection = Selection(tuple(leaves), tuple(parts), prepared.shaped.history_rows, source.numbers)
    if complete and prepared.spec.rows.missing == "fail":
        _refuse_missing(selection)
    if not selection.count:
        raise _nothing_left(selection, prepared)
    return selection


def _select(
    prepared: Prepared, source: Source, parts: Sequence[Node], leaves: Sequence[tuple[int, int]]
) -> list[LeafSelection]:
    """Return which rows of some neighbouring leaves remain; to evaluate them together is faster, and gives the same."""
    start, stop = leaves[0][0], leaves[-1][1]
    edges = [leaf[0] - start for leaf in leaves] + [stop - start]
    kept, dropped, causes = _kept(prepared.keep, source, start, stop)
    rows = source.rows(start, stop, kept)
    without, cause, missing = _absences(rows, parts, _cut(edges, kept))
    remaining = kept
    if without is not None:
        out = np.flatnonzero(without)
        inside = np.flatnonzero(~without)
        dropped = np.concatenate([dropped, out if kept is None else kept[out]])
        causes = np.concatenate([causes, cause[out]])
        order = np.argsort(dropped, kind="stable")
        dropped, causes = dropped[order], causes[order]
        remaining = inside if kept is None else kept[inside]
    learning = _holds(prepared.learn, source, start, stop, remaining)
    whole = LeafSelection(start, stop, kept, remaining, learning, dropped, causes, missing)
    return _leaf_by_leaf(whole, leaves, edges)


def _absences(rows: Rows, parts: Sequence[Node], leaves: Sequence[tuple[int, int]]) -> tuple[Mask | None, Array, Array]:
    """Return the rows in which some part is missing, for each the first such part, and the number missing of each part.

    Args:
        rows: the rows.
        parts: the response and the terms.
        leaves: which of the rows belong to each leaf; the counts are (leaves, parts).
    """
    missing = np.zeros((len(leaves), len(parts)), dtype=np.int64)
    without: Mask | None = None
    cause = np.zeros(0, dtype=np.int32)
    seen: dict[int, int] = {}
    for at, part in enumerate(parts):
        valid = rows.valid(part)
        if valid is None:
            continue
        earliest = seen.setdefault(id(valid), at)
        if earliest != at:  # the very values of an earlier part are missing
            missing[:, at] = missing[:, earliest]
            continue
        absent = ~valid
        missing[:, at] = [np.count_nonzero(absent[low:high]) for low, high in leaves]
        if without is None:
            without, cause = absent, np.full(rows.length, at, dtype=np.int32)
        else:
            cause[absent & ~without] = at
            without = without | absent
    return without, cause, missing


def _cut(edges: Sequence[int], positions: Array | None) -> list[tuple[int, int]]:
    """Return which of some positions, in their order, fall between each two edges; None for all positions."""
    return list(pairwise(edges if positions is None else np.searchsorted(positions, edges).tolist()))


def _leaf_by_leaf(whole: LeafSelection, leaves: Sequence[tuple[int, int]], edges: Sequence[int]) -> list[LeafSelection]:
    """Return what each leaf has of a selection of several."""
    kept = _apart(whole.kept, edges)
    remaining = kept if whole.remaining is whole.kept else _apart(whole.remaining, edges)
    of_remaining, of_dropped = _cut(edges, whole.remaining), _cut(edges, whole.dropped)
    return [
        LeafSelection(
            start,
            stop,
            kept[at],
            remaining[at],
            None if whole.learning is None else whole.learning[slice(*of_remaining[at])],
            whole.dropped[slice(*of_dropped[at])] - edges[at],
            whole.causes[slice(*of_dropped[at])],
            whole.missing[at],
        )
        for at, (start, stop) in enumerate(leaves)
    ]


def _apart(positions: Array | None, edges: Sequence[int]) -> list[Array | None]:
    """Return positions counted from the edge before them, between each two edges."""
    if positions is None:
        return [None] * (len(edges) - 1)
    return [positions[low:high] - edge for (low, high), edge in zip(_cut(edges, positions), edges, strict=False)]


def _kept(keep: Node | None, source: Source, start: int, stop: int) -> tuple[Array | None, Array, Array]:
    """Return the rows that [rows] keep takes, those it leaves out, and why; rows of history are neither."""
    nothing = np.zeros(0, dtype=np.int64)
    given = None
    if source.history_rows:
        new = source.row_numbers(np.arange(start, stop)) > 0
        given = None if new.all() else np.flatnonzero(new)
    if keep is None:
        return given, nothing, nothing
    rows = source.rows(start, stop, given)
    values = rows.evaluate(keep).full(rows.length)
    known = values.present_mask()
    holds = truths(values) & known
    dropped, kept = np.flatnonzero(~holds), np.flatnonzero(holds)
    causes = np.where(known[dropped], -1, -2)
    return (kept, dropped, causes) if given is None else (given[kept], given[dropped], causes)


def _holds(condition: Node | None, source: Source, start: int, stop: int, chosen: Array | None) -> Mask | None:
    if condition is None:
        return None
    rows = source.rows(start, stop, chosen)
    values = rows.evaluate(condition).full(rows.length)
    holds: Mask = truths(values) if values.valid is None else truths(values) & values.valid
    return holds


def _refuse_missing(selection: Selection) -> None:
    rows, causes = selection.dropped_rows()
    without = causes >= 0
    if without.any():
        places = [selection.parts[at] for at in np.unique(causes[without])]
        raise DataError(
            f"{counted(int(without.sum()), 'row')} with missing values, and [rows] missing is 'fail'",
            place=places[0],
            rows=rows[without].tolist(),
            remedy='Fill them, leave them out with [rows] keep, or write missing = "drop". Concerned: '
            + ", ".join(places[:8])
            + ".",
        )


def _nothing_left(selection: Selection, prepared: Prepared) -> DataError:
    causes = sorted(selection.reasons().items(), key=lambda item: -item[1])
    told = [
        f"{count:,} where {reason} in {place}" if place != "rows.keep" else f"{count:,} where {reason}"
        for (reason, place), count in causes
    ]
    chief = causes[0][0][1]  # the place that most of the rows are lost at
    return DataError(
        f"no row is left of {selection.given:,}: " + "; ".join(told[:5]),
        place=chief,
        text=prepared.spec.rows.keep if chief == "rows.keep" else None,
        remedy="Loosen [rows] keep, or fill or leave out the variables that are missing.",
    )
