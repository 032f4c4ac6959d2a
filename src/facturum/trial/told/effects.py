"""What a change of the source comes to in the response: the predictions' average difference, with its interval."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import groupby

import numpy as np

from facturum.audit.map.change_entries import ChangeEntry, SidesEntry
from facturum.data.values import FloatArray
from facturum.trial.told.effect_text import Effect, Response, effect_text
from facturum.trial.told.predictions import Predictions, rows_of_change


@dataclass(frozen=True)
class Known:
    """What is known of sums of coefficients.

    Args:
        names: of all columns without the intercept.
        kept: the columns that have a coefficient.
        coefficients: of all, 0 where a column has none.
        identifies: returns whether a change of all columns keeps the relations among them.
        error: returns the standard error of what goes with the change; None where it is not defined.
        quantile: of the t or normal distribution, for the intervals.
    """

    names: Sequence[str]
    kept: tuple[int, ...]
    coefficients: FloatArray
    identifies: Callable[[FloatArray], bool]
    error: Callable[[FloatArray], float | None]
    quantile: float


@dataclass
class Effects:
    """The effects of a fitted design.

    Args:
        changes: of the source, and what moves with each.
        known: what is known of sums of coefficients.
        response: how differences are reported.
        predictions: of a model with a link.
        rows: the columns of rows fitted, for these, without the intercept (rows, columns).
    """

    changes: Sequence[ChangeEntry]
    known: Known
    response: Response
    predictions: Predictions | None = None
    rows: FloatArray | None = None
    not_identified: dict[str, None] = field(default_factory=dict)

    def all(self) -> Iterator[Effect]:
        """Yield the effects of all variables; of those that are not identified their names are kept."""
        places = {name: at for at, name in enumerate(self.known.names)}
        for (variable, where, _), group in groupby(
            self.changes, lambda change: (change.variable, change.where, bool(change.cycle))
        ):
            changes = list(group)
            found = [effect for change in changes if (effect := self._of(change, places)) is not None]
            yield from found
            parts = [change for change in changes if change.cycle]
            if len(parts) > 1 and len(found) == len(changes):
                yield from self._range(variable, where, parts, places)

    def _range(
        self, variable: str, where: str, parts: Sequence[ChangeEntry], places: Mapping[str, int]
    ) -> Iterator[Effect]:
        """Yield what lies between the highest and the lowest part of a cycle."""
        weights: dict[str, Mapping[str, float]] = {parts[0].cycle[1]: {}}
        weights |= {part.cycle[0]: part.weights for part in parts}
        height = {
            part: sum(weight * self.known.coefficients[places[name]] for name, weight in each.items())
            for part, each in weights.items()
        }
        top, bottom = max(height, key=lambda part: height[part]), min(height, key=lambda part: height[part])
        names = {*weights[top], *weights[bottom]}
        between = {name: weights[top].get(name, 0.0) - weights[bottom].get(name, 0.0) for name in names}
        text = f"{variable} = {top} (the peak) rather than {bottom} (the trough)"
        sides = _between(parts, bottom, top)
        change = ChangeEntry(
            variable=variable, change=text, where=where, weights=between, rows=parts[0].rows, sides=sides
        )
        if (effect := self._of(change, places)) is not None:
            yield effect

    def _of(self, change: ChangeEntry, places: Mapping[str, int]) -> Effect | None:
        weights = np.zeros(len(places))
        for name, weight in change.weights.items():
            weights[places[name]] = weight
        if not self.known.identifies(weights):
            self.not_identified[change.variable] = None
            return None
        if self.predictions is not None and self.rows is not None and change.sides is not None:
            rows = rows_of_change(change, change.sides, self.known.names, self.rows)
            if len(rows.before) and not self.predictions.identifies(rows):
                self.not_identified[change.variable] = None
                return None
            if len(rows.before):  # otherwise none of the rows taken is such a one
                return self.predictions.effect(rows, change.variable)
        with np.errstate(over="ignore", invalid="ignore"):
            estimate, error = float(weights @ self.known.coefficients), self.known.error(weights)
        if error is None or not np.isfinite([estimate, error]).all():
            return None
        low, high = estimate - self.known.quantile * error, estimate + self.known.quantile * error
        response = self.response
        if response.scale == "odds" and not change.same:  # no one number is the ratio of all rows
            response = Response(response.name, "log odds")
        text = effect_text(response, change.change, change.where, estimate, low, high)
        kept = tuple(weights[list(self.known.kept)].tolist())
        return Effect(change.variable, change.change, change.where, estimate, low, high, text, kept)


def _between(parts: Sequence[ChangeEntry], before: str, after: str) -> SidesEntry | None:
    """Return the rows in one part of a cycle, and in another."""
    known = [(part, part.sides) for part in parts if part.sides is not None]
    if len(known) < len(parts):
        return None
    base, sides = parts[0].cycle[1], known[0][1]
    ends = {base: sides.before} | {part.cycle[0]: each.after for part, each in known}
    return SidesEntry(among=sides.among, before=ends[before], after=ends[after])
