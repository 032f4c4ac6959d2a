"""How well a response of 0 and 1 is predicted: errors at a threshold, ranking, and how probabilities are calibrated."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from facturum.data.values import FloatArray

TENTHS = 10


@dataclass(frozen=True)
class Confusion:
    """How rows are classified at a threshold: those with a predicted probability of at least so much as 1.

    Args:
        threshold: the probability.
        true_zeros, false_ones, false_zeros, true_ones: how many rows.
    """

    threshold: float
    true_zeros: int
    false_ones: int
    false_zeros: int
    true_ones: int

    @property
    def error_rate(self) -> float:
        """The share of rows classified wrongly."""
        wrong = self.false_ones + self.false_zeros
        return wrong / max(wrong + self.true_zeros + self.true_ones, 1)


@dataclass(frozen=True)
class Tenth:
    """A tenth of the rows by their predicted probability: how many, the mean probability, and the share of ones."""

    rows: int
    predicted: float
    observed: float


@dataclass(frozen=True)
class TruthAccuracy:
    """How well a response of 0 and 1 is predicted.

    Args:
        sample: fitted, held out, or not drawn.
        rows: how many.
        base_rate: the share of ones among the rows fitted.
        at_half: how rows are classified at a probability of 0.5.
        at_base: the same at the base rate.
        auc: the probability that a row with a 1 is ranked above one with a 0, ties counting half (Hanley & McNeil
            1982); None where the rows are all alike.
        brier: the mean squared error of the probabilities (Brier 1950).
        log_loss: the mean of minus the log of the probability of what was seen; None where a linear model predicts
            probabilities of 0 or less, or of 1 or more, that leave it undefined.
        outside: in how many rows the prediction is not between 0 and 1.
        calibration: by tenths of the predicted probability, the lowest first.
    """

    sample: str
    rows: int
    base_rate: float
    at_half: Confusion
    at_base: Confusion
    auc: float | None
    brier: float
    log_loss: float | None
    outside: int
    calibration: tuple[Tenth, ...]


def truth_accuracy(sample: str, y: FloatArray, p: FloatArray, base: FloatArray) -> TruthAccuracy:
    """Return how well a response of 0 and 1 is predicted.

    Args:
        sample: what the rows are.
        y: the response, doubles (rows,).
        p: its predicted probability.
        base: the share of ones among the rows that were fitted to predict each.

    Example:
        >>> y, p = np.array([0.0, 0.0, 1.0, 1.0]), np.array([0.1, 0.6, 0.4, 0.9])
        >>> found = truth_accuracy("fitted", y, p, np.full(4, 0.5))
        >>> found.auc, found.at_half.error_rate, round(found.brier, 4)
        (0.75, 0.5, 0.185)
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        losses = -np.where(y > 0, np.log(p), np.log1p(-p))
    outside = int(np.count_nonzero((p < 0) | (p > 1)))
    loss = float("nan") if outside else float(losses.mean())
    order = np.argsort(p, kind="stable")
    tenths = [part for part in np.array_split(order, TENTHS) if len(part)]
    return TruthAccuracy(
        sample,
        len(y),
        float(base.mean()),
        _confusion(y, p, np.full(len(y), 0.5)),
        _confusion(y, p, base),
        _auc(y, p),
        float(np.square(y - p).mean()),
        loss if np.isfinite(loss) else None,
        outside,
        tuple(Tenth(len(part), float(p[part].mean()), float(y[part].mean())) for part in tenths),
    )


def _confusion(y: FloatArray, p: FloatArray, threshold: FloatArray) -> Confusion:
    called, one = p >= threshold, y > 0
    counts = [int(np.count_nonzero(each)) for each in (~called & ~one, called & ~one, ~called & one, called & one)]
    return Confusion(float(threshold.mean()), *counts)


def _auc(y: FloatArray, p: FloatArray) -> float | None:
    """Return it from the ranks of the ones (Mann & Whitney 1947)."""
    ones = int(np.count_nonzero(y > 0))
    zeros = len(y) - ones
    if not ones or not zeros:
        return None
    _, place, counts = np.unique(p, return_inverse=True, return_counts=True)
    ranks = (np.cumsum(counts) - (counts - 1) / 2)[place]
    return float((ranks[y > 0].sum() - ones * (ones + 1) / 2) / (ones * zeros))
