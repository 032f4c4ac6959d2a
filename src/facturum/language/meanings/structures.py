"""Meanings of columns as plain data, to be stored in the column map and read back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields
from typing import Any

from facturum.language.meanings import categories, numbers
from facturum.language.meanings.meaning import Meaning, Product, Scaled

_KINDS: dict[str, Any] = {
    kind.__name__.lower(): kind
    for kind in (
        numbers.Unit, numbers.Logged, categories.Holds, categories.NoValue, categories.Indicator, categories.Contrast,
        numbers.Power, numbers.Orthogonal, numbers.Curve, Product, Scaled,
    )
}  # fmt: skip


def structure_of(meaning: Meaning) -> dict[str, Any]:
    """Return a meaning as plain data.

    Example:
        >>> from facturum.language.meanings.categories import Holds
        >>> from facturum.language.meanings.numbers import Logged
        >>> structure_of(Product(Holds("high"), Logged("price")))["right"]
        {'is': 'logged', 'subject': 'price', 'shift': 0.0}
    """
    found: dict[str, Any] = {"is": next(name for name, kind in _KINDS.items() if isinstance(meaning, kind))}
    content: Any = meaning
    for field in fields(content):
        if not field.compare or (field.name == "when" and not content.when):
            continue  # what proofs need is not stored
        value = getattr(content, field.name)
        inner = isinstance(value, tuple(_KINDS.values()))
        found[field.name] = structure_of(value) if inner else list(value) if isinstance(value, tuple) else value
    return found


def meaning_of(structure: Mapping[str, Any]) -> Meaning:
    """Return the meaning that plain data describe.

    Raises:
        KeyError, TypeError: where they describe none.

    Example:
        >>> meaning_of({"is": "logged", "subject": "price", "shift": 0.0})
        Logged(subject='price', shift=0.0)
    """
    values: dict[str, Any] = {
        key: meaning_of(value) if isinstance(value, Mapping) else tuple(value) if isinstance(value, list) else value
        for key, value in structure.items()
        if key != "is"
    }
    made: Meaning = _KINDS[structure["is"]](**values)
    return made
