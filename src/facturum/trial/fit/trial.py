"""What came out of a trial regression: coefficients, joint tests, effects in words, accuracy."""

from __future__ import annotations

from dataclasses import dataclass, field

from facturum.data.values import FloatArray
from facturum.errors import AuditError, counted, listed
from facturum.trial.errors.autocorrelation import Autocorrelation
from facturum.trial.fit.likelihood import LikelihoodFigures
from facturum.trial.told.accuracy import Accuracy
from facturum.trial.told.effect_text import Effect
from facturum.trial.told.truth_accuracy import TruthAccuracy


@dataclass(frozen=True)
class Coefficient:
    """A coefficient: its estimate, its standard error, and what follows from them; None where they are not defined."""

    name: str
    term: str
    estimate: float
    error: float | None
    t: float | None
    p: float | None
    low: float | None
    high: float | None


@dataclass(frozen=True)
class TermTest:
    """The joint test that all coefficients of a term are 0; where it is not defined, why."""

    term: str
    columns: int
    statistic: float | None
    p: float | None
    note: str = ""


@dataclass(frozen=True)
class Trial:
    """A trial regression.

    Args:
        response: its name.
        model: linear, logistic or poisson.
        errors: how standard errors were computed.
        rows: how many were fitted.
        degrees_of_freedom: of the tests.
        absorbed: how many of them the groups of a response within these take.
        coefficients: in the order of the columns.
        terms: joint tests.
        effects: what coefficients mean, with their numbers.
        units: what accuracy is in units of.
        accuracy: in these.
        truth: of a response of 0 and 1.
        left_out: columns without a coefficient, each with the reason.
        not_identified: the variables of which no effect can be told, since columns made of them move with others.
        sigma: the standard deviation of the errors; None of a likelihood.
        r2, adjusted: the share of the variance explained; None of a likelihood.
        r2_name: which share that is.
        likelihood: how well a likelihood fits; None of least squares.
        autocorrelation: of the residuals along time; None where it is not known.
        cautions: what to notice before these figures are used, in sentences.
        covariance: of the coefficients.
    """

    response: str
    model: str
    errors: str
    rows: int
    degrees_of_freedom: int
    absorbed: int
    coefficients: tuple[Coefficient, ...]
    terms: tuple[TermTest, ...]
    effects: tuple[Effect, ...]
    units: str
    accuracy: tuple[Accuracy, ...]
    truth: tuple[TruthAccuracy, ...]
    left_out: dict[str, str]
    not_identified: tuple[str, ...]
    sigma: float | None
    r2: float | None
    adjusted: float | None
    r2_name: str
    likelihood: LikelihoodFigures | None
    autocorrelation: Autocorrelation | None
    cautions: tuple[str, ...]
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
        lines = (f"{c.name} {c.estimate:.6g} ({_number(c.error, '.3g')})" for c in self.coefficients)
        return listed(self.title, [*lines, *self.cautions])

    def _repr_html_(self) -> str:
        from facturum.support.notebook_tables import table_html

        heads = ("column", "estimate", "standard error", self.statistic_name, "p", "95 % from", "to")
        rows = [
            [c.name, *(_number(v, ".6g") for v in (c.estimate, c.error, c.t, c.p, c.low, c.high))]
            for c in self.coefficients
        ]
        return table_html(self.title, heads, rows, [*self.cautions, *[effect.text for effect in self.effects]])

    @property
    def statistic_name(self) -> str:
        """What an estimate over its standard error is called: t, or z where it is compared with the normal."""
        return "t" if self.model == "linear" or self.errors.startswith("clustered") else "z"


def _number(value: float | None, form: str) -> str:
    return "–" if value is None else format(value, form)
