"""Values of longer periods brought to shorter ones."""

from __future__ import annotations

import numpy as np

from facturum.data.time.periods import period_starts
from facturum.data.time.spans import Observed, Periods, inner_periods, period_ends
from facturum.data.values import Array, FloatArray, Mask
from facturum.numerics.shapes.smooth_paths import cubic_values, linear_values, smoothest_path

HOUR = 3_600_000_000  # microseconds


def refined(source: Observed, wanted: Periods, how: str, at: str, order: int) -> tuple[Array, Mask]:
    """Return values by shorter periods, and which of them have one.

    Lines, curves and paths run through neighbouring periods; a period without a value parts them.

    Args:
        source: the values.
        wanted: the shorter periods.
        how: one of `SHORTER`.
        at: where in its period a dated value lies.
        order: of the differences that a smooth path keeps small.
    """
    result: Array = np.zeros(len(wanted.unit), dtype=source.data.dtype)
    there = np.zeros(len(wanted.unit), dtype=bool)
    first, after = inner_periods(source.number, source.step, wanted.step)
    units = np.unique(source.unit)
    offset = dict(zip(units.tolist(), np.searchsorted(wanted.unit, units).tolist(), strict=True))
    for start, stop in _runs(source):
        base = offset[int(source.unit[start])]
        begin = base + int(first[start] - wanted.number[base])
        end = base + int(after[stop - 1] - wanted.number[base])
        sizes = (after - first)[start:stop]
        pieces = source.data[start:stop]
        if how == "repeat":
            values = np.repeat(pieces, sizes)
        elif how == "spread":
            rate = pieces / _hours(source.number[start:stop], source.step)
            values = np.repeat(rate, sizes) * _hours(wanted.number[begin:end], wanted.step)
        elif how in ("smooth_total", "smooth_mean"):
            values = smoothest_path(pieces if how == "smooth_total" else pieces * sizes, sizes, order)
        else:
            values = _through(pieces, first[start:stop], after[start:stop], how, at)
        result[begin:end] = np.where(np.isnan(values), 0, values) if values.dtype.kind == "f" else values
        there[begin:end] = ~np.isnan(values) if values.dtype.kind == "f" else True
    return result, there


def _hours(numbers: Array, step: str) -> Array:
    hours: Array = (period_ends(numbers, step) - period_starts(numbers, step)) / HOUR
    return hours


def _runs(source: Observed) -> list[tuple[int, int]]:
    """Return start and stop of each run of neighbouring periods with values."""
    rows = np.flatnonzero(source.present)
    if not len(rows):
        return []
    parted = (np.diff(source.unit[rows]) != 0) | (np.diff(source.number[rows]) != 1)
    starts = np.concatenate([[0], np.flatnonzero(parted) + 1])
    stops = np.append(starts[1:], len(rows))
    return [(int(rows[a]), int(rows[b - 1]) + 1) for a, b in zip(starts, stops, strict=True)]


def _through(values: FloatArray, first: Array, after: Array, how: str, at: str) -> FloatArray:
    """Return the line or curve through values that are dated at the start, the middle or the end of their period.

    It is NaN before the first and after the last, and infinite where it cannot be computed between them.
    """
    places = {"start": first, "middle": (first + after - 1) / 2, "end": after - 1}
    positions = places[at].astype(np.float64) - float(first[0])
    wanted = np.arange(int(after[-1] - first[0]), dtype=np.float64)
    path = (linear_values if how == "linear" else cubic_values)(positions, values, wanted)
    path[np.isnan(path) & (wanted >= positions[0]) & (wanted <= positions[-1])] = np.inf
    return path
