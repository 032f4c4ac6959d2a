"""How long lies between two times."""

from __future__ import annotations

from abc import abstractmethod
from typing import ClassVar

import numpy as np

from facturum.data.time.calendar import part_codes
from facturum.data.time.periods import period_numbers
from facturum.data.time.steps import PERIODS
from facturum.data.values import Array, Kind, Values, and_masks
from facturum.language.core.comparing import period_written
from facturum.language.core.literals import Text, declared_as
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Unit
from facturum.language.tree.nodes import Kinds, Node, Type
from facturum.language.tree.options import argument, one_of, option
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows


class OfTwoTimes(Node):
    """A number that follows from two times; one of them may be a date in quotes, its first moment."""

    family: ClassVar[str] = "time"

    @abstractmethod
    def between(self, first: Array, second: Array) -> Array:
        """Return the number for pairs of moments, in microseconds since 1970."""

    def check(self, kinds: Kinds) -> Type:
        first, second = self.children()
        if isinstance(first, Text) and isinstance(second, Text):
            raise self.error("both are dates in quotes, and the same in every row", "Name a variable for one of them.")
        for each in (first, second):
            if isinstance(each, Text):
                period_written(each)
            elif (kind := kinds.type_of(each).kind) is not Kind.TIME:
                what = f"{self.name} works on times, and '{each}' is {kind.with_article}"
                raise each.error(what, f"Declare it {declared_as(each, 'time')}, or write date_of(year, month, day).")
        return Type(Kind.NUMBER)

    def values(self, rows: Rows) -> Values:
        first, second = (
            Values(np.array([period_written(each).start])) if isinstance(each, Text) else rows.evaluate(each)
            for each in self.children()
        )
        return Values(self.between(first.data, second.data).astype(np.float64), and_masks(first.valid, second.valid))

    def meaning(self) -> Meaning:
        return Unit(self.subject(), node=self)


@operation
class DaysBetween(OfTwoTimes):
    """How many days a time lies after another one; negative where it lies before it.

    Example: `days_between(opened, closed)`, `days_between(opened, "2024-01-01")`.
    """

    first: Node = argument("a time, or a date in quotes")
    second: Node = argument("a time, or a date in quotes")

    def between(self, first: Array, second: Array) -> Array:
        return period_numbers(second, "day") - period_numbers(first, "day")

    def subject(self) -> str:
        return f"the number of days from {self.first.subject()} to {self.second.subject()}"


@operation
class PeriodsBetween(OfTwoTimes):
    """How many weeks, months, quarters or years begin from one time to a later one; negative where it is earlier.

    Example: `periods_between(opened, closed, "month")`, `periods_between("2019-01", month, "quarter")`.
    """

    first: Node = argument("a time, or a date in quotes")
    second: Node = argument("a time, or a date in quotes")
    every: str = option(one_of(*PERIODS), "what is counted")

    def between(self, first: Array, second: Array) -> Array:
        return period_numbers(second, self.every) - period_numbers(first, self.every)

    def subject(self) -> str:
        return f"the number of {self.every}s from {self.first.subject()} to {self.second.subject()}"


@operation
class AgeInYears(OfTwoTimes):
    """How many whole years have passed from a birth, or another beginning, to a time.

    Example: `age_in_years(born, admitted)`, `age_in_years(built, "2024-06-30")`.
    """

    birth: Node = argument("a time, or a date in quotes")
    at: Node = argument("a time, or a date in quotes")

    def between(self, first: Array, second: Array) -> Array:
        born, now = (
            10_000 * part_codes(moments, "year") + 100 * part_codes(moments, "month") + part_codes(moments, "day")
            for moments in (first, second)
        )
        years: Array = np.floor_divide(now - born, 10_000)  # as dates written as numbers differ
        return years

    def subject(self) -> str:
        return f"the number of whole years from {self.birth.subject()} to {self.at.subject()}"
