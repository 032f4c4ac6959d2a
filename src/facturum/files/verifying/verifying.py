"""Proving a build: the rows made anew and those stored are read side by side, stretch by stretch.

A table in memory is the case of one stretch.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import zip_longest

import numpy as np
import pyarrow as pa

from facturum.audit.map.column_map import ColumnDigests, column_map
from facturum.audit.map.entries import ColumnMap
from facturum.audit.map.report import report_of_stretches
from facturum.audit.map.row_map import LEARNING_ROW, SOURCE_ROW, row_map
from facturum.audit.proof.content import content_failures, numbers_only, table_failures, words_note
from facturum.audit.proof.verify import (
    ALLOWED_STEPS,
    Failure,
    Verification,
    definitions_of,
    digest_failures,
    disagreement,
    first_difference,
    formula_node,
    not_applied,
    not_resolved,
    resolved_failures,
    rows_come,
)
from facturum.audit.topics.imputations import FilledCells
from facturum.data.values import Array, FloatArray
from facturum.engine.blocks.source import Source
from facturum.engine.passes.build import Built, answered, without_missing_response
from facturum.engine.passes.outline import RESPONSE, Outline
from facturum.engine.passes.selection import Sample, Selection
from facturum.engine.planning.expressions.prepare import prepare
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.engine.planning.expressions.scope import Scope, refuse_deep
from facturum.errors import AuditError, FacturumError, PlanError
from facturum.files.builds.build_writer import IMPUTED, ROWS, dropped_table
from facturum.files.builds.built_design import Origin, design_table
from facturum.files.verifying.comparing import DroppedRows, Tally, same_tables
from facturum.files.verifying.sources import SourceNow, in_stored_order, plan_of
from facturum.files.verifying.stored_rows import BLOCK, StoredRows, StoredStretch, rows_are_in_order
from facturum.language.tree.failures import RowFailure
from facturum.language.tree.nodes import Node
from facturum.language.tree.rows import Rows
from facturum.numerics.exact.ulps import ulp_distance
from facturum.support.threads import on_threads

GONE = "Rows of the matrix would be left out now."
LEARNED = "Rows are marked as learned from that were not, or the other way round."
NOT_IN_ORDER = "The stored source rows are not in the order of the table."


def verify(origin: Origin, now: SourceNow) -> Verification:
    """Return whether a build still follows from its source.

    Args:
        origin: the build.
        now: its source.
    """
    failures = [Failure("file", name, what) for name, what in origin.findings]
    failures += now.failures
    if now.prepared is not None:
        try:
            return _verified(origin, now, now.prepared, failures)
        except AuditError as error:
            failures.append(_unread(error.what))
        except pa.ArrowException as error:  # a column of another type, of which numbers cannot be made
            failures.append(_unread(str(error).splitlines()[0]))
        except FacturumError as error:
            failures.append(not_applied(error))
    return Verification(tuple(failures), 0, 0, False, 0)


def _unread(what: str) -> Failure:
    return Failure("file", "", f"The build cannot be read: {what}.")


def _verified(origin: Origin, now: SourceNow, written: Prepared, failures: list[Failure]) -> Verification:
    """Compare a build with the one made anew, and its columns with their formulas.

    Args:
        origin: the build.
        now: its source.
        written: the plan as it was written, over its table.
        failures: what is known not to agree.
    """
    stored = origin.audited
    resolved = without_missing_response(prepare(origin.resolved, written.given, written.shaped))
    comparing = _Comparing(origin, resolved)
    in_row_order = rows_are_in_order(origin)
    anew: ColumnMap | None = None
    try:
        prepared = in_stored_order(now.within(answered(written, None)[0]), in_row_order)
        failures += resolved_failures(origin.resolved, prepared.spec)
        anew = _anew(stored, now, prepared, comparing)
    except AuditError:
        raise
    except FacturumError as error:
        failures.append(not_resolved(error))
        if not comparing.seen:
            comparing.compare_without_plan(in_stored_order(now.within(resolved), in_row_order))
    failures += comparing.failures()
    if not failures:
        failures += comparing.dropped.failures()
    length, before = comparing.given, stored.rows.given
    if length != before:
        failures += first_difference(failures, min(length, before))
    notes: tuple[str, ...] = ()
    if anew is not None and not failures:
        failures += content_failures(stored, anew, comparing.steps == 0)
        failures += same_tables(origin.blocks(BLOCK, IMPUTED), now.cells.tables(), "the list of imputed cells")
        notes = () if failures else words_note(stored, anew)
    rows, steps = comparing.stored.count, comparing.steps
    return Verification(tuple(failures), len(stored.columns), rows, steps == 0, steps, notes)


def _anew(stored: ColumnMap, now: SourceNow, prepared: Prepared, comparing: _Comparing) -> ColumnMap:
    """Make all rows anew, compare those stored with them, and return the column map.

    Raises:
        PlanError, DataError: where they cannot be made; the columns have been compared all the same.
    """
    outline = Outline(prepared)
    digests = ColumnDigests(outline)

    def take(built: Built, filled: list[FilledCells]) -> None:
        now.cells.add(filled)
        digests.add(built)
        comparing.compare_rows(built)

    sample, sparse = Sample(prepared, prepared.source()), comparing.stored.cells is not None
    report = report_of_stretches(outline, sample, take, comparing.compare_columns, sparse)
    return digests.taken(now.fingerprints(prepared)).on(column_map(report, plan_of(stored)), outline)


def _formulas(columns: ColumnMap, resolved: Prepared) -> tuple[Source, dict[str, Node], list[Failure]]:
    """Return a table as formulas read it, the formula of each column, and what of them cannot be computed."""
    definitions, failures = definitions_of(columns)
    source = replace(resolved.source(), derived=definitions, cache={})
    scope = Scope(resolved.table, definitions, True, resolved.spec.data.step)
    nodes: dict[str, Node] = {}
    try:
        refuse_deep(definitions, {})
    except PlanError as error:
        return source, nodes, [*failures, Failure("file", "columns.json", str(error))]
    for entry in columns.columns:
        try:
            nodes[entry.name] = formula_node(entry.formula, source, scope)
        except FacturumError as error:
            failures.append(Failure("column", entry.name, f"The column {entry.name} cannot be computed: {error}"))
    return source, nodes, failures


@dataclass(frozen=True)
class _Difference:
    """Rows in which a column is not what its formula gives, and the largest distance in all others."""

    name: str
    what: str
    rows: Array
    steps: int


class _Comparing:
    """Compares the rows of a stored design with those made anew, and its columns with their formulas."""

    def __init__(self, origin: Origin, resolved: Prepared) -> None:
        self._map, self._schema = origin.audited, origin.schema
        self.stored = StoredRows(origin, self._schema)
        self._entries = {entry.name: entry for entry in self._map.columns}
        self._source, nodes, self._unread = _formulas(self._map, resolved)
        self._nodes = {name: node for name, node in nodes.items() if name in set(self.stored.names)}
        self.given = self._source.table.length - self._source.history_rows
        self.dropped = DroppedRows(origin.blocks(BLOCK, ROWS))
        self.steps = 0
        self._tallies: dict[tuple[str, str, str], Tally] = {}
        self._others: dict[str, Failure] = {}
        self._rows: StoredStretch | None = None
        self._numbers: Array = np.zeros(0, dtype=np.int64)
        self.seen = 0

    def compare_without_plan(self, prepared: Prepared) -> None:
        """Compare columns, and which rows are kept, of a plan that cannot be resolved any more."""

        def work(selection: Selection) -> None:
            self.compare_columns(selection)
            self._compare_kept(selection.source_rows())

        try:
            Sample(prepared, prepared.source()).each(work)
        except FacturumError as error:
            self._others.setdefault("", Failure("rows", "", f"The rows can no longer be selected: {error}"))

    def compare_columns(self, selection: Selection) -> None:
        """Take the stored rows of a stretch, and compare their columns with their formulas, leaf by leaf."""
        self._numbers = self._source.row_numbers(np.arange(selection.start, selection.stop))
        self._rows = rows = self.stored.of_stretch(selection.start, self._numbers)
        self.seen = selection.stop
        order = np.argsort(rows.at) if selection.restored else None
        if (np.diff(rows.kept if selection.restored else rows.at) < 1).any():
            self._others.setdefault(SOURCE_ROW, Failure("file", SOURCE_ROW, NOT_IN_ORDER))
            return
        at = rows.at if order is None else rows.at[order]

        def compared(leaf: tuple[int, int]) -> list[_Difference]:
            part = slice(*np.searchsorted(at, leaf))
            some = part if order is None else order[part]
            evaluated = self._source.rows(*leaf, at[part] - leaf[0])
            if not evaluated.length:
                return []
            return [
                self._compare(name, node, evaluated, rows.values(name, some), rows.kept[some])
                for name, node in self._nodes.items()
            ]

        leaves = [(leaf.start, leaf.stop) for leaf in selection.leaves]
        for difference in (each for leaf in on_threads(compared, leaves) for each in leaf):
            self.steps = max(self.steps, difference.steps)
            self._tally("column", difference.name, difference.what, difference.rows)

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
        what = disagreement(self._entries[name], self._map)
        return _Difference(name, what, kept[wrong], int(apart[~wrong].max(initial=0)))

    def compare_rows(self, built: Built) -> None:
        """Compare which rows of a stretch are kept, what lies beside their columns, and which are left out."""
        now = row_map(built.selection)
        side = design_table(built, now, [])
        rows = self._rows
        if rows is None or not self._as_written(side.column_names):
            return
        if self._compare_kept(now.kept):
            wanted = side.select([name for name in side.column_names if name in rows.table.column_names])
            beside = {*self._entries, LEARNING_ROW}
            for failure in table_failures(rows.table.select(wanted.column_names), wanted, "the design file", beside):
                self._others.setdefault(failure.name, failure)
            learning = rows.table.column(LEARNING_ROW).to_numpy()
            self._tally("rows", "", LEARNED, now.kept[learning != now.learning])
        self.dropped.compare(dropped_table(now.dropped, now.causes, now.reasons), self._numbers)

    def _compare_kept(self, now: Array) -> bool:
        """Compare which rows of a stretch are kept, and return whether they are the same."""
        kept = np.zeros(0, dtype=np.int64) if self._rows is None else self._rows.kept
        if np.array_equal(kept, now):
            return True
        self._tally("rows", "", GONE, np.setdiff1d(kept, now))
        for what, rows in rows_come(np.setdiff1d(now, kept), self._map.rows.given):
            self._tally("rows", "", what, rows)
        return False

    def _as_written(self, beside: list[str]) -> bool:
        """Return whether the design file has the columns of the build in their order, and no others."""
        own = self._schema.names
        sparse = self.stored.cells is not None
        if sparse or numbers_only(self._schema):  # whose files have no carried variables
            beside = [name for name in beside if name in own]
        X = [] if sparse else [entry.name for entry in self._map.columns if entry.role != RESPONSE]  # noqa: N806
        odd = [a for a, b in zip_longest(own, [*beside, *X]) if a != b]
        if odd:
            name = "the design file"
            what = f"The columns of {name} are not those of the build, or in another order: {odd[:3]}."
            self._others.setdefault(name, Failure("file", name, what))
        return not odd

    def _tally(self, kind: str, name: str, what: str, rows: Array) -> None:
        if len(rows):
            self._tallies.setdefault((kind, name, what), Tally()).add(rows)

    def failures(self) -> Iterator[Failure]:
        """Yield what does not agree, once all rows have been seen."""
        whole = self.seen == self._source.table.length
        for rows in self.stored.rest():
            self._tally("rows", "", GONE, rows[rows > self.given])
            if whole and (rows <= self.given).any():
                self._others.setdefault(SOURCE_ROW, Failure("file", SOURCE_ROW, NOT_IN_ORDER))
        yield from self._unread
        yield from digest_failures(self._map, self.stored.digests())
        for (kind, name, what), tally in self._tallies.items():
            yield Failure(kind, name, what, tuple(tally.rows), tally.count)
        yield from self._others.values()
