"""The table of bins of a binned variable, gathered from stretches of rows."""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from facturum.audit.map.entries import BinEntry, BinsEntry, HistogramEntry, OutsideEntry, SharedEntry
from facturum.audit.topics.stretch import Stretch
from facturum.data.values import FloatArray, Labels, Values, label_text
from facturum.language.tree.nodes import Node
from facturum.language.tree.traits import Binned
from facturum.numerics.exact.moments import Moments
from facturum.numerics.shapes.histogram import Cells

HISTOGRAM_CELLS = 48


class BinCounts:
    """What lies in each bin.

    Args:
        node: the operation.
        binned: its intervals.
        terms: the terms that it is part of.
        variable: what sentences call the variable.
    """

    def __init__(self, node: Node, binned: Binned, terms: list[str], variable: str) -> None:
        self._node, self._binned, self._terms, self._variable = node, binned, terms, variable
        self._labels: Labels = ()
        self._rows = 0
        self._values: Moments | None = None  # of the variable in each bin
        self._responses: Moments | None = None
        self._sizes = np.zeros(0, dtype=np.int64)
        self._cells = Cells(HISTOGRAM_CELLS)
        self._pairs = sorted(edge for edge in binned.edges or () if isinstance(edge, tuple))
        self._outside: dict[int, tuple[int, float, float]] = {}
        self._shared: dict[float, tuple[int, str]] = {}

    def see(self, stretch: Stretch) -> None:
        """Count the rows of a stretch."""
        at = stretch.remaining
        binned, inner = stretch.values(self._node, at), stretch.values(self._binned.x, at)
        if binned.labels is not None and not self._labels:
            self._labels = binned.labels
            self._sizes = np.zeros(len(self._labels), dtype=np.int64)
        x, there = inner.numbers(), binned.present_mask()
        codes = np.where(there, binned.data, -1).astype(np.int64)
        self._rows += len(at)
        self._sizes += np.bincount(codes[there], minlength=len(self._sizes))
        inside = [codes == place for place in range(len(self._labels))]
        present = inner.present_mask()
        columns = [x] * len(inside)
        before = self._values or Moments.of(len(inside))
        self._values = stretch.moments(at, columns, [mask & present for mask in inside], before)
        if stretch.response is not None:
            y = stretch.response[stretch.is_remaining]
            known = ~np.isnan(y)
            earlier = self._responses or Moments.of(len(inside))
            self._responses = stretch.moments(at, [y] * len(inside), [mask & known for mask in inside], earlier)
        self._cells.see(x[present])
        if self._pairs:
            self._see_beyond(stretch.values(self._binned.x, stretch.kept), stretch.values(self._node, stretch.kept))

    def see_again(self, stretch: Stretch) -> None:
        """Count the rows of a stretch in the cells of the histogram, whose width is known by now."""
        inner = stretch.values(self._binned.x, stretch.remaining)
        self._cells.count(inner.numbers()[inner.present_mask()])

    def _see_beyond(self, inner: Values, binned: Values) -> None:
        """Count values that lie in none of the bins, and those that two of them name."""
        x, present = inner.numbers(), inner.present_mask()
        lost = x[present & ~binned.present_mask()]
        ends = np.maximum.accumulate([end for pair in self._pairs for end in pair])
        gap_of = np.searchsorted(ends, lost, side="left")
        for gap in np.unique(gap_of).tolist():
            between = lost[gap_of == gap]
            count, smallest, largest = self._outside.get(gap, (0, np.inf, -np.inf))
            self._outside[gap] = (
                count + len(between),
                min(smallest, float(between.min())),
                max(largest, float(between.max())),
            )
        for (_, high), (low, _) in pairwise(self._pairs):
            at = np.flatnonzero(present & (x == high))
            if high == low and len(at):
                label = label_text((binned.labels or ())[int(binned.data[at[0]])])
                self._shared[high] = (self._shared.get(high, (0, ""))[0] + len(at), label)

    def entry(self) -> BinsEntry:
        """Return the table of bins."""
        outside = self._outside_entries()
        return BinsEntry(
            expression=str(self._node),
            variable=self._variable,
            terms=self._terms,
            bins=[self._bin(place) for place in range(len(self._labels))],
            histogram=self._histogram(),
            no_bin=sum(each.rows for each in outside),
            outside=outside,
            shared=[
                SharedEntry(value=float(value), rows=rows, bin=label)
                for value, (rows, label) in sorted(self._shared.items())
            ],
        )

    def _bin(self, place: int) -> BinEntry:
        known = place < len(self._binned.labels or ())
        ends = self._binned.interval(place) if known else (-np.inf, np.inf, True, True)
        size, values, y = int(self._sizes[place]), self._values, self._responses
        some = values is not None and values.count[place] > 0
        return BinEntry(
            label=label_text(self._labels[place]),
            low=_finite(ends[0]),
            high=_finite(ends[1]),
            rows=size,
            percent=100 * (size / self._rows) if self._rows else 0.0,
            smallest=float(values.smallest[place]) if values is not None and some else None,
            largest=float(values.largest[place]) if values is not None and some else None,
            mean_response=float(y.mean[place]) if y is not None and y.count[place] > 0 else None,
        )

    def _outside_entries(self) -> list[OutsideEntry]:
        edges = [-np.inf, *(end for pair in self._pairs for end in pair), np.inf]
        return [
            OutsideEntry(
                low=_finite(edges[gap]), high=_finite(edges[gap + 1]), rows=rows, smallest=smallest, largest=largest
            )
            for gap, (rows, smallest, largest) in sorted(self._outside.items())
        ]

    def _histogram(self) -> HistogramEntry | None:
        ends = self._cells.ends
        return None if ends is None else HistogramEntry(low=ends[0], high=ends[1], counts=self._cells.counts.tolist())


def histogram(x: FloatArray, cells: int = HISTOGRAM_CELLS) -> HistogramEntry | None:
    """Return how values are spread over cells of equal width, whole ones of whole numbers; None without two values.

    Example:
        >>> histogram(np.array([0.5, 1.5, 1.5]), 2).counts
        [1, 2]
    """
    counted = Cells(cells)
    counted.see(x)
    counted.count(x)
    return (
        None
        if counted.ends is None
        else HistogramEntry(low=counted.ends[0], high=counted.ends[1], counts=counted.counts.tolist())
    )


def _finite(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None
