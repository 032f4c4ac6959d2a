"""Where to cut numbers into bins: at multiples, at equal widths, at equal numbers of values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import numpy.typing as npt

from facturum.numerics.exact.order_statistics import RankSearch

FloatArray = npt.NDArray[np.float64]


def multiples(width: Decimal, low: float, high: float, closed: str) -> list[float]:
    """Return the multiples of a width that leave values on both sides.

    Example:
        >>> multiples(Decimal("0.1"), 0.05, 0.3, "left")
        [0.1, 0.2, 0.3]
    """
    each = Fraction(width)
    first, last = Fraction(low) // each, Fraction(high) // each + 1
    edges = [float(width * at) for at in range(int(first), int(last) + 1)]
    return [e for e in edges if (low < e <= high if closed == "left" else low <= e < high)]


def equal_widths(low: float, high: float, count: int) -> list[float]:
    """Return the edges of so many parts of equal width, those that differ.

    Example:
        >>> equal_widths(0.0, 10.0, 4)
        [2.5, 5.0, 7.5]
        >>> equal_widths(1.0, float(np.nextafter(1.0, 2.0)), 4)
        []
    """
    a, b = Fraction(low), Fraction(high)
    edges = [float(a + (b - a) * at / count) for at in range(1, count)]
    return sorted({edge for edge in edges if low < edge < high})


def halfway(a: float, b: float, closed: str) -> float:
    """Return the edge between two neighbouring values: halfway, or one of them where no number lies between.

    Example:
        >>> halfway(1.0, 2.0, "left"), halfway(0.0, 5e-324, "left"), halfway(0.0, 5e-324, "right")
        (1.5, 5e-324, 0.0)
    """
    middle = float((Fraction(a) + Fraction(b)) / 2)
    if closed == "left":
        return middle if middle > a else b
    return middle if middle < b else a


@dataclass(frozen=True)
class Tie:
    """What lies around a value that many rows share: how many are below it and equal, and its neighbours."""

    below: int
    equal: int
    before: float
    after: float


@dataclass(frozen=True)
class CutSearch:
    """The search for the edges that cut values into parts of equal numbers, in a few passes.

    A part's edge lies between the values at two neighbouring ranks. Where these are equal, a further pass looks for the
    nearest place at which values differ, so that equal values stay together.

    Args:
        parts: how many.
        closed: "left" or "right".
        ranks: the search for the values around each cut.
        ties: what lies around the values that a cut would divide.
        edges: the answer; fewer than wanted where values are too often equal.
    """

    parts: int
    closed: str
    ranks: RankSearch | None = None
    ties: dict[float, Tie] | None = None
    edges: tuple[float, ...] | None = None

    def _search(self) -> RankSearch:
        return self.ranks or RankSearch(lambda count: {r for c in self.cuts(count) for r in (c - 1, c)})

    def cuts(self, count: int) -> list[int]:
        """Return how many values lie below each cut: the nearest whole number to its share."""
        ranks = {(2 * at * count + self.parts) // (2 * self.parts) for at in range(1, self.parts)}
        return sorted(cut for cut in ranks if 0 < cut < count)

    @property
    def count(self) -> int:
        return self._search().count

    def _tied(self) -> list[float]:
        at = self._search().values or {}
        return sorted({at[cut] for cut in self.cuts(self.count) if at[cut - 1] == at[cut]})

    def observe(self, values: FloatArray) -> Any:
        search = self._search()
        if search.values is None:
            return search.observe(values)
        return {value: self._around(values, value) for value in self._tied()}

    @staticmethod
    def _around(values: FloatArray, value: float) -> Tie:
        lower, upper = values[values < value], values[values > value]
        return Tie(
            len(lower),
            len(values) - len(lower) - len(upper),
            float(lower.max(initial=-np.inf)),
            float(upper.min(initial=np.inf)),
        )

    def merge(self, parts: Sequence[Any]) -> Any:
        search = self._search()
        if search.values is None:
            return search.merge(parts)
        merged: dict[float, Tie] = {}
        for part in parts:
            for value, tie in part.items():
                old = merged.get(value, Tie(0, 0, -np.inf, np.inf))
                merged[value] = Tie(
                    old.below + tie.below,
                    old.equal + tie.equal,
                    max(old.before, tie.before),
                    min(old.after, tie.after),
                )
        return merged

    def advance(self, merged: Any) -> CutSearch:
        search = self._search()
        if search.values is None:
            following = replace(self, ranks=search.advance(merged))
            return (
                following._finished({})
                if following._search().values is not None and not following._tied()
                else following
            )
        return self._finished(merged)

    def _finished(self, ties: dict[float, Tie]) -> CutSearch:
        at, count = self._search().values or {}, self.count
        edges: set[float] = set()
        for number in range(1, self.parts):
            cut = (2 * number * count + self.parts) // (2 * self.parts)
            if not 0 < cut < count:
                continue
            if at[cut - 1] != at[cut]:
                edges.add(halfway(at[cut - 1], at[cut], self.closed))
                continue
            value = at[cut]
            tie = ties[value]
            places = [place for place in (tie.below, tie.below + tie.equal) if 0 < place < count]
            if places:
                nearest = min(places, key=lambda place: abs(Fraction(number * count, self.parts) - place))
                low, high = (tie.before, value) if nearest == tie.below else (value, tie.after)
                edges.add(halfway(low, high, self.closed))
        return replace(self, ties=ties, edges=tuple(sorted(edges)))

    def heaviest(self) -> tuple[float, float]:
        """Return the value that most rows share of the tied ones at a cut, and its share."""
        ties = self.ties or {}
        value = max(sorted(ties), key=lambda v: ties[v].equal)
        return value, ties[value].equal / self.count
