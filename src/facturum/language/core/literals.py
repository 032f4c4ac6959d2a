"""Names, numbers, texts, lists; what conditions have in common."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import ClassVar

import numpy as np

from facturum.data.values import Array, Kind, Mask, Values
from facturum.errors import toml_key
from facturum.language.meanings.categories import Holds
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Unit
from facturum.language.tree.nodes import Column, Kinds, Node, Part, Type
from facturum.language.tree.options import VALUE, argument, arguments, option
from facturum.language.tree.registry import node
from facturum.language.tree.rows import Rows
from facturum.language.tree.writer import ATOM, SIGN, Writer, is_plain_name


@node
class Name(Node):
    """A variable of the table, or a derived one."""

    variable: str = option(VALUE, "the name")

    def written(self, writer: Writer) -> tuple[str, int]:
        return (self.variable if is_plain_name(self.variable) else f"variable({self.variable!r})"), ATOM

    def check(self, kinds: Kinds) -> Type:
        return kinds.variable(self, self.variable)

    def values(self, rows: Rows) -> Values:
        return rows.variable(self.variable)

    def valid(self, rows: Rows) -> Mask | None:
        return rows.present(self.variable)

    def meaning(self) -> Meaning:
        return Unit(self.variable, node=self)


@node
class Number(Node):
    """A number as written."""

    value: int | float = option(VALUE, "the number")

    def written(self, writer: Writer) -> tuple[str, int]:
        return writer.literal(self.value), SIGN if self.value < 0 else ATOM

    def check(self, kinds: Kinds) -> Type:
        self.need_exact(self.value)
        return Type(Kind.NUMBER)

    def values(self, rows: Rows) -> Values:
        return Values(np.array([float(self.value) + 0.0]))


@node
class Text(Node):
    """A text as written: a category, or a period where a time is compared."""

    value: str = option(VALUE, "the text")

    def written(self, writer: Writer) -> tuple[str, int]:
        return repr(self.value), ATOM

    def check(self, kinds: Kinds) -> Type:
        return Type(Kind.CATEGORY, labels=(self.value,))

    def values(self, rows: Rows) -> Values:
        return Values(np.array([0]), None, (self.value,))


@node
class Truth(Node):
    """True or False as written."""

    value: bool = option(VALUE, "the truth value")

    def written(self, writer: Writer) -> tuple[str, int]:
        return repr(self.value), ATOM

    def check(self, kinds: Kinds) -> Type:
        return Type(Kind.TRUTH)

    def values(self, rows: Rows) -> Values:
        return Values(np.array([self.value]))


@node
class Missing(Node):
    """The missing value as written."""

    def written(self, writer: Writer) -> tuple[str, int]:
        return "missing", ATOM

    def check(self, kinds: Kinds) -> Type:
        return Type(Kind.MISSING)

    def values(self, rows: Rows) -> Values:
        return Values(np.zeros(1, dtype=bool), np.zeros(1, dtype=bool))

    def valid(self, rows: Rows) -> Mask | None:
        return np.zeros(rows.length, dtype=bool)


@node
class List(Node):
    """A list of expressions: as a term, the block of their columns."""

    listed: ClassVar[bool] = True
    takes_blocks: ClassVar[frozenset[str]] = frozenset({"members"})
    members: tuple[Node, ...] = arguments("the members")

    def written(self, writer: Writer) -> tuple[str, int]:
        return f"[{writer.several(self.members)}]", ATOM

    @property
    def missing_by_column(self) -> bool:
        return True

    def check(self, kinds: Kinds) -> Type:
        for member in self.members:
            kinds.type_of(member)
        return Type(Kind.NUMBER, block=True)

    def columns(self) -> tuple[Column, ...]:
        parts = member_parts(self.members)
        return tuple(
            Column((part, *column.parts), column.formula, column.meaning, column.measure, column.reference)
            for part, member in zip(parts, self.members, strict=True)
            for column in member.columns()
        )

    def column_count(self) -> int:
        return sum(member.column_count() for member in self.members)


def member_parts(members: tuple[Node, ...]) -> list[Part]:
    """Return a name part for each member: its only variable, or its text where two would be called the same."""
    short = [names[0] if len(names := names_in(member)) == 1 else str(member) for member in members]
    counts = Counter(short)
    chosen = [str(member) if counts[text] > 1 else text for text, member in zip(short, members, strict=True)]
    return [("member", text) for text in chosen]


def names_in(expression: Node) -> list[str]:
    """Return the variables that an expression reads, each once, in the order of the text.

    Example:
        >>> names_in(List((Name("b"), Name("a"), Name("b"))))
        ['b', 'a']
    """
    if isinstance(expression, Name):
        return [expression.variable]
    return list(dict.fromkeys(name for child in expression.children() for name in names_in(child)))


def declared_as(expression: Node, kind: str) -> str:
    """Return the line of a plan file that declares the variable of an expression, the first that it reads.

    Example:
        >>> declared_as(Name("snow depth"), "time")
        '[variables] "snow depth" = { kind = "time" }'
    """
    name = next(iter(names_in(expression)), "..")
    return f'[variables] {toml_key(name)} = {{ kind = "{kind}" }}'


@node
class Presence(Node):
    """Whether an expression has a value: true where it has, missing where it has none.

    Operations along time find by it which rows remain, before what lies inside them has been learned.
    """

    x: Node = argument("any expression")

    def check(self, kinds: Kinds) -> Type:
        kinds.type_of(self.x)
        return Type(Kind.TRUTH)

    def values(self, rows: Rows) -> Values:
        return Values(np.ones(rows.length, dtype=bool), rows.valid(self.x))

    def valid(self, rows: Rows) -> Mask | None:
        return rows.valid(self.x)


class Condition(Node):
    """What is true, false or missing in each row."""

    def derivative(self, of: Callable[[Node], Node]) -> Node:
        return Number(0)  # wherever it does not change

    def meaning(self) -> Meaning:
        return Holds(self.subject(), node=self)

    def columns(self) -> tuple[Column, ...]:
        return (Column((), self, self.meaning(), "indicator"),)


def truths(values: Values) -> Array:
    """Return the data of a truth value as booleans."""
    return values.data if values.data.dtype == np.bool_ else values.data != 0
