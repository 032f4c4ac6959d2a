"""What changed between two builds: plan, learned values, source, rows, cells, distributions."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, fields
from typing import Any

import numpy as np

from facturum.audit.entries import ColumnEntry, ColumnMap
from facturum.audit.fingerprints import Fingerprint
from facturum.audit.proof.source_changes import KnownMarks, source_changes
from facturum.audit.row_map import RowMap
from facturum.data.values import Array, FloatArray
from facturum.errors import FacturumError, counted, rows_in_words
from facturum.language.nodes import Node
from facturum.language.parser import parse
from facturum.notebook import table_html
from facturum.numerics.drift import Drift, drift_between

DRIFTED = 0.1  # of the stability index: below, samples count as alike
_SECTIONS = ("response", "intercept", "data", "variables", "stack", "convert", "series", "derived", "rows", "checks")


@dataclass(frozen=True)
class Side:
    """One of two builds.

    Args:
        name: how it is called.
        columns: the column map.
        rows: the row map.
        values: returns a column by name, doubles (rows,).
        keys: what identifies each row of the matrix; None for the source row number.
    """

    name: str
    columns: ColumnMap
    rows: RowMap
    values: Callable[[str], FloatArray]
    keys: Array | None = None

    @property
    def identities(self) -> Array:
        return self.rows.kept if self.keys is None else self.keys


@dataclass(frozen=True)
class Moved:
    """A learned value that moved."""

    term: str
    what: str
    before: str
    after: str

    def __str__(self) -> str:
        return f"{self.term}: {self.what} was {self.before}, and is {self.after}."


@dataclass(frozen=True)
class RowChange:
    """Rows that are in one matrix only.

    Args:
        kind: gained or lost.
        reason: why they were not in the other.
        rows: source row numbers, or what identifies rows; the first few.
        count: how many.
    """

    kind: str
    reason: str
    rows: tuple[Any, ...]
    count: int

    def __str__(self) -> str:
        where = "the second build only" if self.kind == "gained" else "the first build only"
        return f"{counted(self.count, 'row')} in {where}: {self.reason}. {_some(self.rows, self.count)}"


@dataclass(frozen=True)
class CellChange:
    """A column with cells that differ in rows of both builds.

    Args:
        column: its name.
        count: how many cells.
        largest: the largest difference; None where some are missing on one side only.
        rows: what identifies the rows, the first few.
        before, after: the values in the first of them.
    """

    column: str
    count: int
    largest: float | None
    rows: tuple[Any, ...]
    before: float | None
    after: float | None

    def __str__(self) -> str:
        first = f"The first of them was {_number(self.before)}, and is {_number(self.after)}."
        return f"{self.column}: {counted(self.count, 'cell')} differ. {_some(self.rows, self.count)} {first}"


@dataclass(frozen=True)
class Comparison:
    """What changed from one build to another.

    Args:
        before, after: how the builds are called.
        plan: sentences on the plan.
        columns: sentences on columns added, removed and renamed.
        learned: learned values that moved.
        source: sentences on cells of the source that changed.
        rows: rows gained and lost, by reason.
        cells: cells that differ in rows of both, by column.
        drifts: columns of both by how far their distributions are apart, the farthest first.
        rows_in_both: how many rows are in both matrices.
    """

    before: str
    after: str
    plan: tuple[str, ...]
    columns: tuple[str, ...]
    learned: tuple[Moved, ...]
    source: tuple[str, ...]
    rows: tuple[RowChange, ...]
    cells: tuple[CellChange, ...]
    drifts: tuple[tuple[str, Drift], ...]
    rows_in_both: int

    @property
    def same(self) -> bool:
        """Whether nothing changed."""
        return not (self.plan or self.columns or self.learned or self.source or self.rows or self.cells)

    def sections(self) -> Iterator[tuple[str, list[str]]]:
        """Yield what changed, by topic: a title and sentences."""
        yield "plan", list(self.plan)
        yield "columns", list(self.columns)
        yield "learned values", [str(each) for each in self.learned]
        yield "source", list(self.source)
        yield "rows", [str(each) for each in self.rows]
        yield "cells", [str(each) for each in self.cells]

    def __str__(self) -> str:
        if self.same:
            return f"{self.before} and {self.after} are the same: {counted(self.rows_in_both, 'row')}."
        lines = [f"from {self.before} to {self.after}, {counted(self.rows_in_both, 'row')} in both"]
        for title, sentences in self.sections():
            lines += [f"{title}:", *[f"    {sentence}" for sentence in sentences]] if sentences else []
        return "\n".join(lines)

    def __repr__(self) -> str:
        return str(self)

    def _repr_html_(self) -> str:
        rows = [[title, sentence] for title, sentences in self.sections() for sentence in sentences]
        rows += [["drift", f"{name}: {drift_text(drift)}"] for name, drift in self.drifts[:10]]
        return table_html(f"from {self.before} to {self.after}", ("topic", "what changed"), rows)


def drift_text(drift: Drift) -> str:
    """Return in words how far a column drifted."""
    apart = "" if drift.difference is None else f", means {drift.difference:+.2f} standard deviations apart"
    gone = f", missing {100 * drift.missing[0]:.1f} % and {100 * drift.missing[1]:.1f} %" if any(drift.missing) else ""
    return f"stability index {drift.stability:.3f}{apart}{gone}"


def compare(before: Side, after: Side) -> Comparison:
    """Return what changed from one build to another.

    Args:
        before, after: the builds.
    """
    old, new = before.columns, after.columns
    both, at_before, at_after = np.intersect1d(before.identities, after.identities, return_indices=True)
    pairs = list(_pairs(old, new))
    drifts = [
        (b.name, drift_between(before.values(a.name), after.values(b.name))) for a, b in pairs if a.role != "intercept"
    ]
    drifts.sort(key=lambda item: -item[1].stability)
    return Comparison(
        before.name,
        after.name,
        tuple(_plan_changes(old, new)),
        tuple(_column_changes(old, new, pairs)),
        tuple(_moved(old, new)),
        tuple(_source(old, new)),
        tuple(_row_changes(before, after)),
        tuple(_cell_changes(before, after, pairs, both, at_before, at_after)),
        tuple(drifts),
        len(both),
    )


def _plan_changes(old: ColumnMap, new: ColumnMap) -> Iterator[str]:
    if (old.plan.get("columns") is None) == (new.plan.get("columns") is None):
        yield from _differing(old.plan, new.plan)
        return
    changes = list(_differing(old.resolved, new.resolved))
    if changes:
        yield "One of the builds is made from a resolved plan, which learns nothing, and the other is not."
    yield from changes


def _differing(before: dict[str, Any], after: dict[str, Any]) -> Iterator[str]:
    """Yield how two plans differ."""
    terms_before, terms_after = before.get("terms", {}), after.get("terms", {})
    for key in terms_before:
        if key not in terms_after:
            yield f"The term {key} was removed: {terms_before[key]}."
        elif terms_before[key] != terms_after[key]:
            yield f"The term {key} was {terms_before[key]}, and is {terms_after[key]}."
    yield from (f"The term {key} was added: {terms_after[key]}." for key in terms_after if key not in terms_before)
    for section in _SECTIONS:
        yield from _section_changes(section, before.get(section), after.get(section))


def _section_changes(section: str, before: Any, after: Any) -> Iterator[str]:
    if before == after:
        return
    if isinstance(before or {}, dict) and isinstance(after or {}, dict):
        first, second = before or {}, after or {}
        for key in [*first, *[key for key in second if key not in first]]:
            if first.get(key) != second.get(key):
                yield f"[{section}] {key} was {_said(first.get(key))}, and is {_said(second.get(key))}."
        return
    yield f"The {section} was {_said(before)}, and is {_said(after)}."


def _said(value: Any) -> str:
    return "not given" if value is None else str(value)


def _pairs(old: ColumnMap, new: ColumnMap) -> Iterator[tuple[ColumnEntry, ColumnEntry]]:
    """Yield the columns of both, those with one formula under other names too."""
    names = {entry.name: entry for entry in old.columns}
    formulas = {entry.formula: entry for entry in old.columns}
    own = {entry.name for entry in new.columns}
    for entry in new.columns:
        if entry.name in names:
            yield names[entry.name], entry
        elif entry.formula in formulas and formulas[entry.formula].name not in own:
            yield formulas[entry.formula], entry


def _column_changes(old: ColumnMap, new: ColumnMap, pairs: Sequence[tuple[ColumnEntry, ColumnEntry]]) -> Iterator[str]:
    paired_old, paired_new = {a.name for a, _ in pairs}, {b.name for _, b in pairs}
    gone = [entry.name for entry in old.columns if entry.name not in paired_old]
    come = [entry.name for entry in new.columns if entry.name not in paired_new]
    if gone:
        yield f"{counted(len(gone), 'column')} removed: {', '.join(gone[:20])}{' ..' if len(gone) > 20 else ''}."
    if come:
        yield f"{counted(len(come), 'column')} added: {', '.join(come[:20])}{' ..' if len(come) > 20 else ''}."
    for a, b in pairs:
        if a.name != b.name:
            yield f"The column {a.name} is called {b.name}."
        elif a.reference != b.reference:
            yield f"The reference category of {a.name} was {a.reference}, and is {b.reference}."


def _moved(old: ColumnMap, new: ColumnMap) -> Iterator[Moved]:
    """Yield learned values that moved, of expressions that were written alike."""
    for section in ("terms", "derived"):
        written, again = old.plan.get(section, {}), new.plan.get(section, {})
        first, second = old.resolved.get(section, {}), new.resolved.get(section, {})
        for key in first:
            if written.get(key) == again.get(key) and key in second and first[key] != second[key]:
                yield from _differences(key, first[key], second[key])
    if old.plan.get("response") == new.plan.get("response"):
        before, after = old.resolved.get("response"), new.resolved.get("response")
        if before and after and before != after:
            yield from _differences("response", before, after)


def _differences(key: str, before: str, after: str) -> Iterator[Moved]:
    try:
        found = list(_apart(parse(before, True), parse(after, True)))
    except FacturumError:
        found = []
    if not found:
        yield Moved(key, "the expression", before, after)
    for what, a, b in found:
        yield Moved(key, what, a, b)


def _apart(before: Node, after: Node) -> Iterator[tuple[str, str, str]]:
    if type(before) is not type(after):
        yield "an expression", str(before), str(after)
        return
    for field in fields(before):  # type: ignore[arg-type]
        if field.metadata.get("role") in ("argument", "arguments"):
            continue
        a, b = getattr(before, field.name), getattr(after, field.name)
        if a != b:
            yield f"{field.name} of {before.called}", _short(a), _short(b)
    if len(before.children()) != len(after.children()):
        yield "an expression", str(before), str(after)
        return
    for one, other in zip(before.children(), after.children(), strict=True):
        yield from _apart(one, other)


def _short(value: Any) -> str:
    if isinstance(value, tuple):
        return "[" + ", ".join(_short(each) for each in value[:12]) + (", ..]" if len(value) > 12 else "]")
    return f"{value:.10g}" if isinstance(value, float) else str(value)


def _source(old: ColumnMap, new: ColumnMap) -> Iterator[str]:
    """Yield which cells of the source are not as they were, from the fingerprints of both builds."""
    tables = {place: _marks(marks) for place, marks in new.fingerprints.items() if marks}
    for _, sentence in source_changes(tables, {p: m for p, m in old.fingerprints.items() if p in tables}):
        yield sentence


def _marks(marks: dict[str, Fingerprint]) -> KnownMarks:
    return KnownMarks(max(mark.rows for mark in marks.values()), marks, {})


def _row_changes(before: Side, after: Side) -> Iterator[RowChange]:
    for kind, here, there in (("lost", before, after), ("gained", after, before)):
        only = np.setdiff1d(here.identities, there.identities)
        if len(only):
            yield from _by_reason(kind, only, there)


def _by_reason(kind: str, only: Array, there: Side) -> Iterator[RowChange]:
    if there.keys is not None:
        yield RowChange(kind, "not in the other matrix", tuple(only[:5].tolist()), len(only))
        return
    place = {int(row): at for at, row in enumerate(there.rows.dropped)}
    other = "the second" if kind == "lost" else "the first"
    reasons: Counter[str] = Counter()
    rows: dict[str, list[int]] = {}
    for row in only.tolist():
        at = place.get(int(row))
        told = there.rows.reasons[int(there.rows.causes[at])] if at is not None else None
        reason = f"in {other}, {told[0]} in {told[1]}" if told else f"the table of {other} has no such row"
        reasons[reason] += 1
        rows.setdefault(reason, []).append(int(row))
    for reason, count in reasons.most_common():
        yield RowChange(kind, reason, tuple(rows[reason][:5]), count)


def _cell_changes(
    before: Side,
    after: Side,
    pairs: Sequence[tuple[ColumnEntry, ColumnEntry]],
    both: Array,
    at_before: Array,
    at_after: Array,
) -> Iterator[CellChange]:
    for a, b in pairs:
        first, second = before.values(a.name)[at_before], after.values(b.name)[at_after]
        differs = (first != second) & ~(np.isnan(first) & np.isnan(second))
        at = np.flatnonzero(differs)
        if not len(at):
            continue
        with np.errstate(over="ignore"):
            apart = np.abs(first[at] - second[at])
        largest = None if np.isnan(apart).any() else float(apart.max())
        values = [None if np.isnan(v) else float(v) for v in (first[at[0]], second[at[0]])]
        yield CellChange(b.name, len(at), largest, tuple(both[at[:5]].tolist()), values[0], values[1])


def _some(rows: Sequence[Any], count: int) -> str:
    if all(isinstance(row, int) for row in rows):
        return rows_in_words(list(rows), count)
    more = f" and {count - len(rows):,} more" if count > len(rows) else ""
    return f"Rows {'; '.join(map(str, rows))}{more}."


def _number(value: float | None) -> str:
    return "missing" if value is None else f"{value:.10g}"
