"""Derivatives of formulas: the columns of one number are read as the curve that they form together."""

from __future__ import annotations

from collections.abc import Mapping

from facturum.data.values import plain_number
from facturum.engine.planning.spreading import walk
from facturum.language.core import (
    Add,
    Arithmetic,
    Divide,
    Multiply,
    Name,
    Negative,
    Number,
    Power,
    Subtract,
    Text,
    Truth,
    names_in,
)
from facturum.language.logic import Comparison
from facturum.language.nodes import Node
from facturum.language.operations.transforms import (
    Center,
    Cos,
    Elementwise,
    Exp,
    Log,
    Reciprocal,
    Sin,
    Sqrt,
    Square,
    Standardize,
)
from facturum.language.printer import brief_text

LETTERS = "bcdefg"
READABLE = (Name, Number, Text, Truth, Arithmetic, Negative, Elementwise, Comparison)


class NoDerivativeError(Exception):
    """A formula is not differentiable by these rules."""


def slope_text(formulas: list[Node], variable: str, derived: Mapping[str, Node]) -> str | None:
    """Return the slope in a variable that columns have together, their coefficients b, c, ..; None where it has none.

    Args:
        formulas: of the columns, in the order of the letters.
        variable: in which they are differentiated.
        derived: the derived variables, which are differentiated through.

    Example:
        >>> from facturum.language.parser import parse
        >>> slope_text([parse("age"), parse("age ** 2"), parse("log(age)")], "age", {})
        'b + 2·c·age + d / age'
    """
    if len(formulas) > len(LETTERS):
        return None
    try:
        slopes = [_derivative(formula, variable, derived) for formula in formulas]
    except NoDerivativeError:
        return None
    if not all(isinstance(part, READABLE) for slope in slopes for part in walk(slope)):
        return None
    terms = [_term(letter, slope) for letter, slope in zip(LETTERS, slopes, strict=False)]
    return " + ".join(terms).replace("+ -", "− ")


def _term(letter: str, slope: Node) -> str:
    """Return a coefficient times a slope."""
    if isinstance(slope, Number):
        return letter if slope.value == 1 else f"{plain_number(float(slope.value)):.6g}·{letter}"
    if isinstance(slope, Multiply) and isinstance(slope.left, Number):
        return f"{plain_number(float(slope.left.value)):.6g}·{_term(letter, slope.right)}"
    if isinstance(slope, Divide):
        return f"{_term(letter, slope.left)} / {_factor(slope.right)}"
    return f"{letter}·{_factor(slope)}"


def _factor(node: Node) -> str:
    text = brief_text(node)
    return text if isinstance(node, Name | Elementwise | Power) else f"({text})"


def _derivative(node: Node, variable: str, derived: Mapping[str, Node]) -> Node:
    if isinstance(node, Name):
        if node.variable in derived:
            return _derivative(derived[node.variable], variable, derived)
        return Number(1 if node.variable == variable else 0)
    if not _reads(node, variable, derived):
        return Number(0)

    def of(inner: Node) -> Node:
        return _derivative(inner, variable, derived)

    if isinstance(node, Add):
        return _sum(of(node.left), of(node.right))
    if isinstance(node, Subtract):
        return _sum(of(node.left), _product(Number(-1), of(node.right)))
    if isinstance(node, Negative):
        return _product(Number(-1), of(node.value))
    if isinstance(node, Multiply):
        return _sum(_product(of(node.left), node.right), _product(of(node.right), node.left))
    if isinstance(node, Divide):
        if not _reads(node.right, variable, derived):
            return _quotient(of(node.left), node.right)
        raise NoDerivativeError
    if isinstance(node, Power) and isinstance(node.right, Number):
        exponent = float(node.right.value)
        lower = node.left if exponent == 2 else Power(node.left, Number(plain_number(exponent - 1)))
        return _product(_product(Number(plain_number(exponent)), lower), of(node.left))
    if not isinstance(node, Elementwise):
        raise NoDerivativeError
    return _product(_outer(node), of(node.x))


def _outer(node: Elementwise) -> Node:
    """Return the derivative of a function at its argument."""
    x = node.x
    if isinstance(node, Center):
        return Number(1)
    if isinstance(node, Standardize) and node.scale is not None:
        return Number(1 / float(node.scale))
    if isinstance(node, Log):
        return Divide(Number(1), Add(x, Number(node.shift)) if node.shift else x)
    if isinstance(node, Sqrt):
        return Divide(Number(0.5), node)
    if isinstance(node, Square):
        return Multiply(Number(2), x)
    if isinstance(node, Exp):
        return node
    if isinstance(node, Reciprocal):
        return Divide(Number(-1), Power(x, Number(2)))
    if isinstance(node, Sin):
        return Cos(x)
    if isinstance(node, Cos):
        return _product(Number(-1), Sin(x))
    raise NoDerivativeError


def _reads(node: Node, variable: str, derived: Mapping[str, Node]) -> bool:
    names = names_in(node)
    return any(name == variable or (name in derived and _reads(derived[name], variable, derived)) for name in names)


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
        if isinstance(right, Divide):
            return _quotient(_product(left, right.left), right.right)
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
