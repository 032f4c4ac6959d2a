"""The rows among which expressions run along time: a block with a margin around it, or a joined series."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np

from facturum.data.conversion.joining import JoinedSeries
from facturum.data.values import Array, Mask, Values
from facturum.engine.blocks.elsewhen import patched, without_row
from facturum.engine.blocks.failing import NOWHERE, Failed, evaluated, failing, origins_at, refuse, taken
from facturum.engine.blocks.leaves import leaves_of
from facturum.engine.blocks.margin import Margin
from facturum.engine.blocks.neighbours import Neighbours
from facturum.language.tree.nodes import Node
from facturum.language.tree.rows import Carry, Look, Nearest

if TYPE_CHECKING:
    from facturum.engine.blocks.rows import LeafRows
    from facturum.engine.blocks.source import Source


class BlockFrame:
    """Rows of the table with a margin around them.

    Args:
        margin: the range that they lie in, and its margin.
        rows: those asked for.
        node: the expression that is read.
    """

    def __init__(self, margin: Margin, rows: LeafRows, node: Node) -> None:
        self._margin, self._rows = margin, rows
        self._alone = node if rows.source.stands_alone(node) else None
        self._stop = margin.inset + rows.stop - rows.start

    def whole(self, node: Node) -> Values:
        """Return an expression over all rows of the frame; where it fails it is missing."""
        return self._margin.whole(node)

    def here(self, values: Values, offset: int = 0) -> Values:
        """Return for each row asked for the value so many periods later in its unit."""
        part = self._at(values, offset)
        if self._alone is None or offset == 0:
            return part
        return without_row(part, self._alone, self._rows, offset, self.absent(offset))

    def _at(self, values: Values, offset: int) -> Values:
        margin, chosen = self._margin, self._rows.positions_chosen
        part = margin.shift(values, offset, margin.inset, self._stop)
        return part if chosen is None else part.take(chosen)

    def place(self, origins: Array, offset: int) -> Values:
        """Return something of the rows of the frame, for each row asked for of the row so many periods later."""
        return self._at(Values(origins), offset)

    def absent(self, offset: int) -> Mask:
        """Return for which rows asked for there is no row so many periods later."""
        there = self._at(Values(np.ones(self._margin.length, dtype=bool)), offset)
        return ~there.present_mask()

    def windowed(self, node: Node, key: Node, work: Callable[[Look], Values]) -> Values:
        """Return for each row asked for what is computed from an expression at several periods.

        Args:
            node: the expression.
            key: the operation, which a series computes once for all blocks.
            work: computes it.
        """
        return work(partial(self.here, self.whole(node)))

    def refuse_failed(self, node: Node, offsets: Iterable[int]) -> None:
        """Refuse rows that read a row in which an expression fails; rows that are not read may fail.

        Args:
            node: the expression.
            offsets: the periods that each row reads.
        """
        failed = self._margin.failed(node)
        if failed:
            refuse(failed, self._rows, [partial(_origins, self, offset) for offset in offsets])

    def nearest(self, node: Node) -> Nearest:
        """Return the values at or before each row asked for, and at or after it, that are nearest within its unit."""
        near: Neighbours = self._margin.once(("nearest", node), lambda: Neighbours(self._margin, node))
        return near.of(self._rows, self._margin.inset, self._stop)

    def carried(self, node: Node, key: Node, carry: Carry) -> Values:
        """Return for each row asked for what comes of a state carried to it from the first row of its unit.

        Args:
            node: the expression that the state is made of.
            key: the operation.
            carry: takes the values of some rows of a unit, in the order of time, and the state before them.
        """
        rows = self._rows
        values, failed = rows.source.carried(node, key, carry).of(rows.start, rows.stop)
        if failed:
            refuse(failed, rows, [rows.chosen])
        return values if rows.positions_chosen is None else values.take(rows.positions_chosen)


def _origins(frame: BlockFrame | JoinedFrame, offset: int, origins: Array) -> Array:
    """Return for rows asked for, so many periods later, the row in which an expression fails; NOWHERE for none."""
    part = frame.place(origins, offset)
    return part.data if part.valid is None else np.where(part.valid, part.data, NOWHERE)


class SeriesFrame:
    """All rows of a joined series, among which expressions of its variables run.

    Args:
        source: its rows.
        joined: how the rows of the plan find them.
    """

    def __init__(self, source: Source, joined: JoinedSeries) -> None:
        self.source, self.joined = source, joined

    def whole(self, node: Node) -> tuple[Values, Failed]:
        """Return an expression over all rows of the series, and where it fails."""
        known: tuple[Values, Failed] = self.source.shared(("whole", node), lambda: self._evaluated(node))
        return known

    def _evaluated(self, node: Node) -> tuple[Values, Failed]:
        parts = [evaluated(self.source, node, start, stop) for start, stop in leaves_of(self.source.table.length)]
        length = self.source.table.length
        failed: Failed = {}
        for (start, stop), (_, of_part) in zip(leaves_of(length), parts, strict=True):
            for name, (failure, origins) in of_part.items():
                failed.setdefault(name, (failure, np.full(length, NOWHERE)))[1][start:stop] = origins
        valid = None
        if any(part.valid is not None for part, _ in parts):
            valid = np.concatenate([part.present_mask() for part, _ in parts])
        return Values(np.concatenate([part.data for part, _ in parts]), valid, parts[0][0].labels), failed

    def positions(self, offset: int) -> Array:
        """Return for each row of the series the row so many periods later; -1 where there is none."""
        at: Array = self.source.shared(("at", offset), lambda: self.source.series.rows_at(offset))
        return at


class JoinedFrame:
    """The rows of a joined series, for rows of the plan's table to find theirs among.

    In a period that the series lacks, its variables are missing, as they are in the row that it is joined to.
    """

    def __init__(self, series: SeriesFrame, rows: LeafRows, node: Node) -> None:
        self._series, self._rows, self._node = series, rows, node

    def whole(self, node: Node) -> Values:
        return self._series.whole(node)[0]

    def here(self, values: Values, offset: int = 0) -> Values:
        at = self._positions(offset)
        return without_row(taken(values, at), self._node, self._rows, offset, at < 0)

    def place(self, origins: Array, offset: int) -> Values:
        return taken(Values(origins), self._positions(offset))

    def absent(self, offset: int) -> Mask:
        missing: Mask = self._positions(offset) < 0
        return missing

    def _positions(self, offset: int) -> Array:
        rows = self._rows
        period, known = rows.periods()
        unit = rows.chosen(self._series.joined.unit[rows.start : rows.stop])
        known = np.ones(rows.length, dtype=bool) if known is None else known
        return self._series.source.series.lookup(unit, period + offset, known)

    def windowed(self, node: Node, key: Node, work: Callable[[Look], Values]) -> Values:
        """Return the same, computed once over the whole series."""
        values, series = self.whole(node), self._series
        whole: Values = self._once(key, lambda: work(lambda offset: taken(values, series.positions(offset))))
        at = self._positions(0)
        part, lacking = taken(whole, at), np.flatnonzero(at < 0)
        if not len(lacking):
            return part
        frame = self._rows.where(lacking).frame(node, (0,))
        return patched(part, lacking, work(partial(frame.here, values)))

    def _once(self, key: Any, make: Callable[[], Any]) -> Any:
        return self._series.source.shared(("once", key), make)

    def refuse_failed(self, node: Node, offsets: Iterable[int]) -> None:
        failed = self._series.whole(node)[1]
        if failed:
            refuse(failed, self._rows, [partial(_origins, self, offset) for offset in offsets])

    def nearest(self, node: Node) -> Nearest:
        whole, failed = self._series.whole(node)
        series = self._series.source.series
        there = whole.present_mask() | failing(failed, len(whole.data))
        before, after = self._once(("neighbours", node), lambda: series.neighbours(there))
        at = self._positions(0)
        own = np.maximum(at, 0)

        def refused(fills: Sequence[tuple[Array, Mask]]) -> None:
            refuse(failed, self._rows, [partial(origins_at, at, use) for at, use in fills])

        def ends() -> tuple[Array, Array]:
            first, last = self._once("ends", series.last_periods)
            return first[own], last[own]

        found = [np.where(at >= 0, side[own], -1) for side in (before, after)]
        return Nearest(whole, series.period, series.period[own], found[0], found[1], ends, refused)

    def carried(self, node: Node, key: Node, carry: Carry) -> Values:
        values, failed = self._series.source.carried(node, key, carry).of(0, self._series.source.table.length)
        at = self._positions(0)
        if failed:
            refuse(failed, self._rows, [lambda origins: origins_at(at, at >= 0, origins)])
        return taken(values, at)
