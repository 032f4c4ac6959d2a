"""What columns made of a number mean."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import ClassVar

import numpy as np

from facturum.data.values import FloatArray, plain_number
from facturum.language.meanings.categories import Holds
from facturum.language.meanings.meaning import Context, Factor, Meaning, Scaled, raised, stepped, times_b


@dataclass(frozen=True)
class Unit(Factor):
    """A difference of one unit in a column made of a number.

    Args:
        center: where the number is when the column is 0; None for 0.
        size: how much more of it one unit of the column is; None for one unit.
        standardized: whether the size is a standard deviation.
    """

    center: float | None = None
    size: float | None = None
    standardized: bool = False

    linear: ClassVar[bool] = True

    def times(self, multiple: float) -> Meaning:
        size = (1.0 if self.size is None else self.size) / multiple
        return replace(self, size=None if size == 1 else size, standardized=False)

    def plus(self, number: float) -> Meaning | None:
        size = 1.0 if self.size is None else self.size
        center = (self.center or 0.0) - number * size
        return replace(self, center=center or None)

    def as_response(self) -> Factor | None:
        return self if self.plain else None

    def as_count(self) -> Factor:
        return Count(self.subject)

    def informed(self, context: Context) -> Meaning:
        name = self.subject.removesuffix(f" {self.when}") if self.when else self.subject
        if name not in context.truths:
            return super().informed(context)
        held = Holds(name, self.center, node=self.node, when=stepped(self.when, context.every))
        return held if self.size is None else Scaled(held, 1 / self.size)

    @property
    def plain(self) -> bool:
        return self.center is None and self.size is None

    @property
    def off_center(self) -> bool:
        return not self.center

    @property
    def scaling(self) -> tuple[float, bool] | None:
        return (self.size, self.standardized) if self.size else None

    @property
    def all_at_zero(self) -> str | None:
        return "every number is 0" if self.center is None else None

    def worth(self, values: FloatArray) -> FloatArray:
        return np.divide(np.subtract(values, self.center or 0.0), self.size or 1.0)

    @property
    def zero(self) -> float:
        return self.center or 0.0

    def words(self) -> str:
        if self.standardized:
            return f"one standard deviation ({self.size:.4g}) of {self.subject}"
        return self.subject if self.size is None else f"{self.size:.6g} units of {self.subject}"

    def increase(self) -> str:
        if self.standardized:
            return f"An increase of one standard deviation ({self.size:.4g}) in {self.subject}"
        if self.size is None:
            head, _, since = self.subject.partition("s since ")
            return f"Each additional {head} since {since}" if since else f"Each additional unit of {self.subject}"
        if self.size < 0:
            return f"Each {'unit' if self.size == -1 else f'{-self.size:.6g} units'} less of {self.subject}"
        return f"Each additional {self.size:.6g} units of {self.subject}"


@dataclass(frozen=True)
class Count(Unit):
    """A response of whole numbers from 0, which models with a log link are made for."""

    def scale(self) -> str:
        return f"{self.expectation()} (or its logarithm, with a log link)"

    def _in_each_model(self, linear: str, factor: str) -> str:
        return f"{linear} (linear model), or a factor of {factor} (log link)"


@dataclass(frozen=True)
class Logged(Factor):
    """The natural logarithm of a number, after ``shift`` was added."""

    shift: float = 0.0

    logged: ClassVar[bool] = True

    def worth(self, values: FloatArray) -> FloatArray:
        with np.errstate(all="ignore"):
            return np.log(np.add(values, self.shift))

    @property
    def zero(self) -> float:
        return 1.0 - self.shift

    @property
    def inside(self) -> str:
        """What the logarithm is taken of.

        Example:
            >>> Logged("stays", 1.0).inside
            'stays + 1'
        """
        sign, size = ("+", self.shift) if self.shift >= 0 else ("-", -self.shift)
        return f"{self.subject} {sign} {plain_number(size)}" if self.shift else self.subject

    def words(self) -> str:
        return f"log({self.inside})"

    @property
    def off_center(self) -> bool:
        return True

    def main_effect(self, response: Factor, multiple: float, filled: str | None) -> str:
        return f"With {self.name} 1 % higher: {response.percent_effect(multiple)}"

    @property
    def name(self) -> str:
        """What the logarithm is taken of, as a part of a sentence."""
        return f"({self.inside})" if self.shift else self.inside

    def expectation(self) -> str:
        return self.inside

    def scale(self) -> str:
        return self.words()

    def effect(self, b: str) -> str:
        return f"a difference of 100·(exp({b}) − 1) % in {self.inside}"

    def percent_effect(self, multiple: float) -> str:
        b = times_b(multiple)
        return f"a difference of about {b} % in {self.inside} (exactly 100·(1.01^{raised(b)} − 1) %)"


@dataclass(frozen=True)
class Power(Factor):
    """A power of a number, beside the lower ones of the same term. ``center``: what was taken off first."""

    degree: int = 1
    top: int = 1
    center: float | None = None

    power: ClassVar[bool] = True

    @property
    def plain(self) -> bool:
        return self.center is None

    @property
    def curve_degree(self) -> int:
        return self.degree

    @property
    def bends(self) -> bool:
        return self.top > 1

    @property
    def square(self) -> bool:
        return self.top == 2

    def worth(self, values: FloatArray) -> FloatArray:
        return np.power(np.subtract(values, self.center or 0.0), self.degree)

    @property
    def zero(self) -> float:
        return self.center or 0.0

    def words(self) -> str:
        if self.degree > 1:
            return f"{self.subject} to the power {self.degree}"
        return f"{self.subject} (where it is {self.center or 0.0:.6g})" if self.top > 1 else self.subject

    def main_effect(self, response: Factor, multiple: float, filled: str | None) -> str:
        x, y, b = self.subject, response.scale(), times_b(multiple)
        if self.degree == 1:
            at = f"{self.center or 0.0:.6g}"
            return f"The slope of {y} in {x} is {b} where {x} is {at} (the higher powers change it elsewhere)"
        if self.degree == 2 and self.top == 2:
            return f"The slope of {y} in {x} changes by {times_b(2 * multiple)} with each additional unit of {x}"
        return f"The power {self.degree} of the curve of {y} in {x}, to be read with the other powers"


@dataclass(frozen=True)
class Orthogonal(Factor):
    """An orthogonal polynomial of a number or of the place of a category. ``count``: of categories."""

    degree: int = 1
    top: int = 1
    count: int = field(default=0, compare=False, repr=False)

    @property
    def curve_degree(self) -> int:
        return self.degree

    @property
    def zero(self) -> float | None:
        return None

    @property
    def averaged(self) -> int:
        return self.count

    @property
    def part(self) -> str:
        """Which part of the polynomial it is."""
        return {1: "linear", 2: "quadratic", 3: "cubic"}.get(self.degree, f"degree-{self.degree}")

    def words(self) -> str:
        return f"the {self.part} part of {self.subject}"

    def where_zero(self) -> str:
        return f"on average over {self.subject}"

    def main_effect(self, response: Factor, multiple: float, filled: str | None) -> str:
        curve = f"The {self.part} part of the curve of {response.scale()} in {self.subject}"
        return f"{curve}: {response.effect(times_b(multiple))} for each unit of this column, apart from the other parts"


@dataclass(frozen=True)
class Curve(Factor):
    """A function of a number that has no unit of its own, such as a sine or a square root.

    Of the wave of a season, `cycle` is what it goes round in, and the names of its parts: month, jan, feb, ..;
    `turns` is how often it goes round.
    """

    cycle: tuple[str, ...] = ()
    turns: int = 0

    unitless: ClassVar[bool] = True

    @property
    def off_center(self) -> bool:
        return True

    @property
    def wave(self) -> tuple[tuple[str, ...], int] | None:
        return (self.cycle, self.turns) if self.cycle else None

    def increase(self) -> str:
        return f"Each additional unit of {self.subject}"
