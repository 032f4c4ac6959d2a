"""Whether centring a number would cure inflation: of its powers, and of its products with other columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
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


class Centring:
    """What centring the powers and products of a matrix would do to the inflation of its columns.

    A centred power or product is a combination of the columns that there are, so that nothing is computed anew.

    Args:
        outline: the plan.
        columns: the predictors.
        factor: of all rows.
        basis: the independent columns.
    """

    def __init__(self, outline: Outline, columns: Sequence[BuiltColumn], factor: Factor, basis: Sequence[int]) -> None:
        self._outline, self._columns, self._factor, self._basis = outline, columns, factor, basis
        self._place: dict[Reading, int] = {}
        self._powers: dict[str, dict[int, int]] = {}
        for at, each in enumerate(columns):
            if each.column is not None:
                self._place.setdefault(each.column.reading, at)
                if isinstance(each.column.reading, Power):
                    self._powers.setdefault(each.term, {})[each.column.reading.degree] = at

    def cure(self, at: int) -> Cure | None:
        """Return what centring would do to the inflation of an independent column; None where it does not cure it."""
        _, remedies = self._changed
        touched = [remedies[each] for each in remedies if each == at or self._beside(each, at)]
        if not touched:
            return None
        inflation = float(self._inflation[list(self._basis).index(at)])
        return Cure(inflation, touched[0]) if inflation <= ENOUGH else None

    @cached_property
    def _changed(self) -> tuple[FloatArray, dict[int, str]]:
        """The centred columns as combinations of those there are, and what to write for those that change."""
        change = np.eye(len(self._columns))
        remedies: dict[int, str] = {}
        for column, each in enumerate(self._columns):
            reading = None if each.column is None else each.column.reading
            if isinstance(reading, Power) and reading.top > 1:
                self._centre_powers(column, reading, change, remedies)
            elif isinstance(reading, Product):
                self._centre_product(column, reading, change, remedies)
        return change, remedies

    @cached_property
    def _inflation(self) -> FloatArray:
        """The variance inflation factors of the independent columns, once all are centred."""
        new = (self._factor.centred[:, : len(self._columns)] @ self._changed[0])[:, list(self._basis)]
        with np.errstate(all="ignore"):
            return Inflation.of(new).of_columns()

    def _beside(self, changed: int, at: int) -> bool:
        """Return whether a column is a factor of a product, or a power beside another."""
        one, other = self._columns[changed].column, self._columns[at].column
        if one is None or other is None:
            return False
        if isinstance(one.reading, Product):
            return other.reading in (one.reading.left, one.reading.right)
        return self._columns[changed].term == self._columns[at].term

    def _centre_powers(self, column: int, reading: Power, change: FloatArray, remedies: dict[int, str]) -> None:
        key = self._columns[column].term
        own = self._powers[key]
        is_one = isinstance(self._outline.prepared.terms.get(key), Polynomial)
        if not is_one or any(degree not in own for degree in range(1, reading.degree + 1)):
            return
        mean = float(self._factor.mean[own[1]])
        for degree in range(1, reading.degree):
            change[own[degree], column] = comb(reading.degree, degree) * (-mean) ** (reading.degree - degree)
        remedies[column] = f"center=True in terms.{key}"

    def _centre_product(self, column: int, reading: Product, change: FloatArray, remedies: dict[int, str]) -> None:
        """Centre the factor of a product that is a column of its own and no indicator, if the other is one too."""
        for number, other in ((reading.left, reading.right), (reading.right, reading.left)):
            main, beside = self._place.get(number), self._place.get(other)
            inner = None if main is None else self._columns[main].column
            if main is None or beside is None or inner is None or inner.measure != "number":
                continue
            change[beside, column] -= float(self._factor.mean[main])
            text = self._outline.spec.terms[self._columns[main].term]
            remedies[column] = f"center({text}) instead of {text} in terms.{self._columns[column].term}"
            return
