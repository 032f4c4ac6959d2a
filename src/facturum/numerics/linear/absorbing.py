"""The triangular factor of columns beside thousands of indicators that exclude one another, which are never formed.

The indicators of one category and the intercept span what the means of the categories span: columns less their means
within categories are what a factorisation of all columns would leave of them (Frisch & Waugh 1933).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from facturum.numerics.linear.triangular import BLOCK, Factor, FloatArray, triangle_of

Array = npt.NDArray[Any]


@dataclass(frozen=True)
class Absorbed:
    """Rows of some columns, less their means within groups.

    Args:
        counts: how many rows each group has.
        means: of each column in each group, doubles (groups, columns); 0 in groups without rows.
        triangle: of the columns less these, doubles (columns, columns).

    Example:
        >>> block, groups = np.array([[1.0], [3.0], [5.0]]), np.array([0, 0, 1])
        >>> found = Absorbed.of(block, groups, 2)
        >>> found.means.ravel().tolist(), abs(found.triangle[0, 0]).round(6).item()
        ([2.0, 5.0], 1.414214)
    """

    counts: FloatArray
    means: FloatArray
    triangle: FloatArray

    @classmethod
    def of(cls, block: FloatArray, groups: Array, size: int) -> Absorbed:
        """Return the same of some rows.

        Args:
            block: doubles (rows, columns).
            groups: of each row.
            size: how many groups there are.
        """
        counts = np.bincount(groups, minlength=size).astype(np.float64)
        sums = np.stack([np.bincount(groups, weights=column, minlength=size) for column in block.T], axis=1)
        means = sums / np.maximum(counts, 1.0)[:, None]
        triangle = np.zeros((block.shape[1],) * 2)
        for start in range(0, len(block), BLOCK):
            rows = slice(start, start + BLOCK)
            within = block[rows] - means[groups[rows]]
            triangle = triangle_of(np.asfortranarray(np.vstack([triangle, within])))
        return cls(counts, means, triangle)

    @classmethod
    def merged(cls, parts: Sequence[Absorbed]) -> Absorbed:
        """Return the same of the rows of all, taken in their order."""
        total = parts[0]
        for other in parts[1:]:
            counts = total.counts + other.counts
            share = other.counts / np.maximum(counts, 1.0)
            apart = other.means - total.means
            both = np.flatnonzero((total.counts > 0) & (other.counts > 0))
            weight = np.sqrt(total.counts[both] * share[both])
            rows = np.vstack([total.triangle, other.triangle, apart[both] * weight[:, None]])
            means = np.where(total.counts[:, None] > 0, total.means + apart * share[:, None], other.means)
            total = cls(counts, means, triangle_of(np.asfortranarray(rows)))
        return total

    def factor(self) -> Factor:
        """Return the factor of what the groups leave of the columns, with their overall means."""
        rows = int(self.counts.sum())
        mean = (self.counts @ self.means) / max(rows, 1)
        triangle = np.zeros((len(mean) + 1,) * 2)
        triangle[0, 0] = np.sqrt(rows)
        triangle[1:, 1:] = self.triangle
        return Factor(rows, mean, triangle)
