"""Parquet files that are written block by block, in groups of rows that do not depend on the blocks."""

from __future__ import annotations

import hashlib
import weakref
from contextlib import suppress
from pathlib import Path
from typing import Any

import pyarrow as pa
from pyarrow import parquet

from facturum.files.background import Behind

GROUP_BYTES = 2**26  # of a group of rows of doubles: what a writer and a reader hold at a time
MOST_ROWS, FEWEST_ROWS = 2**20, 2**10
_CHUNK = 2**20
WAITING = 1  # groups that may wait for the one being written


def rows_of_group(width: int) -> int:
    """Return how many rows of so many columns make a group: a power of two.

    Example:
        >>> rows_of_group(28), rows_of_group(1), rows_of_group(100_000)
        (262144, 1048576, 1024)
    """
    rows = GROUP_BYTES // (8 * max(width, 1))
    return max(FEWEST_ROWS, min(MOST_ROWS, 1 << max(rows.bit_length() - 1, 0)))


class GrowingDigest:
    """The SHA-256 of a file that grows: what has been written is read again, in a thread of its own.

    So the library that writes it need not wait for the digest, nor for Python.

    Args:
        path: the file.
    """

    def __init__(self, path: Path) -> None:
        self._file = path.open("rb", buffering=0)
        weakref.finalize(self, self._file.close)
        self._digest = hashlib.sha256()
        self._done = 0
        self._behind = Behind(1)

    def follow(self, size: int) -> None:
        """Take in the file as far as it has been written."""
        self._behind.do(lambda: self._read(size))

    def _read(self, size: int) -> None:
        while self._done < size:
            part = self._file.read(min(_CHUNK, size - self._done))
            if not part:
                raise OSError("a file is shorter than it was written")
            self._digest.update(part)
            self._done += len(part)

    def finish(self, size: int) -> str:
        """Return the digest of the whole file."""
        self.follow(size)
        self._behind.finish()
        self._file.close()
        return self._digest.hexdigest()

    def abandon(self) -> None:
        """Leave it."""
        self._behind.abandon()
        self._file.close()


class ParquetGroups:
    """A Parquet file on its way: blocks of rows become groups, written while the next block is made.

    Args:
        path: where.
        schema: of the rows.
        rows: of a group.
        options: how columns are written.
    """

    def __init__(self, path: Path, schema: pa.Schema, rows: int, **options: Any) -> None:
        self._file = pa.OSFile(str(path), "wb")
        self._digest = GrowingDigest(path)
        self._writer = parquet.ParquetWriter(
            self._file, schema, compression="zstd", write_page_checksum=True, **options
        )
        self._schema, self._rows = schema, rows
        self._waiting: list[pa.Table] = []
        self._count = 0
        self._behind = Behind(WAITING)
        self._empty = True

    def add(self, block: pa.Table) -> None:
        """Write further rows."""
        start = 0
        while start < block.num_rows:
            part = block.slice(start, self._rows - self._count)
            self._waiting.append(part)
            self._count += part.num_rows
            start += part.num_rows
            if self._count == self._rows:
                self._write()

    def _write(self) -> None:
        group = pa.concat_tables(self._waiting).combine_chunks()
        self._waiting, self._count = [], 0
        self._behind.do(lambda: self._write_group(group))
        self._empty = False

    def _write_group(self, group: pa.Table) -> None:
        self._writer.write_table(group, row_group_size=self._rows)
        self._digest.follow(self._file.tell())

    def finish(self) -> str:
        """Write what is left, end the file, and return its digest."""
        if self._count or self._empty:
            if not self._waiting:
                self._waiting = [self._schema.empty_table()]
            self._write()
        self._behind.finish()
        self._writer.close()
        size = self._file.tell()
        self._file.close()
        return self._digest.finish(size)

    def abandon(self) -> None:
        """End the file as it is."""
        self._behind.abandon()
        with suppress(OSError, pa.ArrowException):
            self._writer.close()
            self._file.close()
        self._digest.abandon()
