"""Writing the files of a build into an empty folder, its rows block by block."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from facturum.audit.map.entries import ColumnMap
from facturum.audit.map.row_map import RowMap
from facturum.audit.topics.imputations import FilledCells
from facturum.data.values import Array
from facturum.engine.planning.sections.spec import FORMAT, PlanSpec
from facturum.files.builds.csv_files import PLAIN_CSV, CsvFile, CsvForm
from facturum.files.builds.formats import FORMATS, BlockFile
from facturum.files.builds.parquet_groups import MOST_ROWS, ParquetGroups
from facturum.files.learned_files import learned_tables
from facturum.files.plan_file import plan_text
from facturum.numerics.linear.sparse import SparseColumns

MARKER = "facturum-build.json"
COLUMNS, COLUMNS_CSV, ROWS = "columns.json", "columns.csv", "rows.parquet"
IMPUTED, RESOLVED = "imputed.parquet", "plan.resolved.toml"
ROWS_CSV, IMPUTED_CSV = "rows.csv", "imputed.csv"  # the same lists once more, where the design file is one of text
IMPUTED_SCHEMA = pa.schema(
    [("imputation", pa.int64()), ("source_row", pa.int64()), ("fill", pa.float64()), ("fill_text", pa.string())]
)
DROPPED_SCHEMA = pa.schema([("row", pa.int64()), ("reason", pa.string()), ("place", pa.string())])


class BuildWriter:
    """Writes the files of a build.

    Args:
        folder: an empty folder.
        form: the format of the design file.
        written: how text files are written; with csv, the lists of rows and cells are written as such too.
    """

    def __init__(self, folder: Path, form: str, written: CsvForm = PLAIN_CSV) -> None:
        self._folder, self._form, self._written = folder, form, written
        self._digests: dict[str, str] = {}
        self._design: BlockFile | None = None
        self._others: list[BlockFile] = []
        self._dropped = ParquetGroups(folder / ROWS, DROPPED_SCHEMA, MOST_ROWS)
        self._dropped_text = CsvFile(folder / ROWS_CSV, DROPPED_SCHEMA, written) if FORMATS[form].is_text else None

    def design(self, block: pa.Table) -> None:
        """Write further rows of the design file, of a format that is written block by block."""
        if self._design is None:
            path = self._folder / f"design.{self._form}"
            self._design = FORMATS[self._form].opened(path, block.schema, self._written)
        self._design.add(block)

    def whole(self, content: bytes) -> None:
        """Write the design file of a format that is not written block by block."""
        self._write(f"design.{self._form}", content)

    def dropped(self, rows: Array, causes: Array, reasons: Mapping[int, tuple[str, str]]) -> None:
        """Write further rows left out.

        Args:
            rows: their source row numbers.
            causes: for each the number of its reason.
            reasons: by that number the reason, and the place in the plan that caused it.
        """
        block = dropped_table(rows, causes, reasons)
        self._dropped.add(block)
        if self._dropped_text is not None:
            self._dropped_text.add(block)

    def finish(self, columns: ColumnMap, resolved: PlanSpec, imputed: Iterable[pa.Table]) -> None:
        """Write all that is known once all rows are written.

        Args:
            columns: the column map.
            resolved: the resolved plan.
            imputed: the cells that were filled, in blocks.
        """
        if self._design is not None:
            self._digests[f"design.{self._form}"] = self._design.finish()
        self._digests[ROWS] = self._dropped.finish()
        cells = self._opened(ParquetGroups(self._folder / IMPUTED, IMPUTED_SCHEMA, MOST_ROWS))
        path = self._folder / IMPUTED_CSV
        is_text = self._dropped_text is not None
        text = self._opened(CsvFile(path, IMPUTED_SCHEMA, self._written)) if is_text else None
        for block in imputed:
            cells.add(block)
            if text is not None:
                text.add(block)
        self._digests[IMPUTED] = cells.finish()
        if text is not None and self._dropped_text is not None:
            self._digests |= {ROWS_CSV: self._dropped_text.finish(), IMPUTED_CSV: text.finish()}
        content = columns.model_dump(mode="json")
        laid_out = json.dumps(content, indent=1, ensure_ascii=False, allow_nan=False) + "\n"
        self._write(COLUMNS, laid_out.encode())
        self._write(COLUMNS_CSV, columns_csv(columns, self._written))
        self._write(RESOLVED, plan_text(resolved).encode())
        for name, data in learned_tables(resolved):
            self._write(name, data)
        files = dict(sorted(self._digests.items()))
        marker = marker_text(f"design.{self._form}", map_digest(content), files)
        (self._folder / MARKER).write_bytes(marker)

    def _write(self, name: str, data: bytes) -> None:
        (self._folder / name).write_bytes(data)
        self._digests[name] = hashlib.sha256(data).hexdigest()

    def abandon(self) -> None:
        """End all files as they are."""
        for file in (self._design, self._dropped, self._dropped_text, *self._others):
            if file is not None:
                file.abandon()

    def _opened(self, file: BlockFile) -> BlockFile:
        """Return a file, which is ended with the others where writing fails."""
        self._others.append(file)
        return file


def write_build(
    folder: Path,
    design: pa.Table,
    matrix: Sequence[str],
    columns: ColumnMap,
    rows: RowMap,
    resolved: PlanSpec,
    form: str,
    imputed: pa.Table,
    cells: SparseColumns | None = None,
    written: CsvForm = PLAIN_CSV,
) -> None:
    """Fill a folder with the files of a build that is in memory.

    Args:
        folder: an empty folder.
        design: the table of the design file.
        matrix: the names of its numeric columns, for a format of numbers only.
        columns, rows: the maps.
        resolved: the resolved plan.
        form: the format of the design file.
        imputed: each cell that was filled.
        cells: of a sparse design, the columns of X; the table has all others.
        written: how text files are written.
    """
    writer = BuildWriter(folder, form, written)
    try:
        if FORMATS[form].streams:
            writer.design(design)
        else:
            writer.whole(FORMATS[form].content(design, matrix, cells, columns))
        writer.dropped(rows.dropped, rows.causes, rows.reasons)
        writer.finish(columns, resolved, [imputed])
    except BaseException:
        writer.abandon()
        raise


def dropped_table(rows: Array, causes: Array, reasons: Mapping[int, tuple[str, str]]) -> pa.Table:
    """Return rows left out as a table, as `BuildWriter.dropped` takes them."""
    known = sorted(reasons)
    place = pa.array(np.searchsorted(known, causes), pa.int32())
    parts = [
        pa.DictionaryArray.from_arrays(place, pa.array([reasons[at][part] for at in known], pa.string())).cast(
            pa.string()
        )
        for part in (0, 1)
    ]
    return pa.table([pa.array(rows, pa.int64()), *parts], schema=DROPPED_SCHEMA)


def marker_text(design: str, digest: str, files: Mapping[str, str]) -> bytes:
    """Return the content of the marker of a build.

    Args:
        design: the name of its design file.
        digest: of its column map, however that is laid out.
        files: the digests of its files.
    """
    marker = {"facturum": FORMAT, "design": design, "map": digest, "files": dict(files)}
    return (json.dumps(marker, indent=1) + "\n").encode()


def map_digest(content: Mapping[str, Any]) -> str:
    """Return the digest of the contents of a column map, as its file holds them, however that is laid out."""
    text = json.dumps(content, sort_keys=True, allow_nan=False)
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()


def imputed_table(cells: FilledCells) -> pa.Table:
    """Return imputed cells as a table: the number of the imputation, the source row, the imputed value."""
    rows, numbers, texts = cells.rows, cells.numbers, cells.texts
    columns = [
        pa.array(np.full(len(rows), cells.imputation), pa.int64()),
        pa.array(rows, pa.int64()),
        pa.nulls(len(rows), pa.float64()) if numbers is None else pa.array(numbers),
        pa.nulls(len(rows), pa.string()) if texts is None else pa.array(texts, pa.string()),
    ]
    return pa.table(columns, schema=IMPUTED_SCHEMA)


def columns_csv(columns: ColumnMap, form: CsvForm = PLAIN_CSV) -> bytes:
    """Return the column map as the content of a file for spreadsheets."""
    return csv_of_entries([entry.model_dump(mode="json") for entry in columns.columns], form)


def csv_of_entries(entries: Sequence[Mapping[str, Any]], form: CsvForm = PLAIN_CSV, nested: bool = False) -> bytes:
    """Return the entries of columns, as the file of a map holds them, as the content of a file for spreadsheets.

    Args:
        entries: of the columns.
        form: how the file is written.
        nested: whether what programs read is in it too, as versions before 0.2 wrote it.
    """
    names = [name for name in (entries[0] if entries else []) if nested or name != "structure"]
    return form.text([names, *[[_plain(name, entry.get(name), nested) for name in names] for entry in entries]])


def _plain(name: str, value: Any, nested: bool) -> Any:
    """Return a field of an entry as a cell: the values beside those of a source in words."""
    if nested or name != "by_source":
        return value
    return "; ".join(f"{each['source']}: {each['value']} ({each['rows']})" for each in value or [])
