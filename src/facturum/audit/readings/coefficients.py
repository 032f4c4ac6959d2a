"""The sentence on each coefficient of a build, from the sources of its column and of all others."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import replace
from functools import cached_property

from facturum.audit.readings.claiming import Claims
from facturum.audit.readings.wording import sentence
from facturum.audit.topics.preparation import set_missing_of
from facturum.data.values import Kind
from facturum.engine.passes.outline import Outline
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.language.core.literals import Number
from facturum.language.core.products import factors_written, opened
from facturum.language.meanings.meaning import Context, Factor, Meaning
from facturum.language.meanings.numbers import Unit
from facturum.language.syntax.parser import parse
from facturum.language.tree.writer import brief_text

LEARNED_TABLE = "lookup("  # what a statistic of groups is written as where it is learned


class Sentences:
    """The sentences of a build, and what they warn of.

    Args:
        outline: the resolved plan over its table, and its columns.
        counts: whether the values of the response are counts.
        written: the plan as written.
        alike: the columns that are the same in all rows of the matrix, each with its value.
    """

    def __init__(self, outline: Outline, counts: bool, written: PlanSpec, alike: Mapping[int, float]) -> None:
        self._outline, self._counts, self._written, self._alike = outline, counts, written, alike
        self._prepared = outline.prepared

    @cached_property
    def _context(self) -> Context:
        """What the plan says of variables."""
        scope = self._prepared.scope()
        derived = {name for name, node in self._prepared.derived.items() if scope.type_of(node).kind is Kind.TRUTH}
        stated = {name for name, spec in self._prepared.spec.variables.items() if spec.kind == "truth"}
        truths = derived | stated | {each.name for each in self._prepared.table if each.kind is Kind.TRUTH}
        return Context(truths, set_missing_of(self._prepared), self._prepared.spec.data.every)

    def _informed(self, meaning: Meaning) -> Meaning:
        return meaning.map(lambda factor: factor.informed(self._context))

    @cached_property
    def meanings(self) -> list[Meaning | None]:
        """What each column of the matrix is read as; None for the intercept."""
        meanings = [None if column.column is None else column.column.meaning for column in self._outline.columns]
        derived = self._prepared.derived
        found = [None if meaning is None else self._informed(opened(meaning, derived)) for meaning in meanings]
        return [None if r is None else self._briefly(r, at) for at, r in enumerate(found)]

    def _briefly(self, meaning: Meaning, at: int) -> Meaning:
        """Return a meaning that names what was learned of groups as the plan does, not as a table of numbers."""
        term = self._outline.columns[at].term
        text = self._written.terms.get(term)
        own = meaning.single
        if own is None or own.node is None or text is None:
            return meaning
        if LEARNED_TABLE in brief_text(own.node) and LEARNED_TABLE not in text and self._terms[term] == 1:
            written = parse(text, True).meaning().single
            if written is not None and type(written) is type(own):
                if replace(written, subject=own.subject) == own:
                    return replace(own, subject=written.subject)
                column = self._outline.columns[at].column
                if column is not None and replace(written, subject="") == Unit(""):
                    return Unit(written.subject, node=column.formula)  # all of it, where a part has a size of its own
        return meaning

    @cached_property
    def _terms(self) -> Counter[str]:
        """How many columns each term has."""
        return Counter(column.term for column in self._outline.columns)

    @cached_property
    def response(self) -> Factor | None:
        """What the response is read as, from the resolved plan where the rows do not have it."""
        node = self._prepared.response
        if node is None and self._prepared.spec.resolved and self._prepared.spec.response is not None:
            node = parse(self._prepared.spec.response, True)
        if node is None:
            return None
        factor = self._informed(node.response_meaning()).as_response() or Unit(node.subject())
        return factor.as_count() if self._counts else factor

    @cached_property
    def _claims(self) -> Claims:
        return Claims(self._outline, self.meanings, self._as_written, self._alike)

    def of(self, at: int) -> str:
        """Return what the coefficient of a column means."""
        return sentence(self._claims.each[at], self.response, self.meanings)

    def proved(self, at: int) -> int:
        """Return on how many rows, changed and built again, that was proved."""
        return self._claims.each[at].rows

    def warnings(self) -> Iterator[str]:
        """Say which interactions lack a main effect."""
        for term, main in self._claims.mainless():
            yield (
                f"{term} is an interaction of {main}, whose main effect is not in the plan: it is held at 0 "
                f"where the other factor is 0. Add {main} as a term, unless that is meant."
            )

    def _as_written(self, term: str, place: int) -> str | None:
        """Return a factor of a term as the plan writes it; None where the term is not written as a product."""
        text = self._written.terms.get(term)
        if text is None:
            return None
        factors = [node for node in factors_written(parse(text, True)) if not isinstance(node, Number)]
        return str(factors[place]) if place < len(factors) and len(factors) > 1 else None
