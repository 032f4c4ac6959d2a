"""Polynomials of a number: plain, centred and orthogonal."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from facturum.data.values import FloatArray, Kind, Values
from facturum.errors import DataError, counted
from facturum.language.core.arithmetic import Power, Subtract
from facturum.language.core.literals import Number
from facturum.language.learning.samples import finite_numbers
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Curve, Orthogonal, Unit
from facturum.language.meanings.numbers import Power as PowerMeaning
from facturum.language.operations.numbers.statistics import MeanQuestion
from facturum.language.tree.blocks import Block, Dense
from facturum.language.tree.nodes import Column, Kinds, Node, Part, Question, Type, finite, need_number
from facturum.language.tree.options import FLAG, NUMBER, NUMBERS, argument, option, whole_from
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows
from facturum.numerics.exact.powers import whole_power
from facturum.numerics.exact.sums import UNIT_BITS, as_float, exact_sum, exact_sum_of_squares, root_as_float


def recurrence_values(x: FloatArray, basis: Sequence[float]) -> list[FloatArray]:
    """Return the orthogonal polynomials of degree 1, 2, .. at ``x``.

    Args:
        x: numbers.
        basis: for each degree k the pair a, s of  s_k p_k = (x - a_k) p_(k-1) - s_(k-1) p_(k-2), where p_0 = 1; the
            first a is the mean, and later ones count from it.

    Source: Forsythe, "Generation and use of orthogonal polynomials for data-fitting" (1957).

    Example:
        >>> recurrence_values(np.array([0.0, 2.0]), [1.0, 1.0])
        [array([-1.,  1.])]
    """
    about = np.subtract(x, basis[0])
    values = [np.divide(about, basis[1])]
    before: FloatArray | None = None
    for at in range(2, len(basis), 2):
        following = np.multiply(np.subtract(about, basis[at]), values[-1])
        lower = basis[at - 1] if before is None else np.multiply(basis[at - 1], before)
        before = values[-1]
        values.append(np.divide(np.subtract(following, lower), basis[at + 1]))
    return values


@dataclass(frozen=True)
class BasisQuestion(Question):
    """The recurrence of polynomials that are orthogonal over the learning rows, each with mean square 1."""

    inputs: tuple[Node, ...]
    degree: int
    answer: Callable[[tuple[float, ...]], Node]
    basis: tuple[float, ...] = ()

    def observe(self, values: Sequence[Values]) -> tuple[int, int]:
        what = f"the powers of '{self.inputs[0]}' exceed double precision"
        numbers = finite_numbers(values[0], self._summand, what)
        return (exact_sum_of_squares(numbers) if len(self.basis) % 2 else exact_sum(numbers)), len(numbers)

    def _summand(self, x: FloatArray) -> FloatArray:
        """Return what the next number of the recurrence is the mean, or the root of the mean square, of."""
        if not self.basis:
            return x
        if len(self.basis) % 2:
            return recurrence_values(x, (*self.basis, 1.0))[-1]
        last = recurrence_values(x, self.basis)[-1]
        return np.multiply(np.multiply(last, last), np.subtract(x, self.basis[0]))

    def merge(self, parts: Sequence[tuple[int, int]]) -> tuple[int, int]:
        return sum(total for total, _ in parts), sum(count for _, count in parts)

    def advance(self, merged: tuple[int, int]) -> Question | Node:
        total, count = merged
        if not count:
            raise DataError(f"'{self.inputs[0]}' is missing in every row of the estimation sample")
        if len(self.basis) % 2 == 0:
            answer = as_float(total, count) + 0.0
        else:
            answer = root_as_float(total, count, 2 * UNIT_BITS)
            spread = self.basis[1] if len(self.basis) > 1 else 0.0
            if not answer > 1e-10 * spread:  # the remainder in the direction of this degree
                most = len(self.basis) // 2
                raise DataError(
                    f"'{self.inputs[0]}' has too few distinct values for a polynomial of degree {self.degree}",
                    remedy=f"It has {counted(most + 1, 'distinct value')}: write degree {most} at most, or none.",
                )
        basis = (*self.basis, answer)
        if len(basis) == 2 * self.degree:
            return self.answer(basis)
        return BasisQuestion(self.inputs, self.degree, self.answer, basis)


@operation
class Recurrence(Node):
    """The last of the orthogonal polynomials that a recurrence defines; `polynomial` writes it into formulas.

    Example: `recurrence(altitude, [1800, 420.5])`.
    """

    x: Node = argument("a number")
    basis: tuple[float, ...] = option(NUMBERS, "a pair of numbers for each degree")

    def check(self, kinds: Kinds) -> Type:
        need_number(self, self.x, kinds)
        if not self.basis or len(self.basis) % 2:
            raise self.error("a recurrence is a list of pairs of numbers", "Write two numbers for each degree.")
        return Type(Kind.NUMBER)

    def values(self, rows: Rows) -> Values:
        inner = rows.evaluate(self.x)
        with np.errstate(all="ignore"):
            return finite(self, rows, recurrence_values(inner.numbers(), self.basis)[-1], inner.valid)


@operation
class Polynomial(Node):
    """The powers of a number from 1 to `degree`, one column each.

    `center=True` subtracts the mean first (resolving writes it as `at`); `orthogonal=True` makes columns that are
    uncorrelated over the learning rows and have mean square 1 (resolving writes their recurrence as `basis`).

    Example: `polynomial(altitude / 1000, 2)`, `polynomial(beds, 3, orthogonal=True)`.
    """

    many_columns: ClassVar[bool] = True
    x: Node = argument("a number")
    degree: int = option(whole_from(1, 100), "the highest power")
    center: bool = option(FLAG, "whether the mean is subtracted first", default=False)
    orthogonal: bool = option(FLAG, "whether the columns are made orthogonal", default=False)
    at: float | None = option(NUMBER, "what is subtracted", learned=True, default=None)
    basis: tuple[float, ...] | None = option(NUMBERS, "the recurrence of the columns", learned=True, default=None)

    def check(self, kinds: Kinds) -> Type:
        need_number(self, self.x, kinds)
        if self.orthogonal and (self.center or self.at is not None):
            raise self.error("orthogonal columns are centred already", "Leave out center and at.")
        if self.basis is not None and (not self.orthogonal or len(self.basis) != 2 * self.degree):
            raise self.error("basis holds two numbers for each degree of an orthogonal polynomial")
        return Type(Kind.NUMBER, block=True)

    def question(self, kinds: Kinds) -> Question | None:
        if self.orthogonal:
            if self.basis is not None:
                return None
            return BasisQuestion((self.x,), self.degree, lambda basis: self.replaced(basis=basis))
        if self.center and self.at is None:
            return MeanQuestion((self.x,), lambda mean: self.replaced(at=mean))
        return None

    def columns(self) -> tuple[Column, ...]:
        columns = []
        for degree in range(1, self.degree + 1):
            parts: tuple[Part, ...] = (("operation", str(degree)),) if degree > 1 else ()
            columns.append(Column(parts, self._formula(degree), self._meaning(degree), "power"))
        return tuple(columns)

    def _formula(self, degree: int) -> Node:
        if self.basis is not None:
            return Recurrence(self.x, self.basis[: 2 * degree])
        base = self.x if self.at is None else Subtract(self.x, Number(self.at))
        return base if degree == 1 else Power(base, Number(degree))

    def _meaning(self, degree: int) -> Meaning:
        if self.orthogonal:
            return Orthogonal(self.x.subject(), degree, self.degree, node=self.x)
        if self.degree == 1:
            return Unit(self.x.subject(), center=self.at, node=self.x)
        return PowerMeaning(self.x.subject(), degree, self.degree, self.at, node=self.x)

    def block(self, rows: Rows) -> Block:
        x = rows.evaluate(self.x).full(rows.length).numbers()
        with np.errstate(all="ignore"):
            if self.basis is not None:
                return Dense(tuple(recurrence_values(x, self.basis)))
            base = x if self.at is None else np.subtract(x, self.at)
            columns = [base]
            for degree in range(2, self.degree + 1):
                longer = np.multiply(columns[-1], base) if degree <= 64 else whole_power(base, degree)
                columns.append(longer)
        return Dense(tuple(columns))

    def meaning(self) -> Meaning:
        return Curve(self.subject(), node=self)
