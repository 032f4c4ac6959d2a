"""Rows of the periods to come, and forecasts of a trial regression in them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from facturum.arguments import checked
from facturum.data.table import Table
from facturum.data.time.appending import append, without_overlap
from facturum.data.time.future import filled_in, future_rows
from facturum.data.time.series import series_of
from facturum.design import Design
from facturum.engine.planning.shaping import DATA, HISTORY, Given, declared_tables, shaped_first
from facturum.engine.planning.spec import PlanSpec
from facturum.errors import DataError, bounded
from facturum.forecast_path import ForecastPath, Forecasts, Level, RowsAhead, looks_of
from facturum.plan import Plan
from facturum.trial.accuracy import residuals_of

MAX_AHEAD = 1_000


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
        made = _ahead(plan, table, ahead, future, history, series)
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
        made = _ahead(plan, table, ahead, future, history, series)
        return made.rows, made.table


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
        DataError: as `build_ahead` and `Design.trial` do; where the response is not made of one variable, or its lags
            are read and it is missing in the last row of each unit.
    """
    with bounded():
        made = _ahead(design.plan.with_checks("off"), table, ahead, future, history, series).without_response()
        fit, rows = design.fit(model)
        level = Level.of(str(design.plan.spec.response))
        path = ForecastPath(
            made, fit, level, float(np.sqrt(fit.solution.variance)) if model == "linear" else 0.0, ahead
        )
        _refuse_response(made, level.units.source, str(design.plan.spec.response), path.recursive)
        path.run()
        return path.forecasts(residuals_of(rows, fit.of))


def _refuse_response(made: RowsAhead, source: str, response: str, recursive: bool) -> None:
    """Refuse a response that cannot be brought back into raw units, and one whose lags are known in no unit."""
    if source not in made.table.variables:
        raise DataError(
            f"forecasts need a response made of one variable, and it is {response}",
            remedy="Write it as a variable, its log, sqrt or asinh, or the difference or percent_change of these.",
        )
    series = series_of(declared_tables(made.spec, Given(made.table))[DATA], made.timing)
    last = series.order[np.append(np.diff(series.unit[series.order]) != 0, True)]
    if recursive and made.table[source].missing_rows()[last].all():
        raise DataError(
            f"'{source}' is missing in the last row of {'the table' if len(last) == 1 else 'each unit'}, "
            "after which forecasts begin",
            rows=(np.sort(last) + 1).tolist(),
            remedy="Leave the last rows without it out, and give what is known of them as --future FILE.",
        )


def _ahead(
    plan: Plan, table: Any, ahead: int, future: Any, history: Any, series: Mapping[str, Any] | None
) -> RowsAhead:
    if not 1 <= ahead <= MAX_AHEAD:
        raise DataError(f"{ahead} periods ahead are not possible", remedy=f"Write a number from 1 to {MAX_AHEAD:,}.")
    timing = plan.spec.data.timing
    if timing is None:
        raise DataError("rows ahead need a plan with a time", remedy="Write [data] time and every.")
    plan = plan if plan.resolved else plan.build(table, history=history, series=series).plan
    spec, given = shaped_first(plan.spec, plan.given(table, history, series))
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
    return RowsAhead(plan if spec is plan.spec else Plan.of(spec), spec, timing, so_far, rows, given.series)


def _refuse_unknown(spec: PlanSpec, unknown: list[str]) -> None:
    """Refuse rows ahead in which a term reads a variable that is not known, other than the response's lags."""
    needed: dict[str, list[str]] = {}
    for key, look in looks_of(spec):
        if look.offset >= 0 and look.variable in unknown:
            needed.setdefault(look.variable, []).append(key)
    if needed:
        told = "; ".join(f"{name} (in {', '.join(dict.fromkeys(keys))})" for name, keys in needed.items())
        raise DataError(
            f"values of the periods ahead are needed and not known: {told}",
            remedy="Give a table with them by unit and period (--future FILE), or use their lags in the plan.",
        )
