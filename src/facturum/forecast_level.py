"""How levels of a variable follow from forecasts of a response that is made of it."""

from __future__ import annotations

from dataclasses import dataclass
from math import comb

from facturum.language.core import Add, Arithmetic, Divide, Multiply, Name, Negative, Number, Subtract
from facturum.language.nodes import Node
from facturum.language.operations.along import Difference, Lag, Lead, PercentChange
from facturum.language.operations.transforms import Asinh, Center, Log, Sqrt, Standardize
from facturum.language.parser import parse
from facturum.trial.units import RawUnits


@dataclass(frozen=True)
class Level:
    """How levels follow from forecasts of a response that is linear in a variable, or its log, root or asinh.

    The response is ``slope`` times the level plus ``rest``, both of which read earlier periods alone.

    Args:
        units: how a level is brought back into raw units.
        slope: what the level is multiplied by.
        rest: what is added.
        horizon: how many periods after its row the response lies.
    """

    units: RawUnits
    slope: Node = Number(1)  # noqa: RUF009 - a frozen node
    rest: Node = Number(0)  # noqa: RUF009
    horizon: int = 0

    @classmethod
    def of(cls, response: str) -> Level | None:
        """Return those of a response, from its expression; None where no level follows from it.

        Example:
            >>> level = Level.of("100 * difference(log(stays), step=12)")
            >>> level.units.source, str(level.slope), str(level.rest)
            ('stays', '100', '100 * (0 - lag(log(stays), 12))')
            >>> Level.of("log(lead(stays, 3))").horizon, Level.of("stays / beds")
            (3, None)
        """
        node, horizon = _without_leads(parse(response, True))
        found = _line(node)
        if found is None:
            return None
        inner, slope, rest = found
        units = RawUnits.of(str(inner))
        if not (units.changes or units.is_source) or horizon < 0:
            return None
        return cls(units, _plain(slope), _plain(rest), horizon)

    @property
    def changes(self) -> bool:
        """Whether the response is something else than the level."""
        return self.slope != Number(1) or self.rest != Number(0)


def _without_leads(node: Node) -> tuple[Node, int]:
    """Return a response as it is in its own period, and how many periods later it is read."""
    leads = {part.k for part in _walk(node) if isinstance(part, Lead)}
    if not leads:
        return node, 0
    if len(leads) > 1 or not isinstance(horizon := leads.pop(), int):
        return node, -1
    return _stripped(node), horizon


def _walk(node: Node) -> list[Node]:
    return [node, *[part for child in node.children() for part in _walk(child)]]


def _stripped(node: Node) -> Node:
    if isinstance(node, Lead):
        return node.x
    children = node.children()
    return node.rebuilt([_stripped(child) for child in children]) if children else node


def _line(node: Node) -> tuple[Node, Node, Node] | None:
    """Return what an expression is linear in at its own period, its slope and the rest; None where it is not."""
    if isinstance(node, Name) or (isinstance(node, Log | Sqrt | Asinh) and isinstance(node.children()[0], Name)):
        return node, Number(1), Number(0)
    if isinstance(node, Negative):
        return _scaled(node.children()[0], Number(-1))
    if isinstance(node, Arithmetic):
        return _of_arithmetic(node)
    if isinstance(node, Center) and node.at is not None:
        return _line(Subtract(node.x, Number(node.at)))
    if isinstance(node, Standardize) and node.at is not None and node.scale is not None:
        return _line(Divide(Subtract(node.x, Number(node.at)), Number(node.scale)))
    if isinstance(node, Difference):
        found = _line(node.x)
        if found is None:
            return None
        inner, slope, rest = found
        for number in range(1, node.order + 1):
            weight = (-1) ** number * comb(node.order, number)
            rest = Add(rest, Multiply(Number(weight), Lag(node.x, number * node.step)))
        if node.order == 1:
            rest = Subtract(found[2], Lag(node.x, node.step))
        return inner, slope, rest
    if isinstance(node, PercentChange):
        found = _line(node.x)
        if found is None:
            return None
        inner, slope, rest = found
        by = Divide(Number(100), Lag(node.x, node.step))
        return inner, Multiply(by, slope), Subtract(Multiply(by, rest), Number(100))
    return None


def _of_arithmetic(node: Arithmetic) -> tuple[Node, Node, Node] | None:
    left, right = node.children()
    if isinstance(node, Multiply) and isinstance(left, Number):
        return _scaled(right, left)
    if isinstance(node, Multiply) and isinstance(right, Number):
        return _scaled(left, right)
    if isinstance(node, Divide) and isinstance(right, Number):
        return _scaled(left, Divide(Number(1), right))
    if isinstance(node, Add | Subtract) and isinstance(right, Number):
        found = _line(left)
        return None if found is None else (found[0], found[1], type(node)(found[2], right))
    if isinstance(node, Add) and isinstance(left, Number):
        return _of_arithmetic(Add(right, left))
    return None


def _scaled(node: Node, by: Node) -> tuple[Node, Node, Node] | None:
    found = _line(node)
    return None if found is None else (found[0], Multiply(by, found[1]), Multiply(by, found[2]))


def _plain(node: Node) -> Node:
    """Return an expression without products with 1 and sums with 0."""
    children = tuple(_plain(child) for child in node.children())
    if isinstance(node, Multiply) and Number(0) in children:
        return Number(0)
    if isinstance(node, Multiply) and Number(1) in children:
        return children[1] if children[0] == Number(1) else children[0]
    if isinstance(node, Add) and Number(0) in children:
        return children[1] if children[0] == Number(0) else children[0]
    return node.rebuilt(children) if children else node


def constant(node: Node) -> float:
    """Return the value of an expression of numbers alone."""
    if isinstance(node, Number):
        return float(node.value)
    left, right = (constant(child) for child in node.children())
    if isinstance(node, Divide):
        return left / right
    if isinstance(node, Multiply):
        return left * right
    return left + right if isinstance(node, Add) else left - right if isinstance(node, Subtract) else float("nan")
