"""Categories as columns: codings, references, pooling, regrouping."""

from __future__ import annotations

from typing import ClassVar, Self

import numpy as np

from facturum.data.values import Kind, Label, Labels, Values, label_text
from facturum.data.yes_and_no import said_no
from facturum.errors import DataError, nearest
from facturum.language.core.literals import Name
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Curve, Unit
from facturum.language.operations.absent.missing import MISSING_OPTION
from facturum.language.operations.categories.codings import CODINGS
from facturum.language.operations.categories.placing import Categorical
from facturum.language.tree.blocks import Block, Dense, Scattered
from facturum.language.tree.nodes import Column, Kinds, Node, Question, Type
from facturum.language.tree.options import (
    CATEGORIES,
    LABELS,
    MISSING,
    NUMBER,
    VALUE,
    Absent,
    argument,
    either,
    literal_key,
    one_of,
    option,
    whole_from,
)
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows
from facturum.language.tree.traits import Surroundings
from facturum.numerics.shapes.contrasts import polynomial_contrasts

UNSEEN_OPTION = one_of("fail", "missing", "pool")
ORDER_OPTION = either(one_of("sorted", "frequency"), LABELS)


@operation
class Codes(Categorical):
    """The place of each category in the order, from 0.

    Example: `codes(comfort)`, `codes(access, order=["trail", "road", "cable car"])`.
    """

    named_in_formulas: ClassVar[bool] = True
    x: Node = argument("a category")
    order: str | tuple[Label | Absent, ...] = option(
        ORDER_OPTION, "the order of the categories", learned=True, by_hand=True, default="sorted"
    )
    pool: float | None = option(
        NUMBER, "the rows (or share of rows) that a category needs to stand alone", default=None
    )
    missing: str = option(
        MISSING_OPTION, "whether missing values are a category of their own, or its name", default="propagate"
    )
    unseen: str = option(UNSEEN_OPTION, "what becomes of categories not in the order", default="fail")
    limit: int = option(whole_from(1), "how many categories there may be", default=1000)
    pooled: tuple[Label, ...] = option(CATEGORIES, "the categories pooled into the last one", learned=True, default=())

    def question(self, kinds: Kinds) -> Question | None:
        return None if self.is_closed else super().question(kinds)

    def values(self, rows: Rows) -> Values:
        codes, valid = self.placed(rows)
        return Values(codes.astype(np.float64), valid)

    def meaning(self) -> Meaning:
        return Curve(f"the code of {self.x.subject()}", node=self)


@operation
class Score(Categorical):
    """The place of each category in its declared order, from 1, whichever occur; a whole number stays as it is.

    Example: `score(comfort)`.
    """

    x: Node = argument("an ordered category, or a whole number")
    order: str | tuple[Label | Absent, ...] = option(
        ORDER_OPTION, "the order of the categories", learned=True, by_hand=True, default="sorted"
    )
    unseen: str = option(one_of("fail", "missing"), "what becomes of categories not in the order", default="fail")

    def check(self, kinds: Kinds) -> Type:
        if kinds.type_of(self.x).kind is Kind.NUMBER and not self.is_closed:
            return Type(Kind.NUMBER)
        need_order(self, self.x, self.order, kinds)
        return super().check(kinds)

    def question(self, kinds: Kinds) -> Question | None:
        counts = kinds.type_of(self.x).kind is Kind.NUMBER
        return None if self.is_closed or counts else super().question(kinds)

    def closed(self, counts: dict[Label | Absent, int], ordered: Labels | None) -> Self:
        if ordered is None or self.order != "sorted":
            return super().closed(counts, ordered)
        return self.replaced(order=ordered)

    def values(self, rows: Rows) -> Values:
        if not self.is_closed:
            return self._numbers(rows)
        codes, valid = self.placed(rows)
        return Values(codes.astype(np.float64) + 1.0, valid)

    def _numbers(self, rows: Rows) -> Values:
        inner = rows.evaluate(self.x).full(rows.length)
        if inner.labels is not None or inner.data.dtype == np.bool_:
            raise self.unresolved()
        broken = inner.present_mask() & (inner.numbers() != np.floor(inner.numbers()))
        if broken.any():
            remedy = "Leave score out for a number, or write order=[..] for categories."
            raise rows.failure(self, broken, f"'{self.x}' is not a whole number", remedy)
        return Values(inner.numbers(), inner.valid)

    def meaning(self) -> Meaning:
        return Unit(f"{self.x.subject()} (score)", node=self)


def need_order(operation_: Node, x: Node, order: object, kinds: Kinds) -> None:
    """Refuse a variable whose categories have no order of their own, unless one is written."""
    if kinds.type_of(x).kind is not Kind.ORDERED and not isinstance(order, tuple):
        raise operation_.error(
            f"the categories of '{x}' have no order to count by",
            'Write order=["lowest", .., "highest"], or declare the variable kind = "ordered".',
        )


@operation
class Category(Categorical):
    """The columns of a category: by default an indicator for each category but the reference.

    Codings: `reference` (one indicator less than categories), `every` (an indicator each), `effect` (against the mean
    of all), `difference` (each against the one before), `helmert` (each against the mean of those before),
    `polynomial` (orthogonal, of ordered categories), `score` (one column, 1 to k). The reference is the first in the
    order, of yes and no the no, unless one is named, by its category or its position, here or for all terms in
    `[variables]`. Resolving writes `order`, `pooled` and `reference`.

    Example: `category(access, reference="trail")`, `category(valley, coding="effect", pool=0.02)`.
    """

    many_columns: ClassVar[bool] = True
    responds: ClassVar[bool] = True
    x: Node = argument("a category, a truth value, or a number with few values")
    reference: Label | Absent | None = option(
        VALUE, "the category that the others are compared with", learned=True, by_hand=True, default=None
    )
    coding: str = option(one_of(*CODINGS), "how the columns are made", default="reference")
    order: str | tuple[Label | Absent, ...] = option(
        ORDER_OPTION, "the order of the categories", learned=True, by_hand=True, default="sorted"
    )
    pool: float | None = option(
        NUMBER, "the rows (or share of rows) that a category needs to stand alone", default=None
    )
    missing: str = option(
        MISSING_OPTION, "whether missing values are a category of their own, or its name", default="propagate"
    )
    unseen: str = option(UNSEEN_OPTION, "what becomes of categories not in the order", default="fail")
    limit: int = option(whole_from(1), "how many categories there may be", default=1000)
    pooled: tuple[Label, ...] = option(CATEGORIES, "the categories pooled into the last one", learned=True, default=())

    def check(self, kinds: Kinds) -> Type:
        if self.reference is not None and self.coding not in ("reference", "effect"):
            raise self.error(f"the coding '{self.coding}' has no reference category", "Leave reference out.")
        if self.coding in ("polynomial", "score"):
            need_order(self, self.x, self.order, kinds)
        super().check(kinds)
        return Type(Kind.NUMBER, block=True)

    def settled(self, around: Surroundings) -> Node:
        declared = around.references.get(self.x.variable) if isinstance(self.x, Name) else None
        own = self.reference is not None or self.coding not in ("reference", "effect")
        return self if own or declared is None else self.replaced(reference=declared)

    def closed(self, counts: dict[Label | Absent, int], ordered: Labels | None) -> Self:
        if self.coding == "score" and ordered is not None and self.order == "sorted":
            return self.replaced(order=ordered)
        category = super().closed(dict(counts), ordered)
        if len(category.labels()) < 2 and category.coding not in ("every", "score"):
            only = category.labels()[0]
            raise DataError(
                f"'{self.x}' has only the category {'missing' if isinstance(only, Absent) else repr(only)} in the "
                "estimation sample: there is nothing to compare",
                remedy="Leave the term out, or check [rows].",
            )
        if category.coding not in ("reference", "effect"):
            return category
        no = said_no(category.labels()) if self.order == "sorted" and ordered is None else None
        own = self.reference is not None or no is None
        return category.replaced(reference=category._reference(counts) if own else no)

    def _reference(self, counts: dict[Label | Absent, int]) -> Label | Absent:
        order = self.labels()
        choices = [label for label in order if not isinstance(label, Absent)]
        named = isinstance(self.reference, Absent) or (self.own_missing and self.reference == self.missing_name)
        if named and MISSING in order:
            return MISSING
        if isinstance(self.reference, Absent):
            raise DataError(
                f"missing values are not a category of '{self.x}' in the estimation sample",
                remedy='Write missing="category" for them to be one, or choose another reference.',
            )
        if self.reference is None:
            return choices[0]
        for label in choices:
            if literal_key(label) == literal_key(self.reference):
                if not counts.get(label) and not (self.pooled and label == order[-1]):
                    raise DataError(
                        f"no row of the estimation sample has the reference category {label!r} of '{self.x}'",
                        remedy="Choose one that is there: " + ", ".join(str(k) for k in counts if counts[k]) + ".",
                    )
                return label
        position = self.reference if type(self.reference) is int else len(choices)
        if -len(choices) <= position < len(choices):
            return choices[position]
        raise self._not_there(self.reference, choices)

    def _not_there(self, reference: Label, choices: list[Label]) -> DataError:
        """Return the error that the reference category is pooled, written as another kind, or not there."""
        text, texts = label_text(reference), [label_text(label) for label in choices]
        if literal_key(reference) in {literal_key(label) for label in self.pooled}:
            return DataError(
                f"the reference category {reference!r} of '{self.x}' is pooled with other rare ones",
                remedy=f"Pool fewer, or choose one of {', '.join(texts[:12])}.",
            )
        if text in texts and isinstance(reference, str):
            return DataError(
                f"the categories of '{self.x}' are numbers, and the reference {reference!r} is written as a text",
                remedy=f"Write it without quotes: reference={text}.",
            )
        hint = nearest(text, texts)
        return DataError(
            f"no row of the estimation sample has the reference category {reference!r} of '{self.x}'{hint}",
            remedy="The categories are " + ", ".join(label_text(label) for label in choices[:12]) + ".",
        )

    def columns(self) -> tuple[Column, ...]:
        return tuple(CODINGS[self.coding](self))

    @property
    def compared_with(self) -> Label | None:
        return None if isinstance(self.reference, Absent) else self.reference

    def response_meaning(self) -> Meaning:
        return self.columns()[0].meaning

    def column_count(self) -> int:
        count = len(self.labels())
        return {"every": count, "score": 1}.get(self.coding, count - 1)

    def examine(self, rows: Rows) -> None:
        """Fail in rows with a category that is not among those of the plan, according to `unseen`."""
        self.placed(rows)

    def code_node(self) -> Codes:
        """Return the scalar expression for each row's place in the order."""
        return Codes(
            self.x, order=self.order, pool=self.pool, missing=self.missing, unseen=self.unseen, pooled=self.pooled
        )

    @property
    def reference_place(self) -> int:
        """The place of the reference in the order."""
        if self.reference is None:
            raise self.unresolved()
        wanted = MISSING if isinstance(self.reference, Absent) else literal_key(self.reference)
        keys = [MISSING if isinstance(label, Absent) else literal_key(label) for label in self.labels()]
        if wanted not in keys:
            raise self.error(f"the reference {self.reference!r} is not in the order", "Name one that is.")
        return keys.index(wanted)

    def block(self, rows: Rows) -> Block:
        places, _ = self.placed(rows)
        places = np.broadcast_to(places, rows.length)
        count = len(self.labels())
        if self.coding == "every":
            return Scattered(places, (0,), (None,), count)
        if self.coding == "reference":
            at = self.reference_place
            if at == 0:
                return Scattered(np.subtract(places, 1), (0,), (None,), count - 1)
            columns = np.array([-1 if i == at else i - (i > at) for i in range(count)])
            return Scattered(columns[places], (0,), (None,), count - 1)
        if self.coding == "polynomial":
            tables = rows.shared(("contrasts", count), lambda: np.array(polynomial_contrasts(count)))
            return Dense(tuple(table[places] for table in tables))
        return super().block(rows)

    def meaning(self) -> Meaning:
        return Curve(self.subject(), node=self)
