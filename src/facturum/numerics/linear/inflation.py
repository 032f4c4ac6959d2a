"""Variance inflation and condition numbers, from a triangular factor."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from facturum.numerics.linear.triangular import FloatArray, triangle_of

Array = npt.NDArray[Any]


@dataclass(frozen=True)
class Inflation:
    """How much columns inflate the variances of one another's coefficients.

    Args:
        scaled: the factor of independent columns, each scaled to length 1.
        inverse: of its triangle.

    Example:
        >>> inflation = Inflation.of(np.array([[1.0, 0.6], [0.0, 0.8]]))
        >>> inflation.of_columns().round(6).tolist()
        [1.5625, 1.5625]
    """

    scaled: FloatArray
    inverse: FloatArray

    @classmethod
    def of(cls, matrix: FloatArray) -> Inflation:
        """Return the inflation among the columns of a matrix of full rank."""
        from scipy.linalg import lapack  # loaded when it is needed, for commands to start at once

        length = np.sqrt(np.add.reduce(np.square(matrix), axis=0))
        scaled = triangle_of(np.asfortranarray(matrix / np.where(length > 0, length, 1.0)))
        return cls(scaled, np.triu(lapack.dtrtri(scaled)[0]))

    def of_columns(self) -> FloatArray:
        """Return the variance inflation factor of each column, 1 / (1 - R²) of its regression on the others."""
        with np.errstate(over="ignore"):  # of columns that hardly any double tells from others
            return np.asarray(np.add.reduce(np.square(self.inverse), axis=1))

    def of_group(self, columns: Sequence[int]) -> float:
        """Return the generalised variance inflation factor of columns that belong together.

        It is the ratio of the squared volumes of their joint confidence region (Fox & Monette, "Generalized
        collinearity diagnostics", 1992): det of their own correlations times det of their part of the inverse.
        """
        at = np.asarray(columns, dtype=np.intp)
        with np.errstate(all="ignore"):
            own = np.linalg.qr(self.scaled[:, at], mode="r")
            inverse = np.linalg.qr(self.inverse[at].T, mode="r")
            logs = np.log(np.abs(np.diagonal(own))) + np.log(np.abs(np.diagonal(inverse)))
            return float(np.exp(2 * logs.sum()))

    def regression(self, column: int) -> FloatArray:
        """Return the weights of all scaled columns in the regression of one on the others; its own is 0."""
        with np.errstate(all="ignore"):
            gram = self.inverse @ self.inverse[column]
            weights: FloatArray = -gram / gram[column]
        weights[column] = 0.0
        return weights

    @property
    def condition(self) -> float:
        """The ratio of the largest singular value to the smallest (Belsley, Kuh & Welsch 1980)."""
        if not np.isfinite(self.scaled).all():
            return float("inf")
        values = np.linalg.svd(self.scaled, compute_uv=False)
        return float(values[0] / values[-1]) if len(values) and values[-1] > 0 else float("inf")
