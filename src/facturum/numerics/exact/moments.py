"""Moments of matrix columns: counts, extremes, mean and spread, merged leaf by leaf."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
FEW = 64
FEW_MISSING = 0.9  # of the rows present, from which on the places of the others are written one by one
_MEMORY = threading.local()
Columns = npt.NDArray[Any] | slice


@dataclass(frozen=True)
class Moments:
    """For each of some columns: count, extremes, mean, sum of squared deviations, and how many are not zero.

    Merging follows Chan, Golub & LeVeque, "Algorithms for computing the sample variance" (1983); it is done in the
    order of the leaves, so that the result depends on neither threads nor blocks.

    Example:
        >>> first, second = Moments.of(1), Moments.of(1)
        >>> first.put_dense(0, np.array([1.0, 2.0]))
        >>> second.put_dense(0, np.array([3.0]))
        >>> Moments.merged([first, second]).sd(0)
        1.0
    """

    count: FloatArray
    smallest: FloatArray
    largest: FloatArray
    mean: FloatArray
    squares: FloatArray
    nonzero: FloatArray

    @classmethod
    def of(cls, width: int) -> Moments:
        """Return the moments of so many columns without values."""
        zeros = [np.zeros(width) for _ in range(4)]
        return cls(zeros[0], np.full(width, np.inf), np.full(width, -np.inf), zeros[1], zeros[2], zeros[3])

    @classmethod
    def merged(cls, parts: Sequence[Moments]) -> Moments:
        """Return the moments of all parts together, taken in their order."""
        total = parts[0]
        for part in parts[1:]:
            total = total._merge(part)
        return total

    def put_dense(self, column: int, values: FloatArray) -> None:
        """Enter the values of one column, all finite."""
        count = len(values)
        if not count:
            return
        smallest, largest = float(np.minimum.reduce(values)), float(np.maximum.reduce(values))
        mean = float(np.add.reduce(values)) / count
        about = np.subtract(values, mean, out=_scratch(count))
        self.count[column] = count
        self.smallest[column], self.largest[column] = smallest, largest
        self.mean[column] = mean
        np.multiply(about, about, out=about)
        self.squares[column] = np.add.reduce(about)
        self.nonzero[column] = count if smallest > 0 or largest < 0 else np.count_nonzero(values)

    def put_missing(self, column: int, values: FloatArray, missing: npt.NDArray[np.bool_]) -> None:
        """Enter the values of one column, all finite, but for those that are missing, which become NaN."""
        count = len(values) - int(np.count_nonzero(missing))
        places = np.flatnonzero(missing) if count > FEW_MISSING * len(values) else missing
        values[places] = 0.0
        mean = float(np.add.reduce(values)) / count if count else 0.0
        about = np.subtract(values, mean, out=_scratch(len(values)))
        about[places] = 0.0
        values[places] = np.nan
        if not count:
            return
        smallest, largest = float(np.fmin.reduce(values)), float(np.fmax.reduce(values))
        self.count[column] = count
        self.smallest[column], self.largest[column] = smallest, largest
        self.mean[column] = mean
        np.multiply(about, about, out=about)
        self.squares[column] = np.add.reduce(about)
        zero_free = smallest > 0 or largest < 0
        self.nonzero[column] = count if zero_free else count - np.count_nonzero(values == 0.0)

    def put_zeros(self, columns: slice, total: int) -> None:
        """Enter columns that are zero in every row."""
        self.count[columns] = total
        self.smallest[columns] = self.largest[columns] = 0.0

    def put_ones(self, columns: Columns, ones: npt.NDArray[Any], total: int) -> None:
        """Enter columns of zeros and ones, by how many ones each has."""
        if not total:
            return
        self.count[columns] = total
        self.smallest[columns] = np.where(ones < total, 0.0, 1.0)
        self.largest[columns] = np.where(ones > 0, 1.0, 0.0)
        self.mean[columns] = ones / total
        self.squares[columns] = ones * ((total - ones) / total)
        self.nonzero[columns] = ones

    def put_groups(
        self, columns: Columns, values: FloatArray, starts: npt.NDArray[Any], sizes: npt.NDArray[Any], total: int
    ) -> None:
        """Enter columns that are zero but for one run of the values each.

        Args:
            columns: the columns, one for each run.
            values: the values of all runs, one run after the other.
            starts: where each run begins; no run is empty.
            sizes: how long each run is.
            total: how many rows there are, zeros included.
        """
        sums = np.add.reduceat(values, starts)
        means = sums / sizes
        about = deviations(values, means, sizes)
        np.multiply(about, about, out=about)
        zeros = total - sizes
        smallest, largest = np.minimum.reduceat(values, starts), np.maximum.reduceat(values, starts)
        self.count[columns] = total
        self.smallest[columns] = np.where(zeros > 0, np.minimum(smallest, 0.0), smallest)
        self.largest[columns] = np.where(zeros > 0, np.maximum(largest, 0.0), largest)
        self.mean[columns] = sums / total
        self.squares[columns] = np.add.reduceat(about, starts) + means * means * (sizes * (zeros / total))
        zero_free = bool(((smallest > 0) | (largest < 0)).all())
        self.nonzero[columns] = sizes if zero_free else np.add.reduceat(values != 0, starts, dtype=np.int64)

    def sd(self, column: int) -> float:
        """Return the sample standard deviation (divisor n - 1) of a column; NaN for fewer than two values."""
        count = float(self.count[column])
        return float(np.sqrt(self.squares[column] / (count - 1))) if count > 1 else float("nan")

    def _merge(self, other: Moments) -> Moments:
        count = self.count + other.count
        with np.errstate(all="ignore"):
            share = np.where(count > 0, other.count / count, 0.0)
            apart = other.mean - self.mean
            return Moments(
                count,
                np.minimum(self.smallest, other.smallest),
                np.maximum(self.largest, other.largest),
                np.where(other.count > 0, self.mean + apart * share, self.mean),
                self.squares + other.squares + apart * apart * (self.count * share),
                self.nonzero + other.nonzero,
            )


def _scratch(length: int) -> FloatArray:
    """Return memory of this thread to compute in; fresh memory would cost more than what is computed in it."""
    memory: FloatArray | None = getattr(_MEMORY, "scratch", None)
    if memory is None or len(memory) < length:
        memory = _MEMORY.scratch = np.empty(length)
    return memory[:length]


def deviations(values: FloatArray, means: FloatArray, sizes: npt.NDArray[Any]) -> FloatArray:
    """Return the values less the mean of their run; runs lie one after the other.

    Example:
        >>> deviations(np.array([1.0, 3.0, 7.0]), np.array([2.0, 7.0]), np.array([2, 1]))
        array([-1.,  1.,  0.])
    """
    if len(sizes) > FEW:
        return np.subtract(values, np.repeat(means, sizes))
    about = np.empty_like(values)  # a few long runs one by one are faster than repeating
    start = 0
    for mean, size in zip(means.tolist(), sizes.tolist(), strict=True):
        np.subtract(values[start : start + size], mean, out=about[start : start + size])
        start += size
    return about
