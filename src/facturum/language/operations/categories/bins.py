"""Numbers cut into bins: an ordered category whose edges are given or learned."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from functools import partial
from itertools import pairwise
from typing import Any, ClassVar, Self, TypeAlias

import numpy as np

from facturum.data.values import Array, FloatArray, Kind, Label, Labels, Mask, Values, plain_number
from facturum.errors import DataError, counted
from facturum.language.core.literals import Number
from facturum.language.core.logic import Comparison, equals
from facturum.language.learning.samples import present, some
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Curve
from facturum.language.operations.absent.missing import MISSING_OPTION, IsMissing, check_missing_name, missing_name
from facturum.language.tree.nodes import Kinds, Node, Question, Type, need_number
from facturum.language.tree.options import (
    EDGES,
    LABELS,
    POSITIVE,
    Absent,
    argument,
    one_of,
    option,
    whole_from,
)
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows
from facturum.numerics.shapes.cut_points import CutSearch, equal_widths, multiples

MAX_BINS = 1000
Edge: TypeAlias = float | tuple[float, float]


@dataclass(frozen=True)
class RangeQuestion(Question):
    """The smallest and the largest value."""

    inputs: tuple[Node, ...]
    answer: Callable[[float, float], Node]

    def observe(self, values: Sequence[Values]) -> list[tuple[float, float]]:
        x = present(values)[0].numbers()
        return [(float(np.min(x)), float(np.max(x)))] if len(x) else []

    def merge(self, parts: Sequence[list[tuple[float, float]]]) -> list[tuple[float, float]]:
        pairs = [pair for part in parts for pair in part]
        return [(min(low for low, _ in pairs), max(high for _, high in pairs))] if pairs else []

    def advance(self, merged: list[tuple[float, float]]) -> Node:
        some(len(merged), self.inputs[0])
        return self.answer(*merged[0])


@dataclass(frozen=True)
class WrittenQuestion(Question):
    """The names of bins whose edges are written: no row is looked at for them."""

    answer: Callable[[], Node]
    inputs: tuple[Node, ...] = ()

    def observe(self, values: Sequence[Values]) -> None:
        """Return nothing: there is nothing to observe."""

    def merge(self, parts: Sequence[None]) -> None:
        """Return nothing."""

    def advance(self, merged: None) -> Node:
        return self.answer()


@dataclass(frozen=True)
class CutQuestion(Question):
    """The edges that cut the values into parts of equal numbers."""

    inputs: tuple[Node, ...]
    answer: Callable[[CutSearch], Node]
    search: CutSearch

    def observe(self, values: Sequence[Values]) -> Any:
        return self.search.observe(present(values)[0].numbers())

    def merge(self, parts: Sequence[Any]) -> Any:
        return self.search.merge(parts)

    def advance(self, merged: Any) -> Question | Node:
        search = self.search.advance(merged)
        if search.edges is None:
            return CutQuestion(self.inputs, self.answer, search)
        some(search.count, self.inputs[0])
        return self.answer(search)


@operation
class Bins(Node):
    """A number cut into bins, as an ordered category; the bins at both ends are open.

    Give `edges`, the numbers between the bins; or `width`, for edges at its multiples; or `count`, for so many bins of
    equal width between the smallest and the largest value; or `quantiles`, for so many bins with equal numbers of rows,
    whose edges lie halfway between neighbouring observed values, so that equal values stay together. Edges may also be
    pairs, each with the first and the last value of a bin: what lies in no pair has no bin. `closed` says to which of
    two bins an edge itself belongs: "left", to the upper one. Resolving writes `edges` and `labels`.

    Example: `bins(altitude, edges=[1500, 2000])`, `bins(price, quantiles=4)`, `bins(beds, width=20, closed="right")`.
    """

    cuts_numbers: ClassVar[bool] = True
    x: Node = argument("a number")
    edges: tuple[Edge, ...] | None = option(
        EDGES, "the numbers between the bins, or a pair for each bin", learned=True, by_hand=True, default=None
    )
    width: float | None = option(POSITIVE, "how wide each bin is", default=None)
    count: int | None = option(whole_from(2, MAX_BINS), "how many bins of equal width", default=None)
    quantiles: int | None = option(whole_from(2, MAX_BINS), "how many bins of equal numbers of rows", default=None)
    labels: tuple[Label | Absent, ...] | None = option(
        LABELS, "the names of the bins, from the lowest", learned=True, by_hand=True, default=None
    )
    closed: str = option(one_of("left", "right"), "which end of a bin belongs to it", default="left")
    missing: str = option(
        MISSING_OPTION, "whether missing values are a bin of their own, or its name", default="propagate"
    )

    def check(self, kinds: Kinds) -> Type:
        need_number(self, self.x, kinds)
        ways = [self.width, self.count, self.quantiles]
        chosen = sum(way is not None for way in ways)
        if chosen > 1 or (chosen == 0 and self.edges is None):
            raise self.error(
                "bins are made in one way" if chosen else "bins need edges, a width, a count or quantiles",
                "Write one of edges=[..], width=.., count=.. or quantiles=...",
            )
        if chosen and self.edges is not None and self.labels is None:
            raise self.error("bins are made in one way", "Leave out edges, or the other way.")
        if self.edges is not None:
            self._check_edges(self.edges)
        if self.labels is not None:
            self._check_labels(self.labels)
        check_missing_name(self, self.missing, "a bin has the name", self.labels or ())
        known = None if self.edges is None or self.labels is None else self._order()
        return Type(Kind.ORDERED, labels=known)

    def _check_edges(self, edges: tuple[Edge, ...]) -> None:
        if len(edges) > MAX_BINS:
            raise self.error(f"there are {len(edges):,} edges, and at most {MAX_BINS} bins are made", "Write fewer.")
        lows = [edge[0] if isinstance(edge, tuple) else edge for edge in edges]
        for at, (low, following) in enumerate(pairwise(lows)):
            if not low < following:
                raise self.error(
                    f"the edges are not increasing: {edges[at]} comes before {edges[at + 1]}", "Sort them."
                )
        for edge in edges:
            if isinstance(edge, tuple) and edge[0] > edge[1]:
                raise self.error(f"the bin from {edge[0]} to {edge[1]} is empty", "Exchange its ends.")

    def _check_labels(self, labels: tuple[Label | Absent, ...]) -> None:
        if any(not isinstance(label, str) for label in labels):
            raise self.error("the labels of bins are texts", 'Write labels=["low", "high"].')
        if len(set(labels)) < len(labels):
            raise self.error("two bins have one label", "Give each its own.")
        wanted = self._size()
        if wanted is not None and len(labels) != wanted:
            raise self.error(f"there are {len(labels)} labels for {wanted} bins", "Write one for each bin.")

    def _size(self) -> int | None:
        if self.edges is not None:
            return len(self.edges) + (not self.paired)
        return self.count or self.quantiles

    @property
    def paired(self) -> bool:
        """Whether the edges are pairs, the ends of each bin."""
        return bool(self.edges) and isinstance((self.edges or (0,))[0], tuple)

    def question(self, kinds: Kinds) -> Question | None:
        if self.edges is not None:
            if self.labels is not None:
                return None
            return WrittenQuestion(partial(self._closed_with, self.edges))
        if self.quantiles is not None:
            search = CutSearch(self.quantiles, self.closed)
            return CutQuestion((self.x,), self._cut, search)
        if self.width is not None:
            return RangeQuestion((self.x,), partial(self._by_width, self.width))
        return RangeQuestion((self.x,), partial(self._by_count, self.learned(self.count)))

    def _cut(self, search: CutSearch) -> Node:
        possible = search.edges or ()
        if len(possible) < search.parts - 1:
            edges = ", ".join(str(plain_number(edge)) for edge in possible[:6])
            if search.ties:
                value, share = search.heaviest()
                why = f"{plain_number(value)} alone is the value of {100 * share:.0f} % of the rows"
            else:
                why = f"only {counted(search.count, 'row')} with a value"
            can = f"only {len(possible) + 1} bins are possible" if possible else "all rows have one value"
            raise DataError(
                f"'{self.x}' cannot be cut into {search.parts} bins of equal numbers; {can}: {why}",
                remedy=f"Write edges=[{edges}] for these bins, or fewer quantiles." if edges else "Leave it out.",
            )
        return self._closed_with(possible)

    def _by_count(self, wanted: int, low: float, high: float) -> Node:
        edges = equal_widths(low, high, wanted)
        if len(edges) < wanted - 1:
            raise DataError(
                f"'{self.x}' runs from {plain_number(low)} to {plain_number(high)}, too narrow for {wanted} "
                "bins of equal width",
                remedy="Leave it out, or write fewer bins.",
            )
        return self._closed_with(edges)

    def _by_width(self, width: float, low: float, high: float) -> Node:
        count = (Fraction(high) - Fraction(low)) / Fraction(width)
        if count > MAX_BINS:
            raise DataError(
                f"'{self.x}' runs from {plain_number(low)} to {plain_number(high)}: {number_words(count)} bins of "
                f"width {width}",
                remedy=f"Write a greater width; at most {MAX_BINS} bins are made.",
            )
        edges = multiples(Decimal(repr(width)), low, high, self.closed)
        if not edges:
            raise DataError(
                f"'{self.x}' runs from {plain_number(low)} to {plain_number(high)}: all of it is in one bin",
                remedy="Write a smaller width.",
            )
        return self._closed_with(edges)

    def _closed_with(self, edges: Sequence[Edge]) -> Node:
        plain: list[Edge] = [e if isinstance(e, tuple) else plain_number(e) for e in edges]
        closed = self.replaced(edges=tuple(plain))
        if self.labels is not None and len(self.labels) != closed._size():
            raise DataError(
                f"there are {len(self.labels)} labels for {closed._size()} bins", remedy="Write one for each."
            )
        labelled = closed if self.labels is not None else closed.replaced(labels=closed._own_labels())
        if self.own_missing and missing_name(self.missing) in (labelled.labels or ()) and self.missing != "category":
            raise DataError(f"a bin has the name {self.missing!r} already", remedy="Give missing values another name.")
        return labelled

    def binned(self) -> Self:
        return self

    def entry_count(self) -> int:
        return len(self.edges or ())

    @property
    def named_by_bounds(self) -> bool:
        return self.edges is not None and self.labels == self._own_labels()

    def _own_labels(self) -> tuple[str, ...]:
        edges = self.learned(self.edges)
        if self.paired:
            pairs = [edge for edge in edges if isinstance(edge, tuple)]
            texts = number_texts([end for pair in pairs for end in pair])
            return tuple(f"{a} to {b}" for a, b in zip(texts[::2], texts[1::2], strict=True))
        texts = number_texts([edge for edge in edges if not isinstance(edge, tuple)])
        first, last = ("under", "from") if self.closed == "left" else ("up to", "over")
        middle = [f"{a} to {b}" for a, b in pairwise(texts)]
        return (f"{first} {texts[0]}", *middle, f"{last} {texts[-1]}")

    def _order(self) -> Labels:
        """Return all labels, that of missing values last."""
        names = tuple(str(label) for label in self.labels or ())
        return (*names, self._missing_label()) if self.own_missing else names

    @property
    def own_missing(self) -> bool:
        """Whether missing values are a bin of their own."""
        return self.missing != "propagate"

    def _missing_label(self) -> str:
        name = missing_name(self.missing)
        while name in (self.labels or ()):
            name += "_"
        return name

    def values(self, rows: Rows) -> Values:
        inner = rows.evaluate(self.x)
        codes = self._codes(inner.numbers())
        valid = None if not self.paired or (codes >= 0).all() else codes >= 0
        if inner.valid is not None:
            if self.own_missing:
                codes = np.where(inner.valid, codes, len(self.labels or ()))
                valid = None if valid is None else valid | ~inner.valid
            else:
                valid = inner.valid if valid is None else valid & inner.valid
        return Values(codes, valid, self._order())

    def decided_by(self) -> tuple[Node, ...]:
        return (self.x,) if self.paired else ()

    def valid(self, rows: Rows) -> Mask | None:
        if self.paired:
            return rows.evaluate(self).valid
        return None if self.own_missing else rows.valid(self.x)

    def _codes(self, x: FloatArray) -> Array:
        edges = self.learned(self.edges)
        small = np.int8 if len(edges) < 100 else np.int16
        if not self.paired:
            return codes_between(x, np.array(edges, dtype=np.float64), self.closed, small)
        codes = np.full(len(x), -1, dtype=small)
        for at in reversed(range(len(edges))):  # where bins overlap, the first one has it
            low, high, low_in, high_in = self.interval(at)
            inside = (x >= low) if low_in else (x > low)
            inside &= (x <= high) if high_in else (x < high)
            codes[inside] = at
        return codes

    def interval(self, at: int) -> tuple[float, float, bool, bool]:
        """Return the ends of a bin, and whether each belongs to it."""
        edges: list[Any] = list(self.learned(self.edges))
        if not self.paired:
            low = float(edges[at - 1]) if at else -np.inf
            high = float(edges[at]) if at < len(edges) else np.inf
            return low, high, self.closed == "left", self.closed == "right"
        low, high = edges[at]
        meets_after = at + 1 < len(edges) and edges[at + 1][0] == high
        # where two bins meet, the first one has what both would take, so only its upper end is to be decided
        return float(low), float(high), True, not meets_after or self.closed == "right"

    def equal_to(self, label: Label) -> Node:
        """Return the condition of being in the bin of a label, over the number itself."""
        if self.paired:  # a value that lies in no bin has none
            return equals(self, label)
        if self.own_missing:
            return IsMissing(self.x) if label == self._missing_label() else equals(self, label)
        low, high, low_in, high_in = self.interval((self.labels or ()).index(label))
        operands: list[Node] = [self.x]
        operators: list[str] = []
        if np.isfinite(low) and np.isfinite(high):
            operands = [Number(plain_number(low)), self.x, Number(plain_number(high))]
            operators = ["<=" if low_in else "<", "<=" if high_in else "<"]
        elif np.isfinite(low):
            operands, operators = [self.x, Number(plain_number(low))], [">=" if low_in else ">"]
        else:
            operands, operators = [self.x, Number(plain_number(high))], ["<=" if high_in else "<"]
        return Comparison(tuple(operands), tuple(operators))

    def subject(self) -> str:
        return self.x.subject()

    def missing_because(self) -> str:
        return f"{self.x.subject()} lies in no bin"

    def meaning(self) -> Meaning:
        return Curve(Node.subject(self), node=self)


def codes_between(x: FloatArray, edges: FloatArray, closed: str, kind: type[np.signedinteger[Any]]) -> Array:
    """Return for each number how many of the edges it is beyond.

    Example:
        >>> codes_between(np.array([1.0, 2.0, 3.0]), np.array([2.0]), "left", np.int8).tolist()
        [0, 1, 1]
    """
    if len(edges) > 32:
        return np.searchsorted(edges, x, side="right" if closed == "left" else "left").astype(kind)
    codes: Array = np.zeros(len(x), dtype=kind)  # a few comparisons are faster than searching
    for edge in edges:
        codes += (x >= edge) if closed == "left" else (x > edge)
    return codes


def number_words(number: Fraction) -> str:
    """Return a number in four digits, however large.

    Example:
        >>> number_words(Fraction(12345)), number_words(Fraction(10) ** 400)
        ('1.234e+04', '1.000e+400')
    """
    try:
        return f"{float(number):.4g}"
    except OverflowError:
        return f"{Decimal(number.numerator) / Decimal(number.denominator):.4g}"


def number_texts(numbers: Sequence[float]) -> list[str]:
    """Return numbers in the fewest digits that keep them distinct.

    Example:
        >>> number_texts([1500.0, 2000.25])
        ['1500', '2000.25']
    """
    for digits in range(4, 18):
        texts = [f"{float(number):.{digits}g}" for number in numbers]
        plain = [str(int(float(t))) if float(t).is_integer() and abs(float(t)) < 1e15 else t for t in texts]
        close = all(abs(float(t) - n) <= 5e-7 * abs(n) for t, n in zip(texts, numbers, strict=True))
        if close and len(set(plain)) == len(set(numbers)):
            return plain
    return [repr(float(number)) for number in numbers]
