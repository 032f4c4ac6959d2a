"""The sentence on each coefficient of a build, from the sources of its column and of all others."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from facturum.audit.readings.effects import Effects
from facturum.audit.readings.readings import informed, sentence
from facturum.audit.readings.responses import counted_response, response_reading
from facturum.audit.topics.preparation import set_missing_of
from facturum.data.values import Kind
from facturum.engine.passes.outline import Outline
from facturum.language.nodes import Node
from facturum.language.operations.categories import Category
from facturum.language.parser import parse
from facturum.language.reading import Reading


class Sentences:
    """The sentences of a build, and what they warn of."""

    def __init__(self, outline: Outline, counts: bool) -> None:
        self._outline, self._counts = outline, counts
        self._prepared = outline.prepared
        self._set_missing = set_missing_of(self._prepared)

    @cached_property
    def _truths(self) -> set[str]:
        """The names of variables, derived ones too, that are truth values."""
        scope = self._prepared.scope()
        derived = {name for name, node in self._prepared.derived.items() if scope.type_of(node).kind is Kind.TRUTH}
        stated = {name for name, spec in self._prepared.spec.variables.items() if spec.kind == "truth"}
        return derived | stated | {variable.name for variable in self._prepared.table if variable.kind is Kind.TRUTH}

    def _informed(self, reading: Reading) -> Reading:
        return informed(reading, self._truths, self._set_missing, self._prepared.spec.data.every)

    @cached_property
    def readings(self) -> list[Reading | None]:
        """What each column of the matrix is read as; None for the intercept."""
        readings = [None if column.column is None else column.column.reading for column in self._outline.columns]
        return [None if reading is None else self._informed(reading) for reading in readings]

    @cached_property
    def response(self) -> Reading | None:
        """What the response is read as, from the resolved plan where the rows do not have it."""
        node = self._prepared.response
        if node is None and self._prepared.spec.resolved and self._prepared.spec.response is not None:
            node = parse(self._prepared.spec.response, True)
        if node is None:
            return None
        reading = response_reading(self._informed(_own_reading(node)), node.subject())
        return counted_response(reading) if self._counts else reading

    @cached_property
    def _effects(self) -> Effects:
        columns = self._outline.columns
        numbers = {variable.name for variable in self._prepared.table if variable.kind is Kind.NUMBER}
        return Effects(
            [column.name for column in columns],
            [column.term for column in columns],
            [None if column.column is None else column.column.formula for column in columns],
            self.readings,
            self._prepared.derived,
            self._prepared.spec.data.time,
            frozenset(numbers),
            self._informed,
        )

    def of(self, at: int) -> str:
        """Return what the coefficient of a column means."""
        return sentence(self._effects.interpretation(at), self.response, self.readings)

    def warnings(self) -> Iterator[str]:
        """Say which interactions lack a main effect."""
        for at, factor in self._effects.mainless():
            term = self._outline.columns[at].term
            yield (
                f"{term} is an interaction of {factor.subject}, whose main effect is not in the plan: it is held at 0 "
                f"where the other factor is 0. Add {factor.subject} as a term, unless that is meant."
            )


def _own_reading(node: Node) -> Reading:
    """Return what a response is read as; of a category in several columns, its first column."""
    return node.columns()[0].reading if isinstance(node, Category) else node.reading()
