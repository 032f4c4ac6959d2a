"""Where a coefficient holds: an interaction lets the effect of its factors differ from row to row."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import takewhile
from typing import TypeAlias

from facturum.audit.readings import absence
from facturum.language.reading import Factor, Product, Reading

Interaction: TypeAlias = tuple[tuple[str, str], ...]  # of each factor its subject, and where it is 0


@dataclass(frozen=True)
class Interactions:
    """The interactions of a matrix.

    Args:
        of: for each subject, those that it is a factor of; alike ones once, those of most factors first.
    """

    of: dict[str, tuple[Interaction, ...]]

    @classmethod
    def among(cls, readings: Iterable[Reading | None]) -> Interactions:
        """Return the interactions among the readings of the columns; None stands for the intercept.

        Example:
            >>> from facturum.language.reading import Indicator, Logged
            >>> slope = Product(Indicator("access", "road", "trail"), Logged("price"))
            >>> Interactions.among([None, Logged("price"), slope]).of["price"]
            ((('access', 'in rows with access = trail'), ('price', 'where log(price) is 0')),)
        """
        found: dict[str, dict[Interaction, None]] = {}
        for reading in readings:
            if isinstance(reading, Product):
                interaction = tuple((factor.subject, absence(factor)) for factor in _factors(reading))
                for subject, _ in interaction:
                    found.setdefault(subject, {})[interaction] = None
        return cls({subject: tuple(sorted(alike, key=len, reverse=True)) for subject, alike in found.items()})

    def condition(self, reading: Reading | None) -> str:
        """Return where the coefficient of a column is what its reading says, empty where that is everywhere.

        It is so where the interactions that hold all factors of the column, and others, are 0.

        Example:
            >>> from facturum.language.reading import Indicator, Logged
            >>> slope = Product(Indicator("access", "road", "trail"), Logged("price"))
            >>> Interactions.among([slope]).condition(Logged("price"))
            'in rows with access = trail'
        """
        if reading is None:
            return ""
        own = Counter(factor.subject for factor in _factors(reading))
        # the interactions of a subject begin with those of most factors
        larger = takewhile(lambda each: len(each) > own.total(), self.of.get(next(iter(own)), ()))
        others = [_others(interaction, own) for interaction in larger]
        said: dict[str, None] = {}
        for where in sorted(filter(None, others), key=len):
            if not said.keys() & set(where):  # one factor that is 0 is enough
                said[where[0]] = None
        return " and ".join(said)


def _factors(reading: Reading) -> Iterator[Factor]:
    if isinstance(reading, Product):
        yield from _factors(reading.left)
        yield from _factors(reading.right)
    else:
        yield reading


def _others(interaction: Interaction, own: Counter[str]) -> list[str]:
    """Return where the factors beside those of a column are 0, nothing where the interaction does not have them all."""
    left, rest = own.copy(), []
    for subject, where in interaction:
        if left[subject]:
            left[subject] -= 1
        else:
            rest.append(where)
    return [] if left.total() else rest
