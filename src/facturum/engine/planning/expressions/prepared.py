"""A plan as checked expressions over a table."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field, replace

from facturum.data.row_numbers import row_numbers
from facturum.data.table import Table
from facturum.data.values import Array
from facturum.engine.blocks.source import Source
from facturum.engine.planning.expressions.learned import Learned
from facturum.engine.planning.expressions.scope import Scope
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.engine.planning.shaping import Given, Shaped
from facturum.errors import FacturumError
from facturum.language.core.literals import Name, names_in
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Node


@dataclass(frozen=True)
class Prepared:
    """A plan as checked expressions over a table.

    Args:
        spec: the plan as given.
        given: the tables as given.
        shaped: the table that the plan works on, its variables as declared.
        response: the response, or None.
        terms: by key.
        derived: new variables, by name, those that are used.
        keep, learn: the conditions of [rows].
        written: the plan whose texts the expressions were read from.
        learned: what has been answered so far, in its order.
        passed_over: by term, the variables that its selector left out since they look like ids.
    """

    spec: PlanSpec
    given: Given
    shaped: Shaped
    response: Node | None
    terms: Mapping[str, Node]
    derived: Mapping[str, Node]
    keep: Node | None
    learn: Node | None
    written: PlanSpec
    learned: tuple[Learned, ...] = ()
    passed_over: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def table(self) -> Table:
        """The rows that the plan works on, those of history first."""
        return self.shaped.table

    def scope(self) -> Scope:
        """Return the scope that types this plan's expressions."""
        return Scope(self.table, self.derived, self.spec.resolved, self.spec.data.step)

    def source(self) -> Source:
        """Return the rows for operations to read."""
        shaped = self.shaped
        return Source(
            shaped.table,
            self.derived,
            self.spec.data.timing,
            shaped.joined,
            shaped.history_rows,
            shaped.numbers,
            self._halo(),
        )

    def _halo(self) -> tuple[int, int]:
        """Return how many periods before and after its own a row reads at most, by one operation along time."""
        roots = [*self.parts().values(), *[node for node in (self.keep, self.learn) if node is not None]]
        offsets = {k for root in roots for node in root.walk() if node.along_time for k in node.offsets_read()}
        return max(0, -min(offsets, default=0)), max(0, max(offsets, default=0))

    def row_numbers(self, positions: Array) -> Array:
        """Return the numbers of rows of the table given, by their positions in the table that the plan works on."""
        return row_numbers(positions, self.shaped.history_rows, self.shaped.numbers)

    def parts(self) -> dict[str, Node]:
        """Return all expressions by their place in the plan."""
        expressions: dict[str, Node] = {f"derived.{key}": node for key, node in self.derived.items()}
        if self.response is not None:
            expressions["response"] = self.response
        return expressions | {f"terms.{key}": node for key, node in self.terms.items()}

    def map(self, change: Callable[[Node], Node]) -> Prepared:
        """Return the same with each expression changed."""
        return replace(
            self,
            response=None if self.response is None else change(self.response),
            terms={key: change(node) for key, node in self.terms.items()},
            derived={key: change(node) for key, node in self.derived.items()},
        )

    def sources(self, node: Node) -> list[str]:
        """Return the variables of the table that an expression reads, through derived ones too."""
        return sources_of(node, self.derived)

    def reached(self, node: Node) -> list[Node]:
        """Return an expression and all its parts, through derived variables too."""
        roots = [node, *[self.derived[name] for name in sorted(used_in(self.derived, [node]))]]
        return [part for root in roots for part in root.walk()]

    @property
    def estimated(self) -> tuple[Learned, ...]:
        """What was learned of rows; an answer that reads none, such as labels of written edges, is not among it."""
        return tuple(each for each in self.learned if each.rows)

    def terms_of(self, nodes: Collection[Node]) -> dict[Node, tuple[str, ...]]:
        """Return for some expressions the terms that each is part of, and "response", through derived variables too."""
        roots = dict(self.terms) if self.response is None else {"response": self.response, **self.terms}
        terms: dict[Node, list[str]] = {node: [] for node in nodes}
        for key, root in roots.items():
            for part in dict.fromkeys(self.reached(root)):
                if part in terms:
                    terms[part].append(key)
        return {node: tuple(keys) for node, keys in terms.items()}

    def deciding(self) -> set[Node]:
        """Return the expressions whose values decide which rows remain, and so are answered before these are known."""
        nodes: set[Node] = set()
        seen: set[Node] = set()
        pending = [node for place, node in self.parts().items() if not place.startswith("derived.")]
        while pending:
            node = pending.pop()
            if node in seen:
                continue
            seen.add(node)
            deciding = node.decided_by()
            for child in deciding:
                nodes.update(self.reached(child))
            if isinstance(node, Name) and node.variable in self.derived:
                pending.append(self.derived[node.variable])
            pending += [child for child in node.children() if child not in deciding]
        return nodes

    def looks_along(self, node: Node) -> bool:
        """Return whether an expression looks along time, through derived variables too."""
        return any(part.along_time for part in self.reached(node))

    def condition_text(self, key: str) -> str | None:
        """Return the text of [rows] keep or learn, the variables that a selector chose written out."""
        node: Node | None = getattr(self, key)
        written: str | None = getattr(self.spec.rows, key)
        if node is None or written is None or not any(part.selects for part in parse(written).walk()):
            return written
        return str(node)

    def text(self, place: str) -> str | None:
        """Return the text written at a place of the plan."""
        section, _, key = place.partition(".")
        sections: dict[str, Mapping[str, str | None]] = {
            "terms": self.written.terms,
            "derived": self.written.derived,
            "rows": {"keep": self.written.rows.keep, "learn": self.written.rows.learn},
        }
        return self.written.response if section == "response" else sections.get(section, {}).get(key)

    def where(self, node: Node) -> tuple[str | None, str | None]:
        """Return the place of an expression in the plan, and the text there."""
        conditions = {"rows.keep": self.keep, "rows.learn": self.learn}
        for place, root in (self.parts() | {k: v for k, v in conditions.items() if v is not None}).items():
            if any(part == node for part in root.walk()):
                return place, self.text(place)
        for key, term in self.terms.items():
            if any(part == node for column in _columns_or_none(term) for part in column.walk()):
                return f"terms.{key}", None
        return None, None


def _columns_or_none(term: Node) -> list[Node]:
    try:
        return [column.formula for column in term.columns()]
    except FacturumError:  # an open expression has no columns yet
        return []


def sources_of(node: Node, derived: Mapping[str, Node]) -> list[str]:
    """Return the variables of the table that an expression reads, through derived ones too."""
    names: dict[str, None] = {}
    seen: set[str] = set()
    pending = names_in(node)
    while pending:
        name = pending.pop(0)
        if name not in derived:
            names[name] = None
        elif name not in seen:
            seen.add(name)
            pending = names_in(derived[name]) + pending
    return list(names)


def used_in(derived: Mapping[str, Node], roots: list[Node]) -> set[str]:
    """Return the derived variables that some expressions read, through others too."""
    used: set[str] = set()
    pending = [name for root in roots for name in names_in(root)]
    while pending:
        name = pending.pop()
        if name in derived and name not in used:
            used.add(name)
            pending += names_in(derived[name])
    return used
