"""Terminal views of bins, imputed values, flags and scores."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.rule import Rule
from rich.text import Text

from facturum.audit.map.entries import BinsEntry, ColumnMap, ConversionEntry, FlagEntry, ImputationEntry, ScoreEntry
from facturum.errors import counted
from facturum.language.tree.writer import in_words
from facturum.show.terminal.fitting import Fitting, Head
from facturum.show.terminal.views import figure, safe, short


def treatments_view(columns: ColumnMap, terms: set[str] | None = None) -> RenderableType:
    """Return what was done to the variables of some terms, or of all."""

    def shown(entry: BinsEntry | ImputationEntry | FlagEntry | ScoreEntry) -> bool:
        return terms is None or bool(terms & set(entry.terms))

    return Group(
        *[bins_view(entry) for entry in columns.bins if shown(entry)],
        *[imputation_view(entry) for entry in columns.imputations if shown(entry)],
        *[flag_view(entry) for entry in columns.flags if shown(entry)],
        *[score_view(entry) for entry in columns.scores if shown(entry)],
        *[conversion_view(entry) for entry in columns.conversions if _reads(columns, entry.variable, terms)],
    )


def _reads(columns: ColumnMap, variable: str, terms: set[str] | None) -> bool:
    """Return whether a column of some terms has a variable as its source."""
    return terms is None or any(variable in entry.sources for entry in columns.columns if entry.term in terms)


def _headed(title: str, expression: str, *parts: RenderableType) -> RenderableType:
    head = Rule(Text.assemble((title, "bold"), "  ", safe(expression, "dim")), style="dim", align="left")
    return Group(head, *[Padding(part, (0, 0, 0, 2)) for part in parts], "")


def _table(names: Sequence[str], rows: Iterable[Sequence[str]]) -> Fitting:
    """Return a table of which the first column names the rows, and the others are figures."""
    heads = [Head(names[0], "bold", leads=True), *[Head(name, right=True) for name in names[1:]]]
    return Fitting(heads, [[safe(cell) for cell in row] for row in rows])


def bins_view(entry: BinsEntry) -> RenderableType:
    """Return the table of bins of a variable: edges, rows, and what was observed in each."""
    names = ("bin", "from", "to", "rows", "percent", "smallest seen", "largest seen", "mean response")
    rows = []
    for part in entry.bins:
        cells = [part.label, exact(part.low), exact(part.high), f"{part.rows:,}", f"{part.percent:.1f}"]
        rows.append([*cells, exact(part.smallest), exact(part.largest), figure(part.mean_response)])
    return _headed(f"bins of {in_words(entry.variable)}", short(entry.expression), _table(names, rows))


def imputation_view(entry: ImputationEntry) -> RenderableType:
    """Return the imputed values of a variable, by group where groups have their own."""
    share = 100 * entry.cells / entry.rows if entry.rows else 0.0
    lines: list[RenderableType] = [
        safe(f"{entry.cells:,} of {entry.rows:,} cells imputed ({share:.1f} %), {entry.still_missing:,} still missing")
    ]
    if entry.t is not None and entry.response_difference is not None:
        difference = f"{entry.response_difference:+.4g} (t = {entry.t:.2f})"
        lines.append(safe(f"mean response where imputed minus where present: {difference}"))
    elif entry.response_difference is not None and entry.cells:
        what = "no test of a difference in the response: both groups need ten rows and some variance"
        lines.append(safe(what))
    if any(part.group is not None for part in entry.fills):
        fills = [[part.group or "another group", fill_text(part.fill), f"{part.cells:,}"] for part in entry.fills]
        lines.append(_table(("group", "imputed", "cells"), fills))
    else:
        values = [fill_text(part.fill) for part in entry.fills if part.fill is not None]
        lines.append(safe(f"imputed value: {values[0] if values else entry.how}"))
    return _headed(f"imputed: {in_words(entry.variable)}", short(entry.expression), *lines)


def flag_view(entry: FlagEntry) -> RenderableType:
    """Return which rows a flag marks."""
    lines = [f"missing in the table in {counted(entry.missing_in_source, 'row')}"]
    if entry.conditions:
        lines.append(f"set to missing in {counted(entry.made_missing, 'row')}: {'; '.join(entry.conditions)}")
    return _headed("flag", short(entry.expression), *[safe(line) for line in lines])


def score_view(entry: ScoreEntry) -> RenderableType:
    """Return how the items of a score go together."""
    have = "row has" if entry.too_few == 1 else "rows have"
    lines: list[RenderableType] = [safe(f"{entry.too_few:,} {have} fewer than the {entry.needed} values needed")]
    if entry.alpha is not None:
        lines.append(safe(f"coefficient alpha {entry.alpha:.3f}"))
        rest = [[item.item, "–" if item.item_rest is None else f"{item.item_rest:.2f}"] for item in entry.items]
        lines.append(_table(("item", "item-rest correlation"), rest))
    return _headed("score", short(entry.expression), *lines)


def conversion_view(entry: ConversionEntry) -> RenderableType:
    """Return where a converted variable comes from."""
    dated = "" if entry.at is None else f", dated at the {entry.at} of their period"
    lines = [
        f"{entry.periods:,} {entry.to_every}s from {entry.values:,} values by {entry.from_every} of "
        f"{entry.source}{dated} ({entry.place})"
    ]
    if entry.partial:
        became = f"; partial = {entry.partial_as}" if entry.partial_as else ""
        least = 100 * (entry.least_cover or 0)
        lines.append(f"{entry.partial:,} {entry.to_every}s not fully covered, the least to {least:.0f} %{became}")
    if entry.reads_later:
        lines.append(f"reads later {entry.from_every}s, which would not have been known in time")
    return _headed(f"converted: {entry.variable}", entry.how, *[safe(line) for line in lines])


def imputed_cells_view(columns: ColumnMap, cells: list[dict[str, Any]], most: int = 200) -> RenderableType:
    """Return the cells that were filled, each with its source row."""
    rows = [
        [columns.imputations[cell["imputation"]].variable, f"{cell['source_row']:,}", fill_text(cell["fill"])]
        for cell in cells[:most]
    ]
    table = _table(("variable", "source row", "imputed"), rows)
    more = [Text(f"and {len(cells) - most:,} more; --json prints all")] if len(cells) > most else []
    return Group(table if cells else Text("no cell was filled"), *more)


def exact(value: float | None) -> str:
    """Return a number in as many digits as an edge needs to differ from the values beside it.

    Example:
        >>> exact(37.555), exact(1500.0), exact(None)
        ('37.555', '1500', '–')
    """
    return "–" if value is None else f"{value:.10g}"


def fill_text(fill: float | str | None) -> str:
    """Return an imputed value as text.

    Example:
        >>> fill_text(38.37), fill_text("road")
        ('38.37', 'road')
    """
    return figure(fill) if fill is None or isinstance(fill, float | int) else fill


def imputed_cells(columns: ColumnMap, imputed: Any, terms: set[str]) -> Iterator[dict[str, Any]]:
    """Yield the imputed cells of some terms."""
    wanted = {at for at, entry in enumerate(columns.imputations) if terms & set(entry.terms)}
    for number, row, value, text in zip(*[imputed[name].to_pylist() for name in imputed.column_names], strict=True):
        if number in wanted:
            yield {"imputation": number, "source_row": row, "fill": value if text is None else text}
