"""Arithmetic with about 32 digits: each number the unevaluated sum of two doubles.

The sums and products are those of Dekker, "A floating-point technique for extending the available precision" (1971),
and Knuth, "The Art of Computer Programming", volume 2, section 4.2.2.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
_SPLIT = 134217729.0  # 2**27 + 1


@dataclass(frozen=True)
class Doubled:
    """An array of numbers, each the sum of a double and a much smaller one.

    Example:
        >>> third = Doubled.of(np.array([1.0])) / Doubled.of(np.array([3.0]))
        >>> (third * Doubled.of(np.array([3.0])) - Doubled.of(np.array([1.0]))).high.tolist()
        [0.0]
    """

    high: FloatArray
    low: FloatArray

    @classmethod
    def of(cls, values: Any) -> Doubled:
        """Return doubles as they are."""
        high = np.asarray(values, dtype=np.float64)
        return cls(high, np.zeros_like(high))

    def __add__(self, other: Doubled) -> Doubled:
        high, low = _sum(self.high, other.high)
        more, rest = _sum(self.low, other.low)
        high, low = _tidy(high, low + more)
        return Doubled(*_tidy(high, low + rest))

    def __neg__(self) -> Doubled:
        return Doubled(-self.high, -self.low)

    def __sub__(self, other: Doubled) -> Doubled:
        return self + (-other)

    def __mul__(self, other: Doubled) -> Doubled:
        high, low = _product(self.high, other.high)
        return Doubled(*_tidy(high, low + (self.high * other.low + self.low * other.high)))

    def __truediv__(self, other: Doubled) -> Doubled:
        first = Doubled.of(self.high / other.high)
        rest = self - first * other
        second = Doubled.of(rest.high / other.high)
        rest = rest - second * other
        return first + second + Doubled.of(rest.high / other.high)

    def __getitem__(self, at: Any) -> Doubled:
        return Doubled(self.high[at], self.low[at])

    def total(self) -> Doubled:
        """Return the sum of a one-dimensional array, by halves."""
        part = self
        while len(part.high) > 1:
            half = len(part.high) // 2
            odd = part[2 * half :]
            part = part[:half] + part[half : 2 * half]
            if len(odd.high):
                part = Doubled(np.append(part.high, odd.high), np.append(part.low, odd.low))
        return part[0] if len(part.high) else Doubled.of(0.0)

    @property
    def rounded(self) -> FloatArray:
        """The nearest doubles."""
        return np.asarray(self.high + self.low)


def _sum(a: FloatArray, b: FloatArray) -> tuple[FloatArray, FloatArray]:
    high = a + b
    part = high - a
    return high, (a - (high - part)) + (b - part)


def _tidy(high: FloatArray, low: FloatArray) -> tuple[FloatArray, FloatArray]:
    total = high + low
    return total, low - (total - high)


def _product(a: FloatArray, b: FloatArray) -> tuple[FloatArray, FloatArray]:
    high = a * b
    a_high, a_low = _halves(a)
    b_high, b_low = _halves(b)
    return high, ((a_high * b_high - high) + a_high * b_low + a_low * b_high) + a_low * b_low


def _halves(a: FloatArray) -> tuple[FloatArray, FloatArray]:
    large = _SPLIT * a
    high = large - (large - a)
    return high, a - high
