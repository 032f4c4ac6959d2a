"""Several variables of one row brought together: scores, extremes, counts."""

from __future__ import annotations

from abc import abstractmethod
from functools import reduce
from typing import Any, ClassVar, Self

import numpy as np

from facturum.data.values import FloatArray, Kind, Mask, Values
from facturum.language.core.literals import truths
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Unit
from facturum.language.operations.numbers.transforms import Elementwise
from facturum.language.tree.nodes import Kinds, Node, Type, finite, need_number
from facturum.language.tree.options import AT_LEAST, NUMBER, argument, arguments, option
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows
from facturum.numerics.exact.sums import added_in_order


class Across(Node):
    """A number from the values that several items have in a row; missing where too few are there."""

    distributes: ClassVar[bool] = False
    least: ClassVar[int] = 1  # how many values it needs in any case
    items: tuple[Node, ...]
    at_least: int | str

    @abstractmethod
    def combine(self, values: FloatArray, there: Mask) -> Any:
        """Return one number for each row.

        Args:
            values: (items, rows), 0 where there is none.
            there: (items, rows), which values are there.
        """

    def check(self, kinds: Kinds) -> Type:
        for item in self.items:
            need_number(self, item, kinds)
        if isinstance(self.at_least, int) and self.at_least > len(self.items):
            raise self.error(
                f"{self.name} has {len(self.items)} items, and {self.at_least} values are asked for",
                f"Write at_least={len(self.items)} or fewer.",
            )
        if len(self.items) < self.least:
            raise self.error(f"{self.name} needs {self.least} items", "Name more variables.")
        return Type(Kind.NUMBER)

    def scored(self) -> Self:
        return self

    def needed(self) -> int:
        """Return how many values a row needs."""
        return max(len(self.items) if isinstance(self.at_least, str) else self.at_least, self.least)

    def values(self, rows: Rows) -> Values:
        items = [rows.evaluate(item).full(rows.length) for item in self.items]
        there = np.array([value.present_mask() for value in items])
        values = np.array([np.where(mask, v.numbers(), 0.0) for v, mask in zip(items, there, strict=True)])
        enough = np.count_nonzero(there, axis=0) >= self.needed()
        with np.errstate(all="ignore"):
            data = self.combine(values, there)
        return finite(self, rows, data, None if enough.all() else enough)

    def valid(self, rows: Rows) -> Mask | None:
        count = np.zeros(rows.length, dtype=np.int64)
        for item in self.items:
            valid = rows.valid(item)
            count += 1 if valid is None else valid
        enough: Mask = count >= self.needed()
        return enough

    def meaning(self) -> Meaning:
        return Unit(self.subject(), node=self)

    def subject(self) -> str:
        shown = [item.subject() for item in self.items]
        several = ", ".join(shown) if len(shown) <= 4 else f"{shown[0]}, .., {shown[-1]} ({len(shown)} items)"
        return f"the {self.name.replace('_', ' ')} {several}"


@operation
class MeanOf(Across):
    """The mean of several variables in a row.

    Example: `mean_of(q_1, q_2, reverse(q_3, 1, 5), at_least=2)`, `mean_of(matching("q_*"))`.
    """

    sums_up: ClassVar[bool] = True
    items: tuple[Node, ...] = arguments("numbers", spread=True)
    at_least: int | str = option(AT_LEAST, "how many values a row needs", default="all")

    def combine(self, values: FloatArray, there: Mask) -> Any:
        return np.divide(added_in_order(values), np.count_nonzero(there, axis=0))


@operation
class SumOf(Across):
    """The sum of several variables in a row; with `at_least`, of those present.

    Example: `sum_of(adults, children)`.
    """

    sums_up: ClassVar[bool] = True
    items: tuple[Node, ...] = arguments("numbers", spread=True)
    at_least: int | str = option(AT_LEAST, "how many values a row needs", default="all")

    def combine(self, values: FloatArray, there: Mask) -> Any:
        return added_in_order(values)


@operation
class ProductOf(Across):
    """The product of several variables in a row; with `at_least`, of those present.

    Example: `product_of(beds, nights, share)`.
    """

    items: tuple[Node, ...] = arguments("numbers", spread=True)
    at_least: int | str = option(AT_LEAST, "how many values a row needs", default="all")

    def combine(self, values: FloatArray, there: Mask) -> Any:
        return reduce(np.multiply, np.where(there, values, 1.0))


@operation
class SmallestOf(Across):
    """The smallest of several variables in a row.

    Example: `smallest_of(price_low, price_high)`.
    """

    items: tuple[Node, ...] = arguments("numbers", spread=True)
    at_least: int | str = option(AT_LEAST, "how many values a row needs", default="all")

    def combine(self, values: FloatArray, there: Mask) -> Any:
        return np.min(np.where(there, values, np.inf), axis=0)


@operation
class LargestOf(Across):
    """The largest of several variables in a row.

    Example: `largest_of(price_low, price_high)`.
    """

    items: tuple[Node, ...] = arguments("numbers", spread=True)
    at_least: int | str = option(AT_LEAST, "how many values a row needs", default="all")

    def combine(self, values: FloatArray, there: Mask) -> Any:
        return np.max(np.where(there, values, -np.inf), axis=0)


@operation
class SpreadOf(Across):
    """The sample standard deviation (divisor n - 1) of several variables in a row; it needs two values.

    Example: `spread_of(q_1, q_2, q_4, at_least=3)`.
    """

    least: ClassVar[int] = 2
    items: tuple[Node, ...] = arguments("numbers", spread=True)
    at_least: int | str = option(AT_LEAST, "how many values a row needs", default="all")

    def combine(self, values: FloatArray, there: Mask) -> Any:
        count = np.count_nonzero(there, axis=0)
        about = np.where(there, np.subtract(values, np.divide(added_in_order(values), count)), 0.0)
        return np.sqrt(np.divide(added_in_order(np.multiply(about, about)), count - 1))


@operation
class CountOf(Across):
    """How many of several conditions hold in a row; with `at_least`, of those that are known.

    Example: `count_of(q_1 >= 4, q_2 >= 4, price > 50)`.
    """

    items: tuple[Node, ...] = arguments("conditions", spread=True)
    at_least: int | str = option(AT_LEAST, "how many conditions must be known", default="all")

    def combine(self, values: FloatArray, there: Mask) -> Any:
        return np.count_nonzero(truths(Values(values)), axis=0).astype(np.float64)


@operation
class Reverse(Elementwise):
    """The answer to an item worded in reverse, `low + high - x`; a value outside the scale is an error.

    Example: `reverse(q_3, 1, 5)`.
    """

    x: Node = argument("a number")
    low: float = option(NUMBER, "the lowest answer")
    high: float = option(NUMBER, "the highest answer")

    def check(self, kinds: Kinds) -> Type:
        if not self.low < self.high:
            raise self.error(f"the scale runs from {self.low} to {self.high}", "Write the lowest answer first.")
        return super().check(kinds)

    def compute(self, x: FloatArray) -> FloatArray:
        return np.subtract(float(self.low) + float(self.high), x)

    def domain(self, x: FloatArray) -> tuple[Mask, str]:
        return (x >= self.low) & (x <= self.high), (
            f"The scale runs from {self.low} to {self.high}: correct these cells, or write "
            f"missing_if({self.x}, not {self.low} <= {self.x} <= {self.high}) inside."
        )

    def meaning(self) -> Meaning:
        return Unit(self.subject(), node=self)

    def subject(self) -> str:
        return f"{self.x.subject()} (reversed)"
