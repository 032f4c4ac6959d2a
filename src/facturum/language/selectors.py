"""Blocks of variables chosen by name or by kind; frozen to lists when the plan is resolved."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping
from fnmatch import fnmatchcase
from typing import ClassVar

from facturum.data.values import Kind
from facturum.language.core import List, Name, Text
from facturum.language.nodes import Kinds, Node, Type, operation
from facturum.language.options import TEXT, arguments, option


class Selector(Node):
    """Chooses among the variables of the table that may be predictors."""

    many_columns: ClassVar[bool] = True
    but: tuple[Node, ...]

    @abstractmethod
    def takes(self, name: str, kind: Kind) -> bool:
        """Return whether a variable is chosen."""

    def chosen(self, variables: Mapping[str, Kind]) -> List:
        """Return the list of the variables chosen, in the order of the table.

        Raises:
            PlanError: where none is.
        """
        for node in self.but:
            if not isinstance(node, Name | Text):
                raise node.fail("but=[..] lists variables", 'Write names or patterns: but=[price, "q_*"].')
        patterns = [node.variable if isinstance(node, Name) else node.value for node in self.but]  # type: ignore[attr-defined]
        names = [
            name
            for name, kind in variables.items()
            if self.takes(name, kind) and not any(fnmatchcase(name, pattern) for pattern in patterns)
        ]
        if not names:
            raise self.fail(f"'{self}' chooses no variable", "The table has " + ", ".join(variables) + ".")
        made = List(tuple(Name(name) for name in names))
        object.__setattr__(made, "span", self.span)
        return made

    def check(self, kinds: Kinds) -> Type:
        raise self.fail(f"'{self}' chooses among the variables of a table", "Give the plan a table first.")


@operation
class Matching(Selector):
    """The variables whose names match a pattern: `*` stands for any text, `?` for one character.

    Example: `matching("q_*", but=["q_9"])`.
    """

    pattern: str = option(TEXT, "the pattern")
    but: tuple[Node, ...] = arguments("variables or patterns left out", default=())

    def takes(self, name: str, kind: Kind) -> bool:
        return fnmatchcase(name, self.pattern)


@operation
class EveryNumber(Selector):
    """All numbers of the table.

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
    """All categories of the table, ordered ones included.

    Example: `every_category(but=[hut])`.
    """

    but: tuple[Node, ...] = arguments("variables or patterns left out", default=())

    def takes(self, name: str, kind: Kind) -> bool:
        return kind.categorical
