"""Expressions that stand for several, written out: selectors, the time of the row, lists as first arguments."""

from __future__ import annotations

from collections.abc import Mapping

from facturum.data.id_variables import tells_rows_apart
from facturum.data.table import Table
from facturum.data.values import Kind
from facturum.language.core.arithmetic import Arithmetic, Multiply
from facturum.language.core.literals import List, Name
from facturum.language.tree.nodes import Node
from facturum.language.tree.traits import Surroundings


def frozen(node: Node, around: Surroundings) -> Node:
    """Write into an expression what the plan and the table define: the variables selected, the time of the row."""
    return node.settled(around).map(lambda child: frozen(child, around))


def spread(node: Node) -> Node:
    """Take every operation with a list in first place to the members of the list."""
    node = _flat(node.map(spread))
    if isinstance(node, List | Multiply) or not node.distributes or not node.children():
        return node
    first, *others = node.children()
    if isinstance(first, List) and not (isinstance(node, Arithmetic) and isinstance(others[0], List)):
        return List(tuple(spread(node.rebuilt([member, *others])) for member in first.members)).put_at(node)
    if isinstance(node, Arithmetic) and isinstance(others[0], List) and not isinstance(first, List):
        return List(tuple(spread(node.rebuilt([first, member])) for member in others[0].members)).put_at(node)
    return node


def _flat(node: Node) -> Node:
    """Put the members of lists among the expressions of an operation that takes several."""
    if isinstance(node, List):
        return node
    changes: dict[str, tuple[Node, ...]] = {}
    for field, several in node.argument_fields()[1 if node.distributes else 0 :]:
        value = getattr(node, field)
        if several and any(isinstance(member, List) for member in value):
            changes[field] = tuple(m for v in value for m in (v.members if isinstance(v, List) else (v,)))
    return node.replaced(**changes) if changes else node


def passed_over_in(texts: Mapping[str, Node], choices: Mapping[str, Kind], table: Table) -> dict[str, tuple[str, ...]]:
    """Return, by place, the variables that a selector would choose and that merely identify rows."""
    selectors = {place: [part for part in node.walk() if part.selects] for place, node in texts.items()}
    if not any(selectors.values()):
        return {}
    named = {node.variable for node in texts.values() if isinstance(node, Name)}
    ids = [name for name in choices if name not in named and tells_rows_apart(table[name])]
    passed_over = {
        place: tuple(name for name in ids if any(part.wants(name, choices[name]) for part in parts))
        for place, parts in selectors.items()
    }
    return {place: names for place, names in passed_over.items() if names}
