"""Curves of a number: broken lines and waves."""

from __future__ import annotations

from math import pi
from typing import ClassVar

from facturum.data.values import Kind, label_text, plain_number
from facturum.language.core.arithmetic import Divide, Multiply, Subtract
from facturum.language.core.literals import Number
from facturum.language.meanings.numbers import Unit
from facturum.language.operations.numbers.transforms import Clip, Cos, Sin
from facturum.language.tree.nodes import Column, Kinds, Node, Part, Type, need_number
from facturum.language.tree.options import NUMBERS, POSITIVE, argument, option, whole_from
from facturum.language.tree.registry import operation


@operation
class Hinge(Node):
    """A broken line: the number, and for each place in `at` how far it lies beyond; its coefficient changes the slope.

    Example: `hinge(altitude, at=[1500, 2200])`.
    """

    many_columns: ClassVar[bool] = True
    x: Node = argument("a number")
    at: tuple[float, ...] = option(NUMBERS, "where the slope changes")

    def check(self, kinds: Kinds) -> Type:
        need_number(self, self.x, kinds)
        if not self.at:
            raise self.error("hinge needs a place where the slope changes", f"Write hinge({self.x}, at=[..]).")
        if list(self.at) != sorted(set(self.at)):
            raise self.error("the places of hinge must be in increasing order", "Write each once.")
        return Type(Kind.NUMBER, block=True)

    def columns(self) -> tuple[Column, ...]:
        line = Column((), self.x, Unit(self.x.subject(), node=self.x), "number")
        return (line, *(self._beyond(place) for place in self.at))

    def _beyond(self, place: float) -> Column:
        formula, shown = Clip(Subtract(self.x, Number(plain_number(place))), low=0), label_text(plain_number(place))
        meaning = Unit(f"{self.x.subject()} beyond {shown}", node=formula)
        return Column((("operation", f"from_{shown}"),), formula, meaning, "number")


@operation
class Waves(Node):
    """Sines and cosines of a number that comes round after `period`: one pair, or further ones that are faster.

    Example: `waves(day_of_year, period=365.25, pairs=2)`.
    """

    many_columns: ClassVar[bool] = True
    x: Node = argument("a number")
    period: float = option(POSITIVE, "after how much it comes round")
    pairs: int = option(whole_from(1, 100), "how many sines and cosines", default=1)

    def check(self, kinds: Kinds) -> Type:
        need_number(self, self.x, kinds)
        return Type(Kind.NUMBER, block=True)

    def columns(self) -> tuple[Column, ...]:
        return tuple(self._wave(wave, fast) for fast in range(1, self.pairs + 1) for wave in (Sin, Cos))

    def _wave(self, wave: type[Sin | Cos], fast: int) -> Column:
        turns = Divide(self.x, Number(plain_number(float(self.period))))
        formula = wave(Multiply(Number(2 * pi * fast), turns))
        part: Part = ("operation", f"{wave.name}{fast}")
        return Column((part,), formula, formula.meaning(), "number")
