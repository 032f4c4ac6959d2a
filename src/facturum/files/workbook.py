"""A build as a workbook: matrix, columns with what they mean, rows left out, imputed cells, bins, forecasts."""

from __future__ import annotations

import io
import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import pyarrow as pa

from facturum.audit.checks.finding import NOTE
from facturum.audit.map.entries import ColumnMap
from facturum.audit.map.row_map import RowMap
from facturum.engine.planning.sections.spec import spec_from
from facturum.errors import DataError, counted
from facturum.files.folder import write_file
from facturum.files.plan_file import plan_text
from facturum.language.tree.writer import in_words

MOST_ROWS, MOST_COLUMNS, LONGEST = 1_048_576, 16_384, 32_767  # of a sheet, by the standard; characters of a cell
_MADE = datetime(2000, 1, 1)  # the same build gives the same bytes
_WIDEST, _AT_ONCE, _LINE = 80, 10_000, 15  # characters; rows; points


@dataclass(frozen=True)
class Content:
    """What a workbook holds.

    Args:
        columns: the column map, with digests.
        table: the design file.
        rows: the row map.
        imputed: the imputed cells.
        forecasts: to be written beside it; None for none.
    """

    columns: ColumnMap
    table: pa.Table
    rows: RowMap
    imputed: pa.Table
    forecasts: pa.Table | None = None


def write_workbook(content: Content, path: Path) -> None:
    """Write a build as a workbook, whole or not at all.

    Args:
        content: of the build.
        path: the .xlsx file.

    Raises:
        DataError: where the package that writes workbooks is not installed, the matrix is larger than a sheet, or the
            file cannot be written.
    """
    if path.suffix.lower() != ".xlsx":
        raise DataError(f"{path.name} cannot be written: a workbook ends in .xlsx", remedy="Write --out build.xlsx.")
    try:
        import xlsxwriter
    except ImportError:
        raise DataError(
            "the package that writes workbooks is not installed",
            remedy="Install facturum[sheets], or build with --format csv.",
        ) from None
    table = content.table
    if table.num_rows >= MOST_ROWS or table.num_columns > MOST_COLUMNS:
        raise DataError(
            f"a matrix of {counted(table.num_rows, 'row')} and {counted(table.num_columns, 'column')} is larger than a "
            f"sheet, which has {MOST_ROWS:,} rows and {MOST_COLUMNS:,} columns",
            remedy="Build with --format csv, or keep fewer rows.",
        )
    buffer = io.BytesIO()
    with xlsxwriter.Workbook(buffer, {"in_memory": True, "nan_inf_to_errors": False}) as book:
        book.set_properties({"created": _MADE, "title": _title(content.columns)})
        book.set_size(2400, 1600)
        sheets = _Sheets(book)
        for name, heads, rows in _tables(content):
            sheets.add(name, heads, rows)
    write_file(path, buffer.getvalue())


class _Sheets:
    """Writes tables into sheets: bold heads that stay in view, columns as wide as what is in them."""

    def __init__(self, book: Any) -> None:
        self._book = book
        self._head = book.add_format({"bold": True, "bottom": 1, "text_wrap": True, "valign": "top"})
        self._text = book.add_format({"text_wrap": True, "valign": "top", "indent": 1})
        self._number = book.add_format({"valign": "top"})
        self._day = book.add_format({"num_format": "yyyy-mm-dd", "valign": "top"})
        self._moment = book.add_format({"num_format": "yyyy-mm-dd hh:mm:ss", "valign": "top"})

    def add(self, name: str, heads: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
        """Add a sheet."""
        sheet = self._book.add_worksheet(name)
        widths = [min(len(head) + 2, _WIDEST) for head in heads]
        for at, head in enumerate(heads):
            sheet.write_string(0, at, head, self._head)
        line, deep = 0, dict[int, int]()
        for line, row in enumerate(rows, 1):
            for at, cell in enumerate(row):
                self._write(sheet, line, at, cell)
                if line <= _AT_ONCE and cell is not None:
                    widths[at] = min(max(widths[at], 10 if isinstance(cell, datetime) else len(str(cell)) + 2), _WIDEST)
            longest = max((len(cell) for cell in row if isinstance(cell, str)), default=0)
            if longest > _WIDEST - 4:
                deep[line] = -(-longest // (_WIDEST - 8))
        for at, width in enumerate(widths):
            sheet.set_column(at, at, width)
        for line, lines in deep.items():  # which not every program finds by itself
            sheet.set_row(line, _LINE * lines)
        sheet.freeze_panes(1, 0)
        sheet.repeat_rows(0)
        sheet.set_landscape()
        sheet.fit_to_pages(1, 0)
        if line:
            sheet.autofilter(0, 0, line, len(heads) - 1)

    def _write(self, sheet: Any, line: int, at: int, cell: Any) -> None:
        if cell is None or (isinstance(cell, float) and math.isnan(cell)):
            return
        if isinstance(cell, bool):
            sheet.write_boolean(line, at, cell)
        elif isinstance(cell, int | float):
            if math.isinf(cell):
                sheet.write_string(line, at, str(cell))
            else:
                sheet.write_number(line, at, cell, self._number)
        elif isinstance(cell, datetime):
            midnight = cell.time() == datetime.min.time()
            sheet.write_datetime(line, at, cell, self._day if midnight else self._moment)
        else:
            sheet.write_string(line, at, str(cell)[:LONGEST], self._text)


def _title(columns: ColumnMap) -> str:
    response = columns.resolved.get("response")
    return f"Design matrix of {in_words(response)}" if response else "Design matrix"


def _tables(content: Content) -> Iterator[tuple[str, Sequence[str], Iterable[Sequence[Any]]]]:
    """Yield the sheets: a name, heads and rows."""
    columns, rows = content.columns, content.rows
    yield "build", ("what", "text"), list(_about(columns))
    yield "matrix", content.table.column_names, _rows_of(content.table)
    yield "columns", _COLUMN_HEADS, [_column(columns, at) for at in range(len(columns.columns))]
    reasons = [rows.reasons[int(cause)] for cause in rows.causes]
    left_out = [(row, *reason) for row, reason in zip(rows.dropped.tolist(), reasons, strict=True)]
    yield "rows left out", ("row of the source", "reason", "place in the plan"), left_out
    yield "imputed cells", ("row of the source", "variable", "how", "value"), list(_imputed(content))
    if columns.bins:
        yield "bins", _BIN_HEADS, list(_bins(columns))
    if content.forecasts is not None:
        yield "forecasts", content.forecasts.column_names, _rows_of(content.forecasts)


def _about(columns: ColumnMap) -> Iterator[tuple[str, str]]:
    rows = columns.rows
    yield "matrix", _title(columns)
    yield "rows", f"{rows.kept:,} of {rows.given:,} rows kept"
    yield "made with", ", ".join(f"{name} {version}" for name, version in columns.made_with.items())
    yield from (("warning", warning) for warning in columns.warnings)
    yield from (("note", each.text) for each in columns.findings if each.level == NOTE)
    yield from (("plan", line) for line in plan_text(spec_from(columns.plan)).splitlines() if line)


def _rows_of(table: Any) -> Iterator[Sequence[Any]]:
    for batch in table.to_batches(max_chunksize=_AT_ONCE):
        yield from zip(*[column.to_pylist() for column in batch.columns], strict=True)


_COLUMN_HEADS = (
    "column", "term", "role", "what its coefficient b means", "reference", "formula", "source variables", "measure",
    "missing", "imputed", "mean", "sd", "smallest", "largest", "rows that are not zero",
)  # fmt: skip


def _column(columns: ColumnMap, at: int) -> Sequence[Any]:
    each = columns.columns[at]
    return (
        each.name, each.term, each.role, each.reading, each.reference, each.formula, ", ".join(each.sources),
        each.measure, each.missing, each.imputed, each.mean, each.sd, each.min, each.max, each.nonzero,
    )  # fmt: skip


def _imputed(content: Content) -> Iterator[Sequence[Any]]:
    entries = content.columns.imputations
    for cell in content.imputed.to_pylist():
        entry = entries[cell["imputation"]]
        value = cell["fill_text"] if cell["fill"] is None else cell["fill"]
        yield cell["source_row"], in_words(entry.variable), entry.how, value


_BIN_HEADS = (
    "terms",
    "variable",
    "bin",
    "from",
    "to",
    "rows",
    "percent",
    "smallest value",
    "largest value",
    "mean response",
)


def _bins(columns: ColumnMap) -> Iterator[Sequence[Any]]:
    for entry in columns.bins:
        for each in entry.bins:
            yield (
                ", ".join(entry.terms), in_words(entry.variable), each.label, each.low, each.high, each.rows,
                each.percent, each.smallest, each.largest, each.mean_response,
            )  # fmt: skip
