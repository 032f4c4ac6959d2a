"""The table that a plan works on, and what its leaves share."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields
from functools import cached_property
from typing import Any

import numpy as np

from facturum.data.conversion.joining import JoinedSeries
from facturum.data.row_numbers import row_numbers
from facturum.data.table import Table
from facturum.data.time.ordering import unit_changes
from facturum.data.time.periods import Timing, period_numbers
from facturum.data.time.series import Series, series_of
from facturum.data.values import Array, Mask, Values
from facturum.data.variable import Variable
from facturum.engine.blocks.carrying import CarriedStates
from facturum.engine.blocks.failing import fine_values
from facturum.engine.blocks.frames import SeriesFrame
from facturum.engine.blocks.leaves import LEAF, leaves_of
from facturum.engine.blocks.rows import LeafRows
from facturum.language.core.literals import Name, names_in
from facturum.language.tree.nodes import Node
from facturum.language.tree.rows import Carry


@dataclass(frozen=True)
class Source:
    """A table, the derived variables, and what leaves share.

    Args:
        table: the variables as declared; in the order of unit and period where an expression works along time.
        derived: new variables by name.
        timing: how rows follow one another, where the plan defines it.
        series_joined: other tables, at the plan's step, whose variables are joined to this one.
        history_rows: how many rows of history there are.
        numbers: the row number of each position of the table; None where they are in order, those of history below 1.
        halo: how many rows before and after its own a leaf reads at most, along time.
    """

    table: Table
    derived: Mapping[str, Node]
    timing: Timing | None = None
    series_joined: tuple[JoinedSeries, ...] = ()
    history_rows: int = 0
    numbers: Array | None = None
    halo: tuple[int, int] = (0, 0)
    cache: dict[Any, Any] = field(default_factory=dict)
    lock: threading.RLock = field(default_factory=threading.RLock)
    states: dict[Node, CarriedStates] = field(default_factory=dict)  # of these rows alone, other than what is cached

    def __getstate__(self) -> dict[str, Any]:
        """Return what is pickled: the rows, without what has been computed and the lock around it."""
        return {
            each.name: getattr(self, each.name) for each in fields(self) if each.name not in ("cache", "lock", "states")
        }

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state, cache={}, lock=threading.RLock(), states={})

    def row_numbers(self, positions: Array) -> Array:
        """Return the numbers of rows at some positions of the table, counted from 1; those of history are below."""
        return row_numbers(positions, self.history_rows, self.numbers)

    def positions_of(self, numbers: Array) -> Array:
        """Return the positions in the table of rows by their numbers."""
        return numbers - (1 - self.history_rows) if self.numbers is None else self._position_of[numbers - self._lowest]

    @cached_property
    def _lowest(self) -> int:
        return 1 - self.history_rows

    @cached_property
    def _position_of(self) -> Array:
        positions = np.empty(self.table.length, dtype=np.int64)
        if self.numbers is not None:
            positions[self.numbers - self._lowest] = np.arange(self.table.length)
        return positions

    @cached_property
    def series(self) -> Series:
        """All rows by unit and period."""
        return series_of(self.table, self.timing or Timing(None, "row"))

    def stands_alone(self, node: Node) -> bool:
        """Return whether an expression has its value in a period of a unit without a row there.

        It has where it reads other periods, the calendar and the unit alone. A value is imputed in rows alone.
        """
        known: bool = self.shared(("stands alone", node), lambda: self._stands_alone(node))
        return known

    def _stands_alone(self, node: Node) -> bool:
        if isinstance(node, Name):
            if node.variable in self.derived:
                return self.stands_alone(self.derived[node.variable])
            return self.timing is not None and node.variable in (self.timing.time, *self.timing.panel)
        if node.along_time:
            return not node.filled_from() and not node.carries
        return all(self.stands_alone(child) for child in node.own_row())

    def home_of(self, node: Node) -> str | None:
        """Return the joined series among whose rows an expression runs along time; None for those of the table."""
        homes = {self._home(name) for name in names_in(node)}
        return homes.pop() if len(homes) == 1 else None

    def _home(self, name: str, depth: int = 0) -> str | None:
        """Return the joined series that a variable comes from, through derived ones too."""
        if name in self.derived and depth <= len(self.derived):
            inner = {self._home(other, depth + 1) for other in names_in(self.derived[name])}
            return inner.pop() if len(inner) == 1 else None
        return self.origins.get(name)

    @cached_property
    def joined(self) -> dict[str, SeriesFrame]:
        """The frames of the joined series."""
        return {
            series.name: SeriesFrame(Source(series.table, self.derived, series.timing), series)
            for series in self.series_joined
        }

    @cached_property
    def origins(self) -> dict[str, str]:
        """The joined series that each joined variable comes from."""
        return {variable: series.name for series in self.series_joined for variable in series.variables}

    @cached_property
    def panel(self) -> tuple[Variable, ...]:
        """The variables within which a series runs."""
        return tuple(self.table[name] for name in (self.timing.panel if self.timing else ()))

    def known(self, start: int, stop: int) -> Mask | None:
        """Return which rows of a range have a period; None where all have."""
        time = self._time
        if time is None or time.valid is None:
            return None
        return time.valid[start:stop]

    def changes(self, start: int, stop: int) -> Mask:
        """Return which rows of a range are of another unit than the row before; rows without a period always are."""
        new = unit_changes(self.panel, start, stop)
        known = self.known(start, stop)
        return new if known is None else new | ~known

    def periods(self, start: int, stop: int) -> Array:
        """Return the number of the period of each row of a range; of rows without a time, their place in the unit."""
        time = self._time
        if time is not None and self.timing is not None:
            return period_numbers(time.data[start:stop], self.timing.every)
        new = self.changes(start, stop)
        places = np.arange(start, stop)
        begins = np.maximum.accumulate(np.where(new, places, -1))
        if start < stop and begins[0] < 0:
            begins[begins < 0] = self.unit_start(start)
        numbers: Array = places - begins
        return numbers

    def places_in_time(self, start: int, stop: int) -> Array:
        """Return a number for each row of a range that differs within a unit as periods do."""
        return np.arange(start, stop) if self._time is None else self.periods(start, stop)

    @property
    def _time(self) -> Variable | None:
        if self.timing is None or self.timing.time is None or self.timing.every == "row":
            return None
        return self.table[self.timing.time]

    def unit_start(self, position: int) -> int:
        """Return where the unit of a row begins."""
        stop = position + 1
        while stop > 0:
            start = max(stop - LEAF, 0)
            begins = np.flatnonzero(self.changes(start, stop))
            if len(begins):
                return start + int(begins[-1])
            stop = start
        return 0

    def ranges(self) -> list[tuple[int, int]]:
        """Return where the ranges of rows begin and end that are evaluated together."""
        return leaves_of(self.table.length)

    def rows(self, start: int, stop: int, chosen: Array | None = None) -> LeafRows:
        """Return a range of rows, or some of them (positions counted from ``start``)."""
        return LeafRows(self, start, stop, chosen)

    def rows_at(self, at: Array) -> LeafRows:
        """Return rows by their positions in the table."""
        start, stop = (int(at.min()), int(at.max()) + 1) if len(at) else (0, 0)
        return self.rows(start, stop, at - start)

    def shared(self, key: Any, make: Callable[[], Any]) -> Any:
        """Return what all leaves share under a key; it is made once."""
        if key not in self.cache:
            with self.lock:
                if key not in self.cache:
                    self.cache[key] = make()
        return self.cache[key]

    def carried(self, node: Node, key: Node, carry: Carry) -> CarriedStates:
        """Return an operation that carries a state, over all rows; its states are made once."""
        with self.lock:
            return self.states.setdefault(key, CarriedStates(self, node, carry))

    def values_at(self, node: Node, at: Array) -> Values:
        """Return an expression at some rows; a row in which it fails is missing.

        For the report on rows left out of the matrix, in which an expression may fail.
        """
        rows = self.rows_at(at)
        return fine_values(rows, node, lambda failure: np.flatnonzero(np.isin(at, np.array(failure.looking))))
