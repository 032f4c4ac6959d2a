"""The scalar formula of each column as text, and the definitions that formulas name."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from facturum.engine.passes.outline import Outline
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.engine.planning.sections.column_names import slug
from facturum.language.core.literals import Name, names_in
from facturum.language.tree.nodes import Node
from facturum.language.tree.writer import MAX_ENTRIES


@dataclass(frozen=True)
class Definition:
    """A name that formulas use, and its definition."""

    name: str
    formula: str


class Definitions:
    """Gathers definitions while formulas are written, in an order in which each names only earlier ones.

    Args:
        prepared: the resolved plan; its derived variables come first.
    """

    def __init__(self, prepared: Prepared) -> None:
        self._taken = {*prepared.table.variables, *prepared.derived}
        self._names: dict[Node, str] = {}
        self.listed: list[Definition] = []
        for name in _in_order(prepared.derived):
            self.listed.append(Definition(name, self.text(prepared.derived[name])))

    def text(self, formula: Node) -> str:
        """Return the text of a formula, its large tables replaced by the names of definitions."""
        return str(self._short(formula))

    def _short(self, node: Node) -> Node:
        children = [self._short(child) for child in node.children()]
        changed = node.rebuilt(children) if children else node
        if changed.entry_count() <= MAX_ENTRIES and not changed.named_in_formulas:
            return changed
        if changed not in self._names:
            self._names[changed] = name = self._name(changed)
            self.listed.append(Definition(name, str(changed)))
        return Name(self._names[changed])

    def _name(self, node: Node) -> str:
        stem = "_".join([*[slug(name) for name in names_in(node)[:2]], node.name or "among"])
        stem = stem if stem[0].isalpha() else f"x_{stem}"
        name, number = stem, 2
        while name in self._taken:
            name, number = f"{stem}_{number}", number + 1
        self._taken.add(name)
        return name


def _in_order(derived: Mapping[str, Node]) -> list[str]:
    """Return derived names so that each stands after those that it reads."""
    done: dict[str, None] = {}

    def visit(name: str) -> None:
        if name in derived and name not in done:
            for other in names_in(derived[name]):
                visit(other)
            done[name] = None

    for name in derived:
        visit(name)
    return list(done)


def formula_texts(outline: Outline) -> tuple[list[str], list[str], list[Definition]]:
    """Return the formulas of the matrix columns and of the response columns, and the definitions that they name."""
    definitions = Definitions(outline.prepared)
    columns = ["1" if c.column is None else definitions.text(c.column.formula) for c in outline.columns]
    responses = [definitions.text(c.column.formula) for c in outline.responses if c.column is not None]
    return columns, responses, definitions.listed
