"""Tables that can be read again and again in blocks: in memory, or in files."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Protocol

from facturum.data.table import Table


class Scan(Protocol):
    """A table that is read block by block, in the order of its rows.

    `source` is what messages call it, `notes` what to notice of its file, `length` its rows, `about` how many these
    are as far as can be told without reading it. `first` returns its first rows, `blocks` all of them, both with the
    variables asked for where all of these are in it, and with others where they are not.
    """

    @property
    def source(self) -> str: ...
    @property
    def notes(self) -> tuple[str, ...]: ...
    @property
    def length(self) -> int: ...
    @property
    def about(self) -> int: ...
    def first(self, columns: Collection[str] | None, rows: int) -> Table | None: ...
    def blocks(self, columns: Collection[str] | None, rows: int) -> Iterator[Table]: ...


class Counted(ABC):
    """A scan whose rows are counted without reading them."""

    @property
    @abstractmethod
    def length(self) -> int:
        """Its rows."""

    @abstractmethod
    def blocks(self, columns: Collection[str] | None, rows: int) -> Iterator[Table]:
        """Yield the table in blocks of so many rows at most."""

    @property
    def about(self) -> int:
        """The number of its rows."""
        return self.length

    def first(self, columns: Collection[str] | None, rows: int) -> Table | None:
        """Return its first rows."""
        return next(self.blocks(columns, rows), None)


@dataclass(frozen=True)
class TableScan(Counted):
    """A table in memory."""

    table: Table

    @property
    def source(self) -> str:
        return self.table.source

    @property
    def notes(self) -> tuple[str, ...]:
        return self.table.notes

    @property
    def length(self) -> int:
        return self.table.length

    def blocks(self, columns: Collection[str] | None, rows: int) -> Iterator[Table]:
        """Yield the table in blocks.

        Args:
            columns: the variables to read, where all of them are in it; all others are left out.
            rows: of a block, at most.
        """
        names = list(self.table.variables)
        if columns is not None and set(columns) <= set(names):
            names = [name for name in names if name in columns] or names
        for start in range(0, self.table.length, rows):
            stop = min(start + rows, self.table.length)
            variables = {name: self.table[name].part(start, stop) for name in names}
            yield Table(variables, stop - start, self.table.source, self.table.notes)


def known_columns(columns: Collection[str] | None, names: list[str]) -> list[str] | None:
    """Return the columns wanted in the order of the file; None for all, and where one of them is not in it."""
    if columns is None or len(set(names)) < len(names) or not set(columns) <= set(names):
        return None
    return [name for name in names if name in columns] or None


def names_of(scan: Scan) -> list[str]:
    """Return the variables of a table."""
    first = scan.first(None, 1)
    return [] if first is None else list(first.variables)
