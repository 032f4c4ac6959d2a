"""Variables that merely identify rows."""

from __future__ import annotations

import numpy as np

from facturum.data.values import FloatArray, Kind
from facturum.data.variable import Variable

MANY_ROWS = 30
LOOKED_AT = 65_536  # rows, which as a rule show it where a variable does not tell rows apart


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
    if len(variable) > LOOKED_AT and _repeats(variable.part(0, LOOKED_AT)):
        return False
    variable = variable.part(0, len(variable))
    there = ~variable.missing_rows()
    if variable.kind is Kind.NUMBER:
        x = variable.data[there].astype(np.float64)
        x = np.sort(x[np.isfinite(x)])
        return looks_like_id(x, np.unique(x))
    if variable.kind is not Kind.CATEGORY:
        return False
    count = int(there.sum())
    return count >= MANY_ROWS and len(np.unique(variable.data[there])) == count


def _repeats(variable: Variable) -> bool:
    """Return whether a value occurs twice, or is a number that is not whole."""
    x = variable.data[~variable.missing_rows()]
    whole = variable.kind is not Kind.NUMBER or x.dtype.kind != "f" or bool((x == np.floor(x)).all())
    return not whole or len(np.unique(x)) < len(x)
