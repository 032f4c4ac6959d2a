"""What has become of the source since a build: which cells, rows or variables are not as they were."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np

from facturum.audit.fingerprints import Fingerprint, changed_cells, unordered_sum
from facturum.data.table import Table


def source_changes(table: Table, before: Mapping[str, Fingerprint], first: int) -> Iterator[tuple[str, str]]:
    """Give each change as the variable's name, empty for the whole table, and a sentence.

    Args:
        table: the source as it is now.
        before: the fingerprints of its variables at the time of the build.
        first: how many rows of history stand before its own.
    """
    there = {name: mark for name, mark in before.items() if name in table}
    for name in before:
        if name not in there:
            yield name, f"The table has no variable {name} any more."
    rows = {mark.rows for mark in there.values()} - {table.length}
    if rows:
        yield "", _other_length(table, there, rows.pop())
        return
    found = {name: changed_cells(table[name], mark) for name, mark in there.items()}
    if any(cells.row is None for changes in found.values() for cells in changes) and all(
        mark.unordered == unordered_sum(table[name]) for name, mark in there.items()
    ):
        yield "", "The rows of the table are in another order: each variable has the cells it had, at other places."
        return
    for name, changes in found.items():
        for cells in changes:
            if cells.row is not None:
                where = f"row {cells.row - first}" if cells.row > first else f"row {cells.row} of the history"
                yield name, f"The cell of {name} in {where} has changed since the build."
            else:
                low, high = max(cells.first - first, 1), cells.last - first
                yield name, f"Several cells of {name} between rows {low} and {high} have changed since the build."


def _other_length(table: Table, there: Mapping[str, Fingerprint], before: int) -> str:
    now = f"The table has {table.length:,} rows"
    start = np.arange(min(before, table.length))
    if table.length > before and not any(changed_cells(table[name].take(start), there[name]) for name in there):
        return f"{now}; the first {before:,}, of which the build was made, are as they were."
    return f"{now}, and the build was made from {before:,}."
