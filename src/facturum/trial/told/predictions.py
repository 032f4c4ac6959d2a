"""What predictions differ by between rows before and after a change, with its standard error."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from facturum.audit.counterfactual.requested import BeforeAndAfter
from facturum.audit.map.change_entries import ChangeEntry, SidesEntry
from facturum.data.values import FloatArray, Mask
from facturum.trial.fit.solving import Solution
from facturum.trial.told.effect_text import Effect, Response, difference_text, effect_text

MOST_ROWS = 65_536  # whose predictions are compared; of more, as many are taken, evenly spread


@dataclass(frozen=True)
class Predictions:
    """What a fitted model predicts of rows.

    Args:
        model: linear, logistic or poisson.
        solution: the coefficients.
        error: returns the standard error of a sum of coefficients; None where it is not defined.
        quantile: of the t or normal distribution, for the intervals.
        response: how differences are reported.
        share: what a response of 0 and 1 is called as a share.
        predicts: returns which rows keep the relations that leave columns without a coefficient.
    """

    model: str
    solution: Solution
    error: Callable[[FloatArray], float | None]
    quantile: float
    response: Response
    share: str
    predicts: Callable[[FloatArray], Mask]

    def identifies(self, rows: BeforeAndAfter) -> bool:
        """Return whether the predictions before and after a change do not depend on the columns that were left out."""
        return bool(self.predicts(rows.before).all() and self.predicts(rows.after).all())

    def effect(self, rows: BeforeAndAfter, variable: str) -> Effect | None:
        """Return the effect of a change on the response; None where its standard error is not defined.

        Least squares: the mean of the differences. Logistic: that of the probabilities, in percentage points. Poisson:
        the ratio of the mean predictions, in percent. The error follows from the gradient in the coefficients and their
        covariance (Greene, "Econometric Analysis", the delta method).
        """
        b, before, after = self.solution.coefficients, self._fitted(rows.before), self._fitted(rows.after)
        estimate, gradient = _difference(self.model, before, after, b)
        error = self.error(gradient)
        if error is None or not np.isfinite([estimate, error]).all():
            return None
        low, high = estimate - self.quantile * error, estimate + self.quantile * error
        response, odds = self.response, ""
        if self.model == "logistic":
            if rows.alike:  # otherwise no one number is the ratio of all rows
                moved = np.mean(after - before, axis=0)
                ratio, side = float(moved @ b), self.quantile * (self.error(moved) or 0.0)
                odds = difference_text(response, ratio, ratio - side, ratio + side)
            response = Response(self.share, "points")
        text = effect_text(response, rows.change, rows.where, estimate, low, high, odds)
        kept = (rows.after - rows.before).mean(axis=0)[list(self.solution.columns)]
        return Effect(variable, rows.change, rows.where, estimate, low, high, text, tuple(kept.tolist()))

    def _fitted(self, columns: FloatArray) -> FloatArray:
        """Return the columns that have a coefficient, the intercept first."""
        kept = columns[:, list(self.solution.columns)]
        return np.column_stack([np.ones(len(kept)), kept]) if self.solution.intercept else kept


def _difference(model: str, before: FloatArray, after: FloatArray, b: FloatArray) -> tuple[float, FloatArray]:
    """Return the difference of mean predictions, and its gradient in the coefficients."""
    with np.errstate(over="ignore"):
        if model == "linear":
            moved: FloatArray = (after - before).mean(axis=0)
            return float(moved @ b), moved
        if model == "logistic":
            low, high = (1 / (1 + np.exp(-(side @ b))) for side in (before, after))
            slopes = (after * (high * (1 - high))[:, None] - before * (low * (1 - low))[:, None]).mean(axis=0)
            return float((high - low).mean()), slopes
        low, high = (np.exp(side @ b) for side in (before, after))
        gradient: FloatArray = after.T @ high / high.sum() - before.T @ low / low.sum()
        return float(np.log(high.mean() / low.mean())), gradient


def rows_of_change(change: ChangeEntry, sides: SidesEntry, names: Sequence[str], own: FloatArray) -> BeforeAndAfter:
    """Return rows before and after a change that the matrix tells of.

    Args:
        change: of the source.
        sides: its rows as sums of columns.
        names: of the columns, without the intercept.
        own: the rows as they are (rows, columns).
    """
    places = {name: at for at, name in enumerate(names)}

    def worth(sums: Mapping[str, float]) -> FloatArray:
        total = np.full(len(own), sums.get("", 0.0))
        for name, weight in sums.items():
            total += weight * own[:, places[name]] if name else 0.0
        return total

    def moved(columns: Mapping[str, Mapping[str, float]]) -> FloatArray:
        matrix = own.copy()
        for name, sums in columns.items():
            matrix[:, places[name]] = worth(sums)
        return matrix

    chosen = worth(sides.among) > 0.5 if sides.among else np.ones(len(own), dtype=bool)
    return BeforeAndAfter(change.change, change.where, moved(sides.before)[chosen], moved(sides.after)[chosen])
