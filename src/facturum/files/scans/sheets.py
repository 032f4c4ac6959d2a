"""Tables in the sheets of a workbook: .xlsx and .ods."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace
from datetime import date, datetime, time
from pathlib import Path
from typing import Any

import pyarrow as pa

from facturum.data.table import Table
from facturum.data.values import label_text, plain_number
from facturum.errors import DataError, counted, nearest, reading_option
from facturum.files.scans.cell_types import CellType
from facturum.files.scans.layout import Record, names_line
from facturum.files.scans.scans import known_columns
from facturum.files.scans.text_tables import TextForm

SHEETS = (".xlsx", ".ods")
FIRST = 5_000  # lines that are looked at to find how a sheet is laid out
FAULTS = ("#N/A", "#DIV/0!", "#VALUE!", "#REF!", "#NAME?", "#NUM!", "#NULL!", "Err:")  # of formulas


def read_sheet(path: Path, form: TextForm, columns: Collection[str] | None = None, most: int | None = None) -> Table:
    """Read the table of a sheet.

    Numbers, dates and truth values are as the sheet holds them, whatever it shows: 9 % is 0.09. A column of several
    types is text. Cells in which a formula has failed are missing; with a note, where they are not read as empty ones.

    Args:
        path: the workbook.
        form: the sheet, the line of the names, words that mean a missing value, and how numbers are written as text.
        columns: the variables to read, where all of them are in it; None for all.
        most: of the lines, how many are read; None for all.

    Raises:
        DataError: where the package that reads sheets is not installed, there is no such sheet, or it has no table.
    """
    name, rows = _sheet(path, form.sheet, most)
    names = [_text(cell) for cell in rows.get(form.header_line, [])]
    while names and not names[-1]:
        names.pop()
    where = f"line {form.header_line} of the sheet {name}"
    if not names:
        remedy = f"Write the line in which they stand, such as {reading_option(header_line=2)}."
        raise DataError(f"{path.name}: {where} holds no names", remedy=remedy)
    for at, each in enumerate(names):
        if not each or names.count(each) > 1:
            what = f"column {at + 1} has no name" if not each else f"two columns have the name {each!r}"
            raise DataError(f"{path.name}, {where}: {what}", remedy="Give each column a name of its own.")
    below = [cells for line, cells in rows.items() if line > form.header_line]
    wanted = known_columns(columns, names) or names
    made, notes = [], []
    for each in wanted:
        at = names.index(each)
        cells = [row[at] if at < len(row) else "" for row in below]
        failed = [isinstance(cell, str) and cell.startswith(FAULTS) for cell in cells]
        if any(failed):
            shown = next(cell for cell, fails in zip(cells, failed, strict=True) if fails)
            many = f"{counted(sum(failed), 'cell')} of '{each}' in {path.name} {'is' if sum(failed) == 1 else 'are'}"
            notes.append(f"{many} taken as missing: a formula has failed there ({shown})")
        made.append(_column(["" if fails else cell for cell, fails in zip(cells, failed, strict=True)], form))
    return replace(Table.of(pa.table(made, names=wanted), path.name), notes=tuple(notes))


def found_in_sheet(path: Path, sheet: str | None) -> dict[str, Any]:
    """Return the line of the names, where it is not the first.

    Raises:
        DataError: where several sheets have a table, or none has.
    """
    _, rows = _sheet(path, sheet, FIRST)
    width = max(map(len, rows.values()), default=0)
    records: list[Record] = [
        (line, [_text(cell) for cell in [*cells, *[""] * (width - len(cells))]]) for line, cells in rows.items()
    ]
    line = names_line(records)
    return {} if line in (None, 1) else {"header_line": line}


def _sheet(path: Path, wanted: str | None, most: int | None = None) -> tuple[str, dict[int, list[Any]]]:
    """Return a sheet and its rows that hold something, by line; of its first lines where so many are wanted."""
    try:
        import python_calamine as calamine
    except ImportError:
        raise DataError(
            f"{path.name} is a workbook, and the package that reads it is not installed",
            remedy="Install facturum[sheets], or save the sheet as CSV.",
        ) from None
    try:
        with calamine.load_workbook(path) as book:
            names = list(book.sheet_names)
            if wanted is not None and wanted not in names:
                raise DataError(
                    f"{path.name} has no sheet '{wanted}'{nearest(wanted, names)}",
                    remedy="It has " + ", ".join(names) + ".",
                )
            tables = {name: _rows(book.get_sheet_by_name(name), most) for name in ([wanted] if wanted else names)}
    except (calamine.CalamineError, OSError, ValueError) as problem:
        raise DataError(f"{path.name} cannot be read: {problem}", remedy="Check that it is whole.") from None
    held = {name: rows for name, rows in tables.items() if len(rows) > 1}
    if len(held) > 1:
        typed = reading_option(sheet=next(iter(held)))
        raise DataError(
            f"{path.name} has {counted(len(held), 'sheet')} with tables: {', '.join(held)}",
            remedy=f"Name one of them, such as {typed}.",
        )
    if not held:
        raise DataError(f"{path.name} has no table", remedy="A table has a line of names, and rows below it.")
    return next(iter(held.items()))


def _rows(sheet: Any, most: int | None) -> dict[int, list[Any]]:
    rows = sheet.to_python(skip_empty_area=False, nrows=most)
    return {line: cells for line, cells in enumerate(rows, 1) if any(cell != "" for cell in cells)}


def _text(cell: Any) -> str:
    if isinstance(cell, bool):
        return str(cell).lower()
    if isinstance(cell, datetime):
        return cell.isoformat(" ") if cell.time() != time() else cell.date().isoformat()
    return cell.strip() if isinstance(cell, str) else label_text(plain_number(cell) if _is_number(cell) else str(cell))


def _is_number(cell: Any) -> bool:
    return isinstance(cell, int | float) and not isinstance(cell, bool)


def _column(cells: Sequence[Any], form: TextForm) -> pa.Array:
    """Return cells in the type that all of them have."""
    given = [None if isinstance(cell, str) and cell.strip() in form.missing else cell for cell in cells]
    present = [cell for cell in given if cell is not None]
    if not present:
        return pa.nulls(len(given))
    if all(isinstance(cell, bool) for cell in present):
        return pa.array(given, pa.bool_())
    if all(_is_number(cell) for cell in present):
        whole = all(float(cell).is_integer() and abs(cell) < 2**53 for cell in present)
        return pa.array([None if cell is None else int(cell) if whole else float(cell) for cell in given])
    if all(isinstance(cell, date) for cell in present):
        moments = [None if cell is None else _moment(cell) for cell in given]
        days = all(moment is None or moment.time() == time() for moment in moments)
        return pa.array(moments, pa.timestamp("us")).cast(pa.date32() if days else pa.timestamp("us"))
    words = pa.array([None if cell is None else _text(cell) for cell in given], pa.string()).dictionary_encode()
    kinds = CellType(form.numbers)
    kinds.see(words.dictionary)
    return kinds.typed(words)


def _moment(cell: date) -> datetime:
    return cell if isinstance(cell, datetime) else datetime(cell.year, cell.month, cell.day)
