"""Bringing rows that come block by block into the order of unit and period: sorted runs, which are then merged."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from facturum.data.table import Table
from facturum.data.time.faults import not_a_time
from facturum.data.time.periods import Timing, period_numbers
from facturum.data.values import Array, Kind
from facturum.data.variable import Variable

_NO_UNIT, _NO_PERIOD = 1 << 60, 1 << 61  # rows without a unit come after all others, those without a period last


class _Numbering:
    """Numbers values in the order in which they first occur."""

    def __init__(self) -> None:
        self._known: Array = np.zeros(0, dtype=np.int64)  # sorted
        self._numbers: Array = np.zeros(0, dtype=np.int64)

    def of(self, keys: Array) -> Array:
        """Return the number of each key, new ones after those known."""
        distinct, first, inverse = np.unique(keys, return_index=True, return_inverse=True)
        at = np.searchsorted(self._known, distinct)
        new = np.ones(len(distinct), dtype=bool)
        inside = at < len(self._known)
        new[inside] = self._known[at[inside]] != distinct[inside]
        if new.any():
            numbers = np.empty(int(new.sum()), dtype=np.int64)
            numbers[np.argsort(first[new], kind="stable")] = np.arange(len(numbers)) + len(self._known)
            self._known = np.insert(self._known, at[new], distinct[new])
            self._numbers = np.insert(self._numbers, at[new], numbers)
            at = np.searchsorted(self._known, distinct)
        numbers_of: Array = self._numbers[at][inverse]
        return numbers_of


class Keys:
    """The unit and the period of rows that come block by block; units are numbered as they first occur.

    Args:
        timing: how rows follow one another.
    """

    def __init__(self, timing: Timing) -> None:
        self._timing = timing
        self._of_variable = [_Numbering() for _ in timing.panel]
        self._together = [_Numbering() for _ in timing.panel[1:]]
        self._rows = 0

    def of(self, block: Table) -> tuple[Array, Array]:
        """Return the unit and the period of each row of the next block, its categories coded as in all blocks.

        Raises:
            DataError: where the time is not one.
        """
        row = np.arange(self._rows, self._rows + block.length)
        self._rows += block.length
        unit = np.zeros(block.length, dtype=np.int64)
        missing = np.zeros(block.length, dtype=bool)
        for at, name in enumerate(self._timing.panel):
            variable = block[name]
            missing |= variable.missing_rows()
            numbers = self._of_variable[at].of(_bits(variable))
            unit = numbers if not at else self._together[at - 1].of(unit * (1 << 31) + numbers)
        unit[missing] = _NO_UNIT + row[missing]
        if self._timing.time is None:
            return unit, row
        time = block[self._timing.time]
        if time.kind is not Kind.TIME:
            raise not_a_time(time.name)
        period = period_numbers(time.data, self._timing.every)
        unknown = time.missing_rows()
        unit[unknown] = _NO_PERIOD + row[unknown]
        return unit, period


def _bits(variable: Variable) -> Array:
    """Return whole numbers that differ as values do."""
    data = variable.data
    return (data.astype(np.float64) + 0.0).view(np.int64) if data.dtype.kind == "f" else data.astype(np.int64)


def order_of(unit: Array, period: Array) -> Array | None:
    """Return what brings rows into order; None where they are in it."""
    if is_sorted(unit, period):
        return None
    order: Array = np.lexsort((period, unit))
    return order


def is_sorted(unit: Array, period: Array) -> bool:
    """Return whether rows are in the order of unit and period."""
    steps = np.diff(unit)
    return bool(((steps > 0) | ((steps == 0) & (np.diff(period) >= 0))).all())


class Column(Protocol):
    """An array that is read by ranges of rows."""

    def __getitem__(self, rows: slice) -> Array: ...


@dataclass(frozen=True)
class Runs:
    """Rows on disk, run after run, each in order.

    Args:
        unit, period: of each row.
        edges: where runs begin, and where the last one ends.
    """

    unit: Column
    period: Column
    edges: Sequence[int]

    def merged(self, at_once: int) -> Iterator[tuple[Array, Array]]:
        """Yield for the next rows in order which rows of each run they are: positions in order, some at a time.

        Args:
            at_once: how many rows are held at a time, of all runs together.
        """
        count = len(self.edges) - 1
        room = max(at_once // count, 1)
        heads = [_Head(self, start, stop, room) for start, stop in zip(self.edges, self.edges[1:], strict=False)]
        while heads := [head for head in heads if head.fill()]:
            last = min((head.last for head in heads if not head.whole), default=None)
            taken = [head.take(last) for head in heads]
            unit, period, rows = (np.concatenate(parts) for parts in zip(*taken, strict=True))
            yield rows, np.lexsort((period, unit))


class _Head:
    """The next rows of a run."""

    def __init__(self, runs: Runs, start: int, stop: int, room: int) -> None:
        self._runs, self._start, self._next, self._stop, self._room = runs, start, start, stop, room
        self._unit = self._period = np.zeros(0, dtype=np.int64)

    def fill(self) -> bool:
        """Read on where all has been taken, or return that nothing is left."""
        if not len(self._unit) and self._next < self._stop:
            until = min(self._next + self._room, self._stop)
            self._unit, self._period = self._runs.unit[self._next : until], self._runs.period[self._next : until]
            self._start, self._next = self._next, until
        return len(self._unit) > 0

    @property
    def whole(self) -> bool:
        """Whether no further rows are to be read."""
        return self._next == self._stop

    @property
    def last(self) -> tuple[int, int]:
        """Unit and period of the last row that has been read."""
        return int(self._unit[-1]), int(self._period[-1])

    def take(self, last: tuple[int, int] | None) -> tuple[Array, Array, Array]:
        """Take all rows up to a unit and period; return units, periods and positions."""
        count = len(self._unit)
        if last is not None:
            low, high = np.searchsorted(self._unit, last[0], "left"), np.searchsorted(self._unit, last[0], "right")
            count = int(low + np.searchsorted(self._period[low:high], last[1], "right"))
        part = self._unit[:count], self._period[:count], np.arange(self._start, self._start + count)
        self._unit, self._period, self._start = self._unit[count:], self._period[count:], self._start + count
        return part
