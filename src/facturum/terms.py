"""Builders of expressions in Python: each operation of the language, under its own name.

They make the same nodes as the text does. A text given as an expression is read as the language reads it.

Example:
    >>> from facturum import terms
    >>> print(terms.log("price") * terms.category("access", reference="trail"))
    log(price) * category(access, reference='trail')
    >>> print((terms.variable("snow depth") > 0) & ~terms.is_missing("beds"))
    variable('snow depth') > 0 and not is_missing(beds)
    >>> print((terms.variable("valley") == "Upper") | terms.variable("access").is_in(["road", "trail"]))
    valley == 'Upper' or access in ['road', 'trail']
"""

from __future__ import annotations

from collections.abc import Callable

from facturum.api.builders import Expression, builder_of, expression, variable
from facturum.language.families import REGISTRY
from facturum.language.tree.options import MISSING as missing  # noqa: N811 - as the language writes it

__all__ = ["Expression", "expression", "missing", "variable"]


def __getattr__(name: str) -> Callable[..., Expression]:
    return builder_of(name)


def __dir__() -> list[str]:
    return [*REGISTRY, *__all__]
