"""How two sides of a comparison are checked and compared: numbers, labels, times with periods."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from facturum.data.time.calendar import FORMS, Period, period_of
from facturum.data.values import Array, Kind, Label, Mask, Values, and_masks, label_text
from facturum.errors import nearest
from facturum.language.core.literals import Number, Text, Truth
from facturum.language.tree.nodes import Kinds, Node, Type
from facturum.language.tree.rows import Rows

COMPARE: dict[str, Callable[[Any, Any], Any]] = {
    "<": np.less,
    "<=": np.less_equal,
    ">": np.greater,
    ">=": np.greater_equal,
    "==": np.equal,
    "!=": np.not_equal,
}
TURNED = {"<": ">", "<=": ">=", ">": "<", ">=": "<=", "==": "==", "!=": "!="}


def literal(expression: Node) -> Label | None:
    """Return the label of a literal, or None for anything else."""
    return expression.value if isinstance(expression, Text | Number | Truth) else None


def label_key(label: Label | None) -> tuple[bool, Label | None]:
    """Return a key that differs between the text '1' and the number 1."""
    return (isinstance(label, str), label)


def check_pair(whole: Node, left: Node, operator: str, right: Node, kinds: Kinds) -> None:
    if literal(left) is not None and literal(right) is None:
        left, operator, right = right, TURNED[operator], left
    label = literal(right)
    type_of_left = kinds.type_of(left)
    if type_of_left.kind is Kind.TIME and isinstance(right, Text):
        period_written(right)
        return
    if type_of_left.kind.categorical and label is not None:
        _check_label(right, label, type_of_left, operator, kinds)
        return
    other = kinds.type_of(right)
    if type_of_left.kind.numeric and other.kind.numeric:
        return
    if type_of_left.kind is other.kind is Kind.TIME:
        return
    if type_of_left.kind.categorical and other.kind.categorical:
        same_order = type_of_left.kind is other.kind is Kind.ORDERED and type_of_left.labels == other.labels
        if operator in ("==", "!=") or same_order:
            return
        raise whole.error(f"'{operator}' needs an order, and these categories have none in common", _ORDER)
    remedy = "Compare numbers with numbers, categories with texts, times with periods."
    if type_of_left.kind is Kind.TIME:
        remedy = "A period is written as a text: month < '2023', or '2023-04', '2023Q2', '2023-04-17'."
    raise whole.error(f"{type_of_left.kind.with_article} cannot be compared with {other.kind.with_article}", remedy)


_TIMES = 'They are times written as text: write [variables] NAME = { kind = "time" } for the variable.'
_ORDER = 'Declare it in [variables] as kind = "ordered" with its order, or use == and in.'


def _check_label(right: Node, label: Label, type_of_x: Type, operator: str, kinds: Kinds) -> None:
    if operator not in ("==", "!=") and type_of_x.kind is not Kind.ORDERED:
        texts = [label for label in type_of_x.labels or () if isinstance(label, str)]
        dated = bool(texts) and len(texts) == len(type_of_x.labels or ()) and all(map(period_of, texts))
        remedy = _TIMES if dated else _ORDER
        raise right.error(f"'{operator}' needs an order, and the categories have none", remedy)
    if type_of_x.labels is None:
        return  # which categories there are is not learned yet
    known = type_of_x.labels
    if (kinds.resolved and type_of_x.kind is not Kind.ORDERED) or label_key(label) in {label_key(k) for k in known}:
        return
    shown = ", ".join(label_text(k) for k in known[:8]) + (", .." if len(known) > 8 else "")
    hint = nearest(label_text(label), [label_text(k) for k in known])
    raise right.error(f"no row has the category {label!r}{hint}", f"The categories are {shown}.")


def period_written(text: Text) -> Period:
    """Return the period that a text names.

    Raises:
        PlanError: where it names none.
    """
    period = period_of(text.value)
    if period is None:
        raise text.error(f"'{text.value}' is not a valid period", f"Write it as {FORMS}.")
    return period


def compare(left: Node, operator: str, right: Node, rows: Rows) -> Values:
    if literal(left) is not None and literal(right) is None:
        left, operator, right = right, TURNED[operator], left
    a = rows.evaluate(left)
    if a.labels is not None:
        return _compare_categories(a, operator, right, rows)
    if isinstance(right, Text):
        return Values(_compare_period(a.data, operator, period_written(right)), a.valid)
    b = rows.evaluate(right)
    times = a.data.dtype == b.data.dtype == np.int64
    data = COMPARE[operator](a.data, b.data) if times else COMPARE[operator](a.numbers(), b.numbers())
    return Values(data, and_masks(a.valid, b.valid))


def _compare_categories(a: Values, operator: str, right: Node, rows: Rows) -> Values:
    labels = a.labels or ()
    label = literal(right)
    if label is not None:
        keys = [label_key(known) for known in labels]
        code = keys.index(label_key(label)) if label_key(label) in keys else -2
        return Values(COMPARE[operator](a.data, code), a.valid)
    b = rows.evaluate(right)
    place = {label: at for at, label in enumerate(labels)}
    recode = np.array([place.get(k, -2) for k in b.labels or ()] + [-1])
    return Values(COMPARE[operator](a.data, recode[b.data]), and_masks(a.valid, b.valid))


def _compare_period(data: Array, operator: str, period: Period) -> Mask:
    inside = (data >= period.start) & (data < period.end)
    results: dict[str, Callable[[], Mask]] = {
        "==": lambda: inside,
        "!=": lambda: ~inside,
        "<": lambda: data < period.start,
        ">=": lambda: data >= period.start,
        "<=": lambda: data < period.end,
        ">": lambda: data >= period.end,
    }
    return results[operator]()
