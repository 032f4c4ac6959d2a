"""A number by the groups of another variable: how many, and how they are spread."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from facturum.data.table import Table
from facturum.data.values import Kind
from facturum.errors import DataError
from facturum.look.crossing import coded
from facturum.look.profile import QUARTILES, profile_of

ALL = "all"


@dataclass(frozen=True)
class GroupFigures:
    """The figures of a number in one group.

    Args:
        group: the group; `all` for all rows.
        rows, missing: how many, and in how many of them the number is missing.
        mean, sd: of those that are there; the sd with n - 1.
        smallest, largest: of those that are there.
        quantiles: pairs of a share and its quantile.
    """

    group: str
    rows: int
    missing: int
    mean: float | None
    sd: float | None
    smallest: float | None
    largest: float | None
    quantiles: tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class GroupedNumber:
    """A number by groups, with all rows in the last line.

    Args:
        variable, by: the number, and what forms the groups.
        groups: the figures of each, and of all rows.
    """

    variable: str
    by: str
    groups: tuple[GroupFigures, ...]

    def to_dict(self) -> dict[str, Any]:
        """Return all figures, for programs."""
        return asdict(self)


def grouped_number(table: Table, name: str, by: str, quantiles: Sequence[float] = QUARTILES) -> GroupedNumber:
    """Return a number by the groups of another variable.

    Args:
        table: the table.
        name: of the number.
        by: a variable of few values.
        quantiles: the shares whose quantiles are wanted.

    Raises:
        DataError: for a variable that is not there, one that is no number, or too many groups.

    Example:
        >>> table = Table.of({"beds": [8, 40, 60, 20], "way": ["trail", "road", "road", "trail"]})
        >>> [(each.group, each.rows, each.mean) for each in grouped_number(table, "beds", "way").groups]
        [('road', 2, 50.0), ('trail', 2, 14.0), ('all', 4, 32.0)]
    """
    if table[name].kind is not Kind.NUMBER:
        raise DataError(f"'{name}' is not a number", remedy="Name a number, or cross two categories.")
    places, groups = coded(table[by])
    parts = [(group, table.take(np.flatnonzero(places == at))) for at, group in enumerate(groups)]
    figures = [_figures(group, part, name, quantiles) for group, part in [*parts, (ALL, table)]]
    return GroupedNumber(name, by, tuple(figures))


def _figures(group: str, part: Table, name: str, quantiles: Sequence[float]) -> GroupFigures:
    profile = profile_of(part, [name], quantiles)[name]
    values = np.asarray(part[name].data, dtype=np.float64)[~part[name].missing_rows()]
    values = values[~np.isnan(values)]
    sd = float(np.std(values, ddof=1)) if len(values) > 1 else None
    ends = [float(value) if isinstance(value, int | float) else None for value in (profile.smallest, profile.largest)]
    return GroupFigures(group, part.length, profile.missing, profile.mean, sd, ends[0], ends[1], profile.quantiles)
