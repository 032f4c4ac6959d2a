"""Whether centring a number would cure inflation: of its powers, and of its products with other columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import comb

import numpy as np

from facturum.data.values import FloatArray
from facturum.engine.passes.outline import BuiltColumn, Outline
from facturum.language.operations.polynomials import Polynomial
from facturum.language.reading import Power, Product, Reading
from facturum.numerics.factors import Factor
from facturum.numerics.inflation import Inflation

ENOUGH = 10.0


@dataclass(frozen=True)
class Cure:
    """What centring would do.

    Args:
        inflation: the variance inflation factor with it.
        remedy: what to write.
    """

    inflation: float
    remedy: str


def cured(
    outline: Outline, columns: Sequence[BuiltColumn], factor: Factor, basis: Sequence[int], at: int
) -> Cure | None:
    """Return what centring would do to the inflation of a column; None where it does not cure it.

    A centred power or product is a combination of the columns that there are, so that nothing is computed anew.

    Args:
        outline: the plan.
        columns: the predictors.
        factor: of all rows.
        basis: the independent columns.
        at: the inflated column, one of them.
    """
    change = np.eye(len(columns))
    remedies: dict[int, str] = {}
    for column, each in enumerate(columns):
        reading = None if each.column is None else each.column.reading
        if isinstance(reading, Power) and reading.top > 1:
            _centre_powers(outline, columns, factor, column, reading, change, remedies)
        elif isinstance(reading, Product):
            _centre_product(outline, columns, factor, column, reading, change, remedies)
    touched = [remedies[each] for each in remedies if each == at or _beside(columns, each, at)]
    if not touched:
        return None
    new = (factor.centred[:, : len(columns)] @ change)[:, list(basis)]
    with np.errstate(all="ignore"):
        inflation = float(Inflation.of(new).of_columns()[list(basis).index(at)])
    return Cure(inflation, touched[0]) if inflation <= ENOUGH else None


def _beside(columns: Sequence[BuiltColumn], changed: int, at: int) -> bool:
    """Return whether a column is a factor of a product, or a power beside another."""
    one, other = columns[changed].column, columns[at].column
    if one is None or other is None:
        return False
    if isinstance(one.reading, Product):
        return other.reading in (one.reading.left, one.reading.right)
    return columns[changed].term == columns[at].term


def _centre_powers(
    outline: Outline,
    columns: Sequence[BuiltColumn],
    factor: Factor,
    column: int,
    reading: Power,
    change: FloatArray,
    remedies: dict[int, str],
) -> None:
    term = outline.prepared.terms.get(columns[column].term)
    own = {
        other.column.reading.degree: at
        for at, other in enumerate(columns)
        if other.term == columns[column].term and other.column is not None and isinstance(other.column.reading, Power)
    }
    if not isinstance(term, Polynomial) or any(degree not in own for degree in range(1, reading.degree + 1)):
        return
    mean = float(factor.mean[own[1]])
    for degree in range(1, reading.degree):
        change[own[degree], column] = comb(reading.degree, degree) * (-mean) ** (reading.degree - degree)
    remedies[column] = f"center=True in terms.{columns[column].term}"


def _centre_product(
    outline: Outline,
    columns: Sequence[BuiltColumn],
    factor: Factor,
    column: int,
    reading: Product,
    change: FloatArray,
    remedies: dict[int, str],
) -> None:
    """Centre the factor of a product that is a column of its own and no indicator, if the other is one too."""
    for number, other in ((reading.left, reading.right), (reading.right, reading.left)):
        main, beside = _place(columns, number), _place(columns, other)
        inner = None if main is None else columns[main].column
        if main is None or beside is None or inner is None or inner.measure != "number":
            continue
        change[beside, column] -= float(factor.mean[main])
        text = outline.spec.terms[columns[main].term]
        remedies[column] = f"center({text}) instead of {text} in terms.{columns[column].term}"
        return


def _place(columns: Sequence[BuiltColumn], reading: Reading) -> int | None:
    """Return the column that is read in a certain way."""
    for at, column in enumerate(columns):
        if column.column is not None and column.column.reading == reading:
            return at
    return None
