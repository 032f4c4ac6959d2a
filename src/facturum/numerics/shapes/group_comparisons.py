"""Figures that compare groups and items: differences of means, consistency of scales, correlations."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from facturum.numerics.exact.moments import Moments

FloatArray = npt.NDArray[np.float64]
FEWEST = 10
CANCELLED = 1e-13  # a sum of products relative to these up to which it counts as nothing
CONSTANT = 1e-12  # the spread of values relative to their size up to which they count as constant


def welch(groups: Moments) -> tuple[float | None, float | None]:
    """Return the difference of the means of two groups and its t value, for unequal variances.

    The t value is None where either has fewer than ten values, or no variance.

    Args:
        groups: the moments of two columns, a group each.

    Source: Welch, "The generalization of 'Student's' problem when several different population variances are involved"
    (1947).

    Example:
        >>> groups = Moments.of(2)
        >>> groups.put_dense(0, np.arange(10.0))
        >>> groups.put_dense(1, np.arange(10.0) + 3.0)
        >>> welch(groups)
        (-3.0, -2.215646837627989)
    """
    if not groups.count.all():
        return None, None
    with np.errstate(all="ignore"):  # of numbers beyond 1e150, whose squares no double holds
        difference = float(groups.mean[0] - groups.mean[1])
        if groups.count.min() < FEWEST:
            return _finite(difference), None
        spreads = groups.squares / (groups.count - 1)
        error = float(np.sqrt((spreads / groups.count).sum()))
        return _finite(difference), _finite(difference / error) if spreads.min() > 0 else None


def _finite(value: float) -> float | None:
    return value if np.isfinite(value) else None


def correlation(a: FloatArray, b: FloatArray) -> float | None:
    """Return the correlation of two numbers; None where one of them is constant.

    Example:
        >>> correlation(np.array([1.0, 2.0, 3.0]), np.array([2.0, 4.0, 6.0]))
        1.0
    """
    x, y = unit_length(a), unit_length(b)
    return None if x is None or y is None else product_of_units(x, y)


def product_of_units(x: FloatArray, y: FloatArray) -> float:
    """Return the correlation of two numbers that are about their means and of length one."""
    return float(np.clip(np.einsum("i,i->", x, y), -1.0, 1.0))


def unit_length(a: FloatArray) -> FloatArray | None:
    """Return values about their mean, scaled to length one; None where they are constant."""
    if len(a) < 2:
        return None
    largest = float(np.max(np.abs(a)))
    if not largest > 0:
        return None
    about = a / largest
    about -= about.mean()
    length = float(np.sqrt(np.einsum("i,i->", about, about)))
    if not length > CONSTANT * np.sqrt(len(a)):
        return None
    about /= length
    return about


@dataclass(frozen=True)
class Covariances:
    """Sums of products of several items about their means, which merge.

    Args:
        count: complete rows.
        exponent: all else is in units of two to this power, so that no square is beyond the doubles.
        mean: of each item.
        largest: the largest size of each item.
        products: (items, items), the sums of products about the means.
    """

    count: int
    exponent: int
    mean: FloatArray
    largest: FloatArray
    products: FloatArray

    @classmethod
    def of(cls, items: FloatArray) -> Covariances:
        """Return those of some rows.

        Args:
            items: (items, rows), complete rows only.
        """
        width, count = items.shape
        if not count:
            return cls(0, 0, np.zeros(width), np.zeros(width), np.zeros((width, width)))
        largest = np.abs(items).max(axis=1)
        exponent = int(np.frexp(largest.max())[1])
        scaled = np.ldexp(items, -exponent)
        mean = scaled.mean(axis=1)
        about = scaled - mean[:, None]
        return cls(count, exponent, mean, np.ldexp(largest, -exponent), np.einsum("in,jn->ij", about, about))

    def merge(self, other: Covariances) -> Covariances:
        """Return those of the rows of both.

        Source: Chan, Golub & LeVeque, "Algorithms for computing the sample variance" (1983).
        """
        if not self.count or not other.count:
            return other if not self.count else self
        exponent, count = max(self.exponent, other.exponent), self.count + other.count
        a, b = self._in_units(exponent), other._in_units(exponent)
        apart, share = b.mean - a.mean, b.count / count
        products = a.products + b.products + np.outer(apart, apart) * (a.count * share)
        return Covariances(count, exponent, a.mean + apart * share, np.maximum(a.largest, b.largest), products)

    def _in_units(self, exponent: int) -> Covariances:
        by = self.exponent - exponent
        return Covariances(
            self.count, exponent, np.ldexp(self.mean, by), np.ldexp(self.largest, by), np.ldexp(self.products, 2 * by)
        )


def scale_figures(sums: Covariances) -> tuple[float | None, list[float | None]]:
    """Return coefficient alpha of a scale, and each item's correlation with the sum of the others.

    Source: Cronbach, "Coefficient alpha and the internal structure of tests" (1951).

    Example:
        >>> scale_figures(Covariances.of(np.array([[1.0, 2.0, 3.0], [1.0, 2.0, 3.0]])))
        (1.0, [1.0, 1.0])
    """
    width, products = len(sums.mean), sums.products
    if sums.count < 2:
        return None, [None] * width
    whole = float(products.sum())
    alpha = width / (width - 1) * (1 - float(np.trace(products)) / whole) if whole > 0 else None
    return alpha, [_item_rest(sums, at) for at in range(width)]


def _item_rest(sums: Covariances, item: int) -> float | None:
    """Return the correlation of an item with the sum of the others; None where one of both is constant."""
    others = np.arange(len(sums.mean)) != item
    of_others = sums.products[np.ix_(others, others)]
    own, rest = float(sums.products[item, item]), float(of_others.sum())
    if not own > sums.count * (CONSTANT * sums.largest[item]) ** 2 or not rest > CANCELLED * np.abs(of_others).sum():
        return None
    return float(np.clip(sums.products[item, others].sum() / np.sqrt(own * rest), -1.0, 1.0))
