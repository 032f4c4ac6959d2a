"""Rows grouped by the values of several variables."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from facturum.data.values import Array
from facturum.data.variable import Variable

SPARSE = 4  # numbers in a range of so many times their count are counted rather than sorted


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
    group: Array | None = None
    for variable in variables:
        missing = variable.missing_rows()
        if missing.any():
            codes = dense_ranks(np.where(missing, 0, dense_ranks(np.where(missing, 0, variable.data)) + 1))
        else:
            codes = dense_ranks(variable.data)
        if group is not None:
            codes = dense_ranks(group * (int(codes.max(initial=0)) + 1) + codes)
        group = codes
    return np.zeros(length, dtype=np.int64) if group is None else group


def first_rows(groups: Array) -> Array:
    """Return the first row of each group, by their numbers, which run from 0 without gaps.

    Example:
        >>> first_rows(np.array([1, 0, 1])).tolist()
        [1, 0]
    """
    rows = np.zeros(int(groups.max(initial=-1)) + 1, dtype=np.int64)
    rows[groups[::-1]] = np.arange(len(groups) - 1, -1, -1)
    return rows


def dense_ranks(values: Array) -> Array:
    """Return for each value how many smaller ones occur, each counted once.

    Whole numbers that lie close together are counted, not sorted.

    Example:
        >>> dense_ranks(np.array([30, 10, 30, 20])).tolist()
        [2, 0, 2, 1]
    """
    if len(values) and values.dtype.kind in "biu":
        low = int(values.min())
        size = int(values.max()) - low + 1
        if size <= SPARSE * len(values):
            wide = values.dtype if values.dtype.itemsize == 8 else np.int64
            places = np.subtract(values, values.min(), dtype=wide).astype(np.int64, copy=False)
            occurs = np.zeros(size, dtype=np.int64)
            occurs[places] = 1
            ranks: Array = (np.cumsum(occurs) - 1)[places]
            return ranks
    _, ranks = np.unique(values, return_inverse=True)
    return ranks
