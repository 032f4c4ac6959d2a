"""Trial regressions on parts of the rows: the whole plan is resolved anew for each."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from facturum.api.design import Design
from facturum.api.plan import Plan
from facturum.data.table import Table, TableLike
from facturum.data.time.calendar import period_text
from facturum.data.time.periods import period_numbers
from facturum.data.values import Array, FloatArray
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.engine.planning.shaping import DATA, Given, declared_tables, shaped_first
from facturum.errors import DataError, FacturumError, FailedRows, bounded, counted, listed, named
from facturum.support.arguments import checked
from facturum.support.notebook_tables import table_html
from facturum.trial.fit.identification import Identification
from facturum.trial.fit.regression import Fit
from facturum.trial.fit.rows import Rows
from facturum.trial.told.accuracy import Accuracy, Sums
from facturum.trial.told.truth_accuracy import TruthAccuracy
from facturum.validation.folds import FOLD, LEFT_OUT, HeldOutParts, parts_of, reads_response
from facturum.validation.forecast_level import Level
from facturum.validation.forecasting import forecast
from facturum.validation.held_out import Outcome, accuracy_of, of_fitted, with_variable


@dataclass(frozen=True)
class Fold:
    """What came of one part held out.

    Args:
        name: of the part.
        fitted, predicted: how many rows.
        rmse: of the rows predicted, in units of the response; None where none is.
    """

    name: str
    fitted: int
    predicted: int
    rmse: float | None


@dataclass(frozen=True)
class Validation:
    """How well rows are predicted that were not fitted.

    Args:
        scheme: in words.
        folds: the parts.
        accuracy: of all rows predicted, plain and smeared; and of forecasts made one from another, where lags of the
            response are read along time.
        truth: of a response of 0 and 1.
        notes: which rows are not predicted, and why, in sentences.
    """

    scheme: str
    folds: tuple[Fold, ...]
    accuracy: tuple[Accuracy, ...]
    truth: tuple[TruthAccuracy, ...] = ()
    notes: tuple[str, ...] = ()

    def __repr__(self) -> str:
        lines = [
            f"{a.kind}: RMSE {a.rmse:.6g}, MAE {a.mae:.6g} in units of {a.units} over {counted(a.rows, 'row')}"
            for a in self.accuracy
        ]
        lines += [f"{a.sample}: AUC {a.auc}, Brier {a.brier:.6g} over {counted(a.rows, 'row')}" for a in self.truth]
        return listed(self.scheme, [*lines, *self.notes])

    def _repr_html_(self) -> str:
        rows = [
            [f.name, f"{f.fitted:,}", f"{f.predicted:,}", "–" if f.rmse is None else f"{f.rmse:.6g}"]
            for f in self.folds[:50]
        ]
        notes = repr(self).splitlines()[1:]
        return table_html(self.scheme, ("part", "rows fitted", "rows predicted", "RMSE"), rows, notes)


@checked
def validate(
    plan: Plan,
    table: TableLike,
    *,
    folds: int | None = None,
    origin_folds: int | None = None,
    leave_one_out: bool = False,
    model: str = "linear",
    seed: int = 0,
    history: TableLike | None = None,
    series: Mapping[str, Any] | None = None,
) -> Validation:
    """Return how well a trial regression predicts rows that it was not fitted to.

    For each part of the learning rows the whole plan is resolved and fitted on the others, and predicts that part.
    Where the plan learns nothing, leaving one out is computed from one factorisation. A table that the plan stacks or
    converts is stacked and converted once, before it is parted. Lags of the response read what was seen; along time
    the accuracy of forecasts made one from another is given besides.

    Args:
        plan: with open questions or none.
        table: the rows.
        folds: how many parts, at random.
        origin_folds: how many stretches along time, the last ones; each is predicted from all rows whose response lies
            before it.
        leave_one_out: whether each row is a part.
        model: linear, logistic or poisson.
        seed: of the random parts.
        history: earlier rows, for operations along time to read.
        series: the tables of the plan's series, instead of their files.

    Raises:
        DataError: where there are more parts than rows, no time, or a fold cannot be built or fitted.

    Example:
        >>> table = {"x": [1.0, 2, 3, 4, 5, 6], "y": [2.1, 3.9, 6.2, 7.8, 10.1, 11.9]}
        >>> validate(Plan("y", {"x": "x"}), table, leave_one_out=True).accuracy[0].rows
        6
    """
    if sum([folds is not None, origin_folds is not None, leave_one_out]) != 1:
        raise DataError("name one way to hold rows out", remedy="Write folds=5, origin_folds=3 or leave_one_out=True.")
    with bounded():
        inputs = plan._inputs.as_found(table, series)
        spec, given = shaped_first(inputs.spec, inputs.given(table, history, series))
        base = Plan._of(spec).build(given.table, history=given.history, series=given.series or None)
        if leave_one_out and not base.columns.learned and model == "linear":
            return left_out_at_once(base)
        learning = base.rows.kept[base.rows.learning] - 1
        parts = parts_of(spec, given, learning, folds, origin_folds, seed)
        return _Folds(spec, given, base, parts, model).validation()


def left_out_at_once(design: Design) -> Validation:
    """Return leaving one out of a design whose plan learns nothing, from the leverage h of each row (Allen 1974).

    The error of a row that was left out is e / (1 - h).
    """
    fit, rows = design._fit()
    outcomes, alone = [], []
    base = float(np.concatenate([block.y for block in rows.blocks()]).mean())
    residuals: list[FloatArray] = []
    for block in rows.blocks():
        leverage = np.square(fit.solution.coordinates(block.X)).sum(axis=1)
        residual = block.y - fit.of(block)
        possible = leverage < 1 - 1e-9
        alone += block.numbers[~possible].tolist()
        left_out = residual[possible] / (1 - leverage[possible])
        residuals.append(left_out)
        outcomes.append((block.y[possible], block.y[possible] - left_out))
    whole = np.concatenate(residuals)
    made = [Outcome(y, out, whole, base) for y, out in outcomes]
    accuracy, truth = accuracy_of(made, design.columns, "held out")
    rows_alone = named([str(row) for row in alone], 5)
    notes = [f"Not predicted: {counted(len(alone), 'row')} ({rows_alone}), which alone determine a coefficient."]
    scheme = f"leaving out each of {counted(fit.solution.rows, 'row')}, from one factorisation"
    return Validation(scheme, (), accuracy, truth, tuple(notes if alone else []))


@dataclass(frozen=True)
class _Folds:
    spec: PlanSpec
    given: Given
    base: Design
    parts: HeldOutParts
    model: str

    def validation(self) -> Validation:
        """Return how well each part is predicted.

        Raises:
            DataError: where no row is.
        """
        columns = self.base.columns
        outcomes: list[Outcome] = []
        recursive: list[tuple[FloatArray, FloatArray]] = []
        folds, notes = [], _Notes()
        for at, name in enumerate(self.parts.names):
            if not name:
                continue
            made = self._made(at, notes)
            if made is None:
                folds.append(Fold(name, 0, 0, None))
                continue
            design, fit, outcome = made
            accuracy = accuracy_of([outcome], columns, "held out")[0] if len(outcome.y) else ()
            rmse = accuracy[0].rmse if accuracy else self._brier_root(outcome)
            folds.append(Fold(name, fit.solution.rows, len(outcome.y), rmse))
            if len(outcome.y):
                outcomes.append(outcome)
            if self.parts.along_time and self.model == "linear" and reads_response(self.spec):
                recursive += self._recursive(at, design, notes)
        if not outcomes:
            told = " ".join(notes.texts()) or "Their columns are missing where the plan is learned without them."
            raise DataError(f"no row is predicted ({self.parts.scheme})", remedy=told)
        accuracy, truth = accuracy_of(outcomes, columns, "held out")
        if recursive:
            accuracy = (*accuracy, self._of_recursion(recursive))
        return Validation(self.parts.scheme, tuple(folds), accuracy, truth, tuple(notes.texts()))

    @staticmethod
    def _brier_root(outcome: Outcome) -> float | None:
        return float(np.sqrt(np.square(outcome.y - outcome.predicted).mean())) if len(outcome.y) else None

    def _made(self, at: int, notes: _Notes) -> tuple[Design, Fit, Outcome] | None:
        """Return the design and the fit without a part, and what it predicts of that; None where there is none."""
        left_out = np.zeros(0, dtype=np.int64)
        while True:
            try:
                design = self._design(at, left_out)
                fit, rows = design._fit(self.model, to_the_last_digit=False)
                break
            except FailedRows as failed:
                inside = np.setdiff1d(failed.numbers[self.parts.of_row[failed.numbers - 1] == at], left_out)
                if not len(inside):
                    raise self._told(at, failed) from None
                notes.add(inside, failed.alone)
                left_out = np.union1d(left_out, inside)
            except FacturumError as error:
                if len(self.parts.names) < len(self.base.rows.kept[self.base.rows.learning]):
                    raise self._told(at, error) from None
                notes.add(np.flatnonzero(self.parts.of_row == at) + 1, error.what)  # a part of one row
                return None
        learning = self.base.rows.kept[self.base.rows.learning]
        wanted = learning[self.parts.of_row[learning - 1] == at]
        chosen = np.isin(design.rows.kept, wanted)
        y, out = _predicted(rows, fit)
        known = Identification.of(rows, rows.factor(), fit.solution.columns)
        identified = np.concatenate([known.predicts(block.X) for block in rows.read()])
        alone = design.rows.kept[chosen & ~identified]
        if len(alone):
            notes.add(alone, "a column has no coefficient without them")
            left_out = np.union1d(left_out, alone)
        some = chosen & identified & ~np.isnan(y) & ~np.isnan(out)
        gone = np.setdiff1d(np.setdiff1d(wanted, design.rows.kept[some]), left_out)
        if len(gone):
            notes.add(gone, "a value is missing where the plan is learned without them")
        residuals, base = of_fitted(rows, fit)
        return design, fit, Outcome(y[some], out[some], residuals, base)

    def _told(self, at: int, error: FacturumError) -> DataError:
        remedy = error.remedy or "Pool rare categories, or write unseen='pool' or fewer folds."
        what = f"{self.parts.names[at]}: {error.what}"
        return DataError(what, place=error.place, text=error.text, span=error.span, remedy=remedy)

    def _design(self, at: int, left_out: Array) -> Design:
        """Return the design that is learned without a part."""
        history = self._history()
        numbers = self.parts.trained_with.copy()
        numbers[left_out - 1] = LEFT_OUT
        table = with_variable(self.given.table, FOLD, numbers)
        condition = f"{FOLD} {'<' if self.parts.along_time else '!='} {at}"
        own = self.spec.rows
        learn = condition if own.learn is None else f"({own.learn}) and {condition}"
        keep = own.keep if not len(left_out) else f"{FOLD} != {LEFT_OUT:g}" + (f" and ({own.keep})" if own.keep else "")
        rows = own.model_copy(update={"learn": learn, "keep": keep})
        plan = Plan._of(self.spec.model_copy(update={"rows": rows})).with_checks("off")
        return plan.build(table, history=history, series=self.given.series or None)

    def _history(self) -> Table | None:
        earlier = self.given.history
        return None if earlier is None else with_variable(earlier, FOLD, np.full(earlier.length, -1.0))

    def _recursive(self, at: int, design: Design, notes: _Notes) -> list[tuple[FloatArray, FloatArray]]:
        """Return what is seen in a stretch, and its forecasts one from another, in units of the source."""
        timing = self.spec.data.timing
        level = Level.of(str(self.spec.response))
        if timing is None or timing.time is None or level is None or level.horizon:
            return []
        declared = declared_tables(self.spec, self.given)[DATA]
        periods = period_numbers(declared[timing.time].data, timing.every)
        start = self.parts.starts[at - 1]
        before, stretch = periods < start, (periods >= start) & (periods < start + self.parts.periods)
        source = level.units.source
        if source not in self.given.table or not stretch.any():
            return []
        table, history = with_variable(self.given.table, FOLD, self.parts.trained_with), self._history()
        future = table.take(np.flatnonzero(stretch))
        known = replace(future, variables={k: v for k, v in future.variables.items() if k not in (source, FOLD)})
        try:
            found = forecast(
                design, table.take(np.flatnonzero(before)), self.parts.periods, future=known,
                history=history, series=self.given.series or None,
            )  # fmt: skip
        except FacturumError as error:
            notes.say(f"No forecasts one from another {self.parts.names[at]}: {error.what}.")
            return []
        own = {(each.unit, each.period): each.forecast for each in found.of}
        panel = [declared[name] for name in timing.panel]
        variable = declared[source]
        missing = variable.missing_rows()
        pairs = []
        for row in np.flatnonzero(stretch & ~missing).tolist():
            unit = ", ".join(each.text_of(each.data[row]) for each in panel)
            key = unit, period_text(int(periods[row]), timing.every)
            if key in own:
                pairs.append((float(variable.data[row]), own[key]))
        seen = np.array(pairs).reshape(-1, 2)
        return [(seen[:, 0], seen[:, 1])] if len(seen) else []

    def _of_recursion(self, recursive: list[tuple[FloatArray, FloatArray]]) -> Accuracy:
        level = Level.of(str(self.spec.response))
        sums = Sums()
        for y, out in recursive:
            sums.add(y, out)
        return sums.accuracy("held out", "one from another", level.units.source if level else "")


class _Notes:
    """Which rows are not predicted, by reason."""

    def __init__(self) -> None:
        self._rows: dict[str, list[int]] = {}
        self._said: dict[str, None] = {}

    def add(self, rows: Array, why: str) -> None:
        """Take in rows that are not predicted."""
        self._rows.setdefault(why, []).extend(rows.tolist())

    def say(self, text: str) -> None:
        """Take in a sentence."""
        self._said[text] = None

    def texts(self) -> list[str]:
        """Return the sentences."""
        told = [
            f"Not predicted: {counted(len(set(rows)), 'row')} ({named([str(row) for row in sorted(set(rows))], 5)}): "
            f"{why}."
            for why, rows in self._rows.items()
        ]
        return [*told, *self._said]


def _predicted(rows: Rows, fit: Fit) -> tuple[FloatArray, FloatArray]:
    pairs = [(block.y, fit.of(block)) for block in rows.read()]
    return np.concatenate([y for y, _ in pairs]), np.concatenate([out for _, out in pairs])
