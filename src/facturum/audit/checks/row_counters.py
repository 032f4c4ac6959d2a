"""Predictors that count the rows, as an id does."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from facturum.data.values import FloatArray

FEWEST = 12  # rows from which on counting is no chance


class Counting:
    """Which columns hold whole numbers that increase from row to row, in all rows seen.

    Args:
        candidates: the columns looked at.

    Attributes:
        left: those that count so far, with the last value of each.
    """

    def __init__(self, candidates: Iterable[int]) -> None:
        self.left = dict.fromkeys(candidates, -np.inf)
        self.rows = 0

    def see(self, block: FloatArray) -> None:
        """Look at the rows of a leaf, in the order of the table."""
        self.rows += len(block)
        for at, last in list(self.left.items()):
            first = block[:64, at]  # by which nearly all columns are told
            if _counts(first, last) and _counts(block[:, at], last):
                self.left[at] = float(block[-1, at])
            else:
                del self.left[at]

    def found(self) -> list[int]:
        """Return the columns that count the rows."""
        return list(self.left) if self.rows >= FEWEST else []


def _counts(values: FloatArray, last: float) -> bool:
    """Return whether whole numbers increase, from the last one before them.

    Example:
        >>> _counts(np.array([4.0, 5.0, 9.0]), 3.0), _counts(np.array([4.0, 4.0]), 3.0)
        (True, False)
    """
    if not len(values):
        return True
    return bool(values[0] > last and (values[1:] > values[:-1]).all() and (values == np.floor(values)).all())
