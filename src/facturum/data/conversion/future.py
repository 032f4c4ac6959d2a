"""Rows of periods to come: for each unit those after its last, with all that is known of them beforehand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from facturum.data.grouping import group_numbers
from facturum.data.table import Table
from facturum.data.time.calendar import period_text
from facturum.data.time.periods import Timing, period_numbers, period_starts
from facturum.data.values import Array, Kind, Mask
from facturum.data.variable import Variable
from facturum.errors import DataError, counted, named


def future_rows(table: Table, declared: Table, timing: Timing, ahead: int) -> tuple[Table, list[str]]:
    """Return the rows of the next periods of each unit, period by period, and the variables not known in them.

    The time is filled in, and each variable that is the same in all rows of every unit.

    Args:
        table: the rows as given.
        declared: the same with their kinds, the time among them.
        timing: how rows follow one another.
        ahead: how many periods.

    Raises:
        DataError: where the time is not one variable of the table.

    Example:
        >>> table = Table.of({"month": ["2023-11", "2023-12"], "hut": ["a", "a"], "stays": [5, 7]})
        >>> from facturum.data.declared import declare
        >>> made, unknown = future_rows(table, declare(table, {}, "month"), Timing("month", "month", ("hut",)), 2)
        >>> period_numbers(made["month"].data, "month").tolist(), unknown
        ([648, 649], ['stays'])
    """
    if timing.time is None or timing.every == "row" or timing.time not in table:
        raise DataError(
            "rows ahead need a time that is one variable of the table",
            place="data.time",
            remedy='Write [data] time = ".." and every = "month", say.',
        )
    time = declared[timing.time]
    periods = period_numbers(time.data, timing.every)
    unit = group_numbers([declared[name] for name in timing.panel], table.length)
    order = np.lexsort((periods, unit))
    order = order[~time.missing_rows()[order]]
    last = order[np.append(unit[order][1:] != unit[order][:-1], True)]
    rows = np.tile(last, ahead)
    numbers = np.repeat(np.arange(1, ahead + 1), len(last)) + periods[rows]
    unknown = []
    variables = {}
    for name, variable in table.variables.items():
        if name == timing.time:
            variables[name] = Variable(
                name, Kind.TIME, period_starts(numbers, timing.every), None, None, "ahead", declared=True
            )
        elif name in timing.panel or _is_steady(variable, unit):
            variables[name] = variable.take(rows)
        else:
            unknown.append(name)
            variables[name] = replace(variable.take(rows), valid=np.zeros(len(rows), dtype=bool))
    return replace(table, variables=variables, length=len(rows), source="the rows ahead", notes=()), unknown


def _is_steady(variable: Variable, unit: Array) -> bool:
    """Return whether a variable has one value in each unit, wherever it is present, and is present in each."""
    present: Mask = ~variable.missing_rows()
    units = int(unit.max(initial=-1)) + 1
    if len(np.unique(unit[present])) < units:
        return False
    order = np.argsort(unit[present], kind="stable")
    own, values = unit[present][order], variable.data[present][order]
    same_unit = own[1:] == own[:-1]
    return bool((values[1:][same_unit] == values[:-1][same_unit]).all() and present.all())


def filled_in(rows: Table, known: Table, keys: tuple[str, ...], time: str, every: str) -> tuple[Table, list[str]]:
    """Return rows ahead with the values that another table has for their unit and period, and what of it is not used.

    Args:
        rows: those ahead.
        known: values to come, as declared.
        keys: the variables that identify a unit.
        time: the time variable of both.
        every: the step.

    Raises:
        DataError: where the table lacks the time or a variable of the unit.
    """
    places = {key: at for at, key in enumerate(_keys(known, keys, time, every))}
    wanted = _keys(rows, keys, time, every)
    at = np.array([places.get(key, -1) for key in wanted])
    variables = dict(rows.variables)
    for name, variable in known.variables.items():
        if name in (time, *keys) or name not in rows:
            continue
        variables[name] = variable.taken(at)
    units = {key[1:] for key in wanted}
    strange = list(dict.fromkeys(", ".join(key[1:]) for key in places if key[1:] not in units))
    outside = [key for key in places if key[1:] in units and key not in set(wanted)]
    notes = [f"{named(strange, 5)} of the values to come: no such unit in the table"] if strange else []
    if outside:
        told = named([" ".join(filter(None, [*key[1:], key[0]])) for key in outside], 5)
        notes.append(f"{counted(len(outside), 'row')} of the values to come outside the periods ahead: {told}")
    return replace(rows, variables=variables), notes


def lacking(rows: Table, name: str, keys: tuple[str, ...], time: str, every: str) -> list[str]:
    """Return the unit and period of each row ahead in which a variable is missing, as texts."""
    missing = rows[name].missing_rows()
    texts = _keys(rows, keys, time, every)
    return [" ".join(filter(None, [*key[1:], key[0]])) for key, gone in zip(texts, missing, strict=True) if gone]


def _keys(table: Table, keys: tuple[str, ...], time: str, every: str) -> list[tuple[str, ...]]:
    moments = table[time]
    texts = [period_text(int(number), every) for number in period_numbers(moments.data, every)]
    units = [[_cell(table[name], row) for row in range(table.length)] for name in keys]
    return list(zip(texts, *units, strict=True))


def _cell(variable: Variable, row: int) -> str:
    return variable.text_of(variable.data[row])
