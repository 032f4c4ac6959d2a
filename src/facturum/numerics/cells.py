"""The cells of a histogram."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
WIDEST = 2.0**52


def whole_cells(distinct: FloatArray, most: int) -> tuple[int, int] | None:
    """Return the width and the number of cells that begin at whole numbers; None unless all values are whole.

    So each cell holds equally many whole numbers, and none stands out for having one more.

    Args:
        distinct: the different values, sorted; more than one.
        most: how many cells there may be.

    Example:
        >>> whole_cells(np.array([0.0, 3.0, 100.0]), 40), whole_cells(np.array([0.5, 3.0]), 40)
        ((3, 34), None)
    """
    low, high = float(distinct[0]), float(distinct[-1])
    if not (abs(low) < WIDEST and abs(high) < WIDEST):
        return None
    for values in (distinct[:1000], distinct):  # as a rule the first few suffice
        if not (values == np.floor(values)).all():
            return None
    numbers = int(high) - int(low) + 1
    width = -(-numbers // most)
    return width, -(-numbers // width)
