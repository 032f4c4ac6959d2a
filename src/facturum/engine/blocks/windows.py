"""Rows as they would be with other values in the source, side by side: what is changed for one reaches no other.

Where a plan looks along time, a row comes with a stretch of its unit around it, which is a unit of its own.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from facturum.data.table import Table
from facturum.data.time.periods import moved_on, period_numbers
from facturum.data.time.series import Series
from facturum.data.values import Array, Kind, Mask
from facturum.data.variable import Variable
from facturum.engine.blocks.frames import SeriesFrame
from facturum.engine.blocks.source import Source


@dataclass(frozen=True)
class Change:
    """Other values of a variable, for some rows.

    Args:
        variable: its name.
        values: as the variable stores them, one for each row.
        present: which rows have a value then.
        chosen: the rows that are changed; the others stay as they are.
        when: the period that is changed, counted from the row's own; None for all periods of its stretch. The time of
            a stretch moves as a whole, so far that the row itself comes to what is told.
    """

    variable: str
    values: Array
    present: Mask
    chosen: Mask
    when: int | None = 0

    def of(self, rows: Array) -> Change:
        """Return the change for some of the rows, one of them as often as it is wanted."""
        return replace(self, values=self.values[rows], present=self.present[rows], chosen=self.chosen[rows])


@dataclass(frozen=True)
class StackedSource(Source):
    """Stretches of rows one after the other, each a unit of its own.

    Args:
        stretch: the number of the stretch that each row is of, increasing.
        period: the number of each row's period.
        frames: the joined series, cut alike.
    """

    stretch: Array = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    period: Array = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    frames: Mapping[str, SeriesFrame] = field(default_factory=dict)

    @cached_property
    def series(self) -> Series:
        """All rows by stretch and period."""
        every = "row" if self.timing is None else self.timing.every
        return Series(self.stretch, self.period, np.ones(len(self.period), dtype=bool), every)

    @cached_property
    def joined(self) -> dict[str, SeriesFrame]:
        """The frames of the joined series."""
        return dict(self.frames)

    def changes(self, start: int, stop: int) -> Mask:
        """Return which rows of a range are of another stretch than the row before."""
        before = self.stretch[start - 1 : start] if start else [-1]
        new: Mask = np.diff(self.stretch[start:stop], prepend=before) != 0
        known = self.known(start, stop)
        return new if known is None else new | ~known

    def periods(self, start: int, stop: int) -> Array:
        """Return the number of the period of each row of a range."""
        return self.period[start:stop]


class Windows:
    """Rows that can be had again with other values.

    Args:
        source: the table, in the order of unit and period.
        targets: positions of the rows.
        before, after: how many periods a row reads at most before and after its own.
    """

    def __init__(self, source: Source, targets: Array, before: int, after: int) -> None:
        self._source, self.targets = source, targets
        self._before, self._after = before, after
        parts = [self._around(target) for target in targets.tolist()]
        sizes = np.array([len(part[0]) for part in parts], dtype=np.int64)
        self._starts = np.concatenate([[0], np.cumsum(sizes)])
        self._at, self._offset, self._period = (
            np.concatenate([part[each] for part in parts]) if parts else np.zeros(0, dtype=np.int64)
            for each in range(3)
        )

    def _around(self, target: int) -> tuple[Array, Array, Array]:
        """Return the positions around a row, how many periods after it each lies, and the number of its period."""
        source = self._source
        if source.timing is None:
            nothing = np.zeros(1, dtype=np.int64)
            return np.array([target]), nothing, nothing
        start, stop = max(target - self._before, 0), min(target + self._after + 1, source.table.length)
        here = target - start
        places, period = np.arange(stop - start), source.periods(start, stop)
        new = np.flatnonzero(source.changes(start, stop))
        own = (places >= max(new[new <= here], default=0)) & (places < min(new[new > here], default=stop - start))
        apart = places - here if source.timing.every == "row" else period - period[here]
        near = own & (apart >= -self._before) & (apart <= self._after)
        return start + places[near], apart[near], period[near]

    def held(self, variable: Variable, when: int | None) -> tuple[Array, Mask]:
        """Return what a variable is stored as around each row, and where there is a value.

        Args:
            variable: of the table.
            when: how many periods after the row's own; None for its own.
        """
        if self._source.timing is None:
            own = variable.take(self.targets)
            return own.data, ~own.missing_rows()
        rows = np.flatnonzero(self._offset == (when or 0))
        found = np.full(len(self.targets), -1)
        found[np.searchsorted(self._starts, rows, side="right") - 1] = self._at[rows]
        taken = variable.taken(found)
        return taken.data, ~taken.missing_rows()

    def source(self, chosen: Array, changes: Sequence[Change], names: Iterable[str]) -> tuple[Source, Array]:
        """Return rows with other values, as a source, and the position of each row in it.

        Args:
            chosen: which of the targets, one of them as often as it is wanted.
            changes: of the rows chosen.
            names: of the variables that are needed.
        """
        needed = dict.fromkeys([*names, *(change.variable for change in changes)])
        if self._source.timing is None:
            every, own = np.arange(len(chosen)), np.zeros(len(chosen), dtype=np.int64)
            table = self._with(needed, self.targets[chosen], changes, every, own)
            return Source(table, self._source.derived, cache=self._source.cache), every
        sizes = np.diff(self._starts)[chosen]
        copy = np.repeat(np.arange(len(chosen)), sizes)
        first = np.concatenate([[0], np.cumsum(sizes)])[:-1]
        rows = np.arange(len(copy)) + np.repeat(self._starts[chosen] - first, sizes)
        at, offset = self._at[rows], self._offset[rows]
        changed = self._with(needed, at, changes, copy, offset)
        timing = self._source.timing
        period = self._period[rows]
        if timing.time is not None and timing.every != "row" and any(c.variable == timing.time for c in changes):
            period = period_numbers(changed[timing.time].data, timing.every)
        frames = self._frames(chosen, copy, changes)
        source = StackedSource(
            changed, self._source.derived, timing, self._source.series_joined, halo=self._source.halo,
            cache=self._source.cache, stretch=copy, period=period, frames=frames,
        )  # fmt: skip
        return source, np.flatnonzero(offset == 0)

    def _with(self, needed: Iterable[str], at: Array, changes: Sequence[Change], copy: Array, offset: Array) -> Table:
        """Return the variables needed at some positions, with other values."""
        table = self._source.table
        variables = {name: table.variables[name].take(at) for name in needed if name in table.variables}
        for change in changes:
            if change.variable in variables:
                timing, moved = self._source.timing, variables[change.variable]
                if timing is not None and change.variable == timing.time and change.when is None:
                    variables[change.variable] = _moved(moved, change, copy, offset, timing.every)
                else:
                    variables[change.variable] = _changed(moved, change, copy, offset)
        return Table(variables, len(at), table.source)

    def _frames(self, chosen: Array, copy: Array, changes: Sequence[Change]) -> dict[str, SeriesFrame]:
        """Return the joined series around some rows, each copy a unit of its own, with other values."""
        found: dict[str, SeriesFrame] = {}
        if not self._source.joined:
            return found
        middle = np.flatnonzero(self._offset == 0)
        span = np.arange(-self._before, self._after + 1)
        for name, frame in self._source.joined.items():
            series, units = frame.source.series, frame.joined.unit[self.targets][chosen]
            wanted = (self._period[middle[chosen]][:, None] + span).ravel()
            at = series.lookup(np.repeat(units, len(span)), wanted, np.ones(len(wanted), dtype=bool))
            there = at >= 0
            of, offset = np.repeat(np.arange(len(chosen)), len(span))[there], np.tile(span, len(chosen))[there]
            table = frame.source.table.take(at[there])
            variables = dict(table.variables)
            for change in changes:
                if change.variable in frame.joined.variables:
                    variables[change.variable] = _changed(variables[change.variable], change, of, offset)
            stacked = StackedSource(
                replace(table, variables=variables), frame.source.derived, frame.source.timing,
                stretch=of, period=wanted[there],
            )  # fmt: skip
            found[name] = SeriesFrame(stacked, replace(frame.joined, unit=copy))
        return found


def _moved(variable: Variable, change: Change, copy: Array, offset: Array, every: str) -> Variable:
    """Return the time of stretches as it is where each moves as a whole, its rows as far apart as they were."""
    own = variable.data[offset == 0]
    later = np.where(change.chosen, change.values, own)
    if every == "row":
        data = variable.data + (later - own)[copy]
    else:
        data = moved_on(variable.data, every, (period_numbers(later, every) - period_numbers(own, every))[copy])
        data[offset == 0] = later
    there = ~variable.missing_rows() & (change.present | ~change.chosen)[copy]
    return replace(variable, data=data, valid=there)


def _changed(variable: Variable, change: Change, copy: Array, offset: Array) -> Variable:
    """Return a variable with other values where its rows are of copies that are changed, in the period that is."""
    where = change.chosen[copy]
    if change.when is not None:
        where = where & (offset == change.when)
    there = ~variable.missing_rows()
    kept = variable.kind is not Kind.NUMBER
    kind = variable.data.dtype if kept else np.result_type(variable.data, change.values.dtype)
    data = variable.data.astype(kind, copy=True)
    data[where] = change.values[copy][where]
    there[where] = change.present[copy][where]
    return replace(variable, data=data, valid=there)
