"""Counts of rows behind columns: constants, thin categories and cells of interactions, separation of the response."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from facturum.audit.checks.finding import NOTE, WARNING, Finding
from facturum.audit.checks.summaries import Summaries
from facturum.engine.passes.outline import BuiltColumn
from facturum.errors import counted, named
from facturum.language.meanings.categories import Indicator
from facturum.language.meanings.meaning import Meaning
from facturum.numerics.exact.moments import Moments

FEWEST = 5  # rows of a category or cell
RARE = 0.001  # share of the rows, below which a column counts as zero in nearly all
PER_COLUMN = 10


@dataclass(frozen=True)
class Cells:
    """How many rows stand behind the columns of a build.

    Args:
        columns: all of them, the intercept too.
        moments: of the same.
        rows: of the matrix.
        sums: what was gathered for the checks.
    """

    columns: Sequence[BuiltColumn]
    moments: Moments
    rows: int
    sums: Summaries

    def findings(self) -> Iterator[Finding]:
        """Yield what there is to say of constants, thin categories and cells, separation, and the number of rows."""
        thin = list(self._thin())
        yield from thin
        shown = {name for each in thin for name in each.columns}
        yield from self._rare(shown)
        yield from self._separating()
        yield from self._narrow()

    def _narrow(self) -> Iterator[Finding]:
        width = len(self.columns)
        if self.rows <= width:
            yield Finding("width", f"there are {counted(width, 'column')} for {counted(self.rows, 'row')}.")
        elif width * PER_COLUMN > self.rows:
            yield Finding(
                "width",
                f"there are {counted(width, 'column')} for {counted(self.rows, 'row')}, fewer than ten rows for each: "
                "coefficients will have wide intervals. Pool or regroup categories, or take fewer terms.",
                level=NOTE,
            )

    def counts(self) -> dict[int, int]:
        """Return for each column of categories how many rows are in its category or cell."""
        return {
            at: int(self.moments.nonzero[at])
            for at, column in enumerate(self.columns)
            if column.column is not None and column.column.measure in ("indicator", "interaction")
            and column.column.meaning.cell is not None
        }  # fmt: skip

    def _meaning(self, at: int) -> Meaning:
        """Return what a column of categories means."""
        column = self.columns[at].column
        assert column is not None  # as the intercept counts no categories
        return column.meaning

    def _thin(self) -> Iterator[Finding]:
        """Yield categories and cells with fewer than five rows, by term."""
        by_term: dict[str, list[tuple[str, int, str]]] = {}
        for at, rows in self.counts().items():
            meaning = self._meaning(at)
            if rows < FEWEST and self._grouped(at) and (rows or meaning.crossed):
                by_term.setdefault(self.columns[at].term, []).append((str(meaning.cell), rows, self.columns[at].name))
        for term, cells in self._references().items():
            if few := [(text, rows, "") for text, rows in cells if rows < FEWEST]:
                by_term.setdefault(term, []).extend(few)
        for term, thin in by_term.items():
            told = ", ".join(f"{text} ({counted(rows, 'row')})" for text, rows, _ in thin[:6])
            more = f" and {len(thin) - 6:,} more" if len(thin) > 6 else ""
            names = tuple(name for _, _, name in thin if name)
            empty = any(not rows for _, rows, _ in thin)
            yield Finding(
                "few_rows",
                f"{term} has {'no rows, or fewer than five,' if empty else 'fewer than five rows'} with {told}{more}.",
                names,
                level=WARNING if empty else NOTE,
                remedy="Pool them with pool=, or regroup the categories.",
            )

    def _grouped(self, at: int) -> bool:
        """Return whether a column is of categories, other than bins, of which thin ones are told besides."""
        column = self.columns[at]
        node = self.sums.outline.prepared.terms[column.term]
        indicator = any(factor.level for factor in self._meaning(at).factors()[0])
        return indicator and not any(part.cuts_numbers for part in self.sums.outline.prepared.reached(node))

    def _references(self) -> dict[str, list[tuple[str, int]]]:
        """Return the rows of reference categories, and of the cells of an interaction that have no column."""
        counts = self.counts()
        totals: dict[tuple[str, str, str], int] = {}
        own: dict[tuple[str, str], list[tuple[int, int, Indicator]]] = {}  # by term and variable
        for at, rows in counts.items():
            level = self._meaning(at).level
            if level is not None and self._grouped(at):
                totals[level.subject, level.category, level.reference or ""] = rows
                if not level.alone:
                    own.setdefault((self.columns[at].term, level.subject), []).append((at, rows, level))
        told: dict[str, list[tuple[str, int]]] = {}
        for (term, subject), parts in own.items():
            at, _, first = parts[0]
            left = int(self.moments.count[at]) - sum(rows for _, rows, _ in parts)
            told.setdefault(term, []).append((f"{subject} = {first.reference}", left))
        for term, cells in self._crossed(counts).items():
            told.setdefault(term, []).extend(_reference_cells(cells, totals))
        return told

    def _crossed(self, counts: dict[int, int]) -> dict[str, dict[tuple[Indicator, Indicator], int]]:
        crossed: dict[str, dict[tuple[Indicator, Indicator], int]] = {}
        for at, rows in counts.items():
            levels = [level for factor in self._meaning(at).factors()[0] if (level := factor.level) is not None]
            if len(levels) == len(self._meaning(at).factors()[0]) == 2:
                crossed.setdefault(self.columns[at].term, {})[levels[0], levels[1]] = rows
        return crossed

    def _rare(self, shown: set[str]) -> Iterator[Finding]:
        limit = max(RARE * self.rows, 1)
        rare = [
            (column.name, int(self.moments.nonzero[at]))
            for at, column in enumerate(self.columns)
            if 0 < self.moments.nonzero[at] <= limit and self.rows >= 100 and column.name not in shown
        ]
        if rare:
            told = ", ".join(f"{name} ({counted(rows, 'row')})" for name, rows in rare[:8])
            yield Finding(
                "rare",
                f"columns that are zero in all but a few of {self.rows:,} rows: {told}.",
                tuple(name for name, _ in rare),
                remedy="Pool or regroup categories, or leave these columns out.",
            )

    def _separating(self) -> Iterator[Finding]:
        """Yield columns that alone separate the values of a truth response."""
        sums = self.sums
        if sums.ranges is None or sums.whole is None:
            return
        response = self.sums.outline.responses[0].name
        told: set[int] = set()
        raw = sums.whole.raw
        for at in sums.ranges.separated().tolist():
            told.add(at)
            name = self.columns[sums.places[at]].name
            yield Finding(
                "separation",
                f"{name} alone predicts {response} without error: its values where {response} is 1 lie apart from "
                "those where it is 0. A logistic regression has no finite coefficient.",
                (name,),
                remedy="Leave it out, if it is known only afterwards.",
            )
        one_sided = []
        for place, rows in self.counts().items():
            at = sums.places.index(place)
            if at in told or not rows or rows == self.rows:
                continue
            ones = round(float(raw[:, at] @ raw[:, sums.width]))
            if ones in (0, rows):
                cell = str(self._meaning(place).cell)
                one_sided.append((self.columns[place].name, cell, rows, 1 if ones else 0))
        for name, text, rows, value in one_sided[:6]:
            yield Finding(
                "separation",
                f"{response} is {value} in {'the one row' if rows == 1 else f'all {rows:,} rows'} with {text}: the "
                "coefficient of a logistic regression is not finite (separation).",
                (name,),
                remedy="Pool or regroup the category.",
            )
        if len(one_sided) > 6:
            names = tuple(name for name, *_ in one_sided[6:])
            yield Finding("separation", f"the same holds for {named(names)}.", names)


def _reference_cells(
    cells: dict[tuple[Indicator, Indicator], int], totals: dict[tuple[str, str, str], int]
) -> list[tuple[str, int]]:
    """Return the cells of two crossed categories in which one is the reference, from the totals of the other."""
    told = []
    for side in (0, 1):
        by: dict[Indicator, list[tuple[Indicator, int]]] = {}
        for pair, rows in cells.items():
            by.setdefault(pair[side], []).append((pair[1 - side], rows))
        for one, parts in by.items():
            total = totals.get((one.subject, one.category, one.reference or ""))
            other = parts[0][0]
            if total is not None and other.reference is not None:
                left = total - sum(rows for _, rows in parts)
                told.append((f"{one.subject} = {one.category} and {other.subject} = {other.reference}", left))
    return told


def constants(columns: Sequence[BuiltColumn], moments: Moments) -> frozenset[int]:
    """Return which columns have one value in all rows."""
    return frozenset(np.flatnonzero(moments.smallest[: len(columns)] == moments.largest[: len(columns)]).tolist())
