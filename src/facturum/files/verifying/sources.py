"""The source that a build is verified against: tables in memory, or one that is taken in part by part."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path

from facturum.audit.map.entries import ColumnMap
from facturum.audit.proof.source_changes import Known, KnownMarks, KnownTable, gone_text, source_changes
from facturum.audit.proof.verify import Failure, changed_cells_of, not_applied
from facturum.audit.source.fingerprints import Fingerprint
from facturum.audit.source.origins import fingerprints_of
from facturum.data.table import Table
from facturum.data.variable import Variable
from facturum.engine.planning.expressions.prepare import prepare
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.engine.planning.sections.spec import PlanSpec, spec_from
from facturum.engine.planning.shaping import DATA, Given, declared_tables
from facturum.errors import FacturumError
from facturum.files.parts.cell_spool import CellList, CellSpool
from facturum.files.parts.portions import Portions
from facturum.files.parts.spooling import take_in
from facturum.files.scans.scans import Scan

_BLOCK = 2**16


@dataclass(frozen=True)
class SourceNow:
    """The source of a build as it is now.

    Args:
        failures: what has changed in it.
        prepared: the plan of the build, as it was written, over its table; None where it cannot be applied to that.
        fingerprints: returns those of the variables that a plan reads, by table.
        cells: takes in the cells that are filled.
        within: returns a resolved plan whose passes hold as little of the table at a time as this one is read in.
    """

    failures: tuple[Failure, ...]
    prepared: Prepared | None = None
    fingerprints: Callable[[Prepared], dict[str, dict[str, Fingerprint]]] = fingerprints_of
    cells: CellList | CellSpool = field(default_factory=CellList)
    within: Callable[[Prepared], Prepared] = lambda prepared: prepared

    @property
    def rows(self) -> int | None:
        """How many rows the table has now; None where the plan cannot be applied to it."""
        return None if self.prepared is None else self.prepared.table.length - self.prepared.shaped.history_rows


def plan_of(columns: ColumnMap) -> PlanSpec:
    """Return the plan of a build as it was written, whose names of responses are those of the build."""
    return spec_from(columns.plan).of_build(columns.resolved.get("columns"))


def source_in_memory(columns: ColumnMap, given: Given) -> SourceNow:
    """Return tables in memory as the source of a build, which has a column map."""
    changes: list[Failure] = []
    try:
        declared = declared_tables(spec_from(columns.resolved), given)
        changes = _changes({place: KnownTable(table) for place, table in declared.items()}, columns)
        return SourceNow(tuple(changes), prepare(plan_of(columns), given))
    except FacturumError as error:
        return SourceNow((*changes, not_applied(error)))


def source_in_parts(
    columns: ColumnMap, scan: Scan, series: Mapping[str, Table], folder: Path, portions: Portions
) -> SourceNow:
    """Return a table that is taken in part by part as the source of a build.

    Args:
        columns: the column map of the build.
        scan: the table.
        series: the tables of the plan's series.
        folder: where temporary files are.
        portions: how much is held at a time.
    """
    try:
        plan = plan_of(columns)
        taken = take_in(plan, scan, series, folder, portions, before=columns.fingerprints.get(DATA, {}))
    except FacturumError as error:
        return SourceNow((*_gone(columns, scan), not_applied(error)))
    tables: dict[str, Known] = {place: KnownTable(table) for place, table in taken.series.items()}
    look = partial(_cell_again, scan, plan)
    tables[DATA] = KnownMarks(taken.prepared.table.length, taken.marks, taken.first, look)
    changes = _changes(tables, columns)
    return SourceNow(tuple(changes), taken.prepared, taken.fingerprints, CellSpool(folder), portions.of)


def in_stored_order(prepared: Prepared, by_rows: bool) -> Prepared:
    """Return a plan whose matrix has its rows in the order of those stored.

    Args:
        prepared: the plan.
        by_rows: whether the stored rows are in the order of the source; otherwise in that of unit and period. Rows that
            are brought back into the order of the source are all made in one stretch.
    """
    shaped = prepared.shaped
    if shaped.numbers is None or shaped.restored == by_rows:
        return prepared
    at_once = None if by_rows else shaped.leaves_at_once
    return replace(prepared, shaped=replace(shaped, restored=by_rows, leaves_at_once=at_once))


def _changes(tables: Mapping[str, Known], columns: ColumnMap) -> list[Failure]:
    return list(changed_cells_of(source_changes(tables, columns.fingerprints)))


def _cell_again(scan: Scan, plan: PlanSpec, name: str, row: int) -> tuple[Variable, int] | None:
    """Read the rows of a table once more that hold one cell; return its variable in these, and where in it it is."""
    before = 0
    for block in scan.blocks(None, _BLOCK):
        if row <= before + block.length:
            alone = plan.model_copy(update={"series": {}})
            with suppress(FacturumError):
                declared = declared_tables(alone, Given(block))[DATA]
                return (declared[name], row - before - 1) if name in declared else None
            return None
        before += block.length
    return None


def _gone(columns: ColumnMap, scan: Scan) -> Iterator[Failure]:
    """Yield the variables of the source that its table does not have any more."""
    try:
        first = scan.first(None, 1)
    except FacturumError:  # which is told as the reason why nothing can be compared
        return
    for name in columns.fingerprints.get(DATA, {}):
        if first is not None and name not in first:
            yield Failure("variable", name, gone_text(name))
