"""The stored rows of a build, in the stretches in which they are made anew."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import partial

import numpy as np
import pyarrow as pa

from facturum.audit.map.row_map import SOURCE_ROW
from facturum.audit.source.fingerprints import ColumnDigest, sparse_digests
from facturum.data.values import Array, FloatArray
from facturum.errors import AuditError
from facturum.files.background import Behind
from facturum.files.builds.built_design import Origin
from facturum.files.builds.stored_build import numbers_of
from facturum.files.verifying.comparing import BlockReader
from facturum.numerics.linear.sparse import SparseColumns
from facturum.support.threads import on_threads

BLOCK = 2**16


@dataclass(frozen=True)
class StoredStretch:
    """The stored rows of a stretch.

    Args:
        table: the rows of the design file.
        kept: their source row numbers.
        at: their positions in the table, those of all rows counted from 0.
        columns: those of the map that the table has.
        cells: of a sparse design all cells of X.
        places: of the columns of X in these.
        first: how many stored rows come before.
    """

    table: pa.Table
    kept: Array
    at: Array
    columns: Mapping[str, FloatArray]
    cells: SparseColumns | None
    places: Mapping[str, int]
    first: int

    def values(self, name: str, some: slice | Array) -> FloatArray:
        """Return a column in some of the rows, a slice or places of them."""
        if name in self.columns:
            values: FloatArray = self.columns[name][some]
            return values
        assert self.cells is not None  # as no other column is asked for
        if isinstance(some, slice):
            return self.cells.between(self.places[name], self.first + some.start, self.first + some.stop)
        return self.cells.at(self.places[name], self.first + some)


class StoredRows:
    """The stored rows of a build, taken in their order, and the digests of its columns.

    Args:
        origin: the build.
        schema: the columns of its design file.
    """

    def __init__(self, origin: Origin, schema: pa.Schema) -> None:
        own = set(schema.names)
        entries = origin.audited.columns
        self.cells = origin.cells
        X = [entry.name for entry in entries if entry.position is not None]  # noqa: N806 - the field's standard name
        self._places = {} if self.cells is None else {name: at for at, name in enumerate(X)}
        self.names = [entry.name for entry in entries if entry.name in self._places or entry.name in own]
        self._digests = {name: ColumnDigest() for name in self.names if name not in self._places}
        self._behind = Behind(0)
        self._rows = BlockReader(self._read(origin), schema)
        self.count = 0

    def _read(self, origin: Origin) -> Iterator[pa.Table]:
        """Yield the rows of the design file, and take the digests of its columns beside."""
        for block in origin.blocks(BLOCK):
            self._behind.do(partial(self._take_digests, block))
            yield block

    def _take_digests(self, block: pa.Table) -> None:
        for name, digest in self._digests.items():
            digest.add(numbers_of(block.column(name)))

    def of_stretch(self, start: int, numbers: Array) -> StoredStretch:
        """Return the next stored rows, as far as they are of a stretch of the table.

        Args:
            start: where the stretch begins in the table.
            numbers: the source row numbers of its rows.
        """
        order = None if (np.diff(numbers) == 1).all() else np.argsort(numbers)

        def place(table: pa.Table) -> Array:
            rows = source_rows(table)
            if order is None:
                return np.asarray(np.clip(rows - numbers[0], 0, len(numbers) - 1))
            places: Array = order[np.minimum(np.searchsorted(numbers, rows, sorter=order), len(numbers) - 1)]
            return places

        table = self._rows.take_while(lambda table: numbers[place(table)] == source_rows(table))
        at = place(table)
        names = list(self._digests)
        columns = on_threads(lambda name: numbers_of(table.column(name)), names)
        first, self.count = self.count, self.count + len(at)
        stored = dict(zip(names, columns, strict=True))
        return StoredStretch(table, numbers[at], at + start, stored, self.cells, self._places, first)

    def rest(self) -> Iterator[Array]:
        """Yield the source row numbers of all rows that were not taken."""
        return map(source_rows, self._rows.rest())

    def digests(self) -> dict[str, str]:
        """Return the digests of the columns, once all rows were read."""
        self._behind.finish()
        marks = {name: digest.hexdigest() for name, digest in self._digests.items()}
        return marks if self.cells is None else marks | dict(zip(self._places, sparse_digests(self.cells), strict=True))


def source_rows(block: pa.Table) -> Array:
    """Return the source row numbers of stored rows, which a file of doubles holds as doubles."""
    rows: Array = numbers_of(block.column(SOURCE_ROW)).astype(np.int64)
    return rows


def rows_are_in_order(origin: Origin) -> bool:
    """Return whether the rows of a build are in the order of their source; not where they cannot be read."""
    last = 0
    try:
        for block in origin.blocks(BLOCK * 16, None, [SOURCE_ROW]):
            rows = source_rows(block)
            if len(rows) and (rows[0] <= last or (np.diff(rows) < 1).any()):
                return False
            last = int(rows[-1]) if len(rows) else last
    except AuditError:
        return False
    return True
