"""What the checks gather of the rows: triangular factors, values by the response, copies of it, and leverages."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import cached_property, partial

import numpy as np

from facturum.audit.checks.copies import Copies
from facturum.audit.checks.row_counters import Counting
from facturum.audit.relations.wide import Family, family_of, groups_of
from facturum.data.values import Array, FloatArray, Kind, Mask
from facturum.engine.passes.build import Built
from facturum.engine.passes.outline import INTERCEPT, Outline
from facturum.engine.planning.sections.check_list import CHECKS
from facturum.engine.planning.sections.spec import ChecksSpec
from facturum.language.core.literals import Name
from facturum.numerics.exact.moments import Moments
from facturum.numerics.linear.absorbing import Absorbed
from facturum.numerics.linear.leverages import Leverages
from facturum.numerics.linear.sparse import SparseColumns
from facturum.numerics.linear.triangular import Factor
from facturum.support.threads import on_threads, one_blas_thread

MAX_WIDTH = 1_000  # columns that are factored; the work grows with the square of their number


class Summaries:
    """Summaries of the rows for the checks of a plan, gathered stretch by stretch, leaf by leaf.

    Args:
        outline: the resolved plan and its columns.
    """

    def __init__(self, outline: Outline) -> None:
        self.outline = outline
        self.levels = levels_of(outline)
        self.places = [at for at, column in enumerate(outline.columns) if column.role != INTERCEPT]
        self.width = len(self.places)
        self.factored = self.width <= MAX_WIDTH and self.levels.runs(
            *[each.key for each in CHECKS if each.needs_factor]
        )
        self._learning: Factor | None = None
        self._others: Factor | None = None
        self._shift: FloatArray | None = None
        wide = self.width > MAX_WIDTH and self.levels.runs(*[each.key for each in CHECKS if each.absorbs])
        self.family = family_of(outline, MAX_WIDTH) if wide else None
        self.absorbed: Absorbed | None = None
        self.ranges = _Ranges(self.width) if self._separates else None
        self.copies = Copies(self.width) if self.levels.runs("leak") and len(outline.responses) == 1 else None
        self.counting = Counting(_plain_numbers(outline, self.places) if self.levels.runs("leak") else ())
        self.leverages: Leverages | None = None

    @property
    def _separates(self) -> bool:
        return self.levels.runs("separation") and truth_response(self.outline)

    def see(self, built: Built) -> None:
        """Look at the rows of a stretch."""
        if self.family is not None and built.selection.count:
            self._absorb(built, self.family)
        if not self.factored or not built.selection.count:
            return
        leaves = _leaves(built)
        if self._shift is None:
            self._shift = self._first_means(built)
        with one_blas_thread():
            for learning, others in on_threads(partial(self._factors, built, self._shift), leaves):
                self._learning = _joined(self._learning, learning)
                self._others = _joined(self._others, others)
        for rows, _ in leaves if self.counting.left else ():
            self.counting.see(_block(built, rows, self.places))
        if built.y is not None:
            for rows, _ in leaves:
                y = built.y[rows, 0]
                block = _block(built, rows, self.places)
                if self.ranges is not None:
                    self.ranges.see(block, y)
                if self.copies is not None:
                    self.copies.see(block, y)

    def _absorb(self, built: Built, family: Family) -> None:
        """Take in rows, less their means within the categories of the widest term."""
        with one_blas_thread():
            for rows, _ in _leaves(built):
                parts = [_block(built, rows, list(family.others))]
                if built.y is not None:
                    parts.append(built.y[rows])
                block, groups = np.concatenate(parts, axis=1), groups_of(built, family, rows)
                complete = ~np.isnan(block).any(axis=1)
                part = Absorbed.of(block[complete], groups[complete], len(family.places) + 1)
                self.absorbed = part if self.absorbed is None else Absorbed.merged([self.absorbed, part])

    def _first_means(self, built: Built) -> FloatArray:
        """Return the means of the first rows of the matrix, which columns are shifted by to lose no digits."""
        parts = [_first(built.parts).mean[self.places]]
        if built.y is not None:
            parts.append(_first(built.response_parts).mean)
        shift: FloatArray = np.concatenate(parts)
        return shift

    def _factors(self, built: Built, shift: FloatArray, leaf: tuple[Array | slice, Mask | None]) -> tuple[Factor, ...]:
        rows, learning = leaf
        parts = [_block(built, rows, self.places)]
        if built.y is not None:
            parts.append(built.y[rows])
        elif len(shift) > self.width:
            shift = shift[: self.width]
        take = None
        if self.outline.spec.rows.missing == "keep":
            complete = ~np.isnan(np.concatenate(parts, axis=1)).any(axis=1)
            take = None if complete.all() else np.flatnonzero(complete)
        if learning is None or learning.all():
            return Factor.of(parts, shift, take), Factor.of(parts, shift, np.zeros(0, dtype=np.intp))
        chosen = np.ones(len(learning), dtype=bool)
        if take is not None:
            chosen[:] = False
            chosen[take] = True
        return tuple(Factor.of(parts, shift, np.flatnonzero(chosen & part)) for part in (learning, ~learning))

    @cached_property
    def whole(self) -> Factor | None:
        """The factor of all rows: the predictors, then the response."""
        if self._learning is None or self._others is None:
            return None
        with one_blas_thread():
            merged = Factor.merged([self._learning, self._others])
        return merged if merged.tame else None

    @property
    def learning(self) -> Factor | None:
        """The factor of the learning rows, where there are others."""
        return None if self.others is None else self._learning

    @property
    def others(self) -> Factor | None:
        """The factor of the other rows, where there are such."""
        return self._others if self.whole is not None and self._others is not None and self._others.rows else None

    @property
    def looks_again(self) -> bool:
        """Whether it needs the rows a second time."""
        return self.factored and self.levels.runs("leverage", "extremes") and self.whole is not None

    def see_again(self, built: Built, basis: Sequence[int]) -> None:
        """Look at the rows of a stretch once more, for the leverage of each and the rows of extreme values.

        Args:
            built: the rows.
            basis: independent columns of the factor.
        """
        whole = self.whole
        if whole is None or not built.selection.count:
            return
        if self.leverages is None:
            self.leverages = Leverages.of(whole, basis, self.outline.spec.intercept, self.width)
        numbers = built.selection.source_rows()
        work: Callable[[tuple[Array | slice, Mask | None]], Leverages] = partial(
            self._leverages, self.leverages, built, numbers
        )
        with one_blas_thread():
            for part in on_threads(work, _leaves(built)):
                self.leverages = self.leverages.merged(part)

    def _leverages(
        self, known: Leverages, built: Built, numbers: Array, leaf: tuple[Array | slice, Mask | None]
    ) -> Leverages:
        return known.seen(_block(built, leaf[0], self.places), numbers[leaf[0]])


def levels_of(outline: Outline) -> ChecksSpec:
    """Return what each check does; none is made of rows that lack the response of the plan, since nothing fits them."""
    checks = outline.spec.checks
    return checks.all("off") if outline.spec.response is not None and not outline.responses else checks


def _first(parts: Sequence[Moments]) -> Moments:
    """Return the moments of the first rows that have values; of the first rows where none has."""
    return next((part for part in parts if part.count.any()), parts[0])


def truth_response(outline: Outline) -> bool:
    """Return whether the response is one truth value."""
    node = outline.prepared.response
    if node is None or len(outline.responses) != 1:
        return False
    return outline.prepared.scope().type_of(node).kind is Kind.TRUTH


def _plain_numbers(outline: Outline, places: list[int]) -> Iterator[int]:
    """Yield which columns are numbers of the table as they are, other than its time."""
    time = outline.prepared.spec.data.time
    for at, place in enumerate(places):
        column = outline.columns[place].column
        plain = column is not None and isinstance(column.formula, Name) and column.measure == "number"
        if plain and column is not None and time not in outline.prepared.sources(column.formula):
            yield at


def _joined(before: Factor | None, after: Factor) -> Factor:
    return after if before is None else Factor.merged([before, after])


def _leaves(built: Built) -> list[tuple[Array | slice, Mask | None]]:
    """Return where the rows of each leaf are in the matrix, in the order of the table, and which are learned from."""
    order = built.selection.order
    back = None if order is None else np.argsort(order, kind="stable")
    found: list[tuple[Array | slice, Mask | None]] = []
    at = 0
    for leaf in built.selection.leaves:
        if leaf.count:
            rows = slice(at, at + leaf.count)
            found.append((rows if back is None else back[rows], leaf.learning))
        at += leaf.count
    return found


def _block(built: Built, rows: Array | slice, places: list[int]) -> FloatArray:
    """Return some rows of the predictors."""
    X = built.X  # noqa: N806 - the field's standard name
    if isinstance(X, SparseColumns):
        wanted = np.arange(X.length)[rows]
        return np.column_stack([X.at(place, wanted) for place in places]) if places else np.zeros((len(wanted), 0))
    first = places[0] if places else 0
    if places != list(range(first, X.shape[1])):  # some of them only
        return X[rows][:, places]
    return X[rows, first:]


class _Ranges:
    """The smallest and largest value of each column by the value of a truth response."""

    def __init__(self, width: int) -> None:
        self.smallest = np.full((2, width), np.inf)
        self.largest = np.full((2, width), -np.inf)

    def see(self, block: FloatArray, y: FloatArray) -> None:
        for value in (0, 1):
            rows = block[y == value]
            if len(rows):
                self.smallest[value] = np.fmin(self.smallest[value], np.fmin.reduce(rows, axis=0))
                self.largest[value] = np.fmax(self.largest[value], np.fmax.reduce(rows, axis=0))

    def separated(self) -> Array:
        """Return which columns have all values of one response beyond all of the other."""
        apart = (self.largest[0] < self.smallest[1]) | (self.largest[1] < self.smallest[0])
        return np.flatnonzero(apart & np.isfinite(self.smallest).all(axis=0))
