"""What no longer agrees between a build and its source, and the parts of finding it out."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from threading import Lock

from facturum.audit.map.entries import ColumnEntry, ColumnMap
from facturum.audit.proof.source_changes import SourceChange
from facturum.data.values import Array
from facturum.engine.blocks.source import Source
from facturum.engine.planning.expressions.scope import Scope, refuse_deep
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import FacturumError, PlanError, counted, rows_in_words
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Node

_ONE_AT_A_TIME = Lock()
BACK = "Rows left out of the matrix would be kept now."
NEW = "New rows, which the build did not have, would enter the matrix."
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


def rows_come(come: Array, given: int) -> Iterator[tuple[str, Array]]:
    """Yield rows that the matrix has not: those of the build's own table, and those that are new in this one."""
    for what, rows in ((BACK, come[come <= given]), (NEW, come[come > given])):
        if len(rows):
            yield what, rows


def not_applied(error: FacturumError) -> Failure:
    """Return that a resolved plan has no meaning on a table."""
    return Failure("plan", "", f"The resolved plan cannot be applied to this table: {error}")


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
