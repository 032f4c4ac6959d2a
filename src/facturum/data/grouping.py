"""Rows grouped by the values of several variables."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from facturum.data.values import Array
from facturum.data.variable import Variable


def group_numbers(variables: Sequence[Variable], length: int) -> Array:
    """Return the number of the group that each row belongs to; a missing value makes groups of its own.

    Args:
        variables: rows with the same values of all of them are one group; of none, all rows are.
        length: rows.

    Example:
        >>> from facturum.data.table import Table
        >>> table = Table.of({"hut": ["a", "b", "a"], "year": [1, 1, 2]})
        >>> group_numbers([table["hut"], table["year"]], 3).tolist()
        [0, 2, 1]
    """
    group: Array = np.zeros(length, dtype=np.int64)
    for variable in variables:
        missing = variable.missing_rows()
        _, codes = np.unique(np.where(missing, 0, variable.data), return_inverse=True)
        codes = np.where(missing, 0, codes + 1)
        _, group = np.unique(group * (int(codes.max(initial=0)) + 1) + codes, return_inverse=True)
    return group
