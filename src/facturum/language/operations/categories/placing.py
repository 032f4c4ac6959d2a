"""The place of each row in the order of the categories, and learning that order."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np

from facturum.data.number_text import unread_numbers
from facturum.data.values import Array, Kind, Label, Labels, Mask, Values, and_masks, label_text, plain_number
from facturum.errors import DataError
from facturum.language.core.literals import declared_as
from facturum.language.operations.absent.missing import check_missing_name, missing_name
from facturum.language.tree.nodes import Kinds, Node, Question, Type
from facturum.language.tree.options import MISSING, Absent, literal_key
from facturum.language.tree.rows import Rows

UNSEEN = -2
FEW_NUMBERS = 36  # categories up to which a text that is nearly all numbers is only warned of
ABSENT = -1
LONGEST = 1_000  # characters of a category


@dataclass(frozen=True)
class CategoryQuestion(Question):
    """How often each category occurs among the rows that remain in the matrix."""

    inputs: tuple[Node, ...]
    ordered: Labels | None
    answer: Callable[[dict[Label | Absent, int]], Node]
    quick: ClassVar[bool] = True

    def observe(self, values: Sequence[Values]) -> Counter[Label | Absent]:
        value = values[0]
        counts: Counter[Label | Absent] = Counter()
        data = value.data if value.valid is None else value.data[value.valid]
        if value.labels is not None:
            counted_codes = _counted(data, len(value.labels))
            counts.update({value.labels[at]: int(counted_codes[at]) for at in np.flatnonzero(counted_codes)})
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
    """What operations on categories have in common: the order of the categories, and the place of each row in it."""

    categorizes: ClassVar[frozenset[str]] = frozenset({"x"})
    has_levels: ClassVar[bool] = True
    x: Node
    order: str | tuple[Label | Absent, ...]
    unseen: str
    # what an operation without these options holds to
    pool: float | None = None
    missing: str = "propagate"
    limit: int = 1000
    pooled: tuple[Label, ...] = ()

    @property
    def leaves_out(self) -> bool:
        return self.unseen == "missing"

    def groupings(self) -> tuple[tuple[Node, ...], ...]:
        return ((self.x,),)

    def unplaced(self, rows: Rows) -> Mask | None:
        return np.asarray(self.placed(rows)[0] == UNSEEN) if self.unseen == "missing" else None

    @property
    def own_missing(self) -> bool:
        """Whether missing values are a category of their own."""
        return self.missing != "propagate"

    @property
    def missing_name(self) -> str:
        """What that category is called."""
        return missing_name(self.missing)

    def check(self, kinds: Kinds) -> Type:
        type_of_x = kinds.type_of(self.x)
        if type_of_x.kind is Kind.TIME:
            raise self.x.error(f"'{self.x}' is a time, not a category", "Take its part, or count its periods.")
        check_missing_name(
            self, self.missing, f"'{self.x}' has the category", tuple(map(label_text, type_of_x.labels or ()))
        )
        if isinstance(self.order, tuple):
            self._check_order(self.order)
        if self.pooled:
            self._check_pooled(self.order if isinstance(self.order, tuple) else ())
            texts = [label for label in self.pooled if isinstance(label, str)]
            if texts and type_of_x.kind is Kind.NUMBER:
                raise self.error(f"'{self.x}' is a number, and pooled holds the text {texts[0]!r}", "Name numbers.")
        labels = type_of_x.labels or ()
        if not (kinds.resolved or type_of_x.declared) and len(labels) > FEW_NUMBERS:
            unread = unread_numbers(str(self.x), labels)
            if unread is not None and "stored as text" not in unread.why:
                raise self.x.error(
                    f"'{self.x}' would be {len(labels):,} categories, and it is text since {unread.why}",
                    f"{unread.remedy} If they are categories, write {declared_as(self.x, 'category')}.",
                )
        if self.unseen == "pool" and self.pool is None and not self.pooled:
            raise self.error('unseen="pool" needs a pooled category', "Write pool=.. as well, say pool=0.02.")
        return Type(Kind.NUMBER)

    def _check_order(self, order: tuple[Label | Absent, ...]) -> None:
        if not order:
            raise self.error("the order is empty", "Write its categories, or leave order out.")
        keys = [MISSING if isinstance(label, Absent) else literal_key(label) for label in order]
        if len(set(keys)) < len(keys):
            raise self.error("a category is in the order twice", "Name each once.")
        if MISSING in keys and not self.own_missing:
            remedy = 'Leave missing out of the order, or write category(.., missing="category").'
            raise self.error("missing values are not a category here, but the order names them", remedy)

    def _check_pooled(self, order: tuple[Label | Absent, ...]) -> None:
        """Refuse categories to be pooled where the order, whose last one they become, is another's."""
        if not order or isinstance(order[-1], Absent):
            remedy = "Write pool=0.02, and resolving names the pooled ones."
            raise self.error("pooled needs order as well, with the pooled category last", remedy)
        alone = {literal_key(label) for label in order[:-1] if not isinstance(label, Absent)}
        both = [label for label in self.pooled if literal_key(label) in alone]
        if both:
            raise self.error(f"the category {both[0]!r} is both in the order and pooled", "Name it once.")

    def question(self, kinds: Kinds) -> Question | None:
        type_of_x = kinds.type_of(self.x)
        return CategoryQuestion(
            (self.x,), type_of_x.labels if type_of_x.kind is Kind.ORDERED else None, self._closing(type_of_x)
        )

    def _closing(self, type_of_x: Type) -> Callable[[dict[Label | Absent, int]], Node]:
        ordered = type_of_x.labels if type_of_x.kind is Kind.ORDERED else None
        return lambda counts: self.closed(counts, ordered)

    def closed(self, counts: dict[Label | Absent, int], ordered: Labels | None) -> Self:
        """Return the operation with its categories written out."""
        absent = counts.pop(MISSING, 0) if self.own_missing else counts.pop(MISSING, 0) * 0
        present: dict[Label, int] = {label: n for label, n in counts.items() if not isinstance(label, Absent)}
        if not present and not absent:
            raise DataError(f"'{self.x}' is missing in every row of the estimation sample")
        if isinstance(self.order, tuple):
            self._refuse_outside(present)
            return self
        if ordered is None:
            self._refuse_too_many(present)
        order: list[Label | Absent] = list(self._ordered(present, ordered))
        pooled: tuple[Label, ...] = ()
        if self.pool is not None:
            total = sum(present.values()) + absent
            least = self.pool * total if self.pool < 1 else self.pool
            pooled = tuple(label for label in order if not isinstance(label, Absent) and present[label] < least)
            rare = set(pooled)
            order = [label for label in order if isinstance(label, Absent) or label not in rare]
        if absent:
            order.append(MISSING)
        if pooled:
            order.append(_pool_name(order))
        with_order = self.replaced(order=tuple(order))
        return with_order.replaced(pooled=pooled) if pooled else with_order

    def _ordered(self, present: dict[Label, int], ordered: Labels | None) -> list[Label]:
        if ordered is not None and self.order == "sorted":
            return [label for label in ordered if label in present]
        by_size = sorted(present, key=lambda label: (isinstance(label, str), label))
        return by_size if self.order == "sorted" else sorted(by_size, key=lambda label: -present[label])

    def _refuse_outside(self, present: dict[Label, int]) -> None:
        known = {literal_key(label) for label in (*self.labels(), *self.pooled) if not isinstance(label, Absent)}
        outside = [label for label in present if literal_key(label) not in known]
        if outside and self.unseen == "fail":
            shown = ", ".join(repr(label) for label in outside[:5])
            quoted = {label_text(label) for label in outside}.intersection(map(str, self.labels()))
            raise DataError(
                f"'{self.x}' has categories outside its order: {shown}",
                remedy="Write the numbers of the order without quotes."
                if quoted
                else 'Add them to the order, or write unseen="missing".',
            )

    def _refuse_too_many(self, present: dict[Label, int]) -> None:
        longest = max((len(label) for label in present if isinstance(label, str)), default=0)
        if longest > LONGEST:
            begins = next(label[:40] for label in present if isinstance(label, str) and len(label) == longest)
            raise DataError(
                f"'{self.x}' has a text of {longest:,} characters, which is no category: '{begins}..'",
                remedy="Leave it out, or correct the cell: a quote that is not closed makes one cell of many.",
            )
        rows = sum(present.values())
        if len(present) > self.limit or (len(present) == rows and rows > 2):
            plain = not self.x.children()
            declare = f" declare it {declared_as(self.x, 'id')}," if plain else ""
            many = "as many as rows" if len(present) == rows else f"more than limit={self.limit}"
            raise DataError(
                f"'{self.x}' has {len(present):,} categories, {many}: is it an id or a date?",
                remedy=f"Leave it out,{declare} regroup it, pool the rare ones with pool=.., or raise limit.",
            )

    @property
    def is_closed(self) -> bool:
        return isinstance(self.order, tuple)

    def labels(self) -> tuple[Label | Absent, ...]:
        """Return the categories in their order.

        Raises:
            PlanError: where they are not learned yet.
        """
        return self.learned(self.order if isinstance(self.order, tuple) else None)

    def targets(self) -> dict[object, int]:
        """Return the place in the order of each category, by its key."""
        order = self.labels()
        places: dict[object, int] = {}
        for at, label in enumerate(order):
            places[MISSING if isinstance(label, Absent) else literal_key(label)] = at
        if self.pooled:
            for label in self.pooled:
                places[literal_key(label)] = len(order) - 1
        return places

    def positions(self, rows: Rows, values: Values) -> Array:
        """Return each row's place in the order; ABSENT where it is missing, UNSEEN where it is not in the order."""
        places = rows.shared(("places", self), self.targets)
        other = len(places and self.order) - 1 if self.unseen == "pool" and self.pooled else UNSEEN
        absent = places.get(MISSING, UNSEEN if self.own_missing else ABSENT)
        if values.labels is not None:
            recode = rows.shared(
                (self, values.labels),
                lambda: _recoding([*(places.get(literal_key(label), other) for label in values.labels or ()), absent]),
            )
            # where places follow the codes, none is looked up
            target = values.data if recode is None else recode[values.data]
        else:
            pairs = sorted((k[1], at) for k, at in places.items() if isinstance(k, tuple) and k[0] == "number")
            numbers = np.array([key for key, _ in pairs], dtype=np.float64)
            data = values.numbers()
            slot = np.minimum(np.searchsorted(numbers, data), max(len(numbers) - 1, 0))
            hit = numbers[slot] == data if len(numbers) else np.zeros(len(data), dtype=bool)
            at = np.array([at for _, at in pairs] or [0])
            target = np.where(hit, at[slot], other)
        return target if values.valid is None else np.where(values.valid, target, absent)

    def placed(self, rows: Rows) -> tuple[Array, Mask | None]:
        """Return each row's place, and which rows have one; an unseen category is an error where the options say so."""
        values = rows.evaluate(self.x)
        places = self.positions(rows, values)
        if len(places) and int(places.min()) < 0:
            if self.unseen != "missing" and (unseen := places == UNSEEN).any():
                raise self._unseen(rows, values.full(rows.length), np.broadcast_to(unseen, rows.length))
            return places, places >= 0
        return places, None

    def missing_because(self) -> str:
        return f"{self.x.subject()} has a category that is not in the order"

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
            f"'{self.x}' has a category that is not in the plan: {shown}",
            f'The plan has {known}. Correct the rows, add it to the order, write unseen="missing" or "pool", or '
            "resolve the plan anew.",
        )

    def decided_by(self) -> tuple[Node, ...]:
        return (self.x,) if self.unseen == "missing" else ()

    def valid(self, rows: Rows) -> Mask | None:
        if self.own_missing and self.unseen != "missing":
            return None
        present = None if self.own_missing else rows.valid(self.x)
        if self.is_closed and self.unseen == "missing":
            places = self.positions(rows, rows.evaluate(self.x).full(rows.length))
            return and_masks(present, places != UNSEEN)
        return present


def _counted(codes: Array, count: int) -> Array:
    """Return how often each code occurs; few codes of one byte are compared faster than they are counted."""
    if codes.dtype.itemsize == 1 and count <= 16:
        counts = [np.count_nonzero(codes == code) for code in range(count - 1)]
        return np.array([*counts, len(codes) - sum(counts)])  # every code given is one of them
    return np.bincount(codes, minlength=count)


def _pool_name(order: list[Label | Absent]) -> str:
    name = "other"
    while name in order:
        name += "_"
    return name


def _recoding(places: list[int]) -> Array | None:
    """Return the place of each code, in the smallest signed type (which sorts fastest); None where it is the code."""
    if places == [*range(len(places) - 1), ABSENT]:
        return None
    return np.array(places, dtype=np.min_scalar_type(-max(max(places) + 2, 2)))
