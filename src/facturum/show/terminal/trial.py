"""The trial regression in the terminal: coefficients, joint tests, effects in words, accuracy."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.rule import Rule
from rich.text import Text

from facturum.errors import counted, named
from facturum.show.terminal.fitting import Fitting, Head
from facturum.show.terminal.views import beside, figure, safe
from facturum.trial.fit.likelihood import LikelihoodFigures
from facturum.trial.fit.trial import Coefficient, Trial
from facturum.trial.told.accuracy import Accuracy
from facturum.trial.told.truth_accuracy import TruthAccuracy
from facturum.validation.forecast_path import Forecasts
from facturum.validation.resampling import Resampling
from facturum.validation.validating import Validation

MOST_PARTS = 50

MAX_EFFECTS = 24  # sentences on the screen
_HEADS = (
    Head("column", "bold", leads=True),
    Head("estimate", right=True),
    Head("std. error", right=True),
    Head("t", right=True),
    Head("p", right=True),
    Head("95 % from", right=True),
    Head("to", right=True),
)
_LIKELIHOOD_HEADS = tuple(Head("z", right=True) if head.name == "t" else head for head in _HEADS)


def result_view(result: Trial | Validation | Forecasts | Resampling) -> RenderableType:
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
    notes = [Padding(safe(text, "yellow"), (0, 0, 0, 2)) for text in validation.notes]
    title = Rule(safe(validation.scheme, "bold"), style="dim", align="left")
    table = [Fitting(heads, rows)] if 0 < len(rows) <= MOST_PARTS else []
    accuracy = [*accuracy_view(validation.accuracy, "rows held out"), *truth_view(validation.truth)]
    return Group(title, *table, *notes, *accuracy)


def _forecasts_view(forecasts: Forecasts) -> RenderableType:
    units = any(each.unit for each in forecasts.of)
    heads = [*([Head("unit", "bold", leads=True)] if units else []), Head("period", "bold", leads=True)]
    names = ["forecast", "expected", "95 % from", "to"]
    if counts := forecasts.interval == "count":
        names += ["mean from", "to"]
    heads += [Head(name, right=True) for name in names]
    rows = [
        [
            *([safe(f.unit)] if units else []),
            safe(f.period),
            *map(Text, map(figure, (f.forecast, f.expected, f.low, f.high))),
            *(map(Text, map(figure, (f.mean_low, f.mean_high))) if counts else ()),
        ]
        for f in forecasts.by_unit
    ]  # fmt: skip
    how = ", made one from another" if forecasts.recursive else ""
    title = f"{counted(len(forecasts), 'forecast')} of {forecasts.response}{how}"
    note = f"95 %: of the {forecasts.interval}"
    if forecasts.interval == "count":
        note += "; of the mean in the last two columns"
    elif any(each.expected != each.forecast for each in forecasts.of):
        note += "; forecast: transformations undone; expected: with the smearing correction"
    left_out = [Padding(safe(f"{text}.", "yellow"), (0, 0, 0, 2)) for text in forecasts.without]
    head = Rule(safe(title, "bold"), style="dim", align="left")
    return Group(head, Fitting(heads, rows), *left_out, Text(f"  {note}", "dim"))


def _intervals_view(resampling: Resampling) -> RenderableType:
    intervals = resampling.intervals
    heads = [Head("column", "bold", leads=True)]
    heads += [Head(name, right=True) for name in ("estimate", "95 % from", "to", "tables")]
    rows = [
        [safe(i.name), Text(figure(i.estimate)), Text(figure(i.low)), Text(figure(i.high)), Text(f"{i.samples:,}")]
        for i in intervals
    ]
    title = Rule(Text("percentile intervals", "bold"), style="dim", align="left")
    accuracy = [*accuracy_view(resampling.accuracy, "rows not drawn"), *truth_view(resampling.truth)]
    return Group(title, Fitting(heads, rows), *accuracy)


def trial_view(trial: Trial) -> RenderableType:
    """Return a trial regression as tables and sentences."""
    rows = [[safe(c.name), *map(Text, coefficient_cells(c))] for c in trial.coefficients]
    view: list[RenderableType] = [
        Rule(safe(trial.title, "bold"), style="dim", align="left"),
        Fitting(_HEADS if trial.statistic_name == "t" else _LIKELIHOOD_HEADS, rows),
        *[Padding(safe(line, "yellow"), (0, 0, 0, 2)) for line in trial.cautions],
        *[Padding(safe(line), (0, 0, 0, 2)) for line in summary_lines(trial)],
    ]
    tests = [
        [safe(t.term), Text(str(t.columns)), Text("–" if t.statistic is None else f"{t.statistic:.2f}"),
         safe(t.note) if t.statistic is None else Text(p_text(t.p))]
        for t in trial.terms
    ]  # fmt: skip
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
    if trial.not_identified:
        told = f"not reported, since columns made of them move with others: effects of {named(trial.not_identified)}"
        view.append(Padding(safe(told, "dim"), (0, 0, 0, 2)))
    if trial.truth:
        view += truth_view(trial.truth)
    else:
        view += accuracy_view(trial.accuracy, "accuracy")
    return Group(*view)


def accuracy_view(accuracy: tuple[Accuracy, ...], title: str) -> list[RenderableType]:
    """Return how far fitted values are from the response, a table for each unit of measurement."""
    by_units: dict[str, list[Accuracy]] = {}
    for each in accuracy:
        by_units.setdefault(each.units, []).append(each)
    return [
        part for units, parts in by_units.items() for part in _accuracy_table(parts, f"{title} in units of {units}")
    ]


def _accuracy_table(accuracy: Sequence[Accuracy], title: str) -> list[RenderableType]:
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
        parts.append(
            f"{trial.r2_name} {trial.r2:.4f}"
            + (f" (adjusted {trial.adjusted:.4f})" if trial.adjusted is not None else "")
        )
    if trial.sigma is not None:
        parts.append(f"standard deviation of the errors {figure(trial.sigma)}")
    parts.append(f"{counted(trial.degrees_of_freedom, 'degree')} of freedom")
    lines = ["; ".join(parts)]
    if trial.likelihood is not None:
        lines = likelihood_lines(trial.likelihood)
    by_reason: dict[str, list[str]] = {}
    for name, why in trial.left_out.items():
        by_reason.setdefault(why, []).append(name)
    lines += [f"without a coefficient: {named(names)} ({why})" for why, names in by_reason.items()]
    return lines


def likelihood_lines(found: LikelihoodFigures) -> list[str]:
    """Return how well a likelihood fits, in words and figures."""
    mcfadden = "" if found.mcfadden is None else f"; McFadden's R² {found.mcfadden:.4f}"
    lines = [f"log-likelihood {found.log_likelihood:.4f} (null {found.null:.4f}){mcfadden}"]
    if found.restrictions:
        lines.append(
            f"likelihood-ratio test: chi² {found.ratio:.2f}, {counted(found.restrictions, 'degree')} of freedom, "
            f"p {p_text(found.ratio_p) if found.ratio_p < 0.001 else f'= {p_text(found.ratio_p)}'}"
        )
    return [*lines, f"AIC {found.aic:.2f}; BIC {found.bic:.2f}"]


def truth_view(accuracy: Sequence[TruthAccuracy]) -> list[RenderableType]:
    """Return how well a response of 0 and 1 is predicted, as tables."""
    if not accuracy:
        return []
    heads = [Head("rows", "bold", leads=True)]
    names = ("number", "base rate", "AUC", "Brier", "log loss", "errors at 0.5", "at base rate")
    heads += [Head(name, right=True) for name in names]
    lines = [[Text(cell) for cell in truth_cells(a)] for a in accuracy]
    view: list[RenderableType] = [
        Rule(Text("accuracy of predicted probabilities", "bold"), style="dim", align="left"),
        Fitting(heads, lines),
    ]
    heads = [Head("rows", "bold", leads=True), Head("called 1 from", right=True)]
    heads += [Head(name, right=True) for name in ("0 called 0", "0 called 1", "1 called 0", "1 called 1")]
    counts = [
        [Text(a.sample), Text(f"{c.threshold:.4g}"),
         *[Text(f"{n:,}") for n in (c.true_zeros, c.false_ones, c.false_zeros, c.true_ones)]]
        for a in accuracy for c in (a.at_half, a.at_base)
    ]  # fmt: skip
    view.append(Fitting(heads, counts))
    for a in accuracy:
        heads = [Head(f"{a.sample}, by tenths", "bold", leads=True)]
        heads += [Head(name, right=True) for name in ("rows", "predicted", "observed")]
        tenths = [
            [Text(f"{at + 1}"), Text(f"{t.rows:,}"), Text(f"{t.predicted:.4f}"), Text(f"{t.observed:.4f}")]
            for at, t in enumerate(a.calibration)
        ]
        view.append(Fitting(heads, tenths))
        if a.outside:
            told = f"{counted(a.outside, 'prediction')} of {a.sample} rows not between 0 and 1"
            told += ", so that the log loss is not defined." if a.log_loss is None else "."
            view.append(Padding(safe(told, "yellow"), (0, 0, 0, 2)))
    return view


def truth_cells(a: TruthAccuracy) -> list[str]:
    """Return how well a response of 0 and 1 is predicted, as it is printed."""
    errors = [f"{100 * each.error_rate:.1f} %" for each in (a.at_half, a.at_base)]
    return [a.sample, f"{a.rows:,}", f"{a.base_rate:.4f}", _four(a.auc), f"{a.brier:.4f}", _four(a.log_loss), *errors]


def _four(value: float | None) -> str:
    return "–" if value is None else f"{value:.4f}"


def coefficient_cells(c: Coefficient) -> list[str]:
    """Return a coefficient's figures as they are printed; those that are not defined as a dash."""
    statistic = "–" if c.t is None else f"{c.t:.2f}"
    values = [beside(value, c.error) for value in (c.estimate, c.error, c.low, c.high)]
    return [*values[:2], statistic, p_text(c.p), *values[2:]]


def p_text(p: float | None) -> str:
    """Return a p value as it is printed; a dash where there is none.

    Example:
        >>> p_text(0.0312), p_text(1e-9)
        ('0.031', '<0.001')
    """
    if p is None:
        return "–"
    return "<0.001" if p < 0.001 else f"{p:.3f}"
