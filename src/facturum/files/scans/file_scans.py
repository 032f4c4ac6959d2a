"""Files that are read block by block: Parquet, also folders of them, Arrow and text."""

from __future__ import annotations

import csv
import zipfile
import zlib
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

import pyarrow as pa
from pyarrow import feather, parquet

from facturum.data.table import Table
from facturum.errors import DataError
from facturum.files.scans.scans import Counted, Scan, TableScan, known_columns
from facturum.files.scans.sheets import SHEETS, read_sheet
from facturum.files.scans.text_tables import TextForm, TextScan

TEXT = (".csv", ".tsv", ".txt")
PARQUET = (".parquet", ".pq")
ARROW = (".arrow", ".feather", ".ipc")
# of programs that can export a table as text
OTHER_PROGRAMS = (
    ".xls",
    ".xlsb",
    ".xlsm",
    ".numbers",
    ".sav",
    ".por",
    ".dta",
    ".sas7bdat",
    ".xpt",
    ".rds",
    ".rdata",
    ".mat",
    ".mdb",
    ".accdb",
    ".dbf",
    ".pdf",
    ".doc",
    ".docx",
    ".html",
    ".json",
    ".xml",
    ".zip",
)


# what libraries raise for files that are not what they should be
UNREADABLE = (
    pa.ArrowException,
    OSError,
    ValueError,
    csv.Error,
    LookupError,
    TypeError,
    OverflowError,
    EOFError,
    zipfile.BadZipFile,
    zlib.error,
    MemoryError,
    NotImplementedError,
)


@contextmanager
def readable(name: str) -> Iterator[None]:
    """Make one error of all that libraries raise while a file is read.

    Raises:
        DataError: where it cannot be read.
    """
    try:
        yield
    except UNREADABLE as problem:
        first = (str(problem).strip().splitlines() or [type(problem).__name__])[0]
        remedy = "Check that the file is whole, and its ending, delimiter and encoding."
        raise DataError(f"{name} cannot be read: {first}", remedy=remedy) from None


@dataclass(frozen=True)
class FileScan:
    """A table in files, whose faults are told as such."""

    scan: Scan

    @property
    def source(self) -> str:
        return self.scan.source

    @property
    def notes(self) -> tuple[str, ...]:
        with readable(self.source):
            return self.scan.notes

    @property
    def length(self) -> int:
        with readable(self.source):
            return self.scan.length

    @property
    def about(self) -> int:
        with readable(self.source):
            return self.scan.about

    def first(self, columns: Collection[str] | None, rows: int) -> Table | None:
        """Return its first rows."""
        with readable(self.source):
            return self.scan.first(columns, rows)

    def blocks(self, columns: Collection[str] | None, rows: int) -> Iterator[Table]:
        """Yield the table in blocks, as the scan does."""
        blocks = iter(self.scan.blocks(columns, rows))
        while True:
            with readable(self.source):
                block = next(blocks, None)
            if block is None:
                return
            yield block


def scan_of(path: Path, form: TextForm) -> FileScan:
    """Return a file, or a folder of Parquet files, as a table that is read block by block.

    Args:
        path: its ending gives the format.
        form: how text files are written.

    Raises:
        DataError: where it is not found, or its ending is not known.
    """
    with readable(path.name):
        return FileScan(_scan_of(path, form))


def _scan_of(path: Path, form: TextForm) -> Scan:
    ending = path.suffix.lower()
    if path.is_dir():
        return ParquetScan(path.name, parts_of(path))
    if not path.is_file():
        raise DataError(f"the file {path} is not found", remedy="Check the path.")
    if ending in PARQUET:
        return ParquetScan(path.name, parts_of(path))
    if ending in ARROW:
        return _arrow_scan(path)
    if ending in TEXT:
        return TextScan(path, form)
    if ending in SHEETS:
        return TableScan(read_sheet(path, form))
    raise unknown_ending(path)


def unknown_ending(path: Path) -> DataError:
    """Return the error for a file of another format, with what to do about it."""
    remedy = "Use .csv, .tsv, .parquet, .arrow, .feather, .xlsx or .ods, or a folder of Parquet files."
    if path.suffix.lower() == ".toml":
        return DataError(f"{path.name} is a plan, and the data are wanted here", remedy="Write PLAN first, then DATA.")
    if path.suffix.lower() in OTHER_PROGRAMS:
        remedy = "Export the table from its program as CSV, in UTF-8."
    return DataError(f"{path.name} has an ending that is not known", remedy=remedy)


@dataclass(frozen=True)
class _Part:
    """One file of a table, and what the names of its folders say of all its rows."""

    path: Path
    keys: dict[str, Any] = field(default_factory=dict)


def parts_of(folder: Path) -> tuple[_Part, ...]:
    """Return the Parquet files of a folder in the order of their paths; folders named ``key=value`` give variables.

    Raises:
        DataError: where there are none, or they do not have the same variables.
    """
    if folder.is_file():
        return (_Part(folder),)
    from pyarrow import dataset  # which takes a while to load

    files = sorted(
        str(file)
        for file in folder.rglob("*")
        if file.suffix.lower() in PARQUET and not any(p.startswith((".", "_")) for p in file.relative_to(folder).parts)
    )
    if not files:
        raise DataError(f"{folder} holds no Parquet files", remedy="Name a file, or a folder of .parquet files.")
    _refuse_unequal(folder, files)
    found = dataset.dataset(files, format="parquet", partitioning="hive", partition_base_dir=str(folder))
    kinds = {each.name: each.type for each in found.schema}
    parts = []
    for fragment in found.get_fragments():
        keys = dataset.get_partition_keys(fragment.partition_expression)
        typed = {name: pa.scalar(value, kinds[name]) for name, value in sorted(keys.items())}
        parts.append(_Part(Path(fragment.path), typed))
    return tuple(sorted(parts, key=lambda part: str(part.path)))


def _refuse_unequal(folder: Path, files: list[str]) -> None:
    """Refuse files that do not have the same variables, before any row is read."""
    first: tuple[str, pa.Schema] | None = None
    for file in files:
        name = str(Path(file).relative_to(folder))
        with readable(name):
            schema = parquet.read_schema(file)
        first = first or (name, schema)
        if not schema.equals(first[1]):
            raise DataError(
                f"{name} does not have the variables of {first[0]}, the first file of {folder.name}",
                remedy="Name a folder whose files all have the same variables and types.",
            )


@dataclass(frozen=True)
class ParquetScan(Counted):
    """Parquet files under one another.

    Args:
        source: what messages call them.
        parts: the files.
    """

    source: str
    parts: tuple[_Part, ...]
    notes: tuple[str, ...] = ()

    def whole(self, columns: Collection[str] | None) -> pa.Table:
        """Return all of them as one table, or the variables wanted where all of them are in it."""
        tables = []
        for part in self.parts:
            with _opened(part.path) as file:
                wanted = known_columns(columns, [*file.schema_arrow.names, *part.keys])
                table = file.read(None if wanted is None else [name for name in wanted if name not in part.keys])
            tables.append(_with_keys(table, part, wanted))
        return pa.concat_tables(tables) if len(tables) > 1 else tables[0]

    @cached_property
    def length(self) -> int:
        """Their rows."""
        return sum(parquet.read_metadata(part.path).num_rows for part in self.parts)

    def blocks(self, columns: Collection[str] | None, rows: int) -> Iterator[Table]:
        """Yield the table in blocks.

        Args:
            columns: the variables to read, where all of them are in it; all others are left out.
            rows: of a block, at most.
        """
        for part in self.parts:
            with _opened(part.path) as file:
                wanted = known_columns(columns, [*file.schema_arrow.names, *part.keys])
                stored = None if wanted is None else [name for name in wanted if name not in part.keys]
                for group in range(file.num_row_groups):  # one by one, as what has been read of others is kept
                    for batch in file.iter_batches(rows, [group], stored):
                        batch.validate(full=True)
                        yield Table.of(_with_keys(pa.Table.from_batches([batch]), part, wanted), self.source)


def _opened(path: Path) -> parquet.ParquetFile:
    """Open a Parquet file whose texts are read as categories, as they are stored."""
    schema = parquet.read_schema(path)
    texts = [each.name for each in schema if pa.types.is_string(each.type) or pa.types.is_large_string(each.type)]
    return parquet.ParquetFile(path, read_dictionary=texts, page_checksum_verification=True)


def _with_keys(table: pa.Table, part: _Part, wanted: list[str] | None) -> pa.Table:
    """Return rows with the variables that the names of their file's folders give."""
    for name, value in part.keys.items():
        if wanted is None or name in wanted:
            table = table.append_column(name, pa.repeat(value, table.num_rows))
    return table


def arrow_names(path: Path) -> tuple[str, ...] | None:
    """Return the names of the columns of an Arrow file; None of an older form, which is read whole."""
    try:
        with pa.OSFile(str(path)) as file:
            return tuple(pa.ipc.open_file(file).schema.names)
    except pa.ArrowInvalid:
        return None


def _arrow_scan(path: Path) -> Scan:
    """Return an Arrow file, or one of an older form whole."""
    names = arrow_names(path)
    if names is not None:
        return ArrowScan(path, names)
    return TableScan(Table.of(feather.read_table(path, memory_map=False), path.name))


@dataclass(frozen=True)
class ArrowScan(Counted):
    """An Arrow file, read by its own batches."""

    path: Path
    names: tuple[str, ...]
    notes: tuple[str, ...] = ()

    @property
    def source(self) -> str:
        """What messages call it."""
        return self.path.name

    @cached_property
    def length(self) -> int:
        """Its rows."""
        with pa.OSFile(str(self.path)) as file:
            return int(pa.ipc.open_file(file).count_rows())

    def blocks(self, columns: Collection[str] | None, rows: int) -> Iterator[Table]:
        """Yield the table in blocks.

        Args:
            columns: the variables to read, where all of them are in it; all others are left out.
            rows: of a block, at most.
        """
        wanted = known_columns(columns, list(self.names))
        fields = None if wanted is None else [self.names.index(name) for name in wanted]
        with pa.OSFile(str(self.path)) as file:
            reader = pa.ipc.open_file(file, options=pa.ipc.IpcReadOptions(included_fields=fields or []))
            for at in range(reader.num_record_batches):
                batch = reader.get_batch(at)
                batch.validate(full=True)
                for start in range(0, batch.num_rows, rows):
                    yield Table.of(pa.Table.from_batches([batch.slice(start, rows)]), self.source)
