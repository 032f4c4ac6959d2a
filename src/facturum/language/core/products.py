"""Products: as they are written, and as derived variables stand for them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from facturum.language.core.arithmetic import Multiply
from facturum.language.core.literals import Name
from facturum.language.meanings.meaning import Factor, Meaning
from facturum.language.tree.nodes import Node


def opened(meaning: Meaning, derived: Mapping[str, Node]) -> Meaning:
    """Return a meaning in which derived variables that are products are read as their factors."""

    def inside(factor: Factor) -> Meaning:
        node = factor.node
        if isinstance(node, Name) and node.variable in derived and factor.subject == node.variable and factor.plain:
            inner = opened(derived[node.variable].meaning(), derived)
            if len(inner.factors()[0]) > 1 or inner.absence:
                return inner
        return factor

    return meaning.map(inside)


def factors_written(node: Node) -> Iterator[Node]:
    """Yield the factors of a product as it is written, in their order; of anything else, itself.

    Example:
        >>> from facturum.language.syntax.parser import parse
        >>> [str(factor) for factor in factors_written(parse("a * (b * log(c))"))]
        ['a', 'b', 'log(c)']
    """
    if isinstance(node, Multiply):
        yield from factors_written(node.left)
        yield from factors_written(node.right)
    else:
        yield node
