"""Rows of the periods to come, and forecasts of a trial regression in them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from facturum.arguments import checked
from facturum.data.table import Table
from facturum.data.time.appending import append, without_overlap
from facturum.data.time.calendar import period_text
from facturum.data.time.future import filled_in, future_rows
from facturum.data.time.series import Timing, period_numbers
from facturum.data.values import Array, FloatArray, Kind
from facturum.data.variable import Variable
from facturum.design import Design
from facturum.engine.passes.outline import RESPONSE
from facturum.engine.planning.leaks import Look, looks
from facturum.engine.planning.shaping import DATA, HISTORY, Given, declared_tables, shaped_first
from facturum.engine.planning.spec import PlanSpec
from facturum.errors import DataError, bounded, counted, listed
from facturum.language.parser import parse
from facturum.notebook import table_html
from facturum.plan import Plan
from facturum.trial.accuracy import residuals_of
from facturum.trial.likelihood import FAMILIES
from facturum.trial.trial import Fit, t_quantile
from facturum.trial.units import RawUnits

MAX_AHEAD = 1_000
_STEP = 1e-3  # by which a forecast is moved, in standard deviations of the errors, to see what follows from it


@dataclass(frozen=True)
class Forecast:
    """A forecast of one unit in one period, in units of the raw response.

    Args:
        unit: the unit, "" where there is none.
        period: as text.
        forecast: transformations undone.
        expected: with the smearing correction; the same without a transformation.
        low, high: 95 % interval of what will be seen; of the mean, where a likelihood was fitted.
    """

    unit: str
    period: str
    forecast: float
    expected: float
    low: float
    high: float


@dataclass(frozen=True)
class Forecasts:
    """Forecasts of all units.

    Args:
        response: in whose units.
        recursive: whether later ones read earlier ones.
        of: the forecasts, period by period.
        without: why other rows ahead have none, a sentence for each reason.
    """

    response: str
    recursive: bool
    of: tuple[Forecast, ...]
    without: tuple[str, ...] = ()

    def __len__(self) -> int:
        return len(self.of)

    def __repr__(self) -> str:
        head = f"{counted(len(self.of), 'forecast')} of {self.response}"
        told = [f"{f.unit} {f.period}: {f.forecast:.6g} ({f.low:.6g} to {f.high:.6g})".lstrip() for f in self.of]
        return listed(head, [*self.without, *told])

    def _repr_html_(self) -> str:
        rows = [[f.unit, f.period, *(f"{v:.6g}" for v in (f.forecast, f.expected, f.low, f.high))] for f in self.of]
        heads = ("unit", "period", "forecast", "expected", "95 % from", "to")
        return table_html(f"{counted(len(self.of), 'forecast')} of {self.response}", heads, rows, self.without)


@dataclass(frozen=True)
class _Ahead:
    """What rows ahead are built with."""

    plan: Plan
    spec: PlanSpec
    timing: Timing
    table: Table
    rows: Table
    series: Mapping[str, Any]

    def design(self, rows: Table) -> Design:
        return self.plan.build(rows, history=self.table, series=self.series or None)

    def without_response(self) -> _Ahead:
        """Return the same with predictors alone, for no row to be left out for a response that is not known yet."""
        columns = {key: names for key, names in (self.spec.columns or {}).items() if key != RESPONSE}
        spec = self.spec.model_copy(update={"response": None, "columns": columns})
        return replace(self, spec=spec, plan=Plan.of(spec))

    @property
    def periods(self) -> Array:
        numbers: Array = period_numbers(self.rows[str(self.timing.time)].data, self.timing.every)
        return numbers


@checked
def build_ahead(
    plan: Plan,
    table: Any,
    ahead: int,
    *,
    future: Any = None,
    history: Any = None,
    series: Mapping[str, Any] | None = None,
) -> Design:
    """Return the design of the next periods of each unit; a plan with open questions is resolved on the table first.

    The time is filled in, and what is the same in all rows of a unit. Lags reach back into the table.

    Args:
        plan: with a time and a step.
        table: the rows so far.
        ahead: how many periods.
        future: a table with other values that are known of them, by unit and period of the plan's step.
        history: rows before those of the table, for lags to reach.
        series: the tables of the plan's series, instead of their files.

    Raises:
        DataError: where a term reads a variable of a period ahead that is not known, naming all of them.

    Example:
        >>> plan = Plan("y", {"before": "lag(y, 1)"}, data={"time": "year", "every": "year"})
        >>> build_ahead(plan, {"year": ["2020", "2021", "2022"], "y": [1.0, 2.0, 4.0]}, 1).X.tolist()
        [[1.0, 4.0]]
    """
    with bounded():
        made = _ahead(_resolved(plan, table, history, series), table, ahead, future, history, series)
        return made.design(made.rows)


@checked
def rows_ahead(
    plan: Plan,
    table: Any,
    ahead: int,
    *,
    future: Any = None,
    history: Any = None,
    series: Mapping[str, Any] | None = None,
) -> tuple[Table, Table]:
    """Return the rows that `build_ahead` builds, and the rows before them that they read.

    They are what its design is verified and traced with: ``design.verify(rows, history=before)``.

    Args:
        plan, table, ahead, future, history, series: as for `build_ahead`.

    Raises:
        DataError: as `build_ahead` does.

    Example:
        >>> plan = Plan("y", {"before": "lag(y, 1)"}, data={"time": "year", "every": "year"})
        >>> rows, before = rows_ahead(plan, {"year": ["2020", "2021", "2022"], "y": [1.0, 2.0, 4.0]}, 2)
        >>> rows.length, before.length
        (2, 3)
    """
    with bounded():
        made = _ahead(_resolved(plan, table, history, series), table, ahead, future, history, series)
        return made.rows, made.table


def _resolved(plan: Plan, table: Any, history: Any, series: Mapping[str, Any] | None) -> Plan:
    return plan if plan.resolved else plan.build(table, history=history, series=series).plan


@checked
def forecast(
    design: Design,
    table: Any,
    ahead: int,
    *,
    model: str = "linear",
    future: Any = None,
    history: Any = None,
    series: Mapping[str, Any] | None = None,
) -> Forecasts:
    """Return forecasts of the next periods of each unit, those of lagged responses from earlier forecasts.

    Intervals take account of the errors of earlier forecasts that later ones read, and of those of the coefficients.

    Args:
        design: whose trial regression forecasts.
        table: the rows that it was built from.
        ahead: how many periods.
        model: linear; another without lagged responses.
        future: a table with other values that are known of them, by unit and period of the plan's step.
        history: rows before those of the table, for lags to reach.
        series: the tables of the plan's series, instead of their files.

    Raises:
        DataError: as `build_ahead` and `Design.trial` do; where the response is not made of one variable.
    """
    with bounded():
        made = _ahead(design.plan.with_checks("off"), table, ahead, future, history, series).without_response()
        fit, rows = design.fit(model)
        units = rows.units
        if units.source not in made.table.variables:
            raise DataError(
                f"forecasts need a response made of one variable, and it is {made.spec.response}",
                remedy="Write the response as a variable, or its log, sqrt or asinh.",
            )
        path = _Path(made, fit, units, float(np.sqrt(fit.solution.variance)) if model == "linear" else 0.0, ahead)
        path.run()
        return path.told(residuals_of(rows, fit.of))


def _ahead(plan: Plan, table: Any, ahead: int, future: Any, history: Any, series: Mapping[str, Any] | None) -> _Ahead:
    if not 1 <= ahead <= MAX_AHEAD:
        raise DataError(f"{ahead} periods ahead are not possible", remedy=f"Write a number from 1 to {MAX_AHEAD:,}.")
    if plan.spec.data.timing is None:
        raise DataError("rows ahead need a plan with a time", remedy="Write [data] time and every.")
    spec, given = shaped_first(plan.spec, plan.given(table, history, series))
    timing = plan.spec.data.timing
    declared = declared_tables(spec, given)
    rows, unknown = future_rows(given.table, declared[DATA], timing, ahead)
    if future is not None:
        known = declared_tables(spec, Given(plan.given(future, series=series).table, given.series))[DATA]
        rows = filled_in(rows, known, timing.panel, str(timing.time), timing.every)
        unknown = [name for name in unknown if rows[name].missing_rows().any()]
    _refuse_unknown(spec, unknown)
    so_far = given.table
    if HISTORY in declared:
        so_far = append(without_overlap(declared[HISTORY], declared[DATA], timing), declared[DATA])
    return _Ahead(plan if spec is plan.spec else Plan.of(spec), spec, timing, so_far, rows, given.series)


def _refuse_unknown(spec: PlanSpec, unknown: list[str]) -> None:
    """Refuse rows ahead in which a term reads a variable that is not known, other than the response's lags."""
    needed: dict[str, list[str]] = {}
    for key, look in _looks(spec):
        if look.offset >= 0 and look.variable in unknown:
            needed.setdefault(look.variable, []).append(key)
    if needed:
        told = "; ".join(f"{name} (in {', '.join(dict.fromkeys(keys))})" for name, keys in needed.items())
        raise DataError(
            f"values of the periods ahead are needed and not known: {told}",
            remedy="Give a table with them by unit and period (--future FILE), or use their lags in the plan.",
        )


def _looks(spec: PlanSpec) -> Iterator[tuple[str, Look]]:
    """Yield what each term of a resolved plan, and its condition for rows, reads and at which period."""
    derived = {name: parse(text, True) for name, text in spec.derived.items()}
    keep = {} if spec.rows.keep is None else {"[rows] keep": spec.rows.keep}
    for key, text in {**spec.terms, **keep}.items():
        yield from ((key, look) for look in looks(parse(text, True), derived))


class _Path:
    """Forecasts period by period, each of which later ones may read."""

    def __init__(self, made: _Ahead, fit: Fit, units: RawUnits, sigma: float, ahead: int) -> None:
        self._made, self._fit, self._units, self._sigma = made, fit, units, sigma
        self._step = np.repeat(np.arange(ahead), made.rows.length // ahead)
        self._linear = np.full(made.rows.length, np.nan)
        self._own = np.zeros(made.rows.length)  # the variance that the coefficients add
        self._reads = np.zeros((made.rows.length, ahead))
        self._causes: dict[tuple[str, str], list[int]] = {}

    @property
    def recursive(self) -> bool:
        """Whether later forecasts read earlier ones."""
        return any(look.variable == self._units.source for _, look in _looks(self._made.spec))

    def run(self) -> None:
        """Forecast all periods."""
        if not self.recursive:
            self._set(self._made.design(self._made.rows), slice(None))
            return
        if self._fit.model != "linear":
            raise DataError("forecasts of lagged responses are linear", remedy="Write model linear.")
        for step in range(self._step.max(initial=0) + 1):
            self._set(self._made.design(self._with(self._linear)), self._step == step)
        for step in range(self._step.max(initial=0)):
            moved = self._linear.copy()
            moved[self._step == step] += _STEP * self._sigma
            again = self._predicted(self._made.design(self._with(moved)))
            later = self._step > step
            self._reads[later, step] = (again[later] - self._linear[later]) / (_STEP * self._sigma)

    def _with(self, linear: FloatArray) -> Table:
        """Return the rows ahead with forecasts as their response."""
        name = self._units.source
        raw = self._units.undone(linear)
        known = ~np.isnan(raw)
        variable = Variable(name, Kind.NUMBER, np.where(known, raw, 0.0), known)
        return replace(self._made.rows, variables={**self._made.rows.variables, name: variable})

    def _predicted(self, design: Design) -> FloatArray:
        values = np.full(self._made.rows.length, np.nan)
        first = 1 if self._fit.solution.intercept else 0
        values[design.rows.kept - 1] = self._fit.solution.predicted(design.X[:, first:])
        return values

    def _set(self, design: Design, rows: Any) -> None:
        predicted = self._predicted(design)
        self._linear[rows] = predicted[rows]
        ahead = np.zeros(self._made.rows.length, dtype=bool)
        ahead[rows] = True
        for row, cause in zip(design.rows.dropped - 1, design.rows.causes, strict=True):
            if ahead[row]:
                self._causes.setdefault(design.rows.reasons[int(cause)], []).append(int(row))
        own = np.zeros(self._made.rows.length)
        first = 1 if self._fit.solution.intercept else 0
        coordinates = self._fit.solution.coordinates(design.X[:, first:])
        own[design.rows.kept - 1] = np.square(coordinates).sum(axis=1)
        self._own[rows] = own[rows]

    def _spread(self) -> FloatArray:
        """Return the standard deviation of each forecast, on the scale that was fitted.

        The error of a forecast is its own and, as much as it reads earlier ones, theirs.
        """
        horizon = self._reads.shape[1]
        units = self._made.rows.length // horizon
        spread = np.empty(self._made.rows.length)
        for unit in range(units):
            rows = np.arange(horizon) * units + unit
            reads = np.nan_to_num(self._reads[rows])
            total = np.linalg.solve(np.eye(horizon) - np.tril(reads, -1), np.eye(horizon))
            spread[rows] = np.sqrt(np.square(total).sum(axis=1) + self._own[rows])
        return self._sigma * spread

    def told(self, residuals: FloatArray) -> Forecasts:
        """Return the forecasts in raw units."""
        linear = self._linear
        if self._fit.model == "linear":
            wide = t_quantile(self._fit.solution.degrees_of_freedom) * self._spread()
            low, high = self._units.undone(linear - wide), self._units.undone(linear + wide)
            plain, expected = self._units.undone(linear), self._units.smeared(linear, residuals)
        else:
            mean = FAMILIES[self._fit.model].mean
            wide = t_quantile(None) * np.sqrt(self._own)
            plain = expected = mean(linear)
            low, high = mean(linear - wide), mean(linear + wide)
        panel = [self._made.rows[name] for name in self._made.timing.panel]
        found = []
        for row in np.flatnonzero(~np.isnan(linear)).tolist():
            unit = ", ".join(variable.text_of(variable.data[row]) for variable in panel)
            period = period_text(int(self._made.periods[row]), self._made.timing.every)
            figures = (float(values[row]) for values in (plain, expected, low, high))
            found.append(Forecast(unit, period, *figures))
        return Forecasts(self._units.source, self.recursive, tuple(found), tuple(self._without()))

    def _without(self) -> Iterator[str]:
        """Yield why rows ahead have no forecast."""
        for (what, place), rows in self._causes.items():
            first = period_text(int(self._made.periods[rows].min()), self._made.timing.every)
            have = "has" if len(rows) == 1 else "have"
            yield f"{counted(len(rows), 'row')} ahead, from {first} on, {have} no forecast: {what} ({place})"
