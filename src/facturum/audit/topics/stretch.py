"""The rows of a stretch of a build, as the column map looks at them."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from itertools import pairwise

import numpy as np

from facturum.data.values import Array, FloatArray, Mask, Values
from facturum.engine.blocks.source import Source
from facturum.engine.passes.build import Built
from facturum.engine.passes.selection import Selection
from facturum.language.tree.nodes import Node
from facturum.numerics.exact.moments import Moments


class Stretch:
    """The rows of a stretch of a build, in the order of the table.

    Args:
        source: the table.
        selection: which of its rows are kept, and which remain.
        y: the response of those that remain, doubles (rows, k); None without one.
    """

    def __init__(self, source: Source, selection: Selection, y: FloatArray | None = None) -> None:
        self.source, self.selection, self._y = source, selection, y
        self.start, self.stop = selection.start, selection.stop

    @classmethod
    def of(cls, built: Built) -> Stretch:
        """Return the rows of a build."""
        return cls(built.source, built.selection, built.y)

    @cached_property
    def kept(self) -> Array:
        """Positions of the rows that [rows] keep takes."""
        parts = [
            np.arange(leaf.start, leaf.stop) if leaf.kept is None else leaf.kept + leaf.start
            for leaf in self.selection.leaves
        ]
        return np.concatenate(parts)

    @cached_property
    def is_remaining(self) -> Mask:
        """For each of them, whether it is a row of the matrix."""
        remains = np.zeros(self.stop - self.start, dtype=bool)
        for leaf in self.selection.leaves:
            part = remains[leaf.start - self.start : leaf.stop - self.start]
            part[slice(None) if leaf.remaining is None else leaf.remaining] = True
        mask: Mask = remains[self.kept - self.start]
        return mask

    @cached_property
    def remaining(self) -> Array:
        """Positions of the rows of the matrix."""
        return self.kept[self.is_remaining]

    @cached_property
    def learning(self) -> Array:
        """Positions of the rows of the matrix that are learned from."""
        whole = [np.arange(leaf.count) if leaf.learning is None else leaf.learning for leaf in self.selection.leaves]
        return np.concatenate(
            [leaf.positions()[which] for leaf, which in zip(self.selection.leaves, whole, strict=True)]
        )

    @cached_property
    def left_out(self) -> Array:
        """Positions of the rows that [rows] keep takes and that are left out, since a value is missing."""
        return np.concatenate([leaf.dropped[leaf.causes >= 0] + leaf.start for leaf in self.selection.leaves])

    @cached_property
    def response(self) -> FloatArray | None:
        """The response of the rows kept, NaN where there is none; None without one, and for one of several columns."""
        if self._y is None or self._y.shape[1] > 1:
            return None
        y = np.full(self.stop - self.start, np.nan)
        y[self.selection.positions() - self.start] = self._y[:, 0]
        response: FloatArray = y[self.kept - self.start]
        return response

    def values(self, node: Node, at: Array) -> Values:
        """Return an expression at some rows of the table, those included in which it may fail."""
        return self.source.values_at(node, at)

    def leaves(self, at: Array) -> Iterator[slice]:
        """Yield which of some positions lie in each leaf: what is summed over them is the same in every stretch."""
        edges = [*(leaf.start for leaf in self.selection.leaves), self.stop]
        for low, high in pairwise(np.searchsorted(at, edges).tolist()):
            if high > low:
                yield slice(low, high)

    def moments(self, at: Array, columns: list[FloatArray], chosen: list[Mask], total: Moments) -> Moments:
        """Return moments with those of further values.

        Args:
            at: positions of rows.
            columns: a number for each of them, by column.
            chosen: which of these count.
            total: the moments so far.
        """
        for leaf in self.leaves(at):
            part = Moments.of(len(columns))
            for column, (values, which) in enumerate(zip(columns, chosen, strict=True)):
                with np.errstate(all="ignore"):  # of numbers whose squares no double holds
                    part.put_dense(column, values[leaf][which[leaf]])
            total = Moments.merged([total, part])
        return total
