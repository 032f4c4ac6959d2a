"""Readings of columns as plain data, to be stored in the column map and read back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields
from typing import Any

from facturum.language.factors import Factor
from facturum.language.reading import Product, Reading, Scaled

_KINDS: dict[str, Any] = {kind.__name__.lower(): kind for kind in (*Factor.__subclasses__(), Product, Scaled)}


def structure_of(reading: Reading) -> dict[str, Any]:
    """Return a reading as plain data.

    Example:
        >>> from facturum.language.factors import Holds, Logged
        >>> from facturum.language.reading import Product
        >>> structure_of(Product(Holds("high"), Logged("price")))["right"]
        {'is': 'logged', 'subject': 'price', 'shift': 0.0}
    """
    found: dict[str, Any] = {"is": next(name for name, kind in _KINDS.items() if isinstance(reading, kind))}
    for field in fields(reading):
        if not field.compare or (field.name == "when" and not reading.when):  # type: ignore[union-attr]
            continue  # what proofs need is not stored
        value = getattr(reading, field.name)
        inner = isinstance(value, tuple(_KINDS.values()))
        found[field.name] = structure_of(value) if inner else list(value) if isinstance(value, tuple) else value
    return found


def reading_of(structure: Mapping[str, Any]) -> Reading:
    """Return the reading that plain data describe.

    Raises:
        KeyError, TypeError: where they describe none.

    Example:
        >>> reading_of({"is": "logged", "subject": "price", "shift": 0.0})
        Logged(subject='price', shift=0.0)
    """
    values: dict[str, Any] = {
        key: reading_of(value) if isinstance(value, Mapping) else tuple(value) if isinstance(value, list) else value
        for key, value in structure.items()
        if key != "is"
    }
    made: Reading = _KINDS[structure["is"]](**values)
    return made
