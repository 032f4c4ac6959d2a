"""How variables were prepared for the columns: bins, imputed values, flags, scores of several items."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from typing import TypeVar

import numpy as np

from facturum.audit.map.entries import BinsEntry, FlagEntry, ImputationEntry, ScoreEntry
from facturum.audit.topics.binning import BinCounts
from facturum.audit.topics.imputations import FilledCells, ImputationCounts
from facturum.audit.topics.scoring import ScoreCounts
from facturum.audit.topics.stretch import Stretch
from facturum.data.values import Mask
from facturum.engine.passes.outline import BuiltColumn, Outline
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.language.core.literals import Name
from facturum.language.meanings.categories import NoValue
from facturum.language.meanings.meaning import stepped
from facturum.language.tree.nodes import Node
from facturum.language.tree.writer import brief_text

T = TypeVar("T")


class PreparationReport:
    """What was done to variables in a build, gathered from stretches of its rows in their order.

    Args:
        outline: the resolved plan and its columns.
    """

    def __init__(self, outline: Outline) -> None:
        self._prepared = outline.prepared
        every = self._prepared.spec.data.every
        self._bins = [
            BinCounts(node, binned, terms, stepped(binned.x.subject(), every))
            for node, binned, terms in self._found(lambda node: node.binned())
        ]
        self._imputations = [
            ImputationCounts(at, node, imputed, terms, stepped(imputed.x.subject(), every))
            for at, (node, imputed, terms) in enumerate(self._found(lambda node: node.imputed()))
        ]
        flags = [*self._found(lambda node: node.flagged())]
        self._flags = [_FlagCounts(node, x, terms, self._prepared) for node, x, terms in flags]
        self.flagged = {stepped(x.subject(), every) for _, x, _ in flags}
        self._scores = [ScoreCounts(*found) for found in self._found(lambda node: node.scored())]
        columns = [*outline.columns, *outline.responses]
        self._by_column = {each.name: each for each in columns if self._is_missing_by_column(each)}
        self._missing: Counter[str] = Counter()
        self._inside = {each.name: self._imputations_in(each) for each in columns}
        self._filled: Counter[frozenset[int]] = Counter()

    def _found(self, trait: Callable[[Node], T | None]) -> Iterator[tuple[Node, T, list[str]]]:
        """Yield each operation of a trait once, with the terms that it is part of, through derived variables too."""
        reached_by: dict[Node, list[str]] = {}
        roots = dict(self._prepared.terms)
        if self._prepared.response is not None:
            roots["response"] = self._prepared.response
        for key, root in roots.items():
            for node in self._prepared.reached(root):
                if trait(node) is not None and key not in (terms := reached_by.setdefault(node, [])):
                    terms.append(key)
        for node, terms in reached_by.items():
            if (of_node := trait(node)) is not None:
                yield node, of_node, terms

    def _term_of(self, column: BuiltColumn) -> Node | None:
        return self._prepared.response if column.role == "response" else self._prepared.terms.get(column.term)

    def _is_missing_by_column(self, column: BuiltColumn) -> bool:
        """Return whether a column can be missing in other rows than the others of its term."""
        node = self._term_of(column)
        return column.column is not None and node is not None and node.missing_by_column

    def _imputations_in(self, column: BuiltColumn) -> frozenset[int]:
        """Return the imputations whose values a column reads."""
        if column.column is None or not self._imputations:
            return frozenset()
        inside = set(self._prepared.reached(column.column.formula))
        return frozenset(each.number for each in self._imputations if each.node in inside)

    def see(self, stretch: Stretch) -> list[FilledCells]:
        """Look at the rows of a stretch; return each cell that was filled."""
        for bins in self._bins:
            bins.see(stretch)
        seen = [each.see(stretch) for each in self._imputations]
        self._see_filled([mask for mask, _ in seen], stretch)
        for flag in self._flags:
            flag.see(stretch)
        for score in self._scores:
            score.see(stretch)
        missing = stretch.selection.missing()
        for name, column in self._by_column.items():
            place = column.term if column.role == "response" else f"terms.{column.term}"
            if missing.get(place) and column.column is not None:
                absent = ~stretch.values(column.column.formula, stretch.kept).present_mask()
                self._missing[name] += int(np.count_nonzero(absent))
        return [cells for _, cells in seen]

    def _see_filled(self, masks: list[Mask], stretch: Stretch) -> None:
        for inside in {inside for inside in self._inside.values() if inside}:
            filled = np.any([masks[at] for at in inside], axis=0) & stretch.is_remaining
            self._filled[inside] += int(np.count_nonzero(filled))

    @property
    def looks_again(self) -> bool:
        """Whether it needs the rows a second time, once all have been seen."""
        return bool(self._bins)

    def see_again(self, stretch: Stretch) -> None:
        """Look at the rows of a stretch once more, after all have been seen."""
        for bins in self._bins:
            bins.see_again(stretch)

    def missing(self, column: BuiltColumn, of_parts: Mapping[str, int]) -> int:
        """Return in how many rows selected by [rows] keep a column is missing.

        Args:
            column: the column.
            of_parts: in how many of them each part of the plan is.
        """
        if column.column is None:
            return 0
        if column.name in self._by_column:
            return self._missing[column.name]
        return of_parts[column.term if column.role == "response" else f"terms.{column.term}"]

    def filled_rows(self, column: BuiltColumn) -> int:
        """Return in how many rows of the matrix a column reads an imputed value."""
        return self._filled[self._inside[column.name]]

    @property
    def bins(self) -> list[BinsEntry]:
        """The table of bins of each binned variable."""
        return [each.entry() for each in self._bins]

    @property
    def imputations(self) -> list[ImputationEntry]:
        """The imputed values, and whether missingness is associated with the response."""
        return [each.entry() for each in self._imputations]

    @property
    def flags(self) -> list[FlagEntry]:
        """What each flag for missing values marks."""
        return [each.entry() for each in self._flags]

    @property
    def scores(self) -> list[ScoreEntry]:
        """How well the items of each score go together."""
        return [each.entry() for each in self._scores]


class _FlagCounts:
    """What a flag for missing values marks."""

    def __init__(self, node: Node, x: Node, terms: list[str], prepared: Prepared) -> None:
        self._node, self._x, self._terms = node, x, terms
        self._inner, self._wrong = _before_taking_out(x, prepared.derived)
        self._raw = self._made = 0

    def see(self, stretch: Stretch) -> None:
        raw = ~stretch.values(self._inner, stretch.kept).present_mask()
        marked = ~stretch.values(self._x, stretch.kept).present_mask()
        self._raw += int(np.count_nonzero(raw))
        self._made += int(np.count_nonzero(marked & ~raw))

    def entry(self) -> FlagEntry:
        return FlagEntry(
            expression=str(self._node),
            terms=self._terms,
            missing_in_source=self._raw,
            made_missing=self._made,
            conditions=[brief_text(condition) for condition in self._wrong],
        )


def _before_taking_out(node: Node, derived: Mapping[str, Node]) -> tuple[Node, list[Node]]:
    """Return an expression before invalid values were set to missing, and the conditions that did so."""
    conditions: list[Node] = []
    while True:
        inner = derived.get(node.variable) if isinstance(node, Name) else None
        if (found := node.invalid()) is not None:
            node, condition = found
            conditions.insert(0, condition)
        elif inner is not None and (isinstance(inner, Name) or inner.invalid() is not None):
            node = inner
        else:
            return node, conditions


def set_missing_of(prepared: Prepared) -> dict[str, NoValue]:
    """Return, for each derived variable of which wrong values were set to missing, what having no value means."""
    by_place = {}
    for name in prepared.derived:
        inner, wrong = _before_taking_out(Name(name), prepared.derived)
        if wrong:
            by_place[name] = NoValue(inner.subject(), tuple(condition.subject() for condition in wrong))
    return by_place
