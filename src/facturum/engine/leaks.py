"""What may not be a predictor: ids, carried variables, and the response at its own period."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from facturum.data.table import Table
from facturum.engine.spec import PlanSpec
from facturum.errors import PlanError
from facturum.language.core import Name
from facturum.language.nodes import Node
from facturum.language.seasons import Timed


@dataclass(frozen=True)
class Look:
    """A variable that an expression reads, the period at which (counted from the row's own), and where it says so."""

    variable: str
    offset: int
    node: Node


def looks(root: Node, derived: Mapping[str, Node], groups: bool = True) -> Iterator[Look]:
    """Yield what an expression reads of the table and when, through derived variables too.

    Of many offsets only the extremes and 0 matter, so that nested windows do not multiply.

    Args:
        root: the expression.
        derived: the derived variables.
        groups: whether variables that only form groups count as read.
    """
    pending: list[tuple[Node, frozenset[int], Node | None]] = [(root, frozenset({0}), None)]
    seen: set[tuple[Node, frozenset[int]]] = set()
    while pending:
        node, offsets, through = pending.pop()
        if (node, offsets) in seen:
            continue
        seen.add((node, offsets))
        if isinstance(node, Name):
            shown = through or node
            if node.variable in derived:
                pending.append((derived[node.variable], offsets, shown))
            else:
                yield from (Look(node.variable, offset, shown) for offset in sorted(offsets))
            continue
        following = _few({a + b for a in offsets for b in node.looks_at()})
        read = [child for field, child in node.arguments() if groups or field not in node.groups_by]
        pending += [(child, following, through) for child in read]


def _few(offsets: set[int]) -> frozenset[int]:
    """Return the offsets that tell own, earlier and later periods apart."""
    return frozenset({min(offsets), max(offsets), *({0} & offsets)})


def explained_variables(response: Node | None, derived: Mapping[str, Node]) -> set[str]:
    """Return the variables that a response is made of, without those that only form groups."""
    return set() if response is None else {look.variable for look in looks(response, derived, groups=False)}


def refuse_ids(node: Node, table: Table, derived: Mapping[str, Node], seen: set[str] | None = None) -> None:
    """Refuse ids among the predictors, through derived variables too; to form groups by them is fine."""
    seen = set() if seen is None else seen
    if isinstance(node, Name) and node.variable not in seen:
        seen.add(node.variable)
        if node.variable in derived:
            refuse_ids(derived[node.variable], table, derived, seen)
        elif table[node.variable].identity:
            raise node.fail(
                f"'{node.variable}' is an id, and cannot be a predictor",
                'Leave it out; if it is a category, write kind = "category" in [variables].',
            )
    for field, child in node.arguments():
        if field not in node.groups_by:
            refuse_ids(child, table, derived, seen)


def refuse_leaks(response: Node | None, terms: Mapping[str, Node], derived: Mapping[str, Node], spec: PlanSpec) -> None:
    """Refuse predictors that read the response at their own period, and carried variables among them."""
    explained = explained_variables(response, derived)
    for key, term in terms.items():
        for look in looks(term, derived):
            if look.variable in explained and look.offset == 0:
                name = look.node.variable if isinstance(look.node, Name) else str(look.node)
                through = "" if name in explained else f", made from the response '{look.variable}',"
                raise PlanError(
                    f"'{name}'{through} is among the predictors, and the response '{response}' reads it",
                    place=f"terms.{key}",
                    text=spec.terms[key],
                    span=look.node.span,
                    remedy="Leave it out: it would explain itself. Its lag would do: lag(.., 1).",
                )
    for name in spec.data.carry:
        carried = [key for key, term in terms.items() if _read(term, name, derived)]
        if carried:
            raise PlanError(
                f"'{name}' is carried along, and cannot be a predictor",
                place=f"terms.{carried[0]}",
                text=spec.terms[carried[0]],
                remedy="Take it out of carry, or out of the term.",
            )


def _read(term: Node, name: str, derived: Mapping[str, Node]) -> bool:
    """Return whether a term reads a variable other than as the time of the row."""
    plain = {key: _without_clock(node) for key, node in derived.items()}
    return any(look.variable == name for look in looks(_without_clock(term), plain))


def _without_clock(node: Node) -> Node:
    bare = node.replaced(of=()) if isinstance(node, Timed) else node
    children = bare.children()
    return bare.rebuilt(map(_without_clock, children)) if children else bare
