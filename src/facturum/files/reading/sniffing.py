"""How a text file is written, found from the file itself: encoding, delimiter, decimal and thousands marks."""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from facturum.data.number_text import NumberForm
from facturum.errors import DataError, named, option
from facturum.files.reading.encodings import encodings_of
from facturum.files.reading.file_scans import TEXT

LOOKED_AT = 1 << 18  # bytes from the beginning of the file
_DIGITS = str.maketrans("012345678", "9" * 9)
DELIMITERS = (";", "\t", "|", ",")
_NUMERIC = re.compile(r"[+-]?\s?\d[\d.,'\u00a0\u202f ]*", re.ASCII)
_FORMS = (
    NumberForm(), NumberForm(","), NumberForm(".", ","), NumberForm(",", "."), NumberForm(",", " "),
    NumberForm(".", " "), NumberForm(".", "'"), NumberForm(",", "'"),
)  # fmt: skip
_UNIT = re.compile(r"^(?:[€$£¥]|CHF|EUR|USD|GBP)\s?|\s?(?:[%‰€$£¥]|CHF|EUR|USD|GBP)$")


def found_reading(path: Path, said: Mapping[str, Any] | None = None) -> dict[str, Any]:
    """Return how a text file is written, as far as nobody has said: what differs from UTF-8, commas and points.

    Args:
        path: the file; of another kind than text nothing is found.
        said: what has been said of it, as `read` takes it.

    Returns:
        Of ``encoding``, ``delimiter``, ``decimal`` and ``thousands`` those that were found.

    Raises:
        DataError: where the file can be read in two ways, with both.

    Example:
        >>> import tempfile
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     file = Path(folder) / "a.csv"
        ...     _ = file.write_bytes("größe;preis 1;1.234,50 2;7,25".replace(" ", chr(10)).encode("cp1252"))
        ...     found_reading(file)
        {'encoding': 'cp1252', 'delimiter': ';', 'decimal': ',', 'thousands': '.'}
    """
    given = dict(said or {})
    if path.suffix.lower() not in TEXT or not path.is_file():
        return {}
    with path.open("rb") as file:
        data = file.read(LOOKED_AT)
    found: dict[str, Any] = {}
    encoding = given.get("encoding") or _encoding(data, path.name)
    if "encoding" not in given and encoding != "utf-8":
        found["encoding"] = encoding
    text = data.decode(encoding, "replace").lstrip("\ufeff")
    whole = text if len(data) < LOOKED_AT else text[: text.rfind("\n") + 1]
    usual = "\t" if path.suffix.lower() == ".tsv" else ","
    delimiter = given.get("delimiter") or _delimiter(whole, usual, path.name)
    if "delimiter" not in given and delimiter != usual:
        found["delimiter"] = delimiter
    if "decimal" not in given:
        form = _numbers(_cells(whole, delimiter), delimiter, str(given.get("thousands") or ""), path.name)
        found |= {"decimal": form.decimal} if form.decimal != "." else {}
        found |= {"thousands": form.thousands} if form.thousands and "thousands" not in given else {}
    return found


def found_notes(source: str, found: Mapping[str, Any]) -> Iterator[str]:
    """Say how a file was read where that was found in it.

    Example:
        >>> next(found_notes("a.csv", {"delimiter": ";", "decimal": ","}))
        'a.csv was read with delimiter = ";" and decimal = ",", as found in it: write them under [data] of a plan.'
    """
    if found:
        them = "them" if len(found) > 1 else "it"
        told = named([f"{key} = {json.dumps(value)}" for key, value in found.items()])
        yield f"{source} was read with {told}, as found in it: write {them} under [data] of a plan."


def _encoding(data: bytes, name: str) -> str:
    found = encodings_of(data)
    if len(found) == 1:
        return found[0]
    what = f"may be {' or '.join(found)}" if found else "is in none of the common encodings"
    typed = option(f"--encoding {(found or ['cp1252'])[0]}", 'reading={"encoding": ..}')
    raise DataError(f"{name} is not UTF-8, and {what}", remedy=f"Say which: {typed}, or encoding under [data].")


def _records(text: str, delimiter: str) -> list[list[str]]:
    """Return the records of a text that are not empty."""
    return [record for record in csv.reader(io.StringIO(text, newline=""), delimiter=delimiter) if record]


def _delimiter(text: str, usual: str, name: str) -> str:
    """Return what parts the cells: in all records into as many, in the first into names."""
    fitting = []
    for mark in (each for each in DELIMITERS if each in text.partition("\n")[0]):
        try:
            records = _records(text, mark)
        except csv.Error:
            continue
        if len(records[0]) > 1 and len({len(record) for record in records}) == 1:
            fitting.append((mark, records[0]))
    named = [each for each in fitting if all(_is_name(cell) for cell in each[1])]
    if len(named) == 1:
        return named[0][0]
    if not named:
        return usual
    marks = " or ".join(repr(each[0]) for each in named)
    typed = option(f"--delimiter '{named[0][0]}'", 'reading={"delimiter": ..}')
    raise DataError(f"the cells of {name} can be parted by {marks}", remedy=f"Say which: {typed}.")


def _is_name(cell: str) -> bool:
    return bool(cell.strip()) and not _NUMERIC.fullmatch(cell.strip())


def _cells(text: str, delimiter: str) -> list[list[str]]:
    """Return the cells of each column, without the names; of those of one shape, digits apart, one alone."""
    records = _records(text, delimiter)[1:]
    width = max(map(len, records), default=0)
    columns = [[record[at].strip() for record in records if at < len(record)] for at in range(width)]
    return [list({_shape(cell): cell for cell in reversed(column)}.values())[::-1] for column in columns]


def _shape(cell: str) -> tuple[bool, str]:
    """Return how a cell is written, whatever its digits are, and whether it begins with a zero."""
    return cell.lstrip("+-")[:1] == "0", cell.translate(_DIGITS)


def _numbers(columns: Sequence[Sequence[str]], delimiter: str, thousands: str, name: str) -> NumberForm:
    """Return how the numbers are written of the columns that hold some, one way for all.

    Beside commas that part the cells, the point is the decimal mark. A group of thousands does not begin with a zero.
    """
    texts = [[_UNIT.sub("", cell) for cell in cells if cell and cell not in ("NA", "-")] for cells in columns]
    numeric = [cells for cells in texts if cells and all(_NUMERIC.fullmatch(cell) for cell in cells)]
    numeric = [cells for cells in numeric if not _dates(cells)]
    forms = [form for form in _FORMS if not thousands or form.thousands in ("", thousands)]
    if delimiter == ",":
        forms = [form for form in forms if form.decimal == "."]
    marked = [cells for cells in numeric if any(re.search(r"[^\d+-]", cell) for cell in cells)]
    if not marked:
        return NumberForm(thousands=thousands)
    fitting = [form for form in forms if all(_fits(form, cells) for cells in marked) and _is_seen(form, marked)]
    by_values: dict[tuple[float | None, ...], NumberForm] = {}
    for form in fitting:
        by_values.setdefault(tuple(form.number(cell) for cells in marked for cell in cells), form)
    if not by_values and delimiter == "," and any(_fits(form, cells) for form in _FORMS[1:2] for cells in marked):
        raise DataError(
            f"the cells of {name} are parted by commas, and its numbers have decimal commas",
            remedy="Export it with another delimiter, such as a semicolon or a tab.",
        )
    if len(by_values) < 2:  # none where some columns are text, whatever the marks
        return next(iter(by_values.values()), NumberForm(thousands=thousands))
    ways = " or ".join("a decimal point" if form == NumberForm() else str(form) for form in by_values.values())
    example = next(cell for cells in marked for cell in cells if re.search(r"[.,]", cell))
    typed = option("--decimal and --thousands", 'reading={"decimal": .., "thousands": ..}')
    raise DataError(
        f"numbers of {name} such as {example} can be read in two ways: {ways}", remedy=f"Say which: {typed}."
    )


def _fits(form: NumberForm, cells: Sequence[str]) -> bool:
    """Return whether all cells are numbers in a form, without a group that begins with a zero."""
    mark = re.escape(form.thousands)
    zero = re.compile(rf"[+-]?0\d*{mark}") if mark else None
    return all(form.number(cell) is not None and not (zero and zero.match(cell)) for cell in cells)


def _is_seen(form: NumberForm, columns: Sequence[Sequence[str]]) -> bool:
    """Return whether a form's thousands mark, or else its decimal mark, is in some cell where it is not the usual."""
    mark = form.thousands or (form.decimal if form.decimal != "." else "")
    return not mark or any(mark in cell for cells in columns for cell in cells)


def _dates(cells: Sequence[str]) -> bool:
    """Return whether cells are dates with points, whose groups are two digits and a year."""
    return all(re.fullmatch(r"\d{1,2}\.\d{1,2}\.(?:\d{4}|\d{2})", cell) for cell in cells)
