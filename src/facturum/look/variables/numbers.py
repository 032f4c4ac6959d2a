"""What a table's numbers may be besides numbers: years, the codes of units, truth values."""

from __future__ import annotations

import numpy as np

from facturum.data.declared import Declaration, declare
from facturum.data.table import Table
from facturum.data.values import Array, Kind
from facturum.data.variable import Variable

SPARSE = 1.5  # how many times as long as its values are many a stretch of years may be


def with_truths(table: Table, response: str) -> tuple[Table, set[str]]:
    """Return a table whose numbers of 0 and 1 are truth values, and their names."""
    names = set()
    for variable in table:
        if variable.kind is Kind.NUMBER and variable.name != response and not variable.declared:
            there = np.unique(variable.data[~variable.missing_rows()])
            if there.tolist() == [0, 1]:
                names.add(variable.name)
    return declare(table, {name: Declaration("truth") for name in names}, None), names


def found_years(table: Table) -> dict[str, Declaration]:
    """Return the declaration of a number that holds years, and of one that names the units in which each occurs once.

    Years are whole numbers from 1800 to 2100, nearly all of a stretch; each once, or once in each unit.
    """
    numbers = [v for v in table if v.kind is Kind.NUMBER and not v.declared and not v.missing_rows().any()]
    for year in numbers:
        values = np.asarray(year.data)
        distinct = np.unique(values)
        whole = bool((distinct == np.floor(distinct)).all())
        if not whole or not len(distinct) >= 3 or distinct[0] < 1800 or distinct[-1] > 2100:
            continue
        if distinct[-1] - distinct[0] + 1 > SPARSE * len(distinct):
            continue
        if len(distinct) == table.length:
            return {year.name: Declaration("time")}
        for unit in table:
            if unit.name != year.name and _is_unit(unit, values):
                number = unit.kind is Kind.NUMBER
                named = {unit.name: Declaration("category")} if number else {}
                return {year.name: Declaration("time"), **named}
    return {}


def _is_unit(unit: Variable, years: Array) -> bool:
    """Return whether a variable names groups of rows in each of which every year occurs once at most."""
    codes = np.asarray(unit.data)
    if unit.kind not in (Kind.NUMBER, Kind.CATEGORY) or unit.missing_rows().any() or (codes != np.floor(codes)).any():
        return False
    groups = np.unique(codes)
    once = len(np.unique(np.stack([codes.astype(np.float64), years.astype(np.float64)]), axis=1)[0]) == len(codes)
    return once and 2 * len(groups) <= len(codes)
