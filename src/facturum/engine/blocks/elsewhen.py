"""Periods of a unit in which the table has no row: what expressions along time, and of the calendar, are there."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np

from facturum.data.time.periods import period_starts
from facturum.data.values import Array, Mask, Values
from facturum.language.tree.blocks import Block
from facturum.language.tree.failures import RowFailure
from facturum.language.tree.nodes import Node
from facturum.language.tree.rows import Carry, Frame, Look, Nearest

if TYPE_CHECKING:
    from facturum.engine.blocks.rows import LeafRows


class Elsewhen:
    """Rows seen so many periods later, where no row of the table is: only other periods, the calendar and the unit are.

    Args:
        rows: the rows.
        offset: how many periods later.
    """

    def __init__(self, rows: LeafRows, offset: int) -> None:
        self._rows, self._offset = rows, offset
        self.length, self.every = rows.length, rows.every
        self._values: dict[Node, Values] = {}

    def variable(self, name: str) -> Values:
        source = self._rows.source
        if name in source.derived:
            return self.evaluate(source.derived[name])
        if source.timing is not None and name == source.timing.time and self.every != "row":
            period, known = self.periods()
            return Values(period_starts(period, self.every), known)
        own = self._rows.variable(name)
        if source.timing is not None and name in source.timing.panel:
            return own
        return Values(np.zeros_like(own.data), np.zeros(self.length, dtype=bool), own.labels)

    def present(self, name: str) -> Mask | None:
        return self.variable(name).valid

    def evaluate(self, node: Node) -> Values:
        if node not in self._values:
            self._values[node] = node.values(self)
        return self._values[node]

    def valid(self, node: Node) -> Mask | None:
        return node.valid(self)

    def block(self, node: Node) -> Block:
        return node.block(self)

    def where(self, chosen: Array) -> Elsewhen:
        return Elsewhen(self._rows.where(chosen), self._offset)

    def frame(self, node: Node, offsets: Sequence[int]) -> Frame:
        inner = self._rows.frame(node, [offset + self._offset for offset in offsets])
        return FrameElsewhen(inner, self._offset)

    def periods(self) -> tuple[Array, Mask | None]:
        period, known = self._rows.periods()
        return period + self._offset, known

    def shared(self, key: Any, make: Callable[[], Any]) -> Any:
        return self._rows.shared(key, make)

    def failure(self, node: Node, bad: Mask, what: str, remedy: str | None = None) -> RowFailure:
        return self._rows.failure(node, bad, what, remedy)


class FrameElsewhen:
    """A frame around rows that are seen so many periods later."""

    def __init__(self, frame: Frame, offset: int) -> None:
        self._frame, self._offset = frame, offset

    def whole(self, node: Node) -> Values:
        return self._frame.whole(node)

    def here(self, values: Values, offset: int = 0) -> Values:
        return self._frame.here(values, offset + self._offset)

    def absent(self, offset: int) -> Mask:
        return self._frame.absent(offset + self._offset)

    def windowed(self, node: Node, key: Node, work: Callable[[Look], Values]) -> Values:
        return work(partial(self.here, self.whole(node)))

    def refuse_failed(self, node: Node, offsets: Iterable[int]) -> None:
        self._frame.refuse_failed(node, [offset + self._offset for offset in offsets])

    def nearest(self, node: Node) -> Nearest:
        near = self._frame.nearest(node)
        nowhere = np.full(len(near.before), -1)
        return replace(near, before=nowhere, after=nowhere)  # a value is imputed in rows alone

    def carried(self, node: Node, key: Node, carry: Carry) -> Values:
        own = self._frame.carried(node, key, carry)
        return replace(own, valid=np.zeros(len(own.data), dtype=bool))  # a state is carried to rows alone


def without_row(part: Values, node: Node, rows: LeafRows, offset: int, absent: Mask) -> Values:
    """Return values with those of an expression in periods in which there is no row.

    Args:
        part: the values of rows, of another period each.
        node: the expression, which needs no row there.
        rows: the rows that read it.
        offset: how many periods later they do.
        absent: those that find no row there.
    """
    lacking = np.flatnonzero(absent)
    if not len(lacking):
        return part
    there = rows if len(lacking) == rows.length else rows.where(lacking)
    return patched(part, lacking, Elsewhen(there, offset).evaluate(node))


def patched(part: Values, at: Array, other: Values) -> Values:
    """Return values with others at some places; categories of the two may differ."""
    other = other.full(len(at))
    whole = part.full(len(part.data))
    valid = whole.present_mask().copy()
    valid[at] = other.present_mask()
    labels, codes = whole.labels, other.data
    if labels != other.labels and other.labels is not None:
        labels = tuple(dict.fromkeys([*(whole.labels or ()), *other.labels]))
        place = {label: code for code, label in enumerate(labels)}
        recoded = np.array([place[label] for label in other.labels] or [0])
        codes = recoded[np.maximum(other.data, 0)] if len(other.labels) else other.data
    data = whole.data.astype(np.result_type(whole.data, codes), copy=True)
    data[at] = codes
    return Values(data, None if valid.all() else valid, labels)
