"""Derivatives of expressions in one variable, each operation by its own rule, and their text beside a coefficient."""

from __future__ import annotations

from collections.abc import Mapping

from facturum.data.values import multiple_text, plain_number
from facturum.language.core.arithmetic import Add, Divide, Multiply, Negative, Power, Subtract
from facturum.language.core.literals import Name, Number, names_in
from facturum.language.tree.nodes import Node
from facturum.language.tree.writer import brief_text

LONGEST = 60  # characters that a slope is told in


class NoDerivativeError(Exception):
    """An expression has no derivative that can be told."""


def derivative(node: Node, variable: str, derived: Mapping[str, Node]) -> Node:
    """Return the derivative of an expression.

    Args:
        node: the expression.
        variable: in which it is differentiated.
        derived: the derived variables, which are differentiated through.

    Raises:
        NoDerivativeError: where an operation in it has none.

    Example:
        >>> from facturum.language.syntax.parser import parse
        >>> str(derivative(parse("3 * age ** 2 + log(age)"), "age", {}))
        '6 * age + 1 / age'
    """
    if isinstance(node, Name):
        if node.variable in derived:
            return derivative(derived[node.variable], variable, derived)
        return Number(1 if node.variable == variable else 0)
    if not _reads(node, variable, derived):
        return Number(0)
    found = node.derivative(lambda child: derivative(child, variable, derived))
    if found is None:
        raise NoDerivativeError
    return simplified(found)


def slope_term(coefficient: str, slope: Node) -> str:
    """Return a coefficient times a slope.

    Raises:
        NoDerivativeError: where the text is too long to be read.

    Example:
        >>> from facturum.language.syntax.parser import parse
        >>> slope_term("b", parse("2 * (age - 40)")), slope_term("b[la]", parse("1 / age"))
        ('2·b·(age − 40)', 'b[la] / age')
    """
    if isinstance(slope, Number):
        return multiple_text(float(slope.value), coefficient)
    if isinstance(slope, Multiply) and isinstance(slope.left, Number):
        return slope_term(multiple_text(float(slope.left.value), coefficient), slope.right)
    if isinstance(slope, Divide):
        return f"{slope_term(coefficient, slope.left)} / {_factor(slope.right)}"
    if any(part.along_time for part in [slope, *slope.children()]):
        raise NoDerivativeError
    return f"{coefficient}·{_factor(slope)}"


def _factor(node: Node) -> str:
    written = _written_out(node)
    text = brief_text(written).replace(" - ", " − ")
    if len(text) > LONGEST:
        raise NoDerivativeError
    whole = isinstance(written, Name | Power) or (bool(written.name) and len(written.children()) == 1)
    return text if whole else f"({text})"


def _written_out(node: Node) -> Node:
    """Return an expression with its operations in arithmetic where that is short, and decimals as people write them."""
    if isinstance(node, Number):
        value = float(node.value)
        return Number(plain_number(float(f"{value:.6g}"))) if abs(value) < 1e4 and not value.is_integer() else node
    made = node.in_arithmetic()
    return made.rebuilt(_written_out(child) for child in made.children())


def _reads(node: Node, variable: str, derived: Mapping[str, Node]) -> bool:
    names = names_in(node)
    return any(name == variable or (name in derived and _reads(derived[name], variable, derived)) for name in names)


def simplified(node: Node) -> Node:
    """Return a sum or product without zeros and ones, numbers in front and quotients behind."""
    if isinstance(node, Add):
        return _sum(simplified(node.left), simplified(node.right))
    if isinstance(node, Subtract):
        return _sum(simplified(node.left), _product(Number(-1), simplified(node.right)))
    if isinstance(node, Multiply):
        return _product(simplified(node.left), simplified(node.right))
    if isinstance(node, Negative):
        return _product(Number(-1), simplified(node.value))
    return _quotient(simplified(node.left), node.right) if isinstance(node, Divide) else node


def _sum(left: Node, right: Node) -> Node:
    if isinstance(left, Number) and isinstance(right, Number):
        return Number(plain_number(float(left.value) + float(right.value)))
    if isinstance(left, Number) and left.value == 0:
        return right
    if isinstance(right, Number) and right.value == 0:
        return left
    return Multiply(Number(2), left) if left == right else Add(left, right)


def _product(left: Node, right: Node) -> Node:
    """Return a product with its number in front, and its quotient behind."""
    if isinstance(right, Number):
        left, right = right, left
    if not isinstance(left, Number):
        if isinstance(left, Multiply) and isinstance(left.left, Number):
            return _product(left.left, _product(left.right, right))
        if isinstance(right, Multiply) and isinstance(right.left, Number):
            return _product(right.left, _product(left, right.right))
        if isinstance(right, Divide):
            return _quotient(_product(left, right.left), right.right)
        if isinstance(left, Divide):
            return _quotient(_product(left.left, right), left.right)
        return Multiply(left, right)
    if left.value == 0:
        return Number(0)
    if left.value == 1:
        return right
    if isinstance(right, Number):
        return Number(plain_number(float(left.value) * float(right.value)))
    if isinstance(right, Multiply) and isinstance(right.left, Number):
        return _product(_product(left, right.left), right.right)
    if isinstance(right, Divide):
        return _quotient(_product(left, right.left), right.right)
    return Multiply(left, right)


def _quotient(above: Node, below: Node) -> Node:
    if isinstance(below, Number) and below.value:
        return _product(Number(1 / float(below.value)), above)
    return Divide(above, below)
