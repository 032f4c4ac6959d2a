"""Where the names of a table stand among its records, and what parts its cells."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator, Sequence

from facturum.errors import DataError, reading_option

DELIMITERS = (";", "\t", "|", ",")
ABOVE = 40  # records that may stand above the names
MOST = 0.9  # the share of records with as many cells as the names, from which on the others are told of as faults
NUMERIC = re.compile(r"[+-]?\s?\d[\d.,'\u00a0\u202f ]*(?:\s?(?:[%‰€$£¥]|CHF|EUR|USD|GBP))?", re.ASCII)
_DATED = re.compile(r"\d{1,4}([./-])\d{1,2}\1\d{1,4}(?:[ T][\d:.]+)?")

Record = tuple[int, list[str]]  # the line in which it begins, counted from 1, and its cells


def records_of(text: str, delimiter: str) -> list[Record]:
    """Return the records of a text that hold something, each with the line in which it begins.

    Raises:
        csv.Error: where quotes are not closed.

    Example:
        >>> records_of("a;b\\n\\n1;2\\n", ";")
        [(1, ['a', 'b']), (3, ['1', '2'])]
    """
    return list(_records(text, delimiter))


def _records(text: str, delimiter: str) -> Iterator[Record]:
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    begins = 1
    for record in reader:
        if record:
            yield begins, record
        begins = reader.line_num + 1


def names_line(records: Sequence[Record]) -> int | None:
    """Return the line of the names: the first record of names alone, below which all have as many cells; or None.

    What stands above it has at most half as many cells that hold something. Names below other records must stand out
    from what is below them: some column has numbers or dates.

    Example:
        >>> names_line([(1, ["Sales of 2023"]), (3, ["region", "sales"]), (4, ["North", "12"])])
        3
    """
    return _names_line(records, 1.0)


def _names_line(records: Sequence[Record], share: float) -> int | None:
    for at, (line, cells) in enumerate(records[: ABOVE + 1]):
        below = [record for _, record in records[at + 1 :]]
        equal = sum(len(record) == len(cells) for record in below)
        if _are_names(cells) and equal >= share * len(below) and (at == 0 or _stand_out(below)):
            return line
        if sum(bool(cell.strip()) for cell in cells) > max(1, len(cells) // 2):
            return None  # too full for what is above a table
    return None


def _are_names(cells: Sequence[str]) -> bool:
    return len(cells) > 1 and len(set(cells)) == len(cells) and all(_is_name(cell) for cell in cells)


def _is_name(cell: str) -> bool:
    return bool(cell.strip()) and not NUMERIC.fullmatch(cell.strip())


def _stand_out(below: Sequence[Sequence[str]]) -> bool:
    columns = zip(*[record for record in below if len(record) == len(below[0])], strict=True) if below else ()
    return any(all(_is_value(cell.strip()) for cell in column) and any(column) for column in columns)


def _is_value(cell: str) -> bool:
    return not cell or bool(NUMERIC.fullmatch(cell) or _DATED.fullmatch(cell))


def layout_of(text: str, usual: str, name: str, said: str | None = None) -> tuple[str, int]:
    """Return what parts the cells of a text, and the line of the names.

    Args:
        text: whole records.
        usual: what parts the cells where nothing tells.
        name: of the file, for messages.
        said: what parts them, where that is known.

    Raises:
        DataError: where several marks part them into tables.

    Example:
        >>> layout_of("Sales of 2023\\n\\nregion;sales\\nNorth;12,5\\n", ",", "a.csv")
        (';', 3)
    """
    found: dict[str, list[Record]] = {}
    for mark in [said] if said else [each for each in DELIMITERS if each in text]:
        try:
            found[mark] = records_of(text, mark)
        except csv.Error:
            continue
    for share in (1.0, MOST):
        lines = {mark: _names_line(records, share) for mark, records in found.items()}
        fitting = {mark: line for mark, line in lines.items() if line is not None}
        fitting = {mark: line for mark, line in fitting.items() if line == 1} or fitting
        if len(fitting) > 1:
            marks = " or ".join(map(repr, fitting))
            typed = reading_option(delimiter=next(iter(fitting)))
            raise DataError(f"the delimiter of {name} may be {marks}", remedy=f"Write the right one, such as {typed}.")
        if fitting:
            return next(iter(fitting.items()))
    return said or usual, 1
