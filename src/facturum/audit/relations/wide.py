"""Checks of designs with thousands of indicators of one category, which are absorbed instead of factored."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from facturum.audit.checks.finding import Finding
from facturum.audit.relations.relation_text import leave_out, relation_text
from facturum.data.values import Array, FloatArray
from facturum.engine.passes.build import Built
from facturum.engine.passes.outline import INTERCEPT, Outline
from facturum.errors import counted, named
from facturum.numerics.linear.absorbing import Absorbed
from facturum.numerics.linear.relations import Relation, relations
from facturum.numerics.linear.sparse import SparseColumns

FEW_GROUPS = 6  # groups that a relation names


@dataclass(frozen=True)
class Family:
    """The indicators of one category, of which each row has at most one.

    Args:
        term: that they are of.
        places: their columns.
        others: the columns of the matrix besides, without the intercept.
    """

    term: str
    places: tuple[int, ...]
    others: tuple[int, ...]


def family_of(outline: Outline, most: int) -> Family | None:
    """Return the widest category whose indicators leave at most so many other columns; None where there is none."""
    by_term: dict[str, list[int]] = {}
    columns = outline.columns
    for at, column in enumerate(columns):
        if column.column is not None and column.column.meaning.level is not None:
            by_term.setdefault(column.term, []).append(at)
    if not by_term:
        return None
    term, places = max(by_term.items(), key=lambda item: len(item[1]))
    own = set(places)
    others = tuple(at for at, column in enumerate(columns) if column.role != INTERCEPT and at not in own)
    whole = len(places) == sum(column.term == term for column in columns)
    return Family(term, tuple(places), others) if whole and len(others) <= most else None


def groups_of(built: Built, family: Family, rows: Array | slice) -> Array:
    """Return for each row which indicator of a family is 1, counted from 1; 0 where none is."""
    X = built.X  # noqa: N806 - the field's standard name
    if isinstance(X, SparseColumns):
        codes = np.zeros(X.length, dtype=np.int64)
        for number, place in enumerate(family.places, start=1):
            codes[X.rows[X.part(place)]] = number
        chosen: Array = codes[rows]
        return chosen
    codes = np.zeros(len(X[rows, 0]), dtype=np.int64)
    for number, place in enumerate(family.places, start=1):
        codes[np.flatnonzero(X[rows, place])] = number
    return codes


def wide_findings(outline: Outline, family: Family, absorbed: Absorbed, truth: bool) -> Iterator[Finding]:
    """Yield the relations of columns with one another and with the indicators of a family, and separation by these.

    Args:
        outline: the columns.
        family: the indicators.
        absorbed: all other columns, then the response if there is one.
        truth: whether the response is a truth value.
    """
    factor = absorbed.factor()
    width = len(family.others)
    within = np.flatnonzero(~factor.constant[:width]).tolist()
    names = [outline.columns[place].name for place in family.others]
    nested = [at for at in range(width) if at not in within]
    for term, own in _by_term(outline, family, nested).items():
        told = named([names[at] for at in own])
        yield Finding(
            "dependence",
            f"{told}: constant within each {family.term}, and so combinations of its {len(family.places):,} "
            "indicators.",
            tuple(names[at] for at in own),
            remedy=f"Leave out {term}, or {family.term}.",
        )
    for relation in relations(factor, True, within):
        if relation.exact:
            yield _beside(relation, names, family, absorbed)
    if truth and absorbed.means.shape[1] > width:
        yield from _separating(outline, family, absorbed)


def _by_term(outline: Outline, family: Family, nested: list[int]) -> dict[str, list[int]]:
    found: dict[str, list[int]] = {}
    for at in nested:
        found.setdefault(outline.columns[family.others[at]].term, []).append(at)
    return found


def _beside(relation: Relation, names: list[str], family: Family, absorbed: Absorbed) -> Finding:
    at = list(relation.columns)
    by_group: FloatArray = -(absorbed.means[:, at] @ np.array(relation.weights))
    seen = absorbed.counts > 0
    spread = float(np.ptp(by_group[seen])) if seen.any() else 0.0
    size = np.abs(absorbed.means[:, at] * np.array(relation.weights)).max() + 1e-300
    told = [names[each] for each in at]
    alone = spread <= 1e-10 * size
    constant = float(by_group[seen][0]) if alone and seen.any() else 0.0
    text = relation_text(told, Relation(relation.columns, relation.weights, constant, 0.0, True), True)
    beside = "" if alone else f", apart from a number for each {family.term}"
    return Finding("dependence", f"{text}{beside}.", tuple(told), remedy=leave_out(told))


def _separating(outline: Outline, family: Family, absorbed: Absorbed) -> Iterator[Finding]:
    response = absorbed.means[:, -1]
    one_sided = np.flatnonzero((absorbed.counts > 0) & ((response == 0) | (response == 1)))
    columns = [outline.columns[family.places[at - 1]].name for at in one_sided if at > 0]
    if columns:
        name = outline.responses[0].name
        yield Finding(
            "separation",
            f"{name} has one value only in {counted(len(columns), 'category')} of {family.term} "
            f"({named(columns[:FEW_GROUPS])}): their coefficients in a logistic regression are not finite.",
            tuple(columns),
            remedy="Pool them.",
        )
