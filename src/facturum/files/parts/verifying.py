"""Proving a build whose matrix or source is not in memory: both are read side by side, stretch by stretch."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import partial
from itertools import chain, zip_longest
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from facturum.audit.map.column_map import ColumnDigests, column_map
from facturum.audit.map.report import BuildReport
from facturum.audit.map.row_map import LEARNING_ROW, SOURCE_ROW, row_map
from facturum.audit.proof.content import content_failures, table_failures, words_note
from facturum.audit.proof.source_changes import Known, KnownMarks, KnownTable, gone_text, source_changes
from facturum.audit.proof.verify import (
    ALLOWED_STEPS,
    NOT_APPLIED,
    Failure,
    Verification,
    changed_cells_of,
    definitions_of,
    digest_failures,
    disagreement,
    first_difference,
    formula_node,
    not_resolved,
    resolved_failures,
    rows_come,
)
from facturum.audit.source.fingerprints import ColumnDigest
from facturum.data.table import Table
from facturum.data.values import Array, FloatArray
from facturum.data.variable import Variable
from facturum.engine.blocks.source import Source
from facturum.engine.passes.build import Built, answered, built_rows, without_missing_response
from facturum.engine.passes.outline import RESPONSE, Outline
from facturum.engine.passes.selection import Sample, Selection
from facturum.engine.planning.expressions.prepare import prepare
from facturum.engine.planning.expressions.scope import Scope, refuse_deep
from facturum.engine.planning.sections.spec import PlanSpec, spec_from
from facturum.engine.planning.shaping import DATA, Given, declared_tables
from facturum.errors import AuditError, FacturumError, FailedRows, PlanError
from facturum.files.background import Behind
from facturum.files.builds.build_writer import IMPUTED, ROWS, dropped_table
from facturum.files.builds.built_design import design_table
from facturum.files.builds.stored_build import Stored, numbers_of
from facturum.files.parts.cell_spool import CellSpool
from facturum.files.parts.comparing import DroppedRows, Tally, same_tables
from facturum.files.parts.portions import Portions
from facturum.files.parts.spooling import TakenIn, take_in
from facturum.files.scans.scans import Scan
from facturum.language.tree.failures import RowFailure
from facturum.language.tree.nodes import Node
from facturum.language.tree.rows import Rows
from facturum.numerics.exact.ulps import ulp_distance
from facturum.support.threads import on_threads

_BLOCK = 2**16
GONE = "Rows of the matrix would be left out now."
NOT_IN_ORDER = "The stored source rows are not in the order of the table."


class InOtherOrder(Exception):
    """The rows of a build are in the order of its file, and those of the table were brought into another."""


def verify_in_parts(stored: Stored, scan: Scan, series: Mapping[str, Table], portions: Portions) -> Verification:
    """Return whether a stored build still follows from its source, holding little of either at a time.

    Args:
        stored: the build.
        scan: the source table.
        series: the tables of the plan's series.
        portions: how much is held at a time.

    Raises:
        InOtherOrder: where both can be compared only in memory.
    """
    failures = [Failure("file", name, what) for name, what in stored.findings]
    beside = stored.folder.absolute().parent
    folder = beside if os.access(beside, os.W_OK) else Path(tempfile.gettempdir())  # for files without names
    try:
        plan = spec_from(stored.columns.plan).of_build(stored.columns.resolved.get("columns"))
        before = stored.columns.fingerprints.get(DATA, {})
        taken = take_in(plan, scan, series, folder, portions, before=before)
    except FacturumError as error:
        failures += _gone(stored, scan)
        return _stopped([*failures, Failure("plan", "", f"{NOT_APPLIED}: {error}")])
    if taken.prepared.shaped.numbers is not None and _in_order_of_rows(stored):
        raise InOtherOrder
    tables: dict[str, Known] = {place: KnownTable(table) for place, table in taken.series.items()}
    look = partial(_cell_again, scan, plan)
    tables[DATA] = KnownMarks(taken.prepared.table.length, taken.marks, taken.first, look)
    changes = source_changes(tables, stored.columns.fingerprints)
    failures += changed_cells_of(changes)
    try:
        return _compared(stored, taken, folder, portions, failures)
    except AuditError as error:
        return _stopped([*failures, Failure("file", "", f"The build cannot be read: {error.what}.")])


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


def _stopped(failures: list[Failure]) -> Verification:
    return Verification(tuple(failures), 0, 0, False, 0)


def _compared(
    stored: Stored, taken: TakenIn, folder: Path, portions: Portions, failures: list[Failure]
) -> Verification:
    """Compare a build with the one made anew, and its columns with their formulas."""
    plan = spec_from(stored.columns.plan).of_build(stored.columns.resolved.get("columns"))
    try:
        prepared = portions.of(answered(taken.prepared, None)[0])
        failures += resolved_failures(stored.resolved, prepared.spec)
        comparing = _Comparing(stored, *_formulas(stored, taken, failures))
        outline, source = Outline(prepared), prepared.source()
        report, cells = BuildReport(outline), CellSpool(folder)
        digests = ColumnDigests(outline)

        def work(selection: Selection) -> None:
            table, kept, at = comparing.next_rows(selection.start, selection.stop)
            comparing.columns(table, kept, at, [(leaf.start, leaf.stop) for leaf in selection.leaves])
            built = built_rows(outline, source, selection)
            cells.add(report.see(built))
            digests.add(built)
            comparing.rows_of(built, table, kept)

        sample = Sample(prepared, source)
        try:
            sample.each(work)
        except FailedRows as error:  # the columns have been compared all the same
            return _outcome(stored, comparing, [*failures, not_resolved(error), *comparing.failures()])
        report.totals.settle(prepared)
        if report.looks_again:
            sample.each(lambda selection: report.see_again(source, selection))
        if report.checks.looks_again:
            sample.each(lambda selection: report.checks.see_again(built_rows(outline, source, selection)))
    except AuditError:
        raise
    except FacturumError as error:
        return _stopped([*failures, not_resolved(error)])
    failures += comparing.failures()
    if not failures:
        failures += comparing.dropped_failures()
    length, before = source.table.length, stored.columns.rows.given
    if length != before:
        failures += first_difference(failures, min(length, before))
    if not failures:
        anew = digests.taken(taken.fingerprints(prepared)).on(column_map(report, plan), outline)
        failures += content_failures(stored.columns, anew, comparing.steps == 0)
        failures += same_tables(stored.blocks(_BLOCK, IMPUTED), cells.tables(), "the list of imputed cells")
        return _outcome(stored, comparing, failures, () if failures else words_note(stored.columns, anew))
    return _outcome(stored, comparing, failures)


def _outcome(
    stored: Stored, comparing: _Comparing, failures: list[Failure], notes: tuple[str, ...] = ()
) -> Verification:
    columns, steps = len(stored.columns.columns), comparing.steps
    return Verification(tuple(failures), columns, comparing.rows, steps == 0, steps, notes)


def _gone(stored: Stored, scan: Scan) -> Iterator[Failure]:
    """Yield the variables of the source that its table does not have any more."""
    try:
        first = scan.first(None, 1)
    except FacturumError:  # which is told as the reason why nothing can be compared
        return
    for name in stored.columns.fingerprints.get(DATA, {}):
        if first is not None and name not in first:
            yield Failure("variable", name, gone_text(name))


def _formulas(stored: Stored, taken: TakenIn, failures: list[Failure]) -> tuple[Source, dict[str, Node]]:
    """Return the table as formulas read it, and the formula of each column that can be computed."""
    shaped = taken.prepared.shaped
    definitions, unread = definitions_of(stored.columns)
    failures += unread
    resolved = without_missing_response(prepare(stored.resolved, taken.prepared.given, shaped))
    source = replace(resolved.source(), derived=definitions, cache={})
    scope = Scope(resolved.table, definitions, True, stored.resolved.data.step)
    nodes: dict[str, Node] = {}
    try:
        refuse_deep(definitions, {})
    except PlanError as error:
        failures.append(Failure("file", "columns.json", str(error)))
        return source, nodes
    for entry in stored.columns:
        try:
            nodes[entry.name] = formula_node(entry.formula, source, scope)
        except FacturumError as error:
            failures.append(Failure("column", entry.name, f"The column {entry.name} cannot be computed: {error}"))
    return source, nodes


@dataclass(frozen=True)
class _Difference:
    """Rows in which a column is not what its formula gives, and the largest distance in all others."""

    name: str
    what: str
    rows: Array
    steps: int


class _Comparing:
    """Compares the rows of a stored design with those made anew, and its columns with their formulas."""

    def __init__(self, stored: Stored, source: Source, nodes: Mapping[str, Node]) -> None:
        self._stored, self._source, self._nodes = stored, source, nodes
        self._entries = {entry.name: entry for entry in stored.columns}
        self._blocks = stored.blocks(_BLOCK)
        self._held: pa.Table | None = None
        self._digests = {name: ColumnDigest() for name in self._entries}
        self._behind = Behind(0)
        self._tallies: dict[tuple[str, str, str], Tally] = {}
        self._others: dict[str, Failure] = {}
        self._dropped = DroppedRows(stored.blocks(_BLOCK, ROWS))
        self.rows = self.steps = 0

    def next_rows(self, start: int, stop: int) -> tuple[pa.Table, Array, Array]:
        """Return the stored rows of a stretch, their numbers, and their positions in the table."""
        numbers = self._source.row_numbers(np.arange(start, stop))
        table, at = self._next(numbers)
        self.rows += len(at)
        return table, numbers[at], at + start

    def rows_of(self, built: Built, table: pa.Table, kept: Array) -> None:
        """Compare which rows of a stretch are kept, what lies beside their columns, and which are left out."""
        now = row_map(built.selection)
        side = design_table(built, now, [])
        if not self._as_written(side.column_names):
            return
        if np.array_equal(kept, now.kept):
            beside = set(self._entries)
            for failure in table_failures(table.select(side.column_names), side, "the design file", beside):
                self._others.setdefault(failure.name, failure)
        else:
            self._tally("rows", "", GONE, np.setdiff1d(kept, now.kept))
            for what, rows in rows_come(np.setdiff1d(now.kept, kept), self._stored.columns.rows.given):
                self._tally("rows", "", what, rows)
        self._dropped.compare(dropped_table(now.dropped, now.causes, now.reasons))

    def _as_written(self, beside: list[str]) -> bool:
        """Return whether the design file has the columns of the build in their order, and no others."""
        X = [entry.name for entry in self._stored.columns if entry.role != RESPONSE]  # noqa: N806
        wanted, own = [*beside, *X], self._stored.schema.names
        if own != wanted:
            odd = [a for a, b in zip_longest(own, wanted) if a != b]
            name = "the design file"
            what = f"The columns of {name} are not those of the build, or in another order: {odd[:3]}."
            self._others.setdefault(name, Failure("file", name, what))
        return bool(own == wanted)

    def _next(self, numbers: Array) -> tuple[pa.Table, Array]:
        """Return the next stored rows, as far as they are of a stretch with these numbers, and their places in it."""
        order = None if (np.diff(numbers) == 1).all() else np.argsort(numbers)
        parts, places = [], []
        while True:
            if self._held is None or not self._held.num_rows:
                self._held = next(self._blocks, None)
                if self._held is None:
                    break
            rows = numbers_of(self._held.column(SOURCE_ROW)).astype(np.int64)
            if order is None:
                place = np.clip(rows - numbers[0], 0, len(numbers) - 1)
            else:
                place = order[np.minimum(np.searchsorted(numbers, rows, sorter=order), len(numbers) - 1)]
            outside = np.flatnonzero(numbers[place] != rows)
            count = int(outside[0]) if len(outside) else len(rows)
            parts.append(self._held.slice(0, count))
            places.append(place[:count])
            self._held = self._held.slice(count)
            if count < len(rows):
                break
        if not parts:
            return self._stored.schema.empty_table(), np.zeros(0, dtype=np.int64)
        return pa.concat_tables(parts), np.concatenate(places)

    def columns(self, table: pa.Table, kept: Array, at: Array, leaves: list[tuple[int, int]]) -> None:
        """Compare the stored columns with their formulas, leaf by leaf."""
        columns = on_threads(lambda name: numbers_of(table.column(name)), list(self._entries))
        stored = dict(zip(self._entries, columns, strict=True))
        self._behind.do(lambda: self._take_digests(stored))
        if (np.diff(at) < 0).any():
            self._others.setdefault(SOURCE_ROW, Failure("file", SOURCE_ROW, NOT_IN_ORDER))
            return

        def compared(leaf: tuple[int, int]) -> list[_Difference]:
            some = slice(*np.searchsorted(at, leaf))
            rows = self._source.rows(*leaf, at[some] - leaf[0])
            if not rows.length:
                return []
            return [
                self._compare(name, node, rows, stored[name][some], kept[some]) for name, node in self._nodes.items()
            ]

        for difference in (each for leaf in on_threads(compared, leaves) for each in leaf):
            self.steps = max(self.steps, difference.steps)
            self._tally("column", difference.name, difference.what, difference.rows)

    def _take_digests(self, stored: Mapping[str, FloatArray]) -> None:
        for name, column in stored.items():
            self._digests[name].add(column)

    def _compare(self, name: str, node: Node, rows: Rows, stored: FloatArray, kept: Array) -> _Difference:
        """Return in which rows a column is not what its formula gives."""
        try:
            values = rows.evaluate(node).full(rows.length)
        except RowFailure as failure:
            numbers = np.sort(self._source.row_numbers(np.array(failure.rows)))
            return _Difference(name, f"The column {name} cannot be computed: {failure.what}.", numbers, 0)
        data = values.numbers() + 0.0
        apart = ulp_distance(data if values.valid is None else np.where(values.valid, data, np.nan), stored)
        wrong = apart > ALLOWED_STEPS
        return _Difference(
            name,
            disagreement(self._entries[name], self._stored.columns),
            kept[wrong],
            int(apart[~wrong].max(initial=0)),
        )

    def dropped_failures(self) -> Iterator[Failure]:
        """Yield whether the stored list of rows left out is not the one made anew."""
        return self._dropped.failures()

    def _tally(self, kind: str, name: str, what: str, rows: Array) -> None:
        if len(rows):
            self._tallies.setdefault((kind, name, what), Tally()).add(rows)

    def failures(self) -> Iterator[Failure]:
        """Yield what does not agree, once all rows have been seen."""
        self._behind.finish()
        length = self._source.table.length
        for block in chain([] if self._held is None else [self._held], self._blocks):
            rows = numbers_of(block.column(SOURCE_ROW)).astype(np.int64)
            self._tally("rows", "", GONE, rows[rows > length])
            if (rows <= length).any():
                self._others.setdefault(SOURCE_ROW, Failure("file", SOURCE_ROW, NOT_IN_ORDER))
            for name, digest in self._digests.items():
                digest.add(numbers_of(block.column(name)))
        digests = {name: digest.hexdigest() for name, digest in self._digests.items()}
        yield from digest_failures(self._stored.columns, digests)
        for (kind, name, what), tally in self._tallies.items():
            yield Failure(kind, name, what, tuple(tally.rows), tally.count)
        yield from self._others.values()


def _in_order_of_rows(stored: Stored) -> bool:
    """Return whether the rows of a build are in the order of their source; not where they cannot be read."""
    last: Any = 0
    try:
        for block in stored.blocks(_BLOCK * 16, None, [SOURCE_ROW, LEARNING_ROW]):
            rows = numbers_of(block.column(SOURCE_ROW))
            if len(rows) and (rows[0] <= last or (np.diff(rows) < 1).any()):
                return False
            last = rows[-1] if len(rows) else last
    except AuditError:
        return False
    return True
