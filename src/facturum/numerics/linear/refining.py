"""Least squares to the last digit: the orthogonal factorisation gives the coordinates, extended precision the rest.

With R of a factorisation in doubles, the columns of Z = X R^-1 are nearly orthonormal even where those of X are nearly
dependent. Z'Z and Z'y are computed with 32 digits, so that the coefficients R^-1 (Z'Z)^-1 Z'y lose none (the idea of
refinement in Bjorck, "Numerical Methods for Least Squares Problems", 1996, section 2.9).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np

from facturum.numerics.exact.double_double import Doubled
from facturum.numerics.linear.triangular import FloatArray

Blocks = Callable[[], Iterable[tuple[FloatArray, FloatArray]]]
_ROUNDS = 4
_ROWS = 8192


@dataclass(frozen=True)
class Refined:
    """A least-squares solution of which hardly a digit is lost.

    Args:
        coefficients: doubles (columns,).
        squares: the sum of squared residuals.
        inverse: a matrix whose product with its transpose is the inverse of X'X, doubles (columns, columns).
    """

    coefficients: FloatArray
    squares: float
    inverse: FloatArray


def refined(blocks: Blocks, triangle: FloatArray, shift: FloatArray, intercept: bool) -> Refined:
    """Return the least-squares solution of rows that are read twice.

    Args:
        blocks: yields X, doubles (rows, columns) without the intercept, and y, doubles (rows,).
        triangle: the factor R of the columns, centred if there is an intercept, doubles (columns, columns).
        shift: about the mean of each column and of y, doubles (columns + 1,); zeros without an intercept.
        intercept: whether a column of ones comes first.

    Example:
        >>> X, y = np.array([[1.0], [2.0], [4.0]]), np.array([3.0, 5.0, 9.0])
        >>> refined(lambda: [(X, y)], np.array([[2.0]]), np.array([2.0, 5.0]), True).coefficients.tolist()
        [1.0, 2.0]
    """
    width = len(triangle) + (1 if intercept else 0)
    products = [[Doubled.of(0.0) for _ in range(width + 1)] for _ in range(width)]
    rows = 0
    for X, y in _in_pieces(blocks):  # noqa: N806 - the field's standard name
        rows += len(y)
        basis = _coordinates(X, triangle, shift, intercept)
        response = _shifted(y, shift[-1])
        for at in range(width):
            for other in range(at, width):
                products[at][other] = products[at][other] + (basis[at] * basis[other]).total()
            products[at][width] = products[at][width] + (basis[at] * response).total()
    solution = _solved(products, width)
    slopes = _back_substituted(triangle, solution[1:] if intercept else solution)
    free = solution[0] + Doubled.of(shift[-1]) if intercept else Doubled.of(0.0)
    for at, slope in enumerate(slopes):
        free = free - slope * Doubled.of(shift[at])
    squares = Doubled.of(0.0)
    for X, y in _in_pieces(blocks):  # noqa: N806
        rest = Doubled.of(y) - free if intercept else Doubled.of(y)
        for at, slope in enumerate(slopes):
            rest = rest - Doubled.of(X[:, at]) * slope
        squares = squares + (rest * rest).total()
    coefficients = [*([free] if intercept else []), *slopes]
    return Refined(
        np.array([float(each.rounded) for each in coefficients]),
        float(squares.rounded),
        _inverse(products, width, triangle, shift, intercept),
    )


def _in_pieces(blocks: Blocks) -> Iterable[tuple[FloatArray, FloatArray]]:
    for X, y in blocks():  # noqa: N806
        for start in range(0, len(y), _ROWS):
            yield X[start : start + _ROWS], y[start : start + _ROWS]


def _shifted(values: FloatArray, by: float) -> Doubled:
    return Doubled.of(values) - Doubled.of(by)


def _coordinates(X: FloatArray, triangle: FloatArray, shift: FloatArray, intercept: bool) -> list[Doubled]:  # noqa: N803
    """Return the columns of Z, by forward substitution."""
    found: list[Doubled] = []
    for at in range(len(triangle)):
        column = _shifted(X[:, at], shift[at])
        for before in range(at):
            column = column - found[before] * Doubled.of(triangle[before, at])
        found.append(column / Doubled.of(triangle[at, at]))
    ones = [Doubled.of(np.ones(len(X)))] if intercept else []
    return [*ones, *found]


def _gram(products: list[list[Doubled]], width: int) -> FloatArray:
    return np.array([[float(products[min(a, b)][max(a, b)].high) for b in range(width)] for a in range(width)])


def _solved(products: list[list[Doubled]], width: int) -> list[Doubled]:
    """Return the solution of Z'Z c = Z'y, refined with residuals of 32 digits."""
    gram = _gram(products, width)
    solution = [Doubled.of(0.0) for _ in range(width)]
    for _ in range(_ROUNDS):
        rest = []
        for at in range(width):
            left = products[at][width]
            for other in range(width):
                left = left - products[min(at, other)][max(at, other)] * solution[other]
            rest.append(float(left.rounded))
        step = np.linalg.solve(gram, np.array(rest))
        solution = [each + Doubled.of(part) for each, part in zip(solution, step, strict=True)]
    return solution


def _back_substituted(triangle: FloatArray, right: list[Doubled]) -> list[Doubled]:
    found = list(right)
    for at in reversed(range(len(triangle))):
        for after in range(at + 1, len(triangle)):
            found[at] = found[at] - Doubled.of(triangle[at, after]) * found[after]
        found[at] = found[at] / Doubled.of(triangle[at, at])
    return found


def _inverse(
    products: list[list[Doubled]], width: int, triangle: FloatArray, shift: FloatArray, intercept: bool
) -> FloatArray:
    """Return a root of the inverse of X'X: the map from coordinates to coefficients times that of (Z'Z)^-1."""
    from scipy.linalg import solve_triangular  # loaded when it is needed, for commands to start at once

    root = np.linalg.inv(np.linalg.cholesky(_gram(products, width))).T
    first = 1 if intercept else 0
    lifted = np.zeros((width, width))
    lifted[first:, first:] = solve_triangular(triangle, np.eye(len(triangle)))
    if intercept:
        lifted[0, 0] = 1.0
        lifted[0, 1:] = -(shift[:-1] @ lifted[1:, 1:])
    return np.asarray(lifted @ root)
