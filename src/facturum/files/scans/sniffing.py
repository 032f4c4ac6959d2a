"""How a text file is written, found from the file itself: encoding, delimiter, decimal and thousands marks."""

from __future__ import annotations

import csv
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from facturum.data.number_text import NumberForm
from facturum.data.table import Table
from facturum.errors import DataError, named, reading_option
from facturum.files.scans.encodings import encodings_of
from facturum.files.scans.file_scans import TEXT
from facturum.files.scans.layout import NUMERIC, layout_of, records_of
from facturum.files.scans.sheets import FIRST, SHEETS, found_in_sheet, read_sheet
from facturum.files.scans.text_tables import TextForm, first_of_text

UNDER = ": to be written under [data] of a plan"
LOOKED_AT = 1 << 18  # bytes from the beginning of the file
_DIGITS = str.maketrans("012345678", "9" * 9)
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
        Of ``encoding``, ``delimiter``, ``header_line``, ``decimal`` and ``thousands`` those that were found.

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
    if path.suffix.lower() in SHEETS and path.is_file():
        return {} if "header_line" in given else found_in_sheet(path, given.get("sheet"))
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
    delimiter, line = layout_of(whole, usual, path.name, given.get("delimiter"))
    if "delimiter" not in given and delimiter != usual:
        found["delimiter"] = delimiter
    if "header_line" not in given and line > 1:
        found["header_line"] = line
    if "decimal" not in given:
        cells = _cells(whole, delimiter, given.get("header_line", line))
        form = _numbers(cells, delimiter, str(given.get("thousands") or ""), path.name)
        found |= {"decimal": form.decimal} if form.decimal != "." else {}
        found |= {"thousands": form.thousands} if form.thousands and "thousands" not in given else {}
    return found


def first_rows(path: Path, form: TextForm) -> Table | None:
    """Return the first rows of a text file or a sheet; None of other files, whose types are their own."""
    if path.suffix.lower() in SHEETS and path.is_file():
        return read_sheet(path, form, most=FIRST)
    if path.suffix.lower() in TEXT and path.is_file():
        return first_of_text(path, form, LOOKED_AT)
    return None


def found_notes(source: str, found: Mapping[str, Any], after: str = UNDER) -> Iterator[str]:
    """Say how a file was read where that was found in it, and what follows from it.

    Example:
        >>> next(found_notes("a.csv", {"delimiter": ";", "decimal": ","}))
        'a.csv was read with delimiter = ";" and decimal = ",", as found in it: to be written under [data] of a plan.'
    """
    if found:
        told = named([f"{key} = {json.dumps(value)}" for key, value in found.items()])
        yield f"{source} was read with {told}, as found in it{after}."


def _encoding(data: bytes, name: str) -> str:
    found = encodings_of(data)
    if len(found) == 1:
        return found[0]
    what = f"may be {' or '.join(found)}" if found else "is in none of the common encodings"
    typed = reading_option(encoding=(found or ["cp1252"])[0])
    raise DataError(f"{name} is not UTF-8, and {what}", remedy=f"Write the right one, such as {typed}.")


def _cells(text: str, delimiter: str, header_line: int) -> list[list[str]]:
    """Return the cells of each column below the names; of those of one shape, digits apart, one alone."""
    try:
        records = [record for line, record in records_of(text, delimiter) if line > header_line]
    except csv.Error:
        return []  # which reading the file tells of, with its line
    width = max(map(len, records), default=0)
    columns = [[record[at].strip() for record in records if at < len(record)] for at in range(width)]
    return [list({_shape(cell): cell for cell in reversed(column)}.values())[::-1] for column in columns]


def _shape(cell: str) -> tuple[bool, str]:
    """Return how a cell is written, whatever its digits are, and whether it begins with a zero."""
    return cell.lstrip("+-")[:1] == "0", cell.translate(_DIGITS)


def _numbers(columns: Sequence[Sequence[str]], delimiter: str, thousands: str, name: str) -> NumberForm:
    """Return how the numbers are written of the columns that hold some, one way for all.

    Beside commas that part the cells, the point is the decimal mark, unless no number can be read so. A group of
    thousands does not begin with a zero.
    """
    texts = [[_UNIT.sub("", cell) for cell in cells if cell and cell not in ("NA", "-")] for cells in columns]
    numeric = [cells for cells in texts if cells and all(NUMERIC.fullmatch(cell) for cell in cells)]
    numeric = [cells for cells in numeric if not _dates(cells)]
    forms = [form for form in _FORMS if not thousands or form.thousands in ("", thousands)]
    marked = [cells for cells in numeric if any(re.search(r"[^\d+-]", cell) for cell in cells)]
    if not marked:
        return NumberForm(thousands=thousands)
    fitting = [form for form in forms if all(_fits(form, cells) for cells in marked) and _is_seen(form, marked)]
    if delimiter == "," and any(form.decimal == "." for form in fitting):
        fitting = [form for form in fitting if form.decimal == "."]
    by_values: dict[tuple[float | None, ...], NumberForm] = {}
    for form in fitting:
        by_values.setdefault(tuple(form.number(cell) for cells in marked for cell in cells), form)
    if len(by_values) < 2:  # none where some columns are text, whatever the marks
        return next(iter(by_values.values()), NumberForm(thousands=thousands))
    ways = " or ".join("a decimal point" if form == NumberForm() else str(form) for form in by_values.values())
    example = next(cell for cells in marked for cell in cells if re.search(r"[.,]", cell))
    marks = [{"decimal": form.decimal, "thousands": form.thousands} for form in by_values.values()]
    said = " or ".join(reading_option(**{key: mark for key, mark in each.items() if mark}) for each in marks)
    raise DataError(
        f"numbers of {name} such as {example} can be read in two ways: {ways}",
        remedy=f"Write {said}.",
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
