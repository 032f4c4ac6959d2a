"""The formats of a design file, a class each: how it is written, and how it is read again."""

from __future__ import annotations

import io
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import ClassVar, Protocol

import numpy as np
import pyarrow as pa
from pyarrow import parquet

from facturum.audit.map.entries import ColumnMap
from facturum.audit.map.row_map import LEARNING_ROW, SOURCE_ROW
from facturum.errors import DataError
from facturum.files.builds.csv_files import CsvFile, CsvForm, read_csv
from facturum.files.builds.parquet_groups import ParquetGroups, rows_of_group
from facturum.files.builds.sparse_file import read_sparse, sparse_arrays
from facturum.files.folder import Buffer
from facturum.numerics.linear.sparse import SparseColumns


class BlockFile(Protocol):
    """A file whose rows are written block by block; ``finish`` returns its digest."""

    def add(self, block: pa.Table) -> None: ...
    def finish(self) -> str: ...
    def abandon(self) -> None: ...


class DesignFormat(ABC):
    """A format of the design file."""

    name: ClassVar[str]  # also the ending of the file
    streams: ClassVar[bool] = False  # it is written block by block
    sparse: ClassVar[bool] = False  # of X it holds the cells that are not zero
    by_column: ClassVar[bool] = False  # a column is read without the others
    is_text: ClassVar[bool] = False

    def opened(self, path: Path, schema: pa.Schema, written: CsvForm) -> BlockFile:
        """Return an empty file of a format that is written block by block."""
        raise NotImplementedError

    def content(
        self, design: pa.Table, matrix: Sequence[str], cells: SparseColumns | None, columns: ColumnMap
    ) -> bytes:
        """Return the content of a file that is written whole.

        Args:
            design: the table of the design file.
            matrix: the names of its columns of numbers.
            cells: of a sparse design the columns of X; the table has all others.
            columns: the column map.
        """
        raise NotImplementedError

    @abstractmethod
    def read(self, data: Buffer, columns: ColumnMap) -> tuple[pa.Table, SparseColumns | None]:
        """Return the table of a design file, and of a sparse one its columns of X.

        Raises:
            ValueError, pa.ArrowException: where it is not one of the columns of the map.
        """


def column_names(columns: ColumnMap) -> list[str]:
    """Return the names of the columns of numbers of a design file."""
    return [SOURCE_ROW, LEARNING_ROW, *[entry.name for entry in columns.columns]]


class ParquetDesign(DesignFormat):
    """Parquet: typed, compressed, read by column."""

    name, streams, by_column = "parquet", True, True

    def opened(self, path: Path, schema: pa.Schema, written: CsvForm) -> BlockFile:
        return ParquetGroups(path, schema, rows_of_group(len(schema)), use_dictionary=False)

    def read(self, data: Buffer, columns: ColumnMap) -> tuple[pa.Table, None]:
        return parquet_table(data), None


class CsvDesign(DesignFormat):
    """Text, for spreadsheets."""

    name, streams, is_text = "csv", True, True

    def opened(self, path: Path, schema: pa.Schema, written: CsvForm) -> BlockFile:
        return CsvFile(path, schema, written)

    def read(self, data: Buffer, columns: ColumnMap) -> tuple[pa.Table, None]:
        kinds = dict.fromkeys(column_names(columns)[2:], pa.float64())
        return read_csv(data, kinds | {SOURCE_ROW: pa.int64(), LEARNING_ROW: pa.bool_()}), None


class ArrayDesign(DesignFormat):
    """One array of NumPy's: numbers only, without carried variables."""

    name = "npy"

    def content(
        self, design: pa.Table, matrix: Sequence[str], cells: SparseColumns | None, columns: ColumnMap
    ) -> bytes:
        buffer = io.BytesIO()
        np.save(buffer, np.column_stack([design[name].to_numpy() for name in matrix]), allow_pickle=False)
        return buffer.getvalue()

    def read(self, data: Buffer, columns: ColumnMap) -> tuple[pa.Table, None]:
        matrix, names = np.load(io.BytesIO(bytes(data)), allow_pickle=False), column_names(columns)
        if matrix.ndim != 2 or matrix.shape[1] != len(names) or matrix.dtype != np.float64:
            raise ValueError("the matrix has another number of columns than the map")
        return pa.table({each: matrix[:, at] for at, each in enumerate(names)}), None


class SparseDesign(DesignFormat):
    """Arrays in compressed columns, of a sparse design."""

    name, sparse = "npz", True

    def content(
        self, design: pa.Table, matrix: Sequence[str], cells: SparseColumns | None, columns: ColumnMap
    ) -> bytes:
        assert cells is not None  # as a dense design is refused before
        buffer = io.BytesIO()
        np.savez(buffer, **sparse_arrays(design, cells, columns))  # type: ignore[arg-type]
        return buffer.getvalue()

    def read(self, data: Buffer, columns: ColumnMap) -> tuple[pa.Table, SparseColumns | None]:
        return read_sparse(data, columns)


FORMATS: Mapping[str, DesignFormat] = {
    each.name: each for each in (ParquetDesign(), CsvDesign(), ArrayDesign(), SparseDesign())
}
STREAMED = tuple(name for name, each in FORMATS.items() if each.streams)


def format_named(name: str, sparse: bool = False) -> DesignFormat:
    """Return a format by its name.

    Raises:
        DataError: where it is not one, or does not hold a sparse or dense design, with what to write instead.
    """
    if name not in FORMATS:
        *first, last = FORMATS
        raise DataError(f"'{name}' is not a valid format", remedy=f"Write {', '.join(first)} or {last}.")
    found = FORMATS[name]
    if found.sparse != sparse:
        own = next(each.name for each in FORMATS.values() if each.sparse)
        what = f"a sparse design is saved as {own} only" if sparse else f"only a sparse design is saved as {own}"
        raise DataError(what, remedy=f'Write format="{own}".' if sparse else "Build it with sparse=True.")
    return found


def parquet_of(data: Buffer) -> parquet.ParquetFile:
    """Return a Parquet file, whose pages are compared with their checksums when they are read."""
    return parquet.ParquetFile(pa.BufferReader(pa.py_buffer(data)), page_checksum_verification=True)


def parquet_table(data: Buffer) -> pa.Table:
    """Return the table of a Parquet file, looked through."""
    with parquet_of(data) as file:
        table = file.read()
    table.validate(full=True)
    return table
