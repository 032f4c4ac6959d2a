"""Other tables joined to the plan's by unit and period."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from facturum.data.grouping import dense_ranks, first_rows, group_numbers
from facturum.data.table import Table
from facturum.data.time.series import Series, Timing, series_of
from facturum.data.values import Array, label_text
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


def join(main: Table, main_series: Series, name: str, table: Table, timing: Timing) -> tuple[Table, JoinedSeries]:
    """Return the plan's table with the variables of a series beside it, by period and matching variables.

    Args:
        main: the plan's table.
        main_series: its rows by unit and period.
        name: of the series.
        table: the series at the plan's step.
        timing: its time, the plan's step, and what it is matched by.

    Raises:
        DataError: where a match is missing on one side, a period occurs twice, or no period is common to both.
    """
    place = f"series.{name}"
    for match in timing.panel:
        if match not in main:
            raise DataError(
                f"variable '{match}' to match by not found in the table{nearest(match, list(main.variables))}",
                place=f"{place}.match",
                remedy="Match by variables that both tables have.",
            )
    series = series_of(table, timing)
    taken = tuple(v.name for v in table if v.name not in (timing.time, *timing.panel))
    for variable in taken:
        if variable in main:
            raise DataError(
                f"the table has a variable '{variable}' already", place=place, remedy="Give the series another name."
            )
    unit = _units([main[m] for m in timing.panel], [table[m] for m in timing.panel], series, main.length)
    at = series.lookup(unit, main_series.period, main_series.known)
    if not (at >= 0).any():
        raise DataError(
            f"the series '{name}' has no {timing.every} in common with the table",
            place=place,
            remedy="Check its time, its step, and the variables that it is matched by.",
        )
    joined = dict(main.variables)
    for variable in taken:
        joined[variable] = table[variable].taken(at)
    return Table(joined, main.length, main.source), JoinedSeries(name, table, timing, taken, unit)


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
