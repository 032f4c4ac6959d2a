"""Covariances of coefficients that hold where errors differ in size, within units, or along time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from facturum.data.values import Array, FloatArray
from facturum.errors import DataError, nearest
from facturum.trial.rows import Block, Rows
from facturum.trial.solving import Solution

KINDS = ("ordinary", "hc1", "hc3", "clustered", "autocorrelation")
Residual = Callable[[Block], FloatArray]


@dataclass(frozen=True)
class ErrorKind:
    """How standard errors are computed.

    Args:
        kind: ordinary, hc1, hc3, clustered or autocorrelation.
        by: of clustered ones, the carried variable that names the unit; of autocorrelation, within which series run.
        lags: of autocorrelation, how many; None for 4 (rows / 100)^(2/9), rounded down (Newey & West 1994).
    """

    kind: str = "ordinary"
    by: str | None = None
    lags: int | None = None

    def __post_init__(self) -> None:
        if self.kind not in KINDS:
            raise DataError(f"'{self.kind}' is not a kind of standard errors", remedy="Write " + ", ".join(KINDS) + ".")
        if self.kind == "clustered" and self.by is None:
            raise DataError(
                "clustered standard errors need a unit", remedy="Name the variable that holds it: by='hut'."
            )
        if self.lags is not None and (self.kind != "autocorrelation" or self.lags < 0):
            raise DataError("lags belong to autocorrelation, and are not negative", remedy="Leave lags out.")


@dataclass(frozen=True)
class Meat:
    """The covariance of the coordinates, and the degrees of freedom of tests with it.

    Args:
        matrix: doubles (k, k); None for errors that are independent and alike.
        degrees_of_freedom: of tests with it.
        text: how standard errors were computed.
    """

    matrix: FloatArray | None
    degrees_of_freedom: int
    text: str


def meat(rows: Rows, solution: Solution, errors: ErrorKind, residual: Residual) -> Meat:
    """Return the covariance of coefficients in orthonormal coordinates.

    Args:
        rows: those fitted.
        solution: the coefficients.
        errors: the kind.
        residual: of each row of a block; for a likelihood, the score with respect to the linear predictor.

    Raises:
        DataError: where the unit is not known.
    """
    size, count, left = solution.rows, len(solution.coefficients), solution.degrees_of_freedom
    if errors.kind == "ordinary":
        return Meat(None, left, "ordinary")
    if errors.kind in ("hc1", "hc3"):
        total = np.zeros((count, count))
        for block in rows.blocks():
            z, e = solution.coordinates(block.X), residual(block)
            if errors.kind == "hc3":
                e = e / np.maximum(1 - np.add.reduce(np.square(z), axis=1), 1e-12)
            weighted = z * e[:, None]
            total += weighted.T @ weighted
        scale = size / left if errors.kind == "hc1" else 1.0
        return Meat(scale * total, left, f"robust to heteroscedasticity ({errors.kind.upper()})")
    scores = np.concatenate([solution.coordinates(b.X) * residual(b)[:, None] for b in rows.blocks()])
    if errors.kind == "clustered":
        return _clustered(scores, _units(rows, str(errors.by)), size, left, str(errors.by))
    return _along_time(rows, scores, errors, left)


def _clustered(scores: FloatArray, units: Array, size: int, free: int, by: str) -> Meat:
    """Return the sandwich of sums within units, times G / (G - 1) (n - 1) / (n - k) (Cameron & Miller 2015)."""
    known, place = np.unique(units, return_inverse=True)
    if len(known) < 2:
        raise DataError(f"all rows are of one unit of {by}", remedy="Cluster by another variable, or use hc3.")
    sums = np.zeros((len(known), scores.shape[1]))
    np.add.at(sums, place, scores)
    groups = len(known)
    scale = groups / (groups - 1) * (size - 1) / free
    return Meat(scale * (sums.T @ sums), groups - 1, f"clustered by {by} ({groups:,} units)")


def _along_time(rows: Rows, scores: FloatArray, errors: ErrorKind, free: int) -> Meat:
    """Return the sum of autocovariances with falling weights (Newey & West 1987), times n / (n - k)."""
    size = len(scores)
    lags = int(4 * (size / 100) ** (2 / 9)) if errors.lags is None else errors.lags
    units = np.zeros(size, dtype=np.int64) if errors.by is None else _codes(_units(rows, errors.by))
    time = rows.columns.resolved.get("data", {}).get("time")
    moments = _codes(_units(rows, time)) if time in rows.carried else np.arange(size)
    order = np.lexsort((moments, units))
    scores, units = scores[order], units[order]
    total = scores.T @ scores
    for lag in range(1, min(lags, size - 1) + 1):
        same = units[lag:] == units[:-lag]
        part = scores[lag:][same].T @ scores[:-lag][same]
        total += (1 - lag / (lags + 1)) * (part + part.T)
    text = f"robust to autocorrelation up to {lags} {'lag' if lags == 1 else 'lags'}"
    return Meat(total * (size / free), free, text + (f" within {errors.by}" if errors.by else ""))


def _codes(values: Array) -> Array:
    return np.asarray(np.unique(values, return_inverse=True)[1])


def _units(rows: Rows, name: str) -> Array:
    """Return the unit of each row fitted."""
    if name not in rows.carried:
        raise DataError(
            f"'{name}' is not carried along with the matrix{nearest(name, list(rows.carried))}",
            remedy=f'Write carry = ["{name}"] in [data], and build anew.',
        )
    fitted = np.concatenate([rows.fitted(block) for block in rows.read()])
    units: Array = rows.carried[name][fitted]
    return units
