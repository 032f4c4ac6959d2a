"""All that the column map says of the rows of a build, gathered from stretches of them in their order."""

from __future__ import annotations

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
from facturum.engine.passes.build import Built
from facturum.engine.passes.outline import Outline
from facturum.engine.passes.selection import Selection
from facturum.engine.passes.totals import Totals
from facturum.numerics.exact.moments import Moments
from facturum.numerics.shapes.histogram import all_whole


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

    @property
    def looks_again(self) -> bool:
        """Whether it needs the rows a second time."""
        return self.preparation.looks_again

    def see_again(self, source: Source, selection: Selection) -> None:
        """Look at the rows of a stretch once more, after all have been seen."""
        self.preparation.see_again(Stretch(source, selection))

    @cached_property
    def missing(self) -> dict[str, int]:
        """In how many rows selected by [rows] keep each part of the plan is missing."""
        return {place: self.totals.missing[place] for place in self.outline.prepared.parts()}


def report_of(built: Built) -> tuple[BuildReport, list[FilledCells]]:
    """Return the report on a whole build, and each cell that was filled."""
    report = BuildReport(built.outline)
    cells = report.see(built)
    if report.looks_again:
        report.see_again(built.source, built.selection)
    if report.checks.looks_again:
        report.checks.see_again(built)
    return report, cells
