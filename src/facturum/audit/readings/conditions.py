"""Under what conditions a coefficient is told: periods held fixed, and main effects that are not in the plan."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property

from facturum.audit.counterfactual.probes import Probes
from facturum.audit.readings.claims import ColumnGroup
from facturum.audit.readings.proving import Prover
from facturum.engine.passes.outline import Outline
from facturum.language.tree.nodes import Node


class Conditions:
    """What a coefficient depends on beside the columns that move with its own.

    Args:
        outline: the resolved plan over its table, and its columns.
        groups: the columns, those together that are claimed alike.
        probes: rows, and other values for them.
        prover: builds the worlds in which columns are compared.
        written: returns a factor of a term as the plan writes it, by its place; None where it is no product.
    """

    def __init__(
        self,
        outline: Outline,
        groups: Sequence[ColumnGroup],
        probes: Probes,
        prover: Prover,
        written: Callable[[str, int], str | None],
    ) -> None:
        self._outline, self._groups, self._probes = outline, groups, probes
        self._prover, self._written = prover, written

    def mainless(self, group: ColumnGroup) -> tuple[str, ...]:
        """Return the factors of an interaction that the columns of the plan do not span."""
        singles = [other.factors[0][0] for other in self._groups if len(other.factors[0]) == 1]
        known = {(type(factor), factor.node) for factor in singles}
        straight = {factor.node for factor in singles if factor.linear or factor.power}
        found = []
        for place, factor in enumerate(group.factors[0]):
            there = (type(factor), factor.node) in known or factor.node in straight
            every = factor.stepwise and len(factor.compared) == 1
            bend = (
                factor.flag
                and not factor.absence
                and self._prover.variables([f.node for f in group.factors[0] if f.node])
            )
            if bend and all(each & other for each in bend for other in bend):
                continue  # a line that bends where the condition begins to hold has no step there
            if not there and not every and not self._prover.spans(factor):
                found.append(self._written(group.term, place) or factor.subject)
        return tuple(found)

    @cached_property
    def _offsets(self) -> dict[str, frozenset[int]]:
        """In which periods each variable is read, by any column; the time and the units left out."""
        timing = self._outline.prepared.spec.data.timing
        found: dict[str, frozenset[int]] = {}
        for group in self._groups:
            for name, offsets in self._reads(group.nodes).items():
                if timing is not None and name not in (timing.time, *timing.panel):
                    found[name] = found.get(name, frozenset()) | offsets
        return found

    def elsewhen(self, group: ColumnGroup, moved: Mapping[int, ColumnGroup]) -> tuple[str, ...]:
        """Return the variables of a column that others, which do not move with it, read at other periods."""
        own = self._reads(group.nodes)
        wider = {name for name, offsets in own.items() if self._offsets.get(name, offsets) - offsets}
        if not wider:
            return ()
        found = set[str]()
        for other in self._groups:
            if other is not group and not any(of is other for of in moved.values()):
                reads = self._reads(other.nodes)
                found |= {name for name in wider if name in reads and not reads[name] & own[name]}
        return tuple(sorted(found))

    def _reads(self, nodes: Sequence[Node]) -> dict[str, frozenset[int]]:
        found: dict[str, frozenset[int]] = {}
        for node in nodes:
            for name, offsets in self._probes.reads.of(node).items():
                found[name] = found.get(name, frozenset()) | offsets
        return found
