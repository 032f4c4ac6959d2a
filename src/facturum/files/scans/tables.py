"""Tables from CSV, Parquet and Arrow files."""

from __future__ import annotations

import io
from collections.abc import Collection, Sequence
from pathlib import Path

import pyarrow as pa
from pyarrow import csv as arrow_csv
from pyarrow import feather, parquet

from facturum.data.number_text import NumberForm
from facturum.data.table import Table
from facturum.errors import DataError
from facturum.files.folder import write_file
from facturum.files.scans.file_scans import (
    ARROW,
    PARQUET,
    TEXT,
    ParquetScan,
    arrow_names,
    parts_of,
    readable,
    unknown_ending,
)
from facturum.files.scans.scans import known_columns
from facturum.files.scans.sheets import SHEETS, read_sheet
from facturum.files.scans.text_tables import TextForm, read_text
from facturum.support.arguments import checked


@checked
def read(
    path: str | Path,
    *,
    missing_values: Sequence[str] = ("", "NA"),
    delimiter: str | None = None,
    decimal: str = ".",
    encoding: str = "utf-8",
    thousands: str = "",
    header_line: int = 1,
    sheet: str | None = None,
    columns: Collection[str] | None = None,
) -> Table:
    """Read a table from a CSV, Parquet, Arrow or Feather file, or a sheet of a workbook.

    In text files a column is a number, a truth value or a date where all its cells are; whole numbers with leading
    zeros or too many digits, and all else, are text. Nothing is dropped: one cell that is not a number makes a column
    text. Quotes that are not closed and records with other numbers of cells are errors.

    Args:
        path: the file; its ending gives the format (.csv, .tsv, .txt; .parquet; .arrow, .feather; .xlsx, .ods). Or a
            folder of Parquet files, in which folders named ``key=value`` give variables.
        missing_values: words that mean a missing value, in text files.
        delimiter: between the cells; a comma, or a tab in .tsv, where none is given.
        decimal: the decimal mark.
        encoding: of text files.
        thousands: what stands between groups of three digits.
        header_line: the line with the names, counted from 1; what is above is not read.
        sheet: of a workbook, the sheet to read; the only one with a table where none is given.
        columns: those to read; all where none are given, or one of them is not in it.

    Returns:
        The table.

    Raises:
        DataError: where the file is not found, is not a table, or is cut short; in text files with the line.
    """
    path = Path(path)
    mark = delimiter or usual_delimiter(path)
    numbers = NumberForm(decimal, thousands)
    return read_file(path, TextForm(tuple(missing_values), mark, numbers, encoding, header_line, sheet), columns)


def usual_delimiter(path: Path) -> str:
    """Return what parts the cells of a text file where nothing is said: a tab in .tsv, else a comma."""
    return "\t" if path.suffix.lower() == ".tsv" else ","


def read_file(path: Path, form: TextForm, columns: Collection[str] | None = None) -> Table:
    """Read a table from a file, as `read` does.

    Args:
        path: the file, or a folder of Parquet files.
        form: how texts and sheets are written.
        columns: those to read; all where none are given, or one of them is not in it.

    Raises:
        DataError: where the file is not found, is not a table, or is cut short.
    """
    with readable(path.name):
        ending = path.suffix.lower()
        if path.is_dir() or (ending in PARQUET and path.is_file()):
            return _whole(ParquetScan(path.name, parts_of(path)).whole(columns), path)
        if not path.is_file():
            raise DataError(f"the file {path} is not found", remedy="Check the path.")
        if ending in ARROW:
            names = arrow_names(path)
            wanted = None if names is None else known_columns(columns, list(names))
            return _whole(feather.read_table(path, wanted, memory_map=False), path)
        if ending in TEXT:
            return read_text(path, form, columns)
        if ending in SHEETS:
            return read_sheet(path, form, columns)
    raise unknown_ending(path)


def write_table(table: Table, path: Path) -> None:
    """Write a table as CSV, Parquet or Arrow, whole or not at all.

    Args:
        table: the table.
        path: the file; its ending gives the format (.csv, .tsv; .parquet; .arrow, .feather).

    Raises:
        DataError: for another ending, or where it cannot be written.
    """
    ending = path.suffix.lower()
    arrow, buffer = table.to_arrow(), io.BytesIO()
    if ending in TEXT:
        options = arrow_csv.WriteOptions(delimiter="\t" if ending == ".tsv" else ",", quoting_style="needed")
        arrow_csv.write_csv(pa.table([_as_days(column) for column in arrow], arrow.column_names), buffer, options)
    elif ending in PARQUET:
        parquet.write_table(arrow, buffer, write_page_checksum=True)
    elif ending in ARROW:
        feather.write_feather(arrow, buffer)
    else:
        known = ", ".join((*TEXT, *PARQUET, *ARROW))
        raise DataError(f"{path.name} cannot be written: its ending is not supported", remedy=f"Use one of {known}.")
    write_file(path, buffer.getvalue())


def _as_days(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Return moments that are all the beginning of a day as days, which is shorter in text."""
    if not pa.types.is_timestamp(column.type):
        return column
    days = column.cast(pa.date32(), safe=False)
    return days if days.cast(column.type).equals(column) else column


def _whole(arrow: pa.Table, path: Path) -> Table:
    arrow.validate(full=True)  # before anything follows the offsets that the file gives
    return Table.of(arrow, path.name)
