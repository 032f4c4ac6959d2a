"""Least squares from a triangular factor, and refined where that costs little or where digits would be lost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from facturum.data.values import FloatArray
from facturum.errors import DataError, counted
from facturum.numerics.linear.inflation import Inflation
from facturum.numerics.linear.refining import refined
from facturum.numerics.linear.relations import independent, relations
from facturum.numerics.linear.triangular import UNIT, Factor, triangle_of
from facturum.trial.errors.absorbing import absorbed_by
from facturum.trial.fit.rows import Rows

CHEAP = 1e7  # rows times columns squared, up to which the solution is always refined
LOST = 1e-10  # relative error from which on it is refined anyway


@dataclass(frozen=True)
class Solution:
    """Coefficients, and the map from rows to orthonormal coordinates.

    Args:
        columns: which predictors have a coefficient.
        intercept: whether there is one, which comes first among the coefficients.
        rows: how many were fitted.
        coefficients: doubles (k,).
        squares: the sum of squared residuals.
        total: the sum of squares of the response, about its mean if there is an intercept.
        inverse: a root of (X'X)^-1: its rows times their transpose, doubles (k, k).
        centre: what is taken off the predictors before `inverse` would lose digits, doubles (k,) with 0 first.
        absorbed: the degrees of freedom that the groups of a response within these take, of the intercept's too.
    """

    columns: tuple[int, ...]
    intercept: bool
    rows: int
    coefficients: FloatArray
    squares: float
    total: float
    inverse: FloatArray
    centre: FloatArray
    absorbed: int = 0

    @property
    def degrees_of_freedom(self) -> int:
        """The degrees of freedom that are left."""
        return self.rows - len(self.coefficients) - self.absorbed

    @property
    def variance(self) -> float:
        """The estimated variance of the errors."""
        return self.squares / self.degrees_of_freedom

    def augmented(self, X: FloatArray) -> FloatArray:  # noqa: N803 - the field's standard name
        """Return the predictors that have coefficients, after a column of ones if there is an intercept."""
        chosen = X[:, list(self.columns)]
        return np.column_stack([np.ones(len(X)), chosen]) if self.intercept else chosen

    @cached_property
    def _from_centred(self) -> FloatArray:
        """The map from centred rows to coordinates."""
        lift = np.eye(len(self.coefficients))
        if self.intercept:
            lift[0] += self.centre
        return np.asarray(lift @ self.inverse)

    def coordinates(self, X: FloatArray) -> FloatArray:  # noqa: N803
        """Return rows in coordinates in which X'X is the identity, doubles (rows, k)."""
        return np.asarray((self.augmented(X) - self.centre) @ self._from_centred)

    def predicted(self, X: FloatArray) -> FloatArray:  # noqa: N803
        """Return the linear predictor of rows."""
        first = 1 if self.intercept else 0
        every = self.columns == tuple(range(X.shape[1]))
        linear = (X if every else X[:, list(self.columns)]) @ self.coefficients[first:]
        return np.asarray(linear + self.coefficients[0] if first else linear)

    def covariance(self, meat: FloatArray | None = None) -> FloatArray:
        """Return the covariance of the coefficients.

        Args:
            meat: that of the coordinates, doubles (k, k); None for errors that are independent and alike.
        """
        root = self.inverse
        return np.asarray(self.variance * root @ root.T if meat is None else root @ meat @ root.T)


def with_coefficients(factor: Factor, intercept: bool, width: int) -> tuple[int, ...]:
    """Return which of the first columns of a factor have a coefficient of their own.

    A constant column has none beside an intercept, nor has the last column of an exact relation.
    """
    none = factor.constant if intercept else factor.zero
    usable = np.flatnonzero(~none[:width]).tolist()
    return tuple(independent(relations(factor, intercept, usable), usable))


def solve(rows: Rows, to_the_last_digit: bool = True) -> Solution:
    """Return the least-squares coefficients of the rows fitted.

    Args:
        rows: the design.
        to_the_last_digit: whether the solution is refined where that is cheap, too, not only where it is needed.

    Raises:
        DataError: where there are too few rows.
    """
    factor, width = rows.factor(), len(rows.names)
    refuse_few(factor.rows, 1)
    refuse_large(factor)
    columns = with_coefficients(factor, rows.intercept, width)
    groups = absorbed_by(rows.columns)
    absorbed = groups.degrees + (0 if rows.intercept else 1) if groups else 0
    refuse_few(factor.rows, len(columns) + (1 if rows.intercept else 0), absorbed)
    part = factor.of_columns([*columns, width])
    joint = part.centred if rows.intercept else triangle_of(np.asfortranarray(part.raw))
    triangle, right = joint[:-1, :-1], joint[:-1, -1]
    centre = part.mean if rows.intercept else np.zeros(len(columns) + 1)
    squares, total = float(joint[-1, -1] ** 2), float(np.square(joint[:, -1]).sum())
    first = 1 if rows.intercept else 0
    cheap = to_the_last_digit and factor.rows * max(len(columns), 1) ** 2 <= CHEAP
    if cheap or _error(triangle, right, squares) > LOST:
        fine = refined(
            lambda: ((block.X[:, list(columns)], block.y) for block in rows.blocks()), triangle, centre, rows.intercept
        )
        coefficients, squares, inverse = fine.coefficients, fine.squares, fine.inverse
    else:
        coefficients, inverse = _plain(triangle, right, part, rows.intercept)
    padded = np.concatenate([np.zeros(first), centre[:-1]])
    return Solution(columns, rows.intercept, factor.rows, coefficients, squares, total, inverse, padded, absorbed)


def refuse_large(factor: Factor) -> None:
    """Refuse values so large, or so small, that no double holds what is computed of them."""
    if not factor.tame:
        raise DataError(
            "values are too large or too small for a regression",
            remedy="Divide or multiply the column, or take its logarithm.",
        )


def refuse_few(rows: int, columns: int, absorbed: int = 0) -> None:
    """Refuse to fit no coefficient, or as many as there are rows, those that groups take among them."""
    if not columns:
        raise DataError("no column of the matrix varies", remedy="Take other terms, or an intercept.")
    if rows <= columns + absorbed:
        beside = f" beside {absorbed:,} of groups" if absorbed else ""
        raise DataError(
            f"a trial regression of {counted(columns, 'coefficient')}{beside} needs more than {counted(rows, 'row')}",
            remedy="Take fewer terms, pool categories, or keep more rows.",
        )


def _plain(triangle: FloatArray, right: FloatArray, part: Factor, intercept: bool) -> tuple[FloatArray, FloatArray]:
    from scipy.linalg import solve_triangular  # loaded when it is needed, for commands to start at once

    slopes = solve_triangular(triangle, right) if len(right) else np.zeros(0)
    inner = solve_triangular(triangle, np.eye(len(triangle))) if len(right) else np.zeros((0, 0))
    if not intercept:
        return slopes, inner
    mean = part.mean
    inverse = np.zeros((len(slopes) + 1,) * 2)
    inverse[1:, 1:] = inner
    inverse[0, 0] = 1.0 / np.sqrt(part.rows)
    inverse[0, 1:] = -(mean[:-1] @ inner)
    return np.concatenate([[mean[-1] - mean[:-1] @ slopes], slopes]), inverse


def _error(triangle: FloatArray, right: FloatArray, squares: float) -> float:
    """Return about how large the relative error of coefficients is (Higham 2002, section 20.1)."""
    if not len(right):
        return 0.0
    condition = Inflation.of(triangle).condition
    angle = np.sqrt(squares) / max(float(np.linalg.norm(right)), 1e-300)
    return float(UNIT * condition * (1 + condition * angle))


def names_of(rows: Rows, columns: Sequence[int]) -> list[str]:
    """Return the names of coefficients."""
    return [*(["intercept"] if rows.intercept else []), *[rows.names[at] for at in columns]]
