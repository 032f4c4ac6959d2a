"""Whether residuals are correlated from one period to the next."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from facturum.data.grouping import dense_ranks
from facturum.data.time.series import Series
from facturum.data.values import FloatArray
from facturum.engine.planning.sections.spec import DataSpec
from facturum.errors import DataError
from facturum.trial.errors.placing import periods_of, units_of
from facturum.trial.fit.rows import Block, Rows

LARGE, SURE = 0.1, 3.0  # an autocorrelation, and how many of its standard errors, from which on it is told


@dataclass(frozen=True)
class Autocorrelation:
    """The correlation of residuals of neighbouring periods, within units.

    Args:
        r: the sum of products of neighbours over the sum of squares of both, its root.
        durbin_watson: the sum of squared differences over that of squares (Durbin & Watson 1950; of panels Bhargava,
            Franzini & Narendranathan 1982), about 2 where there is none.
        pairs: of neighbours.
        step: from one period to the next.
    """

    r: float
    durbin_watson: float
    pairs: int
    step: str

    @property
    def notable(self) -> bool:
        """Whether it is larger than chance makes it."""
        return abs(self.r) > LARGE and abs(self.r) * np.sqrt(self.pairs) > SURE


def autocorrelation(rows: Rows, residual: Callable[[Block], FloatArray]) -> Autocorrelation | None:
    """Return the autocorrelation of residuals; None without a time, or where it is not at hand.

    Args:
        rows: those fitted.
        residual: of each row of a block.
    """
    data = DataSpec(**rows.columns.resolved.get("data", {}))
    if data.timing is None or data.timing.time is None or data.timing.every == "row":
        return None
    e = np.concatenate([residual(block) for block in rows.blocks()])
    unit = np.zeros(len(e), dtype=np.int64)
    try:
        for name in data.panel:
            codes, _ = units_of(rows, name)
            unit = dense_ranks(unit * (int(codes.max(initial=0)) + 1) + codes)
        period, every = periods_of(rows, data, unit)
    except DataError:  # the time is not carried along, or missing
        return None
    before = Series(unit, period, np.ones(len(e), dtype=bool), every).rows_at(-1)
    later = np.flatnonzero(before >= 0)
    now, then = e[later], e[before[later]]
    squares = float(e @ e)
    size = float(np.sqrt((now @ now) * (then @ then)))
    if len(later) < 3 or not size:
        return None
    return Autocorrelation(float(now @ then) / size, float(np.sum(np.square(now - then))) / squares, len(later), every)
