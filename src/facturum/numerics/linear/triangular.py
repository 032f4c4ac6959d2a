"""The triangular factor of a matrix, merged block by block: all that rank, inflation and least squares need of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
BLOCK = 4096  # rows factored at a time, which stay in the processor's cache
_PANEL = 32
_LARGEST = 1e75  # so that the square of a quotient of two columns is a double
UNIT = 2.0**-53
ROUNDINGS = 64.0  # in the last place of the largest part of a column, that do not count


@dataclass(frozen=True)
class Factor:
    """The upper triangle of an orthogonal factorisation of rows, beside a column of ones.

    The cross products of the ones and the columns, each less its shift, are those of the triangle. The ones come first,
    so that the triangle without its first row and column is the factor of the centred columns. Blocks of rows are
    factored one by one, and their triangles stacked and factored again (Golub & Van Loan, "Matrix Computations", 4th
    edition, section 5.1.7), so that memory does not grow with the rows.

    Args:
        rows: how many there are.
        shift: what was taken off each column (columns,).
        triangle: doubles (columns + 1, columns + 1), zero below the diagonal.

    Example:
        >>> X = np.array([[1.0, 2.0], [2.0, 3.0], [6.0, 1.0]])
        >>> factor = Factor.of([X], np.zeros(2))
        >>> factor.mean.round(9).tolist(), np.abs(factor.centred[0, 0]).round(4).item()
        ([3.0, 2.0], 3.7417)
    """

    rows: int
    shift: FloatArray
    triangle: FloatArray

    @classmethod
    def of(cls, parts: Sequence[FloatArray], shift: FloatArray, take: Any = None) -> Factor:
        """Return the factor of some rows.

        Args:
            parts: matrices (rows, some columns), side by side.
            shift: what is taken off each of all columns.
            take: which rows, as an index; None for all.
        """
        width = len(shift) + 1
        length = len(parts[0]) if take is None else len(take)
        triangle = np.zeros((width, width))
        for start in range(0, length, BLOCK):
            stop = min(start + BLOCK, length)
            block = np.empty((width + stop - start, width), order="F")
            block[:width] = triangle
            block[width:, 0] = 1.0
            at = 1
            for part in parts:
                rows = part[start:stop] if take is None else part[take[start:stop]]
                with np.errstate(over="ignore"):  # which `tame` tells of
                    own = block[width:, at : at + rows.shape[1]]
                    np.subtract(rows, shift[at - 1 : at - 1 + rows.shape[1]], out=own)
                at += rows.shape[1]
            triangle = triangle_of(block)
        return cls(length, shift, triangle)

    @classmethod
    def merged(cls, factors: Sequence[Factor]) -> Factor:
        """Return the factor of the rows of all, which have one shift, taken in their order."""
        some = [factor for factor in factors if factor.rows] or list(factors[:1])
        total = some[0]
        for other in some[1:]:
            stacked = np.asfortranarray(np.vstack([total.triangle, other.triangle]))
            total = cls(total.rows + other.rows, total.shift, triangle_of(stacked))
        return total

    @property
    def tame(self) -> bool:
        """Whether all is so far from the largest double, and from the smallest, that coefficients can be computed."""
        size = max(np.abs(self.triangle).max(initial=0.0), np.abs(self.shift).max(initial=0.0))
        if not size < _LARGEST:  # nor where it is no number
            return False
        sizes = np.concatenate([np.abs(each).max(axis=0, initial=0.0) for each in (self.centred, self.raw)])
        return bool((sizes[sizes > 0] > 1 / _LARGEST).all())

    def of_columns(self, columns: Sequence[int] | npt.NDArray[Any]) -> Factor:
        """Return the factor of some of the columns, in the order given."""
        columns = np.asarray(columns, dtype=np.intp)
        chosen = np.asfortranarray(self.triangle[:, np.concatenate([[0], columns + 1])])
        return Factor(self.rows, self.shift[columns], triangle_of(chosen))

    @cached_property
    def mean(self) -> FloatArray:
        """The mean of each column."""
        if not self.rows:
            return self.shift.copy()
        means: FloatArray = self.shift + self.triangle[0, 1:] / self.triangle[0, 0]
        return means

    @property
    def centred(self) -> FloatArray:
        """The factor of the centred columns, doubles (columns, columns)."""
        return self.triangle[1:, 1:]

    @cached_property
    def raw(self) -> FloatArray:
        """A matrix with the cross products of the columns as they are, neither centred nor shifted."""
        lifted: FloatArray = self.triangle[:, 1:].copy()
        lifted[0] += self.triangle[0, 0] * self.shift
        return lifted

    @cached_property
    def spread(self) -> FloatArray:
        """The root of the sum of squared deviations of each column."""
        return np.asarray(np.sqrt(np.add.reduce(np.square(self.centred), axis=0)))

    @cached_property
    def size(self) -> FloatArray:
        """The root of the sum of squares of each column, or of its shift where that is larger: roundings go with it."""
        raw = np.sqrt(np.add.reduce(np.square(self.raw), axis=0))
        return np.asarray(np.maximum(raw, np.abs(self.shift) * np.sqrt(self.rows)))

    @cached_property
    def constant(self) -> npt.NDArray[np.bool_]:
        """Which columns do not vary, beyond roundings."""
        return np.asarray(self.spread <= ROUNDINGS * UNIT * self.size)

    @cached_property
    def zero(self) -> npt.NDArray[np.bool_]:
        """Which columns are zero in all rows, beyond roundings.

        Example:
            >>> Factor.of([np.zeros((3, 1))], np.array([0.125])).zero.tolist()
            [True]
        """
        raw = np.sqrt(np.add.reduce(np.square(self.raw), axis=0))
        return np.asarray(raw <= ROUNDINGS * UNIT * self.size)

    @cached_property
    def sd(self) -> FloatArray:
        """The standard deviation of each column, with divisor rows - 1."""
        return np.asarray(self.spread / np.sqrt(max(self.rows - 1, 1)))


def triangle_of(matrix: FloatArray) -> FloatArray:
    """Return the upper triangle of the orthogonal factorisation of a matrix in Fortran's order, which is written over.

    Example:
        >>> triangle_of(np.array([[3.0], [4.0]], order="F"))
        array([[-5.]])
    """
    from scipy.linalg import lapack  # loaded when it is needed, for commands to start at once

    width = matrix.shape[1]
    if not width or not len(matrix):
        return np.zeros((width, width))
    factored = lapack.dgeqrf(matrix, lwork=_PANEL * max(width, 1), overwrite_a=1)[0]
    triangle = np.zeros((width, width))
    height = min(width, len(factored))
    triangle[:height] = np.triu(factored[:height])
    return triangle
