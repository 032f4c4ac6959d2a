"""Coefficients over tables drawn at random, the whole plan resolved anew for each."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from facturum.api.design import Design
from facturum.api.plan import Plan
from facturum.data.grouping import group_numbers
from facturum.data.table import Table, TableLike
from facturum.data.values import Array
from facturum.engine.planning.shaping import DATA, Given, declared_tables, shaped_first
from facturum.errors import DataError, FacturumError, bounded, option
from facturum.support.arguments import checked
from facturum.trial.fit.regression import Fit
from facturum.trial.fit.solving import names_of
from facturum.trial.told.accuracy import Accuracy
from facturum.trial.told.truth_accuracy import TruthAccuracy
from facturum.validation.folds import MAX_REFITS
from facturum.validation.held_out import Outcome, accuracy_of, of_fitted, with_variable

DRAW = "draw_of_resample"  # a variable that is added to the table


@dataclass(frozen=True)
class Interval:
    """A coefficient over resampled tables: percentile interval, and in how many of them it could be estimated."""

    name: str
    estimate: float
    low: float
    high: float
    samples: int


@dataclass(frozen=True)
class Resampling:
    """Coefficients over resampled tables, and how well the rows that were not drawn are predicted.

    Args:
        intervals: of the coefficients.
        accuracy: of the rows not drawn, over all tables.
        truth: the same of a response of 0 and 1.
    """

    intervals: tuple[Interval, ...]
    accuracy: tuple[Accuracy, ...] = ()
    truth: tuple[TruthAccuracy, ...] = ()

    def __iter__(self) -> Iterator[Interval]:
        return iter(self.intervals)

    def __len__(self) -> int:
        return len(self.intervals)


@checked
def resample(
    plan: Plan, table: TableLike, samples: int = 200, *, model: str = "linear", seed: int = 0,
    series: Mapping[str, Any] | None = None,
) -> Resampling:  # fmt: skip
    """Return percentile intervals of coefficients over tables of rows drawn with replacement (Efron 1979).

    The whole plan is resolved anew for each table; it is meant for small ones. Of a plan with a time and a panel whole
    units are drawn, each with all its periods (Cameron, Gelbach & Miller 2008, "pairs cluster bootstrap").

    Args:
        plan: with open questions or none.
        table: the rows.
        samples: how many tables.
        model: linear, logistic or poisson.
        seed: of the draws.
        series: the tables of the plan's series, instead of their files.

    Raises:
        DataError: where the plan works along time in one unit, or fewer than half of the tables can be fitted.

    Example:
        >>> table = {"x": [1.0, 2, 3, 4, 5, 6], "y": [2.1, 3.9, 6.2, 7.8, 10.1, 11.9]}
        >>> [each.name for each in resample(Plan("y", {"x": "x"}), table, 20)]
        ['intercept', 'x']
    """
    if not 2 <= samples <= MAX_REFITS:
        raise DataError(f"{samples} tables are not possible", remedy=f"Write a number from 2 to {MAX_REFITS:,}.")
    with bounded():
        draws = _Draws.of(plan, table, series)
        whole = plan.build(table, series=series)
        base, names = _fitted(whole, model, True)
        dice = np.random.default_rng(seed)
        drawn: list[dict[str, float]] = []
        outside: list[Outcome] = []
        for _ in range(samples):
            chosen = draws.chosen(dice)
            try:
                design = draws.design(chosen)
                fit, own = _fitted(design, model)
            except FacturumError:  # such as a category that was not drawn
                continue
            drawn.append(dict(zip(own, fit.solution.coefficients.tolist(), strict=True)))
            outside += draws.outside(chosen, design, fit)
        if 2 * len(drawn) < samples:
            raise DataError(
                f"only {len(drawn)} of {samples} resampled tables could be fitted", remedy="Pool rare categories."
            )
        values = zip(names, base.solution.coefficients, strict=True)
        accuracy, truth = accuracy_of(outside, whole.columns, "not drawn")
        return Resampling(tuple(_interval(name, value, drawn) for name, value in values), accuracy, truth)


@dataclass(frozen=True)
class _Draws:
    """What tables are drawn from.

    Args:
        plan: with the number of the draw in its panel, where whole units are drawn.
        given: the tables.
        units: the rows of each, where whole units are drawn.
    """

    plan: Plan
    given: Given
    units: tuple[Array, ...] = ()

    @classmethod
    def of(cls, plan: Plan, table: TableLike, series: Mapping[str, Any] | None) -> _Draws:
        inputs = plan._inputs.as_found(table, series)
        given = inputs.given(table, series=series)
        plan = Plan._of(inputs.spec, inputs.folder, inputs.tables)
        if plan.spec.data.timing is None:
            return cls(plan.with_checks("off"), given)
        spec, given = shaped_first(plan.spec, given)
        declared = declared_tables(spec, given)[DATA]
        unit = group_numbers([declared[name] for name in spec.data.panel], declared.length)
        order = np.argsort(unit, kind="stable")
        units = tuple(np.split(order, np.flatnonzero(np.diff(unit[order])) + 1))
        if len(units) < 2:
            raise DataError(
                "rows cannot be drawn from a single series over time",
                remedy=f"Use {option('--origin-folds 5', 'fa.validate(.., origin_folds=5)')}, or name the units as "
                "[data] panel: whole units are drawn.",
            )
        if DRAW in given.table:
            raise DataError(
                f"'{DRAW}' is a variable of the table", remedy="Give it another name: draws are held in it."
            )
        data = spec.data.model_copy(update={"panel": [*spec.data.panel, DRAW]})
        return cls(Plan._of(spec.model_copy(update={"data": data})).with_checks("off"), given, units)

    def chosen(self, dice: np.random.Generator) -> Array:
        """Return the rows drawn, or the units where whole ones are."""
        count = len(self.units) or self.given.table.length
        return np.sort(dice.integers(0, count, count))

    def design(self, chosen: Array) -> Design:
        """Return the design of the rows or units drawn."""
        return self.plan.build(self._table(chosen), series=self.given.series or None)

    def _table(self, chosen: Array) -> Table:
        table = self.given.table
        if not self.units:
            return table.take(chosen)
        units = [self.units[unit] for unit in chosen]
        numbers = np.repeat(np.arange(len(units), dtype=np.float64), [len(unit) for unit in units])
        return with_variable(table.take(np.concatenate(units)), DRAW, numbers)

    def outside(self, chosen: Array, design: Design, fit: Fit) -> list[Outcome]:
        """Return the responses and predictions of the rows that were not drawn; none where they cannot be built."""
        rest = np.setdiff1d(np.arange(len(self.units) or self.given.table.length), chosen)
        if not len(rest):
            return []
        plan = design.plan.with_checks("off")
        try:
            made = plan.build(self._table(rest), series=self.given.series or None)
            _, rows = design._fit(fit.model, to_the_last_digit=False)
        except FacturumError:  # such as a category that was not drawn
            return []
        if made.y is None:
            return []
        first = 1 if rows.intercept else 0
        y, X = np.asarray(made.y), np.asarray(made.X)[:, first:]  # noqa: N806 - the field's standard name
        known = ~(np.isnan(y) | np.isnan(X).any(axis=1))
        residuals, base = of_fitted(rows, fit)
        return [Outcome(y[known], fit.predicted(X[known]), residuals, base)] if known.any() else []


def _fitted(design: Design, model: str, to_the_last_digit: bool = False) -> tuple[Fit, list[str]]:
    """Return the coefficients of a design, and their names."""
    fit, rows = design._fit(model, to_the_last_digit=to_the_last_digit)
    return fit, names_of(rows, fit.solution.columns)


def _interval(name: str, estimate: float, drawn: list[dict[str, float]]) -> Interval:
    values = [each[name] for each in drawn if name in each]
    low, high = np.quantile(values, [0.025, 0.975]) if values else (np.nan, np.nan)
    return Interval(name, float(estimate), float(low), float(high), len(values))
