"""The tables that a plan is given: how their files are written, their series, and what of them is read."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from facturum.audit.map.entries import ColumnMap
from facturum.data.table import Table
from facturum.engine.planning.sections.plain_names import with_names
from facturum.engine.planning.sections.projection import series_needed, variables_needed
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.engine.planning.shaping import Given
from facturum.errors import DataError, bounded, nearest, plan_says, series_remedy
from facturum.files.given.as_found import as_found, form_of, series_files, with_keys
from facturum.files.parts.choosing import free_memory, is_large
from facturum.files.scans.file_scans import scan_of
from facturum.files.scans.scans import Scan, TableScan, names_of
from facturum.files.scans.tables import read_file


@dataclass(frozen=True)
class PlanInputs:
    """A plan, and where its tables are.

    Args:
        spec: the plan.
        folder: where the files of its series are looked for; None for nowhere.
        tables: of its series, where they are known.
        known: of a resolved plan, returns the map of the build that it belongs to.
    """

    spec: PlanSpec
    folder: Path | None
    tables: Mapping[str, Any]
    known: Callable[[], ColumnMap] | None

    @property
    def streams(self) -> bool:
        """Whether the plan can be built of a table that is read in parts: it neither stacks nor converts it."""
        return self.spec.stack is None and self.spec.convert is None

    def as_found(self, table: Any, series: Mapping[str, Any] | None = None) -> PlanInputs:
        """Return an open plan that says how its files are written, with names as expressions; a resolved one as it is.

        Raises:
            DataError: where a file can be read in two ways.
        """
        if self.spec.resolved:
            return self
        files = series_files(self.spec, self.folder, {**self.tables, **(series or {})})
        path = Path(table) if isinstance(table, str | Path) else None
        found = replace(self, spec=with_keys(as_found(self.spec, path, files)))
        return replace(self, spec=with_names(found.spec, lambda: names_of(found.scan(table))))

    def scan(self, table: Any) -> Scan:
        """Return a table as one that is read block by block, according to the plan's [data].

        Raises:
            DataError: where it is not found or not a table.
        """
        is_file = isinstance(table, str | Path)
        return scan_of(Path(table), form_of(self.spec, Path(table))) if is_file else TableScan(Table.of(table))

    def is_large(self, table: Any) -> bool:
        """Return whether a table or its matrix would take more than half of the free memory, judged by its first rows.

        Raises:
            DataError: where it is not found or not a table.
        """
        with bounded():
            plan = self.as_found(table)
            return is_large(plan.spec, plan.scan(table), free_memory())

    def given(self, table: Any, history: Any = None, series: Mapping[str, Any] | None = None) -> Given:
        """Return the tables that the plan is given, each taken in.

        Raises:
            DataError: where one of them cannot be read, or is not a series of the plan.
        """
        from_file = any(isinstance(given, str | Path) for given in (table, history))
        columns = variables_needed(self.spec) if from_file else None
        before = None if history is None else self.table(history, columns)
        return Given(self.table(table, columns), self.series_tables(series), before)

    def series_tables(self, series: Mapping[str, Any] | None) -> dict[str, Table]:
        """Return the tables of the plan's series, from where they are known."""
        tables = {**self.tables, **(series or {})}
        for name in tables:
            if name not in self.spec.series:
                hint = nearest(name, list(self.spec.series))
                raise DataError(f"series '{name}' not found in the plan{hint}", remedy="Write it under [series].")
        for name, spec in self.spec.series.items():
            if name not in tables and spec.file is not None and self.folder is not None:
                tables[name] = self.folder / spec.file
            elif name not in tables:
                remedy = f"{series_remedy(name)} Paths written in a build folder are not followed."
                what = f"the table of the series '{name}' is not given"
                raise DataError(what, place=f"series.{name}", remedy=remedy)
        return {name: self.table(data, series_needed(self.spec.series[name]), name) for name, data in tables.items()}

    def table(self, given: Any, columns: Collection[str] | None = None, series: str | None = None) -> Table:
        """Return a table, read where it is a file: the plan's own, or that of one of its series."""
        if not isinstance(given, str | Path):
            return Table.of(given)
        with plan_says():
            return read_file(Path(given), form_of(self.spec, Path(given), series), columns)
