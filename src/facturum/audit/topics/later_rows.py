"""Learning rows whose columns read later rows that are not learned from."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

import numpy as np

from facturum.audit.topics.stretch import Stretch
from facturum.data.values import Array, Mask
from facturum.engine.blocks.source import Source
from facturum.engine.planning.expressions.leaks import looks
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.errors import counted
from facturum.language.core.literals import truths
from facturum.language.core.logic import And, Not
from facturum.language.tree.nodes import Node
from facturum.language.writing import is_missing, missing_where


class LaterRows:
    """Counts the learning rows of the matrix that read later rows outside the learning rows, part by part.

    Args:
        prepared: the resolved plan over its table.
    """

    def __init__(self, prepared: Prepared) -> None:
        self._learning = 0
        self._counts: Counter[str] = Counter()
        self._offsets: dict[str, list[int]] = {}
        self._fills: dict[str, list[Node]] = {}
        if prepared.learn is None or prepared.written.resolved:
            return
        # false where the condition is missing, too: such a row is not learned from
        self._learned_from = And(prepared.learn, Not(is_missing(prepared.learn)))
        joined = {name for series in prepared.shaped.joined for name in series.variables}
        derived = {name: _without_fills(node) for name, node in prepared.derived.items()}
        for place, root in prepared.parts().items():
            if place.startswith("derived."):
                continue
            read = looks(_without_fills(root), derived, groups=False)
            later = {look.offset for look in read if look.pooled is None and look.variable not in joined}
            self._offsets[place] = sorted(offset for offset in later if offset > 0)
            self._fills[place] = [
                way.rebuilt([missing_where(self._learned_from, is_missing(child)) for child in way.children()])
                for fill in prepared.reached(root)
                for where, way in fill.filled_from()
                if where == "later"
            ]

    def see(self, stretch: Stretch) -> None:
        """Look at the rows of a stretch."""
        if not any([*self._offsets.values(), *self._fills.values()]):
            return
        at = stretch.learning
        self._learning += len(at)
        for place, offsets in self._offsets.items():
            if len(at) and (offsets or self._fills[place]):
                self._counts[place] += int(self._reading(stretch.source, at, place).sum())

    def _reading(self, source: Source, at: Array, place: str) -> Mask:
        """Return which of some rows read a later row that is not learned from."""
        rows = source.rows_at(at)
        reading = np.zeros(len(at), dtype=bool)
        offsets = self._offsets[place]
        if offsets:
            frame = rows.frame(self._learned_from, offsets)
            whole = frame.whole(self._learned_from)
            for offset in offsets:
                learned_from = frame.here(whole, offset)
                reading |= ~frame.absent(offset) & ~truths(learned_from)
        for fill in self._fills[place]:
            filled = rows.evaluate(fill)
            reading |= filled.present_mask() & ~truths(filled)
        return reading

    def warnings(self) -> Iterator[str]:
        """Say how many learning rows read what would not have been known."""
        for place, count in self._counts.items():
            if count:
                yield (
                    f"{place} reads later rows that are not learned from in {count:,} of "
                    f"{counted(self._learning, 'learning row')}: what is learned depends on them. Read earlier periods "
                    "only, or widen [rows] learn, if it must not."
                )


def _without_fills(node: Node) -> Node:
    """Return an expression with imputations along time left out: which row fills depends on the row."""
    if node.moved is not None and node.filled_from():
        return _without_fills(node.moved)
    return node.map(_without_fills)
