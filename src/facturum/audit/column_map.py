"""The column map: for each column its formula, its sources, what it means, and what its values are."""

from __future__ import annotations

from functools import cache, partial
from importlib.metadata import version

import numpy as np

from facturum.audit.absences import absence_entries
from facturum.audit.entries import (
    CheckEntry,
    ColumnEntry,
    ColumnMap,
    DefinitionEntry,
    DroppedEntry,
    LearnedEntry,
    RowCounts,
)
from facturum.audit.fingerprints import column_digests, sparse_digests
from facturum.audit.formulas import formula_texts
from facturum.audit.origins import fingerprints_of
from facturum.audit.preparation import PreparationReport
from facturum.audit.readings.sentences import Sentences
from facturum.audit.source_values import SourceValues
from facturum.audit.timeline import clock_entry, conversion_entries, conversion_warnings, path_entries
from facturum.audit.warnings import (
    bins_warnings,
    column_warnings,
    imputation_warnings,
    later_warnings,
    overlap_warnings,
    plan_warnings,
    score_warnings,
    text_warnings,
)
from facturum.data.values import Array, FloatArray
from facturum.engine.passes.build import Built, BuiltColumn
from facturum.engine.planning.spec import PlanSpec
from facturum.language.operations.within import Within
from facturum.language.reading import Holds, NoValue
from facturum.numerics.moments import Moments
from facturum.numerics.sparse import SparseColumns


@cache
def _own_version() -> str:
    return version("facturum")


def column_map(built: Built, plan: PlanSpec, report: PreparationReport, digests: bool) -> ColumnMap:
    """Return the column map of a build.

    Args:
        built: the matrix and how it came about.
        plan: the plan as written.
        report: how its variables were prepared.
        digests: whether to take digests and fingerprints, which reads everything once more.
    """
    formulas, response_formulas, definitions = formula_texts(built)
    sentences, by_source = Sentences(built), SourceValues(built)
    missing = report.missing
    entries = []
    if built.y is not None and built.response_moments is not None:
        marks = _digests(built.y.reshape(len(built.y), -1), digests)
        for at, column in enumerate(built.responses):
            text = "Response."
            entry = _entry(
                built, column, response_formulas[at], text, built.response_moments, at, missing(column), marks[at]
            )
            entries.append(entry.model_copy(update={"position": None, "imputed": _imputed(report, column)}))
    marks = _digests(built.X, digests)
    for at, (column, reading) in enumerate(zip(built.columns, sentences.readings, strict=True)):
        text = sentences.of(at)
        entry = _entry(built, column, formulas[at], text, built.moments, at, missing(column), marks[at])
        changes: dict[str, object] = {"measure": "indicator"} if isinstance(reading, Holds | NoValue) else {}
        changes |= {
            "imputed": _imputed(report, column),
            "by_source": by_source.of(column, partial(_cells, built.X, at)),
        }
        entries.append(entry.model_copy(update=changes))
    learned = [
        LearnedEntry(
            expression=str(each.node),
            terms=list(each.terms),
            rows=each.rows,
            remaining=each.remaining,
            absorbed=each.answer.absorbed if isinstance(each.answer, Within) else None,
        )
        for each in built.prepared.estimated
    ]
    rows = _row_counts(built)
    return ColumnMap(
        made_with={"facturum": _own_version(), "numpy": np.__version__},
        plan=plan.model_dump(exclude_defaults=True),
        resolved=built.spec.model_dump(exclude_defaults=True),
        fingerprints=fingerprints_of(built.prepared) if digests else {},
        definitions=[DefinitionEntry(name=d.name, formula=d.formula) for d in definitions],
        warnings=_warnings(built, entries, report, sentences),
        checks=_checks(rows, entries),
        rows=rows,
        columns=entries,
        learned=learned,
        bins=report.bins,
        imputations=report.imputations,
        flags=report.flags,
        scores=report.scores,
        clock=clock_entry(built),
        conversions=conversion_entries(built),
        paths=path_entries(built),
    )


def _digests(matrix: FloatArray | SparseColumns, wanted: bool) -> list[str] | list[None]:
    if not wanted:
        return [None] * matrix.shape[1]
    return sparse_digests(matrix) if isinstance(matrix, SparseColumns) else column_digests(list(matrix.T))


def _cells(matrix: FloatArray | SparseColumns, column: int, rows: Array) -> FloatArray:
    """Return some cells of a column, by their rows."""
    return matrix.at(column, rows) if isinstance(matrix, SparseColumns) else matrix[rows, column]


def _imputed(report: PreparationReport, column: BuiltColumn) -> int:
    return 0 if column.column is None else report.filled_rows(column.column.formula)


def _entry(
    built: Built,
    column: BuiltColumn,
    formula: str,
    reading: str,
    moments: Moments,
    at: int,
    missing: int,
    digest: str | None,
) -> ColumnEntry:
    inner = column.column
    return ColumnEntry(
        position=at,
        name=column.name,
        role=column.role,
        term=column.term,
        formula=formula,
        sources=[] if inner is None else built.prepared.sources(inner.formula),
        measure="constant" if inner is None else inner.measure,
        reference=None if inner is None else inner.reference,
        reading=reading,
        missing=missing,
        imputed=0,
        min=_finite(moments.smallest[at]),
        max=_finite(moments.largest[at]),
        mean=_finite(moments.mean[at]),
        sd=_finite(moments.sd(at)),
        nonzero=int(moments.nonzero[at]),
        digest=digest,
    )


def _finite(value: float) -> float | None:
    return float(value) + 0.0 if np.isfinite(value) else None


def _warnings(built: Built, entries: list[ColumnEntry], report: PreparationReport, sentences: Sentences) -> list[str]:
    return [
        *column_warnings(built, entries),
        *plan_warnings(built),
        *sentences.warnings(),
        *text_warnings(built),
        *overlap_warnings(built),
        *later_warnings(built),
        *conversion_warnings(built),
        *[warning for entry in report.bins for warning in bins_warnings(entry)],
        *[warning for entry in report.imputations for warning in imputation_warnings(entry, report.flagged)],
        *[warning for entry in report.scores for warning in score_warnings(entry)],
    ]


def _checks(counts: RowCounts, entries: list[ColumnEntry]) -> list[CheckEntry]:
    whole = counts.kept + sum(part.rows for part in counts.dropped) == counts.given
    names = [entry.name for entry in entries]
    return [
        CheckEntry(
            check="every row given is kept or left out for a reason",
            ok=whole,
            detail=f"{counts.kept:,} kept, {counts.given - counts.kept:,} left out of {counts.given:,}",
        ),
        CheckEntry(
            check="no two columns have one name", ok=len(set(names)) == len(names), detail=f"{len(names)} names"
        ),
    ]


def _row_counts(built: Built) -> RowCounts:
    reasons = sorted(built.selection.reasons().items(), key=lambda item: (-item[1], item[0][1]))
    dropped = [DroppedEntry(reason=reason, place=place, rows=rows) for (reason, place), rows in reasons]
    selection = built.selection
    learned = selection.learned if built.prepared.estimated else 0
    return RowCounts(
        given=selection.given,
        kept=selection.count,
        learned=learned,
        dropped=dropped,
        absences=absence_entries(built),
    )
