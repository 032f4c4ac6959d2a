"""Names, numbers, texts, lists and arithmetic."""

from __future__ import annotations

from abc import abstractmethod
from collections import Counter
from collections.abc import Callable
from typing import ClassVar

import numpy as np

from facturum.data.values import Array, FloatArray, Kind, Mask, Values, and_masks
from facturum.errors import toml_key
from facturum.language.blocks import Block, product
from facturum.language.meanings.categories import Holds
from facturum.language.meanings.meaning import Meaning, Product
from facturum.language.meanings.numbers import Curve, Unit
from facturum.language.nodes import Column, Kinds, Node, Part, Type, finite, need_number, node
from facturum.language.options import VALUE, argument, arguments, option
from facturum.language.rows import Rows
from facturum.numerics.powers import whole_power


@node
class Name(Node):
    """A variable of the table, or a derived one."""

    variable: str = option(VALUE, "the name")

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

    def check(self, kinds: Kinds) -> Type:
        self.need_exact(self.value)
        return Type(Kind.NUMBER)

    def values(self, rows: Rows) -> Values:
        return Values(np.array([float(self.value) + 0.0]))


@node
class Text(Node):
    """A text as written: a category, or a period where a time is compared."""

    value: str = option(VALUE, "the text")

    def check(self, kinds: Kinds) -> Type:
        return Type(Kind.CATEGORY, labels=(self.value,))

    def values(self, rows: Rows) -> Values:
        return Values(np.array([0]), None, (self.value,))


@node
class Truth(Node):
    """True or False as written."""

    value: bool = option(VALUE, "the truth value")

    def check(self, kinds: Kinds) -> Type:
        return Type(Kind.TRUTH)

    def values(self, rows: Rows) -> Values:
        return Values(np.array([self.value]))


@node
class Missing(Node):
    """The missing value as written."""

    def check(self, kinds: Kinds) -> Type:
        return Type(Kind.MISSING)

    def values(self, rows: Rows) -> Values:
        return Values(np.zeros(1, dtype=bool), np.zeros(1, dtype=bool))

    def valid(self, rows: Rows) -> Mask | None:
        return np.zeros(rows.length, dtype=bool)


@node
class List(Node):
    """A list of expressions: as a term, the block of their columns."""

    takes_blocks: ClassVar[frozenset[str]] = frozenset({"members"})
    members: tuple[Node, ...] = arguments("the members")

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
        >>> names_in(Add(Name("b"), Add(Name("a"), Name("b"))))
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


def is_block(expression: Node) -> bool:
    """Return whether an expression has several columns by its form."""
    if isinstance(expression, Multiply):
        return is_block(expression.left) or is_block(expression.right)
    return isinstance(expression, List) or expression.many_columns


class Arithmetic(Node):
    """Two numbers made one."""

    symbol: ClassVar[str] = ""
    advice: ClassVar[str] = "Write the two as terms of their own, or * between them for their interaction."
    left: Node
    right: Node

    @abstractmethod
    def compute(self, left: FloatArray, right: FloatArray) -> FloatArray:
        """Return the result for each row."""

    def check(self, kinds: Kinds) -> Type:
        for side in (self.left, self.right):
            need_number(self, side, kinds)
        return Type(Kind.NUMBER)

    def values(self, rows: Rows) -> Values:
        left, right = rows.evaluate(self.left), rows.evaluate(self.right)
        with np.errstate(all="ignore"):
            data = self.compute(left.numbers(), right.numbers())
        return finite(self, rows, data, and_masks(left.valid, right.valid))

    def meaning(self) -> Meaning:
        return Unit(self.subject(), node=self)


@node
class Add(Arithmetic):
    """Sum."""

    symbol = "+"
    left: Node = argument("a number")
    right: Node = argument("a number")

    def compute(self, left: FloatArray, right: FloatArray) -> FloatArray:
        return np.add(left, right)

    def derivative(self, of: Callable[[Node], Node]) -> Node:
        return Add(of(self.left), of(self.right))

    def meaning(self) -> Meaning:
        number, other = (self.left, self.right) if isinstance(self.left, Number) else (self.right, self.left)
        moved = other.meaning().plus(float(number.value)) if isinstance(number, Number) else None
        return moved or super().meaning()


@node
class Subtract(Arithmetic):
    """Difference."""

    symbol = "-"
    left: Node = argument("a number")
    right: Node = argument("a number")

    def compute(self, left: FloatArray, right: FloatArray) -> FloatArray:
        return np.subtract(left, right)

    def derivative(self, of: Callable[[Node], Node]) -> Node:
        return Subtract(of(self.left), of(self.right))

    def meaning(self) -> Meaning:
        moved = None
        if isinstance(self.right, Number):
            moved = self.left.meaning().plus(-float(self.right.value))
        elif isinstance(self.left, Number):
            moved = self.right.meaning().times(-1).plus(float(self.left.value))
        return moved or super().meaning()


@node
class Multiply(Arithmetic):
    """Product of numbers; between blocks the interaction, all pairs of columns."""

    symbol = "*"
    takes_blocks: ClassVar[frozenset[str]] = frozenset({"left", "right"})
    left: Node = argument("a number or a block")
    right: Node = argument("a number or a block")

    def check(self, kinds: Kinds) -> Type:
        blocks = [kinds.type_of(side).block for side in (self.left, self.right)]
        for side, block in zip((self.left, self.right), blocks, strict=True):
            if not block:
                need_number(self, side, kinds)
        return Type(Kind.NUMBER, block=any(blocks))

    def compute(self, left: FloatArray, right: FloatArray) -> FloatArray:
        return np.multiply(left, right)

    def derivative(self, of: Callable[[Node], Node]) -> Node:
        return Add(Multiply(of(self.left), self.right), Multiply(of(self.right), self.left))

    def columns(self) -> tuple[Column, ...]:
        if not is_block(self):
            return (Column((), self, self.meaning()),)
        return tuple(
            Column(
                a.parts + b.parts,
                Multiply(a.formula, b.formula),
                self._product(a.meaning, b.meaning),
                "interaction",
                " and ".join(r for r in (a.reference, b.reference) if r) or None,
            )
            for a in self.left.columns()
            for b in self.right.columns()
        )

    def column_count(self) -> int:
        return self.left.column_count() * self.right.column_count()

    def block(self, rows: Rows) -> Block:
        if not is_block(self):
            return super().block(rows)
        with np.errstate(all="ignore"):
            return product(rows.block(self.left), rows.block(self.right))

    def meaning(self) -> Meaning:
        return self._product(self.left.meaning(), self.right.meaning())

    def _product(self, left: Meaning, right: Meaning) -> Meaning:
        for number, other in ((self.left, right), (self.right, left)):
            if isinstance(number, Number):
                return other.times(float(number.value)) if number.value else Unit(self.subject(), node=self)
        return Product(left, right)


@node
class Divide(Arithmetic):
    """Quotient; a division by zero is an error that names the rows."""

    symbol = "/"
    left: Node = argument("a number")
    right: Node = argument("a number")

    def compute(self, left: FloatArray, right: FloatArray) -> FloatArray:
        return np.divide(left, right)

    def derivative(self, of: Callable[[Node], Node]) -> Node | None:
        above, below = of(self.left), of(self.right)
        if below == Number(0):
            return Divide(above, self.right)
        shrinking = Divide(Multiply(self.left, below), Power(self.right, Number(2)))
        return Negative(shrinking) if above == Number(0) else None

    def meaning(self) -> Meaning:
        if isinstance(self.right, Number) and self.right.value:
            return self.left.meaning().times(1 / float(self.right.value))
        return super().meaning()


@node
class Power(Arithmetic):
    """Power; a whole exponent is a chain of multiplications."""

    symbol = "**"
    left: Node = argument("a number")
    right: Node = argument("a number")

    def compute(self, left: FloatArray, right: FloatArray) -> FloatArray:
        if isinstance(self.right, Number) and float(self.right.value).is_integer():
            return whole_power(left, int(self.right.value))
        return np.power(left, right)

    def derivative(self, of: Callable[[Node], Node]) -> Node | None:
        if not isinstance(self.right, Number):
            return None
        exponent = self.right.value
        lower = self.left if exponent == 2 else Power(self.left, Number(exponent - 1))
        return Multiply(Multiply(Number(exponent), lower), of(self.left))

    def meaning(self) -> Meaning:
        return Curve(self.subject(), node=self)


@node
class Negative(Node):
    """The number with its sign turned."""

    symbol: ClassVar[str] = "-"
    advice: ClassVar[str] = "Write the term without the sign: its coefficients turn theirs."
    value: Node = argument("a number")

    def check(self, kinds: Kinds) -> Type:
        need_number(self, self.value, kinds)
        return Type(Kind.NUMBER)

    def values(self, rows: Rows) -> Values:
        inner = rows.evaluate(self.value)
        return Values(np.negative(inner.numbers()), inner.valid)

    def derivative(self, of: Callable[[Node], Node]) -> Node:
        return Negative(of(self.value))

    def meaning(self) -> Meaning:
        return self.value.meaning().times(-1)


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
