"""A time held in several variables: its year in one, its month in another."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from facturum.data.table import Table
from facturum.data.time.calendar import month_number
from facturum.data.values import FloatArray, Kind, Mask, label_text
from facturum.data.variable import Variable
from facturum.errors import DataError

_DAY, _HOUR = 86_400_000_000, 3_600_000_000
_RANGES = {"year": (1, 9999), "quarter": (1, 4), "month": (1, 12), "day": (1, 31), "hour": (0, 23)}


def composed_time(table: Table, name: str, parts: Mapping[str, str]) -> Variable:
    """Return the time whose parts are held in several variables.

    Args:
        table: the variables.
        name: what the time is called.
        parts: the variable of each part: year, and as many of quarter or month, day and hour as there are.

    Raises:
        DataError: where a part is not found, does not fit the others, or holds values that are not such a part.

    Example:
        >>> table = Table.of({"yr": [2020, 2021], "mon": ["Mar", "4"]})
        >>> composed_time(table, "month", {"year": "yr", "month": "mon"}).data.astype("datetime64[us]").astype("M8[M]")
        array(['2020-03', '2021-04'], dtype='datetime64[M]')
    """
    place = f"variables.{name}"
    if "year" not in parts or {"quarter", "month"} <= parts.keys() or not _runs_on(parts):
        raise DataError(
            f"the parts of '{name}' do not make a time: {', '.join(parts)}",
            place=place,
            remedy="Write a year, with a quarter or a month, and with a month a day, and with a day an hour.",
        )
    numbers = {part: _numbers(table, name, part, variable) for part, variable in parts.items()}
    there: Mask = np.logical_and.reduce([known for _, known in numbers.values()])

    def of(part: str, default: int) -> FloatArray:
        values = numbers[part][0] if part in numbers else np.full(table.length, float(default))
        return np.where(there, values, default)

    month = 3 * of("quarter", 1) - 2 if "quarter" in parts else of("month", 1)
    months = (12 * (of("year", 1970) - 1970) + month - 1).astype(np.int64)
    first = months.astype("datetime64[M]").astype("datetime64[D]")
    days = first + (of("day", 1) - 1).astype(np.int64)
    beyond = np.flatnonzero(there & (days.astype("datetime64[M]").astype(np.int64) != months))
    if len(beyond):
        raise _wrong(name, "day", parts["day"], beyond)
    data = days.astype(np.int64) * _DAY + (of("hour", 0) * _HOUR).astype(np.int64)
    return Variable(name, Kind.TIME, np.where(there, data, 0), None if there.all() else there, None, "composed")


def _runs_on(parts: Mapping[str, str]) -> bool:
    """Return whether each part comes with the next longer one."""
    return ("day" not in parts or "month" in parts) and ("hour" not in parts or "day" in parts)


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
    low, high = _RANGES[part]
    with np.errstate(invalid="ignore"):
        fine = (values == np.floor(values)) & (values >= low) & (values <= high)
    if (there & ~fine).any():
        raise _wrong(name, part, variable, np.flatnonzero(there & ~fine))
    return np.where(there, values, 0.0), there


def _number(text: str, part: str) -> float | None:
    if part == "month" and (month := month_number(text)) is not None:
        return month
    try:
        return float(text.strip().removeprefix("Q" if part == "quarter" else ""))
    except ValueError:
        return None


def _wrong(name: str, part: str, variable: str, rows: np.ndarray) -> DataError:
    low, high = _RANGES[part]
    return DataError(
        f"'{variable}' holds values that are not a {part} of '{name}'",
        place=f"variables.{name}",
        rows=(rows + 1).tolist(),
        remedy=f"A {part} runs from {low} to {high}; correct these cells, or make them missing.",
    )
