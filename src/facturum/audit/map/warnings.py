"""Warnings: derived variables not used, thin bins, imputed values that matter, items of a score that do not fit."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from itertools import pairwise

from facturum.audit.map.entries import BinsEntry, ClockEntry, ImputationEntry, ScoreEntry
from facturum.data.number_text import unread_numbers
from facturum.data.values import Label, label_text
from facturum.engine.passes.outline import Outline
from facturum.engine.planning.expressions.leaks import explained_variables, looks, shared_with_response
from facturum.errors import counted, named, toml_key
from facturum.language.core.literals import Name
from facturum.language.tree.nodes import Node

THIN, THICK = 1.0, 70.0  # percent of the rows in a bin
MUCH_FILLED = 0.4
LARGE_T = 2.0
SHORT = 30  # periods of a unit


def shared_warnings(outline: Outline) -> Iterator[str]:
    """Say which terms share a variable with the response, such as a common denominator or a weight."""
    prepared = outline.prepared
    data = prepared.spec.data
    if prepared.written.resolved or prepared.spec.checks.of("leak") == "off":
        return
    clock = data.time, data.every
    explained = explained_variables(prepared.response, prepared.derived, clock)
    if len(explained) < 2:
        return
    for key, shared in shared_with_response(explained, prepared.terms, prepared.derived, clock).items():
        yield (
            f"{key} and the response both read {named(list(shared))}: a common part, such as a denominator or a "
            "weight, makes them move together."
        )


def lag_warnings(outline: Outline, clock: ClockEntry | None, rows: int) -> Iterator[str]:
    """Say that the coefficient of a lagged response beside effects of the units is biased where units are short.

    Source: Nickell (1981), "Biases in dynamic models with fixed effects", Econometrica 49, 1417-1426.

    Args:
        outline: the resolved plan and its columns.
        clock: how rows follow one another.
        rows: of the matrix.
    """
    prepared = outline.prepared
    if clock is None or not clock.panel or not clock.units or prepared.written.resolved:
        return
    periods = rows / clock.units
    place = prepared.spec.data.time, prepared.spec.data.every
    explained = explained_variables(prepared.response, prepared.derived, place)
    if periods >= SHORT or not explained or not _has_unit_effects(outline):
        return
    for key, term in prepared.terms.items():
        own = [look for look in looks(term, prepared.derived, clock=place) if look.pooled is None]
        earlier = [each.variable for each in own if each.offset < explained.get(each.variable, -(10**9))]
        if earlier and not any(each.offset >= explained[each.variable] for each in own if each.variable in explained):
            yield (
                f"{key} reads the response of an earlier period beside an effect of each unit, and a unit has about "
                f"{periods:.0f} periods: its coefficient is biased, by about -(1 + itself)/{max(periods - 1, 1):.0f}."
            )


def _has_unit_effects(outline: Outline) -> bool:
    """Return whether each unit has a mean of its own, taken off or fitted."""
    prepared = outline.prepared
    panel = set(prepared.spec.data.panel)
    roots = [*prepared.terms.values(), *([] if prepared.response is None else [prepared.response])]
    for part in (part for root in roots for part in prepared.reached(root)):
        groupings = part.groupings() if part.has_levels else ()
        if any(by and {each.variable for each in by if isinstance(each, Name)} == panel for by in groupings):
            return True
    return False


def plan_warnings(outline: Outline) -> Iterator[str]:
    """Say which derived variables are not used, and which variables a selector passed over."""
    prepared = outline.prepared
    if prepared.written.resolved:
        return
    unused = [
        name for name in prepared.written.derived if name not in prepared.derived and name != prepared.written.data.time
    ]
    if unused:
        verb = "are derived variables that no" if len(unused) > 1 else "is a derived variable that no"
        yield f"{', '.join(unused)} {verb} term, response or condition uses."
    for place, names in prepared.passed_over.items():
        yield (
            f"{place} leaves out {', '.join(names)}: each value occurs once, as in an id. "
            f"Write {names[0]} as a term if it is a predictor."
        )


def reference_warnings(outline: Outline) -> Iterator[str]:
    """Say which variables are compared with two categories, and which declared references no term takes up."""
    prepared = outline.prepared
    if prepared.written.resolved:
        return
    found: dict[Node, dict[Label, str]] = {}
    for key, term in prepared.terms.items():
        for node in prepared.reached(term):
            if node.compared_with is not None:
                found.setdefault(node.children()[0], {}).setdefault(node.compared_with, key)
    for category, references in found.items():
        if len(references) > 1:
            told = named([f"{label_text(reference)} in {key}" for reference, key in references.items()])
            first = json.dumps(next(iter(references)), ensure_ascii=False)
            remedy = "To have one reference, name the same in all terms."
            if isinstance(category, Name) and category.variable in prepared.table:
                name = toml_key(category.variable)
                said = f"[variables] {name} = {{ reference = {first} }}"
                remedy = f"To have one reference, write {said}, and none in the terms."
            yield f"{category.subject()} is compared with {told}. {remedy}"
    compared = {category.variable for category in found if isinstance(category, Name)}
    for name, each in prepared.written.variables.items():
        if each.reference is not None and name not in compared:
            yield f"the reference of {name} under [variables] is not used: no term compares its categories with one."


def text_warnings(outline: Outline) -> Iterator[str]:
    """Say which categories are text that is nearly all numbers, and what to notice of the files."""
    prepared = outline.prepared
    tables = [
        prepared.given.table,
        *prepared.given.series.values(),
        *([prepared.given.history] if prepared.given.history else []),
    ]
    notes = [note for table in (*tables, prepared.table) for note in table.notes]
    yield from dict.fromkeys(notes)
    if prepared.written.resolved:
        return
    roots = [*prepared.terms.values(), *([prepared.response] if prepared.response is not None else [])]
    names = dict.fromkeys(
        each.variable
        for root in roots
        for part in prepared.reached(root)
        if part.categorizes and part.has_levels
        for each in part.children()
        if isinstance(each, Name) and each.variable in prepared.table
    )
    for name in names:
        variable = prepared.table[name]
        unread = None if variable.declared else unread_numbers(name, variable.labels or ())
        if unread is not None:
            yield f"{name} is a category of {len(variable.labels or ())} texts, since {unread.why}. {unread.remedy}"


def bins_warnings(entry: BinsEntry) -> Iterator[str]:
    """Say which bins have too few rows or too many."""
    name = f"{entry.variable} in {', '.join(entry.terms)}"
    for part in entry.bins:
        if not part.rows:
            yield f"{name}: no row is in the bin '{part.label}'."
        elif part.percent < THIN:
            yield f"{name}: only {part.percent:.1f} % of the rows are in the bin '{part.label}'."
        elif part.percent > THICK:
            yield f"{name}: {part.percent:.0f} % of the rows are in the one bin '{part.label}'."
    for outside in entry.outside:
        values = f"{outside.smallest:.6g}"
        if outside.largest > outside.smallest:
            values = f"from {values} to {outside.largest:.6g}"
        if outside.low is None:
            where = f"below the first bin, which begins at {outside.high:.6g}"
        elif outside.high is None:
            where = f"above the last bin, which ends at {outside.low:.6g}"
        else:
            where = f"between the bin that ends at {outside.low:.6g} and the one that begins at {outside.high:.6g}"
        yield f"{name}: {counted(outside.rows, 'row')} in no bin: the values are {values}, {where}."
    for shared in entry.shared:
        value = f"{shared.value:.6g}"
        yield f"{name}: two bins name {value}. It belongs to '{shared.bin}' ({counted(shared.rows, 'row')})."


def overlap_warnings(outline: Outline) -> Iterator[str]:
    """Say which bins given by hand overlap."""
    every = dict.fromkeys(part for root in outline.prepared.parts().values() for part in root.walk())
    for binned in [found for node in every if (found := node.binned()) is not None]:
        pairs = [edge for edge in binned.edges or () if isinstance(edge, tuple)]
        for before, after in pairwise(pairs):
            if before[1] > after[0]:
                yield (
                    f"{binned.x}: the bins from {before[0]} to {before[1]} and from {after[0]} to {after[1]} overlap; "
                    "values in both are counted to the first."
                )


def imputation_warnings(entry: ImputationEntry, flagged: Iterable[str]) -> Iterator[str]:
    """Warn where many values are imputed, and where missingness is associated with the response without a flag.

    Args:
        entry: the imputation.
        flagged: the variables whose missing values the plan flags.
    """
    unflagged = entry.variable not in flagged
    name = f"{entry.variable} in {', '.join(entry.terms)}"
    if entry.rows and entry.cells > MUCH_FILLED * entry.rows:
        share = 100 * entry.cells / entry.rows
        yield f"{name}: {share:.0f} % of the values are imputed. Consider leaving it out."
    if unflagged and entry.t is not None and entry.response_difference is not None and abs(entry.t) > LARGE_T:
        way = "higher" if entry.response_difference > 0 else "lower"
        yield (
            f"{name}: the mean response is {abs(entry.response_difference):.4g} {way} where it is missing "
            f"(t = {entry.t:.1f}). Add the term is_missing({entry.variable}), an indicator of these rows."
        )
    if entry.groups_not_seen:
        cells = counted(entry.groups_not_seen, "cell")
        yield f"{name}: {cells} in groups outside the estimation sample filled with the value of all rows."
    if entry.no_group:
        yield f"{name}: {counted(entry.no_group, 'cell')} whose group is missing filled with the value of all rows."


def score_warnings(entry: ScoreEntry) -> Iterator[str]:
    """Say which items run against the others of their score."""
    for item in entry.items:
        if item.item_rest is not None and item.item_rest < 0:
            yield (
                f"{item.item} is negatively correlated with the other items of {entry.expression} (item-rest "
                f"correlation {item.item_rest:.2f}). If it is worded in reverse, write reverse({item.item}, low, high)."
            )
