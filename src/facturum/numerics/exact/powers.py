"""Powers as fixed chains of multiplications, so that the same power has the same bits everywhere."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
LONGEST_CHAIN = 64


def whole_power(base: FloatArray, exponent: int) -> FloatArray:
    """Return ``base`` to a whole power, multiplied from the left: ``((x * x) * x) * ..``.

    Beyond 64 factors NumPy's power takes over; a negative power is the reciprocal of the positive one.

    Example:
        >>> whole_power(np.array([2.0, 3.0]), 3)
        array([ 8., 27.])
    """
    if abs(exponent) > LONGEST_CHAIN:
        return np.power(base, float(exponent))
    if exponent < 0:
        return np.divide(1.0, whole_power(base, -exponent))
    if exponent == 0:
        return np.ones_like(base)
    result = base
    for _ in range(exponent - 1):
        result = np.multiply(result, base)
    return result
