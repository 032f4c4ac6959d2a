"""What is compared block by block, whatever the blocks are: rows that do not agree, rows left out, whole tables."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pyarrow as pa

from facturum.audit.proof.content import table_failures
from facturum.audit.proof.verify import Failure
from facturum.data.values import Array
from facturum.errors import ROWS_SHOWN
from facturum.files.builds.build_writer import DROPPED_SCHEMA
from facturum.files.builds.stored_build import numbers_of


class Tally:
    """Rows that do not agree: the first few, and how many."""

    def __init__(self) -> None:
        self.rows: list[int] = []
        self.count = 0

    def add(self, rows: Array) -> None:
        self.rows += rows[: ROWS_SHOWN - len(self.rows)].tolist()
        self.count += len(rows)


class DroppedRows:
    """Compares the stored list of rows left out with the one made anew."""

    def __init__(self, stored: Iterator[pa.Table]) -> None:
        self._stored, self._held = stored, DROPPED_SCHEMA.empty_table()
        self._odd = Tally()

    def compare(self, anew: pa.Table) -> None:
        """Compare the next rows."""
        while self._held.num_rows < anew.num_rows and (block := next(self._stored, None)) is not None:
            self._held = pa.concat_tables([self._held, block])
        own, self._held = self._held.slice(0, anew.num_rows), self._held.slice(anew.num_rows)
        if not own.combine_chunks().equals(anew.combine_chunks()):
            self._odd.add(np.union1d(numbers_of(own.column("row")), numbers_of(anew.column("row"))))

    def failures(self) -> Iterator[Failure]:
        """Yield whether they differ."""
        if self._odd.count or self._held.num_rows or next(self._stored, None) is not None:
            what = "The list of rows left out, and why, is not the one that the plan gives."
            yield Failure("rows", "", what, tuple(self._odd.rows), self._odd.count)


def same_tables(stored: Iterator[pa.Table], anew: Iterator[pa.Table], name: str) -> Iterator[Failure]:
    """Yield whether two tables that come in blocks are the same."""
    a, b = _Rows(stored), _Rows(anew)
    while (count := min(a.fill(), b.fill())) > 0:
        failures = list(table_failures(a.take(count), b.take(count), name))
        if failures:
            yield failures[0]
            return
    if a.fill() != b.fill():
        yield Failure("file", name, f"The rows of {name} are not those of the build.")


class _Rows:
    """The next rows of a table that comes in blocks."""

    def __init__(self, blocks: Iterator[pa.Table]) -> None:
        self._blocks, self._held = blocks, pa.table({})

    def fill(self) -> int:
        """Return how many rows are at hand; 0 at the end."""
        while not self._held.num_rows and (block := next(self._blocks, None)) is not None:
            self._held = block
        return int(self._held.num_rows)

    def take(self, count: int) -> pa.Table:
        """Take rows that are at hand."""
        part, self._held = self._held.slice(0, count), self._held.slice(count)
        return part
