"""Warnings: derived variables not used, thin bins, imputed values that matter, items of a score that do not fit."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import pairwise

from facturum.audit.entries import BinsEntry, ImputationEntry, ScoreEntry
from facturum.data.number_text import unread_numbers
from facturum.engine.passes.outline import Outline
from facturum.engine.planning.spreading import walk
from facturum.errors import counted
from facturum.language.core import Name
from facturum.language.operations.bins import Bins
from facturum.language.operations.placing import Categorical

THIN, THICK = 5.0, 70.0  # percent of the rows in a bin
MUCH_FILLED = 0.4
LARGE_T = 2.0


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


def text_warnings(outline: Outline) -> Iterator[str]:
    """Say which categories are text that is nearly all numbers, and what to notice of the files."""
    prepared = outline.prepared
    tables = [
        prepared.given.table,
        *prepared.given.series.values(),
        *([prepared.given.history] if prepared.given.history else []),
    ]
    for table in tables:
        yield from table.notes
    if prepared.written.resolved:
        return
    roots = [*prepared.terms.values(), *([prepared.response] if prepared.response is not None else [])]
    names = dict.fromkeys(
        part.x.variable
        for root in roots
        for part in prepared.reached(root)
        if isinstance(part, Categorical) and isinstance(part.x, Name) and part.x.variable in prepared.table
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
    for node in dict.fromkeys(
        part for root in outline.prepared.parts().values() for part in walk(root) if isinstance(part, Bins)
    ):
        pairs = [edge for edge in node.edges or () if isinstance(edge, tuple)]
        for before, after in pairwise(pairs):
            if before[1] > after[0]:
                yield (
                    f"{node.x}: the bins from {before[0]} to {before[1]} and from {after[0]} to {after[1]} overlap; "
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


def score_warnings(entry: ScoreEntry) -> Iterator[str]:
    """Say which items run against the others of their score."""
    for item in entry.items:
        if item.item_rest is not None and item.item_rest < 0:
            yield (
                f"{item.item} is negatively correlated with the other items of {entry.expression} (item-rest "
                f"correlation {item.item_rest:.2f}). If it is worded in reverse, write reverse({item.item}, low, high)."
            )
