"""Kinds of variables, and values with their validity kept apart."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from fractions import Fraction
from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt

Array: TypeAlias = npt.NDArray[Any]
FloatArray: TypeAlias = npt.NDArray[np.float64]
Mask: TypeAlias = npt.NDArray[np.bool_]
Label: TypeAlias = str | int | float | bool
Labels: TypeAlias = tuple[Label, ...]


class Kind(StrEnum):
    """What a variable or an expression is."""

    NUMBER = "number"
    TRUTH = "truth"
    CATEGORY = "category"
    ORDERED = "ordered"
    TIME = "time"
    MISSING = "missing"  # of the literal `missing` alone, which fits wherever a value does

    @property
    def numeric(self) -> bool:
        return self in (Kind.NUMBER, Kind.TRUTH, Kind.MISSING)

    @property
    def with_article(self) -> str:
        return f"an {self}" if self is Kind.ORDERED else f"a {self}"

    @property
    def categorical(self) -> bool:
        return self in (Kind.CATEGORY, Kind.ORDERED)


@dataclass(frozen=True, slots=True, eq=False)
class Values:
    """Values of some rows, and which of them are there.

    Args:
        data: doubles, truth values, category codes or microseconds since 1970; of one element where all rows share it.
        valid: True where there is a value; None where all rows have one. What `data` holds elsewhere means nothing.
        labels: of categories, the label of each code.
    """

    data: Array
    valid: Mask | None = None
    labels: Labels | None = None

    def full(self, length: int) -> Values:
        """Return the same with one element for each row."""
        if len(self.data) == length and (self.valid is None or len(self.valid) == length):
            return self
        valid = None if self.valid is None else np.broadcast_to(self.valid, length)
        return Values(np.broadcast_to(self.data, length), valid, self.labels)

    def take(self, rows: Array) -> Values:
        """Return the values of some rows, by their positions."""
        return Values(self.data[rows], None if self.valid is None else self.valid[rows], self.labels)

    def present_mask(self) -> Mask:
        """Return which rows have a value, as a mask of all of them."""
        return np.ones(len(self.data), dtype=bool) if self.valid is None else self.valid

    def numbers(self) -> FloatArray:
        """Return the data as doubles; truth values become 1 and 0."""
        return self.data if self.data.dtype == np.float64 else self.data.astype(np.float64)


def and_masks(a: Mask | None, b: Mask | None) -> Mask | None:
    """Return where both have a value.

    Example:
        >>> and_masks(np.array([True, True]), np.array([True, False]))
        array([ True, False])
    """
    if a is None:
        return b
    return a if b is None else a & b


def label_text(label: Label) -> str:
    """Return a label as it is written for people.

    Example:
        >>> label_text("road"), label_text(3), label_text(3.0), label_text(True)
        ('road', '3', '3', 'true')
    """
    if isinstance(label, bool):
        return "true" if label else "false"
    if isinstance(label, float) and label.is_integer() and abs(label) < 1e15:
        return str(int(label))
    return str(label)


def sorted_labels(labels: set[Label] | list[Label]) -> list[Label]:
    """Return labels in their order: numbers by size and before texts, texts by code point.

    Example:
        >>> sorted_labels([10, 9, "b", "a"])
        [9, 10, 'a', 'b']
    """
    return sorted(labels, key=lambda label: (isinstance(label, str), label))


def number_text(value: float) -> str:
    """Return a number in four digits, as people write it.

    Example:
        >>> number_text(37.527), number_text(1640.0), number_text(16432.4), number_text(0.00012)
        ('37.53', '1640', '16,430', '0.00012')
    """
    text = f"{value:.4g}"
    return f"{float(text):,.0f}" if 1e4 <= abs(value) < 1e15 else text


def simple_number(value: float, digits: int = 10) -> str:
    """Return a number as the simplest one that it can be taken for, as a fraction where that is one of small numbers.

    Args:
        value: the number.
        digits: to how many it is known.

    Example:
        >>> simple_number(0.99999999999999), simple_number(1 / 3), simple_number(0.25), simple_number(1.2345678)
        ('1', '1/3', '0.25', '1.23457')
    """
    if value == 0:
        return "0"
    for most in (1, 12, 100):
        near = Fraction(value).limit_denominator(most)
        if near and abs(float(near) - value) <= 10.0 ** (-digits) * abs(value):
            if near.denominator == 1 and abs(near.numerator) < 10**9:
                return str(near.numerator)
            text = f"{float(near):.6g}"
            if float(text) == float(near):
                return text
            if most == 12:
                return f"{near.numerator}/{near.denominator}"
    return f"{value:.6g}"


def multiple_text(factor: float, name: str) -> str:
    """Return a multiple of something that has a name.

    Example:
        >>> [multiple_text(factor, "b") for factor in (1, -1, 2.5, 1 / 3, -2 / 3)]
        ['b', '−b', '2.5·b', 'b/3', '−2·b/3']
    """
    above, _, below = simple_number(abs(factor)).partition("/")
    text = name if above == "1" else f"{above}·{name}"
    return f"{'−' if factor < 0 else ''}{text}{'/' if below else ''}{below}"


def plain_number(value: float) -> int | float:
    """Return a double as a whole number where it is one, so that 3.0 is written 3."""
    return int(value) if float(value).is_integer() and abs(value) < 2**53 else float(value) + 0.0
