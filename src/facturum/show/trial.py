"""The trial regression in the terminal: coefficients, joint tests, effects in words, accuracy."""

from __future__ import annotations

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.rule import Rule
from rich.text import Text

from facturum.errors import counted
from facturum.show.fitting import Fitting, Head
from facturum.show.terminal import figure, safe
from facturum.trial.accuracy import Accuracy
from facturum.trial.trial import Trial

_HEADS = (
    Head("column", "bold", leads=True),
    Head("estimate", right=True),
    Head("std. error", right=True),
    Head("t", right=True),
    Head("p", right=True),
    Head("95 % from", right=True),
    Head("to", right=True),
)


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
        view += [Padding(safe(effect.text), (0, 0, 0, 2)) for effect in trial.effects]
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
    parts.append(f"{counted(trial.free, 'degree')} of freedom")
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
