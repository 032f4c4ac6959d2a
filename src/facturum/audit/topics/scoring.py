"""How well the items of a score go together, gathered from stretches of rows."""

from __future__ import annotations

import numpy as np

from facturum.audit.map.entries import ItemEntry, ScoreEntry
from facturum.audit.topics.stretch import Stretch
from facturum.data.values import Mask
from facturum.language.tree.nodes import Node
from facturum.language.tree.traits import Scored
from facturum.numerics.shapes.group_comparisons import Covariances, scale_figures


class ScoreCounts:
    """How well the items of a score go together.

    Args:
        node: the operation.
        scored: its items.
        terms: the terms that it is part of.
    """

    def __init__(self, node: Node, scored: Scored, terms: list[str]) -> None:
        self._node, self._scored, self._terms = node, scored, terms
        self._too_few = 0
        self._sums = Covariances.of(np.zeros((len(scored.items), 0)))
        self._has_alpha = node.sums_up and len(scored.items) > 1

    def see(self, stretch: Stretch) -> None:
        """Count the rows of a stretch."""
        items = [stretch.values(item, stretch.kept) for item in self._scored.items]
        there = np.array([item.present_mask() for item in items])
        self._too_few += int((np.count_nonzero(there, axis=0) < self._scored.needed()).sum())
        if self._has_alpha:
            complete: Mask = np.logical_and.reduce(there, axis=0)
            numbers = np.array([item.numbers() for item in items])
            for leaf in stretch.leaves(stretch.kept):
                self._sums = self._sums.merge(Covariances.of(numbers[:, leaf].compress(complete[leaf], axis=1)))

    def entry(self) -> ScoreEntry:
        """Return how well the items go together."""
        alpha: float | None = None
        item_rest: list[float | None] = [None] * len(self._scored.items)
        if self._has_alpha:
            alpha, item_rest = scale_figures(self._sums)
        return ScoreEntry(
            expression=str(self._node),
            terms=self._terms,
            needed=self._scored.needed(),
            too_few=self._too_few,
            alpha=alpha,
            items=[ItemEntry(item=str(i), item_rest=r) for i, r in zip(self._scored.items, item_rest, strict=True)],
        )
