"""What operations read: some rows of a table, and along time those among which an expression runs."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Protocol

from facturum.data.values import Array, Mask, Values
from facturum.language.tree.failures import RowFailure

if TYPE_CHECKING:
    from facturum.language.tree.blocks import Block
    from facturum.language.tree.nodes import Node


@dataclass(frozen=True)
class Nearest:
    """For some rows the nearest ones of their unit in which an expression has a value, at or before, and at or after.

    Args:
        values: of the rows that may be nearest.
        periods: of the same.
        period: of each row asked for.
        before, after: for each row asked for the place in `values`; -1 where no row of its unit has a value.
        ends: returns the first and the last period of each row's unit.
        refuse: raises for rows that read a value which cannot be computed; is given places and the rows that read them.
    """

    values: Values
    periods: Array
    period: Array
    before: Array
    after: Array
    ends: Callable[[], tuple[Array, Array]]
    refuse: Callable[[Sequence[tuple[Array, Mask]]], None]


Look = Callable[[int], Values]  # returns the value so many periods later, for each of some rows
Carry = Callable[[Values, Any], tuple[Values, Any]]  # of rows of one unit, and the state before them


class Frame(Protocol):
    """The rows among which an expression runs along time: a block of the table with a margin, or a joined series.

    ``whole`` evaluates an expression over all of them, ``here`` returns for each row asked for the value of another
    period, and ``absent`` which of these have no row there. ``carried`` returns what comes of a state that is carried
    from row to row of each unit, from its first.
    """

    def whole(self, node: Node) -> Values: ...
    def here(self, values: Values, offset: int = 0) -> Values: ...
    def absent(self, offset: int) -> Mask: ...
    def windowed(self, node: Node, key: Node, work: Callable[[Look], Values]) -> Values: ...
    def refuse_failed(self, node: Node, offsets: Iterable[int]) -> None: ...
    def nearest(self, node: Node) -> Nearest: ...
    def carried(self, node: Node, key: Node, carry: Carry) -> Values: ...


class Rows(Protocol):
    """Some rows of a table, for operations to read: the values of other nodes, and a way to fail.

    Operations along time read other rows too: ``frame`` gives those among which an expression runs, with all that lie
    at some offsets, and ``periods`` the number of each row's own period, and which rows have one.
    """

    @property
    def length(self) -> int: ...
    def variable(self, name: str) -> Values: ...
    def present(self, name: str) -> Mask | None: ...
    def evaluate(self, node: Node) -> Values: ...
    def valid(self, node: Node) -> Mask | None: ...
    def block(self, node: Node) -> Block: ...
    def where(self, chosen: Array) -> Rows: ...
    def frame(self, node: Node, offsets: Sequence[int]) -> Frame: ...
    def periods(self) -> tuple[Array, Mask | None]: ...
    @property
    def every(self) -> str: ...
    def shared(self, key: Any, make: Callable[[], Any]) -> Any: ...
    def failure(self, node: Node, bad: Mask, what: str, remedy: str | None = None) -> RowFailure: ...
