"""What imputations filled, gathered from stretches of rows."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from facturum.audit.map.entries import FillEntry, ImputationEntry
from facturum.audit.topics.stretch import Stretch
from facturum.data.values import Array, FloatArray, Label, Mask, label_text, plain_number
from facturum.language.tree.nodes import Node
from facturum.language.tree.options import Absent
from facturum.language.tree.traits import Imputed
from facturum.numerics.exact.moments import Moments
from facturum.numerics.shapes.group_comparisons import welch


@dataclass(frozen=True)
class FilledCells:
    """The cells that an imputation filled: source row numbers, from 1, and the imputed values, numbers or texts."""

    imputation: int
    rows: Array
    numbers: FloatArray | None
    texts: list[str] | None


class ImputationCounts:
    """What an imputation filled.

    Args:
        number: its place among the imputations of the plan.
        node: the operation.
        imputed: what it fills, and with what.
        terms: the terms that it is part of.
        variable: what sentences call the variable.
    """

    def __init__(self, number: int, node: Node, imputed: Imputed, terms: list[str], variable: str) -> None:
        self.number, self.node, self.terms, self.variable = number, node, terms, variable
        self._imputed = imputed
        self._rows = self._cells = self._still_missing = self._not_seen = self._no_group = 0
        self._of_group = np.zeros(len(imputed.fills or ()), dtype=np.int64)
        self._responses = Moments.of(2)  # where it was filled, and where not

    def see(self, stretch: Stretch) -> tuple[Mask, FilledCells]:
        """Count the cells of a stretch; return in which kept rows they were filled, and with what."""
        before, after = stretch.values(self._imputed.x, stretch.kept), stretch.values(self.node, stretch.kept)
        present = after.present_mask()
        filled = ~before.present_mask() & present
        self._rows += len(filled)
        self._cells += int(np.count_nonzero(filled))
        self._still_missing += int(np.count_nonzero(~present))
        at = stretch.kept[filled]
        if self._imputed.otherwise is not None and len(at):
            groups = self._imputed.group_of(stretch.source.rows(stretch.start, stretch.stop, at - stretch.start))
            self._of_group += np.bincount(groups[groups >= 0], minlength=len(self._of_group))
            grouped = np.logical_and.reduce([stretch.values(key, at).present_mask() for key in self._imputed.by])
            self._not_seen += int(np.count_nonzero((groups < 0) & grouped))
            self._no_group += int(np.count_nonzero((groups < 0) & ~grouped))
        if (y := stretch.response) is not None:
            known = ~np.isnan(y)
            self._responses = stretch.moments(stretch.kept, [y, y], [filled & known, ~filled & known], self._responses)
        rows = stretch.source.row_numbers(at)
        order = np.argsort(rows) if stretch.selection.restored else np.arange(len(rows))
        data = after.data[filled][order]
        if after.labels is not None:
            texts = [label_text(after.labels[code]) for code in data.tolist()]
            return filled, FilledCells(self.number, rows[order], None, texts)
        return filled, FilledCells(self.number, rows[order], data.astype(np.float64), None)

    def entry(self) -> ImputationEntry:
        """Return what was filled, and whether missingness is associated with the response."""
        difference, t = welch(self._responses)
        return ImputationEntry(
            expression=str(self.node),
            variable=self.variable,
            how=self._imputed.how or "value",
            terms=self.terms,
            rows=self._rows,
            cells=self._cells,
            still_missing=self._still_missing,
            groups_not_seen=self._not_seen,
            no_group=self._no_group,
            fills=self._fills(),
            response_difference=difference,
            t=t,
        )

    def _fills(self) -> list[FillEntry]:
        node = self._imputed
        if node.otherwise is None:
            return [FillEntry(group=None, fill=_plain(node.value), cells=self._cells)]
        fills = [
            FillEntry(group=_group_text(key), fill=_plain(value), cells=int(count))
            for (key, value), count in zip(node.fills, self._of_group, strict=True)
        ]
        return [*fills, FillEntry(group=None, fill=_plain(node.otherwise), cells=self._not_seen + self._no_group)]


def _plain(value: Label | Absent | None) -> float | str | None:
    if value is None or isinstance(value, Absent):
        return None
    return value if isinstance(value, str) else plain_number(float(value))


def _group_text(key: Any) -> str:
    parts = key if isinstance(key, tuple) else (key,)
    return ", ".join("missing" if isinstance(part, Absent) else label_text(part) for part in parts)
