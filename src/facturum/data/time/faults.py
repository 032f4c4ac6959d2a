"""Errors of the time of a table: something else, missing where it orders the rows, or of another step than said."""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

import numpy as np

from facturum.data.time.periods import AT_ONCE, Timing, period_numbers, step_noun
from facturum.data.time.steps import BELOW_A_DAY, LONGER_STEPS
from facturum.data.values import Array, Mask
from facturum.data.variable import Variable
from facturum.errors import DataError, counted

FEWEST_STEPS = 5  # from one row to the next, from which on their common length is reported
_FINER = ("quarter", "month", "week", "day", "hour", "30 minutes", "15 minutes")
_DAY = 24 * 3_600_000_000  # microseconds
_DATED = ("day", "workday", "week")  # in which months are no whole number of periods
_ZONE = re.compile(r"\btz=([^\]]+)\]")
_FIXED = re.compile(r"UTC|Z|[+-].*")  # zones whose clock nobody puts on or back
_START = datetime(1970, 1, 1)


class Spacing:
    """How far rows of a unit lie from one another, gathered from stretches of rows in the order of unit and period.

    Args:
        every: the step of the plan.
    """

    def __init__(self, every: str) -> None:
        self.every = every
        self.adjacent = False  # whether a row was seen whose period is the one after that of the row before
        self.steps = self.apart = 0  # from one row to the next: how many, and their common length in periods
        self.months = 0  # the same length in months, where all rows lie on one day of the month
        self.days = set[int]()  # of the month, 0 for its last

    def add(self, moments: Array, steps: Array, within: Mask) -> None:
        """Look at the next rows: their moments, the periods between two of them, and whether these are of one unit."""
        steps = steps[within].astype(np.int64)
        self.adjacent |= bool((steps == 1).any())
        self.steps, self.apart = self.steps + len(steps), int(np.gcd(self.apart, np.gcd.reduce(steps)))
        if self.every in _DATED and not self.adjacent and len(self.days) < 2:
            ends = np.concatenate([moments[:-1][within], moments[1:][within]])
            dates = ends.astype("datetime64[us]").astype("datetime64[D]")
            days = (dates - dates.astype("datetime64[M]")).astype(np.int64) + 1
            last = (dates + 1).astype("datetime64[M]") > dates.astype("datetime64[M]")
            self.days |= {0} if last.all() and len(last) else set(np.unique(days).tolist())
            between = np.diff(period_numbers(moments, "month"))[within]
            self.months = int(np.gcd(self.months, np.gcd.reduce(between.astype(np.int64))))

    def refuse(self, source: str, rows: Array, count: int) -> None:
        """Refuse a step longer than the plan's.

        Args:
            source: where the table comes from.
            rows: the first rows.
            count: how many rows there are.
        """
        if self.adjacent or self.steps < FEWEST_STEPS:
            return
        longer = next((step for length, step in LONGER_STEPS.get(self.every, ()) if self.apart % length == 0), None)
        told = f"are all {self.apart} {step_noun(self.every)}s apart, or a multiple of that"
        if len(self.days) == 1 and self.months:
            longer = "year" if self.months % 12 == 0 else "quarter" if self.months % 3 == 0 else "month"
            told = f"are all a {longer} apart, or several {longer}s"
        if longer is not None:
            raise DataError(
                f"the rows of {source} {told}, and every is '{self.every}'",
                place="data.every",
                rows=sorted(rows.tolist()),
                count=count,
                remedy=f'Write every = "{longer}".',
            )


def finer_steps(every: str, moments: Array, at: Array) -> list[str]:
    """Return the steps finer than one in which each of some rows lies in another period than the row after it.

    Args:
        every: the step in which they lie in one period.
        moments: of rows in the order of unit and period.
        at: the places of the first rows of such pairs.
    """
    finer = _FINER[_FINER.index(every) + 1 :] if every in _FINER else _FINER if every == "year" else ()
    return [s for s in finer if (period_numbers(moments[at], s) != period_numbers(moments[at + 1], s)).all()]


def zone_with_changes(time: Variable, every: str) -> str | None:
    """Return the zone of a time whose clock may be put on or back within a step of hours or less; None for others."""
    zone = _ZONE.search(time.storage) if every in BELOW_A_DAY else None
    return None if zone is None or _FIXED.fullmatch(zone[1]) else zone[1]


def refuse_clock_changes(time: Variable, every: str, source: str) -> None:
    """Refuse hours or parts of them by a clock that is put on or back between the first row and the last.

    Where it is put on an hour seems to be absent, where it is put back one occurs twice: neither is so.
    """
    zone = zone_with_changes(time, every)
    if zone is None:
        return
    clock, found = ZoneInfo(zone), [np.zeros(0, dtype=np.int64)]
    for start in range(0, len(time), AT_ONCE):
        part = time.part(start, min(start + AT_ONCE, len(time)))
        found.append(np.unique(part.data[~part.missing_rows()] // _DAY))
    days = np.unique(np.concatenate([*found, *[each + 1 for each in found]]))
    offsets = [(_START + timedelta(days=int(day))).replace(tzinfo=clock).utcoffset() for day in days]
    changed = next((day for day, a, b in zip(days, offsets, offsets[1:], strict=False) if a != b), None)
    if changed is not None:
        on = f"{_START + timedelta(days=int(changed)):%Y-%m-%d}"
        raise DataError(
            f"'{time.name}' is the local time of {zone}, where clocks change within {source} (on {on}): "
            f"{step_noun(every)}s seem to be absent, or occur twice",
            place="data.time",
            remedy='Give it in UTC: in a data frame .dt.tz_convert("UTC").',
        )


def refuse_unplaced(time: Variable, source: str, rows: Array | None = None) -> None:
    """Refuse rows without a time where their order is that of the time, and no period says where they belong.

    Args:
        time: the times of rows.
        source: where the table comes from.
        rows: their numbers; None for all rows of a table.
    """
    missing = np.flatnonzero(time.missing_rows())
    if len(missing):
        numbers = missing + 1 if rows is None else rows[missing]
        raise DataError(
            f"'{time.name}' is missing in {counted(len(missing), 'row')} of {source}, and orders the rows",
            place="data.time",
            rows=sorted(numbers[:10].tolist()),
            count=len(missing),
            remedy="Fill it, leave these rows out beforehand, or take time out of [data] if the rows are in order.",
        )


def not_a_time(name: str) -> DataError:
    """Return the error that the time of a plan is something else."""
    return DataError(f"'{name}' is not a time", place="data.time", remedy="Name a variable of dates or periods.")


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


def twice_error(timing: Timing, source: str, rows: list[int], count: int, finer: list[str]) -> DataError:
    """Return the error that periods occur more than once within a unit.

    Args:
        timing: how rows follow one another.
        source: where the table comes from.
        rows: the first of these, both rows of each pair.
        count: how many rows there are too many.
        finer: the steps in which none of them would occur twice, the longest first.
    """
    within = f" of the same {' and '.join(timing.panel)}" if timing.panel else ""
    noun = "time" if timing.every == "row" else step_noun(timing.every)
    step = ("an " if timing.every == "hour" else "a ") + noun
    use = f'write every = "{finer[0]}"' if finer else "use a finer step"
    return DataError(
        f"{step} occurs more than once{within} in {source}: {counted(count, 'row')} too many",
        place="data.time",
        rows=rows,
        count=len(rows) if count <= 3 else 2 * count,
        remedy=f"Name the variable that identifies the units as panel, {use}, or aggregate the rows first."
        + (f" Where clocks are put back, {step} occurs twice: give UTC." if timing.every in BELOW_A_DAY else ""),
    )
