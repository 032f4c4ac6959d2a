"""The column map: for each column its formula, its sources, what it means, and what its values are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from facturum.audit.checks.finding import WARNING, refuse
from facturum.audit.counterfactual.changes import CounterfactualChanges
from facturum.audit.map.change_entries import ChangeEntry
from facturum.audit.map.entries import (
    CheckEntry,
    ColumnEntry,
    ColumnMap,
    DefinitionEntry,
    DroppedEntry,
    FindingEntry,
    LearnedEntry,
    RowCounts,
)
from facturum.audit.map.formulas import formula_texts
from facturum.audit.map.report import BuildReport
from facturum.audit.map.warnings import (
    bins_warnings,
    imputation_warnings,
    lag_warnings,
    overlap_warnings,
    plan_warnings,
    reference_warnings,
    score_warnings,
    shared_warnings,
    text_warnings,
)
from facturum.audit.readings.coefficients import Sentences
from facturum.audit.remedies.remedying import remedied
from facturum.audit.source.fingerprints import ColumnDigest, Fingerprint, column_digests, sparse_digests
from facturum.audit.source.origins import fingerprints_of
from facturum.audit.topics.timeline import conversion_entries, conversion_warnings
from facturum.data.table import Table
from facturum.engine.passes.build import Built
from facturum.engine.passes.outline import BuiltColumn, Outline
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.language.meanings.structures import structure_of
from facturum.language.tree.writer import in_words
from facturum.numerics.exact.moments import Moments
from facturum.numerics.linear.sparse import SparseColumns
from facturum.support.threads import on_threads
from facturum.version import VERSION


@dataclass(frozen=True)
class Digests:
    """What shows that a column or a source variable has changed.

    Args:
        columns: of each column of X.
        responses: of each column of y.
        fingerprints: of the source variables, by table.
    """

    columns: Sequence[str]
    responses: Sequence[str]
    fingerprints: dict[str, dict[str, Fingerprint]]

    @classmethod
    def of(cls, built: Built) -> Digests:
        """Return those of a build in memory, which reads everything once more."""
        X, y = built.X, built.y  # noqa: N806 - the field's standard name
        columns = sparse_digests(X) if isinstance(X, SparseColumns) else column_digests(list(X.T))
        responses = [] if y is None else column_digests(list(y.T))
        return cls(columns, responses, fingerprints_of(built.prepared))

    def on(self, columns: ColumnMap, outline: Outline) -> ColumnMap:
        """Return a column map with these digests, and with the changes of the source that effects are told of.

        Args:
            columns: the map; the columns of the response come first in it.
            outline: the plan and its columns.
        """
        marks = [*self.responses, *self.columns]
        pairs = zip(columns.columns, marks, strict=True)
        entries = [entry.model_copy(update={"digest": mark}) for entry, mark in pairs]
        changes = source_changes(outline, columns)
        return columns.model_copy(update={"columns": entries, "fingerprints": self.fingerprints, "changes": changes})


class ColumnDigests:
    """The digests of columns whose rows come stretch by stretch."""

    def __init__(self, outline: Outline) -> None:
        self._columns = [ColumnDigest() for _ in outline.columns]
        self._of_sparse: list[str] | None = None  # of a sparse matrix, which comes in one stretch
        self._responses = [ColumnDigest() for _ in outline.responses]

    def add(self, built: Built, threads: int | None = None) -> None:
        """Take in further rows, on so many threads."""
        X = built.X  # noqa: N806 - the field's standard name
        y = [] if built.y is None else list(built.y.T)
        if isinstance(X, SparseColumns):
            self._of_sparse = sparse_digests(X)
            pairs = zip(self._responses, y, strict=True)
        else:
            pairs = zip([*self._columns, *self._responses], [*X.T, *y], strict=True)
        on_threads(lambda pair: pair[0].add(pair[1]), list(pairs), threads)

    def taken(self, fingerprints: dict[str, dict[str, Fingerprint]]) -> Digests:
        """Return the digests of all rows so far, with those of the source variables, by table."""
        columns = self._of_sparse or [each.hexdigest() for each in self._columns]
        return Digests(columns, [each.hexdigest() for each in self._responses], fingerprints)


def source_changes(outline: Outline, columns: ColumnMap) -> list[ChangeEntry]:
    """Return the changes of the source that effects are told of, and what moves with them."""
    responses = [entry for entry in columns.columns if entry.role == "response"]
    if not responses:
        return []
    linked = len(responses) == 1 and responses[0].min is not None and responses[0].min >= 0
    return CounterfactualChanges(outline, Sentences(outline, False, outline.spec, {}).meanings, linked).entries()


def column_map(report: BuildReport, plan: PlanSpec) -> ColumnMap:
    """Return the column map of a build.

    Args:
        report: on the build.
        plan: the plan as written.
    """
    outline = report.outline
    prepared = outline.prepared
    formulas, response_formulas, definitions = formula_texts(outline)
    ends = zip(report.moments.smallest.tolist(), report.moments.largest.tolist(), strict=True)
    alike = {at: low for at, (low, high) in enumerate(ends) if low == high}
    sentences = Sentences(outline, report.responses_are_counts, plan, alike)
    entries = []
    for at, column in enumerate(outline.responses):
        entry = _entry(report, column, response_formulas[at], "Response.", report.response_moments, at)
        own = sentences.response if len(outline.responses) == 1 else None
        structure = None if own is None else structure_of(own)
        entries.append(entry.model_copy(update={"position": None, "structure": structure}))
    for at, (column, meaning) in enumerate(zip(outline.columns, sentences.meanings, strict=True)):
        entry = _entry(report, column, formulas[at], sentences.of(at), report.moments, at)
        structure = None if meaning is None else structure_of(meaning)
        changes: dict[str, object] = {"structure": structure, "proved": sentences.proved(at)}
        changes |= {"measure": "indicator"} if meaning is not None and meaning.flag else {}
        entries.append(entry.model_copy(update=changes | {"by_source": report.by_source.of(at)}))
    learned = [
        LearnedEntry(
            expression=str(each.node),
            terms=list(each.terms),
            rows=each.rows,
            remaining=each.remaining,
            absorbed=each.answer.absorbed,
        )
        for each in prepared.estimated
    ]
    rows = _row_counts(report)
    checks = report.checks
    # rows that a resolved plan is applied to are not fitted: that a column is constant in them says nothing
    findings = [] if plan.resolved else checks.findings(report.moments, report.response_moments, rows.kept, plan)
    refuse(findings, checks.levels)
    findings = remedied(findings, report, plan)
    inflation, drifts = checks.inflation(), checks.drifts()
    entries = [
        each.model_copy(update={"inflation": inflation.get(each.name), "drift": drifts.get(each.name)})
        for each in entries
    ]
    preparation, clock = report.preparation, report.clock.entry()
    bins, imputations, scores = preparation.bins, preparation.imputations, preparation.scores
    return ColumnMap(
        made_with={"facturum": VERSION, "numpy": np.__version__},
        plan=plan.model_dump(exclude_defaults=True),
        resolved=outline.spec.model_dump(exclude_defaults=True),
        definitions=[DefinitionEntry(name=d.name, formula=d.formula) for d in definitions],
        warnings=[
            *[each.told for each in findings if each.level == WARNING],
            *plan_warnings(outline),
            *reference_warnings(outline),
            *shared_warnings(outline),
            *report.lookups.warnings(),
            *lag_warnings(outline, clock, rows.kept),
            *sentences.warnings(),
            *text_warnings(outline),
            *overlap_warnings(outline),
            *conversion_warnings(prepared),
            *report.later_rows.warnings(),
            *[warning for each in bins for warning in bins_warnings(each)],
            *[warning for each in imputations for warning in imputation_warnings(each, preparation.flagged)],
            *[warning for each in scores for warning in score_warnings(each)],
        ],
        checks=[*_checks(rows, entries), *([] if plan.resolved else checks.outcomes(findings))],
        rows=rows,
        columns=entries,
        learned=learned,
        bins=bins,
        imputations=imputations,
        flags=preparation.flags,
        scores=scores,
        clock=clock,
        last_period=report.last_period.entry(),
        source=_source_of(prepared),
        conversions=conversion_entries(prepared),
        paths=report.paths.entries(),
        findings=[
            FindingEntry(
                check=f.check,
                level=f.level,
                text=f.told,
                columns=list(f.columns),
                rows=list(f.rows),
                edit=None if f.edit is None else dict(f.edit),
            )
            for f in findings
        ],
        terms=checks.terms(),
        leverages=checks.leverages(),
    )


def _source_of(prepared: Prepared) -> str | None:
    """Return the name of the file that a plan is built of; None of a table in memory."""
    source = prepared.given.table.source
    return None if source == Table.source else source


def _entry(
    report: BuildReport,
    column: BuiltColumn,
    formula: str,
    reading: str,
    moments: Moments,
    at: int,
) -> ColumnEntry:
    inner = column.column
    return ColumnEntry(
        position=at,
        name=column.name,
        role=column.role,
        term=column.term,
        formula=formula,
        sources=[] if inner is None else report.outline.prepared.sources(inner.formula),
        measure="constant" if inner is None else inner.measure,
        reference=None if inner is None else inner.reference,
        reading=in_words(reading),
        missing=report.preparation.missing(column, report.missing),
        imputed=report.preparation.filled_rows(column),
        min=_finite(moments.smallest[at]),
        max=_finite(moments.largest[at]),
        mean=_finite(moments.mean[at]),
        sd=_finite(moments.sd(at)),
        nonzero=int(moments.nonzero[at]),
    )


def _finite(value: float) -> float | None:
    return float(value) + 0.0 if np.isfinite(value) else None


def _checks(counts: RowCounts, entries: list[ColumnEntry]) -> list[CheckEntry]:
    whole = counts.kept + sum(part.rows for part in counts.dropped) == counts.given
    names = [entry.name for entry in entries]
    unique = len(set(names)) == len(names)
    return [
        CheckEntry(
            check="every row given is kept or left out for a reason",
            ok=whole,
            outcome="holds" if whole else "does not hold",
            detail=f"{counts.kept:,} kept, {counts.given - counts.kept:,} left out of {counts.given:,}",
        ),
        CheckEntry(
            check="no two columns have one name",
            ok=unique,
            outcome="holds" if unique else "does not hold",
            detail=f"{len(names)} names",
        ),
    ]


def _row_counts(report: BuildReport) -> RowCounts:
    totals = report.totals
    reasons = sorted(totals.reasons.items(), key=lambda item: (-item[1], item[0][::-1]))
    return RowCounts(
        given=totals.given,
        kept=totals.kept,
        learned=totals.learned if report.outline.prepared.estimated else 0,
        dropped=[DroppedEntry(reason=reason, place=place, rows=rows) for (reason, place), rows in reasons],
        absences=report.absences.entries(),
    )
