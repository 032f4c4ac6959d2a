"""The trial regression: fitting a design, and telling what came out."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from facturum.audit.map.entries import ColumnEntry, ColumnMap
from facturum.data.values import FloatArray
from facturum.errors import DataError, counted, named
from facturum.language.meanings.meaning import Factor, stepped
from facturum.language.meanings.structures import meaning_of
from facturum.trial.errors.absorbing import NOTHING, Absorbed, absorbed_by
from facturum.trial.errors.autocorrelation import Autocorrelation, autocorrelation
from facturum.trial.errors.covariances import ErrorKind, meat
from facturum.trial.errors.spread import Spread
from facturum.trial.fit.identification import Identification
from facturum.trial.fit.likelihood import FAMILIES, Likelihood, maximise
from facturum.trial.fit.rows import Block, Rows
from facturum.trial.fit.solving import Solution, names_of, solve
from facturum.trial.fit.trial import Coefficient, TermTest, Trial
from facturum.trial.told.accuracy import accuracies, residuals_of, truth_accuracies
from facturum.trial.told.effect_text import Response
from facturum.trial.told.effects import Effects, Known
from facturum.trial.told.predictions import MOST_ROWS, Predictions
from facturum.trial.told.units import RawUnits

MODELS = ("linear", "logistic", "poisson")
OVERDISPERSED = 1.5  # times the variance of the model
_MOST = 250_000  # values that quartiles are taken of; evenly spaced ones of more


@dataclass(frozen=True)
class Fit:
    """A fitted solution with what predictions need.

    Args:
        solution: the coefficients.
        model: linear, logistic or poisson.
        dispersion: of counts, their variance over their mean; at least 1.
    """

    solution: Solution
    model: str
    dispersion: float = 1.0

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
    estimated = estimate(rows, model, errors)
    return _told(estimated), estimated.fit


@dataclass(frozen=True)
class Estimated:
    """The coefficients of a design, and what is known of them.

    Args:
        rows: the design.
        fit: the coefficients.
        spread: their covariance.
        absorbed: the groups whose effects the response is less of.
        likelihood: None of least squares.
    """

    rows: Rows
    fit: Fit
    spread: Spread
    absorbed: Absorbed
    likelihood: Likelihood | None

    @property
    def response(self) -> ColumnEntry:
        """The response as the map has it."""
        return next(entry for entry in self.rows.columns.columns if entry.role == "response")

    @property
    def quantile(self) -> float:
        """Of the t or normal distribution, for 95 % intervals."""
        return t_quantile(self.spread.free)

    @cached_property
    def identification(self) -> Identification:
        """Which sums of coefficients are identified."""
        return Identification.of(self.rows, self.rows.factor(), self.fit.solution.columns)

    @property
    def response_told(self) -> Response:
        """How differences are reported."""
        return _response_of(self.fit.model, self.response)

    @property
    def predictions(self) -> Predictions:
        """What it predicts."""
        share = _response_of("linear", self.response).name
        return Predictions(
            self.fit.model, self.fit.solution, self.spread.error, self.quantile, self.response_told, share,
            self.identification.predicts,
        )  # fmt: skip


def estimate(rows: Rows, model: str, errors: ErrorKind) -> Estimated:
    """Fit a design.

    Raises:
        DataError: as `run_trial` does.
    """
    refuse_response(rows, model)
    absorbed = absorbed_by(rows.columns) if model == "linear" else NOTHING
    likelihood: Likelihood | None = None
    if model == "linear":
        solution = solve(rows)
    else:
        if errors.kind == "hc3":
            raise DataError("hc3 belongs to least squares", remedy="Write hc1, or ordinary.")
        likelihood = maximise(rows, FAMILIES[model])
        solution = likelihood.solution
    fit = Fit(solution, model)
    weight = None if model == "linear" else lambda block: FAMILIES[model].weight(fit.of(block))
    found = meat(rows, solution, errors, lambda block: block.y - fit.of(block), absorbed, weight)
    return Estimated(rows, fit, Spread.of(solution, found, likelihood is not None), absorbed, likelihood)


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
        found = maximise(rows, FAMILIES[model])
        return Fit(found.solution, model, max(found.dispersion, 1.0))
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


def _told(estimated: Estimated) -> Trial:
    rows, fit, spread, absorbed = estimated.rows, estimated.fit, estimated.spread, estimated.absorbed
    likelihood, solution, quantile, response = (
        estimated.likelihood,
        fit.solution,
        estimated.quantile,
        estimated.response,
    )
    names = names_of(rows, solution.columns)
    entries = {entry.name: entry for entry in rows.columns.columns}
    coefficients = tuple(
        _coefficient(name, entries[name].term if name in entries else name, float(value), error, quantile, spread.free)
        for name, value, error in zip(names, solution.coefficients, spread.errors(), strict=True)
    )
    identification, effects = estimated.identification, _effects(estimated)
    told = tuple(effects.all())
    along = autocorrelation(rows, lambda block: block.y - fit.of(block)) if likelihood is None else None
    units = units_text(rows.columns)
    r2, adjusted, r2_name = (None, None, "") if likelihood is not None else _explained(solution, absorbed)
    return Trial(
        response.name,
        fit.model,
        spread.meat.text,
        solution.rows,
        spread.meat.degrees_of_freedom,
        absorbed.degrees,
        coefficients,
        tuple(_tests([c.term for c in coefficients], solution, spread, identification, entries)),
        told,
        units,
        tuple(accuracies(rows, fit.of, rows.units, residuals_of(rows, fit.of), units)),
        tuple(truth_accuracies(rows, fit.of)),
        identification.left_out(),
        tuple(effects.not_identified),
        None if likelihood is not None else float(np.sqrt(solution.variance)),
        r2,
        adjusted,
        r2_name,
        None if likelihood is None else likelihood.figures,
        along,
        tuple(_cautions(spread, coefficients, absorbed, along, likelihood)),
        spread.covariance,
    )


def _coefficient(
    name: str, term: str, value: float, error: float | None, quantile: float, free: int | None
) -> Coefficient:
    if error is None:
        return Coefficient(name, term, value, None, None, None, None, None)
    ratio = value / error if error > 0 else float("inf")
    p = p_value(ratio, free) if error > 0 else 0.0
    return Coefficient(name, term, value, error, ratio, p, value - quantile * error, value + quantile * error)


def _explained(solution: Solution, absorbed: Absorbed) -> tuple[float | None, float | None, str]:
    """Return R², the adjusted one, and which share of the variance they are."""
    name = "within R²" if absorbed else "R²" if solution.intercept else "R² about zero"
    if solution.total == 0:
        return None, None, name
    r2 = 1 - solution.squares / solution.total
    about = solution.rows - solution.absorbed - (1 if solution.intercept else 0)
    return r2, 1 - (1 - r2) * about / solution.degrees_of_freedom, name


def _cautions(
    spread: Spread,
    coefficients: Sequence[Coefficient],
    absorbed: Absorbed,
    along: Autocorrelation | None,
    likelihood: Likelihood | None,
) -> Iterator[str]:
    """Yield what to notice before the figures are used."""
    if absorbed:
        yield (
            f"The groups of {absorbed.text} take {counted(absorbed.degrees, 'degree')} of freedom, as their "
            "indicators would."
        )
    without = [each.name for each in coefficients if each.error is None]
    if without:
        why = spread.meat.reason + " them" if spread.meat.blind is not None else "their variance is not positive"
        yield f"No standard error is defined for {named(without)}: {why}."
    yield from spread.meat.cautions
    if along is not None and along.notable:
        how = "robust to it" if spread.meat.text.startswith("robust to autocorrelation") else "not"
        told = (
            f"Residuals of neighbouring {along.step}s are correlated: r = {along.r:.2f}, Durbin-Watson "
            f"{along.durbin_watson:.2f} ({counted(along.pairs, 'pair')})."
        )
        if how == "not" and spread.meat.text.startswith("clustered"):
            yield f"{told} Errors clustered by the unit of a panel allow for it; by another variable they do not."
        elif how == "not":
            yield f'{told} Standard errors assume that they are not. Write errors="autocorrelation" (--errors).'
        else:
            yield told
    if likelihood is not None and likelihood.dispersion > OVERDISPERSED and spread.meat.matrix is None:
        yield (
            f"The variance is {likelihood.dispersion:.1f} times that of the model (Pearson's chi squared over its "
            'degrees of freedom): ordinary standard errors are too small. Write errors="hc1" (--errors hc1).'
        )


def _effects(estimated: Estimated) -> Effects:
    rows, fit, spread = estimated.rows, estimated.fit, estimated.spread
    kept, first = list(fit.solution.columns), 1 if rows.intercept else 0
    coefficients = np.zeros(len(rows.names))
    coefficients[kept] = fit.solution.coefficients[first:]
    known = Known(
        rows.names,
        fit.solution.columns,
        coefficients,
        estimated.identification.identifies,
        lambda weights: spread.error(np.concatenate([np.zeros(first), weights[kept]])),
        estimated.quantile,
    )
    if fit.model == "linear":
        return Effects(rows.changes(), known, estimated.response_told)
    apart = max(fit.solution.rows // MOST_ROWS, 1)
    sample, seen = [], 0
    for block in rows.blocks():
        sample.append(block.X[-seen % apart :: apart])
        seen += len(block.X)
    return Effects(rows.changes(), known, estimated.response_told, estimated.predictions, np.concatenate(sample))


def _tests(
    terms: Sequence[str],
    solution: Solution,
    spread: Spread,
    identification: Identification,
    entries: Mapping[str, ColumnEntry],
) -> Iterator[TermTest]:
    """Yield Wald's test of each term: F, or chi squared over its degrees of freedom for a likelihood."""
    for term in dict.fromkeys(terms):
        at = [place for place, each in enumerate(terms) if each == term]
        if term == "intercept":
            continue
        columns = [place for place, name in enumerate(identification.names) if entries[name].term == term]
        if (other := identification.depends(columns)) is not None:
            yield TermTest(term, len(at), None, None, f"not identified: {other}, which depends on it, is left out")
            continue
        statistic, note = spread.statistic(at, solution.coefficients)
        p = None if statistic is None else f_tail(statistic, len(at), spread.free)
        yield TermTest(term, len(at), statistic, p, note)


def units_text(columns: ColumnMap) -> str:
    """Return what the accuracy of the response of a build is in units of."""
    units = RawUnits.of(str(columns.resolved.get("response")))
    response = next(entry for entry in columns.columns if entry.role == "response")
    factor = _response_factor(response)
    if units.changes or units.is_source or factor is None:
        return units.source
    subject: str = stepped(factor.subject, columns.resolved.get("data", {}).get("every"))
    return f"log({subject})" if factor.logged else subject


def _response_factor(response: ColumnEntry) -> Factor | None:
    return meaning_of(response.structure).single if response.structure else None


def _response_of(model: str, response: ColumnEntry) -> Response:
    factor = _response_factor(response)
    if model == "logistic":
        return Response("it holds" if factor is None else factor.proposition(), "odds")
    name = response.name if factor is None else factor.expectation()
    if factor is not None and factor.logged:
        return Response(factor.name, "percent")
    if model == "poisson":
        return Response(name, "percent")
    return Response(name, "points" if factor is not None and factor.truth else "units")


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
