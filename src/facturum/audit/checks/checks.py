"""All checks of a build: what each found, and what was looked at."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from facturum.audit.checks.finding import NOTE, WARNING, Finding, rounded
from facturum.audit.checks.leaking import leak_findings
from facturum.audit.checks.row_counts import Cells, constants
from facturum.audit.checks.summaries import MAX_WIDTH, Summaries, truth_response
from facturum.audit.map.entries import CheckEntry, LeverageEntry, TermEntry
from facturum.audit.relations.collinearity import Collinearity
from facturum.audit.relations.wide import wide_findings
from facturum.audit.remedies.edits import Remedies
from facturum.engine.passes.build import Built
from facturum.engine.passes.outline import INTERCEPT, BuiltColumn, Outline
from facturum.engine.planning.sections.check_list import CHECKS
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import counted, named
from facturum.numerics.exact.moments import Moments
from facturum.numerics.linear.triangular import Factor
from facturum.support.threads import one_blas_thread

FAR = 10.0  # standard deviations from the mean
UNLIKE = 1e6  # ratio of the largest standard deviation to the smallest
DECISIVE = 0.9  # leverage from which a row determines a coefficient nearly alone
MOVED, FAR_MOVED = 0.25, 1.0  # standard deviations between the means of learning rows and others


class Checks:
    """The checks of a build.

    Rows are seen once, and again where a check needs the factor of all of them.

    Args:
        outline: the resolved plan and its columns.
    """

    def __init__(self, outline: Outline) -> None:
        self.outline = outline
        self.sums = Summaries(outline)
        self.levels = self.sums.levels
        self._predictors = [column for column in outline.columns if column.role != INTERCEPT]

    def see(self, built: Built) -> None:
        """Look at the rows of a stretch."""
        self.sums.see(built)

    @property
    def looks_again(self) -> bool:
        """Whether it needs the rows a second time."""
        return self.sums.looks_again

    def see_again(self, built: Built) -> None:
        """Look at the rows of a stretch once more, after all have been seen."""
        with one_blas_thread():
            basis = [] if self.collinearity is None else self.collinearity.basis
        self.sums.see_again(built, basis)

    @cached_property
    def collinearity(self) -> Collinearity | None:
        """The relations among the predictors; None where they have not been factored."""
        factor = self.sums.whole
        if factor is None or not factor.rows:
            return None
        learning = self.sums.learning
        return Collinearity(
            self.outline,
            self._predictors,
            factor,
            _constant(factor, len(self._predictors)),
            learning,
            frozenset() if learning is None else _constant(learning, len(self._predictors)),
        )

    def findings(
        self, moments: Moments, response: Moments, rows: int, plan: PlanSpec, trying: bool = True
    ) -> list[Finding]:
        """Return what all checks of the plan found.

        Args:
            moments: of the columns.
            response: of the response.
            rows: of the matrix.
            plan: as written.
            trying: whether edits of it are tried.
        """
        with one_blas_thread():
            remedies = Remedies(plan, self.outline) if trying else None
            near = [] if self.collinearity is None else self.collinearity.findings(remedies)
            dependent = [*near, *self._wide()]
            self._figures()
        seen = Seen(self, moments, response, rows, dependent)
        found = [each for finder in FINDERS for each in finder(seen)]
        return [each for each in found if self.levels.of(each.check) != "off"]

    def _in_complete_rows(self, findings: Sequence[Finding], rows: int) -> Iterator[Finding]:
        """Yield findings that are about the rows in which no column is missing, saying so."""
        complete = rows if self.sums.whole is None else self.sums.whole.rows
        if complete == rows:
            yield from findings
            return
        where = "row" if complete == 1 else f"{complete:,} rows"
        for each in findings:
            yield replace(each, text=f"in the {where} of {rows:,} without missing values: {each.text}")
        if complete < rows / 2:
            text = f"only {complete:,} of {rows:,} rows have a value in every column; relations are those of these."
            yield Finding("dependence", text, level=NOTE)

    def _figures(self) -> None:
        """Compute what is stored besides, on one thread of linear algebra."""
        if self.collinearity is not None:
            _ = self.collinearity.by_term, self.collinearity.condition

    def _wide(self) -> Iterator[Finding]:
        sums = self.sums
        if sums.family is not None and sums.absorbed is not None and np.isfinite(sums.absorbed.triangle).all():
            yield from wide_findings(self.outline, sums.family, sums.absorbed, truth_response(self.outline))

    def _constants(self, moments: Moments, response: Moments) -> Iterator[Finding]:
        same = constants(self.outline.columns, moments)
        yield from self._without_spread({self.outline.columns[at].name for at in same})
        for column, value in ((self.outline.columns[at], float(moments.smallest[at])) for at in sorted(same)):
            if column.role != INTERCEPT:
                why, remedy = self._of_constant(column, value)
                text = f"{column.name} is {value:.6g} in every row of the matrix: {why}"
                yield Finding("constant", text, (column.name,), remedy=remedy)
        for at in sorted(constants(self.outline.responses, response)):
            value = float(response.smallest[at])
            text = f"the response is {value:.6g} in every row of the matrix: there is nothing to explain."
            yield Finding("constant", text, (self.outline.responses[at].name,))

    def _of_constant(self, column: BuiltColumn, value: float) -> tuple[str, str]:
        """Return what follows from a constant column, and what to do."""
        if value == 0:
            of_category = column.column is not None and column.column.reference is not None
            holds = "no row is in its category" if of_category else "no row is different"
            return f"{holds}, and it has no coefficient.", self._leave_out(column)
        if self.outline.spec.intercept:
            return "it is collinear with the intercept.", self._leave_out(column)
        return "it takes the place of an intercept.", ""

    def _leave_out(self, column: BuiltColumn) -> str:
        """Return what to do about a column without a coefficient; nothing where it is one of several of its term."""
        alone = sum(other.term == column.term for other in self.outline.columns) == 1
        return "Leave it out." if alone else ""

    def _without_spread(self, known: set[str]) -> Iterator[Finding]:
        """Yield columns that vary by rounding errors alone, or in no row without missing values."""
        if self.collinearity is None:
            return
        keeps = self.outline.spec.rows.missing == "keep"
        where = "row without missing values" if keeps else "row, apart from rounding errors"
        factor = self.collinearity.factor
        for at in sorted(self.collinearity.constant):
            zero = factor.zero[at]
            if self._predictors[at].name not in known and (self.outline.spec.intercept or zero):
                value = 0.0 if zero else rounded(float(factor.mean[at]))
                column = self._predictors[at]
                text = f"{column.name} is {value:.6g} in every {where}, and has no coefficient."
                yield Finding("constant", text, (column.name,), remedy=self._leave_out(column))

    def _scales(self, moments: Moments) -> Iterator[Finding]:
        sizes = {
            at: moments.sd(at)
            for at, column in enumerate(self.outline.columns)
            if column.role != INTERCEPT and 0 < moments.sd(at) < np.inf
        }
        if len(sizes) < 2:
            return
        small, large = min(sizes, key=lambda at: sizes[at]), max(sizes, key=lambda at: sizes[at])
        if sizes[large] <= UNLIKE * sizes[small]:
            return
        names = self.outline.columns[large].name, self.outline.columns[small].name
        yield Finding(
            "scale",
            f"the standard deviation of {names[0]} is {sizes[large] / sizes[small]:.1g} times that of {names[1]}, "
            "which costs solvers digits.",
            names,
            remedy="Bring them to one size, or standardize them.",
        )

    def _extremes(self, moments: Moments) -> Iterator[Finding]:
        leverages = self.sums.leverages
        for at, column in enumerate(self.outline.columns):
            sd = moments.sd(at)
            if column.column is None or column.column.measure != "number" or not sd > 0 or moments.count[at] < 200:
                continue
            far = max(moments.largest[at] - moments.mean[at], moments.mean[at] - moments.smallest[at]) / sd
            if far <= FAR:
                continue
            high = moments.largest[at] - moments.mean[at] >= moments.mean[at] - moments.smallest[at]
            value = float(moments.largest[at] if high else moments.smallest[at])
            place = self.sums.places.index(at)
            rows = () if leverages is None else (int(leverages.farthest_rows[place]),)
            where = f" in row {rows[0]:,}" if rows else ""
            yield Finding(
                "extremes",
                f"{column.name} is {value:.6g}{where}, {far:.1f} standard deviations from its mean.",
                (column.name,),
                rows,
                NOTE,
                remedy="Check the cell.",
            )

    def _leverages(self, rows: int) -> Iterator[Finding]:
        listed = self.leverages()
        decisive = [each for each in listed if each.leverage > DECISIVE]
        if not decisive or self.collinearity is None or rows <= 2 * len(self.collinearity.basis):
            return
        numbers = tuple(each.row for each in decisive)
        more = " (and there may be more)" if len(decisive) == len(listed) else ""
        rows_text = named([f"{number:,}" for number in numbers])
        who, it, them = (f"row {rows_text} has", "it", "it") if len(numbers) == 1 else (
            f"rows {rows_text} have", "each", "them")  # fmt: skip
        yield Finding(
            "leverage",
            f"{who} a leverage above {DECISIVE:g}{more}: {it} determines a coefficient nearly by itself. Check {them}, "
            "and the columns that are zero in all other rows.",
            (),
            numbers,
            NOTE,
        )

    def leverages(self) -> list[LeverageEntry]:
        """Return the rows with the largest leverage."""
        known = self.sums.leverages
        if known is None or self.levels.of("leverage") == "off":
            return []
        pairs = zip(known.rows.tolist(), known.values.tolist(), strict=True)
        return [LeverageEntry(row=row, leverage=rounded(value)) for row, value in pairs]

    def _drifts(self) -> Iterator[Finding]:
        moved = [(name, value) for name, value in self.drifts().items() if abs(value) > MOVED]
        if not moved:
            return
        moved.sort(key=lambda item: -abs(item[1]))
        told = ", ".join(f"{name} ({value:+.2f})" for name, value in moved[:6])
        more = f" and {len(moved) - 6:,} more" if len(moved) > 6 else ""
        yield Finding(
            "drift",
            "means differ between the learning rows and the other rows, in standard deviations of the learning rows: "
            f"{told}{more}. What was learned may not hold for the other rows.",
            tuple(name for name, _ in moved),
            level=WARNING if abs(moved[0][1]) > FAR_MOVED else NOTE,
        )

    def drifts(self) -> dict[str, float]:
        """Return how far the mean of each column in other rows is from the learning rows, in standard deviations."""
        learning, others = self.sums.learning, self.sums.others
        if learning is None or others is None or learning.rows < 2 or self.levels.of("drift") == "off":
            return {}
        told = {}
        timed = self._made_of_time
        for at, column in enumerate(self._predictors):
            sd = float(learning.sd[at])
            if sd > 0 and not learning.constant[at] and column.name not in timed:
                told[column.name] = rounded(float(others.mean[at] - learning.mean[at]) / sd)
        return told

    @property
    def _made_of_time(self) -> set[str]:
        """The columns made of the time alone, whose means differ where rows are learned from earlier."""
        prepared = self.outline.prepared
        time = prepared.spec.data.time
        pairs = [(column.name, column.column) for column in self._predictors]
        return {name for name, column in pairs if column and prepared.sources(column.formula) == [time]}

    def inflation(self) -> dict[str, float]:
        """Return the variance inflation factor of each column that has one."""
        if self.collinearity is None or self.levels.of("near_dependence") == "off":
            return {}
        factors = self.collinearity.factors
        return {self._predictors[at].name: rounded(value, 5) for at, value in factors.items() if np.isfinite(value)}

    def terms(self) -> list[TermEntry]:
        """Return the generalised inflation of each term."""
        if self.collinearity is None or self.levels.of("near_dependence") == "off":
            return []
        return [
            TermEntry(
                term=term, columns=count, inflation=rounded(value, 5), per_column=rounded(value ** (0.5 / count), 5)
            )
            for term, (count, value) in self.collinearity.by_term.items()
            if np.isfinite(value)
        ]

    def outcomes(self, findings: list[Finding]) -> Iterator[CheckEntry]:
        """Yield for each check of the plan how it came out, and what it looked at."""
        width = len(self._predictors)
        for check in CHECKS:
            if self.levels.of(check.key) == "off":
                continue
            own = [each for each in findings if each.check == check.key]
            warned = sum(each.level != NOTE for each in own)
            counts = [counted(size, noun) for size, noun in ((warned, "warning"), (len(own) - warned, "note")) if size]
            detail = ", ".join(counts) or "nothing found"
            outcome = "does not hold" if warned else "see note" if own else "holds"
            if check.needs_factor:
                if width > MAX_WIDTH and self.sums.family is not None and check.absorbs:
                    detail += f"; the indicators of {self.sums.family.term} absorbed"
                elif width > MAX_WIDTH:
                    outcome, detail = "not made", f"{width:,} columns, and {MAX_WIDTH:,} are the most"
                elif self.sums.whole is None and width:
                    outcome = "not made"
                    detail = "values are too large or too small, or there is no complete row"
                elif check.key == "dependence" and self.collinearity is not None:
                    detail = self.collinearity.summary() + (f"; {detail}" if own else "")
            yield CheckEntry(check=check.title, ok=warned == 0, outcome=outcome, detail=detail)


def _constant(factor: Factor, width: int) -> frozenset[int]:
    """Return which of the first columns of a factor do not vary."""
    return frozenset(np.flatnonzero(factor.constant[:width]).tolist())


@dataclass(frozen=True)
class Seen:
    """What a check is given once all rows have been seen.

    Args:
        checks: the summaries of the rows, and the relations among the columns.
        moments, response: of the columns, and of the response.
        rows: of the matrix.
        dependent: what was found of dependence among complete rows.
    """

    checks: Checks
    moments: Moments
    response: Moments
    rows: int
    dependent: Sequence[Finding]


FINDERS: tuple[Callable[[Seen], Iterable[Finding]], ...] = (
    lambda seen: seen.checks._constants(seen.moments, seen.response),
    lambda seen: seen.checks._in_complete_rows(seen.dependent, seen.rows),
    lambda seen: Cells(seen.checks.outline.columns, seen.moments, seen.rows, seen.checks.sums).findings(),
    lambda seen: leak_findings(seen.checks.outline, seen.checks.sums, seen.checks._predictors),
    lambda seen: seen.checks._scales(seen.moments),
    lambda seen: seen.checks._extremes(seen.moments),
    lambda seen: seen.checks._leverages(seen.rows),
    lambda seen: seen.checks._drifts(),
)  # in the order in which a build tells of them
