"""A state that an expression carries from row to row of a unit, kept at the beginning of each leaf."""

from __future__ import annotations

import threading
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from facturum.data.values import Array, Mask, Values
from facturum.engine.blocks.failing import NOWHERE, Failed, evaluated
from facturum.engine.blocks.leaves import LEAF
from facturum.language.tree.failures import RowFailure
from facturum.language.tree.nodes import Node
from facturum.language.tree.rows import Carry

if TYPE_CHECKING:
    from facturum.engine.blocks.source import Source


@dataclass(frozen=True)
class State:
    """What is known after a row: what is carried, and the row of the unit in which each operation failed first.

    Args:
        carried: by the expression; None at the beginning of a unit.
        failed: by operation its failure, and the position of the row.
    """

    carried: Any = None
    failed: dict[Node, tuple[RowFailure, int]] = field(default_factory=dict)


class CarriedStates:
    """An expression that carries a state, over all rows of a table in their order.

    Args:
        source: the table, in the order of unit and period.
        node: what the expression reads.
        carry: takes the values of one unit, and the state before them.
    """

    def __init__(self, source: Source, node: Node, carry: Carry) -> None:
        self._source, self._node, self._carry = source, node, carry
        self._states = [State()]  # before each leaf
        self._lock = threading.RLock()

    def of(self, start: int, stop: int) -> tuple[Values, Failed]:
        """Return the values in a range of rows, and where they cannot be had since an earlier row fails."""
        leaf = start // LEAF
        with self._lock:
            while len(self._states) <= leaf:
                begin = (len(self._states) - 1) * LEAF
                self._states.append(self._run(begin, begin + LEAF, self._states[-1])[2])
            state = self._states[leaf]
        values, failed, _ = self._run(leaf * LEAF, stop, state)
        skip = start - leaf * LEAF
        there = None if values.valid is None else values.valid[skip:]
        return Values(values.data[skip:], there, values.labels), {
            node: (failure, origins[skip:]) for node, (failure, origins) in failed.items()
        }

    def _run(self, start: int, stop: int, state: State) -> tuple[Values, Failed, State]:
        values, failing = evaluated(self._source, self._node, start, stop)
        begins = self._source.changes(start, stop)
        if start == stop:
            return values, {}, state
        edges = np.unique([0, *np.flatnonzero(begins).tolist(), stop - start])
        parts: list[Values] = []
        failed: Failed = {
            node: (failure, np.full(stop - start, NOWHERE))
            for node, (failure, _) in [*failing.items(), *state.failed.items()]
        }
        for low, high in zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True):
            if begins[low]:
                state = State()
            there = None if values.valid is None else values.valid[low:high]
            part, carried = self._carry(Values(values.data[low:high], there, values.labels), state.carried)
            parts.append(part)
            state = State(carried, self._failed_by(failing, failed, low, high, state))
        return _joined(parts), failed, state

    def _failed_by(
        self, failing: Failed, failed: Failed, low: int, high: int, state: State
    ) -> dict[Node, tuple[RowFailure, int]]:
        """Write down the row that each row of a part of a unit cannot be had for; return those of the last."""
        last = dict(state.failed)
        for node, (failure, origins) in failing.items():
            at = np.flatnonzero(origins[low:high] > NOWHERE)
            if node not in last and len(at):
                failed[node][1][low + int(at[0]) : high] = origins[low + int(at[0])]
                last[node] = (failure, int(origins[low + int(at[0])]))
        for node, (_, origin) in state.failed.items():
            failed[node][1][low:high] = origin
        return last


def _joined(parts: list[Values]) -> Values:
    data: Array = np.concatenate([part.data for part in parts])
    valid: Mask | None = None
    if any(part.valid is not None for part in parts):
        valid = np.concatenate([part.present_mask() for part in parts])
    return Values(data, valid, parts[0].labels)
