"""Proving a build: every column anew from its sources by its formula, and what no longer agrees."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from threading import Lock

import numpy as np

from facturum.audit.map.entries import ColumnEntry, ColumnMap
from facturum.audit.proof.source_changes import KnownTable, SourceChange, source_changes
from facturum.data.values import Array, FloatArray
from facturum.engine.blocks.source import Source
from facturum.engine.passes.build import Built, build, without_missing_response
from facturum.engine.passes.selection import Sample
from facturum.engine.planning.expressions.prepare import prepare
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.engine.planning.expressions.scope import Scope, refuse_deep
from facturum.engine.planning.sections.spec import PlanSpec, spec_from
from facturum.engine.planning.shaping import Given, declared_tables
from facturum.errors import FacturumError, PlanError, counted, rows_in_words
from facturum.language.syntax.parser import parse
from facturum.language.tree.failures import RowFailure
from facturum.language.tree.nodes import Node
from facturum.numerics.exact.ulps import ulp_distance
from facturum.support.threads import on_threads

_ONE_AT_A_TIME = Lock()
BACK = "Rows left out of the matrix would be kept now."
NEW = "New rows, which the build did not have, would enter the matrix."
NOT_APPLIED = "The resolved plan cannot be applied to this table"
ALLOWED_STEPS = 16  # units in the last place, between versions of NumPy and kinds of processor


@dataclass(frozen=True)
class Failure:
    """Something that no longer agrees.

    Args:
        kind: variable, column, file, rows, plan or map.
        name: of the variable or column.
        what: one sentence.
        rows: source row numbers, the first few.
        count: how many rows.
        at: of a changed cell, its row, which the sentence names.
        lines: of a text file, in which these rows stand.
    """

    kind: str
    name: str
    what: str
    rows: tuple[int, ...] = ()
    count: int = 0
    at: int | None = None
    lines: tuple[int, ...] = ()

    def __str__(self) -> str:
        rows = " " + rows_in_words(self.rows, self.count) if self.rows else ""
        called = "Line" if len(self.lines) == 1 else "Lines"
        lines = f" {called} {', '.join(map(str, self.lines))} of the file." if self.lines else ""
        return self.what + rows + lines


@dataclass(frozen=True)
class Verification:
    """The outcome of verifying a build.

    Args:
        failures: what no longer agrees; empty where all does.
        columns: how many columns were computed anew.
        rows: over how many rows.
        exact: whether all recomputed values agree to the bit; otherwise within the units in the last place allowed.
        steps: the largest distance seen, in units in the last place.
        notes: what was not compared, in sentences.
    """

    failures: tuple[Failure, ...]
    columns: int
    rows: int
    exact: bool
    steps: int
    notes: tuple[str, ...] = ()

    @property
    def ok(self) -> bool:
        """Whether everything agrees."""
        return not self.failures

    def __str__(self) -> str:
        if not self.ok:
            return "\n".join(str(failure) for failure in self.failures)
        how = "to the bit" if self.exact else f"within {counted(self.steps, 'unit')} in the last place"
        what = f"{counted(self.columns, 'column')} of {counted(self.rows, 'row')}"
        return "\n".join([f"{what} agree {how} with their formulas on the source.", *self.notes])


def verify(
    stored: ColumnMap,
    matrix: Mapping[str, FloatArray],
    digests: Mapping[str, str],
    kept: Array,
    given: Given,
    sparse: bool = False,
) -> tuple[Verification, tuple[Built, PlanSpec] | None]:
    """Return whether a stored build still follows from its source, and the build of its plan made anew, if it can be.

    Args:
        stored: the column map.
        matrix: the stored columns, the response included, by name.
        digests: of the same.
        kept: the source row number of each stored row, counted from 1.
        given: the source tables.
        sparse: whether the matrix is a sparse one.
    """
    failures: list[Failure] = list(digest_failures(stored, digests))
    try:
        spec = spec_from(stored.resolved)
        tables = {place: KnownTable(table) for place, table in declared_tables(spec, given).items()}
        changes = source_changes(tables, stored.fingerprints)
        failures += changed_cells_of(changes)
        prepared = without_missing_response(prepare(spec, given))
    except FacturumError as error:
        failures += [Failure("plan", "", f"{NOT_APPLIED}: {error}")]
        return _stopped(failures, kept)
    if not len(kept) or kept[0] < 1 or (np.diff(kept) < 1).any():
        failures.append(Failure("file", "source_row", "The stored source rows are not increasing row numbers."))
        return _stopped(failures, kept)
    failures += _row_failures(prepared, kept, stored.rows.given)
    anew, changed = _anew(stored, spec, given, sparse)
    failures += changed
    length = prepared.table.length - prepared.shaped.history_rows
    definitions, unread = definitions_of(stored)
    failures += unread
    source = replace(prepared.source(), derived=definitions, cache={})
    scope = Scope(prepared.table, definitions, True, spec.data.step)
    try:
        refuse_deep(definitions, {})
    except PlanError as error:
        return _stopped([*failures, Failure("file", "columns.json", str(error))], kept)
    inside = slice(0, int(np.searchsorted(kept, length, side="right")))
    entries = [entry for entry in stored.columns if entry.name in matrix]

    def check(entry: ColumnEntry) -> tuple[list[Failure], int]:
        return _column_failures(entry, matrix[entry.name][inside], kept[inside], source, scope, stored)

    checked = on_threads(check, entries)
    failures += [failure for part, _ in checked for failure in part]
    steps = max((apart for _, apart in checked), default=0)
    if length != stored.rows.given:
        failures += first_difference(failures, min(length, stored.rows.given))
    return Verification(tuple(failures), len(stored.columns), len(kept), steps == 0, steps), anew


def _stopped(failures: Sequence[Failure], kept: Array) -> tuple[Verification, None]:
    """Return the outcome where no column could be computed."""
    return Verification(tuple(failures), 0, len(kept), False, 0), None


def digest_failures(stored: ColumnMap, digests: Mapping[str, str]) -> Iterator[Failure]:
    """Yield which stored columns are not those that were written."""
    for entry in stored.columns:
        if entry.name not in digests:
            yield Failure("file", entry.name, f"The stored matrix has no column {entry.name}.")
        elif entry.digest not in (None, digests[entry.name]):
            yield Failure("file", entry.name, f"The stored column {entry.name} is not the one that was written.")


def definitions_of(stored: ColumnMap) -> tuple[dict[str, Node], list[Failure]]:
    """Return what formulas may name, and which of it is not a valid expression."""
    definitions: dict[str, Node] = {}
    failures = []
    for entry in stored.definitions:
        try:
            definitions[entry.name] = parse(entry.formula, learned=True)
        except FacturumError as error:
            failures.append(Failure("file", entry.name, f"The definition of {entry.name} cannot be read: {error}"))
    return definitions, failures


def first_difference(failures: Sequence[Failure], shared: int) -> Iterator[Failure]:
    """Yield, where rows were inserted or deleted, the first that disagrees among the rows of both tables."""
    rows = [failure.rows[0] for failure in failures if failure.kind in ("rows", "column") and failure.rows]
    if rows and min(rows) <= shared:
        yield Failure("variable", "", f"The first row in which the matrix and the table disagree is row {min(rows)}.")


def changed_cells_of(changes: Iterable[SourceChange]) -> Iterator[Failure]:
    """Yield what has become of the source, as failures."""
    yield from (Failure("variable", change.name, change.what, at=change.row) for change in changes)


def _row_failures(prepared: Prepared, kept: Array, given: int) -> Iterator[Failure]:
    try:
        now = Sample(prepared, prepared.source()).settled().whole.source_rows()
    except FacturumError as error:
        yield Failure("rows", "", f"The rows can no longer be selected: {error}")
        return
    if np.array_equal(kept, now):
        return
    gone, come = np.setdiff1d(kept, now), np.setdiff1d(now, kept)
    if len(gone):
        yield rows_failure("rows", "", "Rows of the matrix would be left out now.", gone)
    for what, rows in rows_come(come, given):
        yield rows_failure("rows", "", what, rows)


def rows_come(come: Array, given: int) -> Iterator[tuple[str, Array]]:
    """Yield rows that the matrix has not: those of the build's own table, and those that are new in this one."""
    for what, rows in ((BACK, come[come <= given]), (NEW, come[come > given])):
        if len(rows):
            yield what, rows


def _anew(
    stored: ColumnMap, spec: PlanSpec, given: Given, sparse: bool
) -> tuple[tuple[Built, PlanSpec] | None, list[Failure]]:
    """Return the build of the plan as it was written, made anew, and where resolving it gives another plan."""
    try:
        plan = spec_from(stored.plan).of_build(stored.resolved.get("columns"))
        built = build(plan, given, sparse=sparse)
    except FacturumError as error:
        return None, [not_resolved(error)]
    return (built, plan), list(resolved_failures(spec, built.spec))


def not_resolved(error: FacturumError) -> Failure:
    """Return that a plan cannot be resolved any more."""
    return Failure("plan", "", f"The plan cannot be resolved on this table: {error}")


def resolved_failures(before: PlanSpec, again: PlanSpec) -> Iterator[Failure]:
    """Yield what resolving a plan gives now that it did not give before."""
    for key, text in before.terms.items():
        if again.terms.get(key) != text:
            what = f"The term {key} would be resolved differently on this table: {again.terms.get(key)}"
            yield Failure("plan", key, what)
    if again.response != before.response or again.derived != before.derived:
        yield Failure("plan", "", "Resolving the plan on this table gives another response or derived variable.")


def _column_failures(
    entry: ColumnEntry, values: FloatArray, kept: Array, source: Source, scope: Scope, stored: ColumnMap
) -> tuple[list[Failure], int]:
    try:
        anew = _formula_values(entry.formula, source, source.positions_of(kept), scope)
    except RowFailure as failure:
        what = f"The column {entry.name} cannot be computed: {failure.what}."
        return [rows_failure("column", entry.name, what, np.sort(source.row_numbers(np.array(failure.rows))))], 0
    except FacturumError as error:
        return [Failure("column", entry.name, f"The column {entry.name} cannot be computed: {error}")], 0
    apart = ulp_distance(anew, values)
    wrong = apart > ALLOWED_STEPS
    if wrong.any():
        return [rows_failure("column", entry.name, disagreement(entry, stored), kept[wrong])], 0
    return [], int(apart.max()) if len(apart) else 0


def disagreement(entry: ColumnEntry, stored: ColumnMap) -> str:
    """Return that a column does not agree, and whose rows are told where they are not those of the file."""
    made = "converted" if stored.plan.get("convert") else "stacked" if stored.plan.get("stack") else ""
    where = f" in the {made} table" if made else ""
    return f"The column {entry.name} no longer agrees with {', '.join(entry.sources) or 'its formula'}{where}."


def formula_node(formula: str, source: Source, scope: Scope) -> Node:
    """Return the formula of a column as an expression.

    Raises:
        PlanError: where it is not one number.
    """
    node = parse(formula, learned=True)
    refuse_deep(source.derived, {formula[:40]: node})
    with _ONE_AT_A_TIME:  # what a scope has learned of kinds is shared
        kind = scope.type_of(node)
    if kind.block or not kind.kind.numeric:
        raise PlanError(f"the formula {formula} is not one number")
    return node


def _formula_values(formula: str, source: Source, rows: Array, scope: Scope) -> FloatArray:
    """Return a column by its scalar formula alone for rows at some positions, NaN where it is missing."""
    node = formula_node(formula, source, scope)
    order = np.argsort(rows) if source.numbers is not None else np.arange(len(rows))
    ordered, column = rows[order], np.zeros(len(rows))
    for start, stop in source.ranges():
        low, high = np.searchsorted(ordered, [start, stop])
        if high > low:
            leaf = source.rows(start, stop, ordered[low:high] - start)
            values = leaf.evaluate(node).full(leaf.length)
            data = values.numbers() + 0.0
            column[order[low:high]] = data if values.valid is None else np.where(values.valid, data, np.nan)
    return column


def rows_failure(kind: str, name: str, what: str, rows: Sequence[int] | Array) -> Failure:
    """Return something that does not agree in some rows."""
    return Failure(kind, name, what, tuple(int(row) for row in rows[:5]), len(rows))
