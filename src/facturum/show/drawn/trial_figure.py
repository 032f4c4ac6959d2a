"""Figures of a trial regression: its path over time, fitted against actual, residuals, coefficients."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import matplotlib as mpl
import numpy as np
from matplotlib.figure import Figure

from facturum.api.design import Design
from facturum.data.values import Array, FloatArray
from facturum.errors import DataError, nearest
from facturum.language.core.literals import names_in
from facturum.show.drawn.figures import BAR, FAINT, INK, MARK, STYLE, dots, parted, plain, save
from facturum.trial.fit.rows import moments_of
from facturum.trial.fit.trial import Trial
from facturum.trial.told.units import RawUnits
from facturum.validation.forecast_level import Level, constant
from facturum.validation.forecast_path import Forecast, Forecasts

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_POINTS = 20_000
MOST_COEFFICIENTS = 30


@dataclass(frozen=True)
class _Points:
    """The rows of a design with their fitted values, in raw units and on the scale that was fitted.

    Args:
        actual, fitted: in raw units.
        linear, residual: on the scale that was fitted.
        moments: of each row, datetime64, where the time is known; else None.
        units: of each row, "" where there is none.
        step: every how many of them are drawn as points.
    """

    actual: FloatArray
    fitted: FloatArray
    linear: FloatArray
    residual: FloatArray
    moments: Array | None
    units: Array
    step: int


def trial_figure(
    design: Design,
    trial: Trial,
    path: Path,
    unit: str | None = None,
    forecasts: Forecasts | None = None,
    table: Any = None,
) -> None:
    """Draw a trial regression of a design; the source is read for a time and units that are not carried along.

    Raises:
        DataError: where the unit is not known, or the picture cannot be written.
    """
    with mpl.rc_context(STYLE):
        save(trial_picture(design, trial, unit, forecasts, table), path)


def trial_picture(
    design: Design,
    trial: Trial,
    unit: str | None = None,
    forecasts: Forecasts | None = None,
    table: Any = None,
    most: int = MOST_POINTS,
) -> Figure:
    """Return the picture of a trial regression, with at most so many points."""
    points = _points(design, trial.model, most, table)
    ahead = points if forecasts is None else _levels(design, points, forecasts, table)
    dated = points.moments is not None
    figure = Figure(figsize=(11, 10.5 if dated else 7.2), dpi=110, layout="constrained")
    grid = figure.add_gridspec(3 if dated else 2, 2, height_ratios=[1.1, 1, 1][: 3 if dated else 2])
    row = 0
    if dated:
        _path(figure.add_subplot(grid[0, :]), ahead, trial, unit, forecasts)
        row = 1
    _against(figure.add_subplot(grid[row, 0]), points, trial)
    linear, residual = points.linear[:: points.step], points.residual[:: points.step]
    _residuals(figure.add_subplot(grid[row, 1]), linear, residual, "fitted values", "residuals by fitted value")
    _coefficients(figure.add_subplot(grid[row + 1, 0]), trial)
    last = figure.add_subplot(grid[row + 1, 1])
    if points.moments is not None:
        _residuals(last, points.moments[:: points.step], residual, "", "residuals by time")
    else:
        numbers = np.arange(1.0, len(points.residual) + 1.0, dtype=np.float64)[:: points.step]
        _residuals(last, numbers, residual, "row of the matrix", "residuals by row")
    return figure


def _points(design: Design, model: str, most: int, table: Any) -> _Points:
    fit, rows = design._fit(model, table)
    data = rows.columns.resolved.get("data", {})
    time, panel = data.get("time"), data.get("panel", [])
    parts = [(block.y, fit.of(block)) for block in rows.read()]
    y, out = (np.concatenate(values) for values in zip(*parts, strict=True))
    known = ~(np.isnan(y) | np.isnan(out))
    moments = None
    if time in rows.carried:
        read, dated = moments_of(rows.carried[time][known])
        moments = read.astype("datetime64[us]") if dated.all() else None
    names = [name for name in panel if name in rows.carried]
    labels = [
        ", ".join(parts)
        for parts in zip(*[np.ma.getdata(rows.carried[name])[known].astype(str) for name in names], strict=True)
    ]
    named = np.array(labels) if names else np.full(int(known.sum()), "")
    raw = rows.units if model == "linear" else RawUnits("none", "")
    return _Points(
        raw.undone(y[known]), raw.undone(out[known]), out[known], y[known] - out[known], moments, named,
        max(int(known.sum()) // most, 1),
    )  # fmt: skip


def _levels(design: Design, points: _Points, forecasts: Forecasts, table: Any) -> _Points:
    """Return actual and fitted values as levels of the variable that is forecast, where the response is its changes.

    Of a response c = slope * level + rest, a fitted change is (fitted - c) / slope away from the level.
    """
    level = Level.of(str(design.columns.resolved.get("response")))
    if level is None or not level.changes:
        return points
    fit, rows = design._fit(table=table)
    if forecasts.response not in rows.carried:
        return replace(points, actual=np.full(len(points.actual), np.nan), fitted=np.full(len(points.fitted), np.nan))
    raw = np.ma.filled(np.ma.array(rows.carried[forecasts.response]).astype(np.float64), np.nan)
    change = np.concatenate([block.y for block in rows.read()])
    out = np.concatenate([fit.of(block) for block in rows.read()])
    known = ~(np.isnan(change) | np.isnan(out))
    raw, change, out = raw[known], change[known], out[known]
    with np.errstate(all="ignore"):
        own = level.units.done(raw)
        if names_in(level.slope):  # of a percent change, the slope is 100 over the level that it is counted from
            fitted = own * (out + 100) / (change + 100)
        else:
            fitted = own + (out - change) / constant(level.slope)
    return replace(points, actual=raw, fitted=level.units.undone(fitted))


def _path(axes: Axes, points: _Points, trial: Trial, unit: str | None, forecasts: Forecasts | None) -> None:
    assert points.moments is not None  # as the caller asks for it
    known = list(dict.fromkeys(points.units.tolist()))
    if unit is not None and unit not in known:
        raise DataError(
            f"unit '{unit}' not found{nearest(unit, known)}", remedy="They are " + ", ".join(known[:30]) + "."
        )
    chosen = known[0] if unit is None else unit
    rows = np.flatnonzero(points.units == chosen)
    moments, place, count = np.unique(points.moments[rows], return_inverse=True, return_counts=True)
    actual, fitted = (
        parted(moments, np.bincount(place, values[rows]) / count) for values in (points.actual, points.fitted)
    )
    axes.plot(*actual, color=INK, linewidth=1.2, marker=".", markersize=4, label="actual")
    axes.plot(*fitted, color=BAR, linewidth=1.4, label="fitted")
    dots(axes, *fitted, BAR)
    ahead = [] if forecasts is None else [each for each in forecasts.of if each.unit == chosen]
    if ahead:
        _ahead(axes, ahead)
    name = trial.units if forecasts is None else forecasts.response
    what = f"{f'{chosen}: ' if chosen else ''}{name}, actual, fitted{' and forecast' if ahead else ''}"
    several = ", means of all rows in a period" if count.max(initial=1) > 1 else ""  # whose units are not known
    axes.set_title(plain(what + several), loc="left")
    axes.legend(frameon=False, loc="best", ncols=3)


def _ahead(axes: Axes, ahead: list[Forecast]) -> None:
    moments = moments_of(np.array([each.period for each in ahead]))[0].astype("datetime64[us]")
    figures = np.array([[each.forecast, each.low, each.high] for each in ahead]).T
    (x, forecast), (_, low), (_, high) = (parted(moments, values) for values in figures)
    axes.fill_between(x, low, high, color=MARK, alpha=0.18, linewidth=0)
    axes.vlines(x, low, high, color=MARK, alpha=0.3, linewidth=1)  # of a period that stands alone, too
    axes.plot(x, forecast, color=MARK, linewidth=1.4, marker=".", markersize=4, label="forecast, 95 %")


def _against(axes: Axes, points: _Points, trial: Trial) -> None:
    actual, fitted = points.actual[:: points.step], points.fitted[:: points.step]
    axes.scatter(fitted, actual, s=6, color=BAR, alpha=0.35, linewidth=0, rasterized=True)
    low, high = float(min(actual.min(), fitted.min())), float(max(actual.max(), fitted.max()))
    axes.plot([low, high], [low, high], color=MARK, linewidth=1)
    axes.set_xlabel("fitted")
    axes.set_ylabel("actual")
    axes.set_title(f"actual against fitted, {trial.units}", loc="left")


def _residuals(axes: Axes, x: Array, residual: FloatArray, label: str, title: str) -> None:
    axes.scatter(x, residual, s=6, color=BAR, alpha=0.35, linewidth=0, rasterized=True)
    axes.axhline(0, color=MARK, linewidth=1)
    axes.set_xlabel(label)
    axes.set_title(title, loc="left")


def _coefficients(axes: Axes, trial: Trial) -> None:
    """Draw each coefficient with its interval, in standard errors, so that all can be seen."""
    drawn = [each for each in trial.coefficients if each.name != "intercept" and each.error]
    shown = drawn[:MOST_COEFFICIENTS]
    places = np.arange(len(shown))[::-1]
    figures = [[each.error, each.high, each.estimate] for each in shown]
    error, high, estimate = np.array(figures, dtype=float).reshape(-1, 3).T
    wide = (high - estimate) / error
    axes.errorbar(estimate / error, places, xerr=wide, fmt="o", color=BAR, ecolor=FAINT, markersize=4, linewidth=1.2)
    axes.axvline(0, color=MARK, linewidth=1)
    axes.set_yticks(places, [plain(each.name) for each in shown], fontsize=8)
    axes.tick_params(axis="y", colors=INK, length=0)
    axes.set_xlabel("coefficient / standard error, with 95 % interval")
    axes.set_title("coefficients", loc="left")
