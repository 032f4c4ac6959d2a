"""Where periods begin and how long they are."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from facturum.data.time.calendar import weekend
from facturum.data.time.periods import period_numbers, period_starts
from facturum.data.values import Array, Mask

DAY = 86_400_000_000  # microseconds
_INSIDE = {
    "15 minutes": ("30 minutes", "hour", "day", "week", "month", "quarter", "year"),
    "30 minutes": ("hour", "day", "week", "month", "quarter", "year"),
    "hour": ("day", "week", "month", "quarter", "year"),
    "day": ("week", "month", "quarter", "year"),
    "workday": ("day", "week", "month", "quarter", "year"),
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
        step: year, quarter, month, week, day, workday, hour, 30 minutes or 15 minutes.
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


def period_ends(numbers: Array, step: str) -> Array:
    """Return the moment after each period, in microseconds since 1970: of a workday the midnight after it.

    Example:
        >>> (period_ends(np.array([1]), "workday") // DAY).tolist()  # Friday, 2 January 1970
        [2]
    """
    return period_starts(numbers, step) + DAY if step == "workday" else period_starts(numbers + 1, step)


def first_after(moments: Array, step: str) -> Array:
    """Return the first period of a step that begins at each moment or, of workdays, after a weekend.

    Args:
        moments: midnights, or where longer periods begin.
        step: as of `Periods`.
    """
    numbers = period_numbers(moments, step)
    return numbers + weekend(moments) if step == "workday" else numbers


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
        table = first_after(period_starts(np.arange(low, high + 1), step), to)
        periods: Array = table[numbers - low]
        return periods
    return first_after(period_starts(numbers, step), to)


def inner_periods(numbers: Array, long: str, short: str) -> tuple[Array, Array]:
    """Return the first of the shorter periods within each longer one, and the first after it.

    Example:
        >>> [part.tolist() for part in inner_periods(np.array([0]), "quarter", "month")]
        [[0], [3]]
    """
    return first_after(period_starts(numbers, long), short), first_after(period_ends(numbers, long), short)
