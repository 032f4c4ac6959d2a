"""Which variable of a table orders its rows in time, at what step, and within which units."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from facturum.data.declared import as_time
from facturum.data.table import Table
from facturum.data.time.calendar import period_of, weekend
from facturum.data.time.periods import Timing, period_numbers
from facturum.data.time.series import series_of
from facturum.data.time.steps import OWN_STEPS, STEPS
from facturum.data.values import Array, Kind, label_text
from facturum.data.variable import Variable
from facturum.errors import DataError
from facturum.look.variables.remarks import are_numbers

MANY_DAYS = 15  # of which none is in a weekend, for workdays to be meant


@dataclass(frozen=True)
class Clock:
    """The time variable of a table, its step, and the variable within which a series runs."""

    time: str
    every: str
    panel: str | None


def find_clock(table: Table) -> Clock | None:
    """Return the time variable of a table with its step and its panel, or None where no variable orders the rows."""
    times = [v for v in table if v.kind is Kind.TIME or (v.kind.categorical and are_dates(v))]
    for time in times:
        if time.missing_rows().any():
            continue
        every = _step(time)
        if every is None:
            continue
        candidates = [v for v in table if v.kind is Kind.CATEGORY and v.name != time.name and not are_dates(v)]
        timed = replace(table, variables={**table.variables, time.name: as_time(time)})
        for panel in [None, *sorted(candidates, key=lambda v: len(v.labels or ()))]:
            names = () if panel is None else (panel.name,)
            try:
                series_of(timed, Timing(time.name, every, names))
            except DataError:
                continue
            return Clock(time.name, every, _readable(candidates, panel))
    return None


def _readable(candidates: list[Variable], panel: Variable | None) -> str | None:
    """Return the panel, or of several that separate the same units the one that is not a numeric code."""
    if panel is None:
        return None
    same = [v for v in candidates if one_to_one(v, panel)]
    named = [v for v in same if not are_numbers([label_text(label) for label in v.labels or ()])]
    return (named or [panel])[0].name


def one_to_one(a: Variable, b: Variable) -> bool:
    """Return whether two categories identify the same groups of rows."""
    if len(a.labels or ()) != len(b.labels or ()) or a.name == b.name:
        return a.name == b.name
    pairs = np.unique(np.stack([a.data.astype(np.int64), b.data.astype(np.int64)]), axis=1)
    return bool(pairs.shape[1] == len(np.unique(pairs[0])) == len(np.unique(pairs[1])))


def _step(time: Variable) -> str | None:
    """Return the longest step that keeps the moments distinct."""
    return step_of(np.unique(as_time(time).data))


def step_of(distinct: Array) -> str | None:
    """Return the longest step that keeps moments distinct; None of fewer than two."""
    if len(distinct) < 2:
        return None
    for every in [step for step in (*STEPS[:-1], *OWN_STEPS) if step != "workday"]:
        if len(np.unique(period_numbers(distinct, every))) == len(distinct):
            return "workday" if every == "day" and _all_workdays(distinct) else every
    return None


def _all_workdays(moments: Array) -> bool:
    """Return whether many days are none of them Saturdays or Sundays."""
    return len(moments) >= MANY_DAYS and not weekend(moments).any()


def are_dates(variable: Variable) -> bool:
    """Return whether all categories of a variable are periods written as text."""
    labels = variable.labels or ()
    texts = [label for label in labels if isinstance(label, str)]
    return bool(texts) and len(texts) == len(labels) and all(period_of(text) is not None for text in texts)
