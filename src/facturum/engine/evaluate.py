"""Some rows of a table, for operations to read: each sub-expression is computed once."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from facturum.data.series import Series, Timing, series_of
from facturum.data.table import Table
from facturum.data.values import Array, Mask, Values, both
from facturum.data.variable import Infinite
from facturum.engine.leaves import leaves_of
from facturum.language.core import Name
from facturum.language.nodes import Block, Node, RowFailure


@dataclass(frozen=True)
class Source:
    """A table, the derived variables, and what leaves share.

    Args:
        table: the variables as declared.
        derived: new variables by name.
        timing: how rows follow one another, where the plan says.
        visible: the rows that operations along time look at; None for all.
    """

    table: Table
    derived: Mapping[str, Node]
    timing: Timing | None = None
    visible: Mask | None = None
    cache: dict[Any, Any] = field(default_factory=dict)
    lock: threading.RLock = field(default_factory=threading.RLock)

    @cached_property
    def series(self) -> Series:
        """The rows by unit and period."""
        return series_of(self.table, self.timing or Timing(None, "row"), self.visible)

    def whole(self, node: Node) -> Values:
        """Return an expression over all rows, leaf by leaf; where rows are not visible it has no value."""
        parts = [self.rows(*leaf).of(node).full(leaf[1] - leaf[0]) for leaf in leaves_of(self.table.length)]
        valid = None
        if any(part.valid is not None for part in parts) or self.visible is not None:
            each = [np.ones(len(part.data), dtype=bool) if part.valid is None else part.valid for part in parts]
            valid = both(np.concatenate(each), self.visible)
        return Values(np.concatenate([part.data for part in parts]), valid, parts[0].labels)

    def rows(self, start: int, stop: int, chosen: Array | None = None) -> LeafRows:
        """Return a range of rows, or some of them (positions counted from ``start``)."""
        return LeafRows(self, start, stop, chosen)


class LeafRows:
    """The rows of a leaf, or some of them; computed values live as long as this object does."""

    def __init__(self, source: Source, start: int, stop: int, chosen: Array | None = None) -> None:
        self._source = source
        self._start, self._stop, self._chosen = start, stop, chosen
        self.length = stop - start if chosen is None else len(chosen)
        self._values: dict[Node, Values] = {}
        self._valid: dict[Node, Mask | None] = {}
        self._blocks: dict[Node, Block] = {}

    def variable(self, name: str) -> Values:
        """Return the values of a variable of the table, or of a derived one."""
        derived = self._source.derived.get(name)
        if derived is not None:
            return self.of(derived)
        try:
            return self._source.table[name].at(self._start, self._stop, self._chosen)
        except Infinite as found:
            raise RowFailure(
                Name(name),
                f"'{name}' is infinite",
                self._numbers(found.rows),
                "Infinite values count as wrong: correct them, or leave the rows out with [rows] keep.",
            ) from None

    def of(self, node: Node) -> Values:
        """Return the values of an expression."""
        found = self._values.get(node)
        if found is None:
            found = self._values[node] = node.values(self)
        return found

    def valid(self, node: Node) -> Mask | None:
        """Return which rows have a value, or None where all have."""
        if node in self._values:
            valid = self._values[node].valid
        elif node in self._valid:
            return self._valid[node]
        else:
            valid = node.valid(self)
        if valid is not None:
            whole = len(valid) == self.length
            valid = None if valid.all() else valid if whole else np.broadcast_to(valid, self.length)
        self._valid[node] = valid
        return valid

    def block(self, node: Node) -> Block:
        """Return the columns of a block."""
        found = self._blocks.get(node)
        if found is None:
            found = self._blocks[node] = node.block(self)
        return found

    def where(self, chosen: Array) -> LeafRows:
        """Return some of the rows, by their positions among these."""
        if len(chosen) == self.length:
            return self
        base = chosen if self._chosen is None else self._chosen[chosen]
        return LeafRows(self._source, self._start, self._stop, base)

    @property
    def series(self) -> Series:
        """The rows of the table by unit and period."""
        with self._source.lock:
            return self._source.series

    def whole(self, node: Node) -> Values:
        """Return the values of an expression over all rows of the table."""
        found: Values = self.shared(("whole", node), lambda: self._source.whole(node))
        return found

    def chosen(self, whole: Array) -> Array:
        """Return of something over all rows of the table what belongs to these."""
        own = whole[self._start : self._stop]
        return own if self._chosen is None else own[self._chosen]

    def shared(self, key: Any, make: Callable[[], Any]) -> Any:
        """Return what all leaves share under a key; it is made once."""
        if key not in self._source.cache:
            with self._source.lock:
                if key not in self._source.cache:
                    self._source.cache[key] = make()
        return self._source.cache[key]

    def failure(self, node: Node, bad: Mask, what: str, remedy: str | None = None) -> RowFailure:
        """Return the failure of an operation in some rows."""
        return RowFailure(node, what, self._numbers(bad), remedy)

    def _numbers(self, bad: Mask) -> list[int]:
        at = np.flatnonzero(bad)
        found: list[int] = ((at if self._chosen is None else self._chosen[at]) + self._start + 1).tolist()
        return found
