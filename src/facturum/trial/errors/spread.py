"""How far coefficients, and sums of them, may be off: standard errors and joint tests, where they are defined."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from facturum.data.values import FloatArray
from facturum.trial.errors.covariances import Meat
from facturum.trial.fit.solving import Solution

SINGULAR = 1e-10  # the smallest eigenvalue of a correlation matrix as a share of the largest, below which it is one
ROUNDING = 1e-14  # of the variance of residuals
UNSEEN = 1e-7  # the share of a sum of coefficients that may lie in directions in which nothing is known


@dataclass(frozen=True)
class Spread:
    """The covariance of coefficients, and where it says nothing.

    Args:
        covariance: doubles (k, k).
        root: a root of (X'X)^-1, doubles (k, k).
        meat: how it came about.
        free: the degrees of freedom of tests; None for the normal distribution.
        floor: a variance in orthonormal coordinates up to which one is rounding, since the errors of each unit cancel.
    """

    covariance: FloatArray
    root: FloatArray
    meat: Meat
    free: int | None
    floor: float = 0.0

    @classmethod
    def of(cls, solution: Solution, meat: Meat, likelihood: bool) -> Spread:
        """Return that of a solution.

        Args:
            solution: the coefficients.
            meat: the covariance in orthonormal coordinates.
            likelihood: whether the solution maximises one, for which tests by units alone have degrees of freedom.
        """
        root = solution.inverse
        plain = likelihood and meat.matrix is None
        covariance = root @ root.T if plain else solution.covariance(meat.matrix)
        by_units = meat.text.startswith("clustered")
        floor = 0.0 if likelihood or meat.matrix is None else ROUNDING * solution.squares / solution.rows
        return cls(covariance, root, meat, meat.degrees_of_freedom if by_units or not likelihood else None, floor)

    def error(self, weights: FloatArray) -> float | None:
        """Return the standard error of a weighted sum of coefficients; None where it is not defined."""
        variance = float(weights @ self.covariance @ weights)
        along = weights @ self.root
        cancelled = variance <= self.floor * float(along @ along) if self.floor else variance < 0
        if self._blind(weights) or cancelled or not np.isfinite(variance):
            return None
        return float(np.sqrt(variance))

    def errors(self) -> list[float | None]:
        """Return the standard error of each coefficient."""
        return [self.error(weights) for weights in np.eye(len(self.covariance))]

    def _blind(self, weights: FloatArray) -> bool:
        if self.meat.blind is None:
            return False
        along = weights @ self.root
        return bool(np.linalg.norm(along @ self.meat.blind) > UNSEEN * np.linalg.norm(along))

    def statistic(self, at: Sequence[int], coefficients: FloatArray) -> tuple[float | None, str]:
        """Return Wald's statistic that some coefficients are 0, over their number, or why it is not defined."""
        if any(self._blind(weights) for weights in np.eye(len(self.covariance))[list(at)]):
            return None, f"not defined: {self.meat.reason} some of its coefficients"
        own = self.covariance[np.ix_(at, at)]
        defined = all(self.error(weights) is not None for weights in np.eye(len(self.covariance))[list(at)])
        sizes = np.sqrt(np.diagonal(own)) if defined and (np.diagonal(own) > 0).all() else None
        by_units = self.meat.text.startswith("clustered")
        if by_units and len(at) > self.meat.degrees_of_freedom:
            most = self.meat.degrees_of_freedom + 1
            return None, f"not defined: {len(at)} coefficients cannot be tested jointly with {most} units"
        if sizes is None:
            return None, "not defined: the variance of a coefficient is not positive"
        values, vectors = np.linalg.eigh(own / np.outer(sizes, sizes))
        if values[0] <= SINGULAR * values[-1]:
            return None, "not defined: the covariance of its coefficients is singular"
        parts = vectors.T @ (coefficients[list(at)] / sizes)
        return float(np.sum(np.square(parts) / values)) / len(at), ""
