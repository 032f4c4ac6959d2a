"""The command `trial`: a regression on a build, to read it and to check it."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from facturum.cli.common import FILE, print_json, refuse_existing, series_from, series_option
from facturum.errors import DataError, named

if TYPE_CHECKING:
    from facturum.api.design import Design
    from facturum.api.plan import Plan
    from facturum.trial.fit.trial import Trial
    from facturum.validation.forecast_path import Forecasts
    from facturum.validation.resampling import Resampling
    from facturum.validation.validating import Validation


@click.command()
@click.argument("folder", metavar="DIR", type=FILE)
@click.option(
    "--model",
    type=click.Choice(["linear", "logistic", "poisson"]),
    default="linear",
    show_default=True,
    help="Least squares, or the likelihood of a response of 0 and 1, or of counts.",
)
@click.option(
    "--errors",
    type=click.Choice(["ordinary", "hc1", "hc3", "clustered", "autocorrelation"]),
    default="ordinary",
    show_default=True,
    help="Standard errors; hc1 and hc3 are robust to heteroscedasticity.",
)
@click.option(
    "--by",
    metavar="VARIABLE",
    multiple=True,
    help="The variable that names the unit, of clustered errors (once or twice) or series.",
)
@click.option("--lags", type=click.IntRange(0), help="Of autocorrelation, how many; otherwise chosen.")
@click.option(
    "--data",
    type=FILE,
    help="The source, for parts held out, resampling, forecasts, and units and times not carried along.",
)
@click.option("--folds", type=int, metavar="K", help="Predict K random parts of the rows, each from the others.")
@click.option("--origin-folds", type=int, metavar="K", help="Predict the last K stretches of time, each from before.")
@click.option("--leave-one-out", is_flag=True, help="Predict each row from all others.")
@click.option(
    "--resample",
    type=int,
    metavar="K",
    help="Percentile intervals over K tables of rows, or whole units, drawn at random.",
)
@click.option("--seed", type=int, default=0, show_default=True, help="Of random parts and draws.")
@click.option("--ahead", type=int, metavar="K", help="Forecast the next K periods of each unit.")
@click.option("--future", type=FILE, help="With --ahead: values to come, by unit and period.")
@click.option("--out", type=FILE, help="With --ahead: write the forecasts to a .csv or .parquet file.")
@click.option(
    "--figure",
    type=FILE,
    help="Draw fitted against actual, residuals, coefficients, and the path with its forecasts into this .png or .svg.",
)
@click.option("--unit", metavar="NAME", help="With --figure: the unit whose path is drawn.")
@click.option("--history", type=FILE, help="Earlier rows that DIR was built with, for operations along time.")
@series_option
@click.option("--json", "as_json", is_flag=True, help="Print the result, for programs.")
def trial(
    folder: Path,
    model: str,
    errors: str,
    by: tuple[str, ...],
    lags: int | None,
    data: Path | None,
    folds: int | None,
    origin_folds: int | None,
    leave_one_out: bool,
    resample: int | None,
    seed: int,
    ahead: int | None,
    future: Path | None,
    out: Path | None,
    figure: Path | None,
    unit: str | None,
    history: Path | None,
    series: tuple[str, ...],
    as_json: bool,
) -> None:
    """Fit a regression to the build in DIR, and say what its coefficients mean with their numbers.

    It is a check on the matrix, not a modelling package: hand X, y and the names to one for more. Rows that are not
    learned from are held out.
    """
    from facturum.api.opening import open_design

    _refuse_void(
        [("--folds", folds), ("--origin-folds", origin_folds), ("--leave-one-out", leave_one_out),
         ("--resample", resample), ("--ahead", ahead)],
        [("--errors", errors != "ordinary"), ("--by", by), ("--lags", lags is not None), ("--future", future),
         ("--out", out), ("--unit", unit), ("--figure", figure)],
    )  # fmt: skip
    refuse_existing(out)
    design, tables = open_design(folder), series_from(series)
    asked = _Asked(design, model, data, history, tables)
    if folds is not None or origin_folds is not None or leave_one_out:
        validation = asked.validation(folds, origin_folds, leave_one_out, seed)
        _print(validation, as_json)
    elif resample is not None:
        _print(asked.intervals(resample, seed), as_json)
    else:
        forecasts = None if ahead is None else asked.forecasts(ahead, future)
        result = None
        if forecasts is None or figure is not None:
            result = design.trial(model, errors=errors, by=by or None, lags=lags, table=data)
        _print(result if forecasts is None else forecasts, as_json)
        if out is not None and forecasts is not None:
            from facturum.files.scans.tables import write_table

            write_table(forecasts.to_table(), out)
        if figure is not None and result is not None:
            from facturum.show.drawn.trial_figure import trial_figure
            from facturum.show.terminal import views

            trial_figure(design, result, figure, unit, forecasts, data)
            views.console(stderr=as_json).print(views.safe(f"drawn into {figure}"))


def _refuse_void(questions: list[tuple[str, Any]], beside: list[tuple[str, Any]]) -> None:
    """Refuse two questions at once, and options that the one asked makes void.

    Args:
        questions: each with what is given for it.
        beside: options of the regression and of what is drawn.
    """
    asked = [name for name, given in questions if given is not None and given is not False]
    if len(asked) > 1:
        raise DataError(f"{named(asked)} are questions of their own", remedy="Write one of them; call twice for both.")
    question = asked[0] if asked else ""
    given_beside = [name for name, given in beside if given]
    beside_each = {"": ["--errors", "--by", "--lags", "--figure"], "--ahead": ["--future", "--out", "--figure"]}
    allowed = beside_each.get(question, [])
    if "--figure" in given_beside and "--figure" in allowed:
        allowed = [*allowed, "--unit"]
    void = [name for name in given_beside if name not in allowed]
    if void:
        needs = {"--future": "--ahead 12", "--out": "--ahead 12", "--unit": "--figure F.png"}
        if not question or void[0] in needs:
            needed = needs[void[0]]
            raise DataError(
                f"{void[0]} is valid only with {needed.split()[0]}", remedy=f"Add {needed}, or leave it out."
            )
        what = "is of the fit to all rows" if void[0] != "--figure" else "draws the fit to all rows"
        raise DataError(
            f"{question} makes {void[0]} void, which {what}", remedy="Leave one of the two out; call twice for both."
        )


class _Asked:
    """What is asked of a build, and of the source where it takes that."""

    def __init__(
        self, design: Design, model: str, data: Path | None, history: Path | None, series: dict[str, Path]
    ) -> None:
        self._design, self._model, self._series = design, model, series
        self._data, self._history = data, history

    def _source(self, option: str) -> Path:
        if self._data is None:
            raise DataError(f"{option} needs the source", remedy="Add --data FILE, the table that DIR was built from.")
        return self._data

    def _plan(self) -> Plan:
        from facturum.api.plan import Plan
        from facturum.engine.planning.sections.spec import spec_from

        return Plan._of(spec_from(self._design.columns.plan))

    def validation(self, folds: int | None, origins: int | None, one_out: bool, seed: int) -> Validation:
        from facturum.validation.validating import left_out_at_once, validate

        if one_out and not self._design.columns.learned and self._model == "linear":
            return left_out_at_once(self._design)
        source = self._source("--folds" if folds is not None else "--origin-folds" if origins else "--leave-one-out")
        return validate(
            self._plan(), source, folds=folds, origin_folds=origins, leave_one_out=one_out, model=self._model,
            seed=seed, history=self._history, series=self._series,
        )  # fmt: skip

    def intervals(self, samples: int, seed: int) -> Resampling:
        from facturum.validation.resampling import resample

        plan, source = self._plan(), self._source("--resample")
        return resample(plan, source, samples, model=self._model, seed=seed, series=self._series)

    def forecasts(self, ahead: int, future: Path | None) -> Forecasts:
        from facturum.validation.forecasting import forecast

        source = self._source("--ahead")
        return forecast(
            self._design, source, ahead, model=self._model, future=future, history=self._history, series=self._series
        )


def _print(result: Any, as_json: bool) -> None:
    from facturum.trial.fit.trial import Trial

    if as_json:
        content = trial_json(result) if isinstance(result, Trial) else _plain(result)
        print_json(content)
        return
    from facturum.show.terminal import views
    from facturum.show.terminal.trial import result_view

    views.console().print(result_view(result))


def _plain(result: Any) -> Any:
    return asdict(result)


def trial_json(result: Trial) -> dict[str, Any]:
    """Return a trial as plain data."""
    content = asdict(result)
    content["covariance"] = result.covariance.tolist()
    return content
