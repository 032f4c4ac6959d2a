"""Times as categories of periods."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from facturum.data.time.calendar import period_text
from facturum.data.time.periods import period_numbers
from facturum.data.time.steps import PERIODS
from facturum.data.values import Kind, Values, and_masks
from facturum.language.core.literals import declared_as
from facturum.language.tree.nodes import Kinds, Node, Type, need_number
from facturum.language.tree.options import argument, arguments, one_of, option
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows


@operation
class PeriodOf(Node):
    """The period that a time lies in, as a category: `2020-03` for a month, `2020Q1` for a quarter.

    Where a time forms groups, is looked up or made a category, resolving writes it.

    Example: `period_of(opened, "year")`, `lookup(period_of(day, "day"), {'2020-12-25': 1}, 0)`.
    """

    family: ClassVar[str] = "time"
    x: Node = argument("a time")
    every: str = option(one_of(*PERIODS), "how long the period is")

    def check(self, kinds: Kinds) -> Type:
        type_of_x = kinds.type_of(self.x)
        if type_of_x.kind is not Kind.TIME:
            raise self.x.error(
                f"period_of works on a time, and '{self.x}' is {type_of_x.kind.with_article}",
                f"Declare it {declared_as(self.x, 'time')}.",
            )
        return Type(Kind.CATEGORY)

    def values(self, rows: Rows) -> Values:
        inner = rows.evaluate(self.x).full(rows.length)
        numbers = period_numbers(inner.data[inner.present_mask()], self.every)
        distinct, places = np.unique(numbers, return_inverse=True)
        codes = np.full(rows.length, -1, dtype=np.int64)
        codes[inner.present_mask()] = places
        return Values(codes, inner.valid, tuple(period_text(int(number), self.every) for number in distinct))

    def as_period(self) -> tuple[Node, str]:
        return self.x, self.every

    def subject(self) -> str:
        return self.x.subject()


@operation
class DateOf(Node):
    """The day that numbers for its year, month and day name, as a time.

    Example: `date_of(year, month)`, `date_of(yr, mon, d)`.
    """

    family: ClassVar[str] = "time"
    distributes: ClassVar[bool] = False
    year: Node = argument("a whole number")
    month: Node = argument("a whole number from 1 to 12")
    day: tuple[Node, ...] = arguments("a whole number from 1, the first where none is given", default=())

    def check(self, kinds: Kinds) -> Type:
        for child in self.children():
            need_number(self, child, kinds)
        if len(self.day) > 1:
            raise self.error("date_of takes a year, a month and a day", "Write date_of(year, month, [day]).")
        return Type(Kind.TIME)

    def values(self, rows: Rows) -> Values:
        parts = [rows.evaluate(child).full(rows.length) for child in (self.year, self.month, *self.day)]
        valid = None
        for part in parts:
            valid = and_masks(valid, part.valid)
        year, month, *day = (np.where(part.present_mask(), part.numbers(), 1.0) for part in parts)
        fine = (year == np.floor(year)) & (year >= 1) & (year <= 9999) & (month == np.floor(month))
        fine &= (month >= 1) & (month <= 12)
        months = np.where(fine, 12 * (year - 1970) + month - 1, 0).astype(np.int64).astype("datetime64[M]")
        days = months.astype("datetime64[D]")
        for number in day:
            fine &= (number == np.floor(number)) & (number >= 1) & (number <= 31)
            days = days + np.where(fine, number - 1, 0).astype(np.int64)
        fine &= days.astype("datetime64[M]") == months
        bad = ~fine if valid is None else ~fine & valid
        if bad.any():
            raise rows.failure(self, bad, f"'{self}' is not a date", "Correct these rows, or make them missing.")
        return Values(days.astype("datetime64[us]").astype(np.int64), valid)
