"""Forecasts of a trial regression, period by period, each of which later ones may read."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np

from facturum.api.design import Design
from facturum.api.plan import Plan
from facturum.data.table import Table
from facturum.data.time.calendar import period_text
from facturum.data.time.periods import Timing, period_numbers
from facturum.data.values import Array, FloatArray, Kind, Mask
from facturum.data.variable import Variable
from facturum.engine.passes.outline import RESPONSE
from facturum.engine.planning.expressions.leaks import Look, looks
from facturum.engine.planning.sections.spec import PlanSpec, RowsSpec
from facturum.errors import DataError, counted, listed
from facturum.language.core.literals import names_in
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Node
from facturum.support.notebook_tables import table_html
from facturum.trial.fit.likelihood import FAMILIES
from facturum.trial.fit.regression import Fit, t_quantile
from facturum.validation.forecast_level import Level, constant

_STEP = 1e-4  # by which a forecast is moved, in standard deviations of the errors, to see what follows from it


@dataclass(frozen=True)
class Forecast:
    """A forecast of one unit in one period, in units of the raw response.

    Args:
        unit: the unit, "" where there is none.
        period: as text.
        forecast: transformations undone.
        expected: with the smearing correction; the same without a transformation.
        low, high: 95 % interval of what will be seen: the value, or the count; of a response of 0 and 1, of its
            probability.
        mean_low, mean_high: 95 % interval of the mean, where a likelihood was fitted.
    """

    unit: str
    period: str
    forecast: float
    expected: float
    low: float
    high: float
    mean_low: float | None = None
    mean_high: float | None = None


@dataclass(frozen=True)
class Forecasts:
    """Forecasts of all units.

    Args:
        response: in whose units.
        recursive: whether later ones read earlier ones.
        interval: what lies between low and high: the value, the count, or the probability.
        of: the forecasts, period by period.
        without: why other rows ahead have none, a sentence for each reason.
    """

    response: str
    recursive: bool
    of: tuple[Forecast, ...]
    without: tuple[str, ...] = ()
    interval: str = "value"

    def __len__(self) -> int:
        return len(self.of)

    @property
    def by_unit(self) -> list[Forecast]:
        """The forecasts unit by unit, each period by period."""
        return sorted(self.of, key=lambda forecast: forecast.unit)

    def to_table(self) -> Table:
        """Return the forecasts as a table, unit by unit."""
        named = [field.name for field in fields(Forecast) if field.name != "unit" or any(f.unit for f in self.of)]
        return Table.of({name: [getattr(forecast, name) for forecast in self.by_unit] for name in named})

    def __repr__(self) -> str:
        head = f"{counted(len(self.of), 'forecast')} of {self.response}"
        told = [f"{f.unit} {f.period}: {f.forecast:.6g} ({f.low:.6g} to {f.high:.6g})".lstrip() for f in self.by_unit]
        return listed(head, [*self.without, *told])

    def _repr_html_(self) -> str:
        told = [(f, (f.forecast, f.expected, f.low, f.high)) for f in self.by_unit]
        rows = [[f.unit, f.period, *(f"{value:.6g}" for value in values)] for f, values in told]
        heads = ("unit", "period", "forecast", "expected", "95 % from", "to")
        return table_html(f"{counted(len(self.of), 'forecast')} of {self.response}", heads, rows, self.without)


@dataclass(frozen=True)
class RowsAhead:
    """What rows ahead are built with.

    Args:
        plan: a resolved plan.
        spec: its specification, which neither stacks nor converts.
        timing: how rows follow one another.
        table: the rows so far, those of history first.
        rows: those ahead, period by period, with the same units in each.
        series: the tables of the plan's series.
        notes: what is not known of the periods ahead, in sentences.
        later: how many periods after their rows the responses lie.
    """

    plan: Plan
    spec: PlanSpec
    timing: Timing
    table: Table
    rows: Table
    series: Mapping[str, Any]
    notes: tuple[str, ...] = ()
    later: int = 0

    def design(self, rows: Table) -> Design:
        """Return the design of rows ahead, which lags reach back from into the table.

        Raises:
            DataError: where none of them can be built, with what is not known of them.
        """
        try:
            return self.plan.build(rows, history=self.table, series=self.series or None)
        except DataError as error:
            if not self.notes:
                raise
            remedy = "; ".join(self.notes) + "."
            raise DataError(
                error.what, place=error.place, text=error.text, remedy=remedy[:1].upper() + remedy[1:]
            ) from None

    def earlier(self, rows: Table, before: Node) -> FloatArray:
        """Return for each row an expression of earlier periods; NaN where it is missing."""
        if not names_in(before):
            return np.full(rows.length, constant(before))
        changes = {"terms": {"before": str(before)}, "columns": None, "rows": RowsSpec(missing="keep"), "series": {}}
        plan = Plan._of(self.spec.model_copy(update=changes))
        return plan.build(rows, history=self.table).column("before")

    def without_response(self) -> RowsAhead:
        """Return the same with predictors alone, for no row to be left out for a response that is not known yet."""
        columns = {key: names for key, names in (self.spec.columns or {}).items() if key != RESPONSE}
        spec = self.spec.model_copy(update={"response": None, "columns": columns})
        return replace(self, spec=spec, plan=Plan._of(spec))

    @property
    def periods(self) -> Array:
        """The number of the period of each row ahead."""
        numbers: Array = period_numbers(self.rows[str(self.timing.time)].data, self.timing.every)
        return numbers + self.later


def looks_of(spec: PlanSpec) -> Iterator[tuple[str, Look]]:
    """Yield what each term of a resolved plan, and its condition for rows, reads and at which period."""
    derived = {name: parse(text, True) for name, text in spec.derived.items()}
    keep = {} if spec.rows.keep is None else {"[rows] keep": spec.rows.keep}
    for key, text in {**spec.terms, **keep}.items():
        yield from ((key, look) for look in looks(parse(text, True), derived))


class ForecastPath:
    """Forecasts period by period, each of which later ones may read.

    Args:
        made: the rows ahead, period by period, with the same units in each.
        fit: the coefficients.
        level: how levels follow from forecasts.
        sigma: the standard deviation of the errors; 0 where a likelihood was fitted.
        ahead: how many periods.
    """

    def __init__(self, made: RowsAhead, fit: Fit, level: Level, sigma: float, ahead: int) -> None:
        self._made, self._fit, self._rule, self._sigma = made, fit, level, sigma
        length = made.rows.length
        self._units = length // ahead
        self._step = np.repeat(np.arange(ahead), self._units)
        self._level, self._gain = np.full(length, np.nan), np.ones(length)
        self._coordinates = np.zeros((length, len(fit.solution.coefficients)))
        self._reads = np.zeros((length, ahead))
        self._causes: dict[tuple[str, str], list[int]] = {}

    @property
    def recursive(self) -> bool:
        """Whether later forecasts read earlier ones."""
        if self._made.later:
            return False
        read = any(look.variable == self._rule.units.source for _, look in looks_of(self._made.spec))
        return read or bool(names_in(self._rule.rest) or names_in(self._rule.slope))

    def run(self) -> None:
        """Forecast all periods."""
        if not self.recursive:
            self._set(self._made.rows, np.ones(len(self._step), dtype=bool))
            return
        if self._fit.model != "linear":
            raise DataError("forecasts of lagged responses are linear", remedy="Write model linear.")
        for step in range(self._step.max(initial=0) + 1):
            self._set(self._with(self._level), self._step == step)
        for step in range(self._step.max(initial=0) if self._sigma > 0 else 0):
            by = _STEP * self._sigma * np.where(self._step == step, self._gain, 0.0)
            again = self._levels(self._with(self._level + by))[0]
            moved = np.tile(by[self._step == step], len(self._step) // self._units)
            later = self._step > step
            self._reads[later, step] = (again[later] - self._level[later]) / moved[later]

    def _with(self, level: FloatArray) -> Table:
        """Return the rows ahead with forecasts as their response."""
        name = self._rule.units.source
        raw = self._rule.units.undone(level)
        known = ~np.isnan(raw)
        variable = Variable(name, Kind.NUMBER, np.where(known, raw, 0.0), known)
        return replace(self._made.rows, variables={**self._made.rows.variables, name: variable})

    def _levels(self, rows: Table) -> tuple[FloatArray, FloatArray, Design]:
        """Return the level of each row, what it changes by with a forecast, and the predictors."""
        design = self._made.design(rows)
        change = np.full(len(self._step), np.nan)
        change[design.rows.kept - 1] = self._fit.solution.predicted(self._predictors(design))
        if not self._rule.changes:
            return change, np.ones(len(change)), design
        slope, rest = (self._made.earlier(rows, node) for node in (self._rule.slope, self._rule.rest))
        with np.errstate(all="ignore"):
            return (change - rest) / slope, 1 / slope, design

    def _predictors(self, design: Design) -> FloatArray:
        return np.asarray(design.X[:, 1 if self._fit.solution.intercept else 0 :])

    def _set(self, rows: Table, now: Mask) -> None:
        level, gain, design = self._levels(rows)
        self._level[now], self._gain[now] = level[now], gain[now]
        for row, cause in zip(design.rows.dropped - 1, design.rows.causes, strict=True):
            if now[row]:
                self._causes.setdefault(design.rows.reasons[int(cause)], []).append(int(row))
        kept = design.rows.kept - 1
        for row in np.flatnonzero(np.isnan(level) & now & np.isin(np.arange(len(level)), kept)).tolist():
            self._causes.setdefault(("the level that it changes from is missing", "response"), []).append(row)
        coordinates = np.zeros(self._coordinates.shape)
        coordinates[kept] = self._fit.solution.coordinates(self._predictors(design))
        self._coordinates[now] = coordinates[now]

    def _spread(self) -> tuple[FloatArray, FloatArray]:
        """Return the standard deviation of each level, without and with the error of the coefficients.

        The error of a level is its own and, as much as it reads earlier ones, theirs; so are those that follow from
        the coefficients, to first order.
        """
        own, all_in_all = np.empty(len(self._step)), np.empty(len(self._step))
        horizon = self._reads.shape[1]
        for unit in range(self._units):
            rows = np.arange(horizon) * self._units + unit
            reads, gain = np.nan_to_num(self._reads[rows]), np.nan_to_num(self._gain[rows])[:, None]
            total = np.linalg.solve(np.eye(horizon) - np.tril(reads, -1), np.diag(gain[:, 0]))
            own[rows] = np.square(total).sum(axis=1)
            all_in_all[rows] = own[rows] + np.square(total @ self._coordinates[rows]).sum(axis=1)
        return self._sigma * np.sqrt(own), self._sigma * np.sqrt(all_in_all)

    def forecasts(self, residuals: FloatArray) -> Forecasts:
        """Return the forecasts in raw units.

        Args:
            residuals: of rows fitted.
        """
        level, units = self._level, self._rule.units
        of_mean: tuple[FloatArray, ...] = ()
        if self._fit.model == "linear":
            own, spread = self._spread()
            wide = t_quantile(self._fit.solution.degrees_of_freedom) * spread
            low, high, plain = units.undone(level - wide), units.undone(level + wide), units.undone(level)
            expected = self._expected(own, residuals)
        else:
            mean = FAMILIES[self._fit.model].mean
            error = np.sqrt(np.square(self._coordinates).sum(axis=1))
            wide = t_quantile(None) * error
            with np.errstate(over="ignore"):
                plain = expected = mean(level)
                low, high = of_mean = mean(level - wide), mean(level + wide)
            if self._fit.model == "poisson":
                low, high = count_interval(level, error, self._fit.dispersion)
        panel = [self._made.rows[name] for name in self._made.timing.panel]
        numbers, places = np.unique(self._made.periods, return_inverse=True)
        periods = [period_text(int(number), self._made.timing.every) for number in numbers]
        found = []
        for row in np.flatnonzero(~np.isnan(level)).tolist():
            unit = ", ".join(variable.text_of(variable.data[row]) for variable in panel)
            figures = [float(values[row]) for values in (plain, expected, low, high, *of_mean)]
            if not np.isfinite(figures).all():
                self._causes.setdefault(("it grows beyond what a double holds", "the recursion"), []).append(row)
                continue
            found.append(Forecast(unit, periods[places[row]], *figures))
        without = (*self._made.notes, *self._without())
        interval = {"poisson": "count", "logistic": "probability"}.get(self._fit.model, "value")
        return Forecasts(units.source, self.recursive, tuple(found), without, interval)

    def _expected(self, own: FloatArray, residuals: FloatArray) -> FloatArray:
        """Return expected responses in raw units: smeared over residuals as large as the errors of each level."""
        units = self._rule.units
        if not units.changes or self._sigma <= 0:
            return units.smeared(self._level, residuals)
        growth, places = np.unique(np.round(own / self._sigma, 4), return_inverse=True)
        expected = np.empty(len(own))
        for at, times in enumerate(growth):
            expected[places == at] = units.smeared(self._level[places == at], times * residuals)
        return expected

    def _without(self) -> Iterator[str]:
        """Yield why rows ahead have no forecast."""
        for (what, place), rows in self._causes.items():
            first = period_text(int(self._made.periods[rows].min()), self._made.timing.every)
            have = "has" if len(rows) == 1 else "have"
            yield f"{counted(len(rows), 'row')} ahead, from {first} on, {have} no forecast: {what} ({place})"


def count_interval(
    linear: FloatArray, error: FloatArray, dispersion: float = 1.0, share: float = 0.95
) -> tuple[FloatArray, FloatArray]:
    """Return where counts will lie, given the linear predictor of their log mean and its standard error.

    The distribution is Poisson's, with a variance larger than the mean the negative binomial one, each averaged over
    the normal distribution of the linear predictor by Gauss-Hermite quadrature. The interval ends at the smallest
    counts up to which its two tails and the middle lie.

    Args:
        linear: doubles (rows,).
        error: doubles (rows,).
        dispersion: the variance over the mean.
        share: of counts that lie between.

    Example:
        >>> [ends.tolist() for ends in count_interval(np.log([4.0]), np.zeros(1))]
        [[1.0], [8.0]]
    """
    from scipy import special  # loaded when it is needed, for commands to start at once

    points, weights = np.polynomial.hermite.hermgauss(21)
    means = np.exp(np.clip(linear[:, None] + np.sqrt(2) * error[:, None] * points, -700, 600))
    weights = weights / np.sqrt(np.pi)

    def below(counts: FloatArray) -> FloatArray:
        """Return the probability of a count of at most so much."""
        if dispersion <= 1.0 + 1e-9:
            each = special.pdtr(counts[:, None], means)
        else:
            each = special.betainc(means / (dispersion - 1), counts[:, None] + 1, 1 / dispersion)
        return np.asarray(each @ weights)

    ends = []
    for tail in ((1 - share) / 2, (1 + share) / 2):
        low, high = np.full(len(linear), -1.0), np.maximum(2 * means.max(axis=1), 16.0)
        for _ in range(60):
            short = below(high) < tail
            if not short.any():
                break
            high[short] *= 2
        while (high - low > 1).any():
            middle = np.floor((low + high) / 2)
            enough = below(middle) >= tail
            high, low = np.where(enough, middle, high), np.where(enough, low, middle)
        ends.append(np.floor(high))
    return ends[0], ends[1]
