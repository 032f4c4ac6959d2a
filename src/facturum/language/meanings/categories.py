"""What columns made of a category or a condition mean."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np

from facturum.data.values import FloatArray
from facturum.language.meanings.meaning import Compared, Context, Factor, Meaning, times_b


@dataclass(frozen=True)
class Holds(Factor):
    """A condition that holds (1) or does not (0). ``center``: what was taken off."""

    center: float | None = None

    flag: ClassVar[bool] = True
    truth: ClassVar[bool] = True

    @property
    def plain(self) -> bool:
        return self.center is None

    @property
    def cell(self) -> str | None:
        return self.subject

    @property
    def all_at_zero(self) -> str | None:
        return "no condition holds" if self.center is None else None

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

    flag: ClassVar[bool] = True
    truth: ClassVar[bool] = True
    absence: ClassVar[bool] = True

    @property
    def cell(self) -> str | None:
        return self.proposition()

    def proposition(self) -> str:
        return f"{self.subject} is missing"

    def informed(self, context: Context) -> Meaning:
        inner = context.set_missing.get(self.subject)
        if inner is None:
            return super().informed(context)
        return NoValue(inner.subject, inner.wrong + self.wrong, node=self.node)

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

    truth: ClassVar[bool] = True

    @property
    def level(self) -> Indicator | None:
        return self

    @property
    def alone(self) -> bool:
        """Whether no category is the reference."""
        return self.reference is None

    @property
    def cell(self) -> str | None:
        return self.proposition()

    def proposition(self) -> str:
        return f"{self.subject} = {self.category}"

    def rows(self) -> str:
        return f"with {self.proposition()}"

    @property
    def all_at_zero(self) -> str | None:
        return None if self.alone else "every category is at its reference"

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

    def main_effect(self, response: Factor, multiple: float, filled: str | None) -> str:
        if not self.alone:
            return super().main_effect(response, multiple, filled)
        rows = f"Rows with {self.row(self.category)}"
        return f"{rows} (no category is the reference): {times_b(multiple)} adds to {response.scale()}"


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
