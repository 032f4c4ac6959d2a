"""What a pass counts of the rows: given, kept, learned from, and left out by reason."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

import numpy as np

from facturum.data.values import Array
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.errors import ROWS_SHOWN, DataError, counted, option

if TYPE_CHECKING:
    from facturum.engine.passes.selection import Selection


class Totals:
    """Counts of rows, added up stretch by stretch.

    `given` counts the rows of the table without those of history, `kept` those that remain, `learned` those of them
    that are learned from; `reasons` how many were left out, by reason and by the part that caused it; `missing` for
    each part of the plan in how many kept rows it is missing.
    """

    def __init__(self) -> None:
        self.given = self.kept = self.learned = 0
        self.reasons: Counter[tuple[str, str]] = Counter()
        self.missing: Counter[str] = Counter()
        self._first: list[int] = []  # of the rows with a missing value
        self._places: set[str] = set()  # of the parts that are missing in some row

    def add(self, selection: Selection) -> None:
        """Count the rows of a stretch."""
        self.given += selection.given
        self.kept += selection.count
        self.learned += selection.learned
        self.reasons.update(selection.reasons())
        self.missing.update(selection.missing())
        rows, causes = selection.dropped_rows()
        if (causes >= 0).any():
            self._add_incomplete(rows[causes >= 0], [selection.parts[at] for at in np.unique(causes[causes >= 0])])

    def _add_incomplete(self, rows: Array, places: list[str]) -> None:
        self._first = sorted([*self._first, *np.sort(rows)[: ROWS_SHOWN + 1].tolist()])[: ROWS_SHOWN + 1]
        self._places.update(places)

    def settle(self, prepared: Prepared) -> None:
        """Refuse a table of which no row is left, and rows with missing values where the plan refuses them.

        Raises:
            DataError: with the rows.
        """
        if prepared.spec.rows.missing == "fail":
            self._refuse_missing([place for place in prepared.parts() if place in self._places])
        if not self.kept:
            raise self._nothing_left(prepared)

    def _refuse_missing(self, places: list[str]) -> None:
        if not places:
            return
        count = sum(rows for (_, place), rows in self.reasons.items() if place != "rows.keep")
        raise DataError(
            f"{counted(count, 'row')} with missing values, and [rows] missing is 'fail'",
            place=places[0],
            rows=self._first,
            count=count,
            remedy='Fill them, leave them out with [rows] keep, or write missing = "drop". Concerned: '
            + ", ".join(places[:8])
            + ".",
        )

    @staticmethod
    def _remedy(prepared: Prepared, chief: str) -> str:
        """Return what to do where no row is left; along time, earlier rows or the step may be what is wrong."""
        root, step = prepared.parts().get(chief), prepared.spec.data.every
        if root is None or not prepared.looks_along(root) or prepared.shaped.history_rows:
            return "Loosen [rows] keep, or fill or leave out the variables that are missing."
        earlier = f"Give the earlier rows, {option('--history FILE', 'history=table')}"
        return f'{earlier}, or look less far; and is every = "{step}" the step from one row to the next?'

    def _nothing_left(self, prepared: Prepared) -> DataError:
        causes = sorted(self.reasons.items(), key=lambda item: (-item[1], item[0][::-1]))
        told = [
            f"{count:,} where {reason} in {place}" if place != "rows.keep" else f"{count:,} where {reason}"
            for (reason, place), count in causes
        ]
        chief = causes[0][0][1]  # the place that most of the rows are lost at
        return DataError(
            f"no row is left of {self.given:,}: " + "; ".join(told[:5]),
            place=chief,
            text=prepared.spec.rows.keep if chief == "rows.keep" else None,
            remedy=self._remedy(prepared, chief),
        )
