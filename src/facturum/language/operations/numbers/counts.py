"""What is counted: values, and how many of them differ."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from facturum.data.values import FloatArray, Kind
from facturum.language.core.literals import Number
from facturum.language.learning.groups import GroupQuestion
from facturum.language.operations.numbers.statistics import Statistic, number
from facturum.language.tree.nodes import Kinds, Node, Question, Type
from facturum.language.tree.options import argument, arguments
from facturum.language.tree.registry import operation


class Counted(Statistic):
    """A number that is counted within groups, or over all learning rows."""

    family: ClassVar[str] = "statistics"

    def whole(self) -> Question:
        together = Number(1)  # the one group of all rows
        return GroupQuestion((self.x, together), self.statistic, lambda found: number(next(iter(found.values()))))


@operation
class Count(Counted):
    """How many learning rows there are in which the variable has a value, or within groups.

    Example: `count(price, by=[hut])`.
    """

    x: Node = argument("any variable")
    by: tuple[Node, ...] = arguments("variables that form groups", default=())

    def check(self, kinds: Kinds) -> Type:
        kinds.type_of(self.x)
        return Type(Kind.NUMBER)

    def statistic(self, x: FloatArray) -> float:
        return float(len(x))

    def noun(self) -> str:
        return "number of values"


@operation
class Distinct(Counted):
    """How many different values there are over the learning rows, or within groups.

    Example: `distinct(hut, by=[valley])`.
    """

    x: Node = argument("any variable but a period")
    by: tuple[Node, ...] = arguments("variables that form groups", default=())

    def check(self, kinds: Kinds) -> Type:
        type_of_x = kinds.type_of(self.x)
        if self.x.as_period() is not None or type_of_x.kind is Kind.TIME:
            raise self.x.error("distinct works on numbers and categories, and this is a time", "Count a part of it.")
        return Type(Kind.NUMBER)

    def statistic(self, x: FloatArray) -> float:
        return float(len(np.unique(x)))

    def noun(self) -> str:
        return "number of different values"
