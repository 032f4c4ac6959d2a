"""Predictors that are, or hold, what they are to explain: copies of the response, near copies, ids, later periods."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal

import numpy as np

from facturum.audit.checks.copies import FEWEST
from facturum.audit.checks.finding import NOTE, WARNING, Finding
from facturum.audit.checks.summaries import Summaries
from facturum.engine.passes.outline import BuiltColumn, Outline
from facturum.engine.planning.expressions.leaks import apart_from_means, explained_variables, looks

KNOWN = "Leave it out, unless it is known beforehand."
NEAR_COPY = 0.999  # share of the variance of the response that one predictor explains


def leak_findings(outline: Outline, sums: Summaries, predictors: Sequence[BuiltColumn]) -> Iterator[Finding]:
    """Yield what the check of leaks found.

    Args:
        outline: the resolved plan and its columns.
        sums: summaries of the rows.
        predictors: the columns without the intercept.
    """

    def about(at: int, text: str, remedy: str, level: Literal["warning", "note"] = WARNING) -> Finding:
        name = predictors[at].name
        return Finding("leak", f"{name} {text}", (name,), level=level, remedy=remedy)

    copies = [] if sums.copies is None else sums.copies.found()
    for at in copies:
        yield about(
            at,
            f"is one-to-one with the response {outline.responses[0].name}, and in its order in every row: it may be a "
            "copy of it on another scale.",
            KNOWN,
        )
    for at, share in _near_copies(outline, sums, predictors):
        if at not in copies:
            yield about(
                at,
                f"alone explains {100 * share:.5g} % of the variance of the response {outline.responses[0].name}: it "
                "may be a copy of it, rounded or measured again.",
                KNOWN,
            )
    for at in sums.counting.found():
        yield about(
            at,
            "holds whole numbers that increase from row to row, as an id does.",
            'Leave it out, or write kind = "id" in [variables]; if it is a trend, write trend().',
            NOTE,
        )
    yield from _later_periods(outline, predictors)


def _near_copies(outline: Outline, sums: Summaries, predictors: Sequence[BuiltColumn]) -> Iterator[tuple[int, float]]:
    """Yield the columns that explain nearly all of the response by themselves, and the share; no lags of it."""
    factor = sums.whole
    if factor is None or len(outline.responses) != 1 or factor.rows < FEWEST:
        return
    prepared = outline.prepared
    clock = prepared.spec.data.time, prepared.spec.data.every
    explained = explained_variables(prepared.response, prepared.derived, clock)
    centred = factor.triangle[1:, 1:]
    lengths = np.sqrt((centred**2).sum(axis=0))
    if not lengths[-1] > 0:
        return
    with np.errstate(all="ignore"):
        shares = (centred[:, :-1].T @ centred[:, -1] / lengths[:-1] / lengths[-1]) ** 2
    for at in np.flatnonzero(shares > NEAR_COPY).tolist():
        term = prepared.terms.get(predictors[at].term or "")
        read = () if term is None else looks(term, prepared.derived, clock=clock)
        if not factor.constant[at] and not any(look.variable in explained for look in read):
            yield at, float(min(shares[at], 1.0))


def _later_periods(outline: Outline, predictors: Sequence[BuiltColumn]) -> Iterator[Finding]:
    """Yield the terms that read the response of a later period."""
    prepared = outline.prepared
    clock = prepared.spec.data.time, prepared.spec.data.every
    explained = explained_variables(prepared.response, prepared.derived, clock)
    for key, term in prepared.terms.items():
        read = apart_from_means(term, explained, prepared.derived, clock)
        later = {look.variable for look in read if look.offset > 0}
        if leaking := sorted(later & explained.keys()):
            names = tuple(column.name for column in predictors if column.term == key)
            text = f"{key} reads the response ({leaking[0]}) of a later period, which is not known in time."
            yield Finding("leak", text, names)
