"""Covariances of coefficients that hold where errors differ in size, within units, or along time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from facturum.data.grouping import dense_ranks
from facturum.data.time.series import Series
from facturum.data.values import Array, FloatArray
from facturum.engine.planning.sections.spec import DataSpec
from facturum.errors import DataError, counted, named, option
from facturum.trial.errors.absorbing import Absorbed, group_leverages
from facturum.trial.errors.placing import groups_of, periods_of, units_of
from facturum.trial.fit.rows import Block, Rows
from facturum.trial.fit.solving import Solution

KINDS = ("ordinary", "hc1", "hc3", "clustered", "autocorrelation")
FEW_CLUSTERS = 10
CERTAIN = 1e-8  # how near to 1 a leverage is that counts as 1
Residual = Callable[[Block], FloatArray]


@dataclass(frozen=True)
class ErrorKind:
    """How standard errors are computed.

    Args:
        kind: ordinary, hc1, hc3, clustered or autocorrelation.
        by: of clustered ones, the variables that name the units, one or two; of autocorrelation, within which series
            run: otherwise the plan's panel.
        lags: of autocorrelation, how many; None for 4 (periods / 100)^(2/9), rounded down (Newey & West 1994).
        called: what the caller calls `by`, for remedies.
    """

    kind: str = "ordinary"
    by: tuple[str, ...] = ()
    lags: int | None = None
    called: str = "by"

    @classmethod
    def of(cls, kind: str, by: str | Sequence[str] | None, lags: int | None, called: str = "by") -> ErrorKind:
        """Return the kind that a user names."""
        names = () if by is None else (by,) if isinstance(by, str) else tuple(dict.fromkeys(by))
        return cls(kind, names, lags, called)

    def __post_init__(self) -> None:
        if self.kind not in KINDS:
            raise DataError(f"'{self.kind}' is not a kind of standard errors", remedy="Write " + ", ".join(KINDS) + ".")
        if self.kind == "clustered" and not self.by:
            by = option("--by VARIABLE", f'{self.called}="variable"')
            raise DataError("clustered standard errors need a unit", remedy=f"Name the variable that holds it: {by}.")
        if self.by and self.kind not in ("clustered", "autocorrelation"):
            clustered, by = option("--errors clustered", 'errors="clustered"'), option("--by", self.called)
            raise DataError(
                f"{by} is valid only with clustered errors and autocorrelation, and errors are {self.kind}",
                remedy=f"Write {clustered}, or leave {by} out.",
            )
        most = 2 if self.kind == "clustered" else 1
        if len(self.by) > most:
            raise DataError(
                f"{len(self.by)} variables are named by, and {self.kind} errors take {most} at most",
                remedy="Name fewer." if most == 2 else "Name one, or leave by out: series run within the panel.",
            )
        if self.lags is not None and (self.kind != "autocorrelation" or self.lags < 0):
            raise DataError("lags belong to autocorrelation, and are not negative", remedy="Leave lags out.")


@dataclass(frozen=True)
class Meat:
    """The covariance of the coordinates, and the degrees of freedom of tests with it.

    Args:
        matrix: doubles (k, k); None for errors that are independent and alike.
        degrees_of_freedom: of tests with it.
        text: how standard errors were computed.
        blind: directions in the coordinates, doubles (k, m), in which it says nothing: one row, or one unit, alone
            determines what lies in them.
        reason: why, in a sentence.
        cautions: what else is to be noticed, in sentences.
    """

    matrix: FloatArray | None
    degrees_of_freedom: int
    text: str
    blind: FloatArray | None = None
    reason: str = ""
    cautions: tuple[str, ...] = ()


def meat(
    rows: Rows,
    solution: Solution,
    errors: ErrorKind,
    residual: Residual,
    absorbed: Absorbed,
    weight: Residual | None = None,
) -> Meat:
    """Return the covariance of coefficients in orthonormal coordinates.

    Args:
        rows: those fitted.
        solution: the coefficients.
        errors: the kind.
        residual: of each row of a block; for a likelihood, the score with respect to the linear predictor.
        absorbed: the groups whose effects the response is less of.
        weight: of a likelihood, how much each row of a block counts in the information.

    Raises:
        DataError: where the unit is not known.
    """
    left = solution.degrees_of_freedom
    if errors.kind == "ordinary":
        return Meat(None, left, "ordinary")
    if errors.kind in ("hc1", "hc3"):
        return _row_by_row(rows, solution, errors.kind, residual, absorbed, weight)
    coordinates = np.concatenate([solution.coordinates(block.X) for block in rows.blocks()])
    scores = coordinates * np.concatenate([residual(block) for block in rows.blocks()])[:, None]
    if weight is not None:
        coordinates *= np.sqrt(np.concatenate([weight(block) for block in rows.blocks()]))[:, None]
    if errors.kind == "clustered":
        return _clustered(rows, solution, errors.by, coordinates, scores, absorbed)
    return _along_time(rows, scores, errors, left)


def _row_by_row(
    rows: Rows, solution: Solution, kind: str, residual: Residual, absorbed: Absorbed, weight: Residual | None
) -> Meat:
    """Return the sandwich of rows (White 1980), times n / (n - k) or with e / (1 - h) (MacKinnon & White 1985).

    A row whose leverage is 1 alone determines a coefficient: its residual is 0 whatever its error is.
    """
    count = len(solution.coefficients)
    total = np.zeros((count, count))
    blind: list[FloatArray] = []
    alone: list[int] = []
    of_groups = None
    if kind == "hc3" and absorbed:
        of_groups = group_leverages([groups_of(rows, keys) for keys in absorbed.groupings])
        of_groups -= 1.0 / solution.rows if solution.intercept else 0.0  # which is among both
    at = 0
    for block in rows.blocks():
        z, e = solution.coordinates(block.X), residual(block)
        own = np.add.reduce(np.square(z), axis=1) * (1.0 if weight is None else weight(block))
        leverage = own if of_groups is None else own + of_groups[at : at + len(z)]
        at += len(z)
        certain = leverage > 1 - CERTAIN
        if kind == "hc3":
            e = np.divide(e, 1 - leverage, out=np.zeros(len(e)), where=~certain)
        told = certain & (own > CERTAIN)
        blind += list(z[told] / np.linalg.norm(z[told], axis=1)[:, None])
        alone += block.numbers[told].tolist()
        weighted = z * e[:, None]
        total += weighted.T @ weighted
    scale = solution.rows / solution.degrees_of_freedom if kind == "hc1" else 1.0
    rows_alone = named([str(row) for row in alone], 5)
    reason = f"rows {rows_alone} alone determine" if len(alone) > 1 else f"row {rows_alone} alone determines"
    return Meat(
        scale * total,
        solution.degrees_of_freedom,
        f"robust to heteroscedasticity ({kind.upper()})",
        np.array(blind).T if blind else None,
        reason,
    )


def _clustered(
    rows: Rows, solution: Solution, by: Sequence[str], coordinates: FloatArray, scores: FloatArray, absorbed: Absorbed
) -> Meat:
    """Return the sandwich of sums within units, times G / (G - 1) (n - 1) / (n - k) (Cameron & Miller 2015).

    Of two variables it is that of the first and that of the second, less that of both together (Cameron, Gelbach &
    Miller 2011). Groups that lie each within one unit take no degrees of freedom of k. A row in which the variable is
    missing is a unit of its own.
    """
    units, without = zip(*[units_of(rows, name) for name in by], strict=True)
    both = [*units] if len(by) == 1 else [*units, dense_ranks(units[0] * (int(units[1].max()) + 1) + units[1])]
    total = np.zeros((scores.shape[1],) * 2)
    for place, codes in enumerate(both):
        free = solution.degrees_of_freedom + _nested(rows, absorbed, codes)
        sums, groups = _summed(scores, codes), int(codes.max()) + 1
        if groups < 2:
            name = by[min(place, len(by) - 1)]
            raise DataError(f"all rows are of one unit of {name}", remedy="Cluster by another variable, or use hc3.")
        part = groups / (groups - 1) * (solution.rows - 1) / free * (sums.T @ sums)
        total += -part if place == 2 else part
    counts = [int(codes.max()) + 1 for codes in units]
    told = [f"{name} ({counted(count, 'unit')})" for name, count in zip(by, counts, strict=True)]
    cautions = [
        f"{counted(count, 'row')} in which {name} is missing: each is a unit of its own."
        for name, count in zip(by, without, strict=True)
        if count
    ]
    cautions += [
        f"{counted(count, 'unit')} of {name} {'are' if count > 1 else 'is'} few: clustered standard errors are too "
        "small with fewer than some ten (Cameron & Miller 2015)."
        for name, count in zip(by, counts, strict=True)
        if count < FEW_CLUSTERS
    ]
    blind = [direction for codes in units for direction in _determined(coordinates, codes)]
    return Meat(
        total,
        min(counts) - 1,
        f"clustered by {' and '.join(told)}",
        np.array(blind).T if blind else None,
        f"one unit of {' or '.join(by)} alone determines",
        tuple(cautions),
    )


def _nested(rows: Rows, absorbed: Absorbed, units: Array) -> int:
    """Return how many of the degrees that groups take are those of groups which lie each within one unit."""
    given_back = 0
    for keys in absorbed.groupings:
        groups = groups_of(rows, keys)
        largest, smallest = np.zeros(int(groups.max()) + 1, dtype=np.int64), np.full(int(groups.max()) + 1, 2**62)
        np.maximum.at(largest, groups, units)
        np.minimum.at(smallest, groups, units)
        if (largest == smallest).all():
            given_back = max(given_back, min(len(largest) - 1, absorbed.degrees))
    return given_back


def _determined(coordinates: FloatArray, units: Array) -> list[FloatArray]:
    """Return the directions in the coordinates that one unit alone determines: no other has any part in them."""
    leverage = _summed(np.add.reduce(np.square(coordinates), axis=1)[:, None], units)[:, 0]
    order = np.argsort(units, kind="stable")
    edges = np.searchsorted(units[order], np.arange(int(units.max()) + 2))
    found: list[FloatArray] = []
    for unit in np.flatnonzero(leverage > 1 - CERTAIN).tolist():  # at most as many as there are coordinates
        own = coordinates[order[edges[unit] : edges[unit + 1]]]
        _, sizes, directions = np.linalg.svd(own, full_matrices=False)
        found += [direction for size, direction in zip(sizes, directions, strict=True) if size**2 > 1 - CERTAIN]
    return found


def _along_time(rows: Rows, scores: FloatArray, errors: ErrorKind, free: int) -> Meat:
    """Return the sum of autocovariances with falling weights (Newey & West 1987), times n / (n - k).

    Rows are neighbours where their periods are: a gap in the periods is none. Rows of one unit and period are summed
    first, so that they may be correlated in any way.
    """
    size = len(scores)
    data = DataSpec(**rows.columns.resolved.get("data", {}))
    within = errors.by or tuple(data.panel)
    unit = np.zeros(size, dtype=np.int64)
    for name in within:
        codes, _ = units_of(rows, name)
        unit = dense_ranks(unit * (int(codes.max(initial=0)) + 1) + codes)
    period, every = periods_of(rows, data, unit if within else None)
    places, of_row = np.unique(np.column_stack([unit, period]), axis=0, return_inverse=True)
    sums = _summed(scores, of_row.ravel())
    lags = int(4 * (len(np.unique(period)) / 100) ** (2 / 9)) if errors.lags is None else errors.lags
    series = Series(places[:, 0], places[:, 1], np.ones(len(places), dtype=bool), every)
    total = sums.T @ sums
    for lag in range(1, lags + 1):
        before = series.rows_at(-lag)
        paired = before >= 0
        part = sums[paired].T @ sums[before[paired]]
        total += (1 - lag / (lags + 1)) * (part + part.T)
    text = f"robust to autocorrelation up to {lags} {'lag' if lags == 1 else 'lags'}"
    return Meat(total * (size / free), free, text + (f" within {' and '.join(within)}" if within else ""))


def _summed(scores: FloatArray, groups: Array) -> FloatArray:
    """Return the sums of rows within groups, which are numbered from 0."""
    sums = np.zeros((int(groups.max()) + 1, scores.shape[1]))
    np.add.at(sums, groups, scores)
    return sums
