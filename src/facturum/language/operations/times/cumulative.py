"""Figures of a unit up to a row: sums, means, extremes, counts, and how long ago a condition last held."""

from __future__ import annotations

from abc import abstractmethod
from itertools import pairwise
from typing import Any, ClassVar

import numpy as np

from facturum.data.time.periods import period_numbers
from facturum.data.time.steps import PERIODS
from facturum.data.values import Array, FloatArray, Kind, Mask, Values
from facturum.language.core.literals import Name, Text, truths
from facturum.language.meanings.meaning import STEP, Meaning
from facturum.language.meanings.numbers import Unit
from facturum.language.operations.times.along import Carried
from facturum.language.operations.times.periods import PeriodOf
from facturum.language.tree.nodes import Kinds, Node, Type, finite, need_number
from facturum.language.tree.options import POSITIVE, argument, arguments, option
from facturum.language.tree.registry import node, operation
from facturum.language.tree.rows import Rows
from facturum.language.tree.traits import Surroundings

SINCE = "a condition at which it begins anew, or in quotes the step of time that it begins with"


@node
class OwnPeriod(Node):
    """The number of the period in which a row lies."""

    def check(self, kinds: Kinds) -> Type:
        return Type(Kind.NUMBER)

    def values(self, rows: Rows) -> Values:
        period, there = rows.periods()
        return Values(period.astype(np.float64), there)


@node
class Marked(Node):
    """Values beside marks, by which a state begins anew: where a condition holds, or another period begins."""

    x: Node = argument("what is carried")
    mark: Node = argument("a condition or a period")

    def check(self, kinds: Kinds) -> Type:
        return kinds.type_of(self.x)

    def values(self, rows: Rows) -> Values:
        x, marks = rows.evaluate(self.x).full(rows.length), self._marks(rows)
        data = np.empty(rows.length, dtype=[("x", x.data.dtype), ("mark", marks.dtype)])
        data["x"], data["mark"] = x.data, marks
        return Values(data, x.valid, x.labels)

    def _marks(self, rows: Rows) -> Array:
        """Return whether the condition holds, or the number of the period, for each row."""
        if (period := self.mark.as_period()) is not None:
            time = rows.evaluate(period[0]).full(rows.length)
            return period_numbers(np.where(time.present_mask(), time.data, 0), period[1])
        condition = rows.evaluate(self.mark).full(rows.length)
        return truths(condition) & condition.present_mask()

    def valid(self, rows: Rows) -> Mask | None:
        return rows.valid(self.x)


class Cumulative(Carried):
    """A number that follows from the values of a unit up to the row's own."""

    family: ClassVar[str] = "time"
    since: tuple[Node, ...]

    @abstractmethod
    def run(self, values: Values, state: Any) -> tuple[Values, Any]:
        """Return the values of some rows that follow one another, and the state after them; see `carry`."""

    def settled(self, around: Surroundings) -> Node:
        if not self.since or not isinstance(self.since[0], Text):
            return self
        step = self.since[0].value
        if step not in PERIODS:
            what = f"'{step}' is not a valid step of time"
            raise self.since[0].error(what, "Write 'year', 'quarter' or 'month', or a condition.")
        if around.time is None:
            raise self.since[0].error("the rows have no time, and so no periods", "Write a condition.")
        return self.replaced(since=(PeriodOf(Name(around.time), step),))

    def check(self, kinds: Kinds) -> Type:
        self.check_since(kinds)
        return super().check(kinds)

    def check_since(self, kinds: Kinds) -> None:
        """Refuse anything but one condition or one step of time."""
        if len(self.since) > 1:
            raise self.error("since is one condition", "Write or between conditions.")
        for mark in self.since:
            if mark.as_period() is None:
                need_number(self, mark, kinds)

    def values(self, rows: Rows) -> Values:
        read = Marked(self.x, self.since[0]) if self.since else self.x
        values = rows.frame(read, (0,)).carried(read, self, self.carry)
        return finite(self, rows, values.data, values.valid)

    def valid(self, rows: Rows) -> Mask | None:
        return rows.valid(self.x)

    def carry(self, values: Values, state: Any) -> tuple[Values, Any]:
        if not self.since:
            return self.run(values, state)
        before, inner = (None, None) if state is None else state
        marks = values.data["mark"]
        first = marks[0] if before is None else before
        starts = marks if marks.dtype == bool else np.diff(marks, prepend=first) != 0
        edges = np.unique([0, *np.flatnonzero(starts).tolist(), len(marks)]).tolist()
        parts = []
        for low, high in pairwise(edges):
            there = None if values.valid is None else values.valid[low:high]
            fresh = None if starts[low] else inner
            part, inner = self.run(Values(values.data["x"][low:high], there, values.labels), fresh)
            parts.append(part)
        masks = [part.present_mask() for part in parts]
        made = Values(np.concatenate([part.data for part in parts]), np.concatenate(masks))
        return made, (marks[-1], inner)

    def subject(self) -> str:
        return f"the {self.noun()} {self.x.subject()} {self._stretch()}"

    def noun(self) -> str:
        """Return what the figure is called, up to the argument."""
        return f"{self.name.removeprefix('cumulative_')} of"

    def _stretch(self) -> str:
        if not self.since:
            return "so far"
        period = self.since[0].as_period()
        return f"since {self.since[0].subject()} last held" if period is None else f"in the {period[1]} so far"


def _accumulated(work: np.ufunc, values: Values, neutral: float, state: Any) -> tuple[Array, float]:
    """Return what comes of the values present, one after the other, from a state on."""
    numbers = np.where(values.present_mask(), values.numbers(), neutral)
    with np.errstate(all="ignore"):
        found = work.accumulate(np.concatenate([[neutral if state is None else state], numbers]))
    return found[1:], float(found[-1])


def _counts(values: Values, state: Any) -> tuple[FloatArray, float]:
    counts = np.cumsum(values.present_mask()) + (0.0 if state is None else state)
    return counts, float(counts[-1])


@operation
class CumulativeSum(Cumulative):
    """The sum of the values of the unit up to the row's own; a missing value adds nothing, and has no sum.

    Example: `cumulative_sum(stays)`, `cumulative_sum(stays, since="year")`.
    """

    x: Node = argument("a number")
    since: tuple[Node, ...] = arguments(SINCE, default=())

    def run(self, values: Values, state: Any) -> tuple[Values, Any]:
        sums, after = _accumulated(np.add, values, 0.0, state)
        return Values(sums, values.valid), after


@operation
class CumulativeMean(Cumulative):
    """The mean of the values of the unit up to the row's own; where the value is missing, so is the mean.

    Example: `cumulative_mean(price)`.
    """

    x: Node = argument("a number")
    since: tuple[Node, ...] = arguments(SINCE, default=())

    def run(self, values: Values, state: Any) -> tuple[Values, Any]:
        total, count = (None, None) if state is None else state
        sums, total = _accumulated(np.add, values, 0.0, total)
        counts, count = _counts(values, count)
        return Values(np.divide(sums, np.maximum(counts, 1.0)), values.valid), (total, count)


@operation
class CumulativeCount(Cumulative):
    """How many values the unit has up to the row's own.

    Example: `cumulative_count(stays)`.
    """

    x: Node = argument("any variable")
    since: tuple[Node, ...] = arguments(SINCE, default=())

    def check(self, kinds: Kinds) -> Type:
        self.check_since(kinds)
        kinds.along_time(self)
        kinds.type_of(self.x)
        return Type(Kind.NUMBER)

    def noun(self) -> str:
        return "number of values of"

    def run(self, values: Values, state: Any) -> tuple[Values, Any]:
        counts, after = _counts(values, state)
        return Values(counts), after

    def valid(self, rows: Rows) -> Mask | None:
        return None


@operation
class CumulativeLargest(Cumulative):
    """The largest value of the unit up to the row's own; where the value is missing, so is this.

    Example: `cumulative_largest(snow)`.
    """

    x: Node = argument("a number")
    since: tuple[Node, ...] = arguments(SINCE, default=())

    def run(self, values: Values, state: Any) -> tuple[Values, Any]:
        found, after = _accumulated(np.maximum, values, -np.inf, state)
        return Values(np.where(np.isfinite(found), found, 0.0), values.valid), after

    def noun(self) -> str:
        return "largest value of"


@operation
class CumulativeSmallest(Cumulative):
    """The smallest value of the unit up to the row's own; where the value is missing, so is this.

    Example: `cumulative_smallest(price, since="year")`.
    """

    x: Node = argument("a number")
    since: tuple[Node, ...] = arguments(SINCE, default=())

    def run(self, values: Values, state: Any) -> tuple[Values, Any]:
        found, after = _accumulated(np.minimum, values, np.inf, state)
        return Values(np.where(np.isfinite(found), found, 0.0), values.valid), after

    def noun(self) -> str:
        return "smallest value of"


@operation
class ExponentialAverage(Cumulative):
    """The mean of the values up to the row's own, the weight of each halved every `half_life` rows of the unit.

    Example: `exponential_average(stays, half_life=6)`.
    """

    x: Node = argument("a number")
    half_life: float = option(POSITIVE, "after how many rows a value counts half")
    since: tuple[Node, ...] = arguments(SINCE, default=())

    def run(self, values: Values, state: Any) -> tuple[Values, Any]:
        total, weight = (0.0, 0.0) if state is None else state
        decay = 0.5 ** (1 / self.half_life)
        found = np.zeros(len(values.data))
        pairs = zip(values.numbers().tolist(), values.present_mask().tolist(), strict=True)
        for at, (number, there) in enumerate(pairs):
            total, weight = decay * total, decay * weight
            if there:
                total, weight = total + number, weight + 1.0
                found[at] = total / weight
        return Values(found, values.valid), (total, weight)

    def noun(self) -> str:
        return "exponential average of"


@operation
class PeriodsSinceLast(Carried):
    """How many periods ago a condition last held in the unit, 0 where it holds; missing before it first did.

    Example: `periods_since_last(closed == "yes")`.
    """

    family: ClassVar[str] = "time"
    x: Node = argument("a condition")

    def values(self, rows: Rows) -> Values:
        read = Marked(OwnPeriod(), self.x)
        return rows.frame(read, (0,)).carried(read, self, self.carry)

    def valid(self, rows: Rows) -> Mask | None:
        return rows.evaluate(self).valid

    def decided_by(self) -> tuple[Node, ...]:
        return (self.x,)

    def carry(self, values: Values, state: Any) -> tuple[Values, Any]:
        periods, holds = values.data["x"], values.data["mark"] & values.present_mask()
        start = -np.inf if state is None else state
        last = np.maximum.accumulate(np.concatenate([[start], np.where(holds, periods, -np.inf)]))
        known = np.isfinite(last[1:]) & values.present_mask()
        return Values(np.where(known, periods - np.where(known, last[1:], 0.0), 0.0), known), float(last[-1])

    def subject(self) -> str:
        return f"the number of {STEP}s since {self.x.subject()} last held"

    def missing_because(self) -> str:
        return f"{self.x.subject()} has not held before"


@operation
class PlaceInUnit(Node):
    """The place of a row among those of its unit, from 1, in the order of time.

    Example: `place_in_unit()`, `log(place_in_unit())`.
    """

    family: ClassVar[str] = "time"
    carries: ClassVar[bool] = True

    @property
    def along_time(self) -> bool:
        return True

    def check(self, kinds: Kinds) -> Type:
        kinds.along_time(self)
        return Type(Kind.NUMBER)

    def values(self, rows: Rows) -> Values:
        return rows.frame(OwnPeriod(), (0,)).carried(OwnPeriod(), self, self._carry)

    def valid(self, rows: Rows) -> Mask | None:
        return None

    @staticmethod
    def _carry(values: Values, state: Any) -> tuple[Values, Any]:
        places = np.arange(1.0, len(values.data) + 1.0) + (0.0 if state is None else state)
        return Values(places), float(places[-1])

    def meaning(self) -> Meaning:
        return Unit("the place in the unit", node=self)
