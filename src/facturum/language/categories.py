"""Categories as columns: codings, references, pooling, regrouping."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from facturum.data.values import Array, Kind, Label, Labels, Mask, Values, both, label_text, plain_number
from facturum.errors import DataError, nearest
from facturum.language.codings import CODINGS, coded_columns
from facturum.language.nodes import Block, Column, Dense, Kinds, Node, Question, Rows, Scattered, Type, operation
from facturum.language.options import (
    GROUPS,
    LABEL,
    LABELS,
    MISSING,
    NUMBER,
    Absent,
    argument,
    either,
    literal_key,
    one_of,
    option,
    whole_from,
)
from facturum.language.reading import Curve, Reading, Unit
from facturum.numerics.contrasts import polynomial_contrasts

UNSEEN = -2
ABSENT = -1
MISSING_OPTION = one_of("propagate", "category")
UNSEEN_OPTION = one_of("fail", "missing", "pool")
ORDER_OPTION = either(one_of("sorted", "frequency"), LABELS)


@dataclass(frozen=True)
class CategoryQuestion(Question):
    """How often each category occurs among the rows that remain in the matrix."""

    inputs: tuple[Node, ...]
    ordered: Labels | None
    answer: Callable[[dict[Label | Absent, int]], Node]
    remaining: ClassVar[bool] = True

    def observe(self, values: Sequence[Values]) -> Counter[Label | Absent]:
        value = values[0]
        counts: Counter[Label | Absent] = Counter()
        data = value.data if value.valid is None else value.data[value.valid]
        if value.labels is not None:
            found = np.bincount(data, minlength=len(value.labels))
            counts.update({value.labels[at]: int(found[at]) for at in np.flatnonzero(found)})
        else:
            distinct, sizes = np.unique(data, return_counts=True)
            plain = distinct.tolist() if data.dtype == np.bool_ else [plain_number(v) for v in distinct.tolist()]
            counts.update(dict(zip(plain, sizes.tolist(), strict=True)))
        absent = len(value.data) - len(data)
        if absent:
            counts[MISSING] += absent
        return counts

    def merge(self, parts: Sequence[Counter[Label | Absent]]) -> Counter[Label | Absent]:
        total: Counter[Label | Absent] = Counter()
        for part in parts:
            total.update(part)
        return total

    def advance(self, merged: Counter[Label | Absent]) -> Node:
        return self.answer(dict(merged))


class Categorical(Node):
    """What operations on categories have in common: the order of the categories, and where each row stands in it."""

    x: Node
    order: str | tuple[Label | Absent, ...]
    pool: float | None
    missing: str
    unseen: str
    limit: int
    pooled: tuple[Label, ...]

    def check(self, kinds: Kinds) -> Type:
        found = kinds.of(self.x)
        if found.block:
            raise self.x.fail(f"{self.name} works on one variable, and '{self.x}' is a block of several columns")
        if found.kind is Kind.TIME:
            raise self.x.fail(f"'{self.x}' is a time, not a category", "Take its part, or count its periods.")
        if self.unseen == "pool" and self.pool is None and not self.pooled:
            raise self.fail('unseen="pool" needs a pooled category', "Write pool=.. as well, say pool=0.02.")
        return Type(Kind.NUMBER)

    def question(self, kinds: Kinds) -> Question:
        found = kinds.of(self.x)
        return CategoryQuestion((self.x,), found.labels if found.kind is Kind.ORDERED else None, self._closing(found))

    def _closing(self, found: Type) -> Callable[[dict[Label | Absent, int]], Node]:
        ordered = found.labels if found.kind is Kind.ORDERED else None
        return lambda counts: self.closed(counts, ordered)

    def closed(self, counts: dict[Label | Absent, int], ordered: Labels | None) -> Node:
        """Return the operation with its categories written out."""
        absent = counts.pop(MISSING, 0) if self.missing == "category" else counts.pop(MISSING, 0) * 0
        present: dict[Label, int] = {label: n for label, n in counts.items() if not isinstance(label, Absent)}
        if not present and not absent:
            raise DataError(f"'{self.x}' has no value in any row to learn from")
        if isinstance(self.order, tuple):
            self._refuse_outside(present)
            return self
        self._refuse_too_many(present)
        order: list[Label | Absent] = list(self._ordered(present, ordered))
        pooled: tuple[Label, ...] = ()
        if self.pool is not None:
            total = sum(present.values()) + absent
            least = self.pool * total if self.pool < 1 else self.pool
            pooled = tuple(label for label in order if not isinstance(label, Absent) and present[label] < least)
            order = [label for label in order if label not in pooled]
        if absent:
            order.append(MISSING)
        if pooled:
            order.append(_pool_name(order))
        return self.replaced(order=tuple(order), pooled=pooled)

    def _ordered(self, present: dict[Label, int], ordered: Labels | None) -> list[Label]:
        if ordered is not None and self.order == "sorted":
            return [label for label in ordered if label in present]
        by_size = sorted(present, key=lambda label: (isinstance(label, str), label))
        return by_size if self.order == "sorted" else sorted(by_size, key=lambda label: -present[label])

    def _refuse_outside(self, present: dict[Label, int]) -> None:
        assert isinstance(self.order, tuple)
        known = {literal_key(label) for label in (*self.order, *self.pooled) if not isinstance(label, Absent)}
        outside = [label for label in present if literal_key(label) not in known]
        if outside and self.unseen == "fail":
            shown = ", ".join(repr(label) for label in outside[:5])
            raise DataError(
                f"'{self.x}' has categories that its order leaves out: {shown}",
                remedy='Add them to the order, or write unseen="missing".',
            )

    def _refuse_too_many(self, present: dict[Label, int]) -> None:
        rows = sum(present.values())
        if len(present) > self.limit or (len(present) == rows and rows > 2):
            many = "as many as rows" if len(present) == rows else f"more than limit={self.limit}"
            raise DataError(
                f"'{self.x}' has {len(present):,} categories, {many}: is it an id or a date?",
                remedy=f'Leave it out, declare it [variables] {self.x} = {{ kind = "id" }}, regroup it, pool the rare '
                "ones with pool=.., or raise limit.",
            )

    @property
    def is_closed(self) -> bool:
        return isinstance(self.order, tuple)

    def targets(self) -> dict[object, int]:
        """Return the place in the order of each category, by its key."""
        assert isinstance(self.order, tuple)
        places: dict[object, int] = {}
        for at, label in enumerate(self.order):
            places[MISSING if isinstance(label, Absent) else literal_key(label)] = at
        if self.pooled:
            for label in self.pooled:
                places[literal_key(label)] = len(self.order) - 1
        return places

    def positions(self, rows: Rows, values: Values) -> Array:
        """Return each row's place in the order; ABSENT where it has no value, UNSEEN where it is not in the order."""
        places = self.targets()
        other = len(places and self.order) - 1 if self.unseen == "pool" and self.pooled else UNSEEN
        absent = places.get(MISSING, ABSENT if self.missing == "propagate" else UNSEEN)
        if values.labels is not None:
            recode = rows.shared(
                (self, values.labels),
                lambda: _compact([*(places.get(literal_key(label), other) for label in values.labels or ()), absent]),
            )
            found = _recoded(recode, values.data)
        else:
            pairs = sorted((k[1], at) for k, at in places.items() if isinstance(k, tuple) and k[0] == "number")
            numbers = np.array([key for key, _ in pairs], dtype=np.float64)
            data = values.numbers()
            slot = np.minimum(np.searchsorted(numbers, data), max(len(numbers) - 1, 0))
            hit = numbers[slot] == data if len(numbers) else np.zeros(len(data), dtype=bool)
            at = np.array([at for _, at in pairs] or [0])
            found = np.where(hit, at[slot], other)
        return found if values.valid is None else np.where(values.valid, found, absent)

    def placed(self, rows: Rows) -> tuple[Array, Mask | None]:
        """Return each row's place, and which rows have one; an unseen category fails where it is told to."""
        values = rows.of(self.x)
        found = self.positions(rows, values)
        if len(found) and int(found.min()) < 0:
            if self.unseen != "missing" and (unseen := found == UNSEEN).any():
                raise self._unseen(rows, values.full(rows.length), np.broadcast_to(unseen, rows.length))
            return found, found >= 0
        return found, None

    def _unseen(self, rows: Rows, values: Values, unseen: Mask) -> Exception:
        if values.labels is not None:
            words = [label_text(values.labels[code]) for code in np.unique(values.data[unseen][:1000]) if code >= 0]
        else:
            words = [label_text(plain_number(v)) for v in np.unique(values.data[unseen][:1000]).tolist()]
        shown = ", ".join(repr(word) for word in words[:5]) or "missing"
        known = ", ".join("missing" if isinstance(k, Absent) else label_text(k) for k in self.order[:8])
        return rows.failure(
            self,
            unseen,
            f"'{self.x}' has a category that was not there when the plan was resolved: {shown}",
            f'The plan knows {known}. Correct the rows, write unseen="missing" or "pool", or resolve the plan anew.',
        )

    def valid(self, rows: Rows) -> Mask | None:
        if self.missing == "category" and self.unseen != "missing":
            return None
        present = rows.valid(self.x) if self.missing == "propagate" else None
        if self.is_closed and self.unseen == "missing":
            found = self.positions(rows, rows.of(self.x).full(rows.length))
            return both(present, found != UNSEEN)
        return present


@operation
class Codes(Categorical):
    """The place of each category in the order, from 0.

    Example: `codes(comfort)`, `codes(access, order=["trail", "road", "cable car"])`.
    """

    x: Node = argument("a category")
    order: str | tuple[Label | Absent, ...] = option("sorted", ORDER_OPTION, "the order of the categories", learned=True)
    pool: float | None = option(None, NUMBER, "the rows (or share of rows) that a category needs to stand alone")
    missing: str = option("propagate", MISSING_OPTION, "what becomes of missing values")
    unseen: str = option("fail", UNSEEN_OPTION, "what becomes of categories not in the order")
    limit: int = option(1000, whole_from(1), "how many categories there may be")
    pooled: tuple[Label, ...] = option((), LABELS, "the categories pooled into the last one", learned=True)

    def values(self, rows: Rows) -> Values:
        found, valid = self.placed(rows)
        return Values(found.astype(np.float64), valid)

    def reading(self) -> Reading:
        return Unit(f"{self.x} (place in the order)")


@operation
class Score(Categorical):
    """The place of each category of an ordered variable, from 1.

    Example: `score(comfort)`.
    """

    x: Node = argument("an ordered category")
    order: str | tuple[Label | Absent, ...] = option("sorted", ORDER_OPTION, "the order of the categories", learned=True)
    unseen: str = option("fail", one_of("fail", "missing"), "what becomes of categories not in the order")
    limit: ClassVar[int] = 1000
    pool: ClassVar[float | None] = None
    missing: ClassVar[str] = "propagate"
    pooled: ClassVar[tuple[Label, ...]] = ()

    def check(self, kinds: Kinds) -> Type:
        need_order(self, self.x, self.order, kinds)
        return super().check(kinds)

    def values(self, rows: Rows) -> Values:
        found, valid = self.placed(rows)
        return Values(found.astype(np.float64) + 1.0, valid)

    def reading(self) -> Reading:
        return Unit(f"{self.x} (score)")


def need_order(operation_: Node, x: Node, order: object, kinds: Kinds) -> None:
    """Refuse a variable whose categories have no order of their own, unless one is written."""
    if kinds.of(x).kind is not Kind.ORDERED and not isinstance(order, tuple):
        raise operation_.fail(
            f"the categories of '{x}' have no order to count by",
            'Write order=["lowest", .., "highest"], or declare the variable kind = "ordered".',
        )


@operation
class Category(Categorical):
    """The columns of a category: by default an indicator for each category but the reference.

    Codings: `reference` (one indicator less than categories), `every` (an indicator each), `effect` (against the mean of
    all), `difference` (each against the one before), `helmert` (each against the mean of those before), `polynomial`
    (orthogonal, of ordered categories), `score` (one column, 1 to k). The reference is the first in the order unless one
    is named, by its category or its position. Resolving writes `order`, `pooled` and `reference`.

    Example: `category(access, reference="trail")`, `category(valley, coding="effect", pool=0.02)`.
    """

    many_columns: ClassVar[bool] = True
    x: Node = argument("a category, a truth value, or a number with few values")
    reference: Label | None = option(None, LABEL, "the category that the others are compared with", learned=True)
    coding: str = option("reference", one_of(*CODINGS), "how the columns are made")
    order: str | tuple[Label | Absent, ...] = option("sorted", ORDER_OPTION, "the order of the categories", learned=True)
    pool: float | None = option(None, NUMBER, "the rows (or share of rows) that a category needs to stand alone")
    missing: str = option("propagate", MISSING_OPTION, "whether missing values are a category of their own")
    unseen: str = option("fail", UNSEEN_OPTION, "what becomes of categories not in the order")
    limit: int = option(1000, whole_from(1), "how many categories there may be")
    pooled: tuple[Label, ...] = option((), LABELS, "the categories pooled into the last one", learned=True)

    def check(self, kinds: Kinds) -> Type:
        if self.reference is not None and self.coding not in ("reference", "effect"):
            raise self.fail(f"the coding '{self.coding}' has no reference category", "Leave reference out.")
        if self.coding in ("polynomial", "score"):
            need_order(self, self.x, self.order, kinds)
        super().check(kinds)
        return Type(Kind.NUMBER, block=True)

    def closed(self, counts: dict[Label | Absent, int], ordered: Labels | None) -> Node:
        made = super().closed(dict(counts), ordered)
        assert isinstance(made, Category)
        assert isinstance(made.order, tuple)
        if made.coding not in ("reference", "effect"):
            return made
        reference = made._reference(counts)
        if len(made.order) < 2:
            raise DataError(
                f"'{self.x}' has the one category {reference!r} in the rows that remain: there is nothing to compare",
                remedy="Leave the term out, or look at [rows].",
            )
        return made.replaced(reference=reference)

    def _reference(self, counts: dict[Label | Absent, int]) -> Label:
        assert isinstance(self.order, tuple)
        choices = [label for label in self.order if not isinstance(label, Absent)]
        if self.reference is None:
            return choices[0]
        for label in choices:
            if literal_key(label) == literal_key(self.reference):
                if not counts.get(label) and not (self.pooled and label == self.order[-1]):
                    raise DataError(
                        f"no remaining row has the reference category {label!r} of '{self.x}'",
                        remedy="Choose one that is there: " + ", ".join(str(k) for k in counts if counts[k]) + ".",
                    )
                return label
        if isinstance(self.reference, int) and not isinstance(self.reference, bool):
            if -len(choices) <= self.reference < len(choices):
                return choices[self.reference]
        hint = nearest(label_text(self.reference), [label_text(label) for label in choices])
        raise DataError(
            f"no remaining row has the reference category {self.reference!r} of '{self.x}'{hint}",
            remedy="The categories are " + ", ".join(label_text(label) for label in choices[:12]) + ".",
        )

    def columns(self) -> tuple[Column, ...]:
        assert isinstance(self.order, tuple)
        return coded_columns(self)

    def code_node(self) -> Codes:
        """Return the scalar expression for each row's place in the order."""
        return Codes(
            self.x, order=self.order, pool=self.pool, missing=self.missing, unseen=self.unseen, pooled=self.pooled
        )

    @property
    def reference_place(self) -> int:
        """The place of the reference in the order."""
        assert isinstance(self.order, tuple)
        assert self.reference is not None
        wanted = literal_key(self.reference)
        keys = [None if isinstance(label, Absent) else literal_key(label) for label in self.order]
        if wanted not in keys:
            raise self.fail(f"the reference {self.reference!r} is not in the order", "Name one that is.")
        return keys.index(wanted)

    def block(self, rows: Rows) -> Block:
        places, _ = self.placed(rows)
        places = np.broadcast_to(places, rows.length)
        count = len(self.order)
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

    def reading(self) -> Reading:
        return Curve(str(self))


@operation
class Regroup(Node):
    """Brings categories together under new names; others keep their own, or all get the name `rest`.

    Example: `regroup(access, {"by foot": ["trail", "ridge"]}, rest="by wheel")`.
    """

    x: Node = argument("a category, or a number with few values")
    groups: tuple[tuple[str, tuple[Label | Absent, ...]], ...] = option(..., GROUPS, "the categories of each new one")
    rest: str | None = option(None, LABEL, "the name for all others")

    def check(self, kinds: Kinds) -> Type:
        found = kinds.of(self.x)
        if found.block or found.kind is Kind.TIME:
            raise self.x.fail(f"regroup works on a category, and '{self.x}' is none")
        members = [label for _, group in self.groups for label in group]
        for label in members:
            if members.count(label) > 1:
                raise self.fail(f"the category {label!r} is named twice", "Name each category in one group only.")
        if found.labels is not None and not kinds.resolved:
            for label in members:
                if not isinstance(label, Absent) and label not in found.labels:
                    hint = nearest(label_text(label), [label_text(known) for known in found.labels])
                    raise self.fail(f"'{self.x}' has no category {label!r}{hint}", "Correct it, or take it out.")
        return Type(Kind.CATEGORY, labels=self._labels(found.labels or ()))

    def values(self, rows: Rows) -> Values:
        value = rows.of(self.x)
        if value.labels is None:
            distinct, codes = np.unique(value.data, return_inverse=True)
            value = Values(codes, value.valid, tuple(plain_number(v) for v in distinct.tolist()))
        own = value.labels or ()
        labels = self._labels(own)
        target = self._targets()
        absent = labels.index(target[MISSING]) if MISSING in target else -1
        recode = np.array([labels.index(self._new(label, target)) for label in own] + [absent])
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

    def _new(self, label: Label, target: dict[Any, str]) -> Label:
        return target.get(literal_key(label), label if self.rest is None else self.rest)

    def _labels(self, own: Labels) -> Labels:
        target = self._targets()
        names: list[Label] = [name for name, _ in self.groups]
        return tuple(dict.fromkeys(names + [self._new(label, target) for label in own]))


def _pool_name(order: list[Label | Absent]) -> str:
    name = "other"
    while name in order:
        name += "_"
    return name


def _compact(places: list[int]) -> Array:
    """Return places in the smallest signed type, so that they sort by counting."""
    return np.array(places, dtype=np.min_scalar_type(-max(max(places) + 2, 2)))


def _recoded(recode: Array, codes: Array) -> Array:
    """Return the place of each code; where places follow the codes, without looking each one up."""
    shift = int(recode[0])
    if recode[-1] == ABSENT and len(recode) > 1 and (recode[:-1] == np.arange(shift, shift + len(recode) - 1)).all():
        if shift == 0:
            return codes
    found: Array = recode[codes]
    return found
