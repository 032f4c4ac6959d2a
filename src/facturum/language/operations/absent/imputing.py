"""Imputation: learned values, constants, or neighbours in time."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Self

import numpy as np

from facturum.data.values import Array, Kind, Label, Labels, Mask, Values, plain_number, sorted_labels
from facturum.language.core.literals import Presence
from facturum.language.learning.groups import GroupQuestion, Key, KeyIndex, group_codes, in_order
from facturum.language.learning.samples import present, some
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Unit
from facturum.language.operations.numbers.statistics import (
    MeanQuestion,
    QuantileQuestion,
    Together,
    mean_of_values,
    median_of_values,
    number,
)
from facturum.language.tree.nodes import Kinds, Node, Question, Type
from facturum.language.tree.options import (
    FILL,
    TABLE,
    Absent,
    argument,
    arguments,
    one_of,
    option,
    whole_from,
)
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Nearest, Rows
from facturum.numerics.shapes.smooth_paths import between

LEARNED = ("median", "mean", "mode")
ALONG_TIME = ("previous", "next", "linear")


@dataclass(frozen=True)
class ModeQuestion(Question):
    """The most frequent value, over all rows or within groups."""

    inputs: tuple[Node, ...]  # the variable, then what forms groups
    order: Labels | None
    answer: Callable[[dict[tuple[Label | Absent, ...], Label]], Node]

    def observe(self, values: Sequence[Values]) -> Counter[tuple[Label | Absent, ...]]:
        x, *by = values
        codes, keys = group_codes([*present([*by, x])])
        return Counter(dict(zip(keys, np.bincount(codes, minlength=len(keys)).tolist(), strict=True)))

    def merge(self, parts: Sequence[Counter[tuple[Label | Absent, ...]]]) -> Counter[tuple[Label | Absent, ...]]:
        total: Counter[tuple[Label | Absent, ...]] = Counter()
        for part in parts:
            total.update(part)
        return total

    def advance(self, merged: Counter[tuple[Label | Absent, ...]]) -> Node:
        by_group: dict[tuple[Label | Absent, ...], dict[Label, int]] = {}
        for (*key, label), count in merged.items():
            if count and not isinstance(label, Absent):
                by_group.setdefault(tuple(key), {})[label] = count
        if len(self.inputs) == 1:
            some(len(by_group), self.inputs[0])
        return self.answer({key: self._mode(counts) for key, counts in by_group.items()})

    def _mode(self, counts: dict[Label, int]) -> Label:
        ordered = [k for k in self.order if k in counts] if self.order is not None else sorted_labels(list(counts))
        return max(ordered, key=lambda label: counts[label])


@operation
class Impute(Node):
    """Imputes missing values; values that are present stay as they are.

    Learned from the learning rows: "median", "mean", or "mode" (the most frequent category; of equally
    frequent ones the first in the order); with `by=[..]` for each group, and over all for a group that was not in the
    sample. Or `value`, a constant. Or from the neighbours in time within the panel: "previous", "next", or "linear"
    between the two; of these, a run of more than `limit` periods stays missing. Resolving writes `value`, or `fills`
    and `otherwise`.

    Example: `impute(snow_depth, "median", by=[valley])`, `impute(note, value="none")`, `impute(price, "linear")`.
    """

    family: ClassVar[str] = "missing"
    groups_by: ClassVar[frozenset[str]] = frozenset({"by"})
    pools: ClassVar[bool] = True
    x: Node = argument("a number, a truth value or a category")
    how: str | None = option(one_of(*LEARNED, *ALONG_TIME), "where the values come from", default=None)
    by: tuple[Node, ...] = arguments("variables that form groups", default=())
    limit: int | None = option(whole_from(1), "the longest run that is imputed, in periods", default=None)
    value: Label | None = option(FILL, "the value imputed", learned=True, by_hand=True, default=None)
    fills: tuple[tuple[Key, Label | Absent], ...] = option(
        TABLE, "the value imputed, for each group", learned=True, default=()
    )
    otherwise: Label | None = option(FILL, "the value imputed in any other group", learned=True, default=None)

    @property
    def along_time(self) -> bool:
        """Whether values come from neighbours in time."""
        return self.how in ALONG_TIME

    def check(self, kinds: Kinds) -> Type:
        type_of_x = kinds.type_of(self.x)
        if type_of_x.kind in (Kind.TIME, Kind.MISSING):
            what = "a time" if type_of_x.kind is Kind.TIME else "missing in every row"
            raise self.x.error(f"impute works on one number or category, and '{self.x}' is {what}")
        if self.how is None and self.value is None:
            raise self.error("impute needs a method or a value", 'Write "median", "mode", .. or value=...')
        if self.how in ("median", "mean", "linear") and type_of_x.kind.categorical:
            raise self.error(
                f"a category has no {self.how if self.how != 'linear' else 'value between two others'}, and "
                f"'{self.x}' is {type_of_x.kind.with_article}",
                'Write impute(.., "mode"), or value="..".',
            )
        self._check_options(kinds)
        return self._type(type_of_x)

    def _check_options(self, kinds: Kinds) -> None:
        if self.fills and self.otherwise is None:
            raise self.error("fills need a value for all other groups", "Write otherwise=.. as well.")
        if self.along_time and self._own:
            raise self.error(f'"{self.how}" fills from neighbours in time', "Leave out the written values.")
        if self.value is not None and (self.by or self.otherwise is not None):
            raise self.error("value is one fill for all groups", "Leave out by, fills and otherwise.")
        if self.otherwise is not None and not self.by:
            raise self.error("otherwise is valid only with groups", "Write by=[..] as well, or value=..")
        for key, value in self.fills:
            if isinstance(value, Absent):
                raise self.error(f"the fill of the group {key!r} is missing", "Write a value, or leave the group out.")
            if (len(key) if isinstance(key, tuple) else 1) != len(self.by):
                raise self.error(
                    f"the group {key!r} has another number of parts than by", "Write one for each variable."
                )
        if self.by and self.how not in LEARNED:
            raise self.error(
                'groups are valid only with "median", "mean" and "mode"', "Leave out by; time runs within the panel."
            )
        if self.limit is not None and not self.along_time:
            raise self.error('limit is valid only with "previous", "next" and "linear"', "Leave it out.")
        if self.along_time:
            kinds.along_time(self)

    def _type(self, type_of_x: Type) -> Type:
        fill_labels = self._own
        texts = {isinstance(value, str) for value in fill_labels}
        if type_of_x.kind.categorical:
            labels = (
                None
                if type_of_x.labels is None
                else (*type_of_x.labels, *(v for v in fill_labels if v not in type_of_x.labels))
            )
            new = labels is not None and len(labels) > len(type_of_x.labels or ())
            return Type(Kind.CATEGORY if new else type_of_x.kind, labels=None if labels is None else _distinct(labels))
        if True in texts:
            raise self.error(
                f"'{self.x}' is {type_of_x.kind.with_article}, and a text cannot be imputed", "Write a number."
            )
        self.need_exact(tuple(fill_labels))
        return Type(Kind.TRUTH if type_of_x.kind is Kind.TRUTH and self._keeps_truth else Kind.NUMBER)

    def question(self, kinds: Kinds) -> Question | None:
        if self.along_time or self.value is not None or self.otherwise is not None:
            return None
        type_of_x = kinds.type_of(self.x)
        order = type_of_x.labels if type_of_x.kind is Kind.ORDERED else None
        if not self.by:
            return self._overall(order)
        return Together((self._overall(order), self._by_group(order)), self._combined)

    def _by_group(self, order: Labels | None) -> Question:
        inputs = (self.x, *self.by)
        if self.how == "mode":
            return ModeQuestion(inputs, order, self._filled)
        statistic = median_of_values if self.how == "median" else mean_of_values
        return GroupQuestion(inputs, statistic, self._filled, whole=True)

    def _overall(self, order: Labels | None) -> Question:
        if self.how == "mode":
            return ModeQuestion((self.x,), order, lambda answers: self.replaced(value=answers[()]))
        if self.how == "mean":
            return MeanQuestion((self.x,), lambda mean: self.replaced(value=plain_number(mean)))
        return QuantileQuestion((self.x,), lambda answers: self.replaced(value=number(answers[0]).value), (0.5,))

    def _filled(self, fills: Mapping[tuple[Label | Absent, ...], Label]) -> Node:
        pairs = tuple((key[0] if len(key) == 1 else key, _plain(fills[key])) for key in in_order(fills))
        return self.replaced(fills=pairs)

    @cached_property
    def _own(self) -> list[Label]:
        """Return all imputed values."""
        literals = (self.value, self.otherwise, *(value for _, value in self.fills))
        return [value for value in literals if value is not None and not isinstance(value, Absent)]

    @cached_property
    def _keeps_truth(self) -> bool:
        """Whether the values imputed among truth values are truth values."""
        return self.how not in ("median", "mean", "linear") and all(value in (0, 1) for value in self._own)

    def _combined(self, answers: Sequence[Node]) -> Node:
        overall, groups = (answer for answer in answers if isinstance(answer, Impute))
        return self.replaced(fills=groups.fills, otherwise=overall.value)

    def values(self, rows: Rows) -> Values:
        inner = rows.evaluate(self.x).full(rows.length)
        if inner.labels is None and not self._keeps_truth:
            inner = Values(inner.numbers(), inner.valid)
        if inner.valid is None:
            return inner
        if self.along_time:
            return self._from_neighbours(rows, inner, inner.valid)
        absent = np.flatnonzero(~inner.valid)
        data, labels = self._widened(inner)
        data[absent] = self._put_in(rows, absent, labels)
        return Values(data, None, labels)

    def _widened(self, inner: Values) -> tuple[Array, Labels | None]:
        """Return a copy of the data that can hold the imputed values, and the labels with theirs."""
        if inner.labels is None:
            return inner.data.copy(), None
        return inner.data.astype(np.int64), _distinct((*inner.labels, *self._own))

    def _put_in(self, rows: Rows, absent: Array, labels: Labels | None) -> Array:
        place = {} if labels is None else {label: at for at, label in enumerate(labels)}

        def stored(value: Any) -> float:
            return float(value) if labels is None else place[value]

        if self.otherwise is None:
            return np.full(len(absent), stored(self.value))
        at = self.group_of(rows)[absent]
        stored_fills: Array = rows.shared(
            ("fills", self, labels),
            lambda: np.array([stored(value) for _, value in self.fills] + [stored(self.otherwise)]),
        )
        return stored_fills[at]

    def _index(self) -> KeyIndex:
        return KeyIndex([key if isinstance(key, tuple) else (key,) for key, _ in self.fills])

    def group_of(self, rows: Rows) -> Array:
        """Return for each row the place of its group in `fills`; -1 where the group is another one."""
        index: KeyIndex = rows.shared(("groups", self), self._index)
        return index.find([rows.evaluate(key).full(rows.length) for key in self.by])

    def _from_neighbours(self, rows: Rows, inner: Values, present: Mask) -> Values:
        """Return the values with neighbours imputed, where the run is not too long.

        A row in which the argument fails is a neighbour too, to be refused where it is read.
        """
        near, fill, before, after = self._filled_along(rows, self.x, present)
        if self.how != "linear":
            source = before if self.how == "previous" else after
            data = inner.data.copy()
            data[fill] = near.values.data[source[fill]]
        else:
            a, b, numbers = before[fill], after[fill], near.values.numbers()
            data = inner.numbers().copy()
            share = (near.period[fill] - near.periods[a]) / (near.periods[b] - near.periods[a])
            data[fill] = between(numbers[a], numbers[b], share)
        valid = present | fill
        return Values(data, None if valid.all() else valid, inner.labels)

    def _filled_along(self, rows: Rows, x: Node, present: Mask) -> tuple[Nearest, Mask, Array, Array]:
        """Return the neighbours of rows, which rows are filled from them, and their places before and after."""
        near = rows.frame(x, (0,)).nearest(x)
        before, after = near.before, near.after
        if self.limit is not None:
            first, last = near.ends()
            start = np.where(before >= 0, near.periods[before], first - 1)
            end = np.where(after >= 0, near.periods[after], last + 1)
            long = end - start - 1 > self.limit
            before, after = np.where(long, -1, before), np.where(long, -1, after)
        sides = {"previous": [before], "next": [after]}.get(self.how or "", [before, after])
        fill = ~present
        for side in sides:
            fill = fill & (side >= 0)
        near.refuse([(side, fill) for side in sides])
        return near, fill, before, after

    def filled_from(self) -> tuple[tuple[str, Node], ...]:
        where = {"previous": "earlier", "next": "later"}
        ways = tuple(where) if self.how == "linear" else (self.how,) if self.how in where else ()
        return tuple((where[way], self.replaced(how=way)) for way in ways)

    def imputed(self) -> Self:
        return self

    @property
    def moved(self) -> Node | None:
        return self.x if self.along_time else None

    def groupings(self) -> tuple[tuple[Node, ...], ...]:
        return (self.by,) if self.by else ()

    def offsets_read(self) -> tuple[int, ...]:
        return {"previous": (0, -1), "next": (0, 1), "linear": (0, -1, 1)}.get(self.how or "", (0,))

    def valid(self, rows: Rows) -> Mask | None:
        present = rows.valid(self.x) if self.along_time else None
        if present is None:
            return None
        return present | self._filled_along(rows, Presence(self.x), present)[1]

    def meaning(self) -> Meaning:
        inner = self.x.meaning()
        return Unit(self.subject(), node=self) if isinstance(inner, Unit) else inner

    def subject(self) -> str:
        inner = self.x.subject()
        return f"the imputed {inner.removeprefix('the ')}" if inner.startswith("the ") else f"{inner} (imputed)"

    def missing_because(self) -> str:
        return f"{self.x.subject()} is missing, and no value near enough fills it"


def _plain(value: Label) -> Label:
    return plain_number(value) if isinstance(value, float) else value


def _distinct(labels: Sequence[Label]) -> Labels:
    return tuple(dict.fromkeys(labels))
