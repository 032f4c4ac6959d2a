"""B-splines: piecewise polynomials that join smoothly at knots."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
Array = npt.NDArray[Any]


def basis_values(x: FloatArray, knots: Sequence[float], degree: int, linear: bool) -> FloatArray:
    """Return the B-splines of a degree at some numbers, (pieces + degree, numbers).

    Args:
        x: the numbers.
        knots: where pieces begin and end, increasing.
        degree: of the pieces.
        linear: whether splines go on as straight lines beyond the outer knots; otherwise they keep their last value.

    Source: Piegl and Tiller, The NURBS Book (1997), algorithm A2.2.

    Example:
        >>> basis_values(np.array([0.0, 0.5, 2.0]), [0.0, 1.0, 2.0], 1, False).tolist()
        [[1.0, 0.5, 0.0], [0.0, 0.5, 0.0], [0.0, 0.0, 1.0]]
    """
    ends = np.array([knots[0], knots[-1]], dtype=np.float64)
    inside = np.clip(x, ends[0], ends[1])
    values = _within(inside, knots, degree)
    if linear:
        slopes = _end_slopes(knots, degree)
        for end, slope, beyond in zip(ends, slopes, (x < ends[0], x > ends[1]), strict=True):
            rows = np.flatnonzero(beyond)
            values[:, rows] += np.outer(slope, x[rows] - end)
    return values


def _within(x: FloatArray, knots: Sequence[float], degree: int) -> FloatArray:
    pieces = len(knots) - 1
    places = np.concatenate([[knots[0]] * degree, knots, [knots[-1]] * degree])
    piece = np.clip(np.searchsorted(np.asarray(knots), x, side="right") - 1, 0, pieces - 1)
    last = piece + degree  # the place of the knot at or below each number
    local = [np.ones(len(x))]
    for order in range(1, degree + 1):
        local = _raised(local, x, places, last, order)
    values = np.zeros((pieces + degree, len(x)))
    rows = np.arange(len(x))
    for at, value in enumerate(local):
        values[piece + at, rows] = value
    return values


def _raised(local: list[FloatArray], x: FloatArray, places: Array, last: Array, order: int) -> list[FloatArray]:
    """Return the splines that are not 0 at each number, of one degree more."""
    made: list[FloatArray] = []
    saved: FloatArray = np.zeros(len(x))
    for at in range(order):
        after, before = places[last + at + 1], places[last + 1 - order + at]
        part = np.divide(local[at], after - before)
        made.append(saved + (after - x) * part)
        saved = (x - before) * part
    return [*made, saved]


def _end_slopes(knots: Sequence[float], degree: int) -> tuple[FloatArray, FloatArray]:
    """Return the slope of each spline at the first knot and at the last."""
    count = len(knots) - 1 + degree
    first, last = np.zeros(count), np.zeros(count)
    first[1] = degree / (knots[1] - knots[0])
    last[-1] = degree / (knots[-1] - knots[-2])
    first[0], last[-2] = -first[1], -last[-1]
    return first, last
