"""What one unit of a column means, as structure: factors, their products and multiples."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TypeAlias

from facturum.data.time.periods import step_noun
from facturum.language.factors import Factor, Unit

STEP = "\ue000"  # stands in subjects for the step of the plan, a month say; see `stepped`


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
        >>> from facturum.language.factors import Logged
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
