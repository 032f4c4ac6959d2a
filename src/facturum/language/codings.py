"""The scalar formulas of each coding of a category."""

from __future__ import annotations

from typing import TYPE_CHECKING

from facturum.data.values import label_text
from facturum.language.core import Add, Number
from facturum.language.logic import Comparison, Conditional
from facturum.language.lookup import Lookup
from facturum.language.missing import IsMissing
from facturum.language.nodes import Column, Node, Part
from facturum.language.options import Absent
from facturum.language.reading import Contrast, Indicator, Orthogonal, Unit
from facturum.numerics.contrasts import difference_steps, helmert_steps, polynomial_contrasts

if TYPE_CHECKING:
    from facturum.language.categories import Category

CODINGS = ("reference", "every", "effect", "difference", "helmert", "polynomial", "score")


def coded_columns(category: Category) -> tuple[Column, ...]:
    """Return the columns of a category whose order is known, in its coding."""
    makers = {
        "reference": _indicators,
        "every": _indicators,
        "effect": _effects,
        "difference": _differences,
        "helmert": _helmert,
        "polynomial": _polynomial,
        "score": _score,
    }
    return tuple(makers[category.coding](category))


def _labels(category: Category) -> list[str]:
    return [category.missing_name if isinstance(label, Absent) else label_text(label) for label in category.labels()]


def _part(text: str) -> tuple[Part, ...]:
    return (("category", text),)


def _equals(category: Category, place: int) -> Node:
    """Return the condition that a row has the category at a place of the order."""
    label = category.labels()[place]
    plain = not category.pooled and category.unseen == "fail" and not category.own_missing
    if plain and not isinstance(label, Absent):
        return category.x.equal_to(label)
    if isinstance(label, Absent) and category.unseen == "fail":
        return IsMissing(category.x)
    return Comparison((category.code_node(), Number(place)), ("==",))


def _indicators(category: Category) -> list[Column]:
    labels = _labels(category)
    skipped = category.reference_place if category.coding == "reference" else None
    reference = None if skipped is None else labels[skipped]
    return [
        Column(
            _part(label),
            _equals(category, place),
            Indicator(category.x.subject(), label, reference),
            "indicator",
            reference,
        )
        for place, label in enumerate(labels)
        if place != skipped
    ]


def _effects(category: Category) -> list[Column]:
    labels = _labels(category)
    left_out = category.reference_place
    minus = Conditional(Number(-1), _equals(category, left_out), Number(0))
    return [
        Column(
            _part(label),
            Conditional(Number(1), _equals(category, place), minus),
            Contrast(category.x.subject(), label, "all", labels[left_out]),
            "contrast",
            labels[left_out],
        )
        for place, label in enumerate(labels)
        if place != left_out
    ]


def _differences(category: Category) -> list[Column]:
    labels, code = _labels(category), category.code_node()
    return [
        Column(
            _part(labels[at]),
            Conditional(Number(after), Comparison((code, Number(at)), (">=",)), Number(before)),
            Contrast(category.x.subject(), labels[at], "before", labels[at - 1]),
            "contrast",
            labels[at - 1],
        )
        for at, (before, after) in enumerate(difference_steps(len(labels)), start=1)
    ]


def _helmert(category: Category) -> list[Column]:
    labels, code = _labels(category), category.code_node()
    columns = []
    for at, (earlier, own) in enumerate(helmert_steps(len(labels)), start=1):
        is_own = Comparison((code, Number(at)), ("==",))
        is_earlier = Comparison((code, Number(at)), ("<",))
        formula = Conditional(Number(earlier), is_earlier, Conditional(Number(own), is_own, Number(0)))
        reading = Contrast(category.x.subject(), labels[at], "earlier", ", ".join(labels[:at]))
        columns.append(Column(_part(labels[at]), formula, reading, "contrast"))
    return columns


def _polynomial(category: Category) -> list[Column]:
    labels, code = _labels(category), category.code_node()
    columns = []
    for degree, contrast in enumerate(polynomial_contrasts(len(labels)), start=1):
        formula = Lookup((code,), tuple(enumerate(contrast)))
        parts: tuple[Part, ...] = (("operation", str(degree)),) if degree > 1 else ()
        reading = Orthogonal(category.x.subject(), degree, len(labels) - 1)
        columns.append(Column(parts, formula, reading, "contrast"))
    return columns


def _score(category: Category) -> list[Column]:
    formula = Add(category.code_node(), Number(1))
    return [Column((), formula, Unit(f"{category.x.subject()} (score)"), "score")]
