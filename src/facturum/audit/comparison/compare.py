"""What changed between two builds: plan, learned values, source, rows, cells, distributions."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, fields
from typing import Any

import numpy as np

from facturum.audit.comparison.changes import CellChange, Comparison, Moved, RowChange
from facturum.audit.map.entries import ColumnEntry, ColumnMap
from facturum.audit.map.row_map import RowMap
from facturum.audit.proof.source_changes import KnownMarks, source_changes
from facturum.audit.source.fingerprints import Fingerprint
from facturum.data.values import Array, FloatArray
from facturum.engine.planning.shaping import DATA
from facturum.errors import FacturumError, counted
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Node
from facturum.numerics.shapes.drift import drift_between

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
        in_place: whether a row number of the source is the same row in both.
    """

    name: str
    columns: ColumnMap
    rows: RowMap
    values: Callable[[str], FloatArray]
    keys: Array | None = None
    in_place: bool = True

    @property
    def identities(self) -> Array:
        return self.rows.kept if self.keys is None else self.keys


def compare(before: Side, after: Side, by: tuple[str, ...] = (), hint: str = "") -> Comparison:
    """Return what changed from one build to another.

    Args:
        before, after: the builds.
        by: the variables that the keys of both are made of.
        hint: what would match rows better.
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
        by,
        hint,
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
    read = {
        place: {name: mark for name, mark in marks.items() if name in tables[place]}
        for place, marks in old.fingerprints.items()
        if place in tables
    }
    yield from (change.what for change in source_changes(tables, read))
    for place, marks in read.items():
        for name in [each for each in old.fingerprints[place] if each not in marks]:
            yield f"The second build does not read {name}{'' if place == DATA else f' of {place}'}."


def _marks(marks: dict[str, Fingerprint]) -> KnownMarks:
    return KnownMarks(max(mark.rows for mark in marks.values()), marks, {})


def _row_changes(before: Side, after: Side) -> Iterator[RowChange]:
    for kind, here, there in (("lost", before, after), ("gained", after, before)):
        only = np.setdiff1d(here.identities, there.identities)
        if len(only):
            yield from _by_reason(kind, only, here, there)


def _by_reason(kind: str, only: Array, here: Side, there: Side) -> Iterator[RowChange]:
    if not there.in_place:
        other = "second" if kind == "lost" else "first"
        yield RowChange(kind, f"not in the matrix of the {other}", tuple(only[:5].tolist()), len(only))
        return
    numbers = dict(zip(here.identities.tolist(), here.rows.kept.tolist(), strict=True))
    place = {int(row): at for at, row in enumerate(there.rows.dropped)}
    other = "the second" if kind == "lost" else "the first"
    reasons: Counter[str] = Counter()
    rows: dict[str, list[int]] = {}
    for row in only.tolist():
        at = place.get(int(numbers[row]))
        told = there.rows.reasons[int(there.rows.causes[at])] if at is not None else None
        reason = f"in {other}, {told[0]} in {told[1]}" if told else f"the table of {other} has no such row"
        reasons[reason] += 1
        rows.setdefault(reason, []).append(row)
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
