"""How far doubles are apart, counted in doubles."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

FAR = 2**62


def ulp_distance(a: npt.NDArray[np.float64], b: npt.NDArray[np.float64]) -> npt.NDArray[np.int64]:
    """Return how many doubles lie from each of one to the other; equal bits, and two NaN, are 0 apart.

    Example:
        >>> ulp_distance(np.array([1.0, np.nan, 0.0]), np.array([np.nextafter(1.0, 2.0), np.nan, 5e-324])).tolist()
        [1, 0, 1]
    """
    steps = np.zeros(len(a), dtype=np.int64)
    different = np.flatnonzero(a != b)  # few, as a rule
    steps[different] = _steps(a[different], b[different])
    return steps


def _steps(a: npt.NDArray[np.float64], b: npt.NDArray[np.float64]) -> npt.NDArray[np.int64]:
    nan_a, nan_b, on_a, on_b = np.isnan(a), np.isnan(b), _ladder(a), _ladder(b)
    far = np.minimum(np.abs(on_a.astype(np.float64) - on_b.astype(np.float64)), FAR).astype(np.int64)
    near = np.abs(on_a // 2 - on_b // 2) < 2**40
    steps = np.where(near, np.abs(on_a - on_b), far)
    return np.where(nan_a & nan_b, 0, np.where(nan_a | nan_b, FAR, steps))


def _ladder(values: npt.NDArray[np.float64]) -> npt.NDArray[np.int64]:
    """Return whole numbers that are in the order of the doubles, neighbours one apart."""
    bits = np.ascontiguousarray(values + 0.0, dtype=np.float64).view(np.int64)
    return np.where(bits < 0, np.int64(-(2**63)) - bits, bits)
