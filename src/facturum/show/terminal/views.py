"""What a person sees in the terminal: the plan, the rows, the columns, and the outcome of verifying."""

from __future__ import annotations

import math
import os
from collections.abc import Iterable, Iterator
from typing import Any

from pygments import token
from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.rule import Rule
from rich.style import Style
from rich.syntax import ANSISyntaxTheme, Syntax
from rich.table import Table
from rich.text import Text
from rich.theme import Theme

from facturum.audit.checks.finding import times_text
from facturum.audit.map.entries import ClockEntry, ColumnEntry, ColumnMap, GapEntry, LearnedEntry
from facturum.audit.proof.verify import Verification
from facturum.data.time.periods import step_noun
from facturum.engine.passes.selection import NO_VALUE
from facturum.errors import FacturumError, counted
from facturum.show.terminal.expressions import abridged
from facturum.show.terminal.fitting import Fitting, Head

GAPS_SHOWN = 5
# the terminal's own colours, which can be read on light and on dark
_THEME = ANSISyntaxTheme(
    {
        token.Comment: Style(dim=True),
        token.String: Style(color="green"),
        token.Number: Style(color="blue"),
        token.Keyword: Style(color="blue", bold=True),
    }
)
_MARKDOWN = Theme({"markdown.code": "bold", "markdown.h3": "bold"})


class Screen(Console):
    """A terminal that raises on a closed pipe instead of ending the process by itself."""

    def on_broken_pipe(self) -> None:
        """Let the command line decide how the process ends."""
        raise BrokenPipeError

    def print(self, *objects: Any, **options: Any) -> None:
        """Print, also where this library does not ask what a closed pipe means (before 13.8)."""
        try:
            super().print(*objects, **options)
        except BrokenPipeError:
            raise BrokenPipeError from None  # without a number, by which click would end the process by itself


NARROWEST, WIDE, WIDEST = 20, 160, 1_000  # characters of a line


def console(stderr: bool = False) -> Console:
    """Return the terminal; in a pipe, one as wide as COLUMNS, or else wide enough for a table."""
    screen = Screen(stderr=stderr, highlight=False, theme=_MARKDOWN)
    told = screen.is_terminal or os.environ.get("COLUMNS", "").isdigit()
    width = min(max(screen.width, NARROWEST), WIDEST) if told else max(screen.width, WIDE)
    return screen if width == screen.width else Screen(stderr=stderr, highlight=False, theme=_MARKDOWN, width=width)


def safe(text: str, style: str = "") -> Text:
    """Return a text whose control characters are shown, not obeyed, and whose brackets are not markup.

    Example:
        >>> safe("a\\x1b[31m").plain
        'a\\\\x1b[31m'
    """
    shown = "".join(
        char if char.isprintable() or char == "\n" else char.encode("unicode_escape").decode() for char in text
    )
    return Text(shown, style=style)


def plan_view(text: str, title: str) -> RenderableType:
    """Return a plan file as it is written."""
    code = Syntax(text.strip(), "toml", theme=_THEME, background_color="default", word_wrap=True)
    return Group(Rule(safe(title, "bold"), style="dim", align="left"), Padding(code, (0, 0, 1, 2)))


def rows_view(columns: ColumnMap) -> RenderableType:
    """Return how many rows were kept, and why the others were not."""
    rows = columns.rows
    learned = f"{rows.learned:,} of them in the estimation sample" if rows.learned else "nothing is learned from them"
    lines = [Text.assemble((f"{rows.kept:,}", "bold"), f" of {counted(rows.given, 'row')} kept, {learned}")]
    without = sum(part.rows for part in rows.dropped if part.reason == NO_VALUE)
    for part in rows.dropped:
        if part.reason != NO_VALUE:
            lines.append(safe(f"{part.rows:>8,} left out: [rows] {part.reason}"))
    if without:
        lines.append(safe(f"{without:>8,} left out: {NO_VALUE}"))
    for absence in rows.absences:
        alone = (
            ""
            if len(rows.absences) == 1
            else f" ({'none' if not absence.alone else f'{absence.alone:,}'} for this alone)"
        )
        lines.append(safe(f"{absence.rows:>16,} {absence.why}{alone}"))
    if not rows.dropped:
        lines.append(Text("no row was left out"))
    if columns.clock is not None:
        lines.append(safe(clock_text(columns.clock)))
        lines += [safe(f"    {gap_text(gap)}") for gap in columns.clock.gap_list[:GAPS_SHOWN]]
        if len(columns.clock.gap_list) > GAPS_SHOWN:
            lines.append(Text("    .. and others, listed in columns.json"))
    return Group(
        Rule(Text("rows", "bold"), style="dim", align="left"), *[Padding(line, (0, 0, 0, 2)) for line in lines], ""
    )


def gap_text(gap: GapEntry) -> str:
    """Return in words where periods are without a row.

    Example:
        >>> gap_text(GapEntry(unit="Larkhold", first="2020-03", last="2020-04", periods=2))
        'no row for Larkhold from 2020-03 to 2020-04'
    """
    unit = f" for {gap.unit}" if gap.unit else ""
    return f"no row{unit} " + (f"in {gap.first}" if gap.periods == 1 else f"from {gap.first} to {gap.last}")


def clock_text(clock: ClockEntry) -> str:
    """Return in a sentence how rows follow one another in time.

    Example:
        >>> clock = ClockEntry(time="month", every="month", panel=["hut"], units=40, first="2019-01", last="2023-12",
        ...                    gaps=3, no_period=0, history=0)
        >>> clock_text(clock)
        'in time by month from 2019-01 to 2023-12, within 40 units of hut, with 3 missing periods'
    """
    step = step_noun(clock.every)
    parts = [f"in time by {step}" + (f" from {clock.first} to {clock.last}" if clock.first else "")]
    if clock.panel:
        parts.append(f"within {counted(clock.units, 'unit')} of {' and '.join(clock.panel)}")
    parts.append(f"with {counted(clock.gaps, 'missing period')}" if clock.gaps else "without gaps")
    if clock.no_period:
        parts.append(f"{counted(clock.no_period, 'row')} without a time")
    if clock.history:
        parts.append(f"after {counted(clock.history, 'row')} of history")
    return ", ".join(parts)


def column_view(entry: ColumnEntry, columns: ColumnMap) -> RenderableType:
    """Return the full entry of one column."""
    grid = Table.grid(padding=(0, 2))
    grid.add_column(style="dim", justify="right", no_wrap=True)
    grid.add_column(overflow="fold")
    named = [d for d in columns.definitions if _mentions(entry.formula, d.name)]
    position = "response" if entry.position is None else f"{entry.position} of the matrix"
    predictor = entry.role == "predictor"
    facts = [
        ("position", position),
        ("term", entry.term + (f" = {abridged(columns.resolved['terms'][entry.term])}" if predictor else "")),
        ("formula", abridged(entry.formula)),
        *[("where", f"{d.name} = {abridged(d.formula)}") for d in named],
        ("sources", ", ".join(entry.sources) or "none"),
        ("measure", entry.measure),
        ("reference", entry.reference or "none"),
        ("reading", entry.reading),
        *[("learned", learned_text(each)) for each in columns.learned if entry.term in each.terms],
        ("missing", f"{counted(entry.missing, 'row')}"),
        ("imputed", f"{counted(entry.imputed, 'row')}"),
        (
            "values",
            f"from {figure(entry.min)} to {figure(entry.max)}, mean {figure(entry.mean)}, sd {figure(entry.sd)}",
        ),
        ("not zero", counted(entry.nonzero, "row")),
        *check_facts(entry, columns),
        ("digest", (entry.digest or "taken when saved")[:16]),
    ]
    for name, fact in facts:
        grid.add_row(name, safe(fact))
    view: list[RenderableType] = [
        Rule(safe(entry.name, "bold"), style="dim", align="left"),
        Padding(grid, (0, 0, 1, 2)),
    ]
    return Group(*view, *_by_source(entry))


def check_facts(entry: ColumnEntry, columns: ColumnMap) -> Iterator[tuple[str, str]]:
    """Yield what the checks say of a column: a name and a text."""
    if entry.inflation is not None:
        yield "inflation", f"{times_text(entry.inflation)} times the variance that it would have alone"
    if entry.drift is not None:
        yield "drift", f"{entry.drift:+.3f} standard deviations in the rows that are not learned from"
    yield from (("finding", each.text) for each in columns.findings if entry.name in each.columns)


def _by_source(entry: ColumnEntry) -> Iterator[RenderableType]:
    """Yield the values of a column beside those of its source."""
    if not entry.by_source:
        return
    heads = [Head(entry.sources[0], "bold", leads=True), Head(entry.name, right=True), Head("rows", right=True)]
    rows = [[safe(each.source), Text(figure(each.value)), Text(f"{each.rows:,}")] for each in entry.by_source]
    yield Padding(Fitting(heads, rows), (0, 0, 0, 2))


def short(expression: str, most: int = 90) -> str:
    """Return an expression, cut where it is long.

    Example:
        >>> short("impute(price, how='median')", 12)
        'impute(price ..'
    """
    return expression if len(expression) <= most else expression[:most] + " .."


def learned_text(entry: LearnedEntry) -> str:
    """Return in a sentence from how many rows something was learned.

    Example:
        >>> learned_text(LearnedEntry(expression="center(price)", terms=["price"], rows=280, remaining=True))
        'center(price), estimated from 280 rows of the estimation sample'
    """
    if entry.remaining:
        absorbed = "" if entry.absorbed is None else f"; its groups take {counted(entry.absorbed, 'degree')} of freedom"
        rows = counted(entry.rows, "row")
        return f"{short(entry.expression)}, estimated from {rows} of the estimation sample{absorbed}"
    rows = f"{counted(entry.rows, 'learning row')} that [rows] keep selects"
    return f"{short(entry.expression)}, estimated from {rows}, because it decides which of them stay in the sample"


def _mentions(formula: str, name: str) -> bool:
    import re

    return re.search(rf"\b{re.escape(name)}\b", formula) is not None


def figure(value: float | None) -> str:
    """Return a number in up to six significant digits.

    Example:
        >>> figure(1886.0), figure(0.28632), figure(None)
        ('1886', '0.28632', '–')
    """
    if value is None:
        return "–"
    return f"{value:.0f}" if float(value).is_integer() and abs(value) < 1e6 else f"{value:.6g}"


def beside(value: float | None, error: float | None) -> str:
    """Return a number in as many digits as its standard error tells, two of which are shown.

    Example:
        >>> beside(0.0602398, 0.215449), beside(129.2361, 14.3), beside(2.0, None)
        ('0.06', '129', '2')
    """
    if value is None or not error:
        return figure(value)
    places = 1 - math.floor(math.log10(error))
    return f"{value:,.{max(places, 0)}f}" if -15 < places < 12 else figure(value)


def verification_view(outcome: Verification) -> RenderableType:
    """Return the outcome of verifying: what was computed anew, or what no longer agrees, the causes first."""
    if outcome.ok:
        return Text.assemble(("verified ", "bold green"), str(outcome))
    order = ("file", "variable", "rows", "plan", "map", "column")
    failures = sorted(outcome.failures, key=lambda failure: order.index(failure.kind))
    lines: list[RenderableType] = [Text.assemble(("does not agree ", "bold red"), counted(len(failures), "finding"))]
    lines += [Padding(safe(str(failure)), (0, 0, 0, 2)) for failure in failures]
    return Group(*lines)


def error_view(error: FacturumError) -> Text:
    """Return an error for the terminal: what, where, which rows, and what to write instead."""
    return Text.assemble(("error: ", "bold red"), safe(str(error)))


def lines_view(lines: Iterable[str]) -> RenderableType:
    """Return plain lines."""
    return Group(*[safe(line) for line in lines])
