"""The values that questions observe: those that are there, finite, and enough to learn from."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from facturum.data.values import FloatArray, Values, and_masks
from facturum.errors import DataError
from facturum.language.tree.failures import Unlearnable
from facturum.language.tree.nodes import Node
from facturum.numerics.exact.sums import UNIT_BITS, root_as_float

TOO_FAR = "Values so far apart are wrong as a rule: correct them, or leave the rows out with [rows] keep."


def finite_numbers(x: Values, compute: Callable[[FloatArray], FloatArray], what: str) -> FloatArray:
    """Return the results computed from the values present, one number for each.

    Raises:
        Unlearnable: with the rows in which it exceeds double precision.
    """
    own = present([x])[0].numbers()
    with np.errstate(all="ignore"):
        values = compute(own)
    if not (fine := np.isfinite(values)).all():
        rows = x.present_mask().copy()
        rows[rows] = ~fine
        raise Unlearnable(rows, what, TOO_FAR)
    return values


def present(values: Sequence[Values]) -> list[Values]:
    """Return the rows in which all the values are there."""
    length = max(len(value.data) for value in values)
    values = [value.full(length) for value in values]
    valid = None
    for value in values:
        valid = and_masks(valid, value.valid)
    if valid is None:
        return list(values)
    return [Values(value.data[valid], None, value.labels) for value in values]


def spread_of(total: int, count: int, expression: object) -> float:
    """Return the sample standard deviation from an exact sum of squares; 0 for one value.

    Raises:
        DataError: where it is beyond the largest double.
    """
    if count < 2:
        return 0.0
    try:
        return root_as_float(total, count - 1, 2 * UNIT_BITS)
    except OverflowError:
        raise DataError(f"the standard deviation of '{expression}' exceeds double precision", remedy=TOO_FAR) from None


def some(count: int, expression: Node) -> int:
    """Return a count of values, or refuse to learn from none."""
    if not count:
        raise DataError(
            f"'{expression}' is missing in every row of the estimation sample",
            remedy="Check [rows] keep and learn, and what counts as missing.",
        )
    return count
