"""Arithmetic: sums, products, quotients, powers."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable
from typing import ClassVar

import numpy as np

from facturum.data.values import FloatArray, Kind, Values, and_masks
from facturum.language.core.literals import List, Number, Text
from facturum.language.meanings.meaning import Meaning, Product
from facturum.language.meanings.numbers import Curve, Unit
from facturum.language.tree.blocks import Block, product
from facturum.language.tree.nodes import Column, Kinds, Node, Type, finite, need_number
from facturum.language.tree.options import argument
from facturum.language.tree.registry import node
from facturum.language.tree.rows import Rows
from facturum.language.tree.writer import ATOM, POWER, PRODUCT, SIGN, SUM, Writer
from facturum.numerics.exact.powers import whole_power


def is_block(expression: Node) -> bool:
    """Return whether an expression has several columns by its form."""
    if isinstance(expression, Multiply):
        return is_block(expression.left) or is_block(expression.right)
    return isinstance(expression, List) or expression.many_columns


class Arithmetic(Node):
    """Two numbers made one."""

    symbol: ClassVar[str] = ""
    strength: ClassVar[int] = SUM
    advice: ClassVar[str] = "Write the two as terms of their own, or * between them for their interaction."
    left: Node
    right: Node

    def written(self, writer: Writer) -> tuple[str, int]:
        text = f"{writer.text(self.left, self.strength)} {self.symbol} {writer.text(self.right, self.strength + 1)}"
        return text, self.strength

    @abstractmethod
    def compute(self, left: FloatArray, right: FloatArray) -> FloatArray:
        """Return the result for each row."""

    def check(self, kinds: Kinds) -> Type:
        both = (self.left, self.right)
        times = [isinstance(side, Text) or kinds.type_of(side).kind is Kind.TIME for side in both]
        if self.symbol == "-" and all(times) and not all(isinstance(side, Text) for side in both):
            raise self.error(
                f"a difference of times such as '{self}' needs a unit",
                f"Write days_between({self.right}, {self.left}), or count other steps with periods_between.",
            )
        for side in both:
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
    strength = PRODUCT
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
    strength = PRODUCT
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

    def written(self, writer: Writer) -> tuple[str, int]:
        return f"{writer.text(self.left, ATOM)} ** {writer.text(self.right, SIGN)}", POWER

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

    def written(self, writer: Writer) -> tuple[str, int]:
        # the sign of a bare number belongs to the number, so that it needs a bracket here
        inner = writer.text(self.value, SIGN)
        return "-" + (f"({inner})" if isinstance(self.value, Number) else inner), SIGN

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
