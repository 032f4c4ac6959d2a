"""Everyday expressions by a name: choices by condition, ranges, shares, growth; each stands for one of others."""

from __future__ import annotations

from functools import reduce
from typing import ClassVar, Self

from facturum.language.core.arithmetic import Divide
from facturum.language.core.literals import List, Truth
from facturum.language.core.logic import And, Comparison, Conditional, Or
from facturum.language.core.shorthand import Shorthand
from facturum.language.operations.absent.missing import IsMissing
from facturum.language.operations.numbers.counts import Count
from facturum.language.operations.numbers.statistics import Total
from facturum.language.operations.numbers.transforms import Log
from facturum.language.operations.times.along import Difference, PercentChange
from facturum.language.tree.nodes import Node
from facturum.language.tree.options import FLAG, argument, arguments, one_of, option, whole_from
from facturum.language.tree.registry import operation
from facturum.language.tree.writer import ATOM, Writer


@operation
class Between(Shorthand):
    """Whether a value lies from `low` to `high`, both included.

    It stands for `x >= low and x <= high`.

    Example: `between(price, 20, 40)`, `between(month, "2019-06", "2019-09")`.
    """

    x: Node = argument("a number, an ordered category or a time")
    low: Node = argument("the lowest value")
    high: Node = argument("the highest value")

    def spelled(self) -> Node:
        return And(Comparison((self.x, self.low), (">=",)), Comparison((self.x, self.high), ("<=",)))


class OfSeveral(Shorthand):
    """A shorthand for several expressions brought together."""

    distributes: ClassVar[bool] = False
    items: tuple[Node, ...]

    def gathered(self) -> Self:
        members = [part for item in self.items for part in (item.members if isinstance(item, List) else (item,))]
        if not members:
            raise self.error("the list is empty", "Name at least one variable in it.")
        return self.replaced(items=tuple(members))


@operation
class AnyOf(OfSeveral):
    """Whether one of several conditions holds, even if others are missing.

    It stands for `a or b or ..`.

    Example: `any_of(open == "yes", price < 20, beds > 60)`, `any_of(matching("has_*"))`.
    """

    items: tuple[Node, ...] = arguments("conditions", spread=True)

    def spelled(self) -> Node:
        return reduce(Or, self.items) if len(self.items) > 1 else Or(self.items[0], Truth(False))


@operation
class AllOf(OfSeveral):
    """Whether all of several conditions hold; false where one does not, even if others are missing.

    It stands for `a and b and ..`.

    Example: `all_of(open == "yes", price < 20)`, `all_of(matching("has_*"))`.
    """

    items: tuple[Node, ...] = arguments("conditions", spread=True)

    def spelled(self) -> Node:
        return reduce(And, self.items) if len(self.items) > 1 else And(self.items[0], Truth(True))


@operation
class FirstPresent(OfSeveral):
    """The first of several values that is not missing.

    It stands for `b if is_missing(a) else a`.

    Example: `first_present(price, price_before, 30)`.
    """

    items: tuple[Node, ...] = arguments("values of one kind", spread=True)

    def spelled(self) -> Node:
        made = self.items[-1]
        for item in reversed(self.items[:-1]):
            made = Conditional(made, IsMissing(item), item)
        return made


@operation
class Cases(Shorthand):
    """The value written beside the first condition that holds, or `otherwise` where none does.

    It stands for `a if p else b if q else ..`; where a condition is missing before one holds, so is the value.

    Example: `cases({price > 60: "dear", price > 30: "fair"}, "cheap")`.
    """

    distributes: ClassVar[bool] = False
    branches: tuple[Node, ...] = arguments("a value for each condition", pairs=True)
    otherwise: Node = argument("the value where no condition holds")

    def spelled(self) -> Node:
        made = self.otherwise
        for condition, value in reversed(self._pairs()):
            made = Conditional(value, condition, made)
        return made

    def written(self, writer: Writer) -> tuple[str, int]:
        branches = ", ".join(f"{writer.text(condition)}: {writer.text(value)}" for condition, value in self._pairs())
        return f"cases({{{branches}}}, {writer.text(self.otherwise)})", ATOM

    def _pairs(self) -> list[tuple[Node, Node]]:
        return list(zip(self.branches[::2], self.branches[1::2], strict=True))


@operation
class ShareOfGroup(Shorthand):
    """What a number is of the sum of its group.

    It stands for `x / total(x, by=[..])`.

    Example: `share_of_group(beds, by=[valley])`.
    """

    groups_by: ClassVar[frozenset[str]] = frozenset({"by"})
    x: Node = argument("a number")
    by: tuple[Node, ...] = arguments("variables that form groups")

    def spelled(self) -> Node:
        return Divide(self.x, Total(self.x, self.by))


@operation
class FrequencyOf(Shorthand):
    """In how many learning rows the category of the row occurs, or in what share of them.

    It stands for `count(x, by=[x])`, for a share divided by `count(x)`.

    Example: `frequency_of(access)`, `frequency_of(access, share=True)`.
    """

    x: Node = argument("a category")
    share: bool = option(FLAG, "whether it is the share of the rows", default=False)

    def spelled(self) -> Node:
        within = Count(self.x, (self.x,))
        return Divide(within, Count(self.x)) if self.share else within


@operation
class Growth(Shorthand):
    """The relative change since `step` periods before: in percent, or the difference of logarithms.

    It stands for `percent_change(x, step)` or `difference(log(x), step=step)`.

    Example: `growth(stays, step=12)`, `growth(price, kind="log")`.
    """

    x: Node = argument("a number")
    step: int = option(whole_from(1), "how many periods lie between", default=1)
    kind: str = option(one_of("percent", "log"), "how it is told", default="percent")

    def spelled(self) -> Node:
        if self.kind == "percent":
            return PercentChange(self.x, self.step)
        return Difference(Log(self.x), step=self.step)
