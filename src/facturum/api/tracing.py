"""Cells of a design traced back to its source."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from facturum.audit.map.entries import ColumnEntry
from facturum.audit.proof.trace import RowTrace, Trace, trace_cells
from facturum.data.table import TableLike
from facturum.errors import AuditError

if TYPE_CHECKING:
    from facturum.api.design import Design


def traced(
    design: Design,
    table: TableLike,
    row: int,
    column: str | None,
    history: TableLike | None,
    series: Mapping[str, Any] | None,
) -> Trace | RowTrace:
    """Return how one cell of a design came about, or all of a row.

    Raises:
        AuditError: where the row or the column is not in the design, and why.
    """
    columns = design.columns
    place = _place(design, row)
    entries = columns.columns if column is None else [_one(design, column)]
    cells = [float(design.column(entry.name)[place]) for entry in entries]
    given = design.plan._inputs.given(table, history, series)
    traces = trace_cells(columns, list(entries), cells, row, given)
    return traces[0] if column is not None else RowTrace(row, traces[0].source, tuple(traces))


def _one(design: Design, name: str) -> ColumnEntry:
    found = design.columns.find(name)
    if len(found) > 1 and all(entry.name != name for entry in found):
        raise AuditError(
            f"{name} is a term of {len(found)} columns",
            remedy="Name one: " + ", ".join(e.name for e in found[:30]) + ".",
        )
    return next((entry for entry in found if entry.name == name), found[0])


def _place(design: Design, row: int) -> int:
    """Return where a source row is in the matrix."""
    at = np.flatnonzero(design._kept == row)
    if len(at):
        return int(at[0])
    rows = design.rows
    dropped = np.flatnonzero(rows.dropped == row)
    if len(dropped):
        reason, place = rows.reasons[int(rows.causes[dropped[0]])]
        raise AuditError(
            f"row {row:,} is not in the matrix: {reason} in {place}",
            remedy="Name a row of the matrix, or change what leaves it out.",
        )
    raise AuditError(
        f"row {row:,} is not among the {design.columns.rows.given:,} rows of the table",
        remedy="Rows are counted from 1.",
    )
