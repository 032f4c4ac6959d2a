"""The trial regression in the terminal: coefficients, joint tests, effects in words, accuracy."""

from __future__ import annotations

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.rule import Rule
from rich.text import Text

from facturum.errors import counted
from facturum.forecast_path import Forecasts
from facturum.show.fitting import Fitting, Head
from facturum.show.terminal import figure, safe
from facturum.trial.accuracy import Accuracy
from facturum.trial.trial import Trial
from facturum.validating import Interval, Validation

MOST_PARTS = 50

MAX_EFFECTS = 100  # sentences on the screen
_HEADS = (
    Head("column", "bold", leads=True),
    Head("estimate", right=True),
    Head("std. error", right=True),
    Head("t", right=True),
    Head("p", right=True),
    Head("95 % from", right=True),
    Head("to", right=True),
)


def result_view(result: Trial | Validation | Forecasts | list[Interval]) -> RenderableType:
    """Return whatever the command `trial` was asked for."""
    if isinstance(result, Trial):
        return trial_view(result)
    if isinstance(result, Validation):
        return _validation_view(result)
    return _forecasts_view(result) if isinstance(result, Forecasts) else _intervals_view(result)


def _validation_view(validation: Validation) -> RenderableType:
    heads = [Head("part", "bold", leads=True)]
    heads += [Head(name, right=True) for name in ("rows fitted", "rows predicted", "RMSE")]
    rows = [
        [safe(f.name), Text(f"{f.fitted:,}"), Text(f"{f.predicted:,}"), Text(figure(f.rmse))] for f in validation.folds
    ]
    title = Rule(safe(validation.scheme, "bold"), style="dim", align="left")
    table = [Fitting(heads, rows)] if 0 < len(rows) <= MOST_PARTS else []
    return Group(title, *table, *accuracy_view(validation.accuracy, "rows held out, in raw units"))


def _forecasts_view(forecasts: Forecasts) -> RenderableType:
    units = any(each.unit for each in forecasts.of)
    heads = [*([Head("unit", "bold", leads=True)] if units else []), Head("period", "bold", leads=True)]
    heads += [Head(name, right=True) for name in ("forecast", "expected", "95 % from", "to")]
    rows = [
        [
            *([safe(f.unit)] if units else []),
            safe(f.period),
            *map(Text, map(figure, (f.forecast, f.expected, f.low, f.high))),
        ]
        for f in forecasts.of
    ]  # fmt: skip
    how = ", later ones from earlier ones" if forecasts.recursive else ""
    title = f"{counted(len(forecasts), 'forecast')} of {forecasts.response}{how}"
    note = "forecast: transformations undone; expected: with the smearing correction"
    left_out = [Padding(safe(f"{text}.", "yellow"), (0, 0, 0, 2)) for text in forecasts.without]
    head = Rule(safe(title, "bold"), style="dim", align="left")
    return Group(head, Fitting(heads, rows), *left_out, Text(f"  {note}", "dim"))


def _intervals_view(intervals: list[Interval]) -> RenderableType:
    heads = [Head("column", "bold", leads=True)]
    heads += [Head(name, right=True) for name in ("estimate", "95 % from", "to", "tables")]
    rows = [
        [safe(i.name), Text(figure(i.estimate)), Text(figure(i.low)), Text(figure(i.high)), Text(f"{i.samples:,}")]
        for i in intervals
    ]
    return Group(Rule(Text("percentile intervals", "bold"), style="dim", align="left"), Fitting(heads, rows))


def trial_view(trial: Trial) -> RenderableType:
    """Return a trial regression as tables and sentences."""
    rows = [
        [safe(c.name), *map(Text, (figure(c.estimate), figure(c.error), f"{c.t:.2f}", p_text(c.p))),
         Text(figure(c.low)), Text(figure(c.high))]
        for c in trial.coefficients
    ]  # fmt: skip
    view: list[RenderableType] = [
        Rule(safe(trial.title, "bold"), style="dim", align="left"),
        Fitting(_HEADS, rows),
        *[Padding(safe(line), (0, 0, 0, 2)) for line in summary_lines(trial)],
    ]
    tests = [[safe(t.term), Text(str(t.columns)), Text(f"{t.statistic:.2f}"), Text(p_text(t.p))] for t in trial.terms]
    if any(t.columns > 1 for t in trial.terms):
        name = "F" if trial.model == "linear" else "chi² / df"
        heads = (
            Head("term", "bold", leads=True),
            Head("columns", right=True),
            Head(name, right=True),
            Head("p", right=True),
        )
        view += [Rule(Text("joint tests", "bold"), style="dim", align="left"), Fitting(heads, tests)]
    if trial.effects:
        view.append(Rule(Text("effects", "bold"), style="dim", align="left"))
        view += [Padding(safe(effect.text), (0, 0, 0, 2)) for effect in trial.effects[:MAX_EFFECTS]]
        if len(trial.effects) > MAX_EFFECTS:
            view.append(Text(f"  and {len(trial.effects) - MAX_EFFECTS:,} more: --json lists all", "dim"))
    view += accuracy_view(trial.accuracy, "accuracy in raw units")
    return Group(*view)


def accuracy_view(accuracy: tuple[Accuracy, ...], title: str) -> list[RenderableType]:
    """Return how far fitted values are from the response, as a table."""
    if not accuracy:
        return []
    heads = [Head("rows", "bold", leads=True), Head("fitted values", leads=True)]
    heads += [Head(name, right=True) for name in ("number", "RMSE", "MAE", "MAPE", "R²")]
    lines = [
        [Text(a.sample), Text(a.kind), Text(f"{a.rows:,}"), Text(figure(a.rmse)), Text(figure(a.mae)),
         Text("–" if a.mape is None else f"{a.mape:.1f} %"), Text("–" if a.r2 is None else f"{a.r2:.4f}")]
        for a in accuracy
    ]  # fmt: skip
    return [Rule(Text(title, "bold"), style="dim", align="left"), Fitting(heads, lines)]


def summary_lines(trial: Trial) -> list[str]:
    """Return what goes below the coefficients."""
    parts = []
    if trial.r2 is not None:
        parts.append(f"R² {trial.r2:.4f}" + (f" (adjusted {trial.adjusted:.4f})" if trial.adjusted is not None else ""))
    if trial.sigma is not None:
        parts.append(f"standard deviation of the errors {figure(trial.sigma)}")
    parts.append(f"{counted(trial.degrees_of_freedom, 'degree')} of freedom")
    lines = ["; ".join(parts)]
    if trial.left_out:
        lines.append(f"without a coefficient, as combinations of others: {', '.join(trial.left_out)}")
    return lines


def p_text(p: float) -> str:
    """Return a p value as it is printed.

    Example:
        >>> p_text(0.0312), p_text(1e-9)
        ('0.031', '<0.001')
    """
    return "<0.001" if p < 0.001 else f"{p:.3f}"
