"""Two-way tables: how often each value of one variable occurs with each of another."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from facturum.data.table import Table
from facturum.data.values import Array, Kind
from facturum.data.variable import Variable
from facturum.errors import DataError

MAX_VALUES = 40
PERCENTS = ("row", "column", "total")


@dataclass(frozen=True)
class CrossTable:
    """How often the values of two variables go together.

    Args:
        rows, columns: the two variables.
        row_values, column_values: their values, with "missing" last where there are such.
        counts: for each value of the first, how often it occurs with each of the second.

    Example:
        >>> table = Table.of({"way": ["road", "trail", "road"], "open": ["yes", "yes", None]})
        >>> cross_table(table, "way", "open").counts
        ((1, 1), (1, 0))
    """

    rows: str
    columns: str
    row_values: tuple[str, ...]
    column_values: tuple[str, ...]
    counts: tuple[tuple[int, ...], ...]

    def percents(self, of: str) -> list[list[float | None]]:
        """Return the counts in percent of their row, column or the total; None where that is 0.

        Args:
            of: row, column or total.
        """
        counts = np.array(self.counts, dtype=float)
        whole: Array = {
            "row": counts.sum(axis=1, keepdims=True),
            "column": counts.sum(axis=0, keepdims=True),
            "total": counts.sum(keepdims=True),
        }[of]
        with np.errstate(all="ignore"):
            shares = 100 * counts / whole
        return [[float(share) if np.isfinite(share) else None for share in row] for row in shares]

    def to_dict(self) -> dict[str, Any]:
        """Return all figures, for programs."""
        return asdict(self)


def cross_table(table: Table, rows: str, columns: str) -> CrossTable:
    """Return how often the values of two variables go together, missing ones included.

    Raises:
        DataError: for a variable that is not there, or has too many values.
    """
    first, second = coded(table[rows]), coded(table[columns])
    counts = np.zeros((len(first[1]), len(second[1])), dtype=np.int64)
    np.add.at(counts, (first[0], second[0]), 1)
    return CrossTable(rows, columns, first[1], second[1], tuple(map(tuple, counts.tolist())))


def coded(variable: Variable) -> tuple[Array, tuple[str, ...]]:
    """Return the place of each row's value among the values that occur, and these; "missing" last.

    Raises:
        DataError: for a time, and a variable of too many values.
    """
    there = ~variable.missing_rows()
    distinct, places = np.unique(variable.data[there], return_inverse=True)
    if len(distinct) > MAX_VALUES or variable.kind is Kind.TIME:
        what = "is a time" if variable.kind is Kind.TIME else f"has {len(distinct):,} different values"
        raise DataError(
            f"'{variable.name}' {what}, and a two-way table shows {MAX_VALUES} at most",
            remedy="Cut it into bins or regroup it in a plan, and add --plan PLAN.",
        )
    texts = [variable.text_of(value) for value in distinct.tolist()]
    if variable.kind is Kind.CATEGORY:
        order = sorted(range(len(texts)), key=texts.__getitem__)
        places = np.argsort(order)[places] if order else places
        texts = [texts[at] for at in order]
    codes = np.full(len(variable), len(texts))
    codes[there] = places
    return codes, tuple([*texts, "missing"] if not there.all() else texts)
