"""Remedies: edits of the plan, which are made and built before they are shown."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import tomlkit

from facturum.data.table import Table
from facturum.data.values import FloatArray
from facturum.engine.passes.build import build
from facturum.engine.passes.outline import Outline
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import FacturumError, named
from facturum.language.core.arithmetic import Power
from facturum.language.core.literals import Number
from facturum.language.core.products import factors_written, opened
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Node
from facturum.numerics.linear.inflation import Inflation
from facturum.numerics.linear.triangular import triangle_of

MOST_CELLS = 1_000_000  # of the matrix that an edit is tried on; of more rows, as many are taken, evenly spread
MARK = "anew_"  # before the keys of terms that are tried beside those of the plan
SAME = 1e-7  # of the size of a column, in what the columns of the plan leave of it where the fit stays the same


@dataclass(frozen=True)
class Edit:
    """A change of the terms of a plan.

    Args:
        terms: the new text of each term that changes; None where it is left out.
    """

    terms: Mapping[str, str | None]

    def applied(self, plan: PlanSpec) -> PlanSpec:
        """Return the plan with the change made."""
        terms = {key: self.terms.get(key, text) for key, text in plan.terms.items()}
        return plan.model_copy(update={"terms": {key: text for key, text in terms.items() if text is not None}})

    def __str__(self) -> str:
        lines = [f"{key} = {quoted(text)}" for key, text in self.terms.items() if text is not None]
        gone = [key for key, text in self.terms.items() if text is None]
        return " and ".join(
            [*([f"write {' and '.join(lines)}"] if lines else []), *([f"leave out {named(gone)}"] if gone else [])]
        )


@dataclass(frozen=True)
class Outcome:
    """What came of an edit.

    Args:
        inflation: the variance inflation factor of each column.
        fresh: the largest one of a column that the plan did not have, which stands for those that it has no more.
        same_fit: whether the columns span what those of the plan span.
    """

    inflation: Mapping[str, float]
    fresh: float
    same_fit: bool

    def of(self, name: str) -> float:
        """Return the inflation of a column of the plan as it is with the edit."""
        return self.inflation.get(name, self.fresh)


class Remedies:
    """Edits of a plan, tried on its rows.

    Args:
        plan: as written.
        outline: the resolved plan over its table.
    """

    def __init__(self, plan: PlanSpec, outline: Outline) -> None:
        self._plan, self._outline = plan, outline

    @cached_property
    def _nodes(self) -> dict[str, Node]:
        """The terms of the plan as it is written."""
        return {key: parse(text) for key, text in self._plan.terms.items()}

    def centred(self, terms: Sequence[str]) -> Edit | None:
        """Return the edit that centres the numbers in powers and products of some terms; None where there are none."""
        edits: dict[str, str | None] = {}
        for key in terms:
            text = self._plan.terms.get(key)
            if text is None:
                continue
            node = self._nodes[key]
            if node.has_option("orthogonal") and not any(getattr(node, name) for name in ("orthogonal", "center")):
                edits[key] = f"{text.rstrip()[:-1]}, center=True)"
            elif self._is_square(node) and isinstance(node, Power) and (main := self._term_of(node.left)) is not None:
                edits |= {main: f"polynomial({node.left}, 2, center=True)", key: None}
            elif (product := self._product(key, node, text)) is not None:
                edits[key] = product
        return Edit(edits) if edits else None

    def _is_square(self, node: Node) -> bool:
        """Return whether an expression is the square of one that the plan has no other power of."""
        powers = [other for other in self._nodes.values() if isinstance(other, Power)]
        squared = isinstance(node, Power) and node.right == Number(2)
        return squared and sum(other.left == node.left for other in powers if isinstance(node, Power)) == 1

    def _term_of(self, node: Node) -> str | None:
        """Return the term that is an expression itself."""
        return next((key for key, other in self._nodes.items() if other == node), None)

    def _product(self, key: str, node: Node, text: str) -> str | None:
        """Return a product with its numbers centred; None where it has none that are not."""
        factors = list(factors_written(node))
        column = next((c.column for c in self._outline.columns if c.term == key and c.column is not None), None)
        if len(factors) < 2 or column is None:
            return None
        meaning = opened(column.meaning, self._outline.prepared.derived)
        pieces = meaning.factors()[0]
        if len(pieces) != len(factors) or any(isinstance(each, Number) for each in factors):
            return None
        made = text
        for factor, piece in reversed(list(zip(factors, pieces, strict=True))):
            if factor.span is not None and piece.off_center and not self._is_truth(factor):
                start, stop = factor.span
                made = f"{made[:start]}center({made[start:stop]}){made[stop:]}"
        return made if made != text else None

    def _is_truth(self, node: Node) -> bool:
        try:
            return str(self._outline.prepared.scope().type_of(node).kind) == "truth"
        except FacturumError:  # an open expression has no type yet
            return False

    @cached_property
    def plan(self) -> PlanSpec:
        """The plan of the table as it is shaped and declared, in which terms are edited."""
        shaped: dict[str, Any] = {"stack": None, "convert": None, "series": {}, "variables": {}}
        return self._plan.model_copy(update=shaped)

    @property
    def _most(self) -> int:
        return max(MOST_CELLS // max(len(self._outline.columns), 1), 1)

    @property
    def possible(self) -> bool:
        """Whether edits can be tried: along time, on whole tables alone."""
        whole = self.plan.data.timing is None or self._outline.prepared.table.length <= self._most
        return whole and not self._outline.prepared.shaped.history_rows

    @cached_property
    def table(self) -> Table:
        """The rows that edits are tried on, evenly spread."""
        table = self._outline.prepared.table
        count = min(self._most, table.length)
        return table.take(np.unique(np.linspace(0, table.length - 1, count).astype(np.int64)))

    def tried(self, edit: Edit) -> Outcome | None:
        """Return what comes of an edit; None where it cannot be built, or columns depend on one another."""
        if not self.possible:
            return None
        plain = self.plan
        terms = edit.applied(plain).terms
        mark = MARK
        while any(key.startswith(mark) for key in plain.terms):
            mark += MARK
        anew = {f"{mark}{key}": text for key, text in terms.items() if plain.terms.get(key) != text}
        try:  # the terms as they are, and those that change beside them
            made = build(plain.model_copy(update={"terms": plain.terms | anew, "intercept": True}), self.table)
        except FacturumError:
            return None
        if not isinstance(made.X, np.ndarray):
            return None
        before = [at for at, column in enumerate(made.columns) if not column.term.startswith(mark)]
        kept = {*terms} - {key.removeprefix(mark) for key in anew}
        after = [at for at, column in enumerate(made.columns) if column.term in kept or column.term.startswith(mark)]
        varying = made.X[:, after] - made.X[:, after].mean(axis=0)
        triangle = triangle_of(np.asfortranarray(varying))
        if not (np.abs(np.diagonal(triangle)) > 1e-10 * np.linalg.norm(varying, axis=0)).all():
            return None
        factors = Inflation.of(triangle).of_columns().tolist()
        names = [made.columns[at].name.removeprefix(mark) for at in after]
        old, new = made.X[:, before], made.X[:, [0, *after]]
        inflation, known = dict(zip(names, factors, strict=True)), {column.name for column in made.columns}
        fresh = max((value for name, value in inflation.items() if name not in known), default=1.0)
        same = spans(old, new) and (old.shape[1] == new.shape[1] or spans(new, old))  # new columns are independent
        return Outcome(inflation, fresh, same)


def spans(basis: FloatArray, matrix: FloatArray) -> bool:
    """Return whether columns lie in the span of others."""
    length = np.linalg.norm(basis, axis=0)
    scaled = basis / np.where(length > 0, length, 1.0)
    solved, *_ = np.linalg.lstsq(scaled, matrix, rcond=1e-12)
    left = np.linalg.norm(scaled @ solved - matrix, axis=0)
    return bool((left <= SAME * np.linalg.norm(matrix, axis=0)).all())


def quoted(text: str) -> str:
    """Return a text as a plan file holds it.

    Example:
        >>> print(quoted("log(price)"), quoted('access == "road"'))
        "log(price)" 'access == "road"'
    """
    literal = '"' in text and "'" not in text
    return tomlkit.string(text, literal=literal).as_string()
