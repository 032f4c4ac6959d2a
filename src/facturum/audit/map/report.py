"""All that the column map says of the rows of a build, gathered from stretches of them in their order."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property

import numpy as np

from facturum.audit.checks.checks import Checks
from facturum.audit.topics.absences import Absences
from facturum.audit.topics.imputations import FilledCells
from facturum.audit.topics.later_rows import LaterRows
from facturum.audit.topics.lookups import Lookups
from facturum.audit.topics.preparation import PreparationReport
from facturum.audit.topics.source_values import SourceValues
from facturum.audit.topics.stretch import Stretch
from facturum.audit.topics.timeline import Clock, LastPeriod, Paths, is_clocked
from facturum.data.values import FloatArray
from facturum.engine.blocks.source import Source
from facturum.engine.passes.build import Built, built_rows
from facturum.engine.passes.outline import Outline
from facturum.engine.passes.selection import Sample, Selection
from facturum.engine.passes.totals import Totals
from facturum.numerics.exact.moments import Moments
from facturum.numerics.shapes.histogram import all_whole

Look = Callable[[Selection], None]


class BuildReport:
    """What a build did to its rows, cells and columns.

    Stretches are seen one after the other, each leaf once; what is summed is summed leaf by leaf, so that the report
    does not depend on how the rows were cut.

    Args:
        outline: the resolved plan and its columns.
    """

    def __init__(self, outline: Outline) -> None:
        self.outline = outline
        self.totals = Totals()
        self.moments = Moments.of(len(outline.columns))
        self.response_moments = Moments.of(len(outline.responses))
        self.preparation = PreparationReport(outline)
        self.by_source = SourceValues(outline)
        self.absences = Absences(outline.prepared)
        self.later_rows = LaterRows(outline.prepared)
        self.lookups = Lookups(outline.prepared)
        self.clock, self.paths = Clock(outline.prepared), Paths(outline)
        self.last_period = LastPeriod(outline.prepared)
        self.checks = Checks(outline)
        self.responses_are_counts = False
        self._may_be_counts = len(outline.responses) == 1

    def see(self, built: Built) -> list[FilledCells]:
        """Look at the rows of a stretch; return each cell that was filled."""
        self.totals.add(built.selection)
        self.moments = Moments.merged([self.moments, *built.parts])
        if built.y is not None:
            self.response_moments = Moments.merged([self.response_moments, *built.response_parts])
            self._see_responses(built.y)
        self.checks.see(built)
        stretch = Stretch.of(built)
        self.by_source.see(built)
        self.absences.see(stretch)
        self.later_rows.see(stretch)
        self.lookups.see(stretch)
        self.last_period.see(built.source, stretch.start, stretch.stop)
        if is_clocked(self.outline.prepared):
            self.clock.see(built.source, stretch.start, stretch.stop)
            self.paths.see(built.source, stretch.start, stretch.stop)
        return self.preparation.see(stretch)

    def _see_responses(self, y: FloatArray) -> None:
        """Ask whether the response counts something: whole numbers from 0, not all of them 0 or 1."""
        if self._may_be_counts:
            known = y[~np.isnan(y)]
            self._may_be_counts = all_whole(known)
        low, high = self.response_moments.smallest[0], self.response_moments.largest[0]
        self.responses_are_counts = self._may_be_counts and bool(low >= 0 and high > 1)

    def look_again(self, source: Source, each: Callable[[Look], None], rows_of: Callable[[Selection], Built]) -> None:
        """Look at the rows once more, after all have been seen, as far as that is needed.

        Args:
            source: the table.
            each: does what it is given for the rows of each stretch.
            rows_of: makes the rows of a stretch.
        """
        if self.preparation.looks_again:
            each(lambda selection: self.preparation.see_again(Stretch(source, selection)))
        if self.checks.looks_again:
            each(lambda selection: self.checks.see_again(rows_of(selection)))

    @cached_property
    def missing(self) -> dict[str, int]:
        """In how many rows selected by [rows] keep each part of the plan is missing."""
        return {place: self.totals.missing[place] for place in self.outline.prepared.parts()}


def report_of(built: Built) -> tuple[BuildReport, list[FilledCells]]:
    """Return the report on a whole build, and each cell that was filled."""
    report = BuildReport(built.outline)
    cells = report.see(built)
    report.look_again(built.source, lambda look: look(built.selection), lambda _: built)
    return report, cells


def report_of_stretches(
    outline: Outline,
    sample: Sample,
    take: Callable[[Built, list[FilledCells]], None],
    before: Callable[[Selection], None] = lambda _: None,
    sparse: bool = False,
) -> BuildReport:
    """Make the rows of a plan stretch by stretch, and return the report on them.

    Args:
        outline: the resolved plan and its columns.
        sample: which rows it selects.
        take: is given the rows of each stretch, and its cells that were filled.
        before: is called with the rows of a stretch before they are made.
        sparse: whether only the cells of X that are not zero are held.

    Raises:
        DataError: where a matrix cannot be made of the rows.
    """
    report, source = BuildReport(outline), sample.source

    def made(selection: Selection) -> Built:
        return built_rows(outline, source, selection, sample.threads, None, sparse)

    def work(selection: Selection) -> None:
        before(selection)
        built = made(selection)
        take(built, report.see(built))

    sample.each(work)
    report.totals.settle(outline.prepared)
    report.look_again(source, sample.each, made)
    return report
