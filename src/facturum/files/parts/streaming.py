"""Building a table that is not in memory into a folder: take in, learn, select, fill, and write, stretch by stretch."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from facturum.audit.map.column_map import ColumnDigests, column_map
from facturum.audit.map.entries import ColumnMap
from facturum.audit.map.report import report_of_stretches
from facturum.audit.map.row_map import row_map
from facturum.audit.topics.imputations import FilledCells
from facturum.data.table import Table
from facturum.engine.passes.build import Built, answered
from facturum.engine.passes.outline import Outline
from facturum.engine.passes.selection import Sample
from facturum.engine.passes.sinks import refuse_size
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import DataError
from facturum.files.background import Behind
from facturum.files.builds.build_folder import own_files
from facturum.files.builds.build_writer import BuildWriter
from facturum.files.builds.built_design import design_table
from facturum.files.builds.csv_files import CsvForm
from facturum.files.builds.formats import STREAMED
from facturum.files.folder import write_folder
from facturum.files.parts.cell_spool import CellSpool
from facturum.files.parts.portions import Portions
from facturum.files.parts.spooling import take_in
from facturum.files.scans.scans import Scan

RowProgress = Callable[[str, int, int], None]


def build_into(
    spec: PlanSpec,
    scan: Scan,
    series: Mapping[str, Table],
    folder: Path,
    *,
    form: str = "parquet",
    text: Mapping[str, Any] | None = None,
    replace: bool = False,
    wait: float = 0.0,
    threads: int | None = None,
    portions: Portions | None = None,
    progress: RowProgress | None = None,
) -> ColumnMap:
    """Write the build of a plan on a table that need not fit into memory, whole or not at all.

    Args:
        spec: the plan.
        scan: the table.
        series: the tables of its series.
        folder: where the build is written.
        form: of the design file: parquet or csv.
        text: how text files are written, as `CsvForm.of` takes it.
        replace: whether a build already there is replaced.
        wait: for how many seconds to wait for another writer of the place.
        threads: how many threads.
        portions: how much of the table is held at a time.
        progress: is called with what is being done, the number of rows done and of all.

    Returns:
        The column map.

    Raises:
        PlanError, DataError: as building in memory does.
    """
    if form not in STREAMED:
        raise DataError(
            f"a table that is read in parts cannot be written as {form}", remedy=f"Write it as {' or '.join(STREAMED)}."
        )
    written = CsvForm.of(text, form)
    maps: list[ColumnMap] = []

    def write(part: Path) -> None:
        maps.append(_write(part, spec, scan, series, form, written, threads, portions or Portions(), progress))

    write_folder(folder, write, own_files, replace, wait)
    return maps[0]


def _write(
    part: Path,
    spec: PlanSpec,
    scan: Scan,
    series: Mapping[str, Table],
    form: str,
    written: CsvForm,
    threads: int | None,
    portions: Portions,
    progress: RowProgress | None,
) -> ColumnMap:
    """Fill an empty folder."""

    def telling(what: str) -> Callable[[int, int], None]:
        return lambda done, total: None if progress is None else progress(what, done, total)

    taken = take_in(spec, scan, series, part, portions, telling("reading"))
    telling("learning")(0, 0)
    prepared = portions.of(answered(taken.prepared, threads)[0])
    outline, source = Outline(prepared), prepared.source()
    refuse_size(1, len(outline.columns))
    sample = Sample(prepared, source, threads, leaf=portions.leaf)
    digests = ColumnDigests(outline)
    writer, cells, tell = BuildWriter(part, form, written), CellSpool(part), telling("building")
    behind = Behind(0)

    def take(built: Built, filled: list[FilledCells]) -> None:
        cells.add(filled)
        behind.do(lambda: write_rows(built))
        tell(built.selection.stop, source.table.length)

    def write_rows(built: Built) -> None:
        digests.add(built, 1)  # beside the threads that fill and write
        rows = row_map(built.selection)
        X: Any = built.X  # noqa: N806 - the field's standard name
        writer.design(design_table(built, rows, list(X.T)))
        writer.dropped(rows.dropped, rows.causes, rows.reasons)

    try:
        report = report_of_stretches(outline, sample, take)
        behind.finish()
        columns = digests.taken(taken.fingerprints(prepared)).on(column_map(report, spec), outline)
        writer.finish(columns, prepared.spec, cells.tables())
    except BaseException:
        behind.abandon()
        writer.abandon()
        raise
    return columns
