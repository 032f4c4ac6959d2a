"""What the factors of columns are: straight lines, steps, and which can be 0 together."""

from __future__ import annotations

from collections.abc import Sequence

from facturum.audit.readings.sources import ColumnFactor, ColumnGroup, Sources
from facturum.language.reading import (
    Contrast,
    Curve,
    Factor,
    Holds,
    Indicator,
    NoValue,
    Orthogonal,
    Power,
    Product,
    Reading,
    Scaled,
    Unit,
)


def as_reading(reading: Reading | None, members: Sequence[ColumnFactor]) -> Reading:
    """Return the reading of a column over the factors that were found, its multiple kept."""
    whole: Reading = members[0].reading
    for member in members[1:]:
        whole = Product(whole, member.reading)
    return Scaled(whole, reading.factor) if isinstance(reading, Scaled) and not isinstance(whole, Curve) else whole


def zeros(interactions: list[tuple[ColumnGroup, list[ColumnFactor]]]) -> tuple[tuple[Factor, ...], list[ColumnGroup]]:
    """Return factors of which one at least is 0 in each interaction, and the interactions whose factors cannot be.

    Those of the fewest factors come first; two factors made of one variable may not both be 0 in a row.
    """
    said: list[ColumnFactor] = []
    contradicting: list[ColumnGroup] = []
    for group, factors in sorted(interactions, key=lambda each: len(each[1])):
        if any(factor.reading == member.reading for factor in factors for member in said):
            continue
        free = [f for f in factors if not any(f.sources.moves & member.sources.moves for member in said)]
        if free:
            said.append(free[0])
        else:
            contradicting.append(group)
    return tuple(member.reading for member in said), contradicting


def straight_in(reading: Factor) -> str | None:
    """Return the number that a column is a straight line in, or part of a polynomial of."""
    return reading.subject if isinstance(reading, Unit | Holds | Power | Orthogonal) else None


def stepwise(reading: Factor) -> bool:
    return isinstance(reading, Holds | NoValue | Indicator | Contrast)


def every_one(reading: Factor) -> bool:
    return isinstance(reading, Indicator) and reading.reference is None


def shared_variables(sources_of: Sequence[Sources], others: Sequence[ColumnGroup]) -> tuple[str, ...]:
    moves = frozenset().union(*(sources.moves for sources in sources_of))
    shared = [read[0] for other in others for read in sorted(moves & other.sources.plain)]
    return tuple(dict.fromkeys(shared))
