"""What becomes of rows that a trial regression was not fitted to."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from facturum.audit.map.entries import ColumnMap
from facturum.data.table import Table
from facturum.data.values import FloatArray, Kind
from facturum.data.variable import Variable
from facturum.trial.fit.regression import Fit, units_text
from facturum.trial.fit.rows import Rows
from facturum.trial.told.accuracy import Accuracy, Sums
from facturum.trial.told.truth_accuracy import TruthAccuracy, truth_accuracy
from facturum.trial.told.units import RawUnits


@dataclass(frozen=True)
class Outcome:
    """What became of some rows that were not fitted.

    Args:
        y, predicted: the response, and its prediction, doubles (rows,).
        residuals: of the rows fitted, for the smearing correction.
        base: the mean response of the rows fitted.
    """

    y: FloatArray
    predicted: FloatArray
    residuals: FloatArray
    base: float


def of_fitted(rows: Rows, fit: Fit) -> tuple[FloatArray, float]:
    """Return the residuals of rows fitted, and their mean response."""
    y = np.concatenate([block.y for block in rows.blocks()])
    return y - np.concatenate([fit.of(block) for block in rows.blocks()]), float(y.mean())


def accuracy_of(
    outcomes: list[Outcome], columns: ColumnMap, sample: str
) -> tuple[tuple[Accuracy, ...], tuple[TruthAccuracy, ...]]:
    """Return how well rows were predicted: of a response of 0 and 1, of any other."""
    if not outcomes:
        return (), ()
    y, p = (np.concatenate([getattr(each, key) for each in outcomes]) for key in ("y", "predicted"))
    if np.isin(y, (0.0, 1.0)).all():
        base = np.concatenate([np.full(len(each.y), each.base) for each in outcomes])
        return (), (truth_accuracy(sample, y, p, base),)
    parts = [(each.y, each.predicted, each.residuals) for each in outcomes]
    units = RawUnits.of(str(columns.resolved.get("response")))
    return _accuracies(parts, units, units_text(columns), sample), ()


def with_variable(table: Table, name: str, numbers: FloatArray) -> Table:
    """Return a table with one more variable, which selectors pass over."""
    return replace(table, variables={**table.variables, name: Variable(name, Kind.NUMBER, numbers, identity=True)})


def _accuracies(
    parts: list[tuple[FloatArray, FloatArray, FloatArray]], units: RawUnits, text: str, sample: str
) -> tuple[Accuracy, ...]:
    kinds = ["plain", *(["smeared"] if units.changes else [])]
    sums = {kind: Sums() for kind in kinds}
    for y, out, residuals in parts:
        sums["plain"].add(units.undone(y), units.undone(out))
        if units.changes:
            sums["smeared"].add(units.undone(y), units.smeared(out, residuals))
    return tuple(each.accuracy(sample, kind, text) for kind, each in sums.items() if each.rows)
