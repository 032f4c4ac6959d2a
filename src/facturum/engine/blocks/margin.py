"""A block of rows with a margin around it, in which the neighbours in time of each row are found."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from facturum.data.grouping import SPARSE
from facturum.data.values import Array, Mask, Values, and_masks
from facturum.engine.blocks.failing import Failed, evaluated, taken
from facturum.engine.blocks.leaves import LEAF
from facturum.language.tree.nodes import Node

if TYPE_CHECKING:
    from facturum.engine.blocks.rows import LeafRows


class Margin:
    """A range of rows with those before and after it that operations along time read.

    Args:
        rows: the range.
        before, after: how many rows more there are at either side. A period k steps away is at most k rows away, since
            no period occurs twice within a unit.
    """

    def __init__(self, rows: LeafRows, before: int, after: int) -> None:
        self.source = rows.source
        self._before, self._after = before, after
        self.start, self.stop = max(rows.start - before, 0), min(rows.stop + after, rows.source.table.length)
        self.inset = rows.start - self.start
        self.length = self.stop - self.start
        self._rows = self.source.rows(self.start, self.stop)
        self._wholes: dict[Node, tuple[Values, Failed]] = {}
        self._once: dict[Any, Any] = {}
        self._places: dict[int, Array] = {}

    def reaches(self, before: int, after: int) -> bool:
        """Return whether it was made for so many rows at either side."""
        return self._before >= before and self._after >= after

    def whole(self, node: Node) -> Values:
        """Return an expression over all rows of the margin."""
        return self._whole(node)[0]

    def failed(self, node: Node) -> Failed:
        """Return where an expression fails."""
        return self._whole(node)[1]

    def _whole(self, node: Node) -> tuple[Values, Failed]:
        known = self._wholes.get(node)
        if known is None:
            known = self._wholes[node] = evaluated(self.source, node, self.start, self.stop, self._rows)
        return known

    def once(self, key: Any, make: Callable[[], Any]) -> Any:
        """Return what is made once for all operations of this range."""
        if key not in self._once:
            self._once[key] = make()
        return self._once[key]

    @cached_property
    def changes(self) -> Mask:
        """Which rows are of another unit than the row before."""
        new = self.source.changes(self.start, self.stop)
        if len(new):
            new[0] = True  # what lies before is not to be found here
        return new

    @cached_property
    def periods(self) -> Array:
        """The number of the period of each row."""
        return self.source.places_in_time(self.start, self.stop)

    @cached_property
    def place(self) -> Array:
        """How many rows of its unit come before each row, within the margin."""
        at = np.arange(self.length, dtype=np.int32)
        return at - np.maximum.accumulate(np.where(self.changes, at, 0))

    @cached_property
    def consecutive(self) -> bool:
        """Whether no unit has a gap here."""
        steps = np.diff(self.periods)
        return bool((steps == 1).all() if self._undivided else ((steps == 1) | self.changes[1:]).all())

    @cached_property
    def _undivided(self) -> bool:
        """Whether all rows are of one unit."""
        return int(np.count_nonzero(self.changes)) <= 1

    def positions(self, offset: int) -> Array:
        """Return for each row the place in the margin of the row so many periods later; -1 where there is none."""
        if offset not in self._places:
            self._places[offset] = self._found(offset)
        return self._places[offset]

    def _found(self, offset: int) -> Array:
        """Find rows by one number for unit and period, in a table of these where that is small, else by search."""
        keys, apart = self._keys
        if self._slots is not None:
            places: Array = self._slots[keys + (offset + apart)]
            return places
        at = np.minimum(np.searchsorted(keys, keys + offset), self.length - 1)
        return np.where(keys[at] == keys + offset, at, -1)

    @cached_property
    def _keys(self) -> tuple[Array, int]:
        """The number of each row, increasing, and how far units are apart."""
        steps = np.diff(self.periods)
        apart = self._before + self._after + 1
        keys = np.concatenate([[0], np.cumsum(np.where(self.changes[1:], apart, steps))])
        return keys, apart

    @cached_property
    def _slots(self) -> Array | None:
        keys, apart = self._keys
        size = int(keys[-1]) + 2 * apart + 1
        if size > SPARSE * self.length + LEAF:
            return None
        slots = np.full(size, -1, dtype=np.int64)
        slots[keys + apart] = np.arange(self.length)
        return slots

    def shift(self, values: Values, offset: int, start: int, stop: int) -> Values:
        """Return for rows from ``start`` to ``stop`` of the margin the values so many periods later."""
        if offset == 0:
            valid = None if values.valid is None else values.valid[start:stop]
            return Values(values.data[start:stop], valid, values.labels)
        if not self.consecutive:
            return taken(values, self.positions(offset)[start:stop])
        low, high = start + offset, stop + offset
        first = min(max(low, 0), self.length)
        inside = slice(first, max(first, min(high, self.length)))
        pad = (min(max(0, -low), stop - start), min(max(0, high - self.length), stop - start))
        near = self.once(("near", offset, start, stop), lambda: self._near(offset, start, stop, inside, pad))
        valid = None if values.valid is None else _padded(values.valid[inside], pad, False)
        return Values(_padded(values.data[inside], pad, 0), and_masks(near, valid), values.labels)

    def _near(self, offset: int, start: int, stop: int, inside: slice, pad: tuple[int, int]) -> Mask | None:
        """Return which rows have the row so many rows later in their unit; None where all have."""
        if self._undivided:
            return _padded(np.ones(inside.stop - inside.start, dtype=bool), pad, False) if any(pad) else None
        if offset < 0:
            mask: Mask = self.place[start:stop] >= -offset
            return mask
        return _padded(self.place[inside] >= offset, pad, False)


def _padded(data: Array, pad: tuple[int, int], nothing: Any) -> Array:
    if not any(pad):
        return data
    before, after = pad
    padded = np.full(before + len(data) + after, nothing, dtype=data.dtype)
    padded[before : before + len(data)] = data
    return padded
