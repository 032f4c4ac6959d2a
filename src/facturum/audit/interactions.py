"""Where a coefficient holds: an interaction lets the effect of its factors differ from row to row."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from facturum.data.values import plain_number
from facturum.language.reading import (
    Contrast,
    Factor,
    Holds,
    Indicator,
    Logged,
    NoValue,
    Orthogonal,
    Power,
    Product,
    Reading,
    Unit,
)


@dataclass(frozen=True)
class Interactions:
    """The interactions of a matrix. ``of``: for each subject, those that it is a factor of, alike ones once."""

    of: dict[str, tuple[tuple[Factor, ...], ...]]

    @classmethod
    def among(cls, readings: Iterable[Reading | None]) -> Interactions:
        """Return the interactions among the readings of the columns; None stands for the intercept.

        Example:
            >>> slope = Product(Indicator("access", "road", "trail"), Logged("price"))
            >>> Interactions.among([None, Logged("price"), slope]).of["price"]
            ((Indicator(subject='access', category='road', reference='trail'), Logged(subject='price', shift=0.0)),)
        """
        found: dict[str, dict[tuple[tuple[str, str], ...], tuple[Factor, ...]]] = {}
        for reading in readings:
            if isinstance(reading, Product):
                factors = tuple(factors_of(reading))
                key = tuple((factor.subject, _absent(factor)) for factor in factors)
                for factor in factors:
                    found.setdefault(factor.subject, {}).setdefault(key, factors)
        return cls({subject: tuple(alike.values()) for subject, alike in found.items()})

    def condition(self, reading: Reading | None) -> str:
        """Return where the coefficient of a column is what its reading says, empty where that is everywhere.

        It is so where the interactions that hold all factors of the column, and others, are 0.

        Example:
            >>> slope = Product(Indicator("access", "road", "trail"), Logged("price"))
            >>> Interactions.among([slope]).condition(Logged("price"))
            'in rows with access = trail'
        """
        if reading is None:
            return ""
        own = Counter(factor.subject for factor in factors_of(reading))
        others = [_others(factors, own) for factors in self.of.get(next(iter(own)), ())]
        said: dict[str, None] = {}
        for rest in sorted(filter(None, others), key=len):
            absent = [_absent(factor) for factor in rest]
            if not said.keys() & set(absent):  # one factor that is 0 is enough
                said[absent[0]] = None
        return " and ".join(said)


def factors_of(reading: Reading) -> Iterator[Factor]:
    """Give the factors of a reading, in their order.

    Example:
        >>> [factor.subject for factor in factors_of(Product(Product(Unit("a"), Unit("b")), Unit("c")))]
        ['a', 'b', 'c']
    """
    if isinstance(reading, Product):
        yield from factors_of(reading.left)
        yield from factors_of(reading.right)
    else:
        yield reading


def _others(factors: tuple[Factor, ...], own: Counter[str]) -> list[Factor]:
    """Return what an interaction has beside the factors of a column, nothing where it does not have them all."""
    left, rest = own.copy(), []
    for factor in factors:
        if left[factor.subject]:
            left[factor.subject] -= 1
        else:
            rest.append(factor)
    return [] if left.total() else rest


def _absent(factor: Factor) -> str:
    """Return where a factor, or each column of its term on average, is 0."""
    subject = factor.subject
    if isinstance(factor, Indicator):
        if factor.reference is None:
            return f"apart from what each {subject} adds"
        return f"in rows with {subject} = {factor.reference}"
    if isinstance(factor, Contrast | Orthogonal):
        return f"on average over {subject}"
    if isinstance(factor, Holds):
        return f"in rows where {subject} does not hold"
    if isinstance(factor, NoValue):
        return f"in rows where {subject} has a value"
    if isinstance(factor, Logged):
        shift = f" + {plain_number(factor.shift)}" if factor.shift else ""
        return f"where log({subject}{shift}) is 0"
    center = factor.center if isinstance(factor, Unit | Power) else None
    return f"where {subject} is {center or 0.0:.6g}"
