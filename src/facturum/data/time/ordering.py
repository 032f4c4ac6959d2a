"""Bringing rows into the order of unit and period, in which operations along time read their neighbours."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from facturum.data.grouping import first_rows, group_numbers
from facturum.data.table import Table
from facturum.data.time.calendar import weekend
from facturum.data.time.faults import (
    Spacing,
    finer_steps,
    refuse_clock_changes,
    refuse_unplaced,
    twice_error,
    weekend_error,
    zone_with_changes,
)
from facturum.data.time.periods import AT_ONCE, Timing, period_numbers
from facturum.data.time.series import series_of
from facturum.data.time.spans import Runs
from facturum.data.values import Array, Kind, Mask
from facturum.data.variable import Variable

_LENGTHS = {"hour": 3_600_000_000, "day": 24 * 3_600_000_000}  # in microseconds
Each = Callable[[Callable[[Any], Any], Sequence[Any]], Iterable[Any]]


def order_of_time(table: Table, timing: Timing, each: Each = map) -> Array | None:
    """Return the positions that bring rows into the order of unit and period; None where they are in it already.

    Rows without a period come last, before them those without a unit. Of others the units come as they first occur.

    Args:
        table: the variables as declared.
        timing: how rows follow one another.
        each: applies a work to each of some parts of the rows, on threads say.

    Raises:
        DataError: where a period occurs twice within a unit, or the step is longer than the plan's.
    """
    if is_in_order(table, timing, each):
        return None
    series = series_of(table, timing)
    order: Array = replace(series, unit=_as_first_met(series.unit, [table[name] for name in timing.panel])).order
    if len(order) < table.length:
        order = np.concatenate([order, np.flatnonzero(~series.known)])
    return None if bool((order == np.arange(len(order))).all()) else order


def _as_first_met(unit: Array, panel: Sequence[Variable]) -> Array:
    """Return units numbered as they first occur, and after these the rows without one."""
    first = first_rows(unit)
    unknown = np.zeros(len(unit), dtype=bool)
    for variable in panel:
        unknown |= variable.missing_rows()
    first[unit[unknown]] += len(unit)
    numbers = np.empty(len(first), dtype=np.int64)
    numbers[np.argsort(first)] = np.arange(len(first))
    renumbered: Array = numbers[unit]
    return renumbered


def is_in_order(table: Table, timing: Timing, each: Each = map) -> bool:
    """Return whether rows are known to be in order and to have no fault, reading them once."""
    panel = [table[name] for name in timing.panel]
    time = table[timing.time] if timing.time is not None else None
    if time is not None and (
        time.kind is not Kind.TIME
        or time.valid is not None
        or timing.every == "workday"
        or zone_with_changes(time, timing.every) is not None
    ):
        return False  # whether these are times, in weekends, or of a clock that changes, is asked where all are sorted

    def looked_at(leaf: tuple[int, int]) -> tuple[Array, bool] | None:
        """Return where units begin, and whether a period follows the one before; None where rows are not in order."""
        start, stop = leaf
        begin = max(start - 1, 0)
        new_unit = unit_changes(panel, begin, stop)
        if start:
            new_unit[0] = False
        starts = np.flatnonzero(new_unit) + begin
        if time is None:
            return starts, True
        steps = np.diff(period_numbers(time.data[begin:stop], timing.every))
        within = steps if not len(starts) else steps[~new_unit[1:]]
        if len(within) and int(within.min()) < 1:
            return None
        return starts, timing.every == "row" or bool((within == 1).any())

    leaves = [(start, min(start + AT_ONCE, table.length)) for start in range(0, table.length, AT_ONCE)]
    if not leaves or looked_at(leaves[0]) is None:
        return False
    parts = [part for part in each(looked_at, leaves) if part is not None]
    adjacent = any(follows for _, follows in parts)
    return len(parts) == len(leaves) and adjacent and _each_once(panel, np.concatenate([part for part, _ in parts]))


def runs_of(table: Table, timing: Timing) -> Runs | None:
    """Return the periods of a table whose rows are in order, by units without gaps, days or hours; None for others."""
    length = _LENGTHS.get(timing.every)
    if timing.time is None or length is None or not table.length:
        return None
    time, panel = table[timing.time], [table[name] for name in timing.panel]
    if time.kind is not Kind.TIME or time.valid is not None:
        return None
    new = unit_changes(panel, 0, table.length)
    next_to = (time.data[1:] - time.data[:-1]) == length
    starts = np.flatnonzero(new)
    if not (next_to | new[1:]).all() or len(starts) == table.length or not _each_once(panel, starts):
        return None
    return Runs(starts, period_numbers(time.data[starts], timing.every), table.length, timing.every)


def _each_once(panel: Sequence[Variable], starts: Array) -> bool:
    """Return whether the units that begin at some rows all differ."""
    if not panel:
        return True
    keys = [variable.take(starts) for variable in panel]
    if any(key.missing_rows().any() for key in keys):
        return False
    return int(group_numbers(keys, len(starts)).max(initial=-1)) + 1 == len(starts)


def unit_changes(panel: Sequence[Variable], start: int, stop: int) -> Mask:
    """Return which rows of a range are of another unit than the row before; the first row of the table always is.

    A row in which a variable of the panel is missing is a unit of its own.
    """
    if start == stop:
        return np.zeros(0, dtype=bool)
    low = max(start - 1, 0)
    new = np.zeros(stop - low, dtype=bool)
    for variable in panel:
        data = variable.data[low:stop]
        new[1:] |= data[1:] != data[:-1]
        if variable.valid is not None:
            missing = ~variable.valid[low:stop]
        elif variable.kind.categorical:
            missing = data < 0
        else:
            continue  # NaN differs from all, itself included
        new |= missing
        new[1:] |= missing[:-1]
    if start == 0:
        new[0] = True
        return new
    return new[1:]


def refuse_faults(table: Table, timing: Timing, numbers: Callable[[Array], Array]) -> None:
    """Refuse faults of the time of a table that is in the order of unit and period, reading it once.

    Args:
        table: the variables as declared, rows without a time last.
        timing: how rows follow one another.
        numbers: returns row numbers of positions in it.

    Raises:
        DataError: where a period occurs twice within a unit, the step is longer than the plan's, or a workday is none.
    """
    if timing.time is None:
        return
    time, panel = table[timing.time], [table[name] for name in timing.panel]
    pairs: list[int] = []
    twice = weekends = 0
    spacing, finer = Spacing(timing.every), list[str]()
    refuse_clock_changes(time, timing.every, table.source)
    first_weekends: list[int] = []
    for start in range(0, table.length, AT_ONCE):
        begin, stop = max(start - 1, 0), min(start + AT_ONCE, table.length)
        part = time.part(begin, stop)
        known = ~part.missing_rows()
        if timing.every == "row":
            refuse_unplaced(part, table.source, numbers(np.arange(begin, stop)))
        steps = np.diff(period_numbers(part.data, timing.every))
        within = ~unit_changes(panel, begin, stop)[1:] & known[1:] & known[:-1]
        same = np.flatnonzero(within & (steps == 0)) + begin
        if len(same):
            fits = finer_steps(timing.every, part.data, same - begin)
            finer = [step for step in finer if step in fits] if twice else fits
        twice += len(same)
        pairs += [row for at in same[: 3 - len(pairs) // 2] for row in numbers(np.array([at, at + 1])).tolist()]
        spacing.add(part.data, steps, within)
        if timing.every == "workday":
            at_weekend = np.flatnonzero(known & weekend(part.data))[0 if begin == start else 1 :] + begin
            weekends += len(at_weekend)
            first_weekends += numbers(at_weekend[: 10 - len(first_weekends)]).tolist()
    if weekends:
        raise weekend_error(time.name, table.source, np.array(sorted(first_weekends)), weekends)
    if twice:
        raise twice_error(timing, table.source, sorted(set(pairs)), twice, finer)
    spacing.refuse(table.source, numbers(np.arange(min(3, table.length))), table.length)
