"""The way from a plan and its tables to a design: in memory, or into a folder in parts."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from facturum.api.design import Design
from facturum.data.table import Table, TableLike
from facturum.engine.passes.build import Progress, build, resolve
from facturum.engine.passes.viewing import viewed
from facturum.errors import bounded, plan_says
from facturum.files.given.inputs import PlanInputs
from facturum.files.parts.portions import Portions
from facturum.files.parts.streaming import RowProgress, build_into
from facturum.support.issued_warnings import issue

if TYPE_CHECKING:
    from facturum.api.plan import Plan


def resolved_inputs(
    inputs: PlanInputs, table: TableLike, series: Mapping[str, Any] | None, threads: int | None
) -> PlanInputs:
    """Return a plan with every question answered on a table."""
    with bounded():
        plan = inputs.as_found(table, series)
        given = plan.given(table, series=series)
        spec = resolve(plan.spec, given, threads).spec
    return PlanInputs(spec, inputs.folder, given.series, None)


def view_of(inputs: PlanInputs, table: TableLike, series: Mapping[str, Any] | None) -> Table:
    """Return the rows that a plan keeps, with its derived variables."""
    with bounded():
        plan = inputs.as_found(table, series)
        return viewed(plan.spec, plan.given(table, series=series))


def built_design(
    plans: type[Plan],
    inputs: PlanInputs,
    table: TableLike,
    history: TableLike | None,
    series: Mapping[str, Any] | None,
    threads: int | None,
    progress: Progress | None,
    sparse: bool,
) -> Design:
    """Return the design matrix of a plan on a table, with its maps."""
    with bounded():
        plan = inputs.as_found(table, series)
        given = plan.given(table, history, series)
        built = build(plan.spec, given, threads, progress=progress, sparse=sparse)
        design = Design._of(built, plan.spec, plans)
    design._remember(inputs.folder, given.series, inputs.known)
    if inputs.spec.checks.refuses:
        _ = design.columns
    design._issue_warnings(stacklevel=5)
    return design


def built_into(
    plans: type[Plan],
    inputs: PlanInputs,
    folder: Path,
    table: TableLike,
    series: Mapping[str, Any] | None,
    memory: int,
    progress: RowProgress | None,
    **written: Any,
) -> Design:
    """Write the build of a table that need not fit into memory, and return it as opened."""
    with bounded(), plan_says():
        plan = inputs.as_found(table, series)
        scan, tables = plan.scan(table), plan.series_tables(series)
        portions = Portions(memory=memory)
        columns = build_into(plan.spec, scan, tables, folder, portions=portions, progress=progress, **written)
        design = Design._open(folder, False, plans)
    design._remember(inputs.folder, tables)
    issue(columns.warnings, stacklevel=5)
    return design
