"""The cells of a histogram."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
WIDEST = 2.0**52
LARGE = 1e150  # from which on differences of values may overflow


class Cells:
    """Counts values in cells of equal width: first all values are seen, then all are counted.

    Cells of whole numbers begin at whole numbers, so that each holds equally many, and none stands out for having one
    more.

    Args:
        most: how many cells there may be.

    Example:
        >>> cells = Cells(40)
        >>> for work in (cells.see, cells.count):
        ...     work(np.array([0.0, 3.0, 100.0]))
        >>> cells.ends, cells.counts[:3].tolist(), len(cells.counts)
        ((0.0, 102.0), [1, 1, 0], 34)
    """

    def __init__(self, most: int) -> None:
        self._most = most
        self._low, self._high, self._whole = np.inf, -np.inf, True
        self.counts: npt.NDArray[Any] = np.zeros(0, dtype=np.int64)

    def see(self, values: FloatArray) -> None:
        """Take note of the smallest and the largest value, and whether all are whole numbers."""
        if len(values):
            self._low, self._high = min(self._low, float(values.min())), max(self._high, float(values.max()))
            self._whole = self._whole and all_whole(values)

    @property
    def _whole_cells(self) -> tuple[int, int] | None:
        return whole_cells(self._low, self._high, self._most) if self._whole else None

    @property
    def ends(self) -> tuple[float, float] | None:
        """Where the cells begin and end; None without two different values."""
        if not self._low < self._high:
            return None
        whole = self._whole_cells
        return (self._low, self._high) if whole is None else (self._low, self._low + whole[0] * whole[1])

    def count(self, values: FloatArray) -> None:
        """Count values in the cells."""
        if self.ends is None:
            return
        low, high = self._low, self._high
        if (whole := self._whole_cells) is not None:
            width, number = whole
            place = np.floor((values - low) / width).astype(np.int64)
        else:
            number = self._most
            half = max(abs(low), abs(high)) / 2  # so that the width does not overflow
            scale = half if half > LARGE else 1.0
            share = (values / scale - low / scale) / (high / scale - low / scale)
            place = np.clip(np.floor(share * number).astype(np.int64), 0, number - 1)
        counts = np.bincount(place, minlength=number)
        self.counts = counts if not len(self.counts) else self.counts + counts


def whole_cells(low: float, high: float, most: int) -> tuple[int, int] | None:
    """Return the width and the number of cells for whole numbers between two; None where they are too large.

    Args:
        low, high: the smallest and the largest number.
        most: how many cells there may be.

    Example:
        >>> whole_cells(0.0, 100.0, 40)
        (3, 34)
    """
    if not (abs(low) < WIDEST and abs(high) < WIDEST):
        return None
    numbers = int(high) - int(low) + 1
    width = -(-numbers // most)
    return width, -(-numbers // width)


def all_whole(values: FloatArray) -> bool:
    """Return whether all values are whole numbers; as a rule the first few show it where they are not."""
    return all(bool((part == np.floor(part)).all()) for part in (values[:1000], values))
