"""Other tables joined to the plan's by unit and period."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from facturum.data.grouping import dense_ranks, first_rows, group_numbers
from facturum.data.table import Table
from facturum.data.time.periods import Timing
from facturum.data.time.series import Series, series_of
from facturum.data.values import Array, Mask, label_text
from facturum.data.variable import Variable
from facturum.errors import DataError, nearest


@dataclass(frozen=True)
class JoinedSeries:
    """A table at the plan's step, and how rows of the plan's table find its rows.

    Args:
        name: of the series.
        table: at the plan's step, its variables named ``NAME_variable``.
        timing: its time, the plan's step, and what it is matched by.
        variables: the names of the joined variables.
        unit: for each row of the plan's table the unit in the series; -1 where it has none.
    """

    name: str
    table: Table
    timing: Timing
    variables: tuple[str, ...]
    unit: Array


@dataclass(frozen=True)
class SeriesToJoin:
    """A series at the plan's step, ready to be joined.

    Args:
        name: of the series.
        table: its variables named ``NAME_variable``.
        timing: its time, the plan's step, and what it is matched by.
    """

    name: str
    table: Table
    timing: Timing

    @property
    def variables(self) -> tuple[str, ...]:
        """The names of the variables that are joined."""
        return tuple(v.name for v in self.table if v.name not in (self.timing.time, *self.timing.panel))

    @cached_property
    def series(self) -> Series:
        """Its rows by unit and period."""
        return series_of(self.table, self.timing)

    def rows(self, main: Table, period: Array, known: Mask) -> tuple[Array, Array]:
        """Return for each row of the plan's table its unit in the series and the row of its period there; -1 for none.

        Args:
            main: the plan's table, or some rows of it.
            period: the number of each row's period.
            known: which rows have one.

        Raises:
            DataError: where a match is missing on one side, a period occurs twice, or names clash.
        """
        place = f"series.{self.name}"
        for match in self.timing.panel:
            if match not in main:
                raise DataError(
                    f"variable '{match}' to match by not found in the table{nearest(match, list(main.variables))}",
                    place=f"{place}.match",
                    remedy="Match by variables that both tables have.",
                )
        for variable in self.variables:
            if variable in main:
                raise DataError(
                    f"the table has a variable '{variable}' already",
                    place=place,
                    remedy="Give the series another name.",
                )
        keys = [self.table[match] for match in self.timing.panel]
        unit = _units([main[match] for match in self.timing.panel], keys, self.series, main.length)
        return unit, self.series.lookup(unit, period, known)

    def nothing_in_common(self) -> DataError:
        """Return the error that no row of the plan's table finds one of the series."""
        return DataError(
            f"the series '{self.name}' has no {self.timing.every} in common with the table",
            place=f"series.{self.name}",
            remedy="Check its time, its step, and the variables that it is matched by.",
        )

    def joined(self, unit: Array) -> JoinedSeries:
        """Return the series as joined, by the unit of each row of the plan's table."""
        return JoinedSeries(self.name, self.table, self.timing, self.variables, unit)


def join(main: Table, main_series: Series, series: SeriesToJoin) -> tuple[Table, JoinedSeries]:
    """Return the plan's table with the variables of a series beside it, by period and matching variables.

    Args:
        main: the plan's table.
        main_series: its rows by unit and period.
        series: what is joined.

    Raises:
        DataError: where a match is missing on one side, a period occurs twice, or no period is common to both.
    """
    unit, at = series.rows(main, main_series.period, main_series.known)
    if not (at >= 0).any():
        raise series.nothing_in_common()
    joined = {**main.variables, **{name: series.table[name].taken(at) for name in series.variables}}
    return Table(joined, main.length, main.source), series.joined(unit)


def unit_of(table: Table, names: Mapping[str, str], row: int) -> dict[str, str] | None:
    """Return the unit of a row: variables as texts under the names of another table; None where one is missing.

    Args:
        table: the table of the row.
        names: its variables, and what the other table calls each.
        row: the position of the row.

    Example:
        >>> unit_of(Table.of({"hut": ["Alpina", "Bergli"]}), {"hut": "place"}, 1)
        {'place': 'Bergli'}
    """
    cells = {called: _cell(table[name], row) for name, called in names.items()}
    there = {called: cell for called, cell in cells.items() if cell is not None}
    return there if len(there) == len(cells) else None


def rows_of(table: Table, unit: Mapping[str, str]) -> Array:
    """Return the positions of the rows of a unit.

    Example:
        >>> rows_of(Table.of({"place": ["Alpina", "Bergli", "Alpina"]}), {"place": "Alpina"}).tolist()
        [0, 2]
    """
    chosen = np.ones(table.length, dtype=bool)
    for name, text in unit.items():
        chosen &= table[name].is_text(text)
    return np.flatnonzero(chosen)


def _units(main: Sequence[Variable], keys_of: Sequence[Variable], series: Series, length: int) -> Array:
    """Return for each row of the plan's table the number of its unit in the series."""
    if not main:
        return np.zeros(length, dtype=np.int64)
    keys: dict[tuple[str | None, ...], int] = {}
    for row in first_rows(dense_ranks(series.unit)).tolist():
        unit = int(series.unit[row])
        keys.setdefault(tuple(_cell(variable, row) for variable in keys_of), unit)
    distinct = group_numbers(main, length)
    wanted = [tuple(_cell(variable, row) for variable in main) for row in first_rows(distinct).tolist()]
    unit_of = np.array([-1 if None in key else keys.get(key, -1) for key in wanted])
    units: Array = unit_of[distinct]
    return units


def _cell(variable: Variable, row: int) -> str | None:
    """Return a cell as text, so that it equals the same cell of another table; None where it is missing."""
    if variable.valid is not None and not variable.valid[row]:
        return None
    value = variable.data[row].item()
    if variable.labels is not None:
        return None if value < 0 else label_text(variable.labels[value])
    return None if value != value else label_text(value)  # NaN alone is not equal to itself
