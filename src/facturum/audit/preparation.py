"""How variables were prepared for the columns: bins, imputed values, flags, scores of several items."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Any, TypeVar

import numpy as np

from facturum.audit.entries import (
    BinEntry,
    BinsEntry,
    FillEntry,
    FlagEntry,
    HistogramEntry,
    ImputationEntry,
    ItemEntry,
    OutsideEntry,
    ScoreEntry,
    SharedEntry,
)
from facturum.data.values import Array, FloatArray, Label, Mask, Values, label_text, plain_number
from facturum.engine.passes.build import Built, BuiltColumn
from facturum.engine.planning.prepared import Prepared
from facturum.language.core import Name
from facturum.language.nodes import Node
from facturum.language.operations.across import Across, MeanOf, SumOf
from facturum.language.operations.bins import Bins
from facturum.language.operations.imputing import Impute
from facturum.language.operations.missing import IsMissing, MissingIf
from facturum.language.options import Absent
from facturum.language.printer import brief_text
from facturum.language.reading import NoValue, stepped
from facturum.numerics.cells import whole_cells
from facturum.numerics.comparisons import scale_figures, welch

HISTOGRAM_CELLS = 48
N = TypeVar("N", bound=Node)


@dataclass(frozen=True)
class FilledCells:
    """The cells that an imputation filled: source row numbers, from 1, and the imputed values."""

    imputation: int
    rows: Array
    fills: list[float | str]


class PreparationReport:
    """What was done to variables in a build, looked at once more over its rows."""

    def __init__(self, built: Built) -> None:
        self._built = built
        self._prepared = built.prepared
        self._source = built.source

    @cached_property
    def _kept(self) -> Array:
        """Positions of the rows that [rows] keep takes."""
        parts = []
        for leaf in self._built.selection.leaves:
            within = np.arange(leaf.stop - leaf.start) if leaf.kept is None else leaf.kept
            parts.append(within + leaf.start)
        return np.concatenate(parts)

    @cached_property
    def _missing_of_parts(self) -> dict[str, int]:
        return self._built.selection.missing()

    def missing(self, column: BuiltColumn) -> int:
        """Return in how many rows selected by [rows] keep a column is missing."""
        if column.column is None:
            return 0
        place = column.term if column.role == "response" else f"terms.{column.term}"
        count = self._missing_of_parts[place]
        node = self._prepared.response if column.role == "response" else self._prepared.terms[column.term]
        if not count or node is None or not node.missing_by_column:
            return count
        return int((~self._values(column.column.formula, self._kept).present_mask()).sum())

    @cached_property
    def _remaining(self) -> Array:
        return self._built.selection.positions()

    @cached_property
    def _responses(self) -> tuple[Array, FloatArray] | None:
        """The response of the rows that have one, and their positions; None for several columns or no response."""
        y = self._built.y
        if y is None or y.ndim > 1:
            return None
        there = ~np.isnan(y)
        return self._remaining[there], y[there]

    def _values(self, node: Node, at: Array) -> Values:
        """Return an expression at some rows of the table, those included in which it may fail."""
        return self._source.values_at(node, at)

    def _found(self, kind: type[N]) -> Iterator[tuple[N, list[str]]]:
        """Yield each operation of a kind once, with the terms that it is part of, through derived variables too."""
        reached_by: dict[N, list[str]] = {}
        roots = dict(self._prepared.terms)
        if self._prepared.response is not None:
            roots["response"] = self._prepared.response
        for key, root in roots.items():
            for node in self._prepared.reached(root):
                if isinstance(node, kind):
                    terms = reached_by.setdefault(node, [])
                    if key not in terms:
                        terms.append(key)
        yield from reached_by.items()

    @cached_property
    def bins(self) -> list[BinsEntry]:
        """Return the table of bins of each binned variable."""
        return [self._bins(node, terms) for node, terms in self._found(Bins)]

    def _bins(self, node: Bins, terms: list[str]) -> BinsEntry:
        at = self._remaining
        binned, inner = self._values(node, at), self._values(node.x, at)
        x = inner.numbers()
        there = binned.present_mask()
        present = inner.present_mask()
        y = self._response_at(at)
        entries = []
        for place, label in enumerate(binned.labels or ()):
            inside = there & (binned.data == place)
            inside_values = x[inside & present]
            ends = node.interval(place) if place < len(node.labels or ()) else (-np.inf, np.inf, True, True)
            answers = None if y is None else y[inside & ~np.isnan(y)]
            entries.append(
                BinEntry(
                    label=label_text(label),
                    low=_finite(ends[0]),
                    high=_finite(ends[1]),
                    rows=int(inside.sum()),
                    percent=100 * float(inside.mean()) if len(inside) else 0.0,
                    smallest=float(inside_values.min()) if len(inside_values) else None,
                    largest=float(inside_values.max()) if len(inside_values) else None,
                    mean_response=float(answers.mean()) if answers is not None and len(answers) else None,
                )
            )
        outside, shared = self._beyond(node)
        return BinsEntry(
            expression=str(node),
            variable=stepped(node.x.subject(), self._prepared.spec.data.every),
            terms=terms,
            bins=entries,
            histogram=histogram(x[present]),
            no_bin=sum(each.rows for each in outside),
            outside=outside,
            shared=shared,
        )

    def _beyond(self, node: Bins) -> tuple[list[OutsideEntry], list[SharedEntry]]:
        """Return where values of the rows that [rows] keep takes lie in none of the bins, and where in two of them."""
        pairs = sorted(edge for edge in node.edges or () if isinstance(edge, tuple))
        if not pairs:
            return [], []
        inner = self._values(node.x, self._kept)
        binned = self._values(node, self._kept)
        x = inner.numbers()
        lost = np.sort(x[inner.present_mask() & ~binned.present_mask()])
        outside = []
        for low, high in pairwise([-np.inf, *(end for pair in pairs for end in pair), np.inf]):
            between = lost[(lost >= low) & (lost <= high)]
            if len(between):
                ends = {"low": _finite(low), "high": _finite(high)}
                outside.append(
                    OutsideEntry(**ends, rows=len(between), smallest=float(between[0]), largest=float(between[-1]))
                )
                lost = lost[lost > high]
        shared = []
        for (_, high), (low, _) in pairwise(pairs):
            at = np.flatnonzero(inner.present_mask() & (x == high))
            if high == low and len(at):
                label = label_text((binned.labels or ())[int(binned.data[at[0]])])
                shared.append(SharedEntry(value=float(high), rows=len(at), bin=label))
        return outside, shared

    def _response_at(self, at: Array) -> FloatArray | None:
        """Return the response at rows of the matrix, NaN where there is none."""
        if self._responses is None:
            return None
        rows, y = self._responses
        response = np.full(self._prepared.table.length, np.nan)
        response[rows] = y
        return response[at]

    @cached_property
    def _imputed(self) -> list[tuple[Impute, list[str], Mask, Values]]:
        """Each imputation, its terms, the kept rows whose cell was filled, and the values after."""
        imputations = []
        for node, terms in self._found(Impute):
            before, after = self._values(node.x, self._kept), self._values(node, self._kept)
            imputations.append((node, terms, ~before.present_mask() & after.present_mask(), after))
        return imputations

    def filled_rows(self, node: Node) -> int:
        """Return in how many rows of the matrix an expression reads an imputed value."""
        if not self._imputed:
            return 0
        inside = {part for part in self._prepared.reached(node) if isinstance(part, Impute)}
        masks = [mask for impute, _, mask, _ in self._imputed if impute in inside]
        if not masks:
            return 0
        kept = np.isin(self._kept, self._remaining, assume_unique=True)
        return int(np.count_nonzero(np.any(masks, axis=0) & kept))

    @cached_property
    def imputations(self) -> list[ImputationEntry]:
        """Return the imputed values, and whether missingness is associated with the response."""
        return [self._imputation(*imputed) for imputed in self._imputed]

    def _imputation(self, node: Impute, terms: list[str], filled: Mask, after: Values) -> ImputationEntry:
        fills, not_seen = self._fills(node, filled)
        difference, t = None, None
        y = self._response_at(self._kept)
        if y is not None:
            there = ~np.isnan(y)
            difference, t = welch(y[filled & there], y[~filled & there])
        return ImputationEntry(
            expression=str(node),
            variable=stepped(node.x.subject(), self._prepared.spec.data.every),
            how=node.how or "value",
            terms=terms,
            rows=len(filled),
            cells=int(filled.sum()),
            still_missing=int((~after.present_mask()).sum()),
            groups_not_seen=not_seen,
            fills=fills,
            response_difference=difference,
            t=t,
        )

    def _fills(self, node: Impute, filled: Mask) -> tuple[list[FillEntry], int]:
        cells = int(filled.sum())
        if node.otherwise is None:
            return [FillEntry(group=None, fill=_plain(node.value), cells=cells)], 0
        at = self._source.rows(0, self._prepared.table.length, self._kept[filled])
        groups = node.group_of(at)
        counts = np.bincount(groups[groups >= 0], minlength=len(node.fills))
        fills = [
            FillEntry(group=_group_text(key), fill=_plain(value), cells=int(count))
            for (key, value), count in zip(node.fills, counts, strict=True)
        ]
        not_seen = int((groups < 0).sum())
        return [*fills, FillEntry(group=None, fill=_plain(node.otherwise), cells=not_seen)], not_seen

    def filled_cells(self) -> list[FilledCells]:
        """Return each cell that was filled."""
        cells = []
        for number, (_, _, filled, after) in enumerate(self._imputed):
            at = np.flatnonzero(filled)
            if after.labels is not None:
                fills: list[Any] = [label_text(after.labels[code]) for code in after.data[at]]
            else:
                fills = after.numbers()[at].tolist()
            rows = self._source.row_numbers(self._kept[at])
            order = np.argsort(rows)
            cells.append(FilledCells(number, rows[order], [fills[place] for place in order.tolist()]))
        return cells

    @cached_property
    def flags(self) -> list[FlagEntry]:
        """Return what each flag for missing values marks."""
        flagged = []
        for node, terms in self._found(IsMissing):
            inner, wrong = _before_taking_out(node.x, self._prepared.derived)
            raw = ~self._values(inner, self._kept).present_mask()
            marked = ~self._values(node.x, self._kept).present_mask()
            flagged.append(
                FlagEntry(
                    expression=str(node),
                    terms=terms,
                    missing_in_source=int(raw.sum()),
                    made_missing=int((marked & ~raw).sum()),
                    conditions=[brief_text(condition) for condition in wrong],
                )
            )
        return flagged

    @property
    def flagged(self) -> set[str]:
        """The variables whose missing values the plan flags, by what sentences call them."""
        every = self._prepared.spec.data.every
        return {stepped(node.x.subject(), every) for node, _ in self._found(IsMissing)}

    @cached_property
    def scores(self) -> list[ScoreEntry]:
        """Return how well the items of each score go together."""
        return [self._score(node, terms) for node, terms in self._found(Across)]  # type: ignore[type-abstract]

    def _score(self, node: Across, terms: list[str]) -> ScoreEntry:
        items = [self._values(item, self._kept) for item in node.items]
        there = np.array([item.present_mask() for item in items])
        alpha: float | None = None
        item_rest: list[float | None] = [None] * len(items)
        if isinstance(node, MeanOf | SumOf) and len(items) > 1:
            complete = there.all(axis=0)
            alpha, item_rest = scale_figures(np.array([item.numbers()[complete] for item in items]))
        return ScoreEntry(
            expression=str(node),
            terms=terms,
            needed=node.needed(),
            too_few=int((np.count_nonzero(there, axis=0) < node.needed()).sum()),
            alpha=alpha,
            items=[ItemEntry(item=str(i), item_rest=r) for i, r in zip(node.items, item_rest, strict=True)],
        )


def _before_taking_out(node: Node, derived: Mapping[str, Node]) -> tuple[Node, list[Node]]:
    """Return an expression before invalid values were set to missing, and the conditions that did so."""
    conditions: list[Node] = []
    while True:
        if isinstance(node, MissingIf):
            conditions.insert(0, node.condition)
            node = node.x
        elif isinstance(node, Name) and isinstance(inner := derived.get(node.variable), MissingIf | Name):
            node = inner
        else:
            return node, conditions


def set_missing_of(prepared: Prepared) -> dict[str, NoValue]:
    """Return, for each derived variable of which wrong values were set to missing, what having no value means."""
    by_place = {}
    for name in prepared.derived:
        inner, wrong = _before_taking_out(Name(name), prepared.derived)
        if wrong:
            by_place[name] = NoValue(inner.subject(), tuple(condition.subject() for condition in wrong))
    return by_place


def histogram(x: FloatArray, cells: int = HISTOGRAM_CELLS) -> HistogramEntry | None:
    """Return how values are spread over cells of equal width, whole ones of whole numbers; None without two values.

    Example:
        >>> histogram(np.array([0.5, 1.5, 1.5]), 2).counts
        [1, 2]
    """
    if not len(x) or not float(x.min()) < float(x.max()):
        return None
    if (whole := whole_cells(np.unique(x), cells)) is not None:
        width, count = whole
        low = float(x.min())
        inside = np.floor((x - low) / width).astype(np.int64)
        counts = np.bincount(inside, minlength=count).tolist()
        return HistogramEntry(low=low, high=low + width * count, counts=counts)
    low, high = float(x.min()), float(x.max())
    half = max(abs(low), abs(high)) / 2  # so that the width does not overflow
    scale = half if half > 1e150 else 1.0
    place = np.floor((x / scale - low / scale) / (high / scale - low / scale) * cells).astype(np.int64)
    counts = np.bincount(np.clip(place, 0, cells - 1), minlength=cells)
    return HistogramEntry(low=low, high=high, counts=counts.tolist())


def _finite(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None


def _plain(value: Label | Absent | None) -> float | str | None:
    if value is None or isinstance(value, Absent):
        return None
    return value if isinstance(value, str) else plain_number(float(value))


def _group_text(key: Any) -> str:
    parts = key if isinstance(key, tuple) else (key,)
    return ", ".join("missing" if isinstance(part, Absent) else label_text(part) for part in parts)
