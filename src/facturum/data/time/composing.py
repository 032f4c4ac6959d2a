"""A time held in several variables: its year in one, its month in another; its date in one, its clock in another."""

from __future__ import annotations

import re
from collections.abc import Mapping

import numpy as np

from facturum.data.table import Table
from facturum.data.time.calendar import month_number
from facturum.data.values import Array, FloatArray, Kind, Mask, label_text
from facturum.data.variable import Variable
from facturum.errors import DataError, toml_key

_DAY, _HOUR, _HALF, _MINUTE, _SECOND = 86_400_000_000, 3_600_000_000, 1_800_000_000, 60_000_000, 1_000_000
_RANGES = {
    "year": (1, 9999), "quarter": (1, 4), "month": (1, 12), "week": (1, 53), "day": (1, 31), "hour": (0, 23),
    "half_hour": (1, 48), "minute": (0, 59),
}  # fmt: skip
_WITH = {"quarter": "year", "month": "year", "week": "year", "day": "month", "minute": "hour"}  # what each needs
_CLOCK = re.compile(r"(\d{1,2}):(\d{2})(?::(\d{2}))?")


def composed_time(table: Table, name: str, parts: Mapping[str, str]) -> Variable:
    """Return the time whose parts are held in several variables.

    Args:
        table: the variables.
        name: what the time is called.
        parts: the variable of each part: a year, with a quarter, a month (and a day) or a week as ISO 8601 counts it;
            or a date. With a day or a date an hour (and a minute), a half hour from 1 to 48, or a clock time.

    Raises:
        DataError: where a part is not found, does not fit the others, or holds values that are not such a part.

    Example:
        >>> table = Table.of({"yr": [2020, 2021], "mon": ["Mar", "4"]})
        >>> composed_time(table, "month", {"year": "yr", "month": "mon"}).data.astype("datetime64[us]").astype("M8[M]")
        array(['2020-03', '2021-04'], dtype='datetime64[M]')
    """
    _refuse_unfit(name, parts)
    read = {part: _read(table, name, part, variable) for part, variable in parts.items()}
    there: Mask = np.logical_and.reduce([known for _, known in read.values()])

    def of(part: str, default: int) -> Array:
        values = read[part][0] if part in read else np.full(table.length, float(default))
        whole: Array = np.where(there, values, default).astype(np.int64)
        return whole

    if "date" in parts:
        days = of("date", 0) // _DAY
    elif "week" in parts:
        days = _mondays(of("year", 1970)) + 7 * (of("week", 1) - 1)
        _refuse_beyond(name, "week", parts, there & (days >= _mondays(of("year", 1970) + 1)))
    else:
        month = 3 * of("quarter", 1) - 2 if "quarter" in parts else of("month", 1)
        months = 12 * (of("year", 1970) - 1970) + month - 1
        dates = months.astype("datetime64[M]").astype("datetime64[D]") + (of("day", 1) - 1)
        _refuse_beyond(name, "day", parts, there & (dates.astype("datetime64[M]").astype(np.int64) != months))
        days = dates.astype(np.int64)
    within = of("hour", 0) * _HOUR + of("minute", 0) * _MINUTE + (of("half_hour", 1) - 1) * _HALF + of("clock", 0)
    data = days * _DAY + within
    return Variable(name, Kind.TIME, np.where(there, data, 0), None if there.all() else there, None, "composed")


def _refuse_unfit(name: str, parts: Mapping[str, str]) -> None:
    """Refuse parts that do not make a time together."""
    clocks = {"hour", "half_hour", "clock"}
    alone = all(len(parts.keys() & group) <= 1 for group in ({"quarter", "month", "week"}, clocks))
    based = ("date" in parts) != ("year" in parts)
    with_all = all(_WITH[part] in parts for part in parts if part in _WITH)
    dated = bool({"date", "day"} & parts.keys()) or not clocks & parts.keys()
    if not (alone and based and with_all and dated):
        raise DataError(
            f"the parts of '{name}' do not make a time: {', '.join(parts)}",
            place=f"variables.{name}",
            remedy="Write a year, with a quarter, a month (and a day) or a week; or a date. With a day or a date, "
            "write an hour (and a minute), a half_hour from 1 to 48, or a clock such as 09:30.",
        )


def _refuse_beyond(name: str, part: str, parts: Mapping[str, str], beyond: Mask) -> None:
    if beyond.any():
        raise _wrong(name, part, parts[part], np.flatnonzero(beyond))


def _mondays(years: Array) -> Array:
    """Return the day of the first Monday of each ISO year, counted from 1970: that of the week with 4 January."""
    fourths = (years - 1970).astype("datetime64[Y]").astype("datetime64[D]").astype(np.int64) + 3
    mondays: Array = fourths - (fourths + 3) % 7  # 1 January 1970 was a Thursday
    return mondays


def _read(table: Table, name: str, part: str, variable: str) -> tuple[FloatArray | Array, Mask]:
    """Return what a part is, in numbers or microseconds, and which rows have it."""
    source = table[variable]
    if part == "date":
        if source.kind is not Kind.TIME:
            raise _wrong(name, part, variable, np.arange(0))
        return source.data, ~source.missing_rows()
    if part == "clock" and source.kind is Kind.TIME:
        return source.data % _DAY, ~source.missing_rows()
    if part == "clock" and source.labels is None:
        raise _wrong(name, part, variable, np.arange(0))
    return _numbers(table, name, part, variable)


def _numbers(table: Table, name: str, part: str, variable: str) -> tuple[FloatArray, Mask]:
    """Return the numbers of a part, and which rows have one."""
    source = table[variable]
    there = ~source.missing_rows()
    if source.kind.categorical:
        read = [_number(label_text(label), part) for label in source.labels or ()]
        values = np.array([np.nan if number is None else number for number in read] + [np.nan])[source.data]
    elif source.kind is Kind.NUMBER:
        values = source.data.astype(np.float64)
    else:
        raise _wrong(name, part, variable, np.flatnonzero(there))
    low, high = _RANGES.get(part, (0, _DAY - 1))
    with np.errstate(invalid="ignore"):
        fine = (values == np.floor(values)) & (values >= low) & (values <= high)
    if (there & ~fine).any():
        raise _wrong(name, part, variable, np.flatnonzero(there & ~fine))
    return np.where(there, values, 0.0), there


def _number(text: str, part: str) -> float | None:
    if part == "clock":
        found = _CLOCK.fullmatch(text.strip())
        hours, minutes, seconds = (int(each or 0) for each in found.groups()) if found else (24, 0, 0)
        fine = hours < 24 and minutes < 60 and seconds < 60
        return hours * _HOUR + minutes * _MINUTE + seconds * _SECOND if fine else None
    if part == "month" and (month := month_number(text)) is not None:
        return month
    try:
        return float(text.strip().removeprefix({"quarter": "Q", "week": "W"}.get(part, "")))
    except ValueError:
        return None


def _wrong(name: str, part: str, variable: str, rows: np.ndarray) -> DataError:
    called = {"half_hour": "half hour", "clock": "clock time"}.get(part, part)
    remedy = {
        "date": f'Declare it: [variables] {toml_key(variable)} = {{ kind = "time", pattern = ".." }}.',
        "clock": "A clock time is a text such as 09:30 or 09:30:15; correct these cells, or make them missing.",
    }
    if part in _RANGES:
        low, high = _RANGES[part]
        remedy[part] = f"A {called} runs from {low} to {high}; correct these cells, or make them missing."
    return DataError(
        f"'{variable}' holds values that are not a {called} of '{name}'",
        place=f"variables.{name}",
        rows=(rows + 1).tolist(),
        remedy=remedy[part],
    )
