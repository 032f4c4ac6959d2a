"""Where periods begin and how long they are."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from facturum.data.time.calendar import first_day
from facturum.data.time.periods import period_numbers
from facturum.data.values import Array, Mask

HOUR = 3_600_000_000
_INSIDE = {
    "hour": ("day", "week", "month", "quarter", "year"),
    "day": ("week", "month", "quarter", "year"),
    "week": (),
    "month": ("quarter", "year"),
    "quarter": ("year",),
    "year": (),
}


@dataclass(frozen=True)
class Periods:
    """Periods of units, sorted by unit and number.

    Args:
        unit: the number of each one's unit.
        number: of the period, counted from 1970.
        step: year, quarter, month, week, day or hour.
    """

    unit: Array
    number: Array
    step: str


@dataclass(frozen=True)
class Runs:
    """Periods of units, each unit's without a gap.

    Args:
        starts: where the periods of each unit begin.
        firsts: the first period of each.
        length: how many periods there are in all.
        step: as of `Periods`.
    """

    starts: Array
    firsts: Array
    length: int
    step: str

    @property
    def sizes(self) -> Array:
        """How many periods each unit has."""
        sizes: Array = np.diff(np.append(self.starts, self.length))
        return sizes

    @cached_property
    def unit(self) -> Array:
        """The number of each period's unit."""
        units: Array = np.repeat(np.arange(len(self.starts)), self.sizes)
        return units

    @cached_property
    def number(self) -> Array:
        """The number of each period."""
        numbers: Array = np.arange(self.length) + np.repeat(self.firsts - self.starts, self.sizes)
        return numbers


@dataclass(frozen=True)
class Observed:
    """Periods with the values of a variable, and which of them have one."""

    periods: Periods | Runs
    data: Array
    present: Mask

    @property
    def unit(self) -> Array:
        return self.periods.unit

    @property
    def number(self) -> Array:
        return self.periods.number

    @property
    def step(self) -> str:
        return self.periods.step


def nests(short: str, long: str) -> bool:
    """Return whether each period of one step lies within one of the other, the same step included.

    Example:
        >>> nests("month", "year"), nests("week", "month"), nests("day", "week")
        (True, False, True)
    """
    return short == long or long.partition("_")[0] in _INSIDE.get(short.partition("_")[0], ())


def start_hours(numbers: Array, step: str) -> Array:
    """Return the hour, counted from 1970, at which each period begins.

    Example:
        >>> start_hours(np.array([0, 1]), "month").tolist()
        [0, 744]
    """
    if step == "hour":
        return numbers.astype(np.int64, copy=False)
    if step == "day":
        return numbers.astype(np.int64, copy=False) * 24
    if step.startswith("week"):
        return (numbers.astype(np.int64, copy=False) * 7 + first_day(step)) * 24
    months = numbers.astype(np.int64, copy=False) * {"month": 1, "quarter": 3, "year": 12}[step]
    days: Array = months.astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
    return days * 24


def begins(*columns: Array) -> Array:
    """Return the rows that differ from the row before in some column, the first row always.

    Example:
        >>> begins(np.array([0, 0, 1]), np.array([4, 5, 5])).tolist()
        [0, 1, 2]
    """
    length = len(columns[0])
    new = np.ones(length, dtype=bool)
    if length:
        np.not_equal(columns[0][1:], columns[0][:-1], out=new[1:])
        for column in columns[1:]:
            new[1:] |= column[1:] != column[:-1]
    return np.flatnonzero(new)


def periods_of(numbers: Array, step: str, to: str) -> Array:
    """Return the period of another step in which each period begins.

    Periods that lie close together are looked up in a table of all of them.

    Example:
        >>> periods_of(np.array([0, 31, 59]), "day", "month").tolist()
        [0, 1, 2]
    """
    if step == to:
        return numbers
    low, high = int(numbers.min(initial=0)), int(numbers.max(initial=0))
    if high - low < len(numbers) // 2:
        table = period_numbers(start_hours(np.arange(low, high + 1), step) * HOUR, to)
        periods: Array = table[numbers - low]
        return periods
    return period_numbers(start_hours(numbers, step) * HOUR, to)


def inner_periods(numbers: Array, long: str, short: str) -> tuple[Array, Array]:
    """Return the first of the shorter periods within each longer one, and the first after it.

    Example:
        >>> [part.tolist() for part in inner_periods(np.array([0]), "quarter", "month")]
        [[0], [3]]
    """
    first = period_numbers(start_hours(numbers, long) * HOUR, short)
    return first, period_numbers(start_hours(numbers + 1, long) * HOUR, short)
