"""Short names for variables whose own names an expression cannot have as they stand."""

from __future__ import annotations

from collections.abc import Collection

from facturum.engine.planning.sections.column_names import slug
from facturum.engine.planning.sections.plain_names import is_expression
from facturum.language.core.literals import Name
from facturum.language.tree.writer import is_plain_name


def short_names(names: Collection[str]) -> dict[str, str]:
    """Return a short name for each of a table's variables that needs one.

    Example:
        >>> short_names(["Preis je Stück", "beds", "class"])
        {'Preis je Stück': 'preis_je_stuck', 'class': 'class_value'}
    """
    short: dict[str, str] = {}
    for name in names:
        if not is_plain_name(name):
            stem = slug(name) if is_plain_name(slug(name)) else f"{slug(name)}_value"
            stem = stem if is_plain_name(stem) else f"x_{stem}"
            taken = {*names, *short.values()}
            made, number = stem, 2
            while made in taken:
                made, number = f"{stem}_{number}", number + 1
            short[name] = made
    return short


def as_derived(name: str) -> str:
    """Return a variable as the text of a derived one: its name as it is, where that is no expression.

    Example:
        >>> as_derived("Preis je Stück"), as_derived("x + y")
        ('Preis je Stück', "variable('x + y')")
    """
    return str(Name(name)) if is_expression(name) else name
