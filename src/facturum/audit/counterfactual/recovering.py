"""How rows before and after a change follow from the matrix itself, so that a stored build can predict them anew."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np

from facturum.audit.counterfactual.settings import Settled
from facturum.audit.counterfactual.worlds import Worlds
from facturum.audit.map.change_entries import SidesEntry
from facturum.data.values import Array, FloatArray, Mask
from facturum.engine.blocks.windows import Change

MOST_COLUMNS = 200  # of a matrix whose rows before and after a change are told
EXACT = 1e-9  # of the largest value of a column
MOST_ROWS = 1_024  # in which that is seen, evenly spread, with those in which a column is largest or smallest
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
        self._spreads: dict[bytes, Array] = {}
        self._chosen: dict[bytes, dict[str, float] | None] = {}

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
        changes, chosen, _ = setting
        others, settled = self._settled_to(changes)
        fine = self._spread(rows)
        fine = fine[np.isfinite(settled[:, rows[fine]]).all(axis=0)]
        if not len(fine):
            return None
        own = self._matrix[:, rows[fine]]
        kept = np.isin(self._worlds.positions(others), self._worlds.positions(terms), invert=True)
        at = np.concatenate([self._worlds.positions(terms), self._worlds.positions(others)[kept]])
        columns = np.searchsorted(self._positions, at)
        rest = settled[kept][:, rows[fine]]
        found = [self._as_sums(own, columns, np.concatenate([side[fine].T, rest])) for side in (before, after)]
        among = {} if not len(chosen) or chosen.all() else self._among(chosen)
        if found[0] is None or found[1] is None or among is None:
            return None
        return SidesEntry(among=among, before=found[0], after=found[1])

    def _spread(self, rows: Array) -> Array:
        """Return the places of some rows that have a value in every column, with the ends of each of many."""
        key = rows.tobytes()
        if key not in self._spreads:
            known = np.flatnonzero(self._known[rows])
            if len(known) > MOST_ROWS:
                own = self._matrix[:, rows[known]]
                even = np.linspace(0, len(known) - 1, MOST_ROWS).astype(np.int64)
                known = known[np.unique(np.concatenate([even, own.argmax(axis=1), own.argmin(axis=1)]))]
            self._spreads[key] = known
        return self._spreads[key]

    def _among(self, chosen: Mask) -> dict[str, float] | None:
        """Return what is 1 in the rows that are chosen, and 0 in others."""
        key = chosen.tobytes()
        if key not in self._chosen:
            rows = self._spread(np.arange(self._worlds.count))
            self._chosen[key] = self._sum(self._matrix[:, rows], chosen[rows].astype(np.float64))
        return self._chosen[key]

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
        """Return a column as a sum of others, the constant under ""; None where it is none."""
        basis = np.column_stack([np.ones(len(target)), own.T])
        scale = np.maximum(np.abs(basis).max(axis=0), 1e-300)
        names = ["", *(self._names[position] for position in self._positions)]
        solved, *_ = np.linalg.lstsq(basis / scale, target, rcond=1e-12)
        solved = np.where(np.abs(solved) > EXACT * np.abs(solved).max(), solved, 0.0) / scale
        if not np.abs(basis @ solved - target).max() <= EXACT * np.abs(target).max():
            return None
        return {name: float(f"{value:.{DIGITS}g}") for name, value in zip(names, solved, strict=True) if value}
