"""Splines of a number: piecewise polynomials that join smoothly."""

from __future__ import annotations

from itertools import pairwise
from typing import ClassVar

import numpy as np

from facturum.data.values import FloatArray, Kind, Mask, label_text, plain_number
from facturum.errors import DataError
from facturum.language.core.arithmetic import Divide, Power, Subtract
from facturum.language.core.literals import Number
from facturum.language.operations.numbers.statistics import QuantileQuestion
from facturum.language.operations.numbers.transforms import Clip, Elementwise
from facturum.language.tree.blocks import Block, Dense
from facturum.language.tree.nodes import Column, Kinds, Node, Part, Question, Type, need_number
from facturum.language.tree.options import FLAG, NUMBERS, argument, one_of, option, whole_from
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows
from facturum.numerics.shapes.splines import basis_values

MOST_PIECES, MOST_DEGREE = 100, 9
BEYOND = one_of("linear", "constant", "fail")


class OfKnots(Node):
    """An operation on pieces between knots."""

    family: ClassVar[str] = "curves"
    x: Node
    knots: tuple[float, ...] | None
    degree: int
    beyond: str

    def basis(self, x: FloatArray) -> FloatArray:
        """Return all splines at some numbers, (pieces + degree, numbers)."""
        return basis_values(x, self.learned(self.knots), self.degree, self.beyond == "linear")

    def check_knots(self, kinds: Kinds) -> None:
        """Refuse anything but a number and increasing knots."""
        need_number(self, self.x, kinds)
        if self.knots is None:
            return
        if len(self.knots) < 2 or any(a >= b for a, b in pairwise(self.knots)):
            raise self.error("knots must be two numbers or more, in increasing order", "Write each once.")
        if len(self.knots) > MOST_PIECES + 1:
            what = f"{self.name} has {len(self.knots) - 1} pieces, more than the {MOST_PIECES} allowed"
            raise self.error(what, "Leave knots out.")


@operation
class BasisSpline(OfKnots, Elementwise):
    """The `n`-th B-spline of a degree over some knots; `spline` writes it into formulas.

    Example: `basis_spline(altitude, 2, [1000, 1800, 2600])`.
    """

    x: Node = argument("a number")
    n: int = option(whole_from(1, MOST_PIECES + MOST_DEGREE), "which one, counted from 1")
    knots: tuple[float, ...] = option(NUMBERS, "where pieces begin and end")
    degree: int = option(whole_from(1, MOST_DEGREE), "of the pieces", default=3)
    beyond: str = option(BEYOND, "what it does beyond the outer knots", default="linear")

    def check(self, kinds: Kinds) -> Type:
        self.check_knots(kinds)
        if self.n >= len(self.knots) + self.degree:
            raise self.error(f"there are {len(self.knots) - 1 + self.degree} splines", "Write a smaller n.")
        return Type(Kind.NUMBER)

    def domain(self, x: FloatArray) -> tuple[Mask, str] | None:
        if self.beyond != "fail":
            return None
        low, high = (label_text(plain_number(knot)) for knot in (self.knots[0], self.knots[-1]))
        return (x >= self.knots[0]) & (x <= self.knots[-1]), (
            f'The outer knots are {low} and {high}: write beyond="linear" or "constant", or leave these rows out.'
        )

    def compute(self, x: FloatArray) -> FloatArray:
        own: FloatArray = self.basis(x)[self.n - 1]
        return own


@operation
class Spline(OfKnots):
    """A smooth curve of a number in pieces between knots: B-splines, all but the first, which the intercept stands for.

    Knots that are not given lie at quantiles, so that each piece holds as many rows. With `natural=True` a natural
    cubic spline: the number, and a curve for each inner knot; it is a straight line beyond the outer ones (Hastie,
    Tibshirani and Friedman, The Elements of Statistical Learning, 2009, 5.2.1).

    Example: `spline(altitude)`, `spline(price, knots=[20, 40, 60])`, `spline(altitude, pieces=3, natural=True)`.
    """

    many_columns: ClassVar[bool] = True
    x: Node = argument("a number")
    pieces: int = option(whole_from(1, MOST_PIECES), "how many pieces, between knots at quantiles", default=4)
    degree: int = option(whole_from(1, MOST_DEGREE), "of the pieces", default=3)
    natural: bool = option(FLAG, "whether it is a natural cubic spline", default=False)
    beyond: str = option(BEYOND, "what it does beyond the outer knots", default="linear")
    knots: tuple[float, ...] | None = option(
        NUMBERS, "where pieces begin and end, the outer ones too", learned=True, by_hand=True, default=None
    )

    def check(self, kinds: Kinds) -> Type:
        self.check_knots(kinds)
        if self.natural and (self.degree != 3 or self.beyond != "linear"):
            raise self.error("a natural spline is cubic, and linear beyond its knots", "Leave degree and beyond out.")
        if self.natural and (self.pieces if self.knots is None else len(self.knots) - 1) < 2:
            raise self.error("a natural spline needs two pieces", "Write pieces=2 or more, or the number itself.")
        return Type(Kind.NUMBER, block=True)

    def question(self, kinds: Kinds) -> Question | None:
        if self.knots is not None:
            return None
        shares = tuple(at / self.pieces for at in range(self.pieces + 1))
        return QuantileQuestion((self.x,), self._closed, shares)

    def _closed(self, knots: list[float]) -> Node:
        if len(set(knots)) < len(knots):
            raise DataError(
                f"'{self.x}' has too few distinct values for a spline of {self.pieces} pieces",
                remedy="Write fewer pieces, or the knots.",
            )
        return self.replaced(knots=tuple(plain_number(knot) for knot in knots))

    def columns(self) -> tuple[Column, ...]:
        first, *others = self._natural() if self.natural else self._splines()
        named: list[tuple[tuple[Part, ...], Node]] = [((), first)]
        named += [((("operation", str(at)),), node) for at, node in enumerate(others, 2)]
        return tuple(Column(parts, node, node.meaning(), "power") for parts, node in named)

    def _splines(self) -> list[Node]:
        knots = self.learned(self.knots)
        return [BasisSpline(self.x, n, knots, self.degree, self.beyond) for n in range(2, len(knots) + self.degree)]

    def _natural(self) -> list[Node]:
        pieces = len(self.learned(self.knots)) - 1
        return [self.x, *(Subtract(self._bend(at), self._bend(pieces - 1)) for at in range(pieces - 1))]

    def _bend(self, at: int) -> Node:
        """Return the cubes beyond a knot and the last one, over the distance of the two, in units of all knots."""
        knots = self.learned(self.knots)
        whole = knots[-1] - knots[0]
        cubes = [
            Power(Divide(Clip(Subtract(self.x, Number(knot)), low=0), Number(whole)), Number(3))
            for knot in (knots[at], knots[-1])
        ]
        return Divide(Subtract(*cubes), Number((knots[-1] - knots[at]) / whole))

    def block(self, rows: Rows) -> Block:
        if self.natural or self.beyond == "fail":  # whose rows the formulas refuse
            return super().block(rows)
        x = rows.evaluate(self.x).full(rows.length).numbers()
        with np.errstate(all="ignore"):
            return Dense(tuple(self.basis(x)[1:]))
