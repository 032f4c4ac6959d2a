"""Some rows of a table, for operations to read: each sub-expression is computed once."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, fields
from functools import cached_property
from typing import Any

import numpy as np

from facturum.data.joining import JoinedSeries
from facturum.data.series import Series, Timing, series_of
from facturum.data.table import Table
from facturum.data.values import Array, Mask, Values, and_masks
from facturum.data.variable import Infinite
from facturum.engine.leaves import leaves_of
from facturum.language.core import Name, names_in
from facturum.language.failures import RowFailure
from facturum.language.nodes import Block, Node, Rows

NOWHERE = np.iinfo(np.int64).min  # in place of the number of a row
_OFFSETS = ("own", "find")
MAX_OFFSETS = 32  # how many arrays that find other periods are kept; each is as long as the table


@dataclass(frozen=True)
class Source:
    """A table, the derived variables, and what leaves share.

    Args:
        table: the variables as declared.
        derived: new variables by name.
        timing: how rows follow one another, where the plan defines it.
        visible: the rows that operations along time read; None for all.
        series_joined: other tables, at the plan's step, whose variables are joined to this one.
        history_rows: how many rows of history stand before the rows given.
    """

    table: Table
    derived: Mapping[str, Node]
    timing: Timing | None = None
    visible: Mask | None = None
    series_joined: tuple[JoinedSeries, ...] = ()
    history_rows: int = 0
    cache: dict[Any, Any] = field(default_factory=dict)
    lock: threading.RLock = field(default_factory=threading.RLock)

    def __getstate__(self) -> dict[str, Any]:
        """Return what is pickled: the rows, without what has been computed and the lock around it."""
        return {each.name: getattr(self, each.name) for each in fields(self) if each.name not in ("cache", "lock")}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state, cache={}, lock=threading.RLock())

    @cached_property
    def series(self) -> Series:
        """The rows by unit and period."""
        return series_of(self.table, self.timing or Timing(None, "row"), self.visible)

    @cached_property
    def frame(self) -> TableFrame:
        """The rows of the table as a frame."""
        return TableFrame(self, self)

    def frame_of(self, node: Node) -> TableFrame:
        """Return the rows among which an expression runs: of a joined series where all its variables come from it."""
        homes = {self._home(name) for name in names_in(node)}
        if len(homes) == 1 and (home := homes.pop()) is not None:
            return self.joined[home]
        return self.frame

    def _home(self, name: str, depth: int = 0) -> str | None:
        """Return the joined series that a variable comes from, through derived ones too."""
        if name in self.derived and depth <= len(self.derived):
            inner = {self._home(other, depth + 1) for other in names_in(self.derived[name])}
            return inner.pop() if len(inner) == 1 else None
        return self.origins.get(name)

    @cached_property
    def joined(self) -> dict[str, TableFrame]:
        """The frames of the joined series."""
        return {
            series.name: TableFrame(Source(series.table, self.derived, series.timing), self, series)
            for series in self.series_joined
        }

    @cached_property
    def origins(self) -> dict[str, str]:
        """The joined series that each joined variable comes from."""
        return {variable: series.name for series in self.series_joined for variable in series.variables}

    def rows(self, start: int, stop: int, chosen: Array | None = None) -> LeafRows:
        """Return a range of rows, or some of them (positions counted from ``start``)."""
        return LeafRows(self, start, stop, chosen)

    def values_at(self, node: Node, at: Array) -> Values:
        """Return an expression at some rows, increasing; a row in which it fails is missing.

        For the report on rows left out of the matrix, in which an expression may fail.
        """
        fine = np.ones(len(at), dtype=bool)
        while True:
            chosen = at[fine]
            try:
                part = self.rows(0, self.table.length, chosen).evaluate(node).full(len(chosen))
                break
            except RowFailure as failure:
                failed = np.isin(at, np.array(failure.looking, dtype=np.int64) - 1 + self.history_rows)
                if not (failed & fine).any():
                    raise
                fine &= ~failed
        if fine.all():
            return part
        data = np.zeros(len(at), dtype=part.data.dtype)
        valid = np.zeros(len(at), dtype=bool)
        data[fine] = part.data
        valid[fine] = part.present_mask()
        return Values(data, valid, part.labels)


def _is_along(node: Node) -> bool:
    return node.along_time and bool(node.children())


class TableFrame:
    """The rows among which expressions run along time.

    Args:
        own_source: the table of these rows.
        main: the table of the plan.
        joined: where the two differ, how the rows of the plan find those of this table.
    """

    def __init__(self, own_source: Source, main: Source, joined: JoinedSeries | None = None) -> None:
        self._own, self._main, self._joined = own_source, main, joined
        # of each expression, the operations that fail in it; of each row, the number of the row in which it does
        self._failed: dict[Node, dict[Node, tuple[RowFailure, Array]]] = {}

    @property
    def series(self) -> Series:
        """The rows by unit and period."""
        return self._own.series

    def whole(self, node: Node) -> Values:
        """Return an expression over all rows; rows that are not visible, or in which it fails, are missing."""
        if ("whole", node) not in self._own.cache:
            for inner in self._along_within(node):  # the innermost first, so that nothing nests while it is computed
                self._own.frame_of(inner).prepare(inner)
        return self.prepare(node)

    def prepare(self, node: Node) -> Values:
        """Return the same, where what looks along time within it has been computed."""
        whole: Values = self._shared(("whole", node), lambda: self._evaluated(node))
        return whole

    def _along_within(self, root: Node) -> list[Node]:
        """Return what operations along time within an expression are taken of, the innermost first."""
        heights: dict[Node, int] = {}

        def height(node: Node) -> int:
            if node not in heights:
                inner = [*node.children()]
                if isinstance(node, Name) and node.variable in self._own.derived:
                    inner.append(self._own.derived[node.variable])
                heights[node] = 1 + max(map(height, inner), default=0)
            return heights[node]

        height(root)
        along = [node.children()[0] for node in sorted(heights, key=heights.__getitem__) if _is_along(node)]
        return [node for node in dict.fromkeys(along) if node != root]

    def own(self, offset: int) -> Array:
        """Return for each of these rows the row of the same unit so many periods later; -1 where there is none."""
        positions: Array = self._shared(("own", offset), lambda: self._own.series.rows_at(offset))
        return positions

    def find(self, offset: int) -> Array:
        """Return for each row of the plan's table the row of its unit so many periods later; -1 where there is none."""
        if self._joined is None:
            if offset == 0:
                return np.arange(self._own.table.length)
            return self.own(offset)
        joined = self._joined
        positions: Array = self._shared(
            ("find", offset),
            lambda: self._own.series.lookup(joined.unit, self._main.series.period + offset, self._main.series.known),
        )
        return positions

    def failed(self, node: Node) -> Mask:
        """Return the rows in which an expression fails."""
        self.whole(node)
        failed = np.zeros(self._own.table.length, dtype=bool)
        for _, origins in self._failed[node].values():
            failed |= origins > NOWHERE
        return failed

    def refuse_failed(self, node: Node, rows: Rows, places: Iterable[Array]) -> None:
        """Refuse rows that read a row in which an expression fails; rows that are not read may fail.

        Args:
            node: the expression.
            rows: those that look.
            places: the row that each of them reads, -1 for none; one array for each period read.
        """
        self.whole(node)
        if not self._failed[node]:
            return
        last = {name: np.full(rows.length, NOWHERE) for name in self._failed[node]}
        told: dict[Node, set[int]] = {name: set() for name in self._failed[node]}
        for at in places:
            for name, (_, origins) in self._failed[node].items():
                seen = np.where(at >= 0, origins[at], NOWHERE)
                np.maximum(last[name], seen, out=last[name])
                told[name].update(np.unique(seen[seen > NOWHERE]).tolist())
        for name, (failure, _) in self._failed[node].items():
            if (bad := last[name] > NOWHERE).any():
                looking, because = rows.numbers(bad), last[name][bad].tolist()
                raise RowFailure(failure.node, failure.what, sorted(told[name]), failure.remedy, looking, because)

    def _shared(self, key: Any, make: Callable[[], Any]) -> Any:
        source = self._own
        with source.lock:
            if key not in source.cache:
                if key[0] in _OFFSETS:
                    kept = [old for old in source.cache if isinstance(old, tuple) and old[0] in _OFFSETS]
                    for old in kept[: max(0, len(kept) + 1 - MAX_OFFSETS)]:
                        del source.cache[old]
                source.cache[key] = make()
            return source.cache[key]

    def _evaluated(self, node: Node) -> Values:
        """Evaluate leaf by leaf; where a row fails, go on without it and remember it."""
        failed: dict[Node, tuple[RowFailure, Array]] = {}
        parts = [self._leaf(node, start, stop, failed) for start, stop in leaves_of(self._own.table.length)]
        visible = self._own.visible
        if visible is not None:
            for _, origins in failed.values():
                origins[~visible] = NOWHERE
        self._failed[node] = failed
        valid = None
        if any(part.valid is not None for part in parts) or visible is not None:
            valid = and_masks(np.concatenate([part.present_mask() for part in parts]), visible)
        return Values(np.concatenate([part.data for part in parts]), valid, parts[0].labels)

    def _leaf(self, node: Node, start: int, stop: int, failed: dict[Node, tuple[RowFailure, Array]]) -> Values:
        fine = np.ones(stop - start, dtype=bool)
        while True:
            chosen = None if fine.all() else np.flatnonzero(fine)
            rows = self._own.rows(start, stop, chosen)
            try:
                part = rows.evaluate(node).full(rows.length)
                break
            except RowFailure as failure:
                at = np.array(failure.looking, dtype=np.int64) - 1 + self._own.history_rows
                if not fine[at - start].any():
                    raise
                fine[at - start] = False
                _, origins = failed.setdefault(failure.node, (failure, np.full(self._own.table.length, NOWHERE)))
                origins[at] = failure.because
        if chosen is None:
            return part
        data = np.zeros(stop - start, dtype=part.data.dtype)
        valid = np.zeros(stop - start, dtype=bool)
        data[chosen] = part.data
        valid[chosen] = part.present_mask()
        return Values(data, valid, part.labels)


class LeafRows:
    """The rows of a leaf, or some of them; computed values live as long as this object does."""

    def __init__(self, source: Source, start: int, stop: int, chosen: Array | None = None) -> None:
        self._source = source
        self._start, self._stop, self._chosen = start, stop, chosen
        self.length = stop - start if chosen is None else len(chosen)
        self._values: dict[Node, Values] = {}
        self._valid: dict[Node, Mask | None] = {}
        self._blocks: dict[Node, Block] = {}

    def variable(self, name: str) -> Values:
        """Return the values of a variable of the table, or of a derived one."""
        derived = self._source.derived.get(name)
        if derived is not None:
            return self.evaluate(derived)
        try:
            return self._source.table[name].at(self._start, self._stop, self._chosen)
        except Infinite as infinite:
            raise RowFailure(
                Name(name),
                f"'{name}' is infinite",
                self.numbers(infinite.rows),
                "Infinite values count as wrong: correct them, or leave the rows out with [rows] keep.",
            ) from None

    def present(self, name: str) -> Mask | None:
        """Return which rows have a value of a variable, of a derived one without computing it where possible."""
        derived = self._source.derived.get(name)
        return self.valid(derived) if derived is not None else self.evaluate(Name(name)).valid

    def evaluate(self, node: Node) -> Values:
        """Return the values of an expression."""
        values = self._values.get(node)
        if values is None:
            values = self._values[node] = node.values(self)
        return values

    def valid(self, node: Node) -> Mask | None:
        """Return which rows have a value, or None where all have."""
        if node in self._values:
            valid = self._values[node].valid
        elif node in self._valid:
            return self._valid[node]
        else:
            valid = node.valid(self)
        if valid is not None:
            whole = len(valid) == self.length
            valid = None if valid.all() else valid if whole else np.broadcast_to(valid, self.length)
        self._valid[node] = valid
        return valid

    def block(self, node: Node) -> Block:
        """Return the columns of a block."""
        made_block = self._blocks.get(node)
        if made_block is None:
            made_block = self._blocks[node] = node.block(self)
        return made_block

    def where(self, chosen: Array) -> LeafRows:
        """Return some of the rows, by their positions among these."""
        if len(chosen) == self.length:
            return self
        base = chosen if self._chosen is None else self._chosen[chosen]
        return LeafRows(self._source, self._start, self._stop, base)

    @property
    def series(self) -> Series:
        """The rows of the table by unit and period."""
        with self._source.lock:
            return self._source.series

    def frame(self, node: Node) -> TableFrame:
        """Return the rows among which an expression runs along time."""
        with self._source.lock:
            return self._source.frame_of(node)

    def chosen(self, whole: Array) -> Array:
        """Return of something over all rows of the table what belongs to these."""
        part = whole[self._start : self._stop]
        return part if self._chosen is None else part.take(self._chosen)

    def shared(self, key: Any, make: Callable[[], Any]) -> Any:
        """Return what all leaves share under a key; it is made once."""
        if key not in self._source.cache:
            with self._source.lock:
                if key not in self._source.cache:
                    self._source.cache[key] = make()
        return self._source.cache[key]

    def failure(self, node: Node, bad: Mask, what: str, remedy: str | None = None) -> RowFailure:
        """Return the failure of an operation in some rows."""
        return RowFailure(node, what, self.numbers(bad), remedy)

    def numbers(self, chosen: Mask) -> list[int]:
        """Return the numbers of some of the rows; those of history are below 1."""
        at = np.flatnonzero(chosen)
        rows: list[int] = (
            (at if self._chosen is None else self._chosen[at]) + (self._start + 1 - self._source.history_rows)
        ).tolist()
        return rows
