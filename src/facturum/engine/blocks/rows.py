"""The rows of a leaf, for operations to read: each sub-expression is computed once."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from facturum.data.values import Array, Mask, Values
from facturum.data.variable import Infinite
from facturum.engine.blocks.frames import BlockFrame, JoinedFrame
from facturum.engine.blocks.margin import Margin
from facturum.language.core.literals import Name
from facturum.language.tree.blocks import Block
from facturum.language.tree.failures import RowFailure
from facturum.language.tree.nodes import Node
from facturum.language.tree.rows import Frame

if TYPE_CHECKING:
    from facturum.engine.blocks.source import Source


class LeafRows:
    """The rows of a leaf, or some of them; computed values live as long as this object does.

    Args:
        source: the table.
        start, stop: the positions of the leaf in it.
        chosen: some of its rows, counted from ``start``; None for all.
    """

    def __init__(self, source: Source, start: int, stop: int, chosen: Array | None = None) -> None:
        self.source = source
        self.start, self.stop, self.positions_chosen = start, stop, chosen
        self.length = stop - start if chosen is None else len(chosen)
        self._margin: Margin | None = None
        self._values: dict[Node, Values] = {}
        self._valid: dict[Node, Mask | None] = {}
        self._blocks: dict[Node, Block] = {}

    def variable(self, name: str) -> Values:
        """Return the values of a variable of the table, or of a derived one."""
        derived = self.source.derived.get(name)
        if derived is not None:
            return self.evaluate(derived)
        try:
            table = self.source.table
            variable = table.variables[name] if name in table.variables else table[name]  # which says what is wrong
            return variable.at(self.start, self.stop, self.positions_chosen)
        except Infinite as infinite:
            raise RowFailure(
                Name(name),
                f"'{name}' is infinite",
                self.positions(infinite.rows),
                "Infinite values count as wrong: correct them, or leave the rows out with [rows] keep.",
            ) from None

    def present(self, name: str) -> Mask | None:
        """Return which rows have a value of a variable, of a derived one without computing it where possible."""
        derived = self.source.derived.get(name)
        return self.valid(derived) if derived is not None else self.evaluate(Name(name)).valid

    def evaluate(self, node: Node) -> Values:
        """Return the values of an expression."""
        values = self._values.get(node)
        if values is None:
            values = self._values[node] = node.values(self)
        return values

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
        made_block = self._blocks.get(node)
        if made_block is None:
            made_block = self._blocks[node] = node.block(self)
        return made_block

    def where(self, chosen: Array) -> LeafRows:
        """Return some of the rows, by their positions among these."""
        if len(chosen) == self.length:
            return self
        base = chosen if self.positions_chosen is None else self.positions_chosen[chosen]
        rows = LeafRows(self.source, self.start, self.stop, base)
        rows._margin = self._margin
        return rows

    def frame(self, node: Node, offsets: Sequence[int]) -> Frame:
        """Return the rows among which an expression runs along time, with all that lie at some offsets."""
        home = self.source.home_of(node)
        if home is not None:
            return JoinedFrame(self.source.joined[home], self, node)
        before, after = max(0, -min(offsets)), max(0, *offsets)
        if self._margin is None or not self._margin.reaches(before, after):
            most_before, most_after = self.source.halo
            self._margin = Margin(self, max(before, most_before), max(after, most_after))
        return BlockFrame(self._margin, self, node)

    def periods(self) -> tuple[Array, Mask | None]:
        """Return the number of the period of each row, and which rows have one (None for all)."""
        known = self.source.known(self.start, self.stop)
        return self.chosen(self.source.periods(self.start, self.stop)), None if known is None else self.chosen(known)

    @property
    def every(self) -> str:
        """The step from one period to the next."""
        return "row" if self.source.timing is None else self.source.timing.every

    def chosen(self, whole: Array) -> Array:
        """Return of something over the range of these rows what belongs to them."""
        return whole if self.positions_chosen is None else whole.take(self.positions_chosen)

    def shared(self, key: Any, make: Callable[[], Any]) -> Any:
        """Return what all leaves share under a key; it is made once."""
        return self.source.shared(key, make)

    def failure(self, node: Node, bad: Mask, what: str, remedy: str | None = None) -> RowFailure:
        """Return the failure of an operation in some rows."""
        return RowFailure(node, what, self.positions(bad), remedy)

    def positions(self, chosen: Mask) -> list[int]:
        """Return the positions of some of the rows in the table."""
        at = np.flatnonzero(chosen)
        places: Array = at if self.positions_chosen is None else self.positions_chosen[at]
        return [self.start + place for place in places.tolist()]
