"""One number in, one number out."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable
from math import log
from typing import ClassVar

import numpy as np

from facturum.data.values import FloatArray, Kind, Mask, Values, and_masks, plain_number
from facturum.language.core.arithmetic import Add, Divide, Multiply, Negative, Power, Subtract
from facturum.language.core.literals import Number
from facturum.language.core.shorthand import Shorthand
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Logged, Unit
from facturum.language.operations.numbers.statistics import Mean, MeanQuestion, Sd, SpreadQuestion
from facturum.language.tree.nodes import Kinds, Node, Question, Type, finite, need_number
from facturum.language.tree.options import NUMBER, POSITIVE, Accept, argument, arguments, one_of, option
from facturum.language.tree.registry import node, operation
from facturum.language.tree.rows import Rows
from facturum.language.tree.traits import RawScale, Surroundings

BASE = Accept("a number above 0 other than 1", lambda value: POSITIVE.test(value) and value != 1)


class Elementwise(Node):
    """A function of one number, computed by NumPy for each row alone."""

    always_finite: ClassVar[bool] = False  # wherever it is defined
    x: Node

    @abstractmethod
    def compute(self, x: FloatArray) -> FloatArray:
        """Return the function's values."""

    def domain(self, x: FloatArray) -> tuple[Mask, str] | None:
        """Return where the function is defined, and what to do about rows where it is not; None for everywhere."""
        return None

    def slope(self) -> Node | None:
        """Return the function's derivative at its argument; None where it has none that is told."""
        return None

    def derivative(self, of: Callable[[Node], Node]) -> Node | None:
        slope = self.slope()
        return None if slope is None else Multiply(slope, of(self.x))

    def check(self, kinds: Kinds) -> Type:
        need_number(self, self.x, kinds)
        return Type(Kind.NUMBER)

    def values(self, rows: Rows) -> Values:
        inner = rows.evaluate(self.x)
        x = inner.numbers()
        domain = self.domain(x)
        if domain is not None and not domain[0].all():
            outside = ~domain[0] if inner.valid is None else ~domain[0] & inner.valid
            if outside.any():
                bad = np.broadcast_to(outside, rows.length)
                raise rows.failure(self, bad, f"'{self}' is not defined for these values", domain[1])
        with np.errstate(all="ignore"):
            data = self.compute(x)
        return Values(data, inner.valid) if self.always_finite else finite(self, rows, data, inner.valid)


@operation
class Log(Elementwise):
    """Natural logarithm, after `shift` is added; values of 0 or less are an error, or missing on request.

    With `base`, the logarithm to that base: 1 more is `base` times as much. Of responses, a natural logarithm alone is
    reported in the units of the variable.

    Example: `log(price)`, `log(snow, shift=1)`, `log(profit, nonpositive="missing")`, `log(beds, base=2)`.
    """

    always_finite: ClassVar[bool] = True
    x: Node = argument("a positive number")
    shift: float = option(NUMBER, "added before the logarithm is taken", default=0)
    nonpositive: str = option(one_of("fail", "missing"), "what becomes of values of 0 or less", default="fail")
    base: float | None = option(BASE, "of the logarithm; e where there is none", default=None)

    def compute(self, x: FloatArray) -> FloatArray:
        shifted = np.add(x, self.shift) if self.shift else x
        if self.base in (2, 10):  # whose whole logarithms come out whole
            return np.log2(shifted) if self.base == 2 else np.log10(shifted)
        return np.log(shifted) if self.base is None else np.divide(np.log(shifted), np.log(float(self.base)))

    def slope(self) -> Node:
        shifted = Add(self.x, Number(self.shift)) if self.shift else self.x
        return Divide(Number(1 if self.base is None else 1 / log(self.base)), shifted)

    def domain(self, x: FloatArray) -> tuple[Mask, str] | None:
        if self.nonpositive == "missing" or (len(x) and np.min(x) > -self.shift):
            return None
        return x > -self.shift, (
            f"A logarithm needs values above 0: add a shift larger than minus the smallest value, log({self.x}, "
            f'shift=..), set these rows to missing, log({self.x}, nonpositive="missing"), or write '
            f"asinh({self.x}), which is defined for every number."
        )

    def values(self, rows: Rows) -> Values:
        if self.nonpositive == "fail":
            return super().values(rows)
        inner = rows.evaluate(self.x)
        positive = inner.numbers() > -self.shift
        with np.errstate(all="ignore"):
            data = self.compute(inner.numbers())
        return Values(data, and_masks(inner.valid, positive))

    def valid(self, rows: Rows) -> Mask | None:
        return super().valid(rows) if self.nonpositive == "fail" else rows.evaluate(self).valid

    def decided_by(self) -> tuple[Node, ...]:
        return () if self.nonpositive == "fail" else (self.x,)

    def meaning(self) -> Meaning:
        if self.base is not None:
            return Unit(self.subject(), node=self)
        return Logged(self.x.subject(), float(self.shift), node=self.x)

    def raw_scale(self) -> RawScale | None:
        return RawScale("log", self.x, float(self.shift)) if self.base is None else None

    def in_arithmetic(self) -> Node:
        return self if self.base is None else Divide(self.replaced(base=None), Number(log(self.base)))

    def missing_because(self) -> str:
        return f"{self.x.subject()} is 0 or less, and has no logarithm"


@operation
class Sqrt(Elementwise):
    """Square root; a negative value is an error that names the rows.

    Example: `sqrt(beds)`.
    """

    always_finite: ClassVar[bool] = True
    x: Node = argument("a number from 0")

    def compute(self, x: FloatArray) -> FloatArray:
        return np.sqrt(x)

    def slope(self) -> Node:
        return Divide(Number(0.5), self)

    def raw_scale(self) -> RawScale:
        return RawScale("sqrt", self.x)

    def domain(self, x: FloatArray) -> tuple[Mask, str]:
        return x >= 0, f"A square root needs values from 0: write sqrt(clip({self.x}, low=0)) or correct them."


@operation
class Square(Elementwise):
    """The number times itself.

    Example: `square(altitude)`.
    """

    x: Node = argument("a number")

    def compute(self, x: FloatArray) -> FloatArray:
        return np.multiply(x, x)

    def slope(self) -> Node:
        return Multiply(Number(2), self.x)


@operation
class Reciprocal(Elementwise):
    """One divided by the number; zero is an error that names the rows.

    Example: `reciprocal(distance)`.
    """

    x: Node = argument("a number other than 0")

    def compute(self, x: FloatArray) -> FloatArray:
        return np.divide(1.0, x)

    def slope(self) -> Node:
        return Divide(Number(-1), Power(self.x, Number(2)))

    def domain(self, x: FloatArray) -> tuple[Mask, str]:
        return x != 0, f"Nothing can be divided by 0: write missing if {self.x} == 0 else 1 / ({self.x})."


@operation
class Exp(Elementwise):
    """The exponential function.

    Example: `exp(growth)`.
    """

    x: Node = argument("a number")

    def compute(self, x: FloatArray) -> FloatArray:
        return np.exp(x)

    def slope(self) -> Node:
        return self


@operation
class Abs(Elementwise):
    """The number without its sign.

    Example: `abs(change)`.
    """

    always_finite: ClassVar[bool] = True
    x: Node = argument("a number")

    def compute(self, x: FloatArray) -> FloatArray:
        return np.abs(x)


@operation
class Asinh(Elementwise):
    """Inverse hyperbolic sine: like a logarithm for large values of either sign, and 0 at 0.

    Example: `asinh(profit)`.
    """

    always_finite: ClassVar[bool] = True
    x: Node = argument("a number")

    def compute(self, x: FloatArray) -> FloatArray:
        return np.arcsinh(x)

    def raw_scale(self) -> RawScale:
        return RawScale("asinh", self.x)


@operation
class Sin(Elementwise):
    """Sine of an angle in radians.

    Example: `sin(angle)`.
    """

    always_finite: ClassVar[bool] = True
    x: Node = argument("an angle in radians")

    def compute(self, x: FloatArray) -> FloatArray:
        return np.sin(x)

    def slope(self) -> Node:
        return Cos(self.x)


@operation
class Cos(Elementwise):
    """Cosine of an angle in radians.

    Example: `cos(angle)`.
    """

    always_finite: ClassVar[bool] = True
    x: Node = argument("an angle in radians")

    def compute(self, x: FloatArray) -> FloatArray:
        return np.cos(x)

    def slope(self) -> Node:
        return Negative(Sin(self.x))


@operation
class Clip(Elementwise):
    """Values below `low` become `low`, values above `high` become `high`.

    Example: `clip(price, low=5, high=120)`.
    """

    x: Node = argument("a number")
    low: float | None = option(NUMBER, "the smallest value kept", default=None)
    high: float | None = option(NUMBER, "the largest value kept", default=None)

    def check(self, kinds: Kinds) -> Type:
        if self.low is None and self.high is None:
            raise self.error("clip needs a bound", f"Write clip({self.x}, low=.., high=..), or one of them.")
        if self.low is not None and self.high is not None and self.low > self.high:
            raise self.error(f"low ({self.low}) is above high ({self.high})", "Exchange them.")
        return super().check(kinds)

    def compute(self, x: FloatArray) -> FloatArray:
        if self.low is not None:
            x = np.maximum(x, float(self.low))
        return x if self.high is None else np.minimum(x, float(self.high))

    def meaning(self) -> Meaning:
        return Unit(self.subject(), node=self)


@operation
class Center(Elementwise):
    """The number less its mean (centred); resolving writes the mean as `at`.

    Example: `center(altitude)`, `center(altitude, at=1800)`.
    """

    x: Node = argument("a number")
    at: float | None = option(NUMBER, "what is subtracted", learned=True, default=None)

    def question(self, kinds: Kinds) -> Question | None:
        return None if self.at is not None else MeanQuestion((self.x,), lambda mean: self.replaced(at=mean))

    def compute(self, x: FloatArray) -> FloatArray:
        return np.subtract(x, float(self.learned(self.at)))

    def slope(self) -> Node:
        return Number(1)

    def in_arithmetic(self) -> Node:
        return self if self.at is None else Subtract(self.x, Number(plain_number(float(self.at))))

    def meaning(self) -> Meaning:
        return Unit(self.x.subject(), center=self.at, node=self.x)


@node
class InGroups(Shorthand):
    """A number less the mean of its group, in standard deviations of that."""

    x: Node = argument("a number")
    by: tuple[Node, ...] = arguments("variables that form groups")

    def spelled(self) -> Node:
        return Divide(Subtract(self.x, Mean(self.x, self.by)), Sd(self.x, self.by))


@operation
class Standardize(Elementwise):
    """The number less its mean, in standard deviations (divisor n - 1); resolving writes `at` and `scale`.

    With `by`, the mean and the standard deviation are those of the row's group; a group without a spread is an error.

    Example: `standardize(price)`, `standardize(price, at=42, scale=7.5)`, `standardize(price, by=[valley])`.
    """

    groups_by: ClassVar[frozenset[str]] = frozenset({"by"})
    x: Node = argument("a number")
    at: float | None = option(NUMBER, "what is subtracted", learned=True, default=None)
    scale: float | None = option(NUMBER, "what it is divided by", learned=True, default=None)
    by: tuple[Node, ...] = arguments("variables that form groups", default=())

    def settled(self, around: Surroundings) -> Node:
        if not self.by:
            return self
        if self.at is not None or self.scale is not None:
            raise self.error("at and scale are those of all rows, and by names groups", "Leave out one or the other.")
        return InGroups(self.x, self.by).put_at(self).settled(around)

    def check(self, kinds: Kinds) -> Type:
        if self.scale is not None and not self.scale > 0:
            raise self.error(f"scale is {self.scale}", "Write a number above 0.")
        return super().check(kinds)

    def question(self, kinds: Kinds) -> Question | None:
        if self.at is not None and self.scale is not None:
            return None
        return SpreadQuestion((self.x,), self._closed)

    def _closed(self, mean: float, spread: float) -> Node:
        if self.scale is None and not spread > 0:
            raise self.error(f"'{self.x}' is constant, and has no standard deviation to divide by", "Leave it out.")
        return self.replaced(
            at=mean if self.at is None else self.at, scale=spread if self.scale is None else self.scale
        )

    def compute(self, x: FloatArray) -> FloatArray:
        return np.divide(np.subtract(x, float(self.learned(self.at))), float(self.learned(self.scale)))

    def slope(self) -> Node:
        return Number(1 / float(self.learned(self.scale)))

    def in_arithmetic(self) -> Node:
        if self.at is None or self.scale is None:
            return self
        away = Subtract(self.x, Number(plain_number(float(self.at))))
        return Divide(away, Number(plain_number(float(self.scale))))

    def meaning(self) -> Meaning:
        if self.by:
            within = " and ".join(key.subject() for key in self.by)
            return Unit(f"{self.x.subject()} in standard deviations of its {within}", node=self)
        return Unit(self.x.subject(), center=self.at, size=self.scale, standardized=True, node=self.x)
