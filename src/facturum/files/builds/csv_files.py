"""The tables of a build as text files for spreadsheets: how they are written, block by block, and read again."""

from __future__ import annotations

import codecs
import csv
import io
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv as arrow_csv

from facturum.errors import DataError, option
from facturum.files.builds.parquet_groups import GrowingDigest
from facturum.files.folder import Buffer

_RISKY = ("=", "+", "-", "@", "\t", "\r")


@dataclass(frozen=True)
class CsvForm:
    """How text files of a build are written.

    Args:
        delimiter: between the cells.
        decimal: the decimal mark.
        mark: whether they begin with the mark of UTF-8, by which some spreadsheets know it.
    """

    delimiter: str = ","
    decimal: str = "."
    mark: bool = False

    @classmethod
    def of(cls, said: Mapping[str, Any] | None, format: str) -> CsvForm:
        """Return how text files of a build are written: its defaults, and what is said.

        Args:
            said: of `delimiter`, `decimal` and `mark` those that are said.
            format: of the design file.

        Raises:
            DataError: where the files are no text, for another key, or marks that cannot be told apart.
        """
        form = dict(said or {})
        odd = [key for key in form if key not in ("delimiter", "decimal", "mark")]
        if odd:
            raise DataError(f"'{odd[0]}' is not a way to write text files", remedy="Give delimiter, decimal or mark.")
        if form and format != "csv":
            what = f"files of the format {format} are not text, and have no {next(iter(form))}"
            raise DataError(what, remedy=f"Add {option('--format csv', 'format=' + repr('csv'))}.")
        made = cls(**form)
        made.refuse()
        return made

    def refuse(self) -> None:
        """Refuse marks that cannot be told apart.

        Raises:
            DataError: with what to write.
        """
        if self.decimal not in (".", ","):
            raise DataError(f"{self.decimal!r} is not a decimal mark", remedy="Write a point or a comma.")
        if self.delimiter not in (",", ";", "\t", "|") or self.delimiter == self.decimal:
            raise DataError(
                f"cells of a CSV file cannot be parted by {self.delimiter!r}"
                + (" beside a decimal comma" if self.delimiter == self.decimal else ""),
                remedy="Write ';', a tab or '|'" + ("." if self.decimal == "," else ", or a comma."),
            )

    def text(self, rows: Iterable[Sequence[Any]]) -> bytes:
        """Return rows of texts and numbers as the content of a file."""
        handle = io.StringIO()
        csv.writer(handle, lineterminator="\n", delimiter=self.delimiter).writerows(
            [self._cell(cell) for cell in row] for row in rows
        )
        return (codecs.BOM_UTF8 if self.mark else b"") + handle.getvalue().encode()

    def _cell(self, cell: Any) -> Any:
        return str(cell).replace(".", self.decimal) if isinstance(cell, float) else neutral(cell)

    def written(self, block: pa.Table) -> pa.Table:
        """Return a table as it is written: numbers with a decimal comma and days as texts."""
        return pa.table([self._texts(each) for each in block], names=block.column_names)

    def _texts(self, column: pa.ChunkedArray) -> pa.ChunkedArray:
        if pa.types.is_floating(column.type) and self.decimal != ".":
            return pc.replace_substring(column.cast(pa.string()), ".", self.decimal)
        if pa.types.is_timestamp(column.type):
            return pc.replace_substring(column.cast(pa.string()), " 00:00:00.000000", "")
        return column


PLAIN_CSV = CsvForm()


class CsvFile:
    """A CSV file that is written block by block."""

    def __init__(self, path: Path, schema: pa.Schema, form: CsvForm) -> None:
        self._form = form
        self._file = pa.OSFile(str(path), "wb")
        if form.mark:
            self._file.write(codecs.BOM_UTF8)
        self._digest = GrowingDigest(path)
        options = arrow_csv.WriteOptions(delimiter=form.delimiter)
        self._writer = arrow_csv.CSVWriter(self._file, form.written(schema.empty_table()).schema, write_options=options)

    def add(self, block: pa.Table) -> None:
        """Write further rows."""
        if block.num_rows:  # after an empty batch older writers repeat the names
            self._writer.write_table(self._form.written(block).combine_chunks())
        self._digest.follow(self._file.tell())

    def finish(self) -> str:
        """End the file, and return its digest."""
        self._writer.close()
        size = self._file.tell()
        self._file.close()
        return self._digest.finish(size)

    def abandon(self) -> None:
        """End the file as it is."""
        self._file.close()
        self._digest.abandon()


def read_csv(data: Buffer, kinds: Mapping[str, pa.DataType]) -> pa.Table:
    """Return the content of a CSV file of a build; how it is written shows in its first line and its numbers.

    Args:
        data: the file.
        kinds: the types of its columns; of all others text.
    """
    content = bytes(data).removeprefix(codecs.BOM_UTF8)
    first = content.partition(b"\n")[0].decode("utf-8")
    ends = first.find('"', 1) + 1 if first.startswith('"') else len(first)
    delimiter = first[ends : ends + 1] or ","
    names = next(csv.reader(io.StringIO(first), delimiter=delimiter), [])
    types = {name: kinds.get(name, pa.string()) for name in names}
    parse = arrow_csv.ParseOptions(newlines_in_values=True, delimiter=delimiter)
    for decimal in (".", ","):
        options = arrow_csv.ConvertOptions(
            column_types=types, null_values=[""], strings_can_be_null=True, quoted_strings_can_be_null=False,
            decimal_point=decimal,
        )  # fmt: skip
        try:
            return arrow_csv.read_csv(pa.BufferReader(content), parse_options=parse, convert_options=options)
        except pa.ArrowInvalid:
            if decimal == "," or delimiter == ",":
                raise
    raise AssertionError("one of the two is returned or raised")


def neutral(value: Any) -> Any:
    """Return a cell that a spreadsheet will not take for a formula, its control characters written out.

    Example:
        >>> neutral("=1+1"), neutral(-1.5), neutral(["a", "b"]), neutral("a\\rb")
        ("'=1+1", -1.5, 'a, b', 'a\\\\rb')
    """
    if isinstance(value, list):
        value = ", ".join(map(str, value))
    if isinstance(value, str):
        value = "".join(c if c.isprintable() else c.encode("unicode_escape").decode() for c in value)
    return "'" + value if isinstance(value, str) and value.startswith(_RISKY) else value
