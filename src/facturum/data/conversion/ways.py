"""The ways in which a variable is brought to another step."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, TypeAlias, get_args

How: TypeAlias = Literal[
    "mean", "sum", "first", "last", "smallest", "largest", "median", "count", "mode", "repeat", "linear", "cubic",
    "spread", "smooth_total", "smooth_mean",
]  # fmt: skip


@dataclass(frozen=True)
class Way:
    """A way of conversion.

    Args:
        meaning: in words, for the person who chooses.
        longer: whether it brings shorter periods to longer ones, or longer to shorter.
        reads_later: whether a value depends on later periods.
        same_kind: whether it keeps categories, truth values and times what they are.
    """

    meaning: str
    longer: bool = False
    reads_later: bool = False
    same_kind: bool = False


WAYS: dict[How, Way] = {
    "mean": Way("the average, for prices, rates and levels", longer=True),
    "sum": Way("the total, for amounts that add up", longer=True),
    "first": Way("the first value", longer=True, same_kind=True),
    "last": Way("the last value, for stocks", longer=True, same_kind=True),
    "smallest": Way("the smallest value", longer=True),
    "largest": Way("the largest value", longer=True),
    "median": Way("the middle value", longer=True),
    "count": Way("how many values there are", longer=True),
    "mode": Way("the most frequent value", longer=True, same_kind=True),
    "repeat": Way("the same value in each shorter period", same_kind=True),
    "linear": Way("straight lines through dated values", reads_later=True),
    "cubic": Way("a smooth curve through dated values", reads_later=True),
    "spread": Way("a total divided by days"),
    "smooth_total": Way("the smoothest path whose totals are those given", reads_later=True),
    "smooth_mean": Way("the smoothest path whose means are those given", reads_later=True),
}
assert tuple(WAYS) == get_args(How)  # which a type cannot be made of
MEANINGS: dict[str, str] = {how: way.meaning for how, way in WAYS.items()}
LONGER: tuple[str, ...] = tuple(how for how, way in WAYS.items() if way.longer)
SHORTER: tuple[str, ...] = tuple(how for how, way in WAYS.items() if not way.longer)
READS_LATER: tuple[str, ...] = tuple(how for how, way in WAYS.items() if way.reads_later)
SAME_KIND: tuple[str, ...] = tuple(how for how, way in WAYS.items() if way.same_kind)
