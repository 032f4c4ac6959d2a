"""Rows of the periods to come, and forecasts of a trial regression in them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from facturum.api.design import Design
from facturum.api.plan import Plan
from facturum.data.conversion.appending import append, without_overlap
from facturum.data.conversion.future import filled_in, future_rows, lacking
from facturum.data.grouping import dense_ranks
from facturum.data.table import Table, TableLike
from facturum.data.time.calendar import period_text
from facturum.data.time.periods import Timing, period_numbers, period_starts
from facturum.data.time.series import series_of
from facturum.data.values import Kind
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.engine.planning.shaping import DATA, HISTORY, Given, declared_tables, shaped_first
from facturum.errors import DataError, bounded, counted, named, option
from facturum.support.arguments import checked
from facturum.trial.told.accuracy import residuals_of
from facturum.trial.told.units import RawUnits
from facturum.validation.forecast_level import Level
from facturum.validation.forecast_path import ForecastPath, Forecasts, RowsAhead, looks_of

MAX_AHEAD = 1_000


@checked
def build_ahead(
    plan: Plan,
    table: TableLike,
    ahead: int,
    *,
    future: TableLike | None = None,
    history: TableLike | None = None,
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
    table: TableLike,
    ahead: int,
    *,
    future: TableLike | None = None,
    history: TableLike | None = None,
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
    table: TableLike,
    ahead: int,
    *,
    model: str = "linear",
    future: TableLike | None = None,
    history: TableLike | None = None,
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
        fit, rows = design._fit(model)
        level = _level_of(str(design.plan.spec.response), model)
        sigma = float(np.sqrt(fit.solution.variance)) if model == "linear" else 0.0
        path = ForecastPath(made, fit, level, sigma, ahead)
        if not level.horizon:
            _refuse_response(made, level.units.source, path.recursive)
        path.run()
        return path.forecasts(residuals_of(rows, fit.of))


def _level_of(response: str, model: str) -> Level:
    """Return how levels follow from a response, or refuse one from which none do."""
    level = Level.of(response)
    if level is None and model == "logistic":
        return Level(RawUnits("none", response))
    if level is None or (level.horizon and level.changes):
        raise DataError(
            f"forecasts need a response from which a variable follows, and it is {response}",
            remedy="Write a variable, its log, sqrt or asinh, differences, percent changes or multiples of these, or "
            "lead(.., k) of one of the first.",
        )
    return level


def _shifted(made: RowsAhead, horizon: int, ahead: int) -> RowsAhead:
    """Return the rows whose responses lie in the periods ahead: the last ones of the table, without those after them.

    Raises:
        DataError: where they reach further than the response.
    """
    if ahead > horizon:
        raise DataError(
            f"a response {horizon} periods later forecasts {horizon} at most, and {ahead} are asked for",
            remedy=f"Write {option(f'--ahead {horizon}', f'ahead={horizon}')} or fewer, or a response at its own "
            "period, whose forecasts go on.",
        )
    timing, table = made.timing, declared_tables(made.spec, Given(made.table))[DATA]
    periods = period_numbers(table[str(timing.time)].data, timing.every)
    keys = [made.rows[name] for name in timing.panel]
    both = [np.concatenate([table[name].data, key.data]) for name, key in zip(timing.panel, keys, strict=True)]
    unit = np.zeros(table.length + made.rows.length, dtype=np.int64)
    for codes in both:
        unit = dense_ranks(unit * (int(codes.max(initial=0)) + 1) + dense_ranks(codes))
    at = {(u, p): row for row, (u, p) in enumerate(zip(unit[: table.length].tolist(), periods.tolist(), strict=True))}
    wanted = list(zip(unit[table.length :].tolist(), (made.periods - horizon).tolist(), strict=True))
    if absent := [place for place, key in enumerate(wanted) if key not in at]:
        first = period_text(int(made.periods[absent].min()) - horizon, timing.every)
        raise DataError(
            f"the rows from which {counted(len(absent), 'forecast')} would be made are not in the table, the first of "
            f"{first}",
            remedy="Give the rows up to the last period of each unit.",
        )
    rows = np.array([at[key] for key in wanted])
    rest = np.setdiff1d(np.arange(table.length), rows)
    return replace(made, table=made.table.take(rest), rows=table.take(rows), later=horizon)


def _refuse_response(made: RowsAhead, source: str, recursive: bool) -> None:
    """Refuse a response whose lags are known in no unit."""
    if source not in made.table.variables:
        return
    series = series_of(declared_tables(made.spec, Given(made.table))[DATA], made.timing)
    last = series.order[np.append(np.diff(series.unit[series.order]) != 0, True)]
    if recursive and made.table[source].missing_rows()[last].all():
        raise DataError(
            f"'{source}' is missing in the last row of {'the table' if len(last) == 1 else 'each unit'}, "
            "after which forecasts begin",
            rows=(np.sort(last) + 1).tolist(),
            remedy="Leave the last rows without it out, and give what is known of them: "
            f"{option('--future FILE', 'future=table')}.",
        )


def _ahead(
    plan: Plan,
    table: TableLike,
    ahead: int,
    future: TableLike | None,
    history: TableLike | None,
    series: Mapping[str, Any] | None,
) -> RowsAhead:
    if not 1 <= ahead <= MAX_AHEAD:
        raise DataError(f"{ahead} periods ahead are not possible", remedy=f"Write a number from 1 to {MAX_AHEAD:,}.")
    timing = plan.spec.data.timing
    if timing is None:
        raise DataError("rows ahead need a plan with a time", remedy="Write [data] time and every.")
    plan = plan if plan.resolved else plan.build(table, history=history, series=series).plan
    spec, given = shaped_first(plan.spec, plan._inputs.given(table, history, series))
    declared = declared_tables(spec, given)
    rows, unknown = future_rows(given.table, declared[DATA], timing, ahead)
    notes: list[str] = []
    if future is not None:
        known = declared_tables(spec, Given(plan._inputs.given(future, series=series).table, given.series))[DATA]
        rows, notes = filled_in(rows, known, timing.panel, str(timing.time), timing.every)
    level = None if spec.response is None else Level.of(spec.response)
    later = 0 if level is None else level.horizon
    if not later:
        notes += [*_unknown(spec, timing, rows, unknown), *_short_series(spec, timing, declared, rows)]
    so_far = given.table
    if HISTORY in declared:
        so_far = append(without_overlap(declared[HISTORY], declared[DATA], timing), declared[DATA])
    own = plan if spec is plan.spec else Plan._of(spec)
    made = RowsAhead(own, spec, timing, so_far, rows, given.series, tuple(notes))
    return _shifted(made, later, ahead) if later else made


def _unknown(spec: PlanSpec, timing: Timing, rows: Table, unknown: list[str]) -> Iterator[str]:
    """Yield in which rows ahead a variable is not known that a term reads, other than the response's lags.

    Raises:
        DataError: where one is not known in any row.
    """
    needed: dict[str, list[str]] = {}
    for key, look in looks_of(spec):
        if look.offset >= 0 and look.variable in unknown:
            needed.setdefault(look.variable, []).append(key)
    nowhere = {name: keys for name, keys in needed.items() if rows[name].missing_rows().all()}
    if nowhere:
        told = "; ".join(f"{name} (in {', '.join(dict.fromkeys(keys))})" for name, keys in nowhere.items())
        raise DataError(
            f"values of the periods ahead are needed and not known: {told}",
            remedy=f"Give a table with them by unit and period, {option('--future FILE', 'future=table')}, or use "
            "their lags in the plan.",
        )
    for name in needed:
        gone = lacking(rows, name, timing.panel, str(timing.time), timing.every)
        if gone:
            yield f"{name} is not known in {counted(len(gone), 'row')} ahead: {named(gone, 5)}"


def _short_series(spec: PlanSpec, timing: Timing, declared: Mapping[str, Table], rows: Table) -> Iterator[str]:
    """Yield which joined series end before the periods ahead do."""
    last = int(period_numbers(rows[str(timing.time)].data, timing.every).max(initial=0))
    for name, series in spec.series.items():
        table = declared.get(f"series.{name}")
        if table is None or table[series.time].kind is not Kind.TIME:
            continue
        time = table[series.time]
        known = time.data[~time.missing_rows()]
        end = period_starts(period_numbers(known, series.every).max(initial=-(10**6))[None] + 1, series.every) - 1
        ends = int(period_numbers(end, timing.every)[0])
        if ends < last:
            yield (
                f"the series {name} ends in {period_text(ends, timing.every)}, and the periods ahead in "
                f"{period_text(last, timing.every)}: give a longer table for it"
            )
