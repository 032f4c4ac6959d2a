"""What every expression promises, watched while plans are built: its kind, its labels, where it has values."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any
from unittest.mock import patch

import numpy as np

from facturum.api.design import Design
from facturum.data.values import Kind, Mask, Values
from facturum.engine.blocks.rows import LeafRows
from facturum.engine.passes.build import Built
from facturum.engine.planning.expressions.scope import Scope
from facturum.language.operations.categories.categories import Category
from facturum.language.tree.failures import RowFailure
from facturum.language.tree.nodes import Node, Type

HELD = {Kind.NUMBER: "float64", Kind.TRUTH: "bool", Kind.TIME: "int64"}


@contextmanager
def watched() -> Iterator[None]:
    """Compare the values of each expression, as soon as they are computed, with what was said of it before."""
    types: dict[Node, Type] = {}
    asked: set[tuple[int, Node]] = set()
    decide, compute = Scope.type_of, LeafRows.evaluate

    def of_kinds(kinds: Scope, node: Node) -> Type:
        types[node] = decide(kinds, node)
        return types[node]

    def of_rows(rows: LeafRows, node: Node) -> Values:
        if node in rows._values or (id(rows), node) in asked:
            return compute(rows, node)
        asked.add((id(rows), node))  # an expression may look at its own values for this
        foretold = _foretold(rows, node)
        asked.remove((id(rows), node))
        found = compute(rows, node)
        there = _spread(found.valid, rows.length)
        assert foretold is None or np.array_equal(foretold, there), f"{node} has values where it said it had none"
        assert len(found.data) in (1, rows.length), f"{node} has values for other rows"
        if node in types:
            _is_of(node, types[node], found, there)
        return found

    make = Design._of

    def of_build(made: Built, *others: Any) -> Design:
        for term in made.prepared.terms.values():
            _is_whole(made.source.rows(0, made.source.table.length), term)
        return make(made, *others)

    with (
        patch.object(Scope, "type_of", of_kinds),
        patch.object(LeafRows, "evaluate", of_rows),
        patch.object(Design, "_of", of_build),
    ):
        yield


def _is_whole(rows: LeafRows, term: Node) -> None:
    """Hold a term to having a value just where all its columns have one."""
    with suppress(RowFailure):  # in rows that are left out
        each = [_spread(rows.valid(column.formula), rows.length) for column in term.columns()]
        there = _spread(rows.valid(term), rows.length)
        assert np.array_equal(there, np.all(each, axis=0)), f"{term} has a value where a column of it has none"
        if isinstance(term, Category):
            assert all(np.array_equal(there, column) for column in each), f"{term} is half missing"


def _foretold(rows: LeafRows, node: Node) -> Mask | None:
    """Return where an expression says that it has values, before any is computed."""
    try:
        return _spread(node.valid(rows), rows.length)
    except RowFailure:
        return None


def _spread(valid: Mask | None, length: int) -> Mask:
    return np.broadcast_to(True if valid is None else valid, length)


def _is_of(node: Node, said: Type, found: Values, there: Mask) -> None:
    values = np.broadcast_to(found.data, len(there))[there]
    if said.kind is Kind.MISSING:
        assert not there.any(), f"{node} is never there, it said"
    elif said.kind.categorical:
        assert found.labels is not None, f"{node} has no categories"
        assert found.data.dtype.kind == "i", f"{node} has no codes"
        assert ((values >= 0) & (values < len(found.labels))).all(), f"{node} has categories without a label"
        assert said.kind is Kind.CATEGORY or found.labels == said.labels, f"{node} has its categories in another order"
    else:
        assert found.labels is None, f"{node} has categories"
        assert found.data.dtype == HELD[said.kind], f"{node} is no {said.kind}"
        assert said.kind is not Kind.NUMBER or np.isfinite(values).all(), f"{node} is infinite"
