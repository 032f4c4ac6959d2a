"""How rows before and after a change follow from the matrix itself, so that a stored build can predict them anew."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np

from facturum.audit.change_entries import SidesEntry
from facturum.audit.counterfactual.settings import Settled
from facturum.audit.counterfactual.worlds import Worlds
from facturum.data.values import Array, FloatArray, Mask
from facturum.engine.blocks.windows import Change

MOST_COLUMNS = 200  # of a matrix whose rows before and after a change are told
EXACT = 1e-9  # of the largest value of a column
FEW = 400  # rows that sums are looked for in first
DIGITS = 12


class Recovery:
    """Tells columns of changed rows as sums of columns of the rows as they are.

    Args:
        worlds: the rows.
        names: of all columns, by position.
        wanted: whether anything is; means of differences are enough where a model has no link.
    """

    def __init__(self, worlds: Worlds, names: Sequence[str], wanted: bool) -> None:
        self._worlds, self._names, self._wanted = worlds, names, wanted
        self._settled: dict[tuple[int, ...], tuple[tuple[Change, ...], list[str], FloatArray]] = {}

    def sides(
        self, rows: Array, terms: Sequence[str], before: FloatArray, after: FloatArray, setting: Settled
    ) -> SidesEntry | None:
        """Return how columns before and after a change follow from the matrix; None where they do not.

        Args:
            rows: the rows that were changed, by their place.
            terms: those that move.
            before, after: their columns (rows, columns).
            setting: what rows are set to besides, and which are chosen.
        """
        if not self._wanted or len(self._positions) > MOST_COLUMNS or not self._known[rows].any():
            return None
        fine, (changes, chosen, _) = self._known[rows], setting
        own = self._matrix[:, rows[fine]]
        others, settled = self._settled_to(changes)
        kept = np.isin(self._worlds.positions(others), self._worlds.positions(terms), invert=True)
        at = np.concatenate([self._worlds.positions(terms), self._worlds.positions(others)[kept]])
        columns = np.searchsorted(self._positions, at)
        rest = settled[kept][:, rows[fine]]
        found = [self._as_sums(own, columns, np.concatenate([side[fine].T, rest])) for side in (before, after)]
        every = not len(chosen) or bool(chosen.all())
        among = {} if every else self._sum(self._matrix[:, self._known], chosen[self._known].astype(np.float64))
        if found[0] is None or found[1] is None or among is None:
            return None
        return SidesEntry(among=among, before=found[0], after=found[1])

    def _settled_to(self, changes: tuple[Change, ...]) -> tuple[list[str], FloatArray]:
        """Return the terms that read what all rows are set to, and their columns then (columns, rows)."""
        key = tuple(map(id, changes))
        if key not in self._settled:
            terms = self._worlds.reading([change.variable for change in changes]) if changes else []
            columns = self._worlds.columns(np.arange(self._worlds.count), changes, terms)
            self._settled[key] = changes, terms, np.ascontiguousarray(columns.T)
        return self._settled[key][1:]

    @cached_property
    def _positions(self) -> Array:
        return np.sort(self._worlds.positions(self._worlds.every_term()))

    @cached_property
    def _matrix(self) -> FloatArray:
        """The columns of all rows as they are, in the order of their positions (columns, rows)."""
        terms = self._worlds.every_term()
        columns = self._worlds.columns(np.arange(self._worlds.count), (), terms)
        return np.ascontiguousarray(columns.T[np.argsort(self._worlds.positions(terms))])

    @cached_property
    def _known(self) -> Mask:
        """The rows that have a value in every column."""
        return np.asarray(np.isfinite(self._matrix).all(axis=0))

    def _as_sums(self, own: FloatArray, columns: Array, side: FloatArray) -> dict[str, dict[str, float]] | None:
        """Return each column that is another than in the rows as they are; None where one is no sum.

        Most are set to one value, or are themselves and a constant.
        """
        moved = side - own[columns]
        size = np.maximum(np.abs(side).max(axis=1), 1e-300)
        set_to, shifted = (np.ptp(each, axis=1) <= EXACT * size for each in (side, moved))
        still = (moved == 0).all(axis=1)
        sums: dict[str, dict[str, float]] = {}
        for place, at in enumerate(columns.tolist()):
            name, found = self._names[self._positions[at]], None
            if still[place]:
                continue
            if set_to[place]:
                found = {"": float(side[place, 0])}
            elif shifted[place]:
                found = {name: 1.0, "": float(f"{moved[place, 0]:.{DIGITS}g}")}
            else:
                found = self._sum(own, side[place])
            if found is None:
                return None
            sums[name] = found
        return sums

    def _sum(self, own: FloatArray, target: FloatArray) -> dict[str, float] | None:
        """Return a column as a sum of others, the constant under ""; a few rows are looked at first."""
        basis = np.column_stack([np.ones(len(target)), own.T])
        scale = np.maximum(np.abs(basis).max(axis=0), 1e-300)
        names = ["", *(self._names[position] for position in self._positions)]
        for apart in dict.fromkeys([max(len(target) // FEW, 1), 1]):
            solved, *_ = np.linalg.lstsq(basis[::apart] / scale, target[::apart], rcond=1e-12)
            solved = np.where(np.abs(solved) > EXACT * np.abs(solved).max(), solved, 0.0) / scale
            if np.abs(basis @ solved - target).max() <= EXACT * np.abs(target).max():
                return {name: float(f"{value:.{DIGITS}g}") for name, value in zip(names, solved, strict=True) if value}
        return None
