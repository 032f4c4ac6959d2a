"""Periods: their numbers since 1970, where they begin, what they are called, and how rows follow in them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from facturum.data.time.calendar import first_day
from facturum.data.time.steps import MINUTES, NOUNS
from facturum.data.values import Array

_HOUR = 3_600_000_000
AT_ONCE = 65_536  # rows that are looked at together: as a rule, the first ones already show that the step is right


def step_noun(every: str) -> str:
    """Return what a period of a step is called.

    Example:
        >>> step_noun("month"), step_noun("30 minutes"), step_noun("week_sun")
        ('month', 'half hour', 'week')
    """
    return NOUNS.get(every, every.partition("_")[0])


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


def moved_on(moments: Array, step: str, by: Array | int) -> Array:
    """Return moments so many periods later, at the same distance from the start of their period if it is that long.

    Args:
        moments: microseconds since 1970.
        step: as for `period_numbers`, a row apart.
        by: how many periods, of each.

    Example:
        >>> later = moved_on(np.array(["2023-01-31"], dtype="datetime64[us]").astype(np.int64), "month", 1)
        >>> str(later.astype("datetime64[us]").astype("datetime64[D]")[0])
        '2023-02-28'
    """
    period = period_numbers(moments, step)
    start, following = period_starts(period + by, step), period_starts(period + by + 1, step)
    later: Array = np.minimum(start + (moments - period_starts(period, step)), following - 1)
    return later


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


def step_of_moments(moments: Array) -> str:
    """Return the longest step whose periods moments begin, as dates of months all lie on the first.

    Example:
        >>> step_of_moments(np.array(["2020-01-01", "2020-03-01"], dtype="datetime64[us]").astype(np.int64))
        'month'
    """
    for step, unit in (("year", "Y"), ("month", "M"), ("day", "D"), ("hour", "h")):
        starts = moments.astype("datetime64[us]").astype(f"datetime64[{unit}]").astype("datetime64[us]")
        if (starts.astype(np.int64) == moments).all():
            return step
    return "minute"
