"""How far two samples of a column are apart: population stability, means, shares missing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
BINS = 10
_LEAST = 1e-4  # the share that a bin without rows counts as


@dataclass(frozen=True)
class Drift:
    """How far a second sample is from a first.

    Args:
        stability: the population stability index over ten bins of equal numbers of the first, and one of missing.
        difference: of the means, in standard deviations of both together; None where neither varies.
        missing: the shares missing.
        means: of both samples; None where all is missing.
    """

    stability: float
    difference: float | None
    missing: tuple[float, float]
    means: tuple[float | None, float | None]


def drift_between(before: FloatArray, after: FloatArray) -> Drift:
    """Return how far a sample has drifted from another.

    The index is the sum of (p - q) ln(p / q) over bins, Kullback & Leibler's symmetric divergence ("On information and
    sufficiency", 1951). The difference is Cohen's d with the mean of both variances.

    Args:
        before, after: doubles, NaN where missing.

    Example:
        >>> x = np.arange(100.0)
        >>> drift_between(x, x).stability, round(drift_between(x, x + 50).difference, 2)
        (0.0, 1.73)
    """
    present = [values[~np.isnan(values)] for values in (before, after)]
    missing = tuple(1 - len(p) / len(v) if len(v) else 0.0 for p, v in zip(present, (before, after), strict=True))
    with np.errstate(over="ignore", invalid="ignore"):
        means = tuple(float(p.mean()) if len(p) else None for p in present)
    difference = None
    if means[0] is not None and means[1] is not None:
        with np.errstate(over="ignore", invalid="ignore"):
            spread = float(np.sqrt((present[0].var() + present[1].var()) / 2))
        difference = (means[1] - means[0]) / spread if 0 < spread < np.inf else (0.0 if means[0] == means[1] else None)
    return Drift(_stability(*present, *missing), difference, missing, means)  # type: ignore[arg-type]


def _stability(before: FloatArray, after: FloatArray, missing_before: float, missing_after: float) -> float:
    if not len(before) or not len(after):
        return _divergence(np.array([missing_before]), np.array([missing_after]))
    values, counts = np.unique(before, return_counts=True)
    last = np.searchsorted(np.cumsum(counts), np.linspace(0, 1, BINS + 1)[1:-1] * len(before))
    last = np.unique(last[last < len(values) - 1])
    edges = values[last] / 2 + values[last + 1] / 2  # between values, so that ties stay together
    shares = [
        np.bincount(np.searchsorted(edges, values, side="left"), minlength=len(edges) + 1) / len(values) * (1 - gone)
        for values, gone in ((before, missing_before), (after, missing_after))
    ]
    return _divergence(np.append(shares[0], missing_before), np.append(shares[1], missing_after))


def _divergence(before: FloatArray, after: FloatArray) -> float:
    some = (before > 0) | (after > 0)
    p, q = np.maximum(before[some], _LEAST), np.maximum(after[some], _LEAST)
    return float(((q - p) * np.log(q / p)).sum())
