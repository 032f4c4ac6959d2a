"""Errors of the time of a table: something else, or missing where it orders the rows."""

from __future__ import annotations

import numpy as np

from facturum.data.values import Array
from facturum.data.variable import Variable
from facturum.errors import DataError, counted


def refuse_unplaced(time: Variable, source: str, rows: Array | None = None) -> None:
    """Refuse rows without a time where their order is that of the time, and no period says where they belong.

    Args:
        time: the times of rows.
        source: where the table comes from.
        rows: their numbers; None for all rows of a table.
    """
    missing = np.flatnonzero(time.missing_rows())
    if len(missing):
        numbers = missing + 1 if rows is None else rows[missing]
        raise DataError(
            f"'{time.name}' is missing in {counted(len(missing), 'row')} of {source}, and orders the rows",
            place="data.time",
            rows=sorted(numbers[:10].tolist()),
            count=len(missing),
            remedy="Fill it, leave these rows out beforehand, or take time out of [data] if the rows are in order.",
        )


def not_a_time(name: str) -> DataError:
    """Return the error that the time of a plan is something else."""
    return DataError(f"'{name}' is not a time", place="data.time", remedy="Name a variable of dates or periods.")
