"""Trial regressions on parts of the rows: the whole plan is resolved anew for each."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from facturum.arguments import checked
from facturum.data.grouping import group_numbers
from facturum.data.table import Table
from facturum.data.time.calendar import period_text
from facturum.data.time.series import period_numbers
from facturum.data.values import Array, FloatArray, Kind
from facturum.data.variable import Variable
from facturum.design import Design
from facturum.engine.planning.shaping import DATA, Given, declared_tables, shaped_first
from facturum.engine.planning.spec import PlanSpec
from facturum.errors import DataError, FacturumError, bounded, counted, listed
from facturum.notebook import table_html
from facturum.plan import Plan
from facturum.trial.accuracy import Accuracy, Sums
from facturum.trial.regression import Fit
from facturum.trial.rows import Rows
from facturum.trial.solving import names_of
from facturum.trial.units import RawUnits

FOLD, DRAW = "fold_of_validation", "draw_of_resample"  # variables that are added to the table
MAX_REFITS = 2_000


@dataclass(frozen=True)
class Fold:
    """What came of one part held out.

    Args:
        name: of the part.
        fitted, predicted: how many rows.
        rmse: of the rows predicted, in raw units.
    """

    name: str
    fitted: int
    predicted: int
    rmse: float


@dataclass(frozen=True)
class Validation:
    """How well rows are predicted that were not fitted.

    Args:
        scheme: in words.
        folds: the parts.
        accuracy: of all rows predicted, in raw units, plain and smeared.
    """

    scheme: str
    folds: tuple[Fold, ...]
    accuracy: tuple[Accuracy, ...]

    def __repr__(self) -> str:
        lines = [f"{a.kind}: RMSE {a.rmse:.6g}, MAE {a.mae:.6g} over {counted(a.rows, 'row')}" for a in self.accuracy]
        return listed(self.scheme, lines)

    def _repr_html_(self) -> str:
        rows = [[f.name, f"{f.fitted:,}", f"{f.predicted:,}", f"{f.rmse:.6g}"] for f in self.folds[:50]]
        notes = repr(self).splitlines()[1:]
        return table_html(self.scheme, ("part", "rows fitted", "rows predicted", "RMSE"), rows, notes)


@dataclass(frozen=True)
class Interval:
    """A coefficient over resampled tables: percentile interval, and in how many of them it could be estimated."""

    name: str
    estimate: float
    low: float
    high: float
    samples: int


@checked
def validate(
    plan: Plan,
    table: Any,
    *,
    folds: int | None = None,
    origin_folds: int | None = None,
    leave_one_out: bool = False,
    model: str = "linear",
    seed: int = 0,
    history: Any = None,
    series: Mapping[str, Any] | None = None,
) -> Validation:
    """Return how well a trial regression predicts rows that it was not fitted to.

    For each part of the learning rows the whole plan is resolved and fitted on the others, and predicts that part.
    Where the plan learns nothing, leaving one out is computed from one factorisation. A table that the plan stacks or
    converts is stacked and converted once, before it is parted. Lags of the response read what was seen.

    Args:
        plan: with open questions or none.
        table: the rows.
        folds: how many parts, at random.
        origin_folds: how many stretches along time, the last ones; each is predicted from all rows before it.
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
        spec, given = shaped_first(plan.spec, plan.given(table, history, series))
        base = Plan.of(spec).build(given.table, history=given.history, series=given.series or None)
        if leave_one_out and not base.columns.learned and model == "linear":
            return left_out_at_once(base)
        learning = base.rows.kept[base.rows.learning] - 1
        parts, names, scheme = _parts(spec, given, learning, folds, origin_folds, seed)
        work = _Folds(spec, given, base, parts, names, origin_folds is not None, model)
        return work.validation(scheme)


@checked
def resample(
    plan: Plan, table: Any, samples: int = 200, *, model: str = "linear", seed: int = 0,
    series: Mapping[str, Any] | None = None,
) -> list[Interval]:  # fmt: skip
    """Return percentile intervals of coefficients over tables of rows drawn with replacement (Efron 1979).

    The whole plan is resolved anew for each table; it is meant for small ones. Of a plan with a time and a panel whole
    units are drawn, each with all its periods (Cameron, Gelbach & Miller 2008, "pairs cluster bootstrap").

    Args:
        plan: with open questions or none.
        table: the rows.
        samples: how many tables.
        model: linear, logistic or poisson.
        seed: of the draws.
        series: the tables of the plan's series, instead of their files.

    Raises:
        DataError: where the plan works along time in one unit, or fewer than half of the tables can be fitted.

    Example:
        >>> table = {"x": [1.0, 2, 3, 4, 5, 6], "y": [2.1, 3.9, 6.2, 7.8, 10.1, 11.9]}
        >>> [each.name for each in resample(Plan("y", {"x": "x"}), table, 20)]
        ['intercept', 'x']
    """
    if not 2 <= samples <= MAX_REFITS:
        raise DataError(f"{samples} tables are not possible", remedy=f"Write a number from 2 to {MAX_REFITS:,}.")
    with bounded():
        draws = _Draws.of(plan, table, series)
        base, names = _fitted(plan.build(table, series=series), model, True)
        dice = np.random.default_rng(seed)
        drawn: list[dict[str, float]] = []
        for _ in range(samples):
            try:
                fit, own = _fitted(draws.design(dice), model)
                drawn.append(dict(zip(own, fit.solution.coefficients.tolist(), strict=True)))
            except FacturumError:  # such as a category that was not drawn
                continue
        if 2 * len(drawn) < samples:
            raise DataError(
                f"only {len(drawn)} of {samples} resampled tables could be fitted", remedy="Pool rare categories."
            )
        return [_interval(name, value, drawn) for name, value in zip(names, base.solution.coefficients, strict=True)]


@dataclass(frozen=True)
class _Draws:
    """What tables are drawn from.

    Args:
        plan: with the number of the draw in its panel, where whole units are drawn.
        given: the tables.
        units: the rows of each, where whole units are drawn.
    """

    plan: Plan
    given: Given
    units: tuple[Array, ...] = ()

    @classmethod
    def of(cls, plan: Plan, table: Any, series: Mapping[str, Any] | None) -> _Draws:
        given = plan.given(table, series=series)
        if plan.spec.data.timing is None:
            return cls(plan.with_checks("off"), given)
        spec, given = shaped_first(plan.spec, given)
        declared = declared_tables(spec, given)[DATA]
        unit = group_numbers([declared[name] for name in spec.data.panel], declared.length)
        order = np.argsort(unit, kind="stable")
        units = tuple(np.split(order, np.flatnonzero(np.diff(unit[order])) + 1))
        if len(units) < 2:
            raise DataError(
                "rows cannot be drawn from a single series over time",
                remedy="Use --origin-folds, or name the units as [data] panel: whole units are drawn.",
            )
        if DRAW in given.table:
            raise DataError(
                f"'{DRAW}' is a variable of the table", remedy="Give it another name: draws are held in it."
            )
        data = spec.data.model_copy(update={"panel": [*spec.data.panel, DRAW]})
        return cls(Plan.of(spec.model_copy(update={"data": data})).with_checks("off"), given, units)

    def design(self, dice: np.random.Generator) -> Design:
        """Return the design of a table drawn at random."""
        table = self.given.table
        if not self.units:
            drawn = table.take(np.sort(dice.integers(0, table.length, table.length)))
        else:
            units = [self.units[unit] for unit in dice.integers(0, len(self.units), len(self.units))]
            numbers = np.repeat(np.arange(len(units), dtype=np.float64), [len(unit) for unit in units])
            drawn = _with(table.take(np.concatenate(units)), DRAW, numbers)
        return self.plan.build(drawn, series=self.given.series or None)


def _fitted(design: Design, model: str, to_the_last_digit: bool = False) -> tuple[Fit, list[str]]:
    """Return the coefficients of a design, and their names."""
    fit, rows = design.fit(model, to_the_last_digit=to_the_last_digit)
    return fit, names_of(rows, fit.solution.columns)


def _interval(name: str, estimate: float, drawn: list[dict[str, float]]) -> Interval:
    values = [each[name] for each in drawn if name in each]
    low, high = np.quantile(values, [0.025, 0.975]) if values else (np.nan, np.nan)
    return Interval(name, float(estimate), float(low), float(high), len(values))


def left_out_at_once(design: Design) -> Validation:
    """Return leaving one out of a design whose plan learns nothing, from the leverage h of each row (Allen 1974).

    The error of a row that was left out is e / (1 - h).
    """
    fit, rows = design.fit()
    units = rows.units
    actual, predicted = [], []
    for block in rows.blocks():
        leverage = np.square(fit.solution.coordinates(block.X)).sum(axis=1)
        residual = block.y - fit.of(block)
        with np.errstate(all="ignore"):
            predicted.append(np.where(leverage < 1 - 1e-12, block.y - residual / (1 - leverage), np.nan))
        actual.append(block.y)
    y, out = np.concatenate(actual), np.concatenate(predicted)
    known = ~np.isnan(out)
    accuracy = _accuracies([(y[known], out[known], y[known] - out[known])], units)
    return Validation(f"leaving out each of {counted(len(y), 'row')}, from one factorisation", (), accuracy)


def _parts(
    spec: PlanSpec, given: Given, learning: Array, folds: int | None, origin_folds: int | None, seed: int
) -> tuple[FloatArray, list[str], str]:
    """Return the part of each row of the table, the names of the parts to predict, and the scheme in words."""
    if FOLD in given.table:
        raise DataError(f"'{FOLD}' is a variable of the table", remedy="Give it another name: folds are held in it.")
    part = np.full(given.table.length, -1.0)
    if origin_folds is not None:
        return _along_time(spec, given, learning, origin_folds, part)
    count = len(learning) if folds is None else folds
    if not 2 <= count <= min(len(learning), MAX_REFITS):
        raise DataError(
            f"{count:,} parts of {counted(len(learning), 'learning row')} are not possible",
            remedy=f"Write folds from 2 to {min(len(learning), MAX_REFITS):,}.",
        )
    order = np.random.default_rng(seed).permutation(learning)
    part[order] = np.arange(len(order)) % count
    what = "leaving out each row" if folds is None else f"{count} parts at random (seed {seed})"
    return part, [f"part {at + 1}" for at in range(count)], f"{what}, the plan resolved anew for each"


def _along_time(
    spec: PlanSpec, given: Given, learning: Array, count: int, part: FloatArray
) -> tuple[FloatArray, list[str], str]:
    timing = spec.data.timing
    if timing is None or timing.time is None or timing.every == "row":
        raise DataError("folds along time need a time", remedy="Write [data] time and every, or use folds.")
    time = declared_tables(spec, given)[DATA][timing.time]
    numbers = period_numbers(time.data, timing.every)
    periods = np.unique(numbers[learning])
    size = len(periods) // (count + 1)
    if count < 1 or size < 1:
        raise DataError(
            f"{count:,} stretches of {counted(len(periods), 'period')} are not possible",
            remedy=f"Write origin_folds from 1 to {max(len(periods) - 1, 1):,}.",
        )
    starts = periods[[len(periods) - size * (count - at) for at in range(count)]]
    part[:] = np.searchsorted(starts, numbers, side="right")
    names = [f"from {period_text(int(start), timing.every)}" for start in starts]
    return part, ["", *names], f"{count} stretches along time, each predicted from all rows before it"


@dataclass(frozen=True)
class _Folds:
    spec: PlanSpec
    given: Given
    base: Design
    parts: FloatArray
    names: list[str]
    along_time: bool
    model: str

    def validation(self, scheme: str) -> Validation:
        units = RawUnits.of(str(self.base.columns.resolved.get("response")))
        outcomes = [each for at, name in enumerate(self.names) if name for each in self._fold(at)]
        folds = []
        for name, fitted, (y, out, residuals) in outcomes:
            accuracy = _accuracies([(y, out, residuals)], units)
            folds.append(Fold(name, fitted, len(y), accuracy[0].rmse if accuracy else float("nan")))
        return Validation(scheme, tuple(folds), _accuracies([pair for _, _, pair in outcomes], units))

    def _fold(self, at: int) -> Iterator[tuple[str, int, tuple[FloatArray, FloatArray, FloatArray]]]:
        """Yield a part's name, how many rows were fitted, and its responses, predictions and the residuals of these."""
        name = self.names[at]
        try:
            earlier = self.given.history
            history = None if earlier is None else _with(earlier, FOLD, np.full(earlier.length, -1.0))
            table = _with(self.given.table, FOLD, self.parts)
            design = self._plan(at).build(table, history=history, series=self.given.series or None)
            fit, rows = design.fit(self.model, to_the_last_digit=False)
        except FacturumError as error:
            remedy = error.remedy or "Pool rare categories, or write unseen='pool' or fewer folds."
            what = f"{name}: {error.what}"
            raise DataError(what, place=error.place, text=error.text, span=error.span, remedy=remedy) from None
        learning = np.isin(design.rows.kept, self.base.rows.kept[self.base.rows.learning])
        chosen = learning & (self.parts[design.rows.kept - 1] == at)
        y, out = _predicted(rows, fit)
        some = chosen & ~np.isnan(y) & ~np.isnan(out)
        residuals = np.concatenate([block.y - fit.of(block) for block in rows.blocks()])
        if some.any():
            yield name, fit.solution.rows, (y[some], out[some], residuals)

    def _plan(self, at: int) -> Plan:
        condition = f"{FOLD} {'<' if self.along_time else '!='} {at}"
        learn = condition if self.spec.rows.learn is None else f"({self.spec.rows.learn}) and {condition}"
        rows = self.spec.rows.model_copy(update={"learn": learn})
        return Plan.of(self.spec.model_copy(update={"rows": rows})).with_checks("off")


def _with(table: Table, name: str, numbers: FloatArray) -> Table:
    """Return a table with one more variable, which selectors pass over."""
    return replace(table, variables={**table.variables, name: Variable(name, Kind.NUMBER, numbers, identity=True)})


def _predicted(rows: Rows, fit: Fit) -> tuple[FloatArray, FloatArray]:
    pairs = [(block.y, fit.of(block)) for block in rows.read()]
    return np.concatenate([y for y, _ in pairs]), np.concatenate([out for _, out in pairs])


def _accuracies(parts: list[tuple[FloatArray, FloatArray, FloatArray]], units: RawUnits) -> tuple[Accuracy, ...]:
    kinds = ["plain", *(["smeared"] if units.changes else [])]
    sums = {kind: Sums() for kind in kinds}
    for y, out, residuals in parts:
        sums["plain"].add(units.undone(y), units.undone(out))
        if units.changes:
            sums["smeared"].add(units.undone(y), units.smeared(out, residuals))
    return tuple(each.accuracy("held out", kind) for kind, each in sums.items() if each.rows)
