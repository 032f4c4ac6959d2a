"""The entries of the column map, as they are stored."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from pydantic import Field, model_validator

from facturum.audit.map.change_entries import ChangeEntry, Part
from facturum.audit.source.fingerprints import Fingerprint
from facturum.engine.planning.sections.spec import FORMAT
from facturum.errors import AuditError, counted, listed, nearest
from facturum.support.arguments import checked
from facturum.support.notebook_tables import table_html


class BinEntry(Part):
    """One bin: its edges (null for an open end) and what was observed in it."""

    label: str
    low: float | None
    high: float | None
    rows: int
    percent: float
    smallest: float | None = Field(description="the smallest value observed in the bin")
    largest: float | None = Field(description="the largest value observed in the bin")
    mean_response: float | None


class HistogramEntry(Part):
    """How the values of a number are spread, over cells of equal width."""

    low: float
    high: float
    counts: list[int]


class OutsideEntry(Part):
    """Values in no bin: those between two bins, or beyond the first or the last (null for an open end)."""

    low: float | None
    high: float | None
    rows: int
    smallest: float
    largest: float


class SharedEntry(Part):
    """A value at which two bins meet, and which has it."""

    value: float
    rows: int
    bin: str


class BinsEntry(Part):
    """A number cut into bins, over the rows that [rows] keep selects where values lie in no bin, else of the matrix."""

    expression: str
    variable: str
    terms: list[str]
    bins: list[BinEntry]
    histogram: HistogramEntry | None
    no_bin: int = Field(description="rows taken by [rows] keep with a value that lies in no bin")
    outside: list[OutsideEntry] = Field([], description="where these values lie")
    shared: list[SharedEntry] = Field([], description="of bins written as pairs, values that two of them name")


class FillEntry(Part):
    """The imputed value of one group, or of all rows."""

    group: str | None
    fill: float | str | None
    cells: int


class ImputationEntry(Part):
    """A variable with imputed values, over the rows selected by [rows] keep."""

    expression: str
    variable: str
    how: str
    terms: list[str]
    rows: int
    cells: int = Field(description="how many were filled")
    still_missing: int
    groups_not_seen: int = Field(description="filled cells whose group was not there when it was learned")
    no_group: int = Field(0, description="filled cells whose group is missing")
    fills: list[FillEntry]
    response_difference: float | None = Field(description="mean response where imputed minus where present")
    t: float | None = Field(description="its t value, by Welch's formula")


class FlagEntry(Part):
    """A flag for missing values, over the rows taken by [rows] keep."""

    expression: str
    terms: list[str]
    missing_in_source: int
    made_missing: int = Field(description="rows whose value was set to missing because a condition held")
    conditions: list[str]


class ItemEntry(Part):
    """One item of a score, and its correlation with the sum of the others."""

    item: str
    item_rest: float | None = Field(description="its correlation with the sum of the other items")


class ScoreEntry(Part):
    """A score of several items, over the rows taken by [rows] keep."""

    expression: str
    terms: list[str]
    needed: int
    too_few: int = Field(description="rows with too few values")
    alpha: float | None = Field(description="coefficient alpha, over rows in which every item has a value")
    items: list[ItemEntry]


class GapEntry(Part):
    """Periods without a row, between two rows of a unit."""

    unit: str | None
    first: str
    last: str
    periods: int


class ClockEntry(Part):
    """How rows follow one another in time."""

    time: str | None
    every: str
    panel: list[str]
    units: int
    first: str | None
    last: str | None
    gaps: int = Field(description="periods without a row, between the first and the last of each unit")
    gap_list: list[GapEntry] = Field([], description="the first of these gaps, at most a hundred")
    no_period: int = Field(description="rows without a time")
    history: int = Field(description="rows of history, which only operations along time read")


class ConversionEntry(Part):
    """A variable brought to the plan's step."""

    place: str
    variable: str
    source: str
    from_every: str
    to_every: str
    how: str
    at: str | None = Field(description="where in its period a dated value lies")
    values: int = Field(description="how many source values stand behind it")
    periods: int = Field(description="how many periods have a value")
    partial: int = Field(description="how many periods were not fully covered")
    partial_as: str | None = Field(
        description="what became of those: missing, keep or drop, or the share that must be covered"
    )
    least_cover: float | None = Field(description="the smallest share of these that was covered")
    reads_later: bool = Field(description="whether its values read later periods of the source")


class PathLine(Part):
    """A line of a picture along time."""

    name: str
    periods: list[str]
    values: list[float | None]


class PathEntry(Part):
    """A column along time beside its sources, for one unit."""

    term: str
    column: str
    unit: str
    lines: list[PathLine]


class SourceValueEntry(Part):
    """What a column is where its source has a value."""

    source: str
    value: float | None
    rows: int = Field(description="rows of the matrix")


class ColumnEntry(Part):
    """One column of the matrix, or of the response."""

    position: int | None = Field(description="the place in the matrix, from 0; null for the response")
    name: str
    role: str = Field(description="intercept, predictor or response")
    term: str
    formula: str = Field(description="a scalar expression with all its constants, over variables and definitions")
    sources: list[str] = Field(description="its source variables")
    measure: str = Field(description="number, indicator, power, contrast, score, interaction or constant")
    reference: str | None = Field(description="the category that an indicator or contrast is measured against")
    reading: str = Field(description="what its coefficient means")
    structure: dict[str, Any] | None = Field(None, description="the same as structure, for programs")
    proved: int = Field(0, description="on how many changes of the source that was proved; 0 where nothing is compared")
    missing: int = Field(description="rows selected by [rows] keep in which it is missing")
    imputed: int = Field(description="cells that were filled in")
    min: float | None
    max: float | None
    mean: float | None
    sd: float | None
    nonzero: int
    by_source: list[SourceValueEntry] = Field([], description="its value for each of few of its only source variable")
    inflation: float | None = Field(None, description="how many times others inflate its variance, where known")
    drift: float | None = Field(None, description="mean of other rows less that of learning rows, in sd of these")
    digest: str | None = Field(
        None,
        description="BLAKE2b of the digests of a bit for each row that is not 0, and of the doubles of these, little "
        "end first; if sparse, of its rows that are not 0 and their doubles",
    )


class DefinitionEntry(Part):
    """A name that formulas use."""

    name: str
    formula: str


class DroppedEntry(Part):
    """How many rows were left out for one reason."""

    reason: str
    place: str
    rows: int


class AbsenceEntry(Part):
    """Why rows that [rows] keep selects were left out; a row counts for each of its reasons."""

    why: str = Field(description="the variable, and why it is missing")
    rows: int
    alone: int = Field(description="how many of them have no other reason")
    terms: list[str] = Field(description="the terms that are missing because of it; response is the response")


class RowCounts(Part):
    """The rows given, kept and left out."""

    given: int
    kept: int
    learned: int
    dropped: list[DroppedEntry]
    absences: list[AbsenceEntry] = Field([], description="by variable, why rows with missing values were left out")


class LearnedEntry(Part):
    """What was learned of the table."""

    expression: str = Field(description="the operation as it was asked")
    terms: list[str] = Field(description="the terms that it is part of; response is the response")
    rows: int = Field(description="from how many rows: those in which its argument has a value")
    remaining: bool = Field(
        description="whether from the estimation sample, the learning rows of the matrix; otherwise from all learning "
        "rows that [rows] keep selects, because it decides which of them stay in the sample"
    )
    absorbed: int | None = Field(
        None, description="the degrees of freedom that its groups take beside an intercept, of a within transformation"
    )


class CheckEntry(Part):
    """Something that was looked at, and how it came out."""

    check: str
    ok: bool
    outcome: str = Field(description="holds; see note, where there is something to note; does not hold; not made")
    detail: str

    @model_validator(mode="before")
    @classmethod
    def _told_by_older_versions(cls, given: Any) -> Any:
        """Add what maps before 0.2.0 lack."""
        if isinstance(given, dict) and "outcome" not in given:
            return {**given, "outcome": "holds" if given.get("ok") else "does not hold"}
        return given


class FindingEntry(Part):
    """What a check found."""

    check: str = Field(description="its key in [checks]")
    level: str = Field(description="warning, or note for what is good to know")
    text: str
    columns: list[str]
    rows: list[int] = Field([], description="source row numbers, the first few")
    edit: dict[str, str | None] | None = Field(None, description="the terms of its remedy; null leaves one out")


class TermEntry(Part):
    """How much the columns of a term are explained by those of the others, together."""

    term: str
    columns: int
    inflation: float = Field(
        description="the generalised variance inflation factor of its columns (Fox & Monette 1992)"
    )
    per_column: float = Field(description="its root, of the order of twice the number of columns")


class LeverageEntry(Part):
    """A row with a large leverage."""

    row: int = Field(description="the source row number")
    leverage: float = Field(description="between 0 and 1: how much its own response weighs in its fitted value")


class ColumnMap(Part):
    """The column map of a build."""

    facturum: int = Field(FORMAT, description="the format of this file")
    made_with: dict[str, str] = Field(description="versions, on which the last digits may depend")
    plan: dict[str, Any] = Field(description="the plan as written")
    resolved: dict[str, Any] = Field(description="the plan with nothing left to learn")
    fingerprints: dict[str, dict[str, Fingerprint]] = Field(
        {}, description="of each source variable, by its table: data, history, series.NAME"
    )
    definitions: list[DefinitionEntry]
    warnings: list[str]
    checks: list[CheckEntry]
    rows: RowCounts
    columns: list[ColumnEntry]
    learned: list[LearnedEntry] = Field([], description="what was learned, and from how many rows")
    bins: list[BinsEntry] = Field([], description="the table of bins of each binned variable")
    imputations: list[ImputationEntry] = Field([], description="the imputed values")
    flags: list[FlagEntry] = Field([], description="what each flag for missing values marks")
    clock: ClockEntry | None = Field(None, description="how rows follow one another in time")
    last_period: str | None = Field(None, description="of a plan with a time, the last period of the rows given")
    source: str | None = Field(None, description="the name of the file of its data")
    conversions: list[ConversionEntry] = Field([], description="variables brought to the plan's step")
    paths: list[PathEntry] = Field([], description="columns along time beside their sources")
    scores: list[ScoreEntry] = Field([], description="how the items of each score go together")
    findings: list[FindingEntry] = Field([], description="what the checks found")
    terms: list[TermEntry] = Field([], description="the inflation of each term")
    leverages: list[LeverageEntry] = Field([], description="the rows with the largest leverage")
    changes: list[ChangeEntry] = Field([], description="changes of source variables, and what moves with them")

    def __iter__(self) -> Iterator[ColumnEntry]:  # type: ignore[override]
        return iter(self.columns)

    def __len__(self) -> int:
        return len(self.columns)

    def __repr__(self) -> str:
        head = f"map of {counted(len(self.columns), 'column')} and {counted(self.rows.kept, 'row')}"
        return listed(head, (f"{entry.name} = {entry.formula}" for entry in self.columns))

    def __str__(self) -> str:
        return repr(self)

    def _repr_html_(self) -> str:
        caption = f"{counted(len(self.columns), 'column')} and {counted(self.rows.kept, 'row')}"
        rows = [[entry.name, entry.formula, entry.reading] for entry in self.columns]
        notes = [f"warning: {warning}" for warning in self.warnings]
        return table_html(caption, ("column", "formula", "what its coefficient b means"), rows, notes)

    @checked
    def __getitem__(self, name: str) -> ColumnEntry:
        for column in self.columns:
            if column.name == name:
                return column
        names = [column.name for column in self.columns]
        raise AuditError(f"column '{name}' not found{nearest(name, names)}", remedy=", ".join(names[:30]))

    @checked
    def find(self, name: str) -> list[ColumnEntry]:
        """Return the column of a name, or the columns of a term.

        Raises:
            AuditError: where there is neither, with the nearest name.
        """
        matches = [column for column in self.columns if name in (column.name, column.term)]
        return matches or [self[name]]
