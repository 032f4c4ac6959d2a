"""What has become of the source since a build: which cells, rows or variables are not as they were."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import NamedTuple, Protocol

import numpy as np

from facturum.audit.source.fingerprints import (
    ChangedCells,
    Fingerprint,
    changed_cells,
    changes_between,
    fingerprint_of,
    value_before,
)
from facturum.data.table import Table
from facturum.data.values import Kind
from facturum.data.variable import Variable
from facturum.engine.planning.shaping import DATA, HISTORY, SERIES
from facturum.errors import counted


class SourceChange(NamedTuple):
    """A change of the source: of which variable, "" for a whole table; a sentence; in which row of the data, from 1."""

    name: str
    what: str
    row: int | None = None


class Known(Protocol):
    """What is known of a table now: its rows, and of its variables what shows changes."""

    @property
    def length(self) -> int: ...
    def __contains__(self, name: object) -> bool: ...
    def changed(self, name: str, before: Fingerprint) -> list[ChangedCells]: ...
    def told(self, name: str, cells: ChangedCells, before: Fingerprint) -> str: ...
    def unordered(self, name: str) -> str: ...
    def begins_with(self, before: Mapping[str, Fingerprint]) -> bool: ...


@dataclass(frozen=True)
class KnownTable:
    """A table in memory."""

    table: Table

    @property
    def length(self) -> int:
        return self.table.length

    def __contains__(self, name: object) -> bool:
        return name in self.table

    def changed(self, name: str, before: Fingerprint) -> list[ChangedCells]:
        """Return which cells of a variable differ from those that a fingerprint was taken of."""
        return changed_cells(self.table[name], before)

    def told(self, name: str, cells: ChangedCells, before: Fingerprint) -> str:
        """Say what a cell was, and is now; nothing where that is not known."""
        return "" if cells.row is None else told_of(self.table[name], cells, before, cells.row - 1)

    def unordered(self, name: str) -> str:
        """Return what is the same for all orders of the rows of a variable."""
        return fingerprint_of(self.table[name]).unordered

    def begins_with(self, before: Mapping[str, Fingerprint]) -> bool:
        """Return whether the first rows are those that fingerprints were taken of."""
        return not any(changed_cells(self.table[name].part(0, mark.rows), mark) for name, mark in before.items())


@dataclass(frozen=True)
class KnownMarks:
    """A table that has been read in parts.

    Args:
        length: its rows.
        marks: the fingerprints of its variables.
        first: the locators of as many first rows as an earlier fingerprint was taken of.
        look: reads some rows again, and returns a variable of them and where in it a row of the table is.
    """

    length: int
    marks: Mapping[str, Fingerprint]
    first: Mapping[str, list[str]]
    look: Callable[[str, int], tuple[Variable, int] | None] | None = None

    def __contains__(self, name: object) -> bool:
        return name in self.marks

    def changed(self, name: str, before: Fingerprint) -> list[ChangedCells]:
        """Return which cells of a variable differ from those that a fingerprint was taken of."""
        return changes_between(self.marks[name], before)

    def told(self, name: str, cells: ChangedCells, before: Fingerprint) -> str:
        """Say what a cell was, and is now; nothing where that is not known."""
        found = None if self.look is None or cells.row is None else self.look(name, cells.row)
        return "" if found is None else told_of(found[0], cells, before, found[1])

    def unordered(self, name: str) -> str:
        """Return what is the same for all orders of the rows of a variable."""
        return self.marks[name].unordered

    def begins_with(self, before: Mapping[str, Fingerprint]) -> bool:
        """Return whether the first rows are those that fingerprints were taken of."""
        return all(self.first.get(name) == mark.locators for name, mark in before.items())


def source_changes(
    tables: Mapping[str, Known], before: Mapping[str, Mapping[str, Fingerprint]]
) -> Iterator[SourceChange]:
    """Give each change of the source.

    Args:
        tables: the tables as they are given now: data, history, series.NAME.
        before: the fingerprints of their variables at the time of the build.
    """
    if (HISTORY in tables) != (HISTORY in before):
        here, there = ("with", "none") if HISTORY in before else ("without", "one")
        yield SourceChange("", f"The build was made {here} a history, and {there} is given.")
    for place, marks in before.items():
        if place in tables:
            for change in _changes(tables[place], marks, place):
                own = place == DATA
                name = change.name if own or not change.name else f"{place}.{change.name}"
                yield SourceChange(name, change.what, change.row if own else None)


def _changes(table: Known, before: Mapping[str, Fingerprint], place: str) -> Iterator[SourceChange]:
    whole = "table" if place == DATA else place.replace(SERIES, "series ")
    of = "" if place == DATA else f" of the {whole}"
    there = {name: mark for name, mark in before.items() if name in table}
    for name in before:
        if name not in there:
            yield SourceChange(name, gone_text(name, whole))
    rows = {mark.rows for mark in there.values()} - {table.length}
    if rows:
        other = _other_length(table, there, rows.pop())
        yield SourceChange("", f"The {whole} has {counted(table.length, 'row')}{other}")
        return
    changed = {name: table.changed(name, mark) for name, mark in there.items()}
    several = any(cells.row is None for changes in changed.values() for cells in changes)
    moved = sum(bool(changes) for changes in changed.values())
    if several and moved > min(1, len(there) - 1) and all(
        mark.unordered == table.unordered(name) for name, mark in there.items()
    ):  # fmt: skip
        what = f"The rows of the {whole} are in another order: each variable has the cells it had, at other places."
        yield SourceChange("", what)
        return
    for name, changes in changed.items():
        for cells in changes:
            if cells.row is not None:
                told = table.told(name, cells, there[name])
                what = f"The cell of {name} in row {cells.row}{of} has changed since the build.{told}"
                yield SourceChange(name, what, cells.row)
            else:
                rows_between = f"rows {cells.first} and {cells.last}{of}"
                yield SourceChange(
                    name, f"Several cells of {name} between {rows_between} have changed since the build."
                )


def told_of(variable: Variable, cells: ChangedCells, before: Fingerprint, at: int) -> str:
    """Say what a cell was, and is now; nothing where that is not known.

    Args:
        variable: the cell as it is now, and others.
        cells: what is known of the change.
        before: the fingerprint at the time of the build.
        at: where the cell is in the variable, from 0.
    """
    was = value_before(variable, cells, at) if str(variable.kind) == before.kind else None
    if was is None:
        return ""
    now = "missing" if variable.missing_rows()[at] else _shown(variable, variable.data[at].item())
    return f" It was {was if isinstance(was, str) else _shown(variable, was)}, and is {now}."


def _shown(variable: Variable, stored: float) -> str:
    """Return a value as text; a time without what is zero at its end."""
    if variable.kind is Kind.TIME:
        return str(np.datetime64(int(stored), "us")).removesuffix(".000000").removesuffix("T00:00:00")
    return variable.text_of(stored)


def gone_text(name: str, whole: str = "table") -> str:
    """Return that a table lacks a variable that it had."""
    return f"Variable {name} is no longer in the {whole}."


def _other_length(table: Known, there: Mapping[str, Fingerprint], before: int) -> str:
    if table.length > before and table.begins_with(there):
        return f"; the first {before:,}, of which the build was made, are as they were."
    return f", and the build was made from {before:,}."
