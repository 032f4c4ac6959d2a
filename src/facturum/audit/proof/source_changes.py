"""What has become of the source since a build: which cells, rows or variables are not as they were."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np

from facturum.audit.fingerprints import Fingerprint, changed_cells, fingerprint_of
from facturum.data.table import Table
from facturum.engine.planning.shaping import DATA, HISTORY, SERIES
from facturum.errors import counted


def source_changes(
    tables: Mapping[str, Table], before: Mapping[str, Mapping[str, Fingerprint]]
) -> Iterator[tuple[str, str]]:
    """Give each change as the variable's name, empty for a whole table, and a sentence.

    Args:
        tables: the tables as they are given now: data, history, series.NAME.
        before: the fingerprints of their variables at the time of the build.
    """
    if (HISTORY in tables) != (HISTORY in before):
        here, there = ("with", "none") if HISTORY in before else ("without", "one")
        yield "", f"The build was made {here} a history, and {there} is given."
    for place, marks in before.items():
        if place in tables:
            for name, what in _changes(tables[place], marks, place):
                yield name if place == DATA or not name else f"{place}.{name}", what


def _changes(table: Table, before: Mapping[str, Fingerprint], place: str) -> Iterator[tuple[str, str]]:
    whole = "table" if place == DATA else place.replace(SERIES, "series ")
    of = "" if place == DATA else f" of the {whole}"
    there = {name: mark for name, mark in before.items() if name in table}
    for name in before:
        if name not in there:
            yield name, f"Variable {name} is no longer in the {whole}."
    rows = {mark.rows for mark in there.values()} - {table.length}
    if rows:
        yield "", f"The {whole} has {counted(table.length, 'row')}{_other_length(table, there, rows.pop())}"
        return
    changed = {name: changed_cells(table[name], mark) for name, mark in there.items()}
    if any(cells.row is None for changes in changed.values() for cells in changes) and all(
        mark.unordered == fingerprint_of(table[name]).unordered for name, mark in there.items()
    ):
        yield "", f"The rows of the {whole} are in another order: each variable has the cells it had, at other places."
        return
    for name, changes in changed.items():
        for cells in changes:
            if cells.row is not None:
                yield name, f"The cell of {name} in row {cells.row}{of} has changed since the build."
            else:
                rows_between = f"rows {cells.first} and {cells.last}{of}"
                yield name, f"Several cells of {name} between {rows_between} have changed since the build."


def _other_length(table: Table, there: Mapping[str, Fingerprint], before: int) -> str:
    start = np.arange(min(before, table.length))
    if table.length > before and not any(changed_cells(table[name].take(start), there[name]) for name in there):
        return f"; the first {before:,}, of which the build was made, are as they were."
    return f", and the build was made from {before:,}."
