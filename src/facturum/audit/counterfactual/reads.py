"""Which variables an expression reads, and in which periods."""

from __future__ import annotations

from collections.abc import Mapping

from facturum.engine.planning.expressions.leaks import offsets_after, steps_of
from facturum.language.core.arithmetic import Multiply
from facturum.language.core.literals import Name
from facturum.language.tree.nodes import Node


class Reads:
    """Follows expressions down to the variables of the table, through derived ones too.

    Args:
        derived: the derived variables.
    """

    def __init__(self, derived: Mapping[str, Node]) -> None:
        self._derived = derived
        self._known: dict[tuple[Node, bool], dict[str, frozenset[int]]] = {}

    def of(self, node: Node) -> dict[str, frozenset[int]]:
        """Return for each variable the periods in which it is read, counted from the row's own."""
        return self._read(node, False)

    def moving(self, node: Node) -> dict[str, frozenset[int]]:
        """Return the same of the variables that move an expression, those left out that only form groups."""
        return self._read(node, True) or self._read(node, False)

    def _read(self, node: Node, without_groups: bool) -> dict[str, frozenset[int]]:
        key = (node, without_groups)
        if key not in self._known:
            self._known[key] = self._followed(node, without_groups)
        return self._known[key]

    def _followed(self, node: Node, without_groups: bool) -> dict[str, frozenset[int]]:
        if isinstance(node, Name):
            definition = self._derived.get(node.variable)
            return {node.variable: frozenset({0})} if definition is None else self._read(definition, without_groups)
        steps = steps_of(node)
        found: dict[str, frozenset[int]] = {}
        for field, child in node.arguments():
            if without_groups and field in node.groups_by:
                continue
            factor = without_groups and isinstance(node, Multiply)  # one made of groups alone moves with them
            for variable, offsets in (self.moving(child) if factor else self._read(child, without_groups)).items():
                after = offsets_after(offsets, steps)
                found[variable] = found[variable] | after if variable in found else after
        return found
