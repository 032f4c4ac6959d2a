"""The effect of a change that a user requests: the average difference of predictions, with its interval."""

from __future__ import annotations

from facturum.audit.counterfactual.requested import BeforeAndAfter
from facturum.errors import DataError
from facturum.trial.fit.regression import Estimated
from facturum.trial.told.effect_text import Effect


def requested_effect(estimated: Estimated, rows: BeforeAndAfter, variable: str) -> Effect:
    """Return the effect of a change on the response.

    Args:
        estimated: the coefficients, and what is known of them.
        rows: before and after the change.
        variable: which is changed.

    Raises:
        DataError: where the coefficients do not tell it.
    """
    linked = estimated.fit.model != "linear"
    identified = estimated.identification.identifies((rows.after - rows.before).mean(axis=0))
    if not identified or (linked and not estimated.predictions.identifies(rows)):
        raise DataError(
            f"the effect of {variable} is not identified: columns made of it are linear combinations of others",
            remedy="See the checks for the columns, and leave one of them out.",
        )
    effect = estimated.predictions.effect(rows, variable)
    if effect is None:
        raise DataError(f"no standard error is defined for the effect of {variable}", remedy="Use other errors.")
    return effect
