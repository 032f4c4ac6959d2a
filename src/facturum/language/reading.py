"""What one unit of a column means, as structure; the sentences are written by the audit."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, TypeAlias

import numpy as np

from facturum.data.time.periods import step_noun
from facturum.data.values import FloatArray

if TYPE_CHECKING:
    from facturum.language.nodes import Node

STEP = "\ue000"  # stands in subjects for the step of the plan, a month say; see `stepped`


Compared: TypeAlias = tuple[tuple[float, float], ...]  # values of a node, each with its weight


@dataclass(frozen=True)
class Factor:
    """What a column, or a factor of one, means.

    Args:
        subject: what it is made of, in words.
        node: the expression that the subject names, which is evaluated where a sentence is proved; of a category the
            place in its order, of a flag whether a value is missing.
        when: the other period that it is of, in words.
    """

    subject: str
    node: Node | None = field(default=None, kw_only=True, compare=False, repr=False)
    when: str = field(default="", kw_only=True, repr=False)

    @property
    def stepwise(self) -> bool:
        """Whether it compares rows, of which some have something and others do not."""
        return bool(self.compared)

    @property
    def compared(self) -> Compared:
        """The values of the node that one unit compares, with weights that add up to 0; none of a number."""
        return ()

    def worth(self, values: FloatArray) -> FloatArray:
        """Return what the factor is worth at values of its node."""
        return values

    @property
    def zero(self) -> float | None:
        """The value of the node at which the factor is 0; None where there is none."""
        return 0.0

    @property
    def averaged(self) -> int:
        """Over how many places of a category the factor is 0 on average; 0 where it is so at one value."""
        return 0


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

    def worth(self, values: FloatArray) -> FloatArray:
        return np.divide(np.subtract(values, self.center or 0.0), self.size or 1.0)

    @property
    def zero(self) -> float:
        return self.center or 0.0


@dataclass(frozen=True)
class Logged(Factor):
    """The natural logarithm of a number, after ``shift`` was added."""

    shift: float = 0.0

    def worth(self, values: FloatArray) -> FloatArray:
        with np.errstate(all="ignore"):
            return np.log(np.add(values, self.shift))

    @property
    def zero(self) -> float:
        return 1.0 - self.shift


@dataclass(frozen=True)
class Holds(Factor):
    """A condition that holds (1) or does not (0). ``center``: what was taken off."""

    center: float | None = None

    @property
    def compared(self) -> Compared:
        return ((1.0, 1.0), (0.0, -1.0))

    def worth(self, values: FloatArray) -> FloatArray:
        return np.subtract(values, self.center or 0.0)

    @property
    def zero(self) -> float | None:
        return self.center or 0.0


@dataclass(frozen=True)
class NoValue(Factor):
    """No value is there (1), or one is (0). ``wrong``: the conditions by which values were set to missing before."""

    wrong: tuple[str, ...] = ()

    @property
    def compared(self) -> Compared:
        return ((1.0, 1.0), (0.0, -1.0))


@dataclass(frozen=True)
class Indicator(Factor):
    """One category, against a reference category (None where every category has a column).

    Args:
        category, reference: their names.
        place, base: their places in the order.
        bounds: whether they are intervals of a number, called by their bounds.
    """

    category: str = ""
    reference: str | None = None
    place: int = field(default=0, compare=False, repr=False)
    base: int | None = field(default=None, compare=False, repr=False)
    bounds: bool = field(default=False, compare=False, repr=False)

    @property
    def compared(self) -> Compared:
        own = (float(self.place), 1.0)
        return (own,) if self.base is None else (own, (float(self.base), -1.0))

    @property
    def zero(self) -> float | None:
        return None if self.base is None else float(self.base)


@dataclass(frozen=True)
class Contrast(Factor):
    """One column of a contrast coding: ``against`` is all | before | earlier, ``other`` names what with.

    Args:
        place, count: the place of the category in the order, and how many there are.
        bounds: whether the categories are intervals of a number, called by their bounds.
    """

    category: str = ""
    against: str = "all"
    other: str | None = None
    place: int = field(default=0, compare=False, repr=False)
    count: int = field(default=0, compare=False, repr=False)
    bounds: bool = field(default=False, compare=False, repr=False)

    @property
    def compared(self) -> Compared:
        first = {"all": 0, "before": self.place - 1, "earlier": 0}[self.against]
        others = range(first, self.count if self.against == "all" else self.place)
        return ((float(self.place), 1.0), *((float(each), -1.0 / len(others)) for each in others))

    @property
    def averaged(self) -> int:
        return self.count


@dataclass(frozen=True)
class Power(Factor):
    """A power of a number, beside the lower ones of the same term. ``center``: what was taken off first."""

    degree: int = 1
    top: int = 1
    center: float | None = None

    def worth(self, values: FloatArray) -> FloatArray:
        return np.power(np.subtract(values, self.center or 0.0), self.degree)

    @property
    def zero(self) -> float:
        return self.center or 0.0


@dataclass(frozen=True)
class Orthogonal(Factor):
    """An orthogonal polynomial of a number or of the place of a category. ``count``: of categories."""

    degree: int = 1
    top: int = 1
    count: int = field(default=0, compare=False, repr=False)

    @property
    def zero(self) -> float | None:
        return None

    @property
    def averaged(self) -> int:
        return self.count


@dataclass(frozen=True)
class Curve(Factor):
    """A function of a number that has no unit of its own, such as a sine or a square root.

    Of the wave of a season, `cycle` is what it goes round in, and the names of its parts: month, jan, feb, ..;
    `turns` is how often it goes round.
    """

    cycle: tuple[str, ...] = ()
    turns: int = 0


@dataclass(frozen=True)
class Product:
    """The product of two columns."""

    left: Reading
    right: Reading


@dataclass(frozen=True)
class Scaled:
    """A multiple of another column."""

    of: Reading
    factor: float


Reading: TypeAlias = Factor | Product | Scaled


def factors_of(reading: Reading) -> tuple[list[Factor], float]:
    """Return the factors of a reading, and the number that their product is multiplied by.

    Example:
        >>> factors_of(Product(Unit("beds"), Scaled(Logged("price"), 10.0)))[1]
        10.0
    """
    if isinstance(reading, Scaled):
        found, multiple = factors_of(reading.of)
        return found, multiple * reading.factor
    if isinstance(reading, Product):
        left, right = factors_of(reading.left), factors_of(reading.right)
        return [*left[0], *right[0]], left[1] * right[1]
    return [reading], 1.0


def scaled(reading: Reading, factor: float) -> Reading:
    """Return the reading of a multiple of a column.

    Example:
        >>> scaled(Unit("age"), 0.1)
        Unit(subject='age', center=None, size=10.0, standardized=False)
    """
    if isinstance(reading, Unit):
        size = (1.0 if reading.size is None else reading.size) / factor
        return replace(reading, size=None if size == 1 else size, standardized=False)
    if isinstance(reading, Scaled):
        return scaled(reading.of, reading.factor * factor)
    return reading if factor == 1 else Scaled(reading, factor)


def shifted(reading: Reading, by: float) -> Reading | None:
    """Return the reading of a column to which a number was added; None where no structure describes it."""
    if not isinstance(reading, Unit):
        return None
    size = 1.0 if reading.size is None else reading.size
    center = (reading.center or 0.0) - by * size
    return replace(reading, center=center or None)


def stepped(text: str, every: str | None) -> str:
    """Return a subject with the step of the plan in words.

    Example:
        >>> stepped(f"price 12 {STEP}s before", "month")
        'price 12 months before'
    """
    noun = "period" if every is None else step_noun(every)
    often = {"day": "daily", "row": "1-row", "workday": "1-workday"}.get(every or "row", f"{noun.replace(' ', '-')}ly")
    return text.replace(f"{STEP}ly", often).replace(STEP, noun)
