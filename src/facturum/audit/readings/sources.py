"""The sources of an expression: variables at periods, and whether their values or only their presence matter."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TypeAlias

from facturum.engine.planning.leaks import offsets_after
from facturum.language.core import Name
from facturum.language.nodes import Node
from facturum.language.operations.missing import IsMissing
from facturum.language.reading import Factor

# a variable, the period counted from the row's own, and whether its value counts or only its presence
Read: TypeAlias = tuple[str, int, bool]


@dataclass(frozen=True)
class Sources:
    """The sources of an expression.

    Args:
        moves: what changes when it does: its values, or of a flag for missing ones their presence.
        plain: all that it reads, without what only forms groups.
        reads: all that it reads.
    """

    moves: frozenset[Read]
    plain: frozenset[Read]
    reads: frozenset[Read]


@dataclass(frozen=True)
class ColumnFactor:
    """A factor of a column: its reading, its formula, and its sources."""

    reading: Factor
    formula: Node
    sources: Sources


@dataclass(frozen=True, eq=False)
class ColumnGroup:
    """The columns of one term whose factors are of one kind, such as the indicators of a category.

    Args:
        columns: their positions.
        formulas: of each factor, those in all the columns.
        members: the factors of the first column.
    """

    columns: tuple[int, ...]
    formulas: tuple[frozenset[Node], ...]
    members: tuple[ColumnFactor, ...]

    @cached_property
    def sources(self) -> Sources:
        """The sources of all factors together."""
        each = [member.sources for member in self.members]
        return Sources(*(frozenset().union(*(getattr(s, key) for s in each)) for key in ("moves", "plain", "reads")))


class SourceReader:
    """Follows expressions down to the variables of the table, through derived ones too."""

    def __init__(self, derived: Mapping[str, Node]) -> None:
        self._derived = derived
        self._known: dict[tuple[Node, bool], Sources] = {}

    def opened(self, node: Node) -> Node:
        """Return the definition of a derived variable, anything else as it is."""
        while isinstance(node, Name) and node.variable in self._derived:
            node = self._derived[node.variable]
        return node

    def expanded(self, node: Node) -> Node:
        """Return an expression with all derived variables written out."""
        node = self.opened(node)
        children = node.children()
        return node.rebuilt(map(self.expanded, children)) if children else node

    def read(self, formula: Node, presence: bool) -> Sources:
        """Return the sources of an expression; a flag for missing values moves with their presence."""
        if (formula, presence) not in self._known:
            plain, grouped = self._walked(formula)
            moves = plain if presence else frozenset(read for read in plain or grouped if read[2])
            self._known[formula, presence] = Sources(moves, plain, plain | grouped)
        return self._known[formula, presence]

    def _walked(self, formula: Node) -> tuple[frozenset[Read], frozenset[Read]]:
        reads: dict[bool, set[Read]] = {False: set(), True: set()}
        pending = [(formula, frozenset({0}), True, False)]
        seen = set(pending)
        while pending:
            node, offsets, value, grouping = pending.pop()
            if isinstance(node, Name) and node.variable not in self._derived:
                for offset in offsets:
                    reads[grouping] |= {(node.variable, offset, kind) for kind in {False, value}}
                continue
            steps: list[tuple[Node, frozenset[int], bool, bool]] = []
            if isinstance(node, Name):
                steps = [(self._derived[node.variable], offsets, value, grouping)]
            else:
                after, deciding = offsets_after(offsets, node.offsets_read()), node.decided_by()
                for field, child in node.arguments():
                    matters = value and not isinstance(node, IsMissing)
                    by_value = matters or (child in deciding and not isinstance(node, IsMissing))
                    steps.append((child, after, by_value, grouping or field in node.groups_by))
            pending += [step for step in steps if step not in seen]
            seen.update(steps)
        return frozenset(reads[False]), frozenset(reads[True])
