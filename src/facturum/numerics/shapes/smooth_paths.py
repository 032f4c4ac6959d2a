"""Paths through values at a finer step: the smoothest with given totals, and cubics through dated values."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
IntArray = npt.NDArray[np.int64]


def smoothest_path(totals: FloatArray, sizes: IntArray, order: int = 2) -> FloatArray:
    """Return the path whose sums over each part are the totals, and whose differences are smallest in square.

    The conditions for the least squares under constraints make one banded system, with each multiplier in the middle of
    its part, which is solved in time linear in the length of the path.

    Args:
        totals: of each part.
        sizes: how many values each part has.
        order: 1 for first differences, 2 for second ones; with two second differences a straight line stays straight.

    Returns:
        The path, (sum of sizes,).

    Source: Boot, Feibes & Lisman, "Further methods of derivation of quarterly figures from annual data" (1967).

    Example:
        >>> smoothest_path(np.array([6.0, 15.0]), np.array([3, 3])).round(9).tolist()
        [1.0, 2.0, 3.0, 4.0, 5.0, 6.0]
    """
    from scipy.linalg import solve_banded  # loaded when it is needed, for commands to start at once

    order = min(order, len(totals))
    scale = float(np.max(np.abs(totals))) or 1.0
    count = int(sizes.sum())
    part = np.repeat(np.arange(len(sizes)), sizes)
    starts = np.cumsum(sizes) - sizes
    before = starts + sizes // 2  # the multiplier of a part stands after so many values
    value_at = np.arange(count) + np.searchsorted(before, np.arange(count), side="right")
    lambda_at = before + np.arange(len(sizes))
    band = int(max(np.max(np.abs(value_at - lambda_at[part])), 2 * order + 1))
    whole = np.zeros((2 * band + 1, count + len(sizes)))
    weights = np.array([1.0, -2.0, 1.0]) if order == 2 else np.array([-1.0, 1.0])
    for a, first in enumerate(weights):
        for b, second in enumerate(weights):
            at = np.arange(max(count - order, 0))
            rows, columns = value_at[at + a], value_at[at + b]
            np.add.at(whole, (band + rows - columns, columns), first * second)
    whole[band + value_at - lambda_at[part], lambda_at[part]] = 1.0
    whole[band + lambda_at[part] - value_at, value_at] = 1.0
    right = np.zeros(count + len(sizes))
    right[lambda_at] = totals / scale
    path = solve_banded((band, band), whole, right)[value_at]
    for _ in range(2):  # what rounding has left of the totals is spread over each part
        path = path + (((totals / scale) - np.add.reduceat(path, starts)) / sizes)[part]
    path_scaled: FloatArray = path * scale
    return path_scaled


def cubic_values(positions: FloatArray, values: FloatArray, wanted: FloatArray) -> FloatArray:
    """Return the natural cubic through points, NaN outside the first and the last.

    Args:
        positions: of the points, increasing.
        values: at the points.
        wanted: where the curve is wanted.

    Source: de Boor, "A Practical Guide to Splines" (1978), chapter 4.

    Example:
        >>> cubic_values(np.array([0.0, 1.0, 2.0]), np.array([1.0, 3.0, 5.0]), np.array([0.5, 3.0])).tolist()
        [2.0, nan]
    """
    from scipy.linalg import solve_banded  # loaded when it is needed, for commands to start at once

    count = len(positions)
    gaps = np.diff(positions)
    slopes = np.diff(values) / gaps if count > 1 else np.zeros(0)
    bend = np.zeros(count)
    if count > 2:
        whole = np.zeros((3, count - 2))
        whole[1] = 2 * (gaps[:-1] + gaps[1:])
        whole[0, 1:] = gaps[1:-1]
        whole[2, :-1] = gaps[1:-1]
        bend[1:-1] = solve_banded((1, 1), whole, 6 * np.diff(slopes))
    path = np.full(len(wanted), np.nan)
    inside = (wanted >= positions[0]) & (wanted <= positions[-1]) if count else np.zeros(len(wanted), dtype=bool)
    if count == 1:
        path[inside] = values[0]
        return path
    x = wanted[inside]
    at = np.clip(np.searchsorted(positions, x, side="right") - 1, 0, max(count - 2, 0))
    if len(x):
        gap, a, b = gaps[at], positions[at + 1] - x, x - positions[at]
        curve = (bend[at] * a**3 + bend[at + 1] * b**3) / (6 * gap)
        line = (values[at] / gap - bend[at] * gap / 6) * a + (values[at + 1] / gap - bend[at + 1] * gap / 6) * b
        path[inside] = curve + line
    return path


def between(start: FloatArray, end: FloatArray, share: FloatArray) -> FloatArray:
    """Return the points at a share of the way, from 0 to 1, between two numbers; nothing overflows on the way.

    Example:
        >>> between(np.array([1.0, -1.7e308]), np.array([5.0, 1.7e308]), np.array([0.25, 0.5])).tolist()
        [2.0, 0.0]
    """
    with np.errstate(all="ignore"):
        width = np.subtract(end, start)
        values: FloatArray = np.where(np.isfinite(width), start + width * share, start * (1 - share) + end * share)
    return values


def linear_values(positions: FloatArray, values: FloatArray, wanted: FloatArray) -> FloatArray:
    """Return the straight lines between points, NaN outside the first and the last.

    Example:
        >>> linear_values(np.array([0.0, 2.0]), np.array([1.0, 5.0]), np.array([1.0, -1.0])).tolist()
        [3.0, nan]
    """
    path = np.full(len(wanted), np.nan)
    if not len(positions):
        return path
    inside = (wanted >= positions[0]) & (wanted <= positions[-1])
    x = wanted[inside]
    if len(positions) == 1:
        path[inside] = values[0]
    elif len(x):
        at = np.clip(np.searchsorted(positions, x, side="right") - 1, 0, len(positions) - 2)
        share = (x - positions[at]) / (positions[at + 1] - positions[at])
        path[inside] = between(values[at], values[at + 1], share)
    return path
