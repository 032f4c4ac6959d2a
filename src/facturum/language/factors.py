"""What one unit of a column means, a kind a class: what it is worth, what it compares, and how it is said."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, TypeAlias

import numpy as np

from facturum.data.values import FloatArray, plain_number

if TYPE_CHECKING:
    from facturum.language.nodes import Node

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

    def words(self) -> str:
        """Return what it is called in a product."""
        return self.subject

    def where_zero(self) -> str:
        """Return where it is 0, or the columns of its term are on average."""
        return f"where {self.subject} is {self.zero or 0.0:.6g}"

    def increase(self) -> str | None:
        """Return one unit more of it as the beginning of a sentence; None where it compares rows."""
        return None

    def state(self) -> str:
        """Return what is so in the rows that have it."""
        return self.subject

    def sides(self) -> str:
        """Return the rows that it compares."""
        return f"rows in which {self.state()} and the others"

    def comparison(self, filled: str | None = None) -> str:
        """Return what is compared with what, as the beginning of a sentence.

        Args:
            filled: where a missing value is compared, the value imputed elsewhere, "" where it differs; else None.
        """
        return f"Rows in which {self.state()}, compared with the others"


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
class Logged(Factor):
    """The natural logarithm of a number, after ``shift`` was added."""

    shift: float = 0.0

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

    def state(self) -> str:
        return f"{self.subject} held {self.when}" if self.when else f"{self.subject} holds"

    def where_zero(self) -> str:
        if self.center is not None:
            return f"where {self.subject} is {self.center:.4g}"
        return f"in rows in which {self.subject} {f'did not hold {self.when}' if self.when else 'does not hold'}"


@dataclass(frozen=True)
class NoValue(Factor):
    """No value is there (1), or one is (0). ``wrong``: the conditions by which values were set to missing before."""

    wrong: tuple[str, ...] = ()

    @property
    def compared(self) -> Compared:
        return ((1.0, 1.0), (0.0, -1.0))

    def words(self) -> str:
        return f"a missing {self.subject}"

    def where_zero(self) -> str:
        return f"in rows in which {self.subject} is not missing"

    def state(self) -> str:
        wrong = f", or was set to missing ({'; '.join(self.wrong)})" if self.wrong else ""
        return f"{self.subject} is missing{wrong}"

    def comparison(self, filled: str | None = None) -> str:
        others = "all others" if filled is None else "rows with the imputed value"
        return f"Rows in which {self.state()}, compared with {others}{f', {filled}' if filled else ''}"


def _interval(category: str) -> str:
    """Return an interval as people say it.

    Example:
        >>> _interval("from 60")
        '60 or more'
    """
    return f"{category.removeprefix('from ')} or more" if category.startswith("from ") else category


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

    def row(self, category: str) -> str:
        """Return that a row is in a category.

        Example:
            >>> Indicator("access").row("road"), Indicator("age", bounds=True).row("from 60")
            ('access = road', 'age 60 or more')
        """
        return f"{self.subject} {_interval(category) if self.bounds else f'= {category}'}"

    @property
    def other(self) -> str:
        """The reference, once the variable has been named."""
        return _interval(self.reference or "") if self.bounds else f"{self.reference}"

    def words(self) -> str:
        return f"{self.row(self.category)}{f' (rather than {self.other})' if self.reference else ''}"

    def where_zero(self) -> str:
        return f"in rows with {self.row(self.reference)}" if self.reference else f"beside what each {self.subject} adds"

    def sides(self) -> str:
        return f"rows with {self.row(self.category)} and rows with {self.other} (the reference)"

    def comparison(self, filled: str | None = None) -> str:
        return f"{self.row(self.category)} rather than {self.other}"


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

    @property
    def _ends(self) -> tuple[str, str]:
        """The category, and what it is compared with."""
        own, other = (_interval(each or "") if self.bounds else f"{each}" for each in (self.category, self.other))
        against = {
            "all": "the mean of all categories",
            "before": f"the category before, {other}",
            "earlier": f"the mean of the categories before it ({self.other})",
        }
        return f"{self.subject} {own if self.bounds else f'= {own}'}", against[self.against]

    def words(self) -> str:
        return f"{self._ends[0]} (compared with {self._ends[1]})"

    def where_zero(self) -> str:
        return f"on average over {self.subject}"

    def sides(self) -> str:
        return " and ".join(self._ends)

    def comparison(self, filled: str | None = None) -> str:
        return " compared with ".join(self._ends)


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

    def words(self) -> str:
        if self.degree > 1:
            return f"{self.subject} to the power {self.degree}"
        return f"{self.subject} (where it is {self.center or 0.0:.6g})" if self.top > 1 else self.subject


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

    @property
    def part(self) -> str:
        """Which part of the polynomial it is."""
        return {1: "linear", 2: "quadratic", 3: "cubic"}.get(self.degree, f"degree-{self.degree}")

    def words(self) -> str:
        return f"the {self.part} part of {self.subject}"

    def where_zero(self) -> str:
        return f"on average over {self.subject}"


@dataclass(frozen=True)
class Curve(Factor):
    """A function of a number that has no unit of its own, such as a sine or a square root.

    Of the wave of a season, `cycle` is what it goes round in, and the names of its parts: month, jan, feb, ..;
    `turns` is how often it goes round.
    """

    cycle: tuple[str, ...] = ()
    turns: int = 0

    def increase(self) -> str:
        return f"Each additional unit of {self.subject}"
