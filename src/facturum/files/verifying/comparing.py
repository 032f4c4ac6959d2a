"""What is compared block by block, whatever the blocks are: rows that do not agree, rows left out, whole tables."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
import pyarrow as pa

from facturum.audit.proof.content import table_failures
from facturum.audit.proof.verify import Failure
from facturum.data.values import Array, Mask
from facturum.errors import ROWS_SHOWN
from facturum.files.builds.build_writer import DROPPED_SCHEMA, IMPUTED_SCHEMA
from facturum.files.builds.stored_build import numbers_of


class Tally:
    """Rows that do not agree: the first few, and how many."""

    def __init__(self) -> None:
        self.rows: list[int] = []
        self.count = 0

    def add(self, rows: Array) -> None:
        self.rows += rows[: ROWS_SHOWN - len(self.rows)].tolist()
        self.count += len(rows)


class BlockReader:
    """The next rows of a table that comes in blocks.

    Args:
        blocks: the table.
        schema: its columns.
    """

    def __init__(self, blocks: Iterator[pa.Table], schema: pa.Schema) -> None:
        self._blocks, self._held = blocks, schema.empty_table()

    def fill(self) -> int:
        """Return how many rows are at hand; 0 at the end."""
        while not self._held.num_rows and (block := next(self._blocks, None)) is not None:
            self._held = block
        return int(self._held.num_rows)

    def take(self, count: int) -> pa.Table:
        """Take rows that are at hand."""
        part, self._held = self._held.slice(0, count), self._held.slice(count)
        return part

    def take_while(self, wanted: Callable[[pa.Table], Mask]) -> pa.Table:
        """Take rows up to the first that is not wanted."""
        nothing, parts = self._held.slice(0, 0), []
        while self.fill():
            others = np.flatnonzero(~wanted(self._held))
            parts.append(self.take(int(others[0]) if len(others) else self._held.num_rows))
            if len(others):
                break
        return pa.concat_tables(parts or [nothing])

    def rest(self) -> Iterator[pa.Table]:
        """Yield all other rows."""
        while count := self.fill():
            yield self.take(count)


class DroppedRows:
    """Compares the stored list of rows left out with the one made anew."""

    def __init__(self, stored: Iterator[pa.Table]) -> None:
        self._stored = BlockReader(stored, DROPPED_SCHEMA)
        self._odd = Tally()

    def compare(self, anew: pa.Table, numbers: Array) -> None:
        """Compare the rows left out of a stretch, which has source rows of some numbers."""
        own = self._stored.take_while(lambda table: np.isin(numbers_of(table.column("row")), numbers))
        if not own.combine_chunks().equals(anew.combine_chunks()):
            before, after = (set(zip(*each.to_pydict().values(), strict=True)) for each in (own, anew))
            self._odd.add(np.unique([row for row, *_ in before ^ after]))

    def failures(self) -> Iterator[Failure]:
        """Yield whether they differ."""
        for block in self._stored.rest():
            self._odd.add(numbers_of(block.column("row")))
        if self._odd.count:
            what = "The list of rows left out, and why, is not the one that the plan gives."
            yield Failure("rows", "", what, tuple(self._odd.rows), self._odd.count)


def same_tables(stored: Iterator[pa.Table], anew: Iterator[pa.Table], name: str) -> Iterator[Failure]:
    """Yield whether two tables of imputed cells that come in blocks are the same."""
    a, b = BlockReader(stored, IMPUTED_SCHEMA), BlockReader(anew, IMPUTED_SCHEMA)
    while (count := min(a.fill(), b.fill())) > 0:
        failures = list(table_failures(a.take(count), b.take(count), name))
        if failures:
            yield failures[0]
            return
    if a.fill() != b.fill():
        yield Failure("file", name, f"The rows of {name} are not those of the build.")
