"""Figures that compare groups and items: differences of means, consistency of scales, correlations."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
FEWEST = 10


def welch(a: FloatArray, b: FloatArray) -> tuple[float | None, float | None]:
    """Return the difference of two means and its t value, for unequal variances.

    The t value is None where either has fewer than ten values, or no variance.

    Source: Welch, "The generalization of 'Student's' problem when several different population variances are involved"
    (1947).

    Example:
        >>> welch(np.arange(10.0), np.arange(10.0) + 3.0)
        (-3.0, -2.215646837627989)
        >>> welch(np.array([1.0, 2.0]), np.array([4.0, 5.0]))
        (-3.0, None)
    """
    if not len(a) or not len(b):
        return None, None
    with np.errstate(all="ignore"):  # of numbers beyond 1e150, whose squares no double holds
        difference = float(a.mean() - b.mean())
        if min(len(a), len(b)) < FEWEST:
            return _finite(difference), None
        spreads = a.var(ddof=1), b.var(ddof=1)
        error = float(np.sqrt(spreads[0] / len(a) + spreads[1] / len(b)))
        return _finite(difference), _finite(difference / error) if min(spreads) > 0 else None


def _finite(value: float) -> float | None:
    return value if np.isfinite(value) else None


def correlation(a: FloatArray, b: FloatArray) -> float | None:
    """Return the correlation of two numbers; None where one of them is constant.

    Example:
        >>> correlation(np.array([1.0, 2.0, 3.0]), np.array([2.0, 4.0, 6.0]))
        1.0
    """
    x, y = unit_length(a), unit_length(b)
    return None if x is None or y is None else product_of_units(x, y)


def product_of_units(x: FloatArray, y: FloatArray) -> float:
    """Return the correlation of two numbers that are about their means and of length one."""
    return float(np.clip(np.einsum("i,i->", x, y), -1.0, 1.0))


def unit_length(a: FloatArray) -> FloatArray | None:
    """Return values about their mean, scaled to length one; None where they are constant."""
    if len(a) < 2:
        return None
    largest = float(np.max(np.abs(a)))
    if not largest > 0:
        return None
    about = a / largest
    about -= about.mean()
    length = float(np.sqrt(np.einsum("i,i->", about, about)))
    if not length > 1e-12 * np.sqrt(len(a)):
        return None
    about /= length
    return about


def scale_figures(items: FloatArray) -> tuple[float | None, list[float | None]]:
    """Return coefficient alpha of a scale, and each item's correlation with the sum of the others.

    Args:
        items: (items, rows), complete rows only.

    Source: Cronbach, "Coefficient alpha and the internal structure of tests" (1951).

    Example:
        >>> alpha, rest = scale_figures(np.array([[1.0, 2.0, 3.0], [1.0, 2.0, 3.0]]))
        >>> alpha, rest
        (1.0, [1.0, 1.0])
    """
    count, rows = items.shape
    if rows < 2:
        return None, [None] * count
    items = items / (float(np.max(np.abs(items))) or 1.0)  # neither figure depends on the scale
    total = items.sum(axis=0)
    whole = float(total.var(ddof=1))
    item_variance = float(np.sum(items.var(axis=1, ddof=1)))
    alpha = count / (count - 1) * (1 - item_variance / whole) if whole > 0 else None
    return alpha, [correlation(item, total - item) for item in items]
