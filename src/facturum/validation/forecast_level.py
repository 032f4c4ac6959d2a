"""How levels of a variable follow from forecasts of a response that is made of it."""

from __future__ import annotations

from dataclasses import dataclass

from facturum.language.core.arithmetic import Add, Arithmetic, Divide, Multiply, Negative, Subtract
from facturum.language.core.literals import Name, Number, names_in
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Node
from facturum.trial.told.units import RawUnits


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
        others = {*names_in(slope), *names_in(rest)} - {*names_in(inner)}  # whose later values are not forecast
        if not (units.changes or units.is_source) or horizon < 0 or others:
            return None
        return cls(units, _plain(slope), _plain(rest), horizon)

    @property
    def changes(self) -> bool:
        """Whether the response is something else than the level."""
        return self.slope != Number(1) or self.rest != Number(0)


def _without_leads(node: Node) -> tuple[Node, int]:
    """Return a response as it is in its own period, and how many periods later it is read."""
    leads = {part.offsets_read() for part in node.walk() if _leads(part)}
    if not leads:
        return node, 0
    return (node, -1) if len(leads) > 1 or len(read := leads.pop()) > 1 else (_stripped(node), read[0])


def _leads(node: Node) -> bool:
    """Return whether it reads later periods alone."""
    return node.moved is not None and min(node.offsets_read()) > 0


def _lags(node: Node) -> bool:
    """Return whether it reads earlier periods alone."""
    inner = node.children()
    earlier = node.moved is not None and max(node.offsets_read()) < 0
    return earlier or isinstance(node, Number) or (isinstance(node, Arithmetic) and all(map(_lags, inner)))


def _stripped(node: Node) -> Node:
    return node.moved if node.moved is not None and _leads(node) else node.map(_stripped)


def _line(node: Node) -> tuple[Node, Node, Node] | None:
    """Return what an expression is linear in at its own period, its slope and the rest; None where it is not."""
    if isinstance(node, Name) or (node.raw_scale() is not None and isinstance(node.children()[0], Name)):
        return node, Number(1), Number(0)
    if isinstance(node, Negative):
        return _scaled(node.children()[0], Number(-1))
    if isinstance(node, Arithmetic):
        return _of_arithmetic(node)
    written = node.in_lags()
    return None if written == node else _line(written)


def _of_arithmetic(node: Arithmetic) -> tuple[Node, Node, Node] | None:
    left, right = node.children()
    if isinstance(node, Multiply) and _lags(left):
        return _scaled(right, left)
    if isinstance(node, Multiply) and _lags(right):
        return _scaled(left, right)
    if isinstance(node, Divide) and _lags(right):
        return _scaled(left, Divide(Number(1), right))
    if isinstance(node, Add | Subtract) and _lags(right):
        found = _line(left)
        return None if found is None else (found[0], found[1], type(node)(found[2], right))
    if isinstance(node, Add | Subtract) and _lags(left):
        return _of_arithmetic(Add(right if isinstance(node, Add) else Negative(right), left))
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
