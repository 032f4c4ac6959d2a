"""How far fitted values are from the response, in raw units, for rows fitted and rows held out."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from facturum.data.values import FloatArray
from facturum.trial.fit.rows import Block, Rows
from facturum.trial.told.truth_accuracy import TruthAccuracy, truth_accuracy
from facturum.trial.told.units import RawUnits

Prediction = Callable[[Block], FloatArray]
_FEW = 200_000  # residuals that the smearing correction is the mean of; evenly spaced ones of more


@dataclass(frozen=True)
class Accuracy:
    """How far fitted values are from the response.

    Args:
        sample: fitted or held out.
        kind: plain, or smeared for expected values of a transformed response.
        rows: how many.
        rmse, mae: the root mean square and the mean absolute error, in raw units.
        mape: the mean absolute error in percent of the response; None where that is 0 or less in some row.
        r2: the share of the variance of the raw response that is explained.
        units: what they are in units of.
    """

    sample: str
    kind: str
    rows: int
    rmse: float
    mae: float
    mape: float | None
    r2: float | None
    units: str = ""


class Sums:
    """Sums of errors, row by row."""

    def __init__(self) -> None:
        self.rows = 0
        self.squares = self.sizes = self.shares = self.total = self.total_squares = 0.0
        self.mean = 0.0
        self.zero = False

    def add(self, y: FloatArray, fitted: FloatArray) -> None:
        if not len(y):
            return
        with np.errstate(over="ignore", invalid="ignore"):
            self._add(y, fitted)

    def _add(self, y: FloatArray, fitted: FloatArray) -> None:
        apart = y - fitted
        self.squares += float(apart @ apart)
        self.sizes += float(np.abs(apart).sum())
        if self.zero or not (y > 0).all():
            self.zero = True
        else:
            self.shares += float(np.abs(apart / y).sum())
        count, mean = len(y), float(y.mean())
        away = y - mean
        self.total_squares += float(away @ away) + (mean - self.mean) ** 2 * self.rows * count / (self.rows + count)
        self.mean += (mean - self.mean) * count / (self.rows + count)
        self.rows += count

    def accuracy(self, sample: str, kind: str, units: str = "") -> Accuracy:
        rows = max(self.rows, 1)
        return Accuracy(
            sample,
            kind,
            self.rows,
            float(np.sqrt(self.squares / rows)),
            self.sizes / rows,
            None if self.zero else 100 * self.shares / rows,
            1 - self.squares / self.total_squares if self.total_squares > 0 else None,
            units,
        )


def accuracies(
    rows: Rows, predicted: Prediction, units: RawUnits, residuals: FloatArray, text: str
) -> Iterator[Accuracy]:
    """Yield the accuracy of rows fitted and held out, plain and with the smearing correction.

    Args:
        rows: all of them.
        predicted: the fitted response of a block.
        units: how the response is brought back into raw units.
        residuals: of rows fitted, for the smearing correction.
        text: what the response is in units of.
    """
    kinds = ["plain", *(["smeared"] if units.changes else [])]
    sums = {(sample, kind): Sums() for sample in ("fitted", "held out") for kind in kinds}
    for block in rows.read():
        complete = rows.complete(block)
        fitted_rows = rows.fitted(block)
        for sample, chosen in (("fitted", fitted_rows), ("held out", complete & ~fitted_rows)):
            part = block.of(chosen)
            if not len(part.y):
                continue
            linear, raw = predicted(part), units.undone(part.y)
            sums[sample, "plain"].add(raw, units.undone(linear))
            if units.changes:
                sums[sample, "smeared"].add(raw, units.smeared(linear, residuals))
    for (sample, kind), each in sums.items():
        if each.rows:
            yield each.accuracy(sample, kind, text)


def residuals_of(rows: Rows, predicted: Prediction) -> FloatArray:
    """Return residuals of rows fitted, evenly spaced ones of many."""
    step = max(rows.columns.rows.kept // _FEW, 1)
    parts = [(block.y - predicted(block))[::step] for block in rows.blocks() if len(block.y)]
    return np.concatenate(parts) if parts else np.zeros(0)


def truth_accuracies(rows: Rows, predicted: Prediction) -> Iterator[TruthAccuracy]:
    """Yield how well a response of 0 and 1 is predicted, in rows fitted and held out; nothing for other responses.

    Args:
        rows: all of them.
        predicted: the fitted response of a block.
    """
    actual: dict[str, list[FloatArray]] = {"fitted": [], "held out": []}
    chances: dict[str, list[FloatArray]] = {"fitted": [], "held out": []}
    for block in rows.read():
        fitted_rows = rows.fitted(block)
        for sample, chosen in (("fitted", fitted_rows), ("held out", rows.complete(block) & ~fitted_rows)):
            part = block.of(chosen)
            if not np.isin(part.y, (0.0, 1.0)).all():
                return
            if len(part.y):
                actual[sample].append(part.y)
                chances[sample].append(predicted(part))
    base = float(np.concatenate(actual["fitted"]).mean())
    for sample, parts in actual.items():
        if parts:
            y = np.concatenate(parts)
            yield truth_accuracy(sample, y, np.concatenate(chances[sample]), np.full(len(y), base))
