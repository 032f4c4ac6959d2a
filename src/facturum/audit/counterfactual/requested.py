"""A change of a source variable that a user requests, and the columns of each row before and after it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import isnan
from typing import Any

import numpy as np

from facturum.audit.counterfactual.probes import Probes
from facturum.data.values import Array, FloatArray, Kind, label_text, number_text
from facturum.data.variable import Variable
from facturum.engine.blocks.windows import Change
from facturum.engine.passes.outline import Outline
from facturum.errors import DataError, nearest
from facturum.language.syntax.parser import parse

MOST_ROWS = 65_536  # that are averaged over; of more, as many are taken, evenly spread


@dataclass(frozen=True)
class RequestedChange:
    """What a change is.

    Args:
        variable: of the source.
        by: how much more a number becomes.
        ratio: by what a number is multiplied.
        to: what the variable becomes, or a pair of what it is before and after; NaN for no value.
        at: for other variables, what they are set to first.
        within: the condition for a row to be among those that are averaged over.
    """

    variable: str
    by: float | None = None
    ratio: float | None = None
    to: Any = None
    at: Mapping[str, Any] | None = None
    within: str | None = None

    def __post_init__(self) -> None:
        given = [each for each in (self.by, self.ratio, self.to) if each is not None]
        if len(given) != 1:
            raise DataError(
                f"a change of {self.variable} needs one of by, ratio and to, and {len(given)} are given",
                remedy="Write by=1, ratio=1.1, to=.. or to=(before, after).",
            )


@dataclass(frozen=True)
class BeforeAndAfter:
    """The columns of rows before and after a change, without the intercept: doubles (rows, columns).

    Args:
        change, where: in words.
        before, after: the columns.
    """

    change: str
    where: str
    before: FloatArray
    after: FloatArray

    @property
    def alike(self) -> bool:
        """Whether all rows move alike."""
        moved = self.after - self.before
        return bool((np.ptp(moved, axis=0) <= 1e-9 * np.abs(moved).max(axis=0, initial=1e-300)).all())


def before_and_after(outline: Outline, request: RequestedChange) -> BeforeAndAfter:
    """Return the rows of a matrix before and after a change.

    Raises:
        DataError: where a variable or a value is not there, or no row can be changed so.
    """
    worlds = Probes(outline, MOST_ROWS).complete
    rows = np.arange(worlds.count)
    condition = None if request.within is None else parse(request.within, True)
    if condition is not None:
        outline.prepared.scope().type_of(condition)
        rows = np.flatnonzero(np.nan_to_num(worlds.values(rows, (), condition)) != 0)
    settings = [_setting(outline, name, value, worlds.count) for name, value in (request.at or {}).items()]
    variable = _variable(outline, request.variable)
    own, there = worlds.held(request.variable, 0)
    words, before, after = _change(variable, own, there, request)
    terms = [*outline.prepared.terms]
    with np.errstate(all="ignore"):
        sides = [
            worlds.columns(rows, [change.of(rows) for change in [*settings, *side]], terms) for side in (before, after)
        ]
    fine = np.isfinite(sides[0]).all(axis=1) & np.isfinite(sides[1]).all(axis=1)
    if not fine.any():
        raise DataError(
            f"no row of the matrix has a value in every column before and after the change: {request.variable} {words}",
            remedy="Ask for a change within the values of the table, or of other rows.",
        )
    where = [f"where {name} is {_said(value)}" for name, value in (request.at or {}).items()]
    if condition is not None:
        factor = condition.response_meaning().single
        where.append(f"in rows {factor.rows()}" if factor is not None else f"in rows in which {condition} holds")
    return BeforeAndAfter(f"{request.variable} {words}", " and ".join(where), sides[0][fine], sides[1][fine])


def _variable(outline: Outline, name: str) -> Variable:
    table, derived = outline.prepared.table, outline.prepared.derived
    if name in derived:
        made_of = ", ".join(dict.fromkeys(outline.prepared.sources(derived[name])))
        raise DataError(f"'{name}' is made of {made_of}, and moves with it", remedy="Name a variable of the table.")
    if name not in table:
        raise DataError(f"variable '{name}' not found{nearest(name, list(table.variables))}")
    if table[name].kind is Kind.TIME:
        raise DataError(f"'{name}' is the time, which cannot be changed here", remedy="See the trial's effects.")
    return table[name]


def _setting(outline: Outline, name: str, value: Any, count: int) -> Change:
    variable, every = _variable(outline, name), np.ones(count, dtype=bool)
    stored, present = _stored(variable, name, value)
    return Change(name, np.full(count, stored), every & present, every)


def _change(
    variable: Variable, own: Array, there: Array, request: RequestedChange
) -> tuple[str, Sequence[Change], Sequence[Change]]:
    """Return a change in words, and what rows are set to before and after it."""
    name, every = request.variable, np.ones(len(own), dtype=bool)
    if request.to is None:
        if variable.kind is not Kind.NUMBER:
            raise DataError(f"'{name}' is {variable.kind.with_article} variable", remedy="Write to=.. instead.")
        size = request.by if request.by is not None else 100 * (float(request.ratio or 1.0) - 1)
        words = f"{number_text(abs(size))}{'' if request.by is not None else ' %'} {'higher' if size >= 0 else 'lower'}"
        numbers = own.astype(np.float64)
        after = numbers + request.by if request.by is not None else numbers * float(request.ratio or 1.0)
        return words, (), (Change(name, after, there, there),)

    def to(value: Any) -> Change:
        stored, present = _stored(variable, name, value)
        return Change(name, np.full(len(own), stored), every & present, every)

    if isinstance(request.to, tuple | list):
        first, second = request.to
        sign = "= " if variable.labels is not None else ""
        return f"{sign}{_said(second)} rather than {_said(first)}", (to(first),), (to(second),)
    return f"{_said(request.to)} rather than as it is", (), (to(request.to),)


def _said(value: Any) -> str:
    if isinstance(value, float) and isnan(value):
        return "missing"
    if isinstance(value, bool | np.bool_):
        return str(value).lower()
    return number_text(float(value)) if isinstance(value, int | float | np.number) else str(value)


def _stored(variable: Variable, name: str, value: Any) -> tuple[Any, bool]:
    """Return a value as a variable stores it, and whether it is one."""
    if isinstance(value, float) and isnan(value):
        return variable.data.dtype.type(0), False
    if variable.labels is not None:
        texts = [label_text(label) for label in variable.labels]
        if _said(value) not in texts and str(value) not in texts:
            raise DataError(f"'{value}' is not a category of {name}", remedy=f"They are {', '.join(texts[:12])}.")
        return texts.index(str(value) if str(value) in texts else _said(value)), True
    if variable.kind is Kind.TRUTH:
        return bool(value), True
    try:
        return float(value), True
    except (TypeError, ValueError):
        raise DataError(f"'{value}' is not a number, as {name} is", remedy="Write a number.") from None
