"""Which sums of coefficients are identified where some columns are linear combinations of others."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from facturum.data.values import FloatArray, Mask
from facturum.numerics.linear.relations import Relation, relations
from facturum.numerics.linear.triangular import Factor
from facturum.trial.fit.rows import Rows

HELD = 1e-6  # how far a change may be from keeping a relation, as a share of its parts


@dataclass(frozen=True)
class Identification:
    """The linear relations among the columns of a design in the rows fitted.

    Args:
        names: of the columns.
        kept: the columns that have a coefficient.
        constant: those that do not vary, with their value.
        relations: the exact ones, among the others.
    """

    names: Sequence[str]
    kept: tuple[int, ...]
    constant: dict[int, float]
    relations: tuple[Relation, ...]

    @classmethod
    def of(cls, rows: Rows, factor: Factor, kept: tuple[int, ...]) -> Identification:
        """Return those of the rows fitted."""
        width = len(rows.names)
        none = factor.constant if rows.intercept else factor.zero
        constant = {
            at: 0.0 if factor.zero[at] else float(factor.mean[at]) for at in np.flatnonzero(none[:width]).tolist()
        }
        if len(kept) + len(constant) == width:
            return cls(rows.names, kept, constant, ())
        usable = [at for at in range(width) if at not in constant]
        found = tuple(each for each in relations(factor, rows.intercept, usable) if each.exact)
        return cls(rows.names, kept, constant, found)

    def identifies(self, weights: FloatArray) -> bool:
        """Return whether a change of columns keeps all relations, so that what goes with it can be estimated.

        Args:
            weights: how each column of the design moves, doubles (columns,).
        """
        if any(weights[at] for at in self.constant):
            return False
        for relation in self.relations:
            parts = weights[list(relation.columns)] * np.array(relation.weights)
            if abs(parts.sum()) > HELD * np.abs(parts).max(initial=0.0):
                return False
        return True

    def predicts(self, X: FloatArray) -> Mask:  # noqa: N803 - the field's standard name
        """Return which rows keep all relations that hold in the rows fitted, so that their response can be predicted.

        Args:
            X: doubles (rows, columns).
        """
        fine = np.ones(len(X), dtype=bool)
        for at, value in self.constant.items():
            fine &= np.abs(X[:, at] - value) <= HELD * max(abs(value), 1.0)
        for relation in self.relations:
            parts = X[:, list(relation.columns)] * np.array(relation.weights)
            size = np.maximum(np.abs(parts).max(axis=1), abs(relation.constant))
            fine &= np.abs(parts.sum(axis=1) + relation.constant) <= HELD * size
        return fine

    def left_out(self) -> dict[str, str]:
        """Return the columns without a coefficient, each with the reason."""
        reasons: dict[str, str] = {}
        for at, name in enumerate(self.names):
            if at in self.constant:
                reasons[name] = "the same in every row fitted" if self.constant[at] else "0 in every row fitted"
            elif at not in self.kept:
                others = [
                    self.names[other]
                    for relation in self.relations
                    if at in relation.columns
                    for other in relation.columns
                    if other != at
                ]
                from_others = ", ".join(dict.fromkeys(others[:6])) + (", .." if len(others) > 6 else "")
                reasons[name] = f"a linear combination of {from_others}" if others else "a linear combination of others"
        return reasons

    def depends(self, columns: Sequence[int]) -> str | None:
        """Return a column of other terms that is left out for some columns, whose joint test it decides; or None."""
        for relation in self.relations:
            out = [at for at in relation.columns if at not in self.kept and at not in columns]
            if out and any(at in columns for at in relation.columns):
                return self.names[out[0]]
        return None
