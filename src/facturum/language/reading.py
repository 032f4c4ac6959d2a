"""What one unit of a column means, as structure; the sentences are written by the audit."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TypeAlias

from facturum.data.time.periods import step_noun

STEP = "\ue000"  # stands in subjects for the step of the plan, a month say; see `stepped`


@dataclass(frozen=True)
class Unit:
    """A difference of one unit in a column made of a number.

    Args:
        subject: the number.
        center: where it is when the column is 0; None for 0.
        size: how much more of it one unit of the column is; None for one unit.
        standardized: whether the size is a standard deviation.
    """

    subject: str
    center: float | None = None
    size: float | None = None
    standardized: bool = False


@dataclass(frozen=True)
class Logged:
    """The natural logarithm of a number, after ``shift`` was added."""

    subject: str
    shift: float = 0.0


@dataclass(frozen=True)
class Holds:
    """A condition that holds (1) or does not (0). ``center``: what was taken off."""

    subject: str
    center: float | None = None


@dataclass(frozen=True)
class NoValue:
    """No value is there (1), or one is (0). ``wrong``: the conditions by which values were set to missing before."""

    subject: str
    wrong: tuple[str, ...] = ()


@dataclass(frozen=True)
class Indicator:
    """One category, against a reference category (None where every category has a column)."""

    subject: str
    category: str
    reference: str | None


@dataclass(frozen=True)
class Contrast:
    """One column of a contrast coding: ``against`` is all | before | earlier, ``left_out`` has no column of its own."""

    subject: str
    category: str
    against: str
    other: str | None = None


@dataclass(frozen=True)
class Power:
    """A power of a number, beside the lower ones of the same term. ``center``: what was taken off first."""

    subject: str
    degree: int
    top: int
    center: float | None = None


@dataclass(frozen=True)
class Orthogonal:
    """An orthogonal polynomial of a number or of the place of a category."""

    subject: str
    degree: int
    top: int


@dataclass(frozen=True)
class Product:
    """The product of two columns."""

    left: Reading
    right: Reading


@dataclass(frozen=True)
class Curve:
    """A function of a number that has no unit of its own, such as a sine or a square root.

    Of the wave of a season, `cycle` is what it goes round in, and the names of its parts: month, jan, feb, ..
    """

    subject: str
    cycle: tuple[str, ...] = ()


@dataclass(frozen=True)
class Scaled:
    """A multiple of another column."""

    of: Reading
    factor: float


Factor: TypeAlias = Unit | Logged | Holds | NoValue | Indicator | Contrast | Power | Orthogonal | Curve
Reading: TypeAlias = Factor | Product | Scaled


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
