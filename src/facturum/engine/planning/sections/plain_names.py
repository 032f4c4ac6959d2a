"""Variables that a plan names as the table has them, where an expression would need quotes or have none."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection
from typing import Any

from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import PlanError
from facturum.language.core.literals import Name, Text, names_in
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Node

_CALL = re.compile(r"[A-Za-z_]\w*\s*\(")


def with_names(spec: PlanSpec, names: Callable[[], Collection[str]]) -> PlanSpec:
    """Return a plan in which variables stand as an expression has them.

    A text that is no expression may be a name as the table has it, and variables that form groups may be in quotes.

    Args:
        spec: the plan.
        names: returns the variables of its table; asked only where that matters.
    """
    texts = {("terms", key): text for key, text in spec.terms.items()}
    texts |= {("derived", key): text for key, text in spec.derived.items()}
    texts |= {} if spec.response is None else {("response", ""): spec.response}
    parsed = {place: _parsed(text) for place, text in texts.items()}
    odd = {place for place, node in parsed.items() if _may_be_name(texts[place], node) or groups_in_quotes(node)}
    known = {*names(), *spec.derived} if odd else set()
    made = dict(texts)
    for place in odd:
        node = parsed[place]
        if _may_be_name(texts[place], node) and texts[place] in known:
            made[place] = str(Name(texts[place]))
        elif node is not None and groups_in_quotes(node):
            made[place] = str(with_groups(node, known))
    if made == texts:
        return spec
    terms, derived = ({key: made[part, key] for key in getattr(spec, part)} for part in ("terms", "derived"))
    return spec.model_copy(update={"terms": terms, "derived": derived, "response": made.get(("response", ""))})


def _may_be_name(text: str, node: Node | None) -> bool:
    """Return whether a text is no expression, a number, or has what Python takes for a comment."""
    return node is None or "#" in text or (not names_in(node) and _CALL.search(text) is None)


def is_expression(text: str) -> bool:
    """Return whether a text is an expression, whatever it reads."""
    return _parsed(text) is not None


def _parsed(text: str) -> Node | None:
    try:
        return parse(text)
    except PlanError:
        return None


def with_groups(node: Node, names: Collection[str]) -> Node:
    """Return an expression in which variables that form groups may stand in quotes: by='region' as by=region."""

    def named_group(child: Node) -> Node:
        return Name(child.value) if isinstance(child, Text) and child.value in names else child

    node = node.map(lambda child: with_groups(child, names))
    changes: dict[str, Any] = {}
    for field in node.groups_by:
        value = getattr(node, field)
        several = isinstance(value, tuple)
        found = tuple(map(named_group, value)) if several else named_group(value) if isinstance(value, Node) else value
        if found != value:
            changes[field] = found
    return node.replaced(**changes) if changes else node


def groups_in_quotes(node: Node | None) -> set[str]:
    """Return the texts that stand in an expression where groups are formed."""
    return (
        set()
        if node is None
        else {
            child.value
            for part in node.walk()
            for field, child in part.arguments()
            if field in part.groups_by and isinstance(child, Text)
        }
    )
