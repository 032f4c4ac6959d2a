"""Comparisons, three-valued logic and conditions."""

from __future__ import annotations

from functools import reduce
from typing import ClassVar

import numpy as np

from facturum.data.values import Array, Kind, Label, Labels, Mask, Values, label_text
from facturum.language.core.comparing import check_pair, compare, label_key, literal
from facturum.language.core.literals import Condition, Missing, Number, Text, Truth, truths
from facturum.language.meanings.categories import Indicator
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Unit
from facturum.language.tree.nodes import Kinds, Node, Type, need_number
from facturum.language.tree.options import FLAG, VALUE, argument, arguments, option
from facturum.language.tree.registry import node
from facturum.language.tree.rows import Rows
from facturum.language.tree.writer import AND, COMPARE, IF, NOT, OR, SUM, Writer


def equals(expression: Node, label: Label) -> Comparison:
    """Return the condition that an expression has a label."""
    return Comparison((expression, literal_node(label)), ("==",))


def literal_node(label: Label) -> Node:
    """Return a label as a literal."""
    return Truth(label) if isinstance(label, bool) else Text(label) if isinstance(label, str) else Number(label)


@node
class Comparison(Condition):
    """A comparison, or a chain of them such as ``10 <= x < 20``."""

    symbol: ClassVar[str] = "a comparison"
    operands: tuple[Node, ...] = arguments("what is compared")
    operators: tuple[str, ...] = option(VALUE, "how")

    def written(self, writer: Writer) -> tuple[str, int]:
        words = [writer.text(self.operands[0], SUM)]
        for operator, operand in zip(self.operators, self.operands[1:], strict=True):
            words += [operator, writer.text(operand, SUM)]
        return " ".join(words), COMPARE

    def check(self, kinds: Kinds) -> Type:
        if any(isinstance(operand, Missing) for operand in self.operands):
            there = next((str(operand) for operand in self.operands if not isinstance(operand, Missing)), "..")
            raise self.error("missing cannot be compared with anything", f"Write is_missing({there}).")
        for left, operator, right in self._pairs():
            check_pair(self, left, operator, right, kinds)
        return Type(Kind.TRUTH)

    def values(self, rows: Rows) -> Values:
        first, *others = [compare(left, operator, right, rows) for left, operator, right in self._pairs()]
        return reduce(_and, others, first)

    def valid(self, rows: Rows) -> Mask | None:
        return super().valid(rows) if len(self.operators) == 1 else self.values(rows).valid

    def decided_by(self) -> tuple[Node, ...]:
        return self.operands if len(self.operators) > 1 else ()

    def response_meaning(self) -> Meaning:
        label = literal(self.operands[-1])
        if self.operators != ("==",) or label is None:
            return self.meaning()
        return Indicator(self.operands[0].subject(), label_text(label), node=self)

    def _pairs(self) -> list[tuple[Node, str, Node]]:
        return list(zip(self.operands[:-1], self.operators, self.operands[1:], strict=True))


@node
class Membership(Condition):
    """Whether a value is (or is not) among those listed."""

    symbol: ClassVar[str] = "in"

    value: Node = argument("what is looked for")
    members: tuple[Node, ...] = arguments("literals", default=())
    negated: bool = option(FLAG, "whether it must not be among them", default=False)

    def written(self, writer: Writer) -> tuple[str, int]:
        sign = "not in" if self.negated else "in"
        return f"{writer.text(self.value, SUM)} {sign} [{writer.several(self.members)}]", COMPARE

    def check(self, kinds: Kinds) -> Type:
        for member in self.members:
            if literal(member) is None:
                raise member.error("a list after 'in' holds numbers and texts only", "Write == and or instead.")
            check_pair(self, self.value, "==", member, kinds)
        return Type(Kind.TRUTH)

    def values(self, rows: Rows) -> Values:
        value = rows.evaluate(self.value)
        if value.labels is not None:
            chosen = {label_key(literal(member)) for member in self.members}
            flags = np.array([label_key(label) in chosen for label in value.labels] + [False])
            member_of = flags[value.data]
        elif all(isinstance(member, Number | Truth) for member in self.members):
            member_of = np.isin(value.numbers(), np.array([float(literal(member) or 0) for member in self.members]))
        else:
            member_of = np.zeros(len(value.data), dtype=bool)
            for member in self.members:
                member_of |= compare(self.value, "==", member, rows).data
        return Values(~member_of if self.negated else member_of, value.valid)

    def entry_count(self) -> int:
        return len(self.members)

    def valid(self, rows: Rows) -> Mask | None:
        return rows.valid(self.value)


@node
class And(Condition):
    """True where both are; false where one is false, even if the other is missing."""

    symbol: ClassVar[str] = "and"

    left: Node = argument("a condition")
    right: Node = argument("a condition")

    def written(self, writer: Writer) -> tuple[str, int]:
        return f"{writer.text(self.left, AND)} and {writer.text(self.right, NOT)}", AND

    def check(self, kinds: Kinds) -> Type:
        return _check_conditions(self, kinds)

    def values(self, rows: Rows) -> Values:
        return _and(rows.evaluate(self.left), rows.evaluate(self.right))

    def decided_by(self) -> tuple[Node, ...]:
        return self.children()

    def valid(self, rows: Rows) -> Mask | None:
        return self.values(rows).valid


@node
class Or(Condition):
    """True where one is, even if the other is missing; false where both are false."""

    symbol: ClassVar[str] = "or"

    left: Node = argument("a condition")
    right: Node = argument("a condition")

    def written(self, writer: Writer) -> tuple[str, int]:
        return f"{writer.text(self.left, OR)} or {writer.text(self.right, AND)}", OR

    def check(self, kinds: Kinds) -> Type:
        return _check_conditions(self, kinds)

    def values(self, rows: Rows) -> Values:
        left, right = rows.evaluate(self.left), rows.evaluate(self.right)
        a, b = truths(left), truths(right)
        return Values(a | b, _known(left, right, a, b))

    def decided_by(self) -> tuple[Node, ...]:
        return self.children()

    def valid(self, rows: Rows) -> Mask | None:
        return self.values(rows).valid


@node
class Not(Condition):
    """True where the condition is false; missing where it is missing."""

    symbol: ClassVar[str] = "not"

    value: Node = argument("a condition")

    def written(self, writer: Writer) -> tuple[str, int]:
        return f"not {writer.text(self.value, NOT)}", NOT

    def check(self, kinds: Kinds) -> Type:
        return _check_conditions(self, kinds)

    def values(self, rows: Rows) -> Values:
        inner = rows.evaluate(self.value)
        return Values(~truths(inner), inner.valid)


@node
class Conditional(Node):
    """One of two values by a condition; only the branch taken can fail. Missing where the condition is."""

    symbol: ClassVar[str] = "if"

    then: Node = argument("the value where the condition holds")
    condition: Node = argument("the condition")
    otherwise: Node = argument("the value elsewhere")

    def written(self, writer: Writer) -> tuple[str, int]:
        then, condition, otherwise = (
            writer.text(self.then, OR),
            writer.text(self.condition, OR),
            writer.text(self.otherwise),
        )
        return f"{then} if {condition} else {otherwise}", IF

    def check(self, kinds: Kinds) -> Type:
        need_number(self, self.condition, kinds)
        branches = [kinds.type_of(branch) for branch in (self.then, self.otherwise)]
        known = [types.kind for types in branches if types.kind is not Kind.MISSING]
        if len({(kind.numeric, kind.categorical) for kind in known}) > 1:
            raise self.error(
                f"the branches are {known[0].with_article} and {known[1].with_article}", "Make both of one kind."
            )
        if not known:
            return Type(Kind.MISSING)
        if all(kind.categorical for kind in known):
            labels = [label for types in branches for label in types.labels or ()]
            return Type(Kind.CATEGORY, labels=tuple(dict.fromkeys(labels)))
        return Type(known[0] if len(set(known)) == 1 else Kind.NUMBER)

    def values(self, rows: Rows) -> Values:
        condition = rows.evaluate(self.condition).full(rows.length)
        holds = truths(condition)
        known = condition.valid
        first = holds if known is None else holds & known
        second = ~holds if known is None else ~holds & known
        branches = ((self.then, first), (self.otherwise, second))
        chosen = [(np.flatnonzero(mask), branch) for branch, mask in branches if not isinstance(branch, Missing)]
        parts = [(some, rows.where(some).evaluate(branch).full(len(some))) for some, branch in chosen if len(some)]
        if all(part.data.dtype == bool for _, part in parts):  # what the other branch is decides what all are
            parts += [(some, rows.where(some).evaluate(branch)) for some, branch in chosen if not len(some)]
        return _assembled(parts, rows.length)

    def valid(self, rows: Rows) -> Mask | None:
        condition = rows.evaluate(self.condition).full(rows.length)
        holds = truths(condition)
        result = np.zeros(rows.length, dtype=bool)
        for branch, mask in ((self.then, holds), (self.otherwise, ~holds)):
            chosen = np.flatnonzero(mask if condition.valid is None else mask & condition.valid)
            if len(chosen):
                inner = rows.where(chosen).valid(branch)
                result[chosen] = True if inner is None else inner
        return None if result.all() else result

    def decided_by(self) -> tuple[Node, ...]:
        return (self.condition,)

    def meaning(self) -> Meaning:
        return Unit(self.subject(), node=self)

    def missing_because(self) -> str:
        return f"the condition {self.condition.subject()} leads to missing"


def _assembled(parts: list[tuple[Array, Values]], length: int) -> Values:
    """Put the values of disjoint rows together; rows of no part are missing."""
    labelled = [(chosen, part) for chosen, part in parts if part.labels is not None]
    if labelled:  # what has no labels among categories is missing
        return _assembled_categories(labelled, length)
    data = np.zeros(length, dtype=np.result_type(*[part.data for _, part in parts], bool))
    valid = np.zeros(length, dtype=bool)
    for chosen, part in parts:
        data[chosen] = part.data
        valid[chosen] = True if part.valid is None else part.valid
    return Values(data, None if valid.all() else valid)


def _assembled_categories(parts: list[tuple[Array, Values]], length: int) -> Values:
    labels: Labels = tuple(dict.fromkeys(label for _, part in parts for label in part.labels or ()))
    place = {label: at for at, label in enumerate(labels)}
    data = np.full(length, -1)
    for chosen, part in parts:
        recode = np.array([place[label] for label in part.labels or ()] + [-1])
        codes = recode[part.data]
        data[chosen] = codes if part.valid is None else np.where(part.valid, codes, -1)
    present = data >= 0
    return Values(data, None if present.all() else present, labels)


def _check_conditions(condition: Node, kinds: Kinds) -> Type:
    for child in condition.children():
        need_number(condition, child, kinds)
    return Type(Kind.TRUTH)


def _and(left: Values, right: Values) -> Values:
    a, b = truths(left), truths(right)
    return Values(a & b, _known(left, right, ~a, ~b))


def _known(left: Values, right: Values, a_settles: Array, b_settles: Array) -> Mask | None:
    """Return where a three-valued connective is known: both are, or one that settles it is."""
    if left.valid is None and right.valid is None:
        return None
    x = np.array([True]) if left.valid is None else left.valid
    y = np.array([True]) if right.valid is None else right.valid
    known: Mask = (x & y) | (x & a_settles) | (y & b_settles)
    return known
