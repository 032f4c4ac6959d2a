"""The rows with the largest leverage, and those with the most extreme value of each column."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from facturum.numerics.linear.triangular import BLOCK, Factor, FloatArray, triangle_of

Array = npt.NDArray[Any]
LISTED = 10


@dataclass(frozen=True)
class Leverages:
    """The largest leverages of the rows seen, and for each column the row farthest from its mean.

    The leverage of a row is the diagonal element of the projection onto the columns, computed from the triangular
    factor R as the squared length of x R^-1 (Belsley, Kuh & Welsch, "Regression Diagnostics", 1980, section 2.1).

    Args:
        columns: the independent columns that it is computed from.
        mean: of these.
        factor: their triangular factor.
        base: what the intercept adds.
        centre: of all columns.
        values: the largest leverages, decreasing.
        rows: their source row numbers.
        farthest: of each column, the largest distance from its mean.
        farthest_rows: the source row of that.
    """

    columns: Array
    mean: FloatArray
    factor: FloatArray
    base: float
    centre: FloatArray
    values: FloatArray
    rows: Array
    farthest: FloatArray
    farthest_rows: Array

    @classmethod
    def of(cls, factor: Factor, columns: Sequence[int], intercept: bool, width: int) -> Leverages:
        """Return those of no rows yet.

        Args:
            factor: of all rows.
            columns: independent ones.
            intercept: whether the matrix has an intercept, which the columns are centred for.
            width: how many columns there are.
        """
        chosen = np.asarray(columns, dtype=np.intp)
        part = factor.of_columns(chosen)
        if intercept:
            triangle, mean, base = part.centred, part.mean, 1.0 / max(factor.rows, 1)
        else:
            triangle, mean, base = triangle_of(np.asfortranarray(part.raw)), np.zeros(len(chosen)), 0.0
        none = np.zeros(0)
        centre = factor.mean[:width]
        return cls(chosen, mean, triangle, base, centre, none, none.astype(np.int64), np.zeros(width),
                   np.zeros(width, dtype=np.int64))  # fmt: skip

    def seen(self, block: FloatArray, numbers: Array) -> Leverages:
        """Return those of further rows alone.

        Args:
            block: doubles (rows, columns).
            numbers: their source rows.
        """
        leverages = np.empty(len(block))
        farthest, places = np.zeros(len(self.centre)), np.zeros(len(self.centre), dtype=np.int64)
        for start in range(0, len(block), BLOCK):
            rows = block[start : start + BLOCK]
            leverages[start : start + BLOCK] = self.base + leverage(rows[:, self.columns], self.mean, self.factor)
            self._look_far(rows, start, farthest, places)
        known = np.flatnonzero(~np.isnan(leverages))
        return self._largest(leverages[known], numbers[known], farthest, numbers[places])

    def _look_far(self, rows: FloatArray, start: int, farthest: FloatArray, places: Array) -> None:
        away = np.abs(rows - self.centre)
        away[np.isnan(away)] = 0.0
        at = np.argmax(away, axis=0)
        most = away[at, range(away.shape[1])]
        further = most > farthest
        farthest[further], places[further] = most[further], start + at[further]

    def _largest(self, values: FloatArray, rows: Array, farthest: FloatArray, far_rows: Array) -> Leverages:
        order = np.lexsort((rows, -values))[:LISTED]
        return replace(self, values=values[order], rows=rows[order], farthest=farthest, farthest_rows=far_rows)

    def merged(self, other: Leverages) -> Leverages:
        """Return those of the rows of both."""
        further = other.farthest > self.farthest
        return self._largest(
            np.concatenate([self.values, other.values]),
            np.concatenate([self.rows, other.rows]),
            np.where(further, other.farthest, self.farthest),
            np.where(further, other.farthest_rows, self.farthest_rows),
        )


def leverage(rows: FloatArray, mean: FloatArray, factor: FloatArray) -> FloatArray:
    """Return the leverage of rows, without what an intercept adds.

    Example:
        >>> x = np.array([[1.0], [2.0], [6.0]])
        >>> leverage(x, np.array([3.0]), np.array([[np.sqrt(14.0)]])).round(6).tolist()
        [0.285714, 0.071429, 0.642857]
    """
    from scipy.linalg import blas  # loaded when it is needed, for commands to start at once

    if not rows.shape[1]:
        return np.zeros(len(rows))
    centred = np.empty(rows.shape, order="F")
    np.subtract(rows, mean, out=centred)
    solved = blas.dtrsm(1.0, factor, centred, side=1, overwrite_b=1)
    np.multiply(solved, solved, out=solved)
    total: FloatArray = np.add.reduce(solved, axis=1)
    return total
