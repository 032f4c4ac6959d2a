"""Rows grouped by the values of one or several variables, and what is learned within each group."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, TypeAlias

import numpy as np

from facturum.data.values import Array, FloatArray, Label, Labels, Values, label_text, plain_number
from facturum.errors import DataError, counted
from facturum.language.learning.samples import present, some
from facturum.language.tree.nodes import Node, Question
from facturum.language.tree.options import MISSING, Absent, literal_key

Group: TypeAlias = tuple[Label | Absent, ...]
Key: TypeAlias = Label | Absent | tuple[Label | Absent, ...]


def group_codes(values: Sequence[Values]) -> tuple[Array, list[tuple[Label | Absent, ...]]]:
    """Return a group number for each row, and each group's key.

    Args:
        values: one or several variables, with one element for each row, none of them missing.

    Example:
        >>> codes, keys = group_codes([Values(np.array([0, 1, 0]), None, ("a", "b"))])
        >>> codes.tolist(), keys
        ([0, 1, 0], [('a',), ('b',)])
    """
    codes: Array = np.zeros(len(values[0].data), dtype=np.int64)
    keys: list[tuple[Label | Absent, ...]] = [()]
    for value in values:
        value_codes, labels = _own_codes(value)
        combined = codes * len(labels) + value_codes
        present, codes = np.unique(combined, return_inverse=True)
        keys = [keys[at // len(labels)] + (labels[at % len(labels)],) for at in present.tolist()]
    return codes, keys


def _own_codes(value: Values) -> tuple[Array, Sequence[Label]]:
    if value.labels is not None:
        return value.data.astype(np.int64), value.labels
    distinct, codes = np.unique(value.data, return_inverse=True)
    return codes, [plain_number(item) for item in distinct.tolist()]


def in_order(keys: Iterable[tuple[Label | Absent, ...]]) -> list[tuple[Label | Absent, ...]]:
    """Return keys in their order: missing first, then numbers by size, then texts.

    Example:
        >>> in_order([("b", 2), ("b", 1), ("a", 7)])
        [('a', 7), ('b', 1), ('b', 2)]
    """

    def rank(part: Label | Absent) -> tuple[int, Any]:
        return (0, 0) if isinstance(part, Absent) else (2, part) if isinstance(part, str) else (1, part)

    return sorted(keys, key=lambda key: tuple(rank(part) for part in key))


class KeyIndex:
    """Finds, for each row, which of some keys its values are.

    Args:
        keys: the keys, each a tuple with a label (or missing) for each variable.

    Example:
        >>> index = KeyIndex([("a",), ("b",)])
        >>> index.find([Values(np.array([0, 1]), None, ("b", "c"))]).tolist()
        [1, -1]
    """

    def __init__(self, keys: Sequence[tuple[Label | Absent, ...]]) -> None:
        width = len(keys[0]) if keys else 1
        self._parts: list[dict[object, int]] = []
        combined = np.zeros(len(keys), dtype=np.int64)
        for at in range(width):
            place: dict[object, int] = {}
            parts = [place.setdefault(_part_key(key[at]), len(place)) for key in keys]
            combined = combined * (len(place) + 1) + np.array(parts, dtype=np.int64)
            self._parts.append(place)
        self._recodes: list[tuple[Labels, int, Array]] = []  # of the labels met, which are the same in all leaves
        self._order = np.argsort(combined, kind="stable")
        self._sorted = combined[self._order]

    def find(self, values: Sequence[Values]) -> Array:
        """Return the position of each row's key, or -1 where it is not among them."""
        if not len(self._sorted):
            return np.full(len(values[0].data), -1)
        combined: Array = np.zeros(len(values[0].data), dtype=np.int64)
        known = np.ones(len(values[0].data), dtype=bool)
        for part, value in enumerate(values):
            place = self._parts[part]
            codes = self._own(part, value)
            known &= codes >= 0
            combined = combined * (len(place) + 1) + codes
        at = np.minimum(np.searchsorted(self._sorted, combined), len(self._sorted) - 1)
        return np.where(known & (self._sorted[at] == combined), self._order[at], -1)

    def _own(self, part: int, value: Values) -> Array:
        missing = self._parts[part].get(MISSING, -1)
        if value.labels is not None:
            codes = self._recoded(part, value.labels)[value.data]
        else:
            numbers, positions = self._numbers[part]
            if not len(numbers):
                codes = np.full(len(value.data), -1)
            else:
                slot = np.minimum(np.searchsorted(numbers, value.numbers()), len(numbers) - 1)
                codes = np.where(numbers[slot] == value.numbers(), positions[slot], -1)
        return codes if value.valid is None else np.where(value.valid, codes, missing)

    def _recoded(self, part: int, labels: Labels) -> Array:
        """Return the place of each label among the keys, the last one for missing values."""
        for known, at, recode in self._recodes:
            if known is labels and at == part:
                return recode
        place = self._parts[part]
        recode = np.array([place.get(literal_key(label), -1) for label in labels] + [place.get(MISSING, -1)])
        self._recodes = [*self._recodes[-7:], (labels, part, recode)]
        return recode

    @cached_property
    def _numbers(self) -> list[tuple[Array, Array]]:
        """The numbers among the keys of each part, increasing, and their places."""
        found = []
        for place in self._parts:
            keys = [k[1] for k in place if isinstance(k, tuple) and k[0] == "number"]
            numbers = np.array(sorted(k for k in keys if float(k) == k), dtype=float)  # others equal no double
            found.append((numbers, np.array([place["number", number] for number in numbers.tolist()])))
        return found


def _part_key(label: Label | Absent) -> object:
    return MISSING if isinstance(label, Absent) else literal_key(label)


@dataclass(frozen=True)
class Grouped:
    """Values with their groups.

    Args:
        keys: of the groups, of which some may have no value.
        codes: of each value, the place of its group among these.
        x: the values.
    """

    keys: list[Group]
    codes: Array
    x: FloatArray


@dataclass(frozen=True)
class GroupQuestion(Question):
    """A statistic within groups: the values of each group are brought together, in any order.

    With ``whole``, a group that has rows and no value in any of them is refused.
    """

    inputs: tuple[Node, ...]
    statistic: Callable[[FloatArray], float]
    answer: Callable[[dict[tuple[Label | Absent, ...], float]], Node]
    whole: bool = False

    def observe(self, values: Sequence[Values]) -> Grouped:
        seen = group_codes(present(values[1:]))[1] if self.whole else []
        x, *by = present(values)
        codes, keys = group_codes(by)
        place = {key: at for at, key in enumerate(keys)}
        keys += [key for key in seen if key not in place]
        return Grouped(keys, codes, x.numbers())

    def merge(self, parts: Sequence[Grouped]) -> Grouped:
        place: dict[Group, int] = {}
        codes = [
            np.array([place.setdefault(key, len(place)) for key in part.keys], dtype=np.int64)[part.codes]
            for part in parts
            if part.keys
        ]
        none = np.zeros(0)
        return Grouped(
            list(place), np.concatenate(codes or [none.astype(np.int64)]), np.concatenate([none, *[p.x for p in parts]])
        )

    def advance(self, merged: Grouped) -> Node:
        order = np.argsort(merged.codes, kind="stable")
        x = merged.x[order]
        ends = np.cumsum(np.bincount(merged.codes, minlength=len(merged.keys))).tolist()
        by_group: dict[Group, float] = {}
        start = 0
        for key, end in zip(merged.keys, ends, strict=True):
            if end > start:
                by_group[key] = self.statistic(x[start:end]) + 0.0
            start = end
        if not self.whole:
            some(len(by_group), self.inputs[0])
        elif len(by_group) < len(merged.keys):
            raise self._empty_groups(in_order(set(merged.keys) - set(by_group)))
        return self.answer(by_group)

    def _empty_groups(self, keys: Sequence[tuple[Label | Absent, ...]]) -> DataError:
        words = [", ".join("missing" if isinstance(k, Absent) else label_text(k) for k in key) for key in keys]
        by = " and ".join(map(str, self.inputs[1:]))
        return DataError(
            f"'{self.inputs[0]}' is missing in every learning row of {counted(len(keys), 'group')} of {by}: "
            + "; ".join(words[:6])
            + ("; .." if len(words) > 6 else ""),
            remedy="Form larger groups, or take the value of all rows together.",
        )
