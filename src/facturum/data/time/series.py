"""Rows in the order of time: what period and what unit each belongs to, and who is next to whom."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from facturum.data.grouping import SPARSE, group_numbers
from facturum.data.table import Table
from facturum.data.time.calendar import MINUTES, first_day, weekend
from facturum.data.time.faults import not_a_time, refuse_unplaced
from facturum.data.values import Array, Kind, Mask
from facturum.data.variable import Variable
from facturum.errors import DataError, counted

STEPS = ("year", "quarter", "month", "week", "day", "hour", "row")
OWN_STEPS = ("workday", *MINUTES)  # which nothing is converted to or from
_NOUNS = {"30 minutes": "half hour", "15 minutes": "quarter hour"}
_HOUR = 3_600_000_000
AT_ONCE = 65_536  # rows that are looked at together: as a rule, the first ones already show that the step is right
_BELOW_A_DAY = ("hour", *MINUTES)
FEWEST_STEPS = 5  # from one row to the next, from which on their common length is reported
_LONGER = {
    "hour": ((24, "day"),),
    "day": ((7, "week"),),
    "month": ((12, "year"), (3, "quarter")),
    "quarter": ((4, "year"),),
    "workday": ((5, "week"),),
    "15 minutes": ((4, "hour"), (2, "30 minutes")),
    "30 minutes": ((2, "hour"),),
}


def step_noun(every: str) -> str:
    """Return what a period of a step is called.

    Example:
        >>> step_noun("month"), step_noun("30 minutes"), step_noun("week_sun")
        ('month', 'half hour', 'week')
    """
    return _NOUNS.get(every, every.partition("_")[0])


@dataclass(frozen=True)
class Timing:
    """How rows follow one another.

    Args:
        time: the time variable; None where rows follow one another as they stand.
        every: the step from one period to the next.
        panel: the variables within which a series runs.
    """

    time: str | None
    every: str
    panel: tuple[str, ...] = ()


def period_numbers(moments: Array, step: str) -> Array:
    """Return the number of the period that each moment lies in, counted from 1970.

    Args:
        moments: microseconds since 1970.
        step: year, quarter, month, week (from Monday; ``week_sun`` from Sunday), day, workday (Monday to Friday; a
            weekend counts as its Friday), hour, 30 minutes, 15 minutes or minute; for a row, the moment, by which
            rows are ordered.

    Example:
        >>> period_numbers(np.array([0, 32 * 24 * 3_600_000_000]), "month").tolist()
        [0, 1]
    """
    if step == "row":
        return moments
    if step in MINUTES:
        parts: Array = np.floor_divide(moments, MINUTES[step] * 60_000_000)
        return parts
    if step == "hour":
        hours: Array = np.floor_divide(moments, _HOUR)
        return hours
    days: Array = np.floor_divide(moments, 24 * _HOUR)
    if step == "day":
        return days
    if step == "workday":
        since_monday = days + 3  # 1970 began on a Thursday
        workdays: Array = 5 * np.floor_divide(since_monday, 7) + np.minimum(since_monday % 7, 4) - 3
        return workdays
    if step.startswith("week"):
        weeks: Array = np.floor_divide(days - first_day(step), 7)
        return weeks
    months: Array = days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
    numbers: Array = np.floor_divide(months, {"month": 1, "quarter": 3, "year": 12}[step])
    return numbers


def period_starts(numbers: Array, step: str) -> Array:
    """Return the moment at which each period begins, in microseconds since 1970.

    Args:
        numbers: of the periods, as `period_numbers` gives them.
        step: as there.

    Example:
        >>> period_starts(np.array([0, 1]), "day").tolist(), period_starts(np.array([-1]), "month").tolist()
        ([0, 86400000000], [-2678400000000])
    """
    if step in MINUTES:
        return numbers * (MINUTES[step] * 60_000_000)
    if step == "hour":
        return numbers * _HOUR
    if step == "day":
        days = numbers
    elif step == "workday":
        weeks, weekday = np.divmod(numbers + 3, 5)
        days = 7 * weeks + weekday - 3
    elif step.startswith("week"):
        days = 7 * numbers + first_day(step)
    else:
        months = numbers * {"month": 1, "quarter": 3, "year": 12}[step]
        days = months.astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
    starts: Array = days * (24 * _HOUR)
    return starts


@dataclass(frozen=True)
class Series:
    """The rows of a table by unit and period.

    Args:
        unit: the number of each row's unit.
        period: the number of each row's period.
        known: which rows have a period and are looked at.
        every: the step from one period to the next.

    Example:
        >>> series = Series(np.array([0, 0, 0]), np.array([5, 3, 4]), np.array([True, True, True]))
        >>> series.rows_at(-1).tolist()
        [2, -1, 1]
    """

    unit: Array
    period: Array
    known: Mask
    every: str = "row"

    @cached_property
    def order(self) -> Array:
        """The known rows, unit by unit and in the order of time."""
        rows = np.flatnonzero(self.known)
        if self.placed is not None:
            return self.placed if len(rows) == len(self.known) else rows[self.placed]
        ordered: Array = rows[np.lexsort((self.period[rows], self.unit[rows]))]
        return ordered

    @cached_property
    def placed(self) -> Array | None:
        """The order of the known rows where each has its own place; None where some share one, or few are taken."""
        if self.known.all():
            return _placed(self.unit, self.period)
        return _placed(self.unit[self.known], self.period[self.known])

    @cached_property
    def _keys(self) -> tuple[Array, int, int, int]:
        """Return the keys of the known rows in order, the first and last period, and what lies between units."""
        period = self.period[self.order]
        low, high = (int(period.min()), int(period.max())) if len(period) else (0, 0)
        span = 2 * (high - low) + 3  # so that units do not meet
        return self.unit[self.order] * span + (period - low), low, high, span

    def rows_at(self, offset: int) -> Array:
        """Return for each row the row of the same unit so many periods later; -1 where there is none."""
        ordered, low, high, _ = self._keys
        positions = np.full(len(self.period), -1)
        if abs(offset) > high - low or not len(ordered):
            return positions
        at = np.minimum(np.searchsorted(ordered, ordered + offset), len(ordered) - 1)  # quick, since both are sorted
        hit = ordered[at] == ordered + offset
        positions[self.order[hit]] = self.order[at[hit]]
        return positions

    def lookup(self, unit: Array, period: Array, known: Mask) -> Array:
        """Return the row of each unit and period given; -1 where there is none, or the unit is negative."""
        ordered, low, high, span = self._keys
        positions = np.full(len(unit), -1)
        if not len(ordered):
            return positions
        wanted = unit * span + (period - low)
        at = np.minimum(np.searchsorted(ordered, wanted), len(ordered) - 1)
        hit = known & (unit >= 0) & (period >= low) & (period <= high) & (ordered[at] == wanted)
        positions[hit] = self.order[at[hit]]
        return positions

    def neighbours(self, present: Mask) -> tuple[Array, Array]:
        """Return for each row the nearest row with a value before it and after it, itself included; -1 for none."""
        order = self.order
        places = np.arange(len(order))
        unit = self.unit[order]
        first = np.searchsorted(unit, unit, side="left")
        last = np.searchsorted(unit, unit, side="right")
        there = present[order]
        before = np.maximum.accumulate(np.where(there, places, -1))
        after = np.minimum.accumulate(np.where(there, places, len(order))[::-1])[::-1]
        nearest = np.full((2, len(self.period)), -1)
        nearest[0, order] = np.where(before >= first, order[before], -1)
        nearest[1, order] = np.where(after < last, order[np.minimum(after, len(order) - 1)], -1)
        return nearest[0], nearest[1]

    def last_periods(self) -> tuple[Array, Array]:
        """Return for each row the first and the last period of its unit."""
        order = self.order
        unit = self.unit[order]
        last = np.zeros((2, len(self.period)), dtype=np.int64)
        if len(order):
            last[0, order] = self.period[order[np.searchsorted(unit, unit, side="left")]]
            last[1, order] = self.period[order[np.searchsorted(unit, unit, side="right") - 1]]
        return last[0], last[1]


def _placed(unit: Array, period: Array) -> Array | None:
    """Return the order of unit and period by putting each row at its place; None where most places stay empty."""
    if not len(unit):
        return None
    low, span = int(period.min()), int(period.max()) - int(period.min()) + 1
    size = (int(unit.max()) + 1) * span
    if size > SPARSE * len(unit):
        return None
    places = np.full(size, -1)
    places[unit * span + (period - low)] = np.arange(len(unit))
    order: Array = places[places >= 0]
    return order if len(order) == len(unit) else None  # else a period occurs twice, and the first row comes first


def series_of(table: Table, timing: Timing, visible: Mask | None = None) -> Series:
    """Return the rows of a table by unit and period.

    Args:
        table: the variables as declared.
        timing: how rows follow one another.
        visible: the rows to read; None for all.

    Raises:
        DataError: where a period occurs twice within a unit, naming both rows.
    """
    unit = _units([table[name] for name in timing.panel], table.length)
    known = np.ones(table.length, dtype=bool) if visible is None else visible.copy()
    if timing.time is None:
        return Series(unit, row_numbers(unit), known)
    time = table[timing.time]
    if time.kind is not Kind.TIME:
        raise not_a_time(timing.time)
    known &= ~time.missing_rows()
    if timing.every == "workday":
        _refuse_weekends(time, known, table.source)
    if timing.every == "row":
        refuse_unplaced(time, table.source)
    series = Series(unit, period_numbers(time.data, timing.every), known, timing.every)
    _refuse_twice(series, timing, table.source)
    if timing.every == "row":
        return Series(unit, _ranks(series), known)
    if visible is None:
        _refuse_coarser(series, timing, table.source)
    return series


def _ranks(series: Series) -> Array:
    """Return the place of each row among those of its unit, in the order of their moments."""
    ranks = np.empty(len(series.unit), dtype=np.int64)
    ranks[series.order] = row_numbers(series.unit[series.order])
    return ranks


def _units(panel: list[Variable], length: int) -> Array:
    """Return the number of each row's unit; a row that lacks one of the panel's variables is a unit of its own."""
    unit = group_numbers(panel, length)
    unknown = np.zeros(length, dtype=bool)
    for variable in panel:
        unknown |= variable.missing_rows()
    if unknown.any():
        unit = np.where(unknown, 0, unit)
        unit[unknown] = int(unit.max(initial=0)) + 1 + np.arange(np.count_nonzero(unknown))
    return unit


def row_numbers(unit: Array) -> Array:
    """Return the place of each row among the rows of its unit; rows that are not visible keep theirs, as gaps.

    Example:
        >>> row_numbers(np.array([7, 8, 7, 7])).tolist()
        [0, 0, 1, 2]
    """
    order = np.argsort(unit, kind="stable")
    ordered = unit[order]
    numbers = np.zeros(len(unit), dtype=np.int64)
    numbers[order] = np.arange(len(order)) - np.searchsorted(ordered, ordered, side="left")
    return numbers


def _refuse_weekends(time: Variable, known: Mask, source: str) -> None:
    rows = np.flatnonzero(known & weekend(time.data)) + 1
    if len(rows):
        raise weekend_error(time.name, source, rows, len(rows))


def weekend_error(name: str, source: str, rows: Array, count: int) -> DataError:
    """Return the error that a time of workdays has weekends.

    Args:
        name: of the time.
        source: where its table comes from.
        rows: the first of these.
        count: how many there are.
    """
    return DataError(
        f"'{name}' has Saturdays or Sundays in {source}, and every is 'workday'",
        place="data.every",
        rows=rows[:10].tolist(),
        count=count,
        remedy='Leave these rows out beforehand, or write every = "day".',
    )


def _refuse_coarser(series: Series, timing: Timing, source: str) -> None:
    """Refuse rows whose step is longer than the plan's, for which lags and changes would find no neighbour."""
    order = series.order
    apart, count = 0, 0
    for start in range(0, len(order), AT_ONCE):
        part = order[start : start + AT_ONCE + 1]
        steps = np.diff(series.period[part])[np.diff(series.unit[part]) == 0]
        apart, count = int(np.gcd(apart, np.gcd.reduce(steps.astype(np.int64)))), count + len(steps)
        if apart == 1:
            return
    refuse_longer(timing, source, apart, count, order[:3] + 1, len(order))


def refuse_longer(timing: Timing, source: str, apart: int, steps: int, rows: Array, count: int) -> None:
    """Refuse a step longer than the plan's.

    Args:
        timing: how rows follow one another.
        source: where the table comes from.
        apart: the common length of its steps, in periods.
        steps: how many steps there are.
        rows: the first rows.
        count: how many rows there are.
    """
    longer = next((step for length, step in _LONGER.get(timing.every, ()) if apart % length == 0), None)
    if steps < FEWEST_STEPS or longer is None:
        return
    raise DataError(
        f"the rows of {source} are all {apart} {step_noun(timing.every)}s apart or a multiple of it, "
        f"and every is '{timing.every}'",
        place="data.every",
        rows=sorted(rows.tolist()),
        count=count,
        remedy=f'Write every = "{longer}".',
    )


def _refuse_twice(series: Series, timing: Timing, source: str) -> None:
    if series.placed is not None:
        return
    order = series.order
    same = (np.diff(series.unit[order]) == 0) & (np.diff(series.period[order]) == 0)
    if not same.any():
        return
    at = np.flatnonzero(same)
    pairs = {row for place in at[:3].tolist() for row in (int(order[place]) + 1, int(order[place + 1]) + 1)}
    raise twice_error(timing, source, sorted(pairs), len(at))


def twice_error(timing: Timing, source: str, rows: list[int], count: int) -> DataError:
    """Return the error that periods occur more than once within a unit.

    Args:
        timing: how rows follow one another.
        source: where the table comes from.
        rows: the first of these, both rows of each pair.
        count: how many rows there are too many.
    """
    within = f" of the same {' and '.join(timing.panel)}" if timing.panel else ""
    noun = "time" if timing.every == "row" else step_noun(timing.every)
    step = ("an " if timing.every == "hour" else "a ") + noun
    return DataError(
        f"{step} occurs more than once{within} in {source}: {counted(count, 'row')} too many",
        place="data.time",
        rows=rows,
        count=len(rows) if count <= 3 else 2 * count,
        remedy="Name the variable that identifies the units as panel, use a finer step, or aggregate the rows first."
        + (f" Where clocks are put back, {step} occurs twice: give UTC." if timing.every in _BELOW_A_DAY else ""),
    )
