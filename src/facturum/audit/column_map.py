"""The column map: for each column its formula, its sources, what it means, and what its values are."""

from __future__ import annotations

from importlib.metadata import version
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from facturum.audit.fingerprints import Fingerprint, column_digest, fingerprint_of
from facturum.audit.formulas import formula_texts
from facturum.audit.readings import informed, sentence
from facturum.data.values import Kind
from facturum.engine.build import Built, BuiltColumn
from facturum.engine.spec import FORMAT, PlanSpec
from facturum.errors import AuditError, nearest
from facturum.language.reading import Holds
from facturum.numerics.moments import Moments


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class ColumnEntry(_Part):
    """One column of the matrix, or of the response."""

    position: int | None = Field(description="the place in the matrix, from 0; null for the response")
    name: str
    role: str = Field(description="intercept, predictor or response")
    term: str
    formula: str = Field(description="a scalar expression with all its constants, over variables and definitions")
    sources: list[str] = Field(description="the variables of the table that it is made of")
    measure: str = Field(description="number, indicator, power, contrast, score, interaction or constant")
    reference: str | None = Field(description="the category that an indicator or contrast is measured against")
    reading: str = Field(description="what its coefficient means")
    missing: int = Field(description="rows taken by [rows] keep in which it has no value")
    imputed: int = Field(description="cells that were filled in")
    min: float | None
    max: float | None
    mean: float | None
    sd: float | None
    nonzero: int
    digest: str | None = Field(None, description="SHA-256 of its doubles, little end first")


class DefinitionEntry(_Part):
    """A name that formulas use."""

    name: str
    formula: str


class DroppedEntry(_Part):
    """How many rows were left out for one reason."""

    reason: str
    place: str
    rows: int


class RowCounts(_Part):
    """The rows given, kept and left out."""

    given: int
    kept: int
    learned: int
    dropped: list[DroppedEntry]


class CheckEntry(_Part):
    """Something that was looked at, and how it came out."""

    check: str
    ok: bool
    detail: str


class ColumnMap(_Part):
    """What a build says of its columns."""

    facturum: int = Field(FORMAT, description="the format of this file")
    made_with: dict[str, str] = Field(description="versions, on which the last digits may depend")
    plan: dict[str, Any] = Field(description="the plan as written")
    resolved: dict[str, Any] = Field(description="the plan with nothing left to learn")
    fingerprints: dict[str, Fingerprint] = Field({}, description="of each source variable")
    definitions: list[DefinitionEntry]
    warnings: list[str]
    checks: list[CheckEntry]
    rows: RowCounts
    columns: list[ColumnEntry]

    def __getitem__(self, name: str) -> ColumnEntry:
        for column in self.columns:
            if column.name == name:
                return column
        names = [column.name for column in self.columns]
        raise AuditError(f"there is no column called '{name}'{nearest(name, names)}", remedy=", ".join(names[:30]))

    def find(self, name: str) -> list[ColumnEntry]:
        """Return the column of a name, or the columns of a term.

        Raises:
            AuditError: where there is neither, with the nearest name.
        """
        found = [column for column in self.columns if name in (column.name, column.term)]
        return found or [self[name]]


def column_map(built: Built, plan: PlanSpec, digests: bool = False) -> ColumnMap:
    """Return the column map of a build.

    Args:
        built: the matrix and how it came about.
        plan: the plan as written.
        digests: whether to take digests and fingerprints, which reads everything once more.
    """
    formulas, response_formulas, definitions = formula_texts(built)
    truths = _truths(built)
    response = built.responses[0].column.reading if built.responses and built.responses[0].column else None
    response = None if response is None else informed(response, truths)
    missing = built.selection.missing()
    entries = []
    if built.y is not None and built.response_moments is not None:
        y = built.y.reshape(len(built.y), -1)
        for at, column in enumerate(built.responses):
            digest = column_digest(y[:, at]) if digests else None
            text = "What is explained."
            entry = _entry(built, column, response_formulas[at], text, built.response_moments, at, missing, digest)
            entries.append(entry.model_copy(update={"position": None}))
    for at, column in enumerate(built.columns):
        digest = column_digest(built.X[:, at]) if digests else None
        reading = None if column.column is None else informed(column.column.reading, truths)
        text = sentence(reading, response)
        entry = _entry(built, column, formulas[at], text, built.moments, at, missing, digest)
        entries.append(entry.model_copy(update={"measure": "indicator"}) if isinstance(reading, Holds) else entry)
    fingerprints = {name: fingerprint_of(built.prepared.table[name]) for name in source_names(built)} if digests else {}
    return ColumnMap(
        made_with={"facturum": version("facturum"), "numpy": np.__version__},
        plan=plan.model_dump(exclude_defaults=True),
        resolved=built.spec.model_dump(exclude_defaults=True),
        fingerprints=fingerprints,
        definitions=[DefinitionEntry(name=d.name, formula=d.formula) for d in definitions],
        warnings=_warnings(built, entries),
        checks=_checks(built, entries),
        rows=_row_counts(built),
        columns=entries,
    )


def _truths(built: Built) -> set[str]:
    """Return the names of variables, derived ones too, that are truth values."""
    made = built.prepared
    scope = made.scope()
    derived = {name for name, node in made.derived.items() if scope.of(node).kind is Kind.TRUTH}
    return derived | {variable.name for variable in made.table if variable.kind is Kind.TRUTH}


def source_names(built: Built) -> list[str]:
    """Return the variables of the table that a build depends on, each once, in the order of the table."""
    made = built.prepared
    roots = [*made.terms.values(), *[node for node in (made.response, made.keep, made.learn) if node is not None]]
    used = {name for root in roots for name in made.sources(root)} | set(made.spec.data.carry)
    return [name for name in made.table.variables if name in used]


def _entry(
    built: Built,
    column: BuiltColumn,
    formula: str,
    reading: str,
    moments: Moments,
    at: int,
    missing: dict[str, int],
    digest: str | None,
) -> ColumnEntry:
    place = column.term if column.role == "response" else f"terms.{column.term}"
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
        missing=missing.get(place, 0),
        imputed=0,
        min=_finite(moments.smallest[at]),
        max=_finite(moments.largest[at]),
        mean=_finite(moments.mean[at]),
        sd=_finite(moments.sd()[at]),
        nonzero=int(moments.nonzero[at]),
        digest=digest,
    )


def _finite(value: float) -> float | None:
    return float(value) + 0.0 if np.isfinite(value) else None


def _warnings(built: Built, entries: list[ColumnEntry]) -> list[str]:
    found = [
        f"{entry.name} is {entry.min:.6g} in every row: it cannot be told from the intercept."
        for entry in entries
        if entry.role == "predictor" and entry.min is not None and entry.min == entry.max
    ]
    if built.spec.intercept:
        for key, names in (built.spec.columns or {}).items():
            parts = [
                e for e in entries if e.term == key != "response" and e.measure == "indicator" and e.reference is None
            ]
            if len(parts) == len(names) > 1 and abs(sum(e.mean or 0 for e in parts) - 1) < 1e-12:
                found.append(f"the columns of {key} add up to the intercept: leave one of the two out.")
    if built.X.shape[0] <= built.X.shape[1]:
        found.append(f"there are {built.X.shape[1]} columns for {built.X.shape[0]} rows.")
    return found


def _checks(built: Built, entries: list[ColumnEntry]) -> list[CheckEntry]:
    counts = _row_counts(built)
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
    reasons = sorted(built.selection.reasons().items(), key=lambda item: (-item[1], item[0]))
    dropped = [DroppedEntry(reason=reason, place=place, rows=rows) for (reason, place), rows in reasons]
    learned = sum(leaf.count if leaf.learning is None else int(leaf.learning.sum()) for leaf in built.selection.leaves)
    return RowCounts(given=built.selection.given, kept=built.selection.count, learned=learned, dropped=dropped)
