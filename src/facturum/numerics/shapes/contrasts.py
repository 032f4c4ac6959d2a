"""The columns of each contrast coding, from exact arithmetic."""

from __future__ import annotations

import math
from fractions import Fraction


def difference_steps(count: int) -> list[tuple[float, float]]:
    """Return, for each column of the difference coding, its value before the step and from the step on.

    Column j has -(k-j)/k for the first j categories and j/k for the others, so that its coefficient is the mean of
    category j less the mean of the one before. Source: Venables & Ripley, "Modern Applied Statistics with S"
    (2002), section 6.2.

    Example:
        >>> difference_steps(4)
        [(-0.75, 0.25), (-0.5, 0.5), (-0.25, 0.75)]
    """
    return [(-(count - j) / count, j / count) for j in range(1, count)]


def helmert_steps(count: int) -> list[tuple[float, float]]:
    """Return, for each column of the Helmert coding, its value for the earlier categories and for its own.

    Scaled so that the coefficient is the mean of a category less the mean of the means of those before it.

    Example:
        >>> helmert_steps(3)
        [(-0.5, 0.5), (-0.3333333333333333, 0.6666666666666666)]
    """
    return [(-1 / (j + 1), j / (j + 1)) for j in range(1, count)]


def polynomial_contrasts(count: int) -> list[list[float]]:
    """Return the orthogonal polynomials over ``count`` equally spaced points, each of length one.

    The Gram polynomials are computed in whole fractions and rounded once. Source: Forsythe, "Generation and use of
    orthogonal polynomials for data-fitting" (1957).

    Example:
        >>> [[round(value, 6) for value in column] for column in polynomial_contrasts(3)]
        [[-0.707107, 0.0, 0.707107], [0.408248, -0.816497, 0.408248]]
    """
    points = [Fraction(2 * i - (count - 1), 2) for i in range(count)]
    before = [Fraction(0)] * count
    current = [Fraction(1)] * count
    size_before = Fraction(1)
    columns = []
    for degree in range(1, count):
        size = sum((value * value for value in current), Fraction(0))
        share = size / size_before if degree > 1 else Fraction(0)
        following = [x * p - share * q for x, p, q in zip(points, current, before, strict=True)]
        before, current, size_before = current, following, size
        norm = sum((value * value for value in current), Fraction(0))
        columns.append([_signed_root(value, norm) for value in current])
    return columns


def _signed_root(value: Fraction, norm: Fraction) -> float:
    return math.copysign(math.sqrt(value * value / norm), value) if value else 0.0
