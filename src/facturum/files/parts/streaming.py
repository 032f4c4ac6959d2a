"""Building a table that is not in memory into a folder: take in, learn, select, fill, and write, stretch by stretch."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from facturum.audit.column_map import Digests, column_map
from facturum.audit.entries import ColumnMap
from facturum.audit.fingerprints import ColumnDigest
from facturum.audit.report import BuildReport
from facturum.audit.row_map import row_map
from facturum.data.table import Table
from facturum.data.values import FloatArray
from facturum.engine.passes.build import Built, answered, built_rows
from facturum.engine.passes.outline import Outline
from facturum.engine.passes.selection import Sample, Selection, leaves_within
from facturum.engine.passes.sinks import refuse_size
from facturum.engine.planning.prepared import Prepared
from facturum.engine.planning.spec import PlanSpec
from facturum.errors import DataError
from facturum.files.behind import Behind
from facturum.files.builds.build_folder import own_files
from facturum.files.builds.build_writer import STREAMED, BuildWriter, CellSpool
from facturum.files.builds.built_design import design_table
from facturum.files.builds.parquet_groups import GROUP_BYTES
from facturum.files.folder import write_folder
from facturum.files.parts.spooling import take_in
from facturum.files.reading.scans import Portions, Scan

RowProgress = Callable[[str, int, int], None]


def build_into(
    spec: PlanSpec,
    scan: Scan,
    series: Mapping[str, Table],
    folder: Path,
    *,
    form: str = "parquet",
    replace: bool = False,
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
        replace: whether a build already there is replaced.
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
            f"a table that is read in parts cannot be written as {form}", remedy="Write it as parquet or csv."
        )
    maps: list[ColumnMap] = []

    def write(part: Path) -> None:
        maps.append(_write(part, spec, scan, series, form, threads, portions or Portions(), progress))

    write_folder(folder, write, own_files, replace)
    return maps[0]


def _write(
    part: Path,
    spec: PlanSpec,
    scan: Scan,
    series: Mapping[str, Table],
    form: str,
    threads: int | None,
    portions: Portions,
    progress: RowProgress | None,
) -> ColumnMap:
    """Fill an empty folder."""

    def telling(what: str) -> Callable[[int, int], None]:
        return lambda done, total: None if progress is None else progress(what, done, total)

    taken = take_in(spec, scan, series, part, portions, telling("reading"))
    telling("learning")(0, 0)
    prepared, _ = answered(taken.prepared, threads)
    outline = Outline(prepared)
    refuse_size(1, len(outline.columns))
    prepared = in_portions(prepared, portions, len(outline.columns))
    outline, source = Outline(prepared), prepared.source()
    sample = Sample(prepared, source, threads, leaf=portions.leaf)
    report, digests = BuildReport(outline), ColumnDigests(outline)
    writer, cells, tell = BuildWriter(part, form), CellSpool(part), telling("building")
    behind = Behind(0)

    def work(selection: Selection) -> None:
        built = built_rows(outline, source, selection, threads)
        cells.add(report.see(built))
        behind.do(lambda: write_rows(built))
        tell(selection.stop, source.table.length)

    def write_rows(built: Built) -> None:
        digests.add(built)
        rows = row_map(built.selection)
        X: Any = built.X  # noqa: N806 - the field's standard name
        writer.design(design_table(built, rows, list(X.T)))
        writer.dropped(rows.dropped, rows.causes, rows.reasons)

    try:
        sample.each(work)
        behind.finish()
        report.totals.settle(prepared)
        if report.looks_again:
            sample.each(lambda selection: report.see_again(source, selection))
        marks = Digests(digests.columns, digests.responses, taken.fingerprints(prepared))
        columns = column_map(report, spec, marks)
        writer.finish(columns, prepared.spec, cells.tables())
    except BaseException:
        behind.abandon()
        writer.abandon()
        raise
    return columns


def in_portions(prepared: Prepared, portions: Portions, width: int) -> Prepared:
    """Return a plan whose passes hold so few leaves that a matrix of so many columns takes little memory."""
    leaves = min(portions.leaves, leaves_within(GROUP_BYTES, width))
    return replace(prepared, shaped=replace(prepared.shaped, leaves_at_once=leaves))


class ColumnDigests:
    """The digests of columns whose rows come stretch by stretch."""

    def __init__(self, outline: Outline) -> None:
        self._columns = [ColumnDigest() for _ in outline.columns]
        self._responses = [ColumnDigest() for _ in outline.responses]

    def add(self, built: Built) -> None:
        """Take in further rows."""
        X: Any = built.X  # noqa: N806 - the field's standard name
        y = [] if built.y is None else list(built.y.T)
        pairs: Sequence[tuple[Any, FloatArray]] = [
            *zip(self._columns, list(X.T), strict=True),
            *zip(self._responses, y, strict=True),
        ]
        for digest, column in pairs:  # in this thread alone, beside those that fill and write
            digest.add(column)

    @property
    def columns(self) -> list[str]:
        return [each.hexdigest() for each in self._columns]

    @property
    def responses(self) -> list[str]:
        return [each.hexdigest() for each in self._responses]
