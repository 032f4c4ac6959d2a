"""The column map in the terminal: a line for each column, and one for a run of columns with the same pattern."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import groupby, takewhile

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.rule import Rule
from rich.text import Text

from facturum.audit.checks.finding import NOTE
from facturum.audit.map.entries import ColumnEntry, ColumnMap
from facturum.audit.remedies.remedying import numbered
from facturum.errors import counted
from facturum.show.terminal.expressions import abridged, rounded
from facturum.show.terminal.fitting import Fitting, Head
from facturum.show.terminal.views import figure, safe

RUN = 5  # the number of alike columns from which they are shown in one line, in full
LISTED = 12  # categories and bins that a line names
_HEADS = (
    Head("", "dim", right=True, leads=True),
    Head("column", "bold", leads=True),
    Head("formula", ratio=5, short="="),
    Head("mean", right=True),
    Head("min", right=True),
    Head("max", right=True),
    Head("what its coefficient b means", ratio=8, short=""),
)


@dataclass(frozen=True)
class Run:
    """Neighbouring columns of a term whose formulas and readings differ in one place only."""

    entries: tuple[ColumnEntry, ...]
    formula: str
    reading: str
    parts: tuple[str, ...]


def columns_view(columns: ColumnMap, terms: set[str] | None = None, full: bool = False) -> RenderableType:
    """Return the column map as a table, in a narrow terminal as a list: a line for a column, or for alike columns.

    Args:
        columns: the map.
        terms: those shown; None for all, with the names that their formulas use.
        full: whether all names of alike columns are listed, and few of them stand in lines of their own.
    """
    entries = [entry for entry in columns.columns if terms is None or entry.term in terms]
    alone = full and terms is not None and len(entries) <= LISTED
    shown_as = entries if alone else _in_runs(entries, len(entries) if full else LISTED, RUN if full else 2)
    rows = [_line(shown, columns) for shown in shown_as]
    view: list[RenderableType] = [
        Rule(Text("columns", "bold"), style="dim", align="left"),
        Fitting(_HEADS, rows, expand=True, least=110),
    ]
    if columns.definitions and terms is None:
        view.append(Text("  where", "bold"))
        view += [
            Padding(Text.assemble(safe(d.name, "bold"), " = ", safe(abridged(rounded(d.formula)))), (0, 0, 0, 4))
            for d in columns.definitions
        ]
        view.append("")
    return Group(*view)


def findings_view(columns: ColumnMap, brief: bool = False) -> RenderableType:
    """Return what a build warns of and notes, those with a remedy numbered, and the command that takes one."""
    numbers = {
        finding.text: f" (remedy {number})"
        for number, alike in enumerate(numbered(columns.findings), 1)
        for finding in alike
    }
    view: list[RenderableType] = [
        Text.assemble((f"warning{numbers.get(warning, '')}: ", "bold yellow"), safe(warning))
        for warning in columns.warnings
    ]
    notes = [finding.text for finding in columns.findings if finding.level == NOTE]
    view += [Text.assemble((f"note{numbers.get(note, '')}: ", "bold"), safe(note)) for note in notes]
    if numbers and brief:
        view.append(Text("  facturum amend PLAN DATA --take 1 --out FILE writes the plan with a remedy", "dim"))
    return Group(*view, *([""] if view else []))


def _line(shown: ColumnEntry | Run, columns: ColumnMap) -> list[Text]:
    if isinstance(shown, Run):
        first, last = shown.entries[0], shown.entries[-1]
        name = f"{first.name} .. {last.name} ({counted(len(shown.entries), 'column')})"
        low = min((entry.min for entry in shown.entries if entry.min is not None), default=None)
        high = max((entry.max for entry in shown.entries if entry.max is not None), default=None)
        position = f"{first.position}–{last.position}"
        reading = f"{shown.reading}{_bins(first, columns)}"
        return [Text(position), safe(name), safe(shown.formula), Text(""), *_figures(low, high), safe(reading)]
    position = "y" if shown.position is None else str(shown.position)
    cells = [safe(shown.name), safe(abridged(rounded(shown.formula))), Text(figure(shown.mean))]
    return [Text(position), *cells, *_figures(shown.min, shown.max), safe(shown.reading + _bins(shown, columns, True))]


def _bins(entry: ColumnEntry, columns: ColumnMap, alone: bool = False) -> str:
    """Return the bins behind the columns of a term with their rows, where there is one set of them."""
    found = [each for each in columns.bins if entry.term in each.terms]
    members = [each for each in columns.columns if each.term == entry.term]
    if len(found) != 1 or entry.measure != "indicator" or (alone and len(members) > 1):
        return ""
    told = [f"{each.label} {each.rows:,}" for each in found[0].bins[:LISTED]]
    return f" Rows: {', '.join(told)}{', ..' if len(found[0].bins) > LISTED else ''}."


def _figures(*values: float | None) -> list[Text]:
    return [Text(figure(value)) for value in values]


def _in_runs(entries: Iterable[ColumnEntry], most: int, least: int) -> Iterator[ColumnEntry | Run]:
    """Yield each column, and those of a term with the same pattern together."""
    for _, group in groupby(entries, key=lambda entry: (entry.role, entry.term, entry.measure)):
        run_of = list(group)
        run = _run(run_of, most) if len(run_of) >= least else None
        if run is None:
            yield from run_of
        else:
            yield run


def _run(entries: Sequence[ColumnEntry], most: int) -> Run | None:
    readings, formulas = _pattern([e.reading for e in entries]), _pattern([e.formula for e in entries])
    if readings is None or (formulas is None and len(entries) < RUN and entries[0].measure != "indicator"):
        return None
    formula = entries[0].formula + " .." if formulas is None else f"{formulas[0]}..{formulas[1]}"
    start, end, parts = readings
    more = f" and {len(parts) - most:,} more" if len(parts) > most else ""
    each = "" if set(parts) == {""} else f"{', '.join(parts[:most])}{more} (each)"
    return Run(tuple(entries), abridged(rounded(formula)), f"{start}{each}{end}", tuple(parts))


def _common(texts: Sequence[str]) -> str:
    """Return what all texts begin with."""
    alike = takewhile(lambda letters: len(set(letters)) == 1, zip(*texts, strict=False))
    return "".join(letters[0] for letters in alike)


def _pattern(texts: Sequence[str]) -> tuple[str, str, list[str]] | None:
    """Return what texts begin and end with, and what each has in between; None where that is not one word or number.

    Example:
        >>> _pattern(["month = feb rather than jan", "month = mar rather than jan"])
        ('month = ', ' rather than jan', ['feb', 'mar'])
    """
    start = re.sub(r"[\w.]+$", "", _common(texts))
    end = re.sub(r"^[\w.]+", "", _common([text[len(start) :][::-1] for text in texts])[::-1])
    between = [text[len(start) : len(text) - len(end)] for text in texts]
    fine = len(start) + len(end) > 8 and all(0 < len(part) <= 30 for part in between)
    return (start, end, between) if fine else None
