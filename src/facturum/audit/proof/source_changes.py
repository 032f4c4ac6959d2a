"""What has become of the source since a build: which cells, rows or variables are not as they were."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Protocol

from facturum.audit.fingerprints import ChangedCells, Fingerprint, changed_cells, changes_between, fingerprint_of
from facturum.data.table import Table
from facturum.engine.planning.shaping import DATA, HISTORY, SERIES
from facturum.errors import counted


class Known(Protocol):
    """What is known of a table now: its rows, and of its variables what shows changes."""

    @property
    def length(self) -> int: ...
    def __contains__(self, name: object) -> bool: ...
    def changed(self, name: str, before: Fingerprint) -> list[ChangedCells]: ...
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
    """

    length: int
    marks: Mapping[str, Fingerprint]
    first: Mapping[str, list[str]]

    def __contains__(self, name: object) -> bool:
        return name in self.marks

    def changed(self, name: str, before: Fingerprint) -> list[ChangedCells]:
        """Return which cells of a variable differ from those that a fingerprint was taken of."""
        return changes_between(self.marks[name], before)

    def unordered(self, name: str) -> str:
        """Return what is the same for all orders of the rows of a variable."""
        return self.marks[name].unordered

    def begins_with(self, before: Mapping[str, Fingerprint]) -> bool:
        """Return whether the first rows are those that fingerprints were taken of."""
        return all(self.first.get(name) == mark.locators for name, mark in before.items())


def source_changes(
    tables: Mapping[str, Known], before: Mapping[str, Mapping[str, Fingerprint]]
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


def _changes(table: Known, before: Mapping[str, Fingerprint], place: str) -> Iterator[tuple[str, str]]:
    whole = "table" if place == DATA else place.replace(SERIES, "series ")
    of = "" if place == DATA else f" of the {whole}"
    there = {name: mark for name, mark in before.items() if name in table}
    for name in before:
        if name not in there:
            yield name, gone_text(name, whole)
    rows = {mark.rows for mark in there.values()} - {table.length}
    if rows:
        yield "", f"The {whole} has {counted(table.length, 'row')}{_other_length(table, there, rows.pop())}"
        return
    changed = {name: table.changed(name, mark) for name, mark in there.items()}
    several = any(cells.row is None for changes in changed.values() for cells in changes)
    moved = sum(bool(changes) for changes in changed.values())
    if several and moved > min(1, len(there) - 1) and all(
        mark.unordered == table.unordered(name) for name, mark in there.items()
    ):  # fmt: skip
        yield "", f"The rows of the {whole} are in another order: each variable has the cells it had, at other places."
        return
    for name, changes in changed.items():
        for cells in changes:
            if cells.row is not None:
                yield name, f"The cell of {name} in row {cells.row}{of} has changed since the build."
            else:
                rows_between = f"rows {cells.first} and {cells.last}{of}"
                yield name, f"Several cells of {name} between {rows_between} have changed since the build."


def gone_text(name: str, whole: str = "table") -> str:
    """Return that a table lacks a variable that it had."""
    return f"Variable {name} is no longer in the {whole}."


def _other_length(table: Known, there: Mapping[str, Fingerprint], before: int) -> str:
    if table.length > before and table.begins_with(there):
        return f"; the first {before:,}, of which the build was made, are as they were."
    return f", and the build was made from {before:,}."
