"""Variables that merely identify rows."""

from __future__ import annotations

import numpy as np

from facturum.data.values import FloatArray, Kind
from facturum.data.variable import Variable

MANY_ROWS = 30


def looks_like_id(x: FloatArray, distinct: FloatArray) -> bool:
    """Return whether a number merely counts the rows.

    Args:
        x: its finite values, sorted.
        distinct: the different ones.

    Example:
        >>> looks_like_id(np.arange(40.0), np.arange(40.0)), looks_like_id(np.arange(40.0) / 2, np.arange(40.0) / 2)
        (True, False)
    """
    if len(distinct) < max(len(x), MANY_ROWS) or not (distinct == np.floor(distinct)).all():
        return False
    return float(distinct[-1]) - float(distinct[0]) < 2 * len(distinct)


def tells_rows_apart(variable: Variable) -> bool:
    """Return whether a number counts the rows, or a category differs in every one."""
    there = ~variable.missing_rows()
    if variable.kind is Kind.NUMBER:
        x = variable.data[there].astype(np.float64)
        x = np.sort(x[np.isfinite(x)])
        return looks_like_id(x, np.unique(x))
    if variable.kind is not Kind.CATEGORY:
        return False
    count = int(there.sum())
    return count >= MANY_ROWS and len(np.unique(variable.data[there])) == count
