"""Tables from CSV, Parquet and Arrow files."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Collection, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv as arrow_csv
from pyarrow import feather, parquet

from facturum.arguments import checked
from facturum.data.arrow_import import table_from
from facturum.data.number_text import NumberForm
from facturum.data.table import Table
from facturum.errors import DataError, counted
from facturum.files.folder import write_file
from facturum.files.text_scan import TextShape, scan

TEXT = (".csv", ".tsv", ".txt")
PARQUET = (".parquet", ".pq")
ARROW = (".arrow", ".feather", ".ipc")
RARE = 0.01  # the share of records over several lines up to which they are warned of
_BLOCK = 1 << 24
_WHOLE = r"^[+-]?\d+$"
_CODE = r"^[+-]?0\d+$"  # a leading zero would be lost as a number
_NUMBER = r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$|^[+-]?(?i:inf|infinity)$"
_TRUTH = r"^(?i:true|false)$"
_DAY = r"^\d{4}-\d{2}-\d{2}$"
_MOMENT = r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}(:\d{2}(\.\d{1,6})?)?$"
_REMEDY = "Check that the file is whole, and its ending, delimiter and encoding."


@checked
def read(
    path: str | Path,
    *,
    missing_values: Sequence[str] = ("", "NA"),
    delimiter: str | None = None,
    decimal: str = ".",
    encoding: str = "utf-8",
    thousands: str = "",
    columns: Collection[str] | None = None,
) -> Table:
    """Read a table from a CSV, Parquet, Arrow or Feather file.

    In text files a column is a number, a truth value or a date where all its cells are; whole numbers with leading
    zeros or too many digits, and all else, are text. Nothing is dropped: one cell that is not a number makes a column
    text. Quotes that are not closed and records with other numbers of cells are errors.

    Args:
        path: the file; its ending gives the format (.csv, .tsv, .txt; .parquet; .arrow, .feather).
        missing_values: words that mean a missing value, in text files.
        delimiter: between the cells; a comma, or a tab in .tsv, where none is given.
        decimal: the decimal mark.
        encoding: of text files.
        thousands: what stands between groups of three digits.
        columns: those to read of a Parquet or Arrow file; all where none are given, or one of them is not in it.

    Returns:
        The table.

    Raises:
        DataError: where the file is not found, is not a table, or is cut short; in text files with the line.
    """
    path = Path(path)
    try:
        if not path.is_file():
            what = f"{path} is a folder, not a table" if path.is_dir() else f"the file {path} is not found"
            raise DataError(what, remedy="Check the path.")
        ending = path.suffix.lower()
        if ending in PARQUET:
            return _whole(read_parquet(path, columns), path)
        if ending in ARROW:
            return _whole(feather.read_table(path, _known(columns, _arrow_names(path)), memory_map=False), path)
        if ending in TEXT:
            delimiter = delimiter or ("\t" if ending == ".tsv" else ",")
            return _read_text(path, list(missing_values), delimiter, NumberForm(decimal, thousands), encoding)
    except UNREADABLE as problem:
        first = (str(problem).strip().splitlines() or [type(problem).__name__])[0]
        raise DataError(f"{path.name} cannot be read: {first}", remedy=_REMEDY) from None
    raise DataError(
        f"{path.name} has an ending that is not known", remedy="Use .csv, .tsv, .parquet, .arrow or .feather."
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
    MemoryError,
    NotImplementedError,
)


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
        parquet.write_table(arrow, buffer)
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
    return table_from(arrow, path.name)


def read_parquet(path: Path, columns: Collection[str] | None = None) -> pa.Table:
    """Read a Parquet file, without what reads folders of them, which would load much more."""
    with parquet.ParquetFile(path) as file:
        return file.read(_known(columns, file.schema_arrow.names))


def _arrow_names(path: Path) -> list[str]:
    """Return the names of the columns of an Arrow file; none of an older form, which is read whole."""
    try:
        with pa.OSFile(str(path)) as file:
            return list(pa.ipc.open_file(file).schema.names)
    except pa.ArrowInvalid:
        return []


def _known(columns: Collection[str] | None, names: list[str]) -> list[str] | None:
    """Return the columns wanted in the order of the file; None for all."""
    if columns is None or len(set(names)) < len(names) or not set(columns) <= set(names):
        return None
    return [name for name in names if name in columns] or None


def _read_text(path: Path, missing: list[str], delimiter: str, form: NumberForm, encoding: str) -> Table:
    if len(delimiter) != 1 or not delimiter.isascii() or delimiter in '"\r\n\0' or delimiter == form.decimal == ",":
        raise DataError(
            f"{delimiter!r} cannot part the cells of {path.name}",
            remedy="A delimiter is one ASCII character, neither a quote nor the decimal mark.",
        )
    data = _lines(path, encoding)
    names = _header(data, path.name, delimiter)
    shape = scan(data, delimiter, len(names), path.name)
    parsed = _parsed(data, names, missing, delimiter, _BLOCK)
    table = pa.table([_typed(parsed.column(name), form) for name in names], names=names)
    return replace(table_from(table, path.name), notes=_notes(shape, path.name))


def _parsed(data: bytes, names: list[str], missing: list[str], delimiter: str, block: int) -> pa.Table:
    try:
        return arrow_csv.read_csv(
            pa.BufferReader(data),
            read_options=arrow_csv.ReadOptions(column_names=names, skip_rows_after_names=1, block_size=block),
            parse_options=arrow_csv.ParseOptions(
                delimiter=delimiter,
                newlines_in_values=True,
                ignore_empty_lines=len(names) > 1,  # in a file of one column, an empty line is a missing value
            ),
            convert_options=arrow_csv.ConvertOptions(
                column_types={name: pa.string() for name in names},
                null_values=missing,
                strings_can_be_null=True,
                quoted_strings_can_be_null=True,
            ),
        )
    except pa.ArrowInvalid:
        if block >= len(data):
            raise
        return _parsed(data, names, missing, delimiter, len(data) + 1)  # a cell may be longer than a block


def _notes(shape: TextShape, name: str) -> tuple[str, ...]:
    if not 0 < shape.long <= max(1, RARE * shape.records):
        return ()
    rows = f"{counted(shape.long, 'row')} of {name}"
    runs = "runs over several lines" if shape.long == 1 else "run over several lines"
    return (f"{rows} {runs}, the first from line {shape.first_long}: is a quote missing or left over?",)


def _lines(path: Path, encoding: str) -> bytes:
    """Return a text file in UTF-8, its lines ended by line feeds, without a mark of its byte order."""
    data = path.read_bytes()
    plain = encoding.lower().replace("_", "-") in ("utf-8", "utf8")
    if not plain or not data.isascii():
        try:
            text = data.decode("utf-8-sig" if plain else encoding)
        except UnicodeDecodeError as problem:
            line = data.count(b"\n", 0, problem.start) + 1
            wide = data[:2] in (b"\xff\xfe", b"\xfe\xff")
            other = "utf-16" if wide else "latin-1" if plain else "utf-8"
            raise DataError(
                f"{path.name}, line {line}: the bytes are not valid {encoding}",
                remedy=f'Write encoding = "{other}" under [data], or save the file as UTF-8.',
            ) from None
        data = text.encode("utf-8", "surrogatepass")
    if b"\0" in data:
        line = data.count(b"\n", 0, data.index(b"\0")) + 1
        raise DataError(
            f"{path.name}, line {line} holds a NUL character, so that it is not a text file",
            remedy="Give the file the ending of its format, or name its encoding.",
        )
    return data.replace(b"\r\n", b"\n").replace(b"\r", b"\n") if b"\r" in data else data


def _header(data: bytes, name: str, delimiter: str) -> list[str]:
    lines = io.StringIO(data[: 1 << 24].decode("utf-8", "replace"), newline="\n")
    names = next(csv.reader(lines, delimiter=delimiter), [])
    if not names:
        raise DataError(f"{name} is empty", remedy="A table has a first line with the names of its variables.")
    other = max({";", ",", "\t", "|"} - {delimiter}, key=names[0].count)
    if len(names) == 1 and names[0].count(other) > 1:
        raise DataError(
            f"{name} has one column by the delimiter {delimiter!r}, and its first line has "
            f"{other!r} {names[0].count(other)} times",
            remedy=f"Write delimiter = {json.dumps(other)} under [data] of the plan, and decimal where it is a comma; "
            "for profile and draft add --delimiter and --decimal.",
        )
    for at, name_at in enumerate(names):
        if not name_at.strip():
            raise DataError(f"{name}: column {at + 1} has no name", remedy="Name it in the first line.")
    twice = sorted({name_at for name_at in names if names.count(name_at) > 1}) if len(set(names)) < len(names) else []
    if twice:
        raise DataError(
            f"{name} has two columns of one name: {', '.join(repr(name_at) for name_at in twice)}",
            remedy="Rename one of them in the first line.",
        )
    return names


def _typed(column: pa.ChunkedArray, form: NumberForm) -> pa.ChunkedArray | pa.Array:
    """Return a text column in the type that all its cells have."""
    encoded = column.combine_chunks().dictionary_encode()
    if isinstance(encoded, pa.ChunkedArray):
        encoded = encoded.combine_chunks()
    words = encoded.dictionary
    if not len(words):
        return pa.nulls(len(column))
    typed = _typed_words(pc.utf8_trim_whitespace(words), form)
    return encoded if typed is None else typed.take(encoded.indices)


def _typed_words(words: pa.Array, form: NumberForm) -> Any:
    def all_match(pattern: str) -> bool:
        return bool(pc.all(pc.match_substring_regex(words, pattern)).as_py())

    unsigned = pc.replace_substring_regex(words, r"^\+", "")
    if all_match(_WHOLE):
        if pc.any(pc.match_substring_regex(words, _CODE)).as_py():
            return None
        try:
            return unsigned.cast(pa.int64())
        except pa.ArrowInvalid:
            return None  # more digits than a whole number holds: a code, kept as text
    if form.decimal == "." and all_match(_NUMBER):
        return unsigned.cast(pa.float64())
    if form != NumberForm():
        numbers = [form.number(word) for word in words.to_pylist()]
        if None not in numbers:
            return pa.array(numbers, pa.float64())
    if all_match(_TRUTH):
        return pc.equal(pc.utf8_lower(words), "true")
    try:
        if all_match(_DAY):
            return words.cast(pa.date32())
        if all_match(_MOMENT):
            return words.cast(pa.timestamp("us"))
    except pa.ArrowInvalid:
        return None
    return None
