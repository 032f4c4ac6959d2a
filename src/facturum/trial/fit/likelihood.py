"""Logistic and Poisson regression by iteratively reweighted least squares, with separation detected and told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from facturum.data.values import FloatArray
from facturum.errors import DataError
from facturum.numerics.linear.triangular import Factor, triangle_of
from facturum.support.threads import one_blas_thread
from facturum.trial.fit.rows import Block, Rows
from facturum.trial.fit.solving import Solution, names_of, refuse_few, refuse_large, with_coefficients

MAX_STEPS = 40
CLOSE = 1e-9  # of a standard error, below which a step ends the search


@dataclass(frozen=True)
class Family:
    """A distribution of the response with its canonical link (McCullagh & Nelder, "Generalized Linear Models", 1989).

    Args:
        name: logistic or poisson.
        mean: of a linear predictor.
        weight: the variance of the response at a mean.
        deviance: of responses at their means, one for each row.
        saturated: the log-likelihood of responses at means that equal them, one for each row.
    """

    name: str
    mean: Callable[[FloatArray], FloatArray]
    weight: Callable[[FloatArray], FloatArray]
    deviance: Callable[[FloatArray, FloatArray], FloatArray]
    saturated: Callable[[FloatArray], FloatArray]


def _logistic(eta: FloatArray) -> FloatArray:
    with np.errstate(over="ignore"):
        return np.asarray(1.0 / (1.0 + np.exp(-eta)))


def _logistic_deviance(y: FloatArray, mean: FloatArray) -> FloatArray:
    with np.errstate(all="ignore"):
        return np.asarray(-2 * np.where(y > 0, np.log(mean), np.log1p(-mean)))


def _poisson_deviance(y: FloatArray, mean: FloatArray) -> FloatArray:
    with np.errstate(all="ignore"):
        part = np.where(y > 0, y * np.log(y / mean), 0.0)
    return np.asarray(2 * (part - (y - mean)))


def _poisson_saturated(y: FloatArray) -> FloatArray:
    from scipy import special  # loaded when it is needed, for commands to start at once

    return np.asarray(special.xlogy(y, y) - y - special.gammaln(y + 1))


FAMILIES = {
    "logistic": Family("logistic", _logistic, lambda mean: mean * (1 - mean), _logistic_deviance, np.zeros_like),
    "poisson": Family("poisson", np.exp, lambda mean: mean, _poisson_deviance, _poisson_saturated),
}


@dataclass(frozen=True)
class Likelihood:
    """A fitted likelihood.

    Args:
        solution: the coefficients; its inverse is a root of their covariance.
        deviance: of the fit.
        null: of the mean alone; of a model without an intercept, of a linear predictor of 0.
        saturated: the log-likelihood of means that equal the responses.
        dispersion: Pearson's chi squared over the degrees of freedom.
    """

    solution: Solution
    deviance: float
    null: float
    saturated: float
    dispersion: float

    @property
    def figures(self) -> LikelihoodFigures:
        """How well it fits."""
        from scipy import special  # loaded when it is needed, for commands to start at once

        count, first = len(self.solution.coefficients), 1 if self.solution.intercept else 0
        log_likelihood, null = self.saturated - self.deviance / 2, self.saturated - self.null / 2
        ratio, restrictions = self.null - self.deviance, count - first
        return LikelihoodFigures(
            log_likelihood,
            null,
            1 - log_likelihood / null if null else None,
            ratio,
            restrictions,
            float(special.chdtrc(restrictions, max(ratio, 0.0))),
            2 * count - 2 * log_likelihood,
            float(np.log(self.solution.rows)) * count - 2 * log_likelihood,
            self.dispersion,
        )


@dataclass(frozen=True)
class LikelihoodFigures:
    """How well a likelihood fits.

    Args:
        log_likelihood: of the fit.
        null: of the intercept alone; of a model without one, of a linear predictor of 0.
        mcfadden: 1 - log_likelihood / null (McFadden 1974); None where the latter is 0.
        ratio: twice what the log-likelihood gains over the null.
        restrictions: the coefficients that the null lacks.
        ratio_p: of the likelihood-ratio test that they are 0.
        aic, bic: the criteria of Akaike (1974) and Schwarz (1978), smaller for a better model.
        dispersion: Pearson's chi squared over the degrees of freedom, about 1 where the variance is that of the model.
    """

    log_likelihood: float
    null: float
    mcfadden: float | None
    ratio: float
    restrictions: int
    ratio_p: float
    aic: float
    bic: float
    dispersion: float


def maximise(rows: Rows, family: Family) -> Likelihood:
    """Return the coefficients with the largest likelihood.

    Raises:
        DataError: where the response does not fit the family, there are too few rows, or the response is separated.
    """
    factor, width = rows.factor(), len(rows.names)
    refuse_large(factor)
    _refuse_response(rows, family)
    first = 1 if rows.intercept else 0
    columns = with_coefficients(factor, rows.intercept, width)
    refuse_few(factor.rows, len(columns) + first)
    centre = np.concatenate([np.zeros(first), factor.mean[list(columns)] if rows.intercept else np.zeros(len(columns))])
    count = len(columns) + first
    known = Solution(columns, rows.intercept, factor.rows, np.zeros(count), 0.0, 0.0, np.eye(count), centre)
    start = _start(factor, width, family) if rows.intercept else 0.0
    centred = np.zeros(count)
    if rows.intercept:
        centred[0] = start
    spread = np.append(np.ones(first), factor.sd[list(columns)])
    for _ in range(MAX_STEPS):
        triangle, right, _ = _weighted(rows, known, centred, family)
        change = np.linalg.solve(triangle, right)
        centred = centred + change
        if not np.isfinite(centred).all() or np.abs(np.diagonal(triangle)).min() < 1e-9 * np.sqrt(factor.rows) * 1e-3:
            break
        if np.linalg.norm(triangle @ change) < CLOSE:
            return _finished(rows, known, centred, triangle, family)
    raise _separated(rows, known, centred, spread, family)


def _start(factor: Factor, width: int, family: Family) -> float:
    mean = float(factor.mean[width])
    if family.name == "poisson":
        return float(np.log(max(mean, 1e-9)))
    mean = min(max(mean, 1e-6), 1 - 1e-6)
    return float(np.log(mean / (1 - mean)))


def _eta(known: Solution, centred: FloatArray, block: Block) -> FloatArray:
    return np.asarray((known.augmented(block.X) - known.centre) @ centred)


def _weighted(rows: Rows, known: Solution, centred: FloatArray, family: Family) -> tuple[FloatArray, FloatArray, float]:
    """Return the factor of the weighted columns, that of the scores, and the deviance."""
    count = len(centred)
    joint = np.zeros((count + 1, count + 1))
    deviance = 0.0
    with one_blas_thread():
        for block in rows.blocks():
            eta = np.clip(_eta(known, centred, block), -700, 700)
            mean = family.mean(eta)
            weight = np.maximum(family.weight(mean), 1e-300)
            root = np.sqrt(weight)
            X = (known.augmented(block.X) - known.centre) * root[:, None]  # noqa: N806 - the field's standard name
            score = (block.y - mean) / root
            stacked = np.vstack([joint, np.column_stack([X, score])])
            joint = triangle_of(np.asfortranarray(stacked))
            deviance += float(family.deviance(block.y, mean).sum())
    return joint[:-1, :-1], joint[:-1, -1], deviance


def _finished(rows: Rows, known: Solution, centred: FloatArray, triangle: FloatArray, family: Family) -> Likelihood:
    coefficients = centred.copy()
    lift = np.eye(len(centred))
    if known.intercept:
        coefficients[0] -= known.centre @ centred
        lift[0] -= known.centre
    inverse = lift @ np.linalg.inv(triangle)
    solution = replace(known, coefficients=coefficients, inverse=inverse)
    _, _, deviance = _weighted(rows, known, centred, family)
    saturated = chi_squared = 0.0
    for block in rows.blocks():
        saturated += float(family.saturated(block.y).sum())
        mean = family.mean(solution.predicted(block.X))
        with np.errstate(all="ignore"):
            chi_squared += float(np.nansum(np.square(block.y - mean) / family.weight(mean)))
    dispersion = chi_squared / solution.degrees_of_freedom
    return Likelihood(solution, deviance, _null(rows, family), saturated, dispersion)


def _null(rows: Rows, family: Family) -> float:
    factor = rows.factor()
    mean = float(factor.mean[len(rows.names)]) if rows.intercept else float(family.mean(np.zeros(1))[0])
    return float(sum(family.deviance(block.y, np.full(len(block.y), mean)).sum() for block in rows.blocks()))


def _refuse_response(rows: Rows, family: Family) -> None:
    for block in rows.blocks():
        wrong = ~np.isin(block.y, (0.0, 1.0)) if family.name == "logistic" else block.y < 0
        if wrong.any():
            what = "0 or 1" if family.name == "logistic" else "counts from 0 on"
            raise DataError(
                f"a {family.name} regression needs a response of {what}",
                rows=block.numbers[wrong][:6].tolist(),
                count=int(wrong.sum()),
                remedy="Write a condition as the response, or fit by least squares.",
            )
    mean = float(rows.factor().mean[len(rows.names)])
    if mean <= 0 or (family.name == "logistic" and mean >= 1):
        raise DataError(
            f"the response is {mean:g} in every row fitted: there is nothing to explain",
            remedy="Take other rows, or another response.",
        )


def _separated(rows: Rows, known: Solution, centred: FloatArray, spread: FloatArray, family: Family) -> DataError:
    """Return that no finite coefficients have the largest likelihood, and the columns that grow without end."""
    size = np.abs(np.nan_to_num(centred, posinf=1e9, neginf=1e9)) * spread
    names = names_of(rows, known.columns)
    first = 1 if known.intercept else 0
    worst = [names[at] for at in np.argsort(-size, kind="stable") if at >= first and size[at] > 3][:4]
    told = f" along {', '.join(worst)}" if worst else ""
    return DataError(
        f"the {family.name} regression has no finite coefficients: the response is separated{told}",
        remedy="See the check of separation; pool or regroup categories, or leave these columns out.",
    )
