"""Missing values: indicators of them, invalid values set to missing, and winsorizing."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any, ClassVar

import numpy as np

from facturum.data.values import FloatArray, Kind, Label, Mask, Values, and_masks
from facturum.errors import nearest
from facturum.language.core.literals import Condition, truths
from facturum.language.meanings.categories import NoValue
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Unit
from facturum.language.operations.numbers.statistics import QuantileQuestion
from facturum.language.operations.numbers.transforms import Elementwise
from facturum.language.tree.nodes import Kinds, Node, Question, Type, need_number
from facturum.language.tree.options import NUMBERS, TEXT, Absent, argument, either, one_of, option
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows

MISSING_OPTION = either(one_of("propagate", "category"), TEXT)


def missing_name(given: str) -> str:
    """Return the name of the category of missing values.

    Example:
        >>> missing_name("category"), missing_name("unknown")
        ('missing', 'unknown')
    """
    return "missing" if given in ("category", "propagate") else given


def check_missing_name(node: Node, given: str, taken: str, labels: Collection[Label | Absent]) -> None:
    """Refuse a misspelled option, and a name that a category has already."""
    hint = nearest(given, ["propagate", "category"])
    if hint and given not in ("propagate", "category"):
        raise node.error(f"missing={given!r} is not a name for missing values{hint}", "Write another name.")
    name = missing_name(given)
    if name != "missing" and name in labels:
        raise node.error(f"{taken} {name!r} already", "Give missing values another name.")


@operation
class IsMissing(Condition):
    """1 where the expression is missing, 0 where it is not; never missing itself.

    Where the expression fails, as a logarithm of 0 does, this fails too.

    Example: `is_missing(snow_depth)`.
    """

    x: Node = argument("any expression")

    def check(self, kinds: Kinds) -> Type:
        return Type(Kind.TRUTH)

    def values(self, rows: Rows) -> Values:
        valid = (
            rows.evaluate(self.x).full(rows.length).valid
        )  # computed, so that a row in which x fails is an error here too
        return Values(np.zeros(rows.length, dtype=bool) if valid is None else ~valid)

    def valid(self, rows: Rows) -> Mask | None:
        return None

    def flagged(self) -> Node:
        return self.x

    def meaning(self) -> Meaning:
        wrong = [] if not isinstance(self.x, MissingIf) else self.x.conditions()
        return NoValue(self.x.subject(), tuple(condition.subject() for condition in wrong), node=self)


@operation
class MissingIf(Node):
    """The value, or missing where a condition holds; where the condition itself is missing, the value stays.

    Example: `missing_if(price, price < 0)`, `missing_if(beds, abs(beds - mean(beds)) > 3 * sd(beds))`.
    """

    distributes: ClassVar[bool] = False
    x: Node = argument("any value")
    condition: Node = argument("when the value is not valid")

    def check(self, kinds: Kinds) -> Type:
        type_of_x = kinds.type_of(self.x)
        need_number(self, self.condition, kinds)
        return type_of_x

    def values(self, rows: Rows) -> Values:
        inner = rows.evaluate(self.x).full(rows.length)
        return Values(inner.data, and_masks(inner.valid, self._fine(rows)), inner.labels)

    def valid(self, rows: Rows) -> Mask | None:
        return and_masks(rows.valid(self.x), self._fine(rows))

    def needs(self) -> tuple[Node, ...]:
        return (self.x,)

    def decided_by(self) -> tuple[Node, ...]:
        return (self.condition,)

    def invalid(self) -> tuple[Node, Node]:
        return self.x, self.condition

    def _fine(self, rows: Rows) -> Mask | None:
        wrong = self.wrong(rows)
        return ~wrong if wrong.any() else None

    def wrong(self, rows: Rows) -> Mask:
        """Return the rows in which the condition holds."""
        condition = rows.evaluate(self.condition).full(rows.length)
        holds: Mask = truths(condition)
        return holds if condition.valid is None else holds & condition.valid

    def conditions(self) -> list[Node]:
        """Return all conditions by which values are set to missing, of nested ones too."""
        inner = self.x.conditions() if isinstance(self.x, MissingIf) else []
        return [*inner, self.condition]

    def meaning(self) -> Meaning:
        return self.x.meaning()

    def subject(self) -> str:
        return self.x.subject()

    def missing_because(self) -> str:
        return f"{self.x.subject()} is set to missing where {self.condition.subject()}"


@operation
class Winsorize(Elementwise):
    """Values beyond two quantiles become those quantiles; resolving writes them as `at`.

    Example: `winsorize(price)`, `winsorize(price, shares=[0.05, 0.95])`.
    """

    family: ClassVar[str] = "missing"
    always_finite: ClassVar[bool] = True
    x: Node = argument("a number")
    shares: tuple[float, ...] = option(NUMBERS, "the shares of rows below each bound", default=(0.01, 0.99))
    at: tuple[float, ...] | None = option(
        NUMBERS, "the smallest and the largest value kept", learned=True, default=None
    )

    def check(self, kinds: Kinds) -> Type:
        if len(self.shares) != 2 or not 0 <= self.shares[0] < self.shares[1] <= 1:
            raise self.error("shares are two numbers from 0 to 1, the smaller first", "Write shares=[0.01, 0.99].")
        if self.at is not None and (len(self.at) != 2 or self.at[0] > self.at[1]):
            raise self.error("at holds the smallest and the largest value kept", "Write two numbers.")
        return super().check(kinds)

    def question(self, kinds: Kinds) -> Question | None:
        if self.at is not None:
            return None
        return QuantileQuestion((self.x,), lambda answers: self.replaced(at=tuple(answers)), self.shares)

    def compute(self, x: FloatArray) -> Any:
        low, high = self.learned(self.at)
        return np.minimum(np.maximum(x, float(low)), float(high))

    def meaning(self) -> Meaning:
        return Unit(self.subject(), node=self)

    def subject(self) -> str:
        ends = " winsorized" if self.at is None else f" winsorized at {self.at[0]:.6g} and {self.at[1]:.6g}"
        return f"{self.x.subject()}{ends}"
