"""Values of shorter periods brought together in longer ones, and shared out by days where periods do not nest."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from facturum.data.series import period_numbers
from facturum.data.spans import HOUR, inner_periods, start_hours
from facturum.data.values import Array, Mask

LONGER = ("mean", "sum", "first", "last", "smallest", "largest", "median", "count", "commonest")


def aggregated(
    data: Array,
    present: Mask,
    unit: Array,
    period: Array,
    every: str,
    to_unit: Array,
    to_period: Array,
    to: str,
    how: str,
) -> tuple[Array, Mask, Array]:
    """Return values by longer periods, which of them have one, and how much of each was there.

    Args:
        data, present, unit, period: of the source, sorted by unit and period.
        every: its step.
        to_unit, to_period: the periods wanted, sorted likewise.
        to: their step.
        how: one of `LONGER`.
    """
    own = period_numbers(start_hours(period, every) * HOUR, to)
    place = _places(unit, own, to_unit, to_period)[present]
    values = data[present]
    counts = np.bincount(place, minlength=len(to_unit))
    first, after = inner_periods(to_period, to, every)
    cover = counts / (after - first)
    there = counts > 0
    if how == "count":
        return counts.astype(np.float64), np.ones(len(counts), dtype=bool), cover
    made: Array = np.zeros(len(to_unit), dtype=values.dtype if len(values) else np.float64)
    starts = np.searchsorted(place, np.flatnonzero(there))
    made[there] = _reduced(how, values, starts, counts[there])
    return made, there, cover


def _places(unit: Array, period: Array, to_unit: Array, to_period: Array) -> Array:
    low = int(to_period.min(initial=0))
    span = int(to_period.max(initial=0)) - low + 1
    found: Array = np.searchsorted(to_unit * span + (to_period - low), unit * span + (period - low))
    return found


def _reduced(how: str, values: Array, starts: Array, sizes: Array) -> Array:
    if not len(starts):
        return values[:0]
    direct: dict[str, Callable[[], Array]] = {
        "sum": lambda: np.add.reduceat(values, starts),
        "mean": lambda: np.add.reduceat(values, starts) / sizes,
        "smallest": lambda: np.minimum.reduceat(values, starts),
        "largest": lambda: np.maximum.reduceat(values, starts),
        "first": lambda: values[starts],
        "last": lambda: values[starts + sizes - 1],
    }
    if how in direct:
        return direct[how]()
    parts = np.split(values, starts[1:])
    if how == "median":
        return np.array([np.median(part) for part in parts])
    return np.array([_commonest(part) for part in parts], dtype=values.dtype)


def _commonest(part: Array) -> object:
    distinct, counts = np.unique(part, return_counts=True)
    return distinct[np.argmax(counts)]


def shared_days(
    data: Array,
    present: Mask,
    unit: Array,
    period: Array,
    every: str,
    to_unit: Array,
    to_period: Array,
    to: str,
    how: str,
) -> tuple[Array, Mask, Array]:
    """Return totals or means of periods that do not nest, by the days that they share.

    Args:
        data, present, unit, period: of the source, sorted by unit and period.
        every: its step.
        to_unit, to_period: the periods wanted, sorted likewise.
        to: their step.
        how: sum (a total is shared out by days) or mean (an average is weighted by days).
    """
    begin, end = start_hours(period, every) // 24, start_hours(period + 1, every) // 24
    unit_of_day = np.repeat(unit[present], (end - begin)[present])
    each = (end - begin)[present]
    offsets = np.arange(int(each.sum())) - np.repeat(np.cumsum(each) - each, each)
    days = np.repeat(begin[present], each) + offsets
    rate = data[present] / each if how == "sum" else data[present]
    place = _places(unit_of_day, period_numbers(days * 24 * HOUR, to), to_unit, to_period)
    total = np.bincount(place, weights=np.repeat(rate, each), minlength=len(to_unit))
    count = np.bincount(place, minlength=len(to_unit))
    length = (start_hours(to_period + 1, to) - start_hours(to_period, to)) // 24
    with np.errstate(all="ignore"):
        made = total if how == "sum" else total / count
    return made, count > 0, count / length
