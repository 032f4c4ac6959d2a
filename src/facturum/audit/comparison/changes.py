"""What a comparison of two builds tells: values that moved, rows gained and lost, cells that differ."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from facturum.errors import counted, rows_in_words
from facturum.numerics.shapes.drift import Drift
from facturum.support.notebook_tables import table_html

DRIFTED = 0.1  # of the stability index: below, samples count as alike


@dataclass(frozen=True)
class Moved:
    """A learned value that moved."""

    term: str
    what: str
    before: str
    after: str

    def __str__(self) -> str:
        return f"{self.term}: {self.what} was {self.before}, and is {self.after}."


@dataclass(frozen=True)
class RowChange:
    """Rows that are in one matrix only.

    Args:
        kind: gained or lost.
        reason: why they were not in the other.
        rows: source row numbers, or what identifies rows; the first few.
        count: how many.
    """

    kind: str
    reason: str
    rows: tuple[Any, ...]
    count: int

    def __str__(self) -> str:
        where = "the second build only" if self.kind == "gained" else "the first build only"
        return f"{counted(self.count, 'row')} in {where}: {self.reason}. {_some(self.rows, self.count)}"


@dataclass(frozen=True)
class CellChange:
    """A column with cells that differ in rows of both builds.

    Args:
        column: its name.
        count: how many cells.
        largest: the largest difference; None where some are missing on one side only.
        rows: what identifies the rows, the first few.
        before, after: the values in the first of them.
    """

    column: str
    count: int
    largest: float | None
    rows: tuple[Any, ...]
    before: float | None
    after: float | None

    def __str__(self) -> str:
        first = f"The first of them was {_number(self.before)}, and is {_number(self.after)}."
        cells = counted(self.count, "cell") + (" differs" if self.count == 1 else " differ")
        return f"{self.column}: {cells}. {_some(self.rows, self.count)} {first}"


@dataclass(frozen=True)
class Comparison:
    """What changed from one build to another.

    Args:
        before, after: how the builds are called.
        plan: sentences on the plan.
        columns: sentences on columns added, removed and renamed.
        learned: learned values that moved.
        source: sentences on cells of the source that changed.
        rows: rows gained and lost, by reason.
        cells: cells that differ in rows of both, by column.
        drifts: columns of both by how far their distributions are apart, the farthest first.
        rows_in_both: how many rows are in both matrices.
        by: the carried variables that tell which rows are the same; none where their numbers in the source do.
        hint: what would match rows better; empty where there is nothing to say.
    """

    before: str
    after: str
    plan: tuple[str, ...]
    columns: tuple[str, ...]
    learned: tuple[Moved, ...]
    source: tuple[str, ...]
    rows: tuple[RowChange, ...]
    cells: tuple[CellChange, ...]
    drifts: tuple[tuple[str, Drift], ...]
    rows_in_both: int
    by: tuple[str, ...] = ()
    hint: str = ""

    @property
    def same(self) -> bool:
        """Whether nothing changed."""
        return not (self.plan or self.columns or self.learned or self.source or self.rows or self.cells)

    @property
    def matched(self) -> str:
        """How many rows are in both, and by what they were matched."""
        by = f"by {' and '.join(self.by)}" if self.by else "by row number in the source"
        return f"{counted(self.rows_in_both, 'row')} in both, matched {by}"

    def sections(self) -> Iterator[tuple[str, list[str]]]:
        """Yield what changed, by topic: a title and sentences."""
        yield "plan", list(self.plan)
        yield "columns", list(self.columns)
        yield "learned values", [str(each) for each in self.learned]
        yield "source", list(self.source)
        yield "rows", [*filter(None, [self.hint]), *[str(each) for each in self.rows]]
        yield "cells", [str(each) for each in self.cells]

    def __str__(self) -> str:
        if self.same:
            return f"{self.before} and {self.after} are the same: {counted(self.rows_in_both, 'row')}."
        lines = [f"from {self.before} to {self.after}, {self.matched}"]
        for title, sentences in self.sections():
            lines += [f"{title}:", *[f"    {sentence}" for sentence in sentences]] if sentences else []
        return "\n".join(lines)

    def __repr__(self) -> str:
        return str(self)

    def _repr_html_(self) -> str:
        rows = [[title, sentence] for title, sentences in self.sections() for sentence in sentences]
        rows += [["drift", f"{name}: {drift_text(drift)}"] for name, drift in self.drifts[:10]]
        return table_html(f"from {self.before} to {self.after}", ("topic", "what changed"), rows)


def drift_text(drift: Drift) -> str:
    """Return in words how far a column drifted."""
    apart = "" if drift.difference is None else f", means {drift.difference:+.2f} standard deviations apart"
    gone = f", missing {100 * drift.missing[0]:.1f} % and {100 * drift.missing[1]:.1f} %" if any(drift.missing) else ""
    return f"stability index {drift.stability:.3f}{apart}{gone}"


def _some(rows: Sequence[Any], count: int) -> str:
    if all(isinstance(row, int) for row in rows):
        return rows_in_words(list(rows), count)
    more = f" and {count - len(rows):,} more" if count > len(rows) else ""
    return f"Rows {'; '.join(map(str, rows))}{more}."


def _number(value: float | None) -> str:
    return "missing" if value is None else f"{value:.10g}"
