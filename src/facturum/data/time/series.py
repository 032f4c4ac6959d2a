"""Rows in the order of time: what period and what unit each belongs to, and who is next to whom."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from facturum.data.grouping import SPARSE, group_numbers
from facturum.data.table import Table
from facturum.data.time.calendar import weekend
from facturum.data.time.faults import (
    Spacing,
    finer_steps,
    not_a_time,
    refuse_clock_changes,
    refuse_unplaced,
    twice_error,
    weekend_error,
)
from facturum.data.time.periods import AT_ONCE, Timing, period_numbers
from facturum.data.values import Array, Kind, Mask
from facturum.data.variable import Variable


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
    refuse_clock_changes(time, timing.every, table.source)
    _refuse_twice(series, time, timing, table.source)
    if timing.every == "row":
        return Series(unit, _ranks(series), known)
    if visible is None:
        _refuse_coarser(series, time, timing, table.source)
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


def _refuse_coarser(series: Series, time: Variable, timing: Timing, source: str) -> None:
    """Refuse rows whose step is longer than the plan's, for which lags and changes would find no neighbour."""
    order, spacing = series.order, Spacing(timing.every)
    for start in range(0, len(order), AT_ONCE):
        part = order[start : start + AT_ONCE + 1]
        spacing.add(time.data[part], np.diff(series.period[part]), np.diff(series.unit[part]) == 0)
        if spacing.adjacent:
            return
    spacing.refuse(source, order[:3] + 1, len(order))


def _refuse_twice(series: Series, time: Variable, timing: Timing, source: str) -> None:
    if series.placed is not None:
        return
    order = series.order
    same = (np.diff(series.unit[order]) == 0) & (np.diff(series.period[order]) == 0)
    if not same.any():
        return
    at = np.flatnonzero(same)
    pairs = {row for place in at[:3].tolist() for row in (int(order[place]) + 1, int(order[place + 1]) + 1)}
    finer = finer_steps(timing.every, time.data[order], at)
    raise twice_error(timing, source, sorted(pairs), len(at), finer)
