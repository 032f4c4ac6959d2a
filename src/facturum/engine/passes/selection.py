"""Which rows are kept, which of them are learned from, and why the others are left out."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from itertools import pairwise

import numpy as np

from facturum.data.row_numbers import row_numbers
from facturum.data.values import Array, Mask
from facturum.engine.blocks.leaves import LEAF, TOGETHER, batched, leaves_of, run, together
from facturum.engine.blocks.rows import LeafRows
from facturum.engine.blocks.source import Source
from facturum.engine.passes.presence import present
from facturum.engine.passes.totals import Totals
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.errors import FailedRows
from facturum.language.core.literals import truths
from facturum.language.tree.nodes import Node
from facturum.support.threads import thread_count

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
        restored: whether the matrix has its rows in the order given; otherwise in that of the table.
        missing_filled: where no row is left out for it, the number of rows missing of each part, counted by filling.
    """

    leaves: tuple[LeafSelection, ...]
    parts: tuple[str, ...]
    history_rows: int = 0
    numbers: Array | None = None
    restored: bool = True
    missing_filled: Mapping[str, int] | None = None

    @property
    def start(self) -> int:
        return self.leaves[0].start

    @property
    def stop(self) -> int:
        return self.leaves[-1].stop

    @property
    def given(self) -> int:
        return self.stop - self.start - self.history_rows

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
        if self.numbers is None or not self.restored:
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
        if self.numbers is None or not self.restored:
            return rows, causes
        order = np.argsort(rows)
        return rows[order], causes[order]


@dataclass(frozen=True)
class Sample:
    """The rows that a plan selects; of a table in memory they are found once, of others whenever they are asked for.

    Args:
        prepared: the plan.
        source: the table.
        threads: how many threads.
        complete: whether [rows] missing applies as well; otherwise only `keep` does.
        leaf: for tests, the rows of a leaf.
    """

    prepared: Prepared
    source: Source
    threads: int | None = None
    complete: bool = True
    leaf: int | None = None

    @cached_property
    def parts(self) -> dict[str, Node]:
        """The expressions whose values a row needs; none where filling counts what is missing."""
        if not self.complete or self.prepared.spec.rows.missing == "keep":
            return {}
        return {place: node for place, node in self.prepared.parts().items() if not place.startswith("derived.")}

    @cached_property
    def stretches(self) -> list[list[tuple[int, int]]]:
        """The leaves that are taken at a time."""
        leaves = leaves_of(self.source.table.length, self.leaf or LEAF)
        at_once = self.prepared.shaped.leaves_at_once
        return [leaves] if at_once is None else [list(part) for part in batched(leaves, at_once)]

    @cached_property
    def whole(self) -> Selection:
        """The rows of the whole table."""
        return self._of([leaf for stretch in self.stretches for leaf in stretch])

    @cached_property
    def totals(self) -> Totals:
        """How many rows there are."""
        totals = Totals()
        self.each(totals.add)
        return totals

    def settled(self) -> Sample:
        """Return the same, once it is known that a matrix can be made of its rows.

        Raises:
            DataError: where no row is left, or where rows without a value are refused.
        """
        self.totals.settle(self.prepared)
        return self

    def each(self, work: Callable[[Selection], None]) -> None:
        """Do a work for the rows of each stretch, in their order; rows in which it fails are added up.

        Raises:
            DataError: with the rows of all stretches in which an operation failed.
        """
        failures: list[FailedRows] = []
        for stretch in self.stretches:
            try:
                work(self.whole if len(self.stretches) == 1 else self._of(stretch))
            except FailedRows as failed:
                failures.append(failed)
        if failures:
            raise together(failures)

    def _of(self, leaves: Sequence[tuple[int, int]]) -> Selection:
        groups = batched(leaves, TOGETHER)
        work = partial(_select, self.prepared, self.source, list(self.parts.values()))
        each = run(lambda at: work(groups[at]), len(groups), thread_count(self.threads), self.prepared)
        selected = tuple(leaf for group in each for leaf in group)
        shaped = self.prepared.shaped
        return Selection(selected, tuple(self.parts), shaped.history_rows, shaped.numbers, shaped.restored)


def leaves_within(room: int, width: int) -> int:
    """Return how many leaves of a matrix fit into some bytes, one at least.

    Example:
        >>> leaves_within(2**26, 26)
        4
    """
    return max(1, room // (8 * LEAF * max(width, 1)))


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


def _absences(
    rows: LeafRows, parts: Sequence[Node], leaves: Sequence[tuple[int, int]]
) -> tuple[Mask | None, Array, Array]:
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
        valid = present(rows, part)
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
