"""The row map: which source rows became rows of the matrix, and why the others did not."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass

import numpy as np

from facturum.data.values import Array, Mask
from facturum.engine.passes.selection import Selection
from facturum.errors import counted, listed

SOURCE_ROW, LEARNING_ROW = "source_row", "learning_row"


def carried_names(carried: Iterable[str], taken: Collection[str]) -> dict[str, str]:
    """Return what each carried variable is called beside the matrix: its name, or NAME_carried where that is taken.

    Example:
        >>> carried_names(["hut", "beds"], ["intercept", "beds"])
        {'hut': 'hut', 'beds': 'beds_carried'}
    """
    names: dict[str, str] = {}
    others = {*taken, SOURCE_ROW, LEARNING_ROW}
    for name in carried:
        called = name
        while called in others or called in names.values():
            called += "_carried"
        names[name] = called
    return names


@dataclass(frozen=True, eq=False)
class RowMap:
    """Which source rows are in the matrix.

    Args:
        kept: the source row number of each row of the matrix, counted from 1.
        learning: for each row of the matrix, whether open questions were answered from it.
        dropped: the numbers of the rows left out.
        causes: for each of them the number of its reason in ``reasons``.
        reasons: pairs of a reason and the place in the plan that caused it.
    """

    kept: Array
    learning: Mask
    dropped: Array
    causes: Array
    reasons: dict[int, tuple[str, str]]

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, RowMap):
            return NotImplemented
        pairs = [(getattr(self, each), getattr(other, each)) for each in ("kept", "learning", "dropped", "causes")]
        return self.reasons == other.reasons and all(np.array_equal(own, others) for own, others in pairs)

    def __repr__(self) -> str:
        counts = [(int((self.causes == cause).sum()), *reason) for cause, reason in self.reasons.items()]
        head = f"{counted(len(self.kept), 'row')} kept, {len(self.dropped):,} left out"
        return listed(head, (f"{rows:,} left out: {what} ({place})" for rows, what, place in sorted(counts)[::-1]))


def row_map(selection: Selection) -> RowMap:
    """Return the row map of a selection."""
    dropped, causes = selection.dropped_rows()
    reasons = {int(cause): selection.reason(int(cause)) for cause in sorted(set(causes.tolist()))}
    return RowMap(selection.source_rows(), selection.learning_rows(), dropped, causes, reasons)
