"""The nearest rows with a value before and after each row of a block, also far beyond its margin."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from facturum.data.values import Array, Mask, Values
from facturum.engine.blocks.failing import NOWHERE, Failed, evaluated, failing, origins_at, refuse
from facturum.engine.blocks.leaves import LEAF
from facturum.engine.blocks.margin import Margin
from facturum.language.tree.nodes import Node
from facturum.language.tree.rows import Nearest

if TYPE_CHECKING:
    from facturum.engine.blocks.rows import LeafRows
    from facturum.engine.blocks.source import Source

NEAR = 256  # rows that are looked through first for a value outside a block


class Neighbours:
    """For each row of a margin the nearest rows with a value, also beyond the margin.

    A row in which the expression fails counts, so that it is refused where it is read.
    """

    def __init__(self, margin: Margin, node: Node) -> None:
        source, length = margin.source, margin.length
        self._margin, self._node = margin, node
        whole, failed = margin.whole(node), margin.failed(node)
        present = whole.present_mask() | failing(failed, length)
        first = _present(source, node, margin.start, -1)
        last = _present(source, node, margin.stop, 1)
        self._ends = [at for at in (first, last) if at is not None]
        outer = [evaluated(source, node, at, at + 1) for at in self._ends]
        lead = int(first is not None)
        at = np.arange(length)
        new = margin.changes
        unit = np.cumsum(new) - 1
        before = np.maximum.accumulate(np.where(present, at, -1))
        after = np.minimum.accumulate(np.where(present, at, length)[::-1])[::-1]
        before = np.where((before >= 0) & (unit[np.maximum(before, 0)] == unit), before, -1)
        after = np.where((after < length) & (unit[np.minimum(after, length - 1)] == unit), after, -1)
        if first is not None:
            before[(before < 0) & (unit == 0)] = length
        if last is not None:
            after[(after < 0) & (unit == unit[-1])] = length + lead
        self._before, self._after = before, after
        values = [whole, *[part for part, _ in outer]]
        self._values = Values(
            np.concatenate([part.data for part in values]),
            np.concatenate([part.present_mask() for part in values]),
            whole.labels,
        )
        self._periods = np.concatenate([margin.periods, *[source.places_in_time(at, at + 1) for at in self._ends]])
        self._failed: Failed = dict(failed)
        for _, part in outer:
            for name, (failure, _) in part.items():
                self._failed.setdefault(name, (failure, np.full(length, NOWHERE)))
        for name, (failure, origins) in self._failed.items():
            beyond = [part[name][1] if name in part else np.array([NOWHERE]) for _, part in outer]
            self._failed[name] = (failure, np.concatenate([origins, *beyond]))

    def of(self, rows: LeafRows, start: int, stop: int) -> Nearest:
        """Return what rows have of it that lie between two places of the margin."""
        before, after = rows.chosen(self._before[start:stop]), rows.chosen(self._after[start:stop])
        period = rows.chosen(self._margin.periods[start:stop])

        def refused(fills: Sequence[tuple[Array, Mask]]) -> None:
            refuse(self._failed, rows, [partial(origins_at, at, use) for at, use in fills])

        def ends() -> tuple[Array, Array]:
            spans = self._margin.once("spans", lambda: _spans(self._margin))
            return rows.chosen(spans[0][start:stop]), rows.chosen(spans[1][start:stop])

        return Nearest(self._values, self._periods, period, before, after, ends, refused)


def _spans(margin: Margin) -> tuple[Array, Array]:
    """Return for each row of a margin the first and the last period of its unit."""
    source = margin.source
    if not margin.length:
        return margin.periods, margin.periods
    unit = np.cumsum(margin.changes) - 1
    begins = np.flatnonzero(margin.changes)
    first_period, last_period = margin.periods[begins], margin.periods[np.append(begins[1:], margin.length) - 1]
    if (earliest := _edge_of_unit(source, margin.start, -1)) is not None:
        first_period[0] = source.places_in_time(earliest, earliest + 1)[0]
    if (latest := _edge_of_unit(source, margin.stop, 1)) is not None:
        last_period[-1] = source.places_in_time(latest, latest + 1)[0]
    return first_period[unit], last_period[unit]


def _edge_of_unit(source: Source, edge: int, direction: int) -> int | None:
    """Return the outermost row of a unit that goes on beyond an edge; None where it does not."""
    outermost = None
    for start, stop in _beyond(source, edge, direction):
        if stop > start:
            outermost = start if direction < 0 else stop - 1
    return outermost


def _beyond(source: Source, edge: int, direction: int) -> Iterable[tuple[int, int]]:
    """Yield the ranges of rows beyond an edge that belong to the unit next to it, from the edge outwards."""
    length, size = source.table.length, NEAR
    while 0 < edge < length and not source.changes(edge, edge + 1)[0]:
        if direction < 0:
            start = max(edge - size, 0)
            begins = np.flatnonzero(source.changes(start, edge))
            low = start + int(begins[-1]) if len(begins) else start
            yield low, edge
            if len(begins):
                return
            edge = start
        else:
            stop = min(edge + size, length)
            begins = np.flatnonzero(source.changes(edge, stop))
            high = edge + int(begins[0]) if len(begins) else stop
            yield edge, high
            if len(begins):
                return
            edge = stop
        size = LEAF


def _present(source: Source, node: Node, edge: int, direction: int) -> int | None:
    """Return the nearest row beyond an edge, of the unit that goes on there, in which an expression has a value."""
    for start, stop in _beyond(source, edge, direction):
        whole, failed = evaluated(source, node, start, stop)
        at = np.flatnonzero(whole.present_mask() | failing(failed, stop - start))
        if len(at):
            return start + int(at[-1] if direction < 0 else at[0])
    return None
