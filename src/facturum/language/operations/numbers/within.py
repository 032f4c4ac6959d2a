"""Numbers less the effects of their groups."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, ClassVar, TypeAlias

import numpy as np

from facturum.data.values import FloatArray, Kind, Label, Mask, Values, and_masks
from facturum.errors import DataError
from facturum.language.learning.groups import Group, GroupQuestion, Key, group_codes, in_order
from facturum.language.learning.samples import TOO_FAR, present, some
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Logged, Unit
from facturum.language.operations.categories.lookup import Lookup
from facturum.language.operations.numbers.statistics import mean_of_values, table_of
from facturum.language.operations.numbers.transforms import Exp
from facturum.language.tree.nodes import Kinds, Node, Question, Type, finite, need_number
from facturum.language.tree.options import MISSING, TABLE, Absent, argument, arguments, option, whole_from
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows
from facturum.numerics.shapes.two_way import IntArray, connected_sets, two_way_effects

Effects: TypeAlias = tuple[tuple[Key, Label | Absent], ...]


@dataclass(frozen=True)
class TwoWayQuestion(Question):
    """The effects of two groupings; all rows are brought together, in an order of their own.

    Args:
        inputs: the number, then what forms the groups of the first grouping, then of the second.
        width: how many variables form the first.
        answer: is given the effects of both, and how many sets of groups no row connects.
    """

    inputs: tuple[Node, ...]
    width: int
    answer: Callable[[dict[Group, float], dict[Group, float], int], Node]

    def observe(self, values: Sequence[Values]) -> tuple[FloatArray, list[tuple[IntArray, list[Group]]]]:
        x, *by = present(values)
        return x.numbers(), [group_codes(by[: self.width]), group_codes(by[self.width :])]

    def merge(self, parts: Sequence[Any]) -> tuple[FloatArray, list[tuple[IntArray, list[Group]]]]:
        x = np.concatenate([part[0] for part in parts])
        return x, [_merged([part[1][side] for part in parts]) for side in (0, 1)]

    def advance(self, merged: tuple[FloatArray, list[tuple[IntArray, list[Group]]]]) -> Node:
        x, ((first, first_keys), (second, second_keys)) = merged
        some(len(x), self.inputs[0])
        order = np.lexsort((x, second, first))  # so that the sums do not depend on how the leaves were merged
        first, second, x = first[order], second[order], x[order]
        with np.errstate(all="ignore"):
            try:
                effects = two_way_effects(first, second, x)
            except ArithmeticError:
                effects = (np.array([np.inf]), np.array([np.inf]))
        if not all(np.isfinite(side).all() for side in effects):
            raise DataError(f"the effects of the groups on '{self.inputs[0]}' exceed double precision", remedy=TOO_FAR)
        a, b = (
            dict(zip(keys, side.tolist(), strict=True))
            for keys, side in zip((first_keys, second_keys), effects, strict=True)
        )
        return self.answer(a, b, connected_sets(first, second)[0])


def _merged(parts: Sequence[tuple[IntArray, list[Group]]]) -> tuple[IntArray, list[Group]]:
    """Return one numbering of the groups of several leaves, in the order of their keys."""
    keys = in_order({key for _, groups in parts for key in groups})
    place = {key: at for at, key in enumerate(keys)}
    codes = [np.array([place[key] for key in groups], dtype=np.int64)[each] for each, groups in parts if groups]
    return np.concatenate(codes) if codes else np.zeros(0, dtype=np.int64), keys


@operation
class Within(Node):
    """The number less the mean of its group (within transformation); with `and_by` less the effects of two groupings.

    Beside it, least squares gives the slopes of a regression with an indicator for each group, once the response is
    transformed alike. The effects are learned from the estimation sample: of one grouping the means of its groups, of
    two the least squares effects of both. A row of a group that was not in the sample is missing. Resolving writes
    `effects`, `and_effects` and `absorbed`, the degrees of freedom that the indicators would take beside an intercept.

    Source: Baltagi, "Econometric Analysis of Panel Data", chapters 2 and 3.

    Example: `within(log(price), by=[hut])`, `within(stays, by=[hut], and_by=[month])`.
    """

    family: ClassVar[str] = "statistics"
    groups_by: ClassVar[frozenset[str]] = frozenset({"by", "and_by"})
    pools: ClassVar[bool] = True
    has_levels: ClassVar[bool] = True
    x: Node = argument("a number")
    by: tuple[Node, ...] = arguments("variables that form groups", default=())
    and_by: tuple[Node, ...] = arguments("variables that form the groups of a second grouping", default=())
    effects: Effects = option(TABLE, "what is subtracted, for each group", learned=True, default=())
    and_effects: Effects = option(
        TABLE, "what is subtracted besides, for each group of the second grouping", learned=True, default=()
    )
    absorbed: int | None = option(
        whole_from(0), "the degrees of freedom that the groups take", learned=True, default=None
    )

    @property
    def leaves_out(self) -> bool:
        return True

    def check(self, kinds: Kinds) -> Type:
        need_number(self, self.x, kinds)
        if not self.by:
            raise self.error("within needs what forms the groups", f"Write within({self.x}, by=[..]), or center(..).")
        for grouping in self._lookups:
            kinds.type_of(grouping)
        return Type(Kind.NUMBER)

    def question(self, kinds: Kinds) -> Question | None:
        if self.effects:
            return None
        if not self.and_by:
            return GroupQuestion((self.x, *self.by), mean_of_values, self._closed)
        return TwoWayQuestion((self.x, *self.by, *self.and_by), len(self.by), self._closed_two)

    def _closed(self, effects: dict[Group, float]) -> Node:
        return self.replaced(effects=table_of(effects), absorbed=len(effects) - 1)

    def _closed_two(self, first: dict[Group, float], second: dict[Group, float], sets: int) -> Node:
        # each set that no row connects to the others has a level of its own; one of them is the intercept's
        return self.replaced(
            effects=table_of(first), and_effects=table_of(second), absorbed=len(first) + len(second) - sets - 1
        )

    def values(self, rows: Rows) -> Values:
        if not self.effects:
            raise self.unresolved()
        inner = rows.evaluate(self.x)
        data, valid = inner.numbers(), inner.valid
        for grouping in self._lookups:
            effect = rows.evaluate(grouping)
            with np.errstate(all="ignore"):
                data = np.subtract(data, effect.numbers())
            valid = and_masks(valid, effect.valid)
        return finite(self, rows, data, valid)

    def valid(self, rows: Rows) -> Mask | None:
        valid = rows.valid(self.x)
        for node in self._lookups if self.effects else (*self.by, *self.and_by):
            valid = and_masks(valid, rows.valid(node))
        return valid

    def decided_by(self) -> tuple[Node, ...]:
        return (*self.by, *self.and_by)

    def groupings(self) -> tuple[tuple[Node, ...], ...]:
        return (self.by, self.and_by) if self.and_by else (self.by,)

    def meaning(self) -> Meaning:
        inner = self.x.meaning()
        if isinstance(inner, Logged):
            return replace(inner, subject=self._beside(inner.subject), shift=0.0, node=Exp(self))
        return Unit(self.subject(), node=self)

    def subject(self) -> str:
        return self._beside(self.x.subject())

    def missing_because(self) -> str:
        groups = " and ".join(str(key) for key in (*self.by, *self.and_by))
        return f"the group of {groups} was not in the estimation sample"

    def _beside(self, subject: str) -> str:
        return f"{subject} within {' and '.join(str(key) for key in (*self.by, *self.and_by))}"

    @cached_property
    def _lookups(self) -> list[Lookup]:
        first, second = Lookup(self.by, self.effects, MISSING), Lookup(self.and_by, self.and_effects, MISSING)
        return [first, second] if self.and_by else [first]
