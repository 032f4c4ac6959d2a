"""The kinds of variables and expressions, while a plan is checked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, fields
from graphlib import CycleError, TopologicalSorter

from facturum.data.table import Table
from facturum.data.values import Kind
from facturum.data.variable import TOO_LONG
from facturum.engine.planning.sections.quoting import not_found
from facturum.errors import DataError, PlanError, toml_key
from facturum.language.core.literals import Name, Number, Text, Truth, names_in
from facturum.language.tree.nodes import Node, Type
from facturum.language.tree.writer import is_plain_name

DEEPEST = 200


class Scope:
    """Knows the variables of a table and the derived ones.

    Args:
        table: the variables as declared.
        derived: new variables by name.
        resolved: whether the plan is resolved, so that categories need not all be there.
        every: the step from one period to the next, where the plan defines how rows follow one another.
    """

    def __init__(self, table: Table, derived: Mapping[str, Node], resolved: bool, every: str | None = None) -> None:
        self._table = table
        self._derived = derived
        self.resolved = resolved
        self._every = every
        self._types: dict[Node, Type] = {}

    def variable(self, node: Node, name: str) -> Type:
        """Return the kind of a variable, or an error that points at its name."""
        if name in self._derived:
            return self._derived_type(node, name)
        if name not in self._table:
            raise node.error(*not_found(name, self._table, self._derived))
        variable = self._table[name]
        if variable.kind is Kind.NUMBER and not variable.exact_as_double:
            remedy = f'Write [variables] {toml_key(name)} = {{ kind = "category" }}; as an id it only names units.'
            raise DataError(f"'{name}' {TOO_LONG}", span=node.span, remedy=remedy)
        return Type(variable.kind, labels=variable.labels, declared=variable.declared)

    def type_of(self, node: Node) -> Type:
        """Return what an expression is, checking it the first time."""
        known = self._types.get(node)
        if known is None:
            _refuse_empty(node)
            self._refuse_blocks(node)
            _refuse_constant_groups(node)
            known = self._types[node] = node.check(self)
        return known

    def _refuse_blocks(self, node: Node) -> None:
        """Refuse a block of several columns wherever an operation takes one column."""
        for field, child in node.arguments():
            if field not in node.takes_blocks and self.type_of(child).block:
                raise child.error(
                    f"{node.called} works on one column, and '{child}' is a block of several columns", node.advice
                )

    @property
    def every(self) -> str:
        """The step from one period to the next."""
        return self._every or "row"

    def along_time(self, node: Node) -> None:
        """Refuse an operation along time where the plan does not define how rows follow one another."""
        if self._every is None:
            raise node.error(
                f"{node.name} works along time, and the plan does not define how rows follow one another",
                'Write [data] time = "..", every = "month" (or every = "row"), and panel = [..] for several units.',
            )

    def _derived_type(self, node: Node, name: str) -> Type:
        derived_type = self.type_of(self._derived[name])
        if derived_type.block:
            raise node.error(f"the derived variable '{name}' has several columns", "Write it as a term instead.")
        return derived_type


def _refuse_constant_groups(node: Node) -> None:
    """Refuse a constant where variables are named that form groups: it would make one group of all rows."""
    for field, child in node.arguments():
        if field in node.groups_by and isinstance(child, Text | Number | Truth):
            written = str(child.value)
            name = written if is_plain_name(written) else f'variable("{written}")'
            remedy = f"Write {field}=[{name}], without quotes."
            if not isinstance(child, Text):
                remedy = f"Name a variable; one whose name looks like a number stands in quotes: {field}=['2023']."
            raise child.error(
                f"{field} names variables, and {child} is {'a text' if isinstance(child, Text) else 'a constant'}, the "
                "same in every row",
                remedy,
            )


def _refuse_empty(node: Node) -> None:
    """Refuse an empty list wherever an operation needs the expressions in it."""
    for field in fields(node):  # type: ignore[arg-type]
        if field.metadata.get("role") == "arguments" and field.default is MISSING and not getattr(node, field.name):
            raise node.error("the list is empty", "Name at least one variable in it.")


def refuse_deep(derived: Mapping[str, Node], roots: Mapping[str, Node]) -> None:
    """Refuse derived variables that go in a circle, and expressions too deep once they are substituted.

    Nothing here or after it goes deeper than `DEEPEST` levels.

    Args:
        derived: new variables by name.
        roots: other expressions, by their place in the plan.

    Raises:
        PlanError: with the place in the plan.
    """
    reads = {name: [other for other in names_in(node) if other in derived] for name, node in derived.items()}
    try:
        order = list(TopologicalSorter(reads).static_order())
    except CycleError as problem:
        circle = " → ".join(reversed(problem.args[1]))
        name = problem.args[1][0]
        raise PlanError(
            f"the derived variables depend on each other in a circle: {circle}",
            place=f"derived.{name}",
            remedy="Write one of them without the others.",
        ) from None
    depths: dict[str, int] = {}
    for place, node in [*((f"derived.{name}", derived[name]) for name in order), *roots.items()]:
        depth = _depth(node, depths)
        depths[place.removeprefix("derived.")] = depth
        if depth > DEEPEST:
            raise PlanError(
                f"the expression is nested {depth} deep, through derived variables too, and {DEEPEST} is the most",
                place=place,
                remedy="Take a part of it out, or compute it beforehand.",
            )


def _depth(root: Node, depths: Mapping[str, int]) -> int:
    deepest, level, below = 0, [root], 0
    while level:
        below += 1
        inner = [depths.get(node.variable, 0) for node in level if isinstance(node, Name)]
        deepest = max(deepest, below + max(inner, default=0))
        level = [child for node in level for child in node.children()]
    return deepest
