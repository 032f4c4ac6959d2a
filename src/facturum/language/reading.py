"""What one unit of a column means, as structure; the sentences are written by the audit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias


@dataclass(frozen=True)
class Unit:
    """One unit more of a number. ``center``: what was taken off; ``size``: what one unit amounts to."""

    subject: str
    center: float | None = None
    size: float | None = None


@dataclass(frozen=True)
class Logged:
    """The natural logarithm of a number, after ``shift`` was added."""

    subject: str
    shift: float = 0.0


@dataclass(frozen=True)
class Holds:
    """A condition that holds (1) or does not (0)."""

    subject: str


@dataclass(frozen=True)
class NoValue:
    """No value is there (1), or one is (0). ``wrong``: the conditions by which values were taken out before."""

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
    """A function of a number that has no unit of its own, such as a sine or a square root."""

    subject: str


Factor: TypeAlias = Unit | Logged | Holds | NoValue | Indicator | Contrast | Power | Orthogonal | Curve
Reading: TypeAlias = Factor | Product
