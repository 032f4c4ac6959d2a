"""Bringing rows into the order of unit and period, in which operations along time read their neighbours."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from facturum.data.grouping import group_numbers
from facturum.data.series import Timing, period_numbers, series_of
from facturum.data.table import Table
from facturum.data.values import Array, Mask
from facturum.data.variable import Variable
from facturum.engine.leaves import leaves_of


def order_of_time(table: Table, timing: Timing) -> Array | None:
    """Return the positions that bring rows into the order of unit and period; None where they are in it already.

    Rows without a period come last. The units are in any order, the rows of each together.

    Args:
        table: the variables as declared.
        timing: how rows follow one another.

    Raises:
        DataError: where a period occurs twice within a unit, or the step is longer than the plan's.
    """
    if _in_order(table, timing):
        return None
    series = series_of(table, timing)
    order: Array = series.order
    if len(order) < table.length:
        order = np.concatenate([order, np.flatnonzero(~series.known)])
    return None if bool((order == np.arange(len(order))).all()) else order


def _in_order(table: Table, timing: Timing) -> bool:
    """Return whether rows are known to be in order and to have no fault, reading them once."""
    panel = [table[name] for name in timing.panel]
    starts: list[Array] = []
    step = 0
    dated = timing.time is not None and timing.every != "row"
    if dated and timing.every == "workday":
        return False  # whether rows lie in weekends is asked where all are sorted
    for start, stop in leaves_of(table.length):
        begin = max(start - 1, 0)
        new_unit = unit_changes(panel, begin, stop)
        if start:
            new_unit[0] = False
        starts.append(np.flatnonzero(new_unit) + begin)
        if dated and timing.time is not None:
            time = table[timing.time]
            if time.valid is not None:
                return False
            steps = np.diff(period_numbers(time.data[begin:stop], timing.every))
            within = steps[~new_unit[1:]]
            if (within < 1).any():
                return False
            step = step if step == 1 else int(np.gcd(step, np.gcd.reduce(within))) if len(within) else step
    return (not dated or step == 1) and _each_once(panel, np.concatenate(starts))


def _each_once(panel: Sequence[Variable], starts: Array) -> bool:
    """Return whether the units that begin at some rows all differ."""
    if not panel:
        return True
    keys = [variable.take(starts) for variable in panel]
    if any(key.missing_rows().any() for key in keys):
        return False
    return int(group_numbers(keys, len(starts)).max(initial=-1)) + 1 == len(starts)


def unit_changes(panel: Sequence[Variable], start: int, stop: int) -> Mask:
    """Return which rows of a range are of another unit than the row before; the first row of the table always is.

    A row in which a variable of the panel is missing is a unit of its own.
    """
    low = max(start - 1, 0)
    new = np.zeros(stop - low, dtype=bool)
    for variable in panel:
        data = variable.data[low:stop]
        new[1:] |= data[1:] != data[:-1]
        if variable.valid is not None:
            missing = ~variable.valid[low:stop]
        elif variable.kind.categorical:
            missing = data < 0
        else:
            continue  # NaN differs from all, itself included
        new |= missing
        new[1:] |= missing[:-1]
    if start == 0:
        new[0] = True
        return new
    return new[1:]
