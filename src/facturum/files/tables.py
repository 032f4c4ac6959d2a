"""Tables from CSV, Parquet and Arrow files."""

from __future__ import annotations

import csv
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv as arrow_csv
from pyarrow import feather, parquet

from facturum.data.intake import table_from
from facturum.data.table import Table
from facturum.errors import DataError

TEXT = (".csv", ".tsv", ".txt")
PARQUET = (".parquet", ".pq")
ARROW = (".arrow", ".feather", ".ipc")
_WHOLE = r"^[+-]?\d+$"
_CODE = r"^[+-]?0\d+$"  # a leading zero would be lost as a number
_NUMBER = r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$|^[+-]?(?i:inf|infinity)$"
_TRUTH = r"^(?i:true|false)$"
_DAY = r"^\d{4}-\d{2}-\d{2}$"
_MOMENT = r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}(:\d{2}(\.\d{1,6})?)?$"


def read(
    path: str | Path,
    *,
    missing_values: Sequence[str] = ("", "NA"),
    delimiter: str | None = None,
    decimal: str = ".",
    encoding: str = "utf-8",
) -> Table:
    """Read a table from a CSV, Parquet, Arrow or Feather file.

    In text files a column is a number, a truth value or a date where all its cells are; whole numbers with leading
    zeros or too many digits, and all else, are text. Nothing is dropped: one cell that is no number makes a column
    text.

    Args:
        path: the file; its ending tells the format (.csv, .tsv, .txt; .parquet; .arrow, .feather).
        missing_values: words that mean a missing value, in text files.
        delimiter: between the cells; a comma, or a tab in .tsv, where none is given.
        decimal: the decimal mark.
        encoding: of text files.

    Returns:
        The table.

    Raises:
        DataError: where the file is not there, is no table, or is cut short.
    """
    path = Path(path)
    if not path.is_file():
        what = f"{path} is a folder, no table" if path.is_dir() else f"there is no file {path}"
        raise DataError(what, remedy="Check the path.")
    try:
        if path.suffix.lower() in PARQUET:
            found = read_parquet(path)
        elif path.suffix.lower() in ARROW:
            found = feather.read_table(path)
        elif path.suffix.lower() in TEXT:
            delimiter = delimiter or ("\t" if path.suffix.lower() == ".tsv" else ",")
            found = _read_text(path, list(missing_values), delimiter, decimal, encoding)
        else:
            raise DataError(
                f"{path.name} has an ending that is not known", remedy="Use .csv, .tsv, .parquet, .arrow or .feather."
            )
    except (pa.ArrowInvalid, pa.ArrowException, OSError, UnicodeError, csv.Error, LookupError) as problem:
        first = str(problem).strip().splitlines()[0] if str(problem).strip() else type(problem).__name__
        raise DataError(
            f"{path.name} could not be read: {first}",
            remedy="Check that the file is whole, and its ending, delimiter and encoding.",
        ) from None
    return table_from(found, path.name)


def read_parquet(path: Path) -> pa.Table:
    """Read a Parquet file, without what reads folders of them, which would load much more."""
    with parquet.ParquetFile(path) as file:
        return file.read()


def _read_text(path: Path, missing: list[str], delimiter: str, decimal: str, encoding: str) -> pa.Table:
    names = _header(path, delimiter, encoding)
    found = arrow_csv.read_csv(
        path,
        read_options=arrow_csv.ReadOptions(column_names=names, skip_rows_after_names=1, encoding=encoding),
        parse_options=arrow_csv.ParseOptions(delimiter=delimiter, newlines_in_values=True),
        convert_options=arrow_csv.ConvertOptions(
            column_types={name: pa.string() for name in names},
            null_values=missing,
            strings_can_be_null=True,
            quoted_strings_can_be_null=True,
        ),
    )
    return pa.table([_typed(found.column(name), decimal) for name in names], names=names)


def _header(path: Path, delimiter: str, encoding: str) -> list[str]:
    plain = encoding.lower().replace("_", "-") in ("utf-8", "utf8")
    with path.open("rb") as raw:
        if b"\0" in raw.read(4096) and plain:
            raise DataError(f"{path.name} is no text file", remedy="Give it the ending of its format.")
    with path.open(encoding="utf-8-sig" if plain else encoding, newline="") as text:
        names = next(csv.reader(text, delimiter=delimiter), [])
    if not names:
        raise DataError(f"{path.name} is empty", remedy="A table has a first line with the names of its variables.")
    other = max({";", ",", "\t", "|"} - {delimiter}, key=names[0].count)
    if len(names) == 1 and names[0].count(other) > 1:
        raise DataError(
            f"{path.name} has one column by the delimiter {delimiter!r}, and its first line has "
            f"{other!r} {names[0].count(other)} times",
            remedy=f"Write delimiter = {json.dumps(other)} under [data] of the plan, and decimal where it is a comma; "
            "for profile and draft add --delimiter and --decimal.",
        )
    twice = sorted({name for name in names if names.count(name) > 1})
    if twice:
        raise DataError(
            f"{path.name} has two columns of one name: {', '.join(repr(name) for name in twice)}",
            remedy="Rename one of them in the first line.",
        )
    return names


def _typed(column: pa.ChunkedArray, decimal: str) -> pa.ChunkedArray | pa.Array:
    """Return a text column in the type that all its cells have."""
    encoded = column.combine_chunks().dictionary_encode()
    if isinstance(encoded, pa.ChunkedArray):
        encoded = encoded.combine_chunks()
    words = encoded.dictionary
    if not len(words):
        return pa.nulls(len(column))
    made = _typed_words(words, decimal)
    return encoded if made is None else made.take(encoded.indices)


def _typed_words(words: pa.Array, decimal: str) -> Any:
    def all_match(pattern: str) -> bool:
        return bool(pc.all(pc.match_substring_regex(words, pattern)).as_py())

    if all_match(_WHOLE):
        if pc.any(pc.match_substring_regex(words, _CODE)).as_py():
            return None
        try:
            return words.cast(pa.int64())
        except pa.ArrowInvalid:
            return None  # more digits than a whole number holds: a code, kept as text
    if decimal != ".":
        turned = pc.replace_substring(pc.replace_substring(words, ".", "?"), decimal, ".")
        if pc.all(pc.match_substring_regex(turned, _NUMBER)).as_py():
            return turned.cast(pa.float64())
    elif all_match(_NUMBER):
        return words.cast(pa.float64())
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
