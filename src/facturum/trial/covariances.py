"""Covariances of coefficients that hold where errors differ in size, within units, or along time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from facturum.data.grouping import group_numbers
from facturum.data.table import Table
from facturum.data.time.series import Series, period_numbers, row_numbers
from facturum.data.values import Array, FloatArray
from facturum.engine.planning.spec import DataSpec
from facturum.errors import DataError, counted, nearest
from facturum.trial.rows import Block, Rows, moments_of
from facturum.trial.solving import Solution

KINDS = ("ordinary", "hc1", "hc3", "clustered", "autocorrelation")
Residual = Callable[[Block], FloatArray]


@dataclass(frozen=True)
class ErrorKind:
    """How standard errors are computed.

    Args:
        kind: ordinary, hc1, hc3, clustered or autocorrelation.
        by: of clustered ones, the variable that names the unit; of autocorrelation, within which series run:
            otherwise the plan's panel.
        lags: of autocorrelation, how many; None for 4 (periods / 100)^(2/9), rounded down (Newey & West 1994).
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
    sums = _summed(scores, units)
    groups = len(sums)
    if groups < 2:
        raise DataError(f"all rows are of one unit of {by}", remedy="Cluster by another variable, or use hc3.")
    scale = groups / (groups - 1) * (size - 1) / free
    return Meat(scale * (sums.T @ sums), groups - 1, f"clustered by {by} ({groups:,} units)")


def _along_time(rows: Rows, scores: FloatArray, errors: ErrorKind, free: int) -> Meat:
    """Return the sum of autocovariances with falling weights (Newey & West 1987), times n / (n - k).

    Rows are neighbours where their periods are: a gap in the periods is none. Rows of one unit and period are summed
    first, so that they may be correlated in any way.
    """
    size = len(scores)
    data = DataSpec(**rows.columns.resolved.get("data", {}))
    within = data.panel if errors.by is None else [errors.by]
    unit = group_numbers([Table.of({name: _units(rows, name)})[name] for name in within], size)
    period, every = _periods(rows, data, unit if within else None)
    places, of_row = np.unique(np.column_stack([unit, period]), axis=0, return_inverse=True)
    sums = _summed(scores, of_row.ravel())
    lags = int(4 * (len(np.unique(period)) / 100) ** (2 / 9)) if errors.lags is None else errors.lags
    series = Series(places[:, 0], places[:, 1], np.ones(len(places), dtype=bool), every)
    total = sums.T @ sums
    for lag in range(1, lags + 1):
        before = series.rows_at(-lag)
        paired = before >= 0
        part = sums[paired].T @ sums[before[paired]]
        total += (1 - lag / (lags + 1)) * (part + part.T)
    text = f"robust to autocorrelation up to {lags} {'lag' if lags == 1 else 'lags'}"
    return Meat(total * (size / free), free, text + (f" within {' and '.join(within)}" if within else ""))


def _periods(rows: Rows, data: DataSpec, unit: Array | None) -> tuple[Array, str]:
    """Return the period of each row fitted; without a time its number in the source, or its place in its unit."""
    timing = data.timing
    if timing is None or timing.time is None:
        numbers = np.concatenate([block.numbers for block in rows.blocks()])
        return numbers if unit is None else row_numbers(unit), "row"
    moments, known = moments_of(_units(rows, timing.time))
    if not known.all():
        raise DataError(
            f"{counted(int((~known).sum()), 'row')} of the matrix without '{timing.time}' cannot be placed in a series",
            remedy=f'Leave them out: [rows] keep = "not is_missing({timing.time})".',
        )
    return period_numbers(moments, timing.every), timing.every


def _summed(scores: FloatArray, groups: Array) -> FloatArray:
    """Return the sums of rows within groups, in the order of these."""
    known, place = np.unique(groups, return_inverse=True)
    sums = np.zeros((len(known), scores.shape[1]))
    np.add.at(sums, place, scores)
    return sums


def _units(rows: Rows, name: str) -> Array:
    """Return the unit of each row fitted."""
    if name not in rows.carried:
        raise DataError(
            f"'{name}' is not carried along with the matrix{nearest(name, list(rows.carried))}",
            remedy=f'Give the source (--data FILE), or write carry = ["{name}"] in [data] and build anew.',
        )
    fitted = np.concatenate([rows.fitted(block) for block in rows.read()])
    units: Array = rows.carried[name][fitted]
    return units
