"""Sums that do not depend on the order of the values: kept as whole numbers, rounded once."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]

# Every finite double is a whole number of these units: 2**-1126 leaves room for the 53 bits of a subnormal's mantissa.
UNIT_BITS = 1126
_SHORT = 32  # values that are quicker added one by one, as of many small groups
_CHUNK = 1 << 15  # partial sums of 37-bit products over so many rows stay below 2**53, so float additions are exact


def exact_sum(values: FloatArray) -> int:
    """Return the sum of finite doubles as a whole number of 2**-1126, without rounding.

    The mantissas are added by exponent (Shewchuk 1997 names the goal; the method is the long accumulator of
    Kulisch, "Computer Arithmetic and Validity", 2008).

    Example:
        >>> as_float(exact_sum(np.array([1e308, 1.0, -1e308])))
        1.0
    """
    total = 0
    if len(values) <= _SHORT:
        for numerator, denominator in map(float.as_integer_ratio, values.tolist()):
            total += numerator << (UNIT_BITS + 1 - denominator.bit_length())
        return total
    for start in range(0, len(values), _CHUNK):
        mantissa, exponent = np.frexp(values[start : start + _CHUNK])
        mantissa *= 9007199254740992.0  # 2**53
        high = np.floor(mantissa * 2.0**-27)
        low = mantissa - high * 2.0**27
        exponent += UNIT_BITS - 53
        total += _collect(exponent, high) << 27
        total += _collect(exponent, low)
    return total


def exact_sum_of_squares(values: FloatArray) -> int:
    """Return the sum of the squares of finite doubles as a whole number of 2**-2252, without rounding.

    Each 53-bit mantissa is cut into three limbs of 18 bits, whose products are exact.

    Example:
        >>> exact_sum_of_squares(np.array([3.0, 4.0])) == 25 << (2 * UNIT_BITS)
        True
    """
    total = 0
    for start in range(0, len(values), _CHUNK):
        mantissa, exponent = np.frexp(np.abs(values[start : start + _CHUNK]))
        mantissa *= 9007199254740992.0
        high = np.floor(mantissa * 2.0**-36)
        rest = mantissa - high * 2.0**36
        middle = np.floor(rest * 2.0**-18)
        low = rest - middle * 2.0**18
        exponent += UNIT_BITS - 53
        exponent *= 2
        products = (
            (low * low, 0),
            (2.0 * middle * low, 18),
            (2.0 * high * low + middle * middle, 36),
            (2.0 * high * middle, 54),
            (high * high, 72),
        )
        for product, shift in products:
            total += _collect(exponent, product) << shift
    return total


def as_float(total: int, count: int = 1, bits: int = UNIT_BITS) -> float:
    """Return ``total / count`` as the nearest double; ``total`` is a whole number of ``2**-bits``.

    Raises:
        OverflowError: where the result is beyond the largest double.

    Example:
        >>> as_float(exact_sum(np.array([0.1, 0.2, 0.3])), 3)
        0.2
    """
    return total / (count << bits)


def root_as_float(total: int, count: int, bits: int) -> float:
    """Return the square root of ``total / count``, where ``total`` is a whole number of ``2**-bits``.

    The quotient itself may be beyond the doubles, or below the smallest one.

    Raises:
        OverflowError: where the root is beyond the largest double.

    Example:
        >>> root_as_float(exact_sum_of_squares(np.array([3.0, 4.0]) * 2.0**900), 1, 2 * UNIT_BITS) == 5 * 2.0**900
        True
    """
    divisor = count << bits
    halved = (total.bit_length() - divisor.bit_length()) // 2
    if abs(halved) < 450:
        return math.sqrt(total / divisor)
    scaled = total / (divisor << 2 * halved) if halved > 0 else (total << -2 * halved) / divisor
    return math.ldexp(math.sqrt(scaled), halved)


def _collect(exponent: npt.NDArray[np.int32], part: FloatArray) -> int:
    """Add the parts that share an exponent, then the sums by Python's whole numbers."""
    if not len(part):
        return 0
    least = int(exponent.min())
    sums: npt.NDArray[Any] = np.bincount(exponent - least, weights=part)
    return sum(int(sums[at]) << (least + int(at)) for at in np.flatnonzero(sums))


def added_in_order(values: FloatArray) -> FloatArray:
    """Return the sums over the first axis, added in its order, so that their digits depend on no layout in memory.

    Args:
        values: doubles (items, rows).

    Example:
        >>> added_in_order(np.array([[1.0, 2.0], [3.0, 4.0]])).tolist()
        [4.0, 6.0]
    """
    total: FloatArray = values[0] + 0.0
    for row in values[1:]:
        total = np.add(total, row)
    return total
