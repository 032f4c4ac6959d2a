"""Samples of rows: of all, or of each category; several that share no row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from facturum.data.table import Table
from facturum.data.values import Array, label_text
from facturum.data.variable import Variable
from facturum.errors import DataError


def sample_rows(table: Table, sizes: Sequence[int | float], by: str | None, replace: bool, seed: int) -> list[Array]:
    """Return the rows of some samples, increasing, counted from 0; without replacement no two samples share a row.

    Args:
        table: the table.
        sizes: how many rows each sample has, or which share of the rows; with ``by``, of each category.
        by: a category within which rows are drawn; rows without one are never drawn.
        replace: whether a row may be drawn more than once.
        seed: of the random numbers; the same seed gives the same rows.

    Raises:
        DataError: for more rows than there are, without replacement.

    Example:
        >>> table = Table.of({"x": list(range(10))})
        >>> first, second = sample_rows(table, [4, 6], None, False, 1)
        >>> sorted([*first.tolist(), *second.tolist()]) == list(range(10))
        True
    """
    for size in sizes:
        number = isinstance(size, int | float | np.integer) and not isinstance(size, bool)
        if not number or not 0 <= size < (np.inf if not isinstance(size, float) else 1 + 1e-15):
            raise DataError(
                f"{size!r} is not the size of a sample", remedy="Write a whole number, or a share from 0 to 1."
            )
    if isinstance(seed, bool) or not isinstance(seed, int | np.integer) or seed < 0:
        raise DataError(f"{seed!r} is not a valid seed", remedy="Write a whole number from 0.")
    dice = np.random.Generator(np.random.PCG64(seed))
    drawn: list[list[Array]] = [[] for _ in sizes]
    for name, rows in _strata(table, by):
        counts = [round(size * len(rows)) if isinstance(size, float) else size for size in sizes]
        if replace:
            parts = [rows[dice.integers(0, len(rows), count)] for count in counts]
        else:
            if sum(counts) > len(rows):
                within = f" with {by} = {name}" if by is not None else ""
                raise DataError(
                    f"{sum(counts):,} rows are asked for, and there are {len(rows):,}{within}",
                    remedy="Ask for fewer rows, or write replace=True.",
                )
            shuffled = rows[dice.permutation(len(rows))]
            ends = np.cumsum(counts)
            parts = np.split(shuffled, ends)[: len(counts)]
        for drawn_parts, part in zip(drawn, parts, strict=True):
            drawn_parts.append(part)
    return [
        np.sort(np.concatenate(drawn_parts)) if drawn_parts else np.zeros(0, dtype=np.int64) for drawn_parts in drawn
    ]


def _strata(table: Table, by: str | None) -> list[tuple[str, Array]]:
    if by is None:
        return [("", np.arange(table.length))]
    variable: Variable = table[by]
    present = ~variable.missing_rows()
    distinct = np.unique(variable.data[present])
    labels = variable.labels
    names = [label_text(labels[code]) if labels is not None else str(code) for code in distinct.tolist()]
    return [(name, np.flatnonzero(present & (variable.data == d))) for name, d in zip(names, distinct, strict=True)]


def named_sizes(n: int | float | Sequence[int | float] | Mapping[str, int | float]) -> list[int | float]:
    """Return the sizes of samples, however they are given."""
    if isinstance(n, Mapping):
        return list(n.values())
    return list(n) if isinstance(n, Sequence) else [n]
