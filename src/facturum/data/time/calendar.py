"""Periods as text: years, quarters, months, weeks, days and hours, each with its start and its end."""

from __future__ import annotations

import re
from datetime import date, datetime, timedelta
from typing import Any, NamedTuple, TypeAlias

import numpy as np
import numpy.typing as npt

from facturum.data.time.steps import MINUTES
from facturum.errors import DataError

Codes: TypeAlias = npt.NDArray[Any]
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
    ("instant", re.compile(r"(\d{4})-(\d{2})-(\d{2})[T ](\d{2}):(\d{2}):(\d{2})\.(\d{1,6})\d{0,3}")),
)
CLOCK = ("hour", "second", "instant")  # those that may stand beside days in one variable
FORMS = "2023, 2023Q2, 2023-04, 2023-W16, 2023-04-17 or 2023-04-17T09:30"


AMBIGUOUS = re.compile(r"\d{1,2}[./-]\d{1,2}[./-]\d{2,4}")
_OFFSET = re.compile(r"(.*\d)\s*(Z|[+-]\d{2}:?\d{2})")


_COMPACT = re.compile(r"(\d{4})(\d{2})(\d{2})?")
_NAMED = (re.compile(r"([A-Za-z]{3,9})\.?[ -]?'?(\d{4}|\d{2})"), re.compile(r"(\d{4})[ -]?([A-Za-z]{3,9})"))
_MONTHS = (
    *("january", "february", "march", "april", "may", "june"),
    *("july", "august", "september", "october", "november", "december"),
)
TWELFTH = 0.07  # how far from a whole number of twelfths a decimal year may lie to be a month
PIVOT = 69  # two digits from here on are of the twentieth century, as strptime takes them
DECIMAL_YEAR = "decimal year"
SERIALS = {"serial 1900": date(1899, 12, 30), "serial 1904": date(1904, 1, 1)}


class Moment(NamedTuple):
    """A start in microseconds since 1970 by the clock there, and how many minutes ahead of UTC it is, if given."""

    start: int
    offset: int | None


def moment_of(text: str, pattern: str | None = None) -> Moment | None:
    """Return the moment that a text names, or None where it names none.

    Args:
        text: a period, or a time with an offset such as ``2023-04-17T09:30+02:00``.
        pattern: how it is written: in the form of strptime, "decimal year", or "serial 1900" or "serial 1904" for the
            day numbers of spreadsheets.

    Example:
        >>> moment_of("Feb-70") == moment_of("197002") == moment_of("1970-02") == moment_of("1970.083", "decimal year")
        True
        >>> moment_of("1970-01-01T01:00+01:00")
        Moment(start=3600000000, offset=60)
        >>> moment_of("02.01.1970", "%d.%m.%Y").start // 86_400_000_000
        1
    """
    if pattern in SERIALS or pattern == DECIMAL_YEAR:
        return _moment_of_number(text, pattern)
    if pattern is not None:
        try:
            moment = datetime.strptime(text.strip(), pattern)
        except (ValueError, re.error, IndexError, KeyError, OverflowError):
            return None
        ahead = moment.utcoffset()
        return Moment(
            microseconds(moment.replace(tzinfo=None)), None if ahead is None else ahead // timedelta(minutes=1)
        )
    parted = _OFFSET.fullmatch(text.strip()) if "T" in text or ":" in text else None
    period = period_of(parted[1] if parted else text)
    if period is None:
        return _moment_of_month(text.strip())
    if parted is None:
        return Moment(period.start, None)
    sign = 0 if parted[2] == "Z" else -1 if parted[2][0] == "-" else 1
    digits = parted[2].strip("Z+-").replace(":", "") or "0000"
    return Moment(period.start, sign * (60 * int(digits[:2]) + int(digits[2:])))


def _moment_of_month(text: str) -> Moment | None:
    """Return the moment of a month written as 199301 or Jan-93, or of a day written as 19930417."""
    if match := _COMPACT.fullmatch(text):
        return _moment_or_none(int(match[1]), int(match[2]), int(match[3] or 1))
    for year_first, pattern in enumerate(_NAMED):
        if match := pattern.fullmatch(text):
            name, digits = (match[2], match[1]) if year_first else (match[1], match[2])
            month = month_number(name)
            year = int(digits) if len(digits) == 4 else int(digits) + (1900 if int(digits) >= PIVOT else 2000)
            return None if month is None else _moment_or_none(year, month, 1)
    return None


def month_number(name: str) -> int | None:
    """Return the number of a month from its name or the beginning of it; None where it is none, or of several.

    Example:
        >>> month_number("Feb"), month_number("September"), month_number("ju"), month_number("x")
        (2, 9, None, None)
    """
    text = name.strip().rstrip(".").lower()
    months = [at for at, month in enumerate(_MONTHS, 1) if month.startswith(text)] if len(text) >= 3 else []
    return months[0] if len(months) == 1 else None


def _moment_or_none(year: int, month: int, day: int) -> Moment | None:
    try:
        return Moment(microseconds(datetime(year, month, day)), None)
    except ValueError:
        return None


def _moment_of_number(text: str, pattern: str) -> Moment | None:
    """Return the moment of a decimal year, of which twelfths are months, or of the day number of a spreadsheet."""
    try:
        number = float(text)
        if pattern != DECIMAL_YEAR:
            epoch = SERIALS[pattern]
            start = datetime(epoch.year, epoch.month, epoch.day)
            return Moment(microseconds(start) + round(number * 86_400) * 1_000_000, None) if number >= 0 else None
        year = int(number // 1)
        twelfths = 12 * (number - year)
        if abs(twelfths - round(twelfths)) < TWELFTH:  # as 1993.08, 1993.083 and 1993.0833 mean February
            return _moment_or_none(year + round(twelfths) // 12, round(twelfths) % 12 + 1, 1)
        first, after = datetime(year, 1, 1), datetime(year + 1, 1, 1)
        return Moment(microseconds(first) + int((number - year) * (after - first).days) * _DAY, None)
    except (ValueError, OverflowError):
        return None


def pattern_problem(pattern: str) -> str:
    """Return why a text is not a valid pattern of strptime, or nothing where it is one.

    Example:
        >>> pattern_problem("%d.%m.%Y"), pattern_problem("%Y %Y"), pattern_problem("17")
        ('', 'it has a part of the date twice', 'it has no part of a date')
    """
    if pattern in SERIALS or pattern == DECIMAL_YEAR:
        return ""
    if "%" not in pattern.replace("%%", ""):
        return "it has no part of a date"
    try:
        datetime.strptime("", pattern)
    except re.error:
        return "it has a part of the date twice"
    except (ValueError, IndexError, KeyError) as problem:
        return "" if "does not match" in str(problem) else str(problem)
    return ""


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
        >>> period_of("1970-01-01 00:00:00.5").start
        500000
        >>> period_of("last week") is None
        True
    """
    for step, pattern in _PATTERNS:
        match = pattern.fullmatch(text.strip())
        if match:
            try:
                parts = [group for group in match.groups() if group is not None]
                if step == "instant":
                    parts[-1] = parts[-1].ljust(6, "0")  # microseconds
                start, end = _bounds(step, [int(part) for part in parts])
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
    lasts = {5: timedelta(minutes=1), 6: timedelta(seconds=1), 7: MICROSECOND}
    return start, start + lasts[len(parts)]


def _moment(parts: list[int]) -> datetime:
    month, day, hour, minute, second, fraction = (*parts[1:], *[0] * (7 - len(parts)))
    return datetime(parts[0], month, day, hour, minute, second, fraction)


def _month_after(year: int, month: int) -> datetime:
    return datetime(year + month // 12, month % 12 + 1, 1)


PARTS: dict[str, tuple[str, ...]] = {
    "quarter": ("q1", "q2", "q3", "q4"),
    "fiscal_quarter": ("q1", "q2", "q3", "q4"),
    "month": ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"),
    "week": tuple(f"w{number:02d}" for number in range(1, 54)),
    "weekday": ("mon", "tue", "wed", "thu", "fri", "sat", "sun"),
    "hour": tuple(f"h{number:02d}" for number in range(24)),
}
_DAY = 86_400_000_000


def refuse_outside(name: str, outside: npt.NDArray[np.bool_]) -> None:
    """Refuse moments outside the calendar, which runs from the year 1 to the year 9999.

    Raises:
        DataError: with the rows in which ``outside`` is true.
    """
    if outside.any():
        rows = np.flatnonzero(outside) + 1
        raise DataError(
            f"'{name}' has dates outside the calendar, before the year 1 or after 9999",
            place=f"variables.{name}",
            rows=rows[:10].tolist(),
            count=len(rows),
            remedy="Correct these cells, or make them missing.",
        )


def first_day(step: str) -> int:
    """Return the day, counted from 1970, on which the week with the number 0 begins; ``week_sun`` begins on Sundays.

    Example:
        >>> first_day("week"), first_day("week_sun")
        (-3, -4)
    """
    weekday = PARTS["weekday"].index(step[5:]) if step.startswith("week_") else 0
    return weekday - 3 if weekday <= 3 else weekday - 10


def part_labels(part: str, starts: str | None = None) -> tuple[str, ...]:
    """Return the labels of a part in their order; weekdays from the one that a week starts on.

    Example:
        >>> part_labels("weekday", "sun")[:2]
        ('sun', 'mon')
    """
    labels = PARTS[part]
    first = labels.index(starts) if part == "weekday" and starts is not None else 0
    return labels[first:] + labels[:first]


def part_codes(moments: Codes, part: str, starts: str | None = None) -> Codes:
    """Return a part of each moment: its place among the labels of `part_labels`, or a year or day of the month itself.

    Args:
        moments: microseconds since 1970.
        part: year, quarter, month, week and iso_year (by ISO 8601), fiscal_year (called by the year in which it ends),
            fiscal_quarter, weekday, day or hour.
        starts: the month in which a fiscal year starts, or the weekday on which a week does.

    Example:
        >>> part_codes(np.array([microseconds(datetime(2023, 4, 17, 9))]), "month").tolist()
        [3]
    """
    if part == "hour":
        hours: Codes = np.floor_divide(moments, 3_600_000_000) % 24
        return hours
    days: Codes = np.floor_divide(moments, _DAY)
    if part == "weekday":
        first = 0 if starts is None else PARTS["weekday"].index(starts)
        weekdays: Codes = (days + 3 - first) % 7
        return weekdays  # 1970 began on a Thursday
    if part in ("week", "iso_year"):  # the week that holds the Thursday, counted in the year of that day
        thursday = days - (days + 3) % 7 + 3
        if part == "iso_year":
            return part_codes(thursday * _DAY, "year")
        weeks: Codes = (thursday - _start_of_year(thursday)) // 7
        return weeks
    months = days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
    if part == "day":
        day_codes: Codes = days - months.astype("datetime64[M]").astype("datetime64[D]").astype(np.int64) + 1
        return day_codes
    if part.startswith("fiscal") and starts is not None:
        months = months - PARTS["month"].index(starts) % 12 + (12 if starts != "jan" else 0)
    year: Codes = np.floor_divide(months, 12)
    inner: Codes = (months - 12 * year) // (3 if part.endswith("quarter") else 1)
    return year + 1970 if part.endswith("year") else inner


def weekend(moments: Codes) -> npt.NDArray[np.bool_]:
    """Return which moments lie on a Saturday or a Sunday."""
    on_weekend: npt.NDArray[np.bool_] = part_codes(moments, "weekday") > PARTS["weekday"].index("fri")
    return on_weekend


def _start_of_year(days: Codes) -> Codes:
    starts: Codes = days.astype("datetime64[D]").astype("datetime64[Y]").astype("datetime64[D]").astype(np.int64)
    return starts


def period_text(number: int, step: str) -> str:
    """Return a period as text, from its number since 1970.

    Example:
        >>> period_text(588, "month"), period_text(-1, "quarter"), period_text(0, "week")
        ('2019-01', '1969Q4', '1970-W01')
    """
    if step == "year":
        return f"{1970 + number:04d}"
    if step == "quarter":
        return f"{1970 + number // 4:04d}Q{number % 4 + 1}"
    if step == "month":
        return f"{1970 + number // 12:04d}-{number % 12 + 1:02d}"
    if step.startswith("week_"):
        return f"{_EPOCH + timedelta(days=7 * number + first_day(step)):%Y-%m-%d}"
    if step == "week":
        year, week, _ = (_EPOCH + timedelta(days=7 * number)).isocalendar()
        return f"{year:04d}-W{week:02d}"
    if step == "workday":
        week, weekday = divmod(number + 3, 5)  # the number 0 is a Thursday
        return f"{_EPOCH + timedelta(days=7 * week + weekday - 3):%Y-%m-%d}"
    if step in MINUTES:
        return f"{_EPOCH + timedelta(minutes=MINUTES[step] * number):%Y-%m-%dT%H:%M}"
    moment = _EPOCH + (timedelta(days=number) if step == "day" else timedelta(hours=number))
    return moment.strftime("%Y-%m-%d") if step == "day" else moment.strftime("%Y-%m-%dT%H")
