"""Text files: from bytes to records, and from words to the type that all cells of a column have."""

from __future__ import annotations

import codecs
import csv
import io
from collections.abc import Collection, Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from pyarrow import csv as arrow_csv

from facturum.data.number_text import NumberForm
from facturum.data.table import Table
from facturum.errors import DataError, counted, reading_option
from facturum.files.scans.cell_types import CellType
from facturum.files.scans.scans import known_columns
from facturum.files.scans.text_shape import TextScanner, TextShape, scan

RARE = 0.01  # the share of records over several lines up to which they are warned of
_BLOCK = 1 << 22


@dataclass(frozen=True)
class TextForm:
    """How a text file, or a sheet of a workbook, is written.

    Args:
        missing: words that mean a missing value.
        delimiter: between the cells.
        numbers: how numbers are written.
        encoding: of its characters.
        header_line: the line that holds the names, counted from 1; what is above is not read.
        sheet: of a file of several sheets, the one to read.
    """

    missing: tuple[str, ...]
    delimiter: str
    numbers: NumberForm
    encoding: str
    header_line: int = 1
    sheet: str | None = None

    def refuse_delimiter(self, name: str) -> None:
        """Refuse a delimiter that cannot part cells.

        Raises:
            DataError: with the name of the file.
        """
        mark = self.delimiter
        if len(mark) != 1 or not mark.isascii() or mark in '"\r\n\0':
            raise DataError(
                f"{mark!r} cannot part the cells of {name}",
                remedy="A delimiter is one ASCII character other than a quote.",
            )


def read_text(path: Path, form: TextForm, columns: Collection[str] | None = None) -> Table:
    """Read a text file whole.

    Args:
        path: the file.
        form: how it is written.
        columns: the variables to read, where all of them are in it; None for all.

    Raises:
        DataError: where it is not a table, with the line.
    """
    form.refuse_delimiter(path.name)
    data = b"".join(block for block, _ in _Lines(path, form).blocks(None))
    names = _header(data, path.name, form)
    shape = scan(data, form.delimiter, len(names), path.name, form.header_line)
    return replace(_table_of(data, form, path.name, known_columns(columns, names)), notes=_notes(shape, path.name))


def line_of_rows(path: Path, form: TextForm) -> int | None:
    """Return how far the lines of a text file are ahead of its rows; None where a row is not a line each.

    Raises:
        DataError: where it is not a table.
    """
    scanner: TextScanner | None = None
    held, empty = b"", False
    for block, last in _Lines(path, form).blocks(_BLOCK):
        held += block
        if scanner is None:
            scanner = TextScanner(form.delimiter, len(_header(held, path.name, form)), path.name, form.header_line)
        scanner.add(block, last)
        empty = empty or b"\n\n" in held.rstrip(b"\n")
        held = held[-1:]
    return None if scanner is None or empty or scanner.finish().long else form.header_line


def first_of_text(path: Path, form: TextForm, size: int) -> Table | None:
    """Return the records in the first bytes of a text file as a table; None where they are not one."""
    held = b""
    try:
        for block, last in _Lines(path, form).blocks(size):
            held += block
            end = len(held) if last else _end_of_records(held)
            if end:
                return _table_of(held[:end], form, path.name)
    except (DataError, pa.ArrowException, csv.Error):
        pass  # which reading the file tells of, with its line
    return None


def _table_of(data: bytes, form: TextForm, source: str, wanted: list[str] | None = None) -> Table:
    """Return records, the first of which holds the names, as a table of the columns wanted, or of all."""
    names = _header(data, source, form)
    parsed = _parsed(data, names, form, _BLOCK, wanted=wanted)
    columns = []
    names = names if wanted is None else wanted
    for name in names:
        words = _encoded(parsed.column(name))
        cells = CellType(form.numbers)
        cells.see(words.dictionary)
        columns.append(cells.typed(words))
    return Table.of(pa.table(columns, names=names), source)


class TextScan:
    """A text file that is read piece by piece; the first time only to find the types of its columns.

    Args:
        path: the file.
        form: how it is written.
    """

    def __init__(self, path: Path, form: TextForm) -> None:
        form.refuse_delimiter(path.name)
        self.source = path.name
        self._path, self._form = path, form

    @property
    def notes(self) -> tuple[str, ...]:
        """What to notice of the file."""
        return self._survey.notes

    @property
    def length(self) -> int:
        """Its rows."""
        return self._survey.length

    @property
    def about(self) -> int:
        """About how many rows it has, from the length of the first ones."""
        if "_survey" in self.__dict__:
            return self.length
        piece, _ = next(self._pieces(), (b"", True))
        return int(self._path.stat().st_size * piece.count(b"\n") / max(len(piece), 1))

    def first(self, columns: Collection[str] | None, rows: int) -> Table | None:
        """Return the first rows, with the types that these have."""
        piece, _ = next(self._pieces(), (b"", True))
        table = _table_of(piece, self._form, self.source)
        return table.take(np.arange(min(rows, table.length)))

    def blocks(self, columns: Collection[str] | None, rows: int) -> Iterator[Table]:
        """Yield the table in blocks.

        Args:
            columns: the variables to read, where all of them are in it; all others are left out.
            rows: of a block, at most.
        """
        survey = self._survey
        wanted = known_columns(columns, list(survey.types)) or list(survey.types)
        for piece, first in self._pieces():
            parsed = _parsed(piece, list(survey.types), self._form, _BLOCK, first, wanted)
            typed = [survey.types[name].typed(_encoded(parsed.column(name))) for name in wanted]
            table = pa.table(typed, names=wanted)
            for start in range(0, table.num_rows, rows):
                yield replace(Table.of(table.slice(start, rows), self.source), notes=survey.notes)

    @cached_property
    def _survey(self) -> _Survey:
        names = _header(next(self._pieces(), (b"", True))[0], self.source, self._form)
        types = {name: CellType(self._form.numbers) for name in names}
        scanner = TextScanner(self._form.delimiter, len(names), self.source, self._form.header_line)
        length = 0
        for block, last in _Lines(self._path, self._form).blocks(_BLOCK):
            scanner.add(block, last)
        shape = scanner.finish()
        for piece, first in self._pieces():
            parsed = _parsed(piece, list(types), self._form, _BLOCK, first)
            length += parsed.num_rows
            for name, cells in types.items():
                cells.see(_encoded(parsed.column(name)).dictionary)
        return _Survey(types, length, _notes(shape, self.source))

    def _pieces(self) -> Iterator[tuple[bytes, bool]]:
        """Yield the file in pieces that end with a record, and whether each is the first."""
        held, first = b"", True
        for block, last in _Lines(self._path, self._form).blocks(_BLOCK):
            held += block
            end = len(held) if last else _end_of_records(held)
            if end:
                yield held[:end], first
                held, first = held[end:], False


@dataclass(frozen=True)
class _Survey:
    """What a first reading of a text file finds: the types of its columns, its rows, and what to notice."""

    types: dict[str, CellType]
    length: int
    notes: tuple[str, ...]


def _end_of_records(piece: bytes) -> int:
    """Return where the last whole record ends in a piece that begins with a record; 0 where none does."""
    end = len(piece)
    while (end := piece.rfind(b"\n", 0, end)) >= 0:
        if piece.count(b'"', 0, end) % 2 == 0:
            return end + 1
    return 0


def _parsed(
    data: bytes,
    names: list[str],
    form: TextForm,
    block: int,
    header: bool = True,
    wanted: list[str] | None = None,
) -> pa.Table:
    """Return the words of some records.

    Args:
        data: the records.
        names: of the columns.
        form: how they are written.
        block: bytes that are parsed together.
        header: whether the first record holds the names.
        wanted: the columns to return; None for all.
    """
    try:
        return arrow_csv.read_csv(
            pa.BufferReader(data),
            read_options=arrow_csv.ReadOptions(column_names=names, skip_rows_after_names=int(header), block_size=block),
            parse_options=arrow_csv.ParseOptions(
                delimiter=form.delimiter,
                newlines_in_values=True,
                ignore_empty_lines=len(names) > 1,  # in a file of one column, an empty line is a missing value
            ),
            convert_options=arrow_csv.ConvertOptions(
                column_types={name: pa.string() for name in names},
                include_columns=wanted,
                null_values=list(form.missing),
                strings_can_be_null=True,
                quoted_strings_can_be_null=True,
            ),
        )
    except pa.ArrowInvalid:
        if block >= len(data):
            raise
        # a cell may be longer than a block
        return _parsed(data, names, form, len(data) + 1, header, wanted)


def _notes(shape: TextShape, name: str) -> tuple[str, ...]:
    if not 0 < shape.long <= max(1, RARE * shape.records):
        return ()
    rows = f"{counted(shape.long, 'row')} of {name}"
    runs = "runs over several lines" if shape.long == 1 else "run over several lines"
    return (f"{rows} {runs}, the first from line {shape.first_long}: is a quote missing or left over?",)


class _Lines:
    """The bytes of a text file in UTF-8, its lines ended by line feeds, without a mark of its byte order.

    Args:
        path: the file.
        form: how it is written; what is above the line of its names is left out.
    """

    def __init__(self, path: Path, form: TextForm) -> None:
        self._path, self._encoding = path, form.encoding
        self._above, encoding = form.header_line - 1, form.encoding
        self._plain = encoding.lower().replace("_", "-") in ("utf-8", "utf8")
        decoder: Any = codecs.getincrementaldecoder("utf-8-sig" if self._plain else encoding)
        self._decoder: codecs.IncrementalDecoder = decoder()
        self._line = 1
        self._ascii = self._plain  # so far, so that there has been nothing to decode

    def blocks(self, size: int | None) -> Iterator[tuple[bytes, bool]]:
        """Yield the file in blocks, and whether each is the last.

        Args:
            size: bytes of a block; None for all at once.

        Raises:
            DataError: where bytes are not valid in the encoding, or are NUL; with the line.
        """
        held = b""
        with self._path.open("rb") as file:
            block = file.read(-1 if size is None else size)
            while True:
                following = b"" if size is None else file.read(size)
                text = held + self._decoded(block, not following)
                held = b""
                if text.endswith(b"\r") and following:  # what it means depends on the next character
                    text, held = text[:-1], b"\r"
                self._refuse_nul(text)
                text = text.replace(b"\r\n", b"\n").replace(b"\r", b"\n") if b"\r" in text else text
                self._line += text.count(b"\n") if following else 0
                yield self._below(text), not following
                if not following:
                    return
                block = following

    def _below(self, text: bytes) -> bytes:
        """Return what is not above the line of the names."""
        while self._above and text:
            _, end, text = text.partition(b"\n")
            self._above -= len(end)
        return text

    def _decoded(self, block: bytes, last: bool) -> bytes:
        self._ascii = self._ascii and block.isascii()
        if self._ascii:
            return block
        try:
            return self._decoder.decode(block, last).encode("utf-8", "surrogatepass")
        except UnicodeDecodeError as problem:
            line = self._line + problem.object.count(b"\n", 0, problem.start)
            wide = problem.object[:2] in (b"\xff\xfe", b"\xfe\xff")
            other = "utf-16" if wide else "latin-1" if self._plain else "utf-8"
            raise DataError(
                f"{self._path.name}, line {line}: the bytes are not valid {self._encoding}",
                remedy=f'Write encoding = "{other}" under [data], or save the file as UTF-8.',
            ) from None

    def _refuse_nul(self, text: bytes) -> None:
        if b"\0" in text:
            line = self._line + text.count(b"\n", 0, text.index(b"\0"))
            raise DataError(
                f"{self._path.name}, line {line} holds a NUL character, so that it is not a text file",
                remedy="Give the file the ending of its format, or name its encoding.",
            )


def _header(data: bytes, name: str, form: TextForm) -> list[str]:
    delimiter = form.delimiter
    lines = io.StringIO(data[: 1 << 24].decode("utf-8", "replace"), newline="\n")
    names = next(csv.reader(lines, delimiter=delimiter), [])
    if not names:
        what = "is empty" if form.header_line == 1 else f"has nothing in line {form.header_line}"
        raise DataError(f"{name} {what}", remedy="A table has a line with the names of its variables.")
    other = max({";", ",", "\t", "|"} - {delimiter}, key=names[0].count)
    if len(names) == 1 and names[0].count(other) > 1:
        raise DataError(
            f"{name} has one column by the delimiter {delimiter!r}, and the line of its names has "
            f"{other!r} {names[0].count(other)} times",
            remedy=f"Write {reading_option(delimiter=other)}, and the decimal mark where it is a comma.",
        )
    for at, name_at in enumerate(names):
        if not name_at.strip():
            raise DataError(
                f"{name}: column {at + 1} has no name",
                remedy="Name it in the line of the names; where that is another one, write header_line under [data].",
            )
    twice = sorted({name_at for name_at in names if names.count(name_at) > 1}) if len(set(names)) < len(names) else []
    if twice:
        raise DataError(
            f"{name} has two columns of one name: {', '.join(repr(name_at) for name_at in twice)}",
            remedy="Rename one of them.",
        )
    return names


def _encoded(column: pa.ChunkedArray) -> pa.DictionaryArray:
    encoded = column.combine_chunks().dictionary_encode()
    return encoded.combine_chunks() if isinstance(encoded, pa.ChunkedArray) else encoded
