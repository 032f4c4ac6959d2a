"""Blocks of variables chosen by name or by kind; frozen to lists when the plan is resolved."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Collection, Mapping
from fnmatch import fnmatchcase
from typing import ClassVar

from facturum.data.values import Kind
from facturum.language.core.literals import List, Name, Text
from facturum.language.tree.nodes import Kinds, Node, Type
from facturum.language.tree.options import TEXT, arguments, option
from facturum.language.tree.registry import operation
from facturum.language.tree.traits import Surroundings


class Selector(Node):
    """Chooses among the variables of the table that may be predictors."""

    many_columns: ClassVar[bool] = True
    selects: ClassVar[bool] = True
    takes_ids: ClassVar[bool] = False  # whether variables that look like ids are chosen, since their names are meant
    but: tuple[Node, ...]

    @abstractmethod
    def takes(self, name: str, kind: Kind) -> bool:
        """Return whether a variable is chosen."""

    def settled(self, around: Surroundings) -> List:
        return self.chosen(around.choices, around.ids)

    def chosen(self, variables: Mapping[str, Kind], ids: Collection[str] = ()) -> List:
        """Return the list of the variables chosen, in the order of the table.

        Args:
            variables: that may be predictors, with their kinds.
            ids: those that look like ids.

        Raises:
            PlanError: where none is.
        """
        names = [
            name for name, kind in variables.items() if self.means(name, kind) and (self.takes_ids or name not in ids)
        ]
        if not names:
            raise self.error(f"'{self}' matches no variable", "The table has " + ", ".join(variables) + ".")
        return List(tuple(Name(name) for name in names)).put_at(self)

    def wants(self, name: str, kind: Kind) -> bool:
        return not self.takes_ids and self.means(name, kind)

    def means(self, name: str, kind: Kind) -> bool:
        """Return whether a variable is one of those meant, ids included.

        Raises:
            PlanError: where the variables to leave out are not listed by name or pattern.
        """
        for node in self.but:
            if not isinstance(node, Name | Text):
                raise node.error("but=[..] lists variables", 'Write names or patterns: but=[price, "q_*"].')
        patterns = [node.variable if isinstance(node, Name) else node.value for node in self.but]  # type: ignore[attr-defined]
        return self.takes(name, kind) and not any(fnmatchcase(name, pattern) for pattern in patterns)

    def check(self, kinds: Kinds) -> Type:
        raise self.error(f"'{self}' chooses among the variables of a table", "Give the plan a table first.")


@operation
class Matching(Selector):
    """The variables whose names match a pattern: `*` stands for any text, `?` for one character.

    Example: `matching("q_*", but=["q_9"])`.
    """

    takes_ids: ClassVar[bool] = True
    pattern: str = option(TEXT, "the pattern")
    but: tuple[Node, ...] = arguments("variables or patterns left out", default=())

    def takes(self, name: str, kind: Kind) -> bool:
        return fnmatchcase(name, self.pattern)


@operation
class EveryNumber(Selector):
    """All numbers of the table but those that merely count the rows, as an id does.

    Example: `every_number(but=[beds])`.
    """

    but: tuple[Node, ...] = arguments("variables or patterns left out", default=())

    def takes(self, name: str, kind: Kind) -> bool:
        return kind is Kind.NUMBER


@operation
class EveryTruth(Selector):
    """All truth values of the table.

    Example: `every_truth()`.
    """

    but: tuple[Node, ...] = arguments("variables or patterns left out", default=())

    def takes(self, name: str, kind: Kind) -> bool:
        return kind is Kind.TRUTH


@operation
class EveryCategory(Selector):
    """All categories of the table, ordered ones included, but those that differ in every row, as an id does.

    Example: `every_category(but=[hut])`.
    """

    but: tuple[Node, ...] = arguments("variables or patterns left out", default=())

    def takes(self, name: str, kind: Kind) -> bool:
        return kind.categorical
