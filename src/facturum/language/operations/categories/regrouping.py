"""Categories brought together under new names."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections import Counter
from collections.abc import Callable
from itertools import groupby, pairwise
from typing import Any, ClassVar

import numpy as np

from facturum.data.number_text import PLAIN
from facturum.data.values import Kind, Label, Labels, Mask, Values, label_text, plain_number
from facturum.errors import nearest
from facturum.language.tree.nodes import Kinds, Node, Type
from facturum.language.tree.options import GROUPS, MISSING, TEXT, Absent, argument, literal_key, option
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows

_RANGE = re.compile(r"\s*(-?[\d.]+(?:[eE][+-]?\d+)?)?\s*\.\.\s*(-?[\d.]*\d(?:[eE][+-]?\d+)?)?\s*")


def range_of(text: str) -> tuple[float, float] | None:
    """Return the first and the last number of a range such as ``"3..5"``, ``"..2"`` or ``"6.."``.

    Example:
        >>> range_of("3..5"), range_of("6.."), range_of("trail")
        ((3.0, 5.0), (6.0, inf), None)
    """
    match = _RANGE.fullmatch(text)
    if match is None or match.groups() == (None, None):
        return None
    try:
        low, high = (None if part is None else float(part.rstrip(".")) for part in match.groups())
    except ValueError:
        return None
    return (-np.inf if low is None else low), (np.inf if high is None else high)


def number_of(label: Label) -> float | None:
    """Return the number that a category is, also where it is written as text."""
    return PLAIN.number(label) if isinstance(label, str) else float(label)


@operation
class Regroup(Node):
    """Brings categories together under new names; others keep their own, or all get the name `rest`.

    Neighbouring categories of an ordered variable make an ordered one.

    Among number codes, also those written as text, `"3..5"` stands for all from 3 to 5, `"..2"` for those up to 2 and
    `"6.."` for those from 6, unless there is a category of that very name.

    Example: `regroup(access, {"by foot": ["trail", "ridge"]}, rest="by wheel")`,
    `regroup(rooms, {"small": ["..4"], "large": ["5.."]})`.
    """

    family: ClassVar[str] = "categories"
    categorizes: ClassVar[frozenset[str]] = frozenset({"x"})
    x: Node = argument("a category, or a number with few values")
    groups: tuple[tuple[str, tuple[Label | Absent, ...]], ...] = option(GROUPS, "the categories of each new one")
    rest: str | None = option(TEXT, "the name for all others", default=None)

    def check(self, kinds: Kinds) -> Type:
        type_of_x = kinds.type_of(self.x)
        if type_of_x.kind is Kind.TIME:
            raise self.x.error(f"regroup works on a category, and '{self.x}' is a time", "Regroup a part of it.")
        members = [label for _, group in self.groups for label in group]
        counts = Counter(MISSING if isinstance(label, Absent) else literal_key(label) for label in members)
        for label in members:
            if counts[MISSING if isinstance(label, Absent) else literal_key(label)] > 1:
                raise self.error(f"the category {label!r} is named twice", "Name each category in one group only.")
        self._check_ranges()
        if type_of_x.kind.numeric and not kinds.resolved:
            self._check_codes(members)
        if type_of_x.labels is not None and not kinds.resolved:
            self._check_members(members, type_of_x.labels)
        labels_of_x = type_of_x.labels or ()
        keeps = type_of_x.kind is Kind.ORDERED and self._in_order(labels_of_x) is not None
        return Type(Kind.ORDERED if keeps else Kind.CATEGORY, labels=self._labels(labels_of_x))

    def _ranges(self) -> list[tuple[float, float, str, str]]:
        """Return first and last number, text and new name of each range."""
        return [
            (*ends, label, name)
            for name, group in self.groups
            for label in group
            if isinstance(label, str) and (ends := range_of(label)) is not None
        ]

    def _check_ranges(self) -> None:
        ranges = sorted(self._ranges())
        for low, high, text, _ in ranges:
            if low > high:
                raise self.error(f"the range {text!r} is empty", "Write the smaller number first.")
        for (_, high, text, _), (low, _, other, _) in pairwise(ranges):
            if low <= high:
                raise self.error(f"the ranges {text!r} and {other!r} overlap", "Name each category in one group only.")

    def _check_codes(self, members: list[Label | Absent]) -> None:
        """Refuse texts among the codes of a number, unless they are ranges: they would match nothing."""
        for label in members:
            if isinstance(label, str) and range_of(label) is None:
                number = PLAIN.number(label)
                what = f"'{self.x}' is a number, and {label!r} is a text, which it never is"
                if number is None:
                    raise self.error(what, 'Write numbers, or ranges in quotes: "3..5".')
                raise self.error(what, f"Write {plain_number(number)} without quotes; ranges have them: '3..5'.")

    def _check_members(self, members: list[Label | Absent], known: Labels) -> None:
        present = {literal_key(label) for label in known}
        numbers = [number for label in known if (number := number_of(label)) is not None]
        named = {literal_key(label) for label in members if not isinstance(label, Absent)}
        for label in members:
            if isinstance(label, Absent) or literal_key(label) in present:
                continue
            ends = range_of(label) if isinstance(label, str) else None
            if ends is None or not any(ends[0] <= number <= ends[1] for number in numbers):
                hint = nearest(label_text(label), [label_text(each) for each in known])
                what = "no category in the range" if ends is not None else "no category"
                raise self.error(f"'{self.x}' has {what} {label!r}{hint}", "Correct it, or take it out.")
            twice = [k for k in known if literal_key(k) in named and _within(k, ends)]
            if twice:
                raise self.error(
                    f"the category {twice[0]!r} is named twice, also by the range {label!r}",
                    "Name each category in one group only.",
                )

    def values(self, rows: Rows) -> Values:
        value = rows.evaluate(self.x)
        if value.labels is None:
            distinct, codes = np.unique(value.data, return_inverse=True)
            value = Values(codes, value.valid, tuple(plain_number(v) for v in distinct.tolist()))
        labels_of_x = value.labels or ()
        labels = self._labels(labels_of_x)
        target = self._targets()
        absent = labels.index(target[MISSING]) if MISSING in target else -1
        place, new = {label: at for at, label in enumerate(labels)}, self._renaming()
        recode = np.array([place[new(label)] for label in labels_of_x] + [absent])
        data = recode[value.data] if value.valid is None else np.where(value.valid, recode[value.data], absent)
        present = data >= 0
        return Values(data, None if present.all() else present, labels)

    def valid(self, rows: Rows) -> Mask | None:
        return None if MISSING in self._targets() else rows.valid(self.x)

    def _targets(self) -> dict[Any, str]:
        return {
            (MISSING if isinstance(label, Absent) else literal_key(label)): name
            for name, group in self.groups
            for label in group
        }

    def _renaming(self) -> Callable[[Label], Label]:
        """Return what gives each category its new name."""
        target, ranges = self._targets(), sorted(self._ranges())
        starts = [low for low, *_ in ranges]

        def new(label: Label) -> Label:
            renamed = target.get(literal_key(label))
            if renamed is None and ranges and (number := number_of(label)) is not None:
                _, high, _, name = ranges[max(bisect_right(starts, number) - 1, 0)]
                renamed = name if starts[0] <= number <= high else None
            return renamed if renamed is not None else label if self.rest is None else self.rest

        return new

    def _in_order(self, labels_of_x: Labels) -> Labels | None:
        """Return the new names in the order of the categories; None where one holds categories that lie apart."""
        if MISSING in self._targets():
            return None
        new = [name for name, _ in groupby(map(self._renaming(), labels_of_x))]
        return tuple(new) if len(set(new)) == len(new) and {name for name, _ in self.groups} <= set(new) else None

    def _labels(self, labels_of_x: Labels) -> Labels:
        if (ordered := self._in_order(labels_of_x)) is not None:
            return ordered
        names: list[Label] = [name for name, _ in self.groups]
        return tuple(dict.fromkeys([*names, *map(self._renaming(), labels_of_x)]))

    def subject(self) -> str:
        return f"{self.x.subject()} (regrouped)"


def _within(label: Label, ends: tuple[float, float]) -> bool:
    number = number_of(label)
    return number is not None and ends[0] <= number <= ends[1]
