"""Values of shorter periods brought together in longer ones, and shared out by days where periods do not nest."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from facturum.data.time.periods import period_numbers, period_starts
from facturum.data.time.spans import DAY, Observed, Periods, Runs, begins, inner_periods, period_ends, periods_of
from facturum.data.values import Array, Mask


def aggregated(source: Observed, wanted: Periods, how: str) -> tuple[Array, Mask, Array]:
    """Return values by longer periods, which of them have one, and how much of each was there.

    Args:
        source: the values.
        wanted: the longer periods.
        how: one of `LONGER`.
    """
    first, after = inner_periods(wanted.number, wanted.step, source.step)
    values, runs = source.data, source.periods
    if isinstance(runs, Runs) and source.present.all():
        own_first, own_after = (each[wanted.unit] for each in (runs.firsts, runs.firsts + runs.sizes))
        low = np.maximum(first, own_first)
        starts, sizes = runs.starts[wanted.unit] + (low - own_first), np.minimum(after, own_after) - low
        place = np.arange(len(starts))
    else:
        unit, periods = source.unit, periods_of(source.number, source.step, wanted.step)
        if not source.present.all():
            unit, periods, values = unit[source.present], periods[source.present], values[source.present]
        starts = begins(unit, periods)
        sizes = np.diff(np.append(starts, len(values)))
        place = _places(unit[starts], periods[starts], wanted)
    counts = np.zeros(len(wanted.unit), dtype=np.int64)
    counts[place] = sizes
    cover = counts / (after - first)
    there = counts > 0
    if how == "count":
        return counts.astype(np.float64), np.ones(len(counts), dtype=bool), cover
    result: Array = np.zeros(len(wanted.unit), dtype=values.dtype if len(values) else np.float64)
    result[place] = _reduced(how, values, starts, sizes)
    return result, there, cover


def _places(unit: Array, number: Array, wanted: Periods) -> Array:
    """Return the place of each unit and period among those wanted."""
    low = int(wanted.number.min(initial=0))
    span = int(wanted.number.max(initial=0)) - low + 1
    pairs = ((wanted.unit, wanted.number), (unit, number))
    keys = [np.multiply(units, span, dtype=np.int64) + (numbers - low) for units, numbers in pairs]
    places: Array = np.searchsorted(keys[0], keys[1])
    return places


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
    return np.array([_mode(part) for part in parts], dtype=values.dtype)


def _mode(part: Array) -> object:
    distinct, counts = np.unique(part, return_counts=True)
    return distinct[np.argmax(counts)]


def shared_days(source: Observed, wanted: Periods, how: str) -> tuple[Array, Mask, Array]:
    """Return totals or means of periods that do not nest, by the days that they share.

    Args:
        source: the values.
        wanted: the periods that overlap theirs.
        how: sum (a total is shared out by days) or mean (an average is weighted by days).
    """
    number = source.number[source.present]
    begin = period_starts(number, source.step) // DAY
    each = period_ends(number, source.step) // DAY - begin
    offsets = np.arange(int(each.sum())) - np.repeat(np.cumsum(each) - each, each)
    days = np.repeat(begin, each) + offsets
    rate = source.data[source.present] / each if how == "sum" else source.data[source.present]
    unit = np.repeat(source.unit[source.present], each)
    place = _places(unit, period_numbers(days * DAY, wanted.step), wanted)
    total = np.bincount(place, weights=np.repeat(rate, each), minlength=len(wanted.unit))
    count = np.bincount(place, minlength=len(wanted.unit))
    length = (period_ends(wanted.number, wanted.step) - period_starts(wanted.number, wanted.step)) // DAY
    with np.errstate(all="ignore"):
        spread = total if how == "sum" else total / count
    return spread, count > 0, count / length
