"""Products: as they are written, and as derived variables stand for them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from facturum.language.core import Multiply, Name
from facturum.language.factors import NoValue
from facturum.language.nodes import Node
from facturum.language.reading import Product, Reading, Scaled, factors_of


def opened(reading: Reading, derived: Mapping[str, Node]) -> Reading:
    """Return a reading in which derived variables that are products are read as their factors."""
    if isinstance(reading, Product):
        return Product(opened(reading.left, derived), opened(reading.right, derived))
    if isinstance(reading, Scaled):
        return Scaled(opened(reading.of, derived), reading.factor)
    node = reading.node
    if isinstance(node, Name) and node.variable in derived and reading.subject == node.variable:
        inner = opened(derived[node.variable].reading(), derived)
        factors, _ = factors_of(inner)
        plain = getattr(reading, "center", None) is None and getattr(reading, "size", None) is None
        if plain and (len(factors) > 1 or isinstance(inner, NoValue)):
            return inner
    return reading


def factors_written(node: Node) -> Iterator[Node]:
    """Yield the factors of a product as it is written, in their order; of anything else, itself.

    Example:
        >>> from facturum.language.parser import parse
        >>> [str(factor) for factor in factors_written(parse("a * (b * log(c))"))]
        ['a', 'b', 'log(c)']
    """
    if isinstance(node, Multiply):
        yield from factors_written(node.left)
        yield from factors_written(node.right)
    else:
        yield node
