"""Statistics of a variable, over all learning rows or within groups: a number, or a lookup by group."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from facturum.data.values import FloatArray, Kind, Label, Values, and_masks, plain_number
from facturum.errors import DataError
from facturum.language.core.literals import Number
from facturum.language.learning.groups import GroupQuestion, Key, in_order
from facturum.language.learning.samples import TOO_FAR, finite_numbers, present, some, spread_of
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Unit
from facturum.language.operations.categories.lookup import Lookup
from facturum.language.tree.nodes import Kinds, Node, Question, Type, need_number
from facturum.language.tree.options import MISSING, SHARE, Absent, argument, arguments, option
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows
from facturum.numerics.exact.order_statistics import RankSearch, quantile_between, quantiles_of, search_for
from facturum.numerics.exact.sums import as_float, exact_sum, exact_sum_of_squares


@dataclass(frozen=True)
class MeanQuestion(Question):
    """The mean of a number, from an exact sum rounded once."""

    inputs: tuple[Node, ...]
    answer: Callable[[float], Node]

    def observe(self, values: Sequence[Values]) -> tuple[int, int]:
        x = present(values)[0].numbers()
        return exact_sum(x), len(x)

    def merge(self, parts: Sequence[tuple[int, int]]) -> tuple[int, int]:
        return sum(total for total, _ in parts), sum(count for _, count in parts)

    def advance(self, merged: tuple[int, int]) -> Node:
        return self.answer(as_float(merged[0], some(merged[1], self.inputs[0])) + 0.0)


@dataclass(frozen=True)
class SpreadQuestion(Question):
    """The mean and the sample standard deviation, the squares summed exactly about the rounded mean."""

    inputs: tuple[Node, ...]
    answer: Callable[[float, float], Node]
    mean: float | None = None

    def observe(self, values: Sequence[Values]) -> tuple[int, int]:
        mean = self.mean
        if mean is None:
            x = present(values)[0].numbers()
            return exact_sum(x), len(x)
        what = f"'{self.inputs[0]}' lies farther from its mean than double precision reaches"
        about = finite_numbers(values[0], lambda x: np.subtract(x, mean), what)
        return exact_sum_of_squares(about), len(about)

    def merge(self, parts: Sequence[tuple[int, int]]) -> tuple[int, int]:
        return sum(total for total, _ in parts), sum(count for _, count in parts)

    def advance(self, merged: tuple[int, int]) -> Question | Node:
        total, count = merged
        if self.mean is None:
            return SpreadQuestion(self.inputs, self.answer, as_float(total, some(count, self.inputs[0])) + 0.0)
        return self.answer(self.mean, spread_of(total, count, self.inputs[0]))


@dataclass(frozen=True)
class QuantileQuestion(Question):
    """Quantiles of a number, exact, by counting on keys."""

    inputs: tuple[Node, ...]
    answer: Callable[[list[float]], Node]
    shares: tuple[float, ...]
    search: RankSearch | None = None

    def _search(self) -> RankSearch:
        return self.search or search_for(self.shares)

    def observe(self, values: Sequence[Values]) -> Any:
        return self._search().observe(present(values)[0].numbers())

    def merge(self, parts: Sequence[Any]) -> Any:
        return self._search().merge(parts)

    def advance(self, merged: Any) -> Question | Node:
        search = self._search().advance(merged)
        if search.values is None:
            return QuantileQuestion(self.inputs, self.answer, self.shares, search)
        some(len(search.values), self.inputs[0])
        return self.answer([quantile_between(search.values, share, search.count) + 0.0 for share in self.shares])


@dataclass(frozen=True)
class ExtremeQuestion(Question):
    """A statistic that is its own summary: the smallest of the smallest is the smallest."""

    inputs: tuple[Node, ...]
    statistic: Callable[[FloatArray], float]
    answer: Callable[[float], Node]

    def observe(self, values: Sequence[Values]) -> list[float]:
        x = present(values)[0].numbers()
        return [self.statistic(x)] if len(x) else []

    def merge(self, parts: Sequence[list[float]]) -> list[float]:
        values = [value for part in parts for value in part]
        return [self.statistic(np.array(values))] if values else []

    def advance(self, merged: list[float]) -> Node:
        some(len(merged), self.inputs[0])
        return self.answer(merged[0] + 0.0)


@dataclass(frozen=True)
class Together(Question):
    """Several questions of one operation, asked in common passes."""

    questions: tuple[Question | Node, ...]
    combine: Callable[[Sequence[Node]], Node]

    @property
    def inputs(self) -> tuple[Node, ...]:  # type: ignore[override]
        return tuple(node for question in self._open() for node in question.inputs)

    def _open(self) -> list[Question]:
        return [question for question in self.questions if isinstance(question, Question)]

    def observe(self, values: Sequence[Values]) -> list[Any]:
        pieces, start = [], 0
        for question in self._open():
            stop = start + len(question.inputs)
            pieces.append(question.observe(values[start:stop]))
            start = stop
        return pieces

    def seen(self, values: Sequence[Values]) -> int:
        first = self._open()[0]
        return first.seen(values[: len(first.inputs)])

    def merge(self, parts: Sequence[list[Any]]) -> list[Any]:
        return [question.merge([part[at] for part in parts]) for at, question in enumerate(self._open())]

    def advance(self, merged: list[Any]) -> Question | Node:
        rest = iter(merged)
        following = tuple(q.advance(next(rest)) if isinstance(q, Question) else q for q in self.questions)
        answers = [answers_by_group for answers_by_group in following if isinstance(answers_by_group, Node)]
        return self.combine(answers) if len(answers) == len(following) else Together(following, self.combine)


class Statistic(Node):
    """One number for all rows, or one for each group."""

    groups_by: ClassVar[frozenset[str]] = frozenset({"by"})
    pools: ClassVar[bool] = True
    x: Node
    by: tuple[Node, ...]

    @property
    def leaves_out(self) -> bool:
        return bool(self.by)

    def own_row(self) -> tuple[Node, ...]:
        return self.by

    def groupings(self) -> tuple[tuple[Node, ...], ...]:
        return (self.by,) if self.by else ()

    @abstractmethod
    def statistic(self, x: FloatArray) -> float:
        """Return the statistic of values held together."""

    def whole(self) -> Question:
        """Return the question for all rows together."""
        return ExtremeQuestion((self.x,), self.statistic, number)

    def check(self, kinds: Kinds) -> Type:
        need_number(self, self.x, kinds)
        return Type(Kind.NUMBER)

    def question(self, kinds: Kinds) -> Question:
        return GroupQuestion((self.x, *self.by), self.statistic, self._lookup) if self.by else self.whole()

    def values(self, rows: Rows) -> Values:
        raise self.unresolved()

    def valid(self, rows: Rows) -> Any:
        valid = None
        for key in self.by:
            valid = and_masks(valid, rows.valid(key))
        return valid

    def meaning(self) -> Meaning:
        return Unit(self.subject(), node=self)

    def subject(self) -> str:
        of = f"the {self.noun()} of {self.x.subject()}"
        return f"{of} in its {' and '.join(key.subject() for key in self.by)}" if self.by else of

    def noun(self) -> str:
        """Return what the statistic is called."""
        return self.name

    def _lookup(self, by_group: dict[tuple[Label | Absent, ...], float]) -> Node:
        return Lookup(self.by, table_of(by_group), MISSING)


def table_of(by_group: Mapping[tuple[Label | Absent, ...], float]) -> tuple[tuple[Key, Label | Absent], ...]:
    """Return numbers by group as a table that a lookup reads, in the order of the keys."""
    return tuple((key[0] if len(key) == 1 else key, plain_number(by_group[key] + 0.0)) for key in in_order(by_group))


def number(value: float) -> Number:
    """Return a number node, whole where the value is."""
    return Number(plain_number(value))


def mean_of_values(x: FloatArray) -> float:
    """Return the mean of values held together, from an exact sum rounded once."""
    return as_float(exact_sum(x), len(x))


def median_of_values(x: FloatArray) -> float:
    """Return the median of values held together."""
    return quantiles_of(x, [0.5])[0]


@operation
class Mean(Statistic):
    """The mean over the learning rows, or within groups.

    Example: `price - mean(price)`, `snow - mean(snow, by=[hut])`.
    """

    x: Node = argument("a number")
    by: tuple[Node, ...] = arguments("variables that form groups", default=())

    def statistic(self, x: FloatArray) -> float:
        return mean_of_values(x)

    def mean_within(self) -> tuple[Node, tuple[Node, ...]]:
        return self.x, self.by

    def whole(self) -> Question:
        return MeanQuestion((self.x,), number)


@operation
class Median(Statistic):
    """The median over the learning rows, or within groups.

    Example: `price > median(price)`.
    """

    x: Node = argument("a number")
    by: tuple[Node, ...] = arguments("variables that form groups", default=())

    def statistic(self, x: FloatArray) -> float:
        return median_of_values(x)

    def whole(self) -> Question:
        return QuantileQuestion((self.x,), lambda answers: number(answers[0]), (0.5,))


@operation
class Sd(Statistic):
    """The sample standard deviation (divisor n - 1) over the learning rows, or within groups.

    Example: `(price - mean(price)) / sd(price)`.
    """

    x: Node = argument("a number")
    by: tuple[Node, ...] = arguments("variables that form groups", default=())

    def statistic(self, x: FloatArray) -> float:
        if len(x) < 2:
            return 0.0
        with np.errstate(all="ignore"):
            about = np.subtract(x, as_float(exact_sum(x), len(x)))
        if not np.isfinite(about).all():
            raise DataError(f"'{self.x}' lies farther from its mean than double precision reaches", remedy=TOO_FAR)
        return spread_of(exact_sum_of_squares(about), len(x), self.x)

    def whole(self) -> Question:
        return SpreadQuestion((self.x,), lambda mean, spread: number(spread))


@dataclass(frozen=True)
class TotalQuestion(MeanQuestion):
    """The sum of a number, exact and rounded once."""

    def advance(self, merged: tuple[int, int]) -> Node:
        some(merged[1], self.inputs[0])
        return self.answer(_total(merged[0], self.inputs[0]) + 0.0)


def _total(total: int, x: Node) -> float:
    """Return an exact sum as a double."""
    try:
        return as_float(total, 1)
    except OverflowError:
        raise DataError(f"the sum of '{x}' exceeds double precision", remedy=TOO_FAR) from None


@operation
class Total(Statistic):
    """The sum over the learning rows, or within groups.

    Example: `beds / total(beds, by=[valley])`.
    """

    x: Node = argument("a number")
    by: tuple[Node, ...] = arguments("variables that form groups", default=())

    def statistic(self, x: FloatArray) -> float:
        return _total(exact_sum(x), self.x)

    def whole(self) -> Question:
        return TotalQuestion((self.x,), number)


@operation
class Smallest(Statistic):
    """The smallest value over the learning rows, or within groups.

    Example: `altitude - smallest(altitude)`.
    """

    x: Node = argument("a number")
    by: tuple[Node, ...] = arguments("variables that form groups", default=())

    def statistic(self, x: FloatArray) -> float:
        return float(np.min(x))


@operation
class Largest(Statistic):
    """The largest value over the learning rows, or within groups.

    Example: `beds / largest(beds, by=[valley])`.
    """

    x: Node = argument("a number")
    by: tuple[Node, ...] = arguments("variables that form groups", default=())

    def statistic(self, x: FloatArray) -> float:
        return float(np.max(x))


@operation
class Quantile(Statistic):
    """A quantile over the learning rows, or within groups, interpolated between order statistics.

    Example: `price > quantile(price, 0.9)`.
    """

    x: Node = argument("a number")
    share: float = option(SHARE, "how much of the rows lies below")
    by: tuple[Node, ...] = arguments("variables that form groups", default=())

    def noun(self) -> str:
        return f"{self.share:g} quantile"

    def statistic(self, x: FloatArray) -> float:
        return quantiles_of(x, [self.share])[0]

    def whole(self) -> Question:
        return QuantileQuestion((self.x,), lambda answers: number(answers[0]), (self.share,))
