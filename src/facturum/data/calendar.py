"""Periods as text: years, quarters, months, weeks, days and hours, each with its start and its end."""

from __future__ import annotations

import re
from datetime import date, datetime, timedelta
from typing import NamedTuple

MICROSECOND = timedelta(microseconds=1)
_EPOCH = datetime(1970, 1, 1)
_PATTERNS = (
    ("year", re.compile(r"(\d{4})")),
    ("quarter", re.compile(r"(\d{4})-?Q([1-4])")),
    ("month", re.compile(r"(\d{4})-(\d{2})")),
    ("week", re.compile(r"(\d{4})-?W(\d{2})")),
    ("day", re.compile(r"(\d{4})-(\d{2})-(\d{2})")),
    ("hour", re.compile(r"(\d{4})-(\d{2})-(\d{2})[T ](\d{2})")),
    ("second", re.compile(r"(\d{4})-(\d{2})-(\d{2})[T ](\d{2}):(\d{2})(?::(\d{2}))?")),
)
FORMS = "2023, 2023Q2, 2023-04, 2023-W16, 2023-04-17 or 2023-04-17T09:30"


class Period(NamedTuple):
    """A stretch of time, in microseconds since 1970; the end is the start of the next."""

    start: int
    end: int
    step: str


def period_of(text: str) -> Period | None:
    """Return the period that a text names, or None where it names none.

    Example:
        >>> month = period_of("2023-02")
        >>> (month.end - month.start) // 86_400_000_000
        28
        >>> period_of("last week") is None
        True
    """
    for step, pattern in _PATTERNS:
        found = pattern.fullmatch(text.strip())
        if found:
            try:
                start, end = _bounds(step, [int(group) for group in found.groups() if group is not None])
            except (ValueError, OverflowError):
                return None
            return Period(microseconds(start), microseconds(end), step)
    return None


def microseconds(moment: datetime) -> int:
    """Return microseconds since 1970.

    Example:
        >>> microseconds(datetime(1970, 1, 2))
        86400000000
    """
    return (moment - _EPOCH) // MICROSECOND


def _bounds(step: str, parts: list[int]) -> tuple[datetime, datetime]:
    year = parts[0]
    if step == "year":
        return datetime(year, 1, 1), datetime(year + 1, 1, 1)
    if step == "quarter":
        return datetime(year, 3 * parts[1] - 2, 1), _month_after(year, 3 * parts[1])
    if step == "month":
        return datetime(year, parts[1], 1), _month_after(year, parts[1])
    if step == "week":
        monday = date.fromisocalendar(year, parts[1], 1)
        start = datetime(monday.year, monday.month, monday.day)
        return start, start + timedelta(days=7)
    if step == "day":
        start = _moment(parts)
        return start, start + timedelta(days=1)
    if step == "hour":
        start = _moment(parts)
        return start, start + timedelta(hours=1)
    start = _moment(parts)
    return start, start + timedelta(minutes=1 if len(parts) == 5 else 0, seconds=1 if len(parts) == 6 else 0)


def _moment(parts: list[int]) -> datetime:
    month, day, hour, minute, second = (*parts[1:], *[0] * (6 - len(parts)))
    return datetime(parts[0], month, day, hour, minute, second)


def _month_after(year: int, month: int) -> datetime:
    return datetime(year + month // 12, month % 12 + 1, 1)
