"""The scalar formulas of each coding of a category."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from facturum.data.values import label_text
from facturum.language.core.literals import Number
from facturum.language.core.logic import And, Comparison, Conditional, Membership, Not, equals, literal_node
from facturum.language.meanings.categories import Contrast, Indicator
from facturum.language.meanings.numbers import Orthogonal, Unit
from facturum.language.operations.absent.missing import IsMissing
from facturum.language.operations.categories.lookup import Lookup
from facturum.language.tree.nodes import Column, Node, Part
from facturum.language.tree.options import Absent
from facturum.numerics.shapes.contrasts import difference_steps, helmert_steps, polynomial_contrasts

if TYPE_CHECKING:
    from facturum.language.operations.categories.categories import Category

MAX_NAMED = 8  # categories that a condition names one by one


def _labels(category: Category) -> list[str]:
    return [category.missing_name if isinstance(label, Absent) else label_text(label) for label in category.labels()]


def _part(text: str) -> tuple[Part, ...]:
    return (("category", text),)


def _plain(category: Category) -> bool:
    """Return whether each row has one of the categories as they are, or no value."""
    return not category.pooled and category.unseen == "fail" and not category.own_missing


def _equals(category: Category, place: int) -> Node:
    """Return the condition that a row has the category at a place of the order, by its name where that is exact."""
    label = category.labels()[place]
    if category.unseen == "missing":  # an unseen category is missing
        return Comparison((category.code_node(), Number(place)), ("==",))
    if isinstance(label, Absent):
        return IsMissing(category.x)
    if not category.pooled or place < len(category.labels()) - 1:
        equality = category.x.equal_to(label) or equals(category.x, label)
    elif category.unseen == "pool":
        known = [each for each in category.labels()[:-1] if not isinstance(each, Absent)]
        equality = Membership(category.x, tuple(map(literal_node, known)), negated=True)
    else:
        equality = Membership(category.x, tuple(map(literal_node, category.pooled)))
    return And(equality, Not(IsMissing(category.x))) if category.own_missing else equality


def _among(category: Category, first: int, after: int) -> Node:
    """Return the condition that a row has one of the categories from one place of the order to before another."""
    order = category.labels()
    labels = order[first:after]
    if _plain(category) and len(labels) == 1:
        return _equals(category, first)
    if _plain(category) and len(labels) <= MAX_NAMED:
        return Membership(category.x, tuple(literal_node(label) for label in labels if not isinstance(label, Absent)))
    code = category.code_node()
    if first == 0:
        return Comparison((code, Number(after)), ("<",))
    return Comparison((code, Number(first)), (">=",))


def _by_category(category: Category, values: Sequence[float]) -> Node:
    """Return the number assigned to the category of each row."""
    labels = category.labels()
    if _plain(category):
        return Lookup((category.x,), tuple(zip(labels, values, strict=True)))
    return Lookup((category.code_node(),), tuple(enumerate(values)))


def _indicators(category: Category) -> list[Column]:
    labels = _labels(category)
    skipped = category.reference_place if category.coding == "reference" else None
    reference = None if skipped is None else labels[skipped]
    return [
        Column(
            _part(label),
            _equals(category, place),
            Indicator(
                category.x.subject(),
                label,
                reference,
                place=place,
                base=skipped,
                node=category.code_node(),
                bounds=category.x.named_by_bounds,
            ),
            "indicator",
            reference,
        )
        for place, label in enumerate(labels)
        if place != skipped
    ]


def _contrast(category: Category, labels: Sequence[str], place: int, against: str, other: str) -> Contrast:
    return Contrast(
        category.x.subject(), labels[place], against, other, place=place, count=len(labels),
        node=category.code_node(), bounds=category.x.named_by_bounds,
    )  # fmt: skip


def _effects(category: Category) -> list[Column]:
    labels = _labels(category)
    left_out = category.reference_place
    minus = Conditional(Number(-1), _equals(category, left_out), Number(0))
    return [
        Column(
            _part(label),
            Conditional(Number(1), _equals(category, place), minus),
            _contrast(category, labels, place, "all", labels[left_out]),
            "contrast",
            labels[left_out],
        )
        for place, label in enumerate(labels)
        if place != left_out
    ]


def _differences(category: Category) -> list[Column]:
    labels = _labels(category)
    return [
        Column(
            _part(labels[at]),
            Conditional(Number(after), _among(category, at, len(labels)), Number(before)),
            _contrast(category, labels, at, "before", labels[at - 1]),
            "contrast",
            labels[at - 1],
        )
        for at, (before, after) in enumerate(difference_steps(len(labels)), start=1)
    ]


def _helmert(category: Category) -> list[Column]:
    labels = _labels(category)
    columns = []
    for at, (earlier, label) in enumerate(helmert_steps(len(labels)), start=1):
        rest = Conditional(Number(label), _equals(category, at), Number(0))
        formula = Conditional(Number(earlier), _among(category, 0, at), rest)
        meaning = _contrast(category, labels, at, "earlier", ", ".join(labels[:at]))
        columns.append(Column(_part(labels[at]), formula, meaning, "contrast"))
    return columns


def _polynomial(category: Category) -> list[Column]:
    labels = _labels(category)
    columns = []
    for degree, contrast in enumerate(polynomial_contrasts(len(labels)), start=1):
        formula = _by_category(category, contrast)
        parts: tuple[Part, ...] = (("operation", str(degree)),) if degree > 1 else ()
        meaning = Orthogonal(
            category.x.subject(), degree, len(labels) - 1, count=len(labels), node=category.code_node()
        )
        columns.append(Column(parts, formula, meaning, "contrast"))
    return columns


def _score(category: Category) -> list[Column]:
    formula = _by_category(category, range(1, len(category.labels()) + 1))
    return [Column((), formula, Unit(f"{category.x.subject()} (score)", node=formula), "score")]


CODINGS: dict[str, Callable[[Category], list[Column]]] = {
    "reference": _indicators,
    "every": _indicators,
    "effect": _effects,
    "difference": _differences,
    "helmert": _helmert,
    "polynomial": _polynomial,
    "score": _score,
}  # by name, each with what makes its columns once the order is known
