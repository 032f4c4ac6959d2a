"""Categories brought together: joined texts, and combinations."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from itertools import product
from math import prod
from typing import Any, ClassVar

import numpy as np

from facturum.data.values import Kind, Labels, Mask, Values, and_masks, label_text
from facturum.language.operations.texts import need_text
from facturum.language.tree.nodes import Kinds, Node, Type
from facturum.language.tree.options import TEXT, arguments, option
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows

MOST_COMBINATIONS = 200_000


class Combined(Node):
    """A category for each combination of several."""

    family: ClassVar[str] = "texts"
    distributes: ClassVar[bool] = False
    items: tuple[Node, ...]

    @abstractmethod
    def text(self, parts: Sequence[str]) -> str:
        """Return what a combination is called."""

    def check(self, kinds: Kinds) -> Type:
        known = [self._labels_of(item, kinds) for item in self.items]
        if len(known) < 2:
            raise self.error(f"{self.name} needs two categories", "Name another one.")
        if prod(map(len, known)) > MOST_COMBINATIONS:
            raise self.error(
                f"{self.name} has {prod(map(len, known)):,} combinations, more than the {MOST_COMBINATIONS:,} allowed",
                "Bring categories together first, with regroup(..).",
            )
        return Type(Kind.CATEGORY, labels=self._labels(known))

    def values(self, rows: Rows) -> Values:
        values = [_labelled(rows.evaluate(item)).full(rows.length) for item in self.items]
        known = [value.labels or () for value in values]
        labels, recode = rows.shared(("combined", self, tuple(known)), lambda: self._coded(known))
        there: Mask | None = None
        code = np.zeros(rows.length, dtype=np.int64)
        for value, of_value in zip(values, known, strict=True):
            there = and_masks(there, value.valid)
            code = code * max(len(of_value), 1) + value.data
        data = recode[np.where(there, code, 0)] if there is not None else recode[code]
        return Values(data, there, labels)

    def _coded(self, known: Sequence[Labels]) -> tuple[Labels, Any]:
        """Return the labels of all combinations, and the code of each in them, the last category counting fastest."""
        texts = [self.text([label_text(each) for each in labels]) for labels in product(*known)]
        labels = tuple(dict.fromkeys(texts))
        place = {label: at for at, label in enumerate(labels)}
        return labels, np.array([place[text] for text in texts] or [0])

    def _labels(self, known: Sequence[Labels]) -> Labels:
        return self._coded(known)[0]

    def _labels_of(self, item: Node, kinds: Kinds) -> Labels:
        type_of_item = kinds.type_of(item)
        if type_of_item.kind is Kind.TRUTH:
            return (False, True)
        return need_text(self, item, kinds).labels or ()


def _labelled(value: Values) -> Values:
    """Return truth values as categories."""
    return value if value.labels is not None else Values(value.data.astype(np.int64), value.valid, (False, True))


@operation
class Joined(Combined):
    """Several texts as one, with `by` between them; missing where one is.

    Example: `joined(valley, access, by=" / ")`.
    """

    items: tuple[Node, ...] = arguments("texts", spread=True)
    by: str = option(TEXT, "what stands between them", default=" ")

    def text(self, parts: Sequence[str]) -> str:
        return self.by.join(parts)


@operation
class Crossed(Combined):
    """One category of the combinations of several, each as `a & b`; missing where one is. An & of its own is doubled.

    Only combinations that occur become columns; rare ones are brought together by `category(crossed(..), pool=..)`.

    Example: `crossed(valley, access)`, `category(crossed(valley, access), pool=20)`.
    """

    items: tuple[Node, ...] = arguments("categories", spread=True)

    def text(self, parts: Sequence[str]) -> str:
        return " & ".join(part.replace("&", "&&") for part in parts)
