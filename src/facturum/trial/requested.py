"""The effect of a change that a user requests: the average difference of predictions, with its interval."""

from __future__ import annotations

import numpy as np

from facturum.audit.counterfactual.requested import BeforeAndAfter
from facturum.data.values import FloatArray
from facturum.errors import DataError
from facturum.trial.effect_text import Response, difference_text, effect_text
from facturum.trial.effects import Effect
from facturum.trial.regression import Estimated


def requested_effect(estimated: Estimated, rows: BeforeAndAfter, variable: str) -> Effect:
    """Return the effect of a change on the response.

    Least squares: the mean of the differences. Logistic: that of the probabilities, in percentage points. Poisson: the
    ratio of the mean predictions, in percent. The error follows from the gradient in the coefficients and their
    covariance (Greene, "Econometric Analysis", the delta method).

    Args:
        estimated: the coefficients, and what is known of them.
        rows: before and after the change.
        variable: which is changed.

    Raises:
        DataError: where the coefficients do not tell it.
    """
    movement = (rows.after - rows.before).mean(axis=0)
    if not estimated.identification.identifies(movement):
        raise DataError(
            f"the effect of {variable} is not identified: columns made of it are linear combinations of others",
            remedy="See the checks for the columns, and leave one of them out.",
        )
    b = estimated.fit.solution.coefficients
    before, after = (_with_intercept(estimated, side) for side in (rows.before, rows.after))
    estimate, gradient = _difference(estimated.fit.model, before, after, b)
    error = estimated.spread.error(gradient)
    if error is None or not np.isfinite([estimate, error]).all():
        raise DataError(f"no standard error is defined for the effect of {variable}", remedy="Use other errors.")
    low, high = estimate - estimated.quantile * error, estimate + estimated.quantile * error
    response, odds = estimated.response_told, ""
    if estimated.fit.model == "logistic":
        if rows.alike:  # otherwise no one number is the ratio of all rows
            moved = np.mean(after - before, axis=0)
            ratio, side = float(moved @ b), estimated.quantile * (estimated.spread.error(moved) or 0.0)
            odds = difference_text(response, ratio, ratio - side, ratio + side)
        response = Response(estimated.share_name, "points")
    text = effect_text(response, rows.change, rows.where, estimate, low, high, also=odds)
    kept = list(estimated.fit.solution.columns)
    return Effect(variable, rows.change, rows.where, estimate, low, high, text, tuple(movement[kept].tolist()))


def _with_intercept(estimated: Estimated, columns: FloatArray) -> FloatArray:
    solution = estimated.fit.solution
    kept = columns[:, list(solution.columns)]
    return np.column_stack([np.ones(len(kept)), kept]) if solution.intercept else kept


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
