"""The trial regression: coefficients with standard errors and intervals, joint tests, effects in words, accuracy."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from facturum.data.values import FloatArray
from facturum.errors import AuditError, DataError, counted, listed
from facturum.language.reading import Holds, Indicator, Logged, NoValue
from facturum.language.structures import reading_of
from facturum.trial.accuracy import Accuracy, accuracies, residuals_of
from facturum.trial.composition import Composition
from facturum.trial.covariances import ErrorKind, Meat, meat
from facturum.trial.effect_text import Response
from facturum.trial.effects import Effect, Effects
from facturum.trial.likelihood import FAMILIES, maximise
from facturum.trial.rows import Block, Rows
from facturum.trial.solving import Solution, names_of, solve
from facturum.trial.units import RawUnits

MODELS = ("linear", "logistic", "poisson")
_MOST = 250_000  # values that quartiles are taken of; evenly spaced ones of more


@dataclass(frozen=True)
class Coefficient:
    """A coefficient: its estimate, its standard error, and what follows from them."""

    name: str
    term: str
    estimate: float
    error: float
    t: float
    p: float
    low: float
    high: float


@dataclass(frozen=True)
class TermTest:
    """The joint test that all coefficients of a term are 0."""

    term: str
    columns: int
    statistic: float
    p: float


@dataclass(frozen=True)
class Trial:
    """A trial regression.

    Args:
        response: its name.
        model: linear, logistic or poisson.
        errors: how standard errors were computed.
        rows: how many were fitted.
        degrees_of_freedom: of the tests.
        coefficients: in the order of the columns.
        terms: joint tests.
        effects: what coefficients mean, with their numbers.
        accuracy: in raw units.
        left_out: columns without a coefficient, which are linear combinations of others.
        sigma: the standard deviation of the errors; None of a likelihood.
        r2, adjusted: the share of the variance explained, of a likelihood that of the deviance.
        covariance: of the coefficients.
    """

    response: str
    model: str
    errors: str
    rows: int
    degrees_of_freedom: int
    coefficients: tuple[Coefficient, ...]
    terms: tuple[TermTest, ...]
    effects: tuple[Effect, ...]
    accuracy: tuple[Accuracy, ...]
    left_out: tuple[str, ...]
    sigma: float | None
    r2: float | None
    adjusted: float | None
    covariance: FloatArray = field(repr=False, compare=False)  # which all else follows from

    def __getitem__(self, name: str) -> Coefficient:
        for each in self.coefficients:
            if each.name == name:
                return each
        raise AuditError(
            f"'{name}' has no coefficient", remedy="They are " + ", ".join(c.name for c in self.coefficients)
        )

    @property
    def title(self) -> str:
        """What was fitted, in a line."""
        how = {"linear": "least squares", "logistic": "logistic regression", "poisson": "Poisson regression"}[
            self.model
        ]
        return f"{self.response} by {how} on {counted(self.rows, 'row')}, standard errors {self.errors}"

    def __repr__(self) -> str:
        return listed(self.title, (f"{c.name} {c.estimate:.6g} ({c.error:.3g})" for c in self.coefficients))

    def _repr_html_(self) -> str:
        from facturum.notebook import table_html

        heads = ("column", "estimate", "standard error", "t", "p", "95 % from", "to")
        rows = [
            [c.name, *(f"{v:.6g}" for v in (c.estimate, c.error, c.t, c.p, c.low, c.high))] for c in self.coefficients
        ]
        return table_html(self.title, heads, rows, [effect.text for effect in self.effects])


@dataclass(frozen=True)
class Fit:
    """A fitted solution with what predictions need.

    Args:
        solution: the coefficients.
        model: linear, logistic or poisson.
    """

    solution: Solution
    model: str

    def predicted(self, X: FloatArray) -> FloatArray:  # noqa: N803 - the field's standard name
        """Return the expected response of rows, on the scale that was fitted."""
        linear = self.solution.predicted(X)
        return linear if self.model == "linear" else FAMILIES[self.model].mean(linear)

    def of(self, block: Block) -> FloatArray:
        """Return the expected response of a block."""
        return self.predicted(block.X)


def run_trial(rows: Rows, model: str, errors: ErrorKind) -> tuple[Trial, Fit]:
    """Fit a design, and return what came out.

    Raises:
        DataError: where there is no response, or it does not fit the model; where there are too few rows.
    """
    refuse_response(rows, model)
    if model == "linear":
        solution = solve(rows)
        fit = Fit(solution, model)
        r2 = None if solution.total == 0 else 1 - solution.squares / solution.total
        sigma: float | None = float(np.sqrt(solution.variance))
    else:
        if errors.kind == "hc3":
            raise DataError("hc3 belongs to least squares", remedy="Write hc1, or ordinary.")
        found = maximise(rows, FAMILIES[model])
        solution, fit, sigma = found.solution, Fit(found.solution, model), None
        r2 = None if found.null == 0 else 1 - found.deviance / found.null
    spread = meat(rows, solution, errors, lambda block: block.y - fit.of(block))
    covariance = (
        solution.inverse @ solution.inverse.T
        if model != "linear" and spread.matrix is None
        else solution.covariance(spread.matrix)
    )
    return _told(rows, fit, spread, covariance, sigma, r2), fit


def fitted(rows: Rows, model: str, to_the_last_digit: bool = True) -> Fit:
    """Return the fit alone, without standard errors and accuracy.

    Args:
        rows: the design.
        model: linear, logistic or poisson.
        to_the_last_digit: whether a least-squares solution is refined where ten digits would do.

    Raises:
        DataError: as `run_trial` does.
    """
    refuse_response(rows, model)
    if model != "linear":
        return Fit(maximise(rows, FAMILIES[model]).solution, model)
    return Fit(solve(rows, to_the_last_digit), model)


def refuse_response(rows: Rows, model: str) -> None:
    """Refuse a design without one response, and a model that is not known.

    Raises:
        DataError: where it is so.
    """
    if model not in MODELS:
        raise DataError(f"'{model}' is not a model", remedy="Write " + ", ".join(MODELS) + ".")
    responses = [entry for entry in rows.columns.columns if entry.role == "response"]
    if len(responses) == 1:
        return
    if not responses:
        raise DataError("the build has no response to fit", remedy='Write response = ".." in the plan, and build anew.')
    raise DataError(
        f"the response has {len(responses)} columns, one for each category",
        remedy="Write a condition as the response, such as \"access == 'road'\", and build anew.",
    )


def _told(rows: Rows, fit: Fit, spread: Meat, covariance: FloatArray, sigma: float | None, r2: float | None) -> Trial:
    solution = fit.solution
    errors = np.sqrt(np.maximum(np.diagonal(covariance), 0.0))
    quantile = t_quantile(spread.degrees_of_freedom) if fit.model == "linear" else t_quantile(None)
    response = next(entry for entry in rows.columns.columns if entry.role == "response")
    units = rows.units
    names = names_of(rows, solution.columns)
    entries = {entry.name: entry for entry in rows.columns.columns}
    free = spread.degrees_of_freedom if fit.model == "linear" else None
    coefficients = tuple(
        Coefficient(
            name,
            entries[name].term if name in entries else name,
            float(value),
            float(error),
            float(value / error) if error > 0 else float("inf"),
            p_value(float(value / error), free) if error > 0 else 0.0,
            float(value - quantile * error),
            float(value + quantile * error),
        )
        for name, value, error in zip(names, solution.coefficients, errors, strict=True)
    )
    first = 1 if rows.intercept else 0
    composition = Composition(tuple(entries[rows.names[at]] for at in solution.columns))
    effects = Effects(
        composition,
        solution.coefficients[first:],
        covariance[first:, first:],
        quantile,
        _response_of(response.structure, units, fit.model, response.name),
        _quartiles(rows, composition.quartile_columns()),
    )
    adjusted = None
    if r2 is not None and fit.model == "linear":
        adjusted = 1 - (1 - r2) * (solution.rows - first) / solution.degrees_of_freedom
    return Trial(
        response.name,
        fit.model,
        spread.text,
        solution.rows,
        spread.degrees_of_freedom,
        coefficients,
        tuple(_tests([c.term for c in coefficients], solution.coefficients, covariance, free)),
        tuple(effects.all()),
        tuple(accuracies(rows, fit.of, units, residuals_of(rows, fit.of))),
        tuple(name for at, name in enumerate(rows.names) if at not in solution.columns),
        sigma,
        r2,
        adjusted,
        covariance,
    )


def _tests(terms: Sequence[str], coefficients: FloatArray, covariance: FloatArray, free: int | None) -> list[TermTest]:
    """Return Wald's test of each term: F, or chi squared over its degrees of freedom for a likelihood."""
    tests = []
    for term in dict.fromkeys(terms):
        at = [place for place, each in enumerate(terms) if each == term]
        if term == "intercept":
            continue
        own = covariance[np.ix_(at, at)]
        try:
            statistic = float(coefficients[at] @ np.linalg.solve(own, coefficients[at])) / len(at)
        except np.linalg.LinAlgError:
            continue
        tests.append(TermTest(term, len(at), statistic, f_tail(statistic, len(at), free)))
    return tests


def _response_of(structure: dict[str, object] | None, units: RawUnits, model: str, name: str) -> Response:
    reading = reading_of(structure) if structure else None
    if model == "logistic":
        return Response(f"{getattr(reading, 'subject', name)}", "odds")
    if model == "poisson" or isinstance(reading, Logged):
        source = units.source if not units.shift else f"{units.source} + {units.shift:g}"
        return Response(source if units.how == "log" else name, "percent")
    if isinstance(reading, Holds | NoValue | Indicator):
        return Response(f"the share of rows in which {reading.subject} holds", "points")
    return Response(units.source if units.how == "none" else name, "units")


def _quartiles(rows: Rows, names: list[str]) -> dict[str, tuple[float, float, float]]:
    if not names:
        return {}
    places = [rows.names.index(name) for name in names]
    step = max(rows.columns.rows.kept // _MOST, 1)
    values = np.concatenate([block.X[::step][:, places] for block in rows.blocks()])
    found = [np.quantile(column, [0.25, 0.5, 0.75]) for column in values.T]
    return {name: (float(a), float(b), float(c)) for name, (a, b, c) in zip(names, found, strict=True)}


def t_quantile(free: int | None) -> float:
    """Return the 97.5 % quantile of Student's t, or of the normal distribution.

    Example:
        >>> round(t_quantile(10), 4), round(t_quantile(None), 4)
        (2.2281, 1.96)
    """
    from scipy import special  # loaded when it is needed, for commands to start at once

    return float(special.ndtri(0.975) if free is None else special.stdtrit(free, 0.975))


def p_value(t: float, free: int | None) -> float:
    """Return the two-sided p value of a t, or of a normal statistic.

    Example:
        >>> round(p_value(2.2281, 10), 4)
        0.05
    """
    from scipy import special  # loaded when it is needed, for commands to start at once

    return float(2 * (special.ndtr(-abs(t)) if free is None else special.stdtr(free, -abs(t))))


def f_tail(statistic: float, columns: int, free: int | None) -> float:
    """Return the p value of an F, or of a chi squared over its degrees of freedom.

    Example:
        >>> round(f_tail(4.103, 2, 10), 3)
        0.05
    """
    from scipy import special  # loaded when it is needed, for commands to start at once

    if free is None:
        return float(special.chdtrc(columns, statistic * columns))
    return float(special.fdtrc(columns, free, statistic))
