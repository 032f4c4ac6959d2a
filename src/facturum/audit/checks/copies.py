"""Predictors that are one-to-one with the response, row by row increasing or decreasing with it."""

from __future__ import annotations

import numpy as np

from facturum.data.values import FloatArray

_LOOKED_AT = 1024  # rows of the first leaf, after which few columns are left to look at
FEWEST = 12  # rows from which on a common order is no chance


class Copies:
    """Which columns are a strictly increasing or decreasing function of the response, in all rows seen.

    Each leaf is brought into the order of the response; between leaves, the rows with the smallest and the largest
    response are compared.

    Args:
        width: how many columns there are.
    """

    def __init__(self, width: int) -> None:
        self._candidates: dict[int, int] = {}  # of each column left, the direction
        self._ends: dict[int, list[tuple[float, float]]] = {at: [] for at in range(width)}
        self._width = width
        self._begun = False
        self.rows = 0

    def see(self, block: FloatArray, y: FloatArray) -> None:
        """Look at the rows of a leaf."""
        known = ~np.isnan(y)
        if not known.any():
            return
        if not self._begun:
            self._begun = True
            some = np.flatnonzero(known)[:_LOOKED_AT]
            order = some[np.argsort(y[some], kind="stable")]
            directions = {at: _direction(block[order, at], y[order]) for at in range(self._width)}
            self._candidates = {at: way for at, way in directions.items() if way}
        self.rows += int(np.count_nonzero(known))
        if not self._candidates:
            return
        rows = np.flatnonzero(known)
        order = rows[np.argsort(y[rows], kind="stable")]
        for at, way in list(self._candidates.items()):
            x = block[order, at]
            self._ends[at] += [(float(y[order[0]]), float(x[0])), (float(y[order[-1]]), float(x[-1]))]
            if _direction(x, y[order]) != way and len(np.unique(y[order])) > 1:
                del self._candidates[at]

    def found(self) -> list[int]:
        """Return the columns that are a copy of the response."""
        if self.rows < FEWEST:
            return []
        copies = []
        for at, way in self._candidates.items():
            y, x = (np.array(values) for values in zip(*sorted(self._ends[at]), strict=True))
            if len(y) == 2 or _direction(x, y) == way:
                copies.append(at)
        return copies


def _direction(x: FloatArray, y: FloatArray) -> int:
    """Return 1 or -1 where values are one-to-one with an increasing response and in its order, else 0.

    Example:
        >>> _direction(np.array([3.0, 3.0, 2.0, -1.0]), np.array([1.0, 1.0, 5.0, 6.0]))
        -1
    """
    if np.isnan(x).any():
        return 0
    up, before, after = y[1:] > y[:-1], x[:-1], x[1:]
    if np.count_nonzero(up) < 2 or (after[~up] != before[~up]).any():
        return 0
    if (after[up] > before[up]).all():
        return 1
    return -1 if (after[up] < before[up]).all() else 0
