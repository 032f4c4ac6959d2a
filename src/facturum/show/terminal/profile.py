"""What a person sees of a profile in the terminal."""

from __future__ import annotations

from rich import box
from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.rule import Rule
from rich.table import Table
from rich.text import Text

from facturum.errors import counted
from facturum.look.crossing import CrossTable
from facturum.look.grouped import GroupedNumber
from facturum.look.profile import Profile, VariableProfile
from facturum.look.profile_text import cells_of, figure_text
from facturum.show.terminal.fitting import Fitting, Head
from facturum.show.terminal.views import figure, safe

BAR_WIDTH = 50
MAX_LINES = 40
MAX_BARS = 20
_HEADS = (
    Head("variable", "bold", leads=True),
    Head("kind", right=True),
    Head("stored as", "dim", right=True),
    Head("missing", right=True),
    Head("distinct", right=True),
    Head("smallest", right=True),
    Head("quartiles, or the most frequent", ratio=7, short="values"),
    Head("largest", right=True),
    Head("notice", "yellow", ratio=8),
)


MAX_SHOWN = 500  # variables on one screen


def profile_view(profile: Profile) -> RenderableType:
    """Return the profile of a table on one screen."""
    rows = []
    for variable in profile.variables[:MAX_SHOWN]:
        name, storage, kind, missing, distinct, smallest, middle, largest, notes = cells_of(variable)
        cells = [name, kind, storage, missing, distinct, smallest, middle, largest, notes]
        rows.append([safe(cell) for cell in cells])
    title = Text.assemble(
        safe(profile.source, "bold"), f"  {counted(profile.rows, 'row')}, {counted(len(profile.variables), 'variable')}"
    )
    more = len(profile.variables) - MAX_SHOWN
    rest = [Text(f"and {more:,} more: name those to see, or write --json")] if more > 0 else []
    told = [safe(f"note: {note}", "yellow") for note in profile.notes]
    return Group(Rule(title, style="dim", align="left"), *told, Fitting(_HEADS, rows, expand=True, least=110), *rest)


def cross_view(crossed: CrossTable, percent: str | None = None) -> RenderableType:
    """Return a two-way table, as counts with their sums or in percent of row, column or total."""
    heads = [Head(crossed.rows, "bold", leads=True), *[Head(value, right=True) for value in crossed.column_values]]
    if percent is None:
        sums = [sum(column) for column in zip(*crossed.counts, strict=True)]
        lines = [[f"{n:,}" for n in (*row, sum(row))] for row in crossed.counts]
        lines.append([f"{n:,}" for n in (*sums, sum(sums))])
        heads.append(Head("all", right=True))
        names = [*crossed.row_values, "all"]
    else:
        lines = [["–" if share is None else f"{share:.1f}" for share in row] for row in crossed.percents(percent)]
        names = list(crossed.row_values)
    what = "rows" if percent is None else f"percent of {'the total' if percent == 'total' else f'each {percent}'}"
    title = Text.assemble(safe(f"{crossed.rows} by {crossed.columns}", "bold"), f"  {what}")
    cells = [[safe(name), *map(Text, line)] for name, line in zip(names, lines, strict=True)]
    return Group(Rule(title, style="dim", align="left"), Padding(Fitting(heads, cells), (0, 0, 0, 2)))


def grouped_view(grouped: GroupedNumber) -> RenderableType:
    """Return a number by groups, a line each."""
    names = [f"{100 * share:g} %" for share, _ in grouped.groups[-1].quantiles]
    heads = [Head(grouped.by, "bold", leads=True)]
    heads += [Head(name, right=True) for name in ("rows", "missing", "mean", "sd", "smallest", *names, "largest")]
    cells = [
        [
            safe(each.group), Text(f"{each.rows:,}"), Text(f"{each.missing:,}"), Text(figure(each.mean)),
            Text(figure(each.sd)), Text(figure(each.smallest)),
            *(Text(figure(value)) for _, value in each.quantiles or [(0.0, None)] * len(names)),
            Text(figure(each.largest)),
        ]
        for each in grouped.groups
    ]  # fmt: skip
    title = Text.assemble(safe(f"{grouped.variable} by {grouped.by}", "bold"))
    return Group(Rule(title, style="dim", align="left"), Padding(Fitting(heads, cells), (0, 0, 0, 2)))


def correlation_view(profile: Profile) -> RenderableType:
    """Return the correlations between the numbers of a profile, each pair once."""
    of_pair = {(a, b): r for a, b, r in profile.correlations}
    names = list(dict.fromkeys(name for pair in of_pair for name in pair))
    heads = [Head("", "bold", leads=True), *[Head(name, right=True) for name in names[:-1]]]
    cells = [
        [safe(name), *[Text(_correlation_text(of_pair.get((other, name)))) for other in names[:-1]]]
        for name in names[1:]
    ]
    title = Text.assemble(("correlations", "bold"), "  over the rows in which both are present")
    return Group(Rule(title, style="dim", align="left"), Padding(Fitting(heads, cells), (0, 0, 0, 2)), "")


def _correlation_text(r: float | None) -> str:
    return "" if r is None else f"{r:.3f}"


def variable_view(variable: VariableProfile) -> RenderableType:
    """Return the profile of one variable: a frequency table, or a histogram with quantiles."""
    facts = f"{variable.kind} ({variable.why}), {counted(variable.distinct, 'different value')}"
    parts: list[RenderableType] = [safe(facts)]
    parts += [Text.assemble(("notice ", "yellow"), safe(note)) for note in variable.notes]
    if variable.cells and not variable.values:
        parts += [_histogram(variable), _quantiles(variable)]
    elif variable.kind != "time" or variable.values or variable.missing:
        parts.append(_frequencies(variable))
        if variable.quantiles:
            parts.append(_quantiles(variable))
    head = Rule(safe(variable.name, "bold"), style="dim", align="left")
    return Group(head, *[Padding(part, (0, 0, 0, 2)) for part in parts], "")


def _frequencies(variable: VariableProfile) -> RenderableType:
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False)
    table.add_column("value", style="bold", overflow="fold")
    for name in ("rows", "percent", "cumulative percent"):
        table.add_column(name, justify="right", no_wrap=True)
    present = variable.rows - variable.missing
    shown = variable.values if len(variable.values) <= MAX_LINES else variable.most_frequent
    running = 0
    for value, count in shown:
        running += count
        table.add_row(safe(value), f"{count:,}", f"{100 * count / present:.1f}", f"{100 * running / present:.1f}")
    if len(shown) < variable.distinct:
        rest = present - running
        table.add_row(
            Text(f"{variable.distinct - len(shown):,} others", "dim"),
            f"{rest:,}",
            f"{100 * rest / present:.1f}",
            "100.0",
        )
    table.add_row(Text("missing", "yellow"), f"{variable.missing:,}", f"{100 * variable.missing_share:.1f} of all", "")
    return table


def _histogram(variable: VariableProfile) -> RenderableType:
    """Return a histogram of lying bars, some cells to a line."""
    together = -(-len(variable.cells) // MAX_BARS)
    bars = [sum(variable.cells[at : at + together]) for at in range(0, len(variable.cells), together)]
    low, width = float(variable.smallest or 0), together * (variable.cell_width or 0.0)
    most = max(bars) or 1
    lines = []
    for at, count in enumerate(bars):
        eighths = round(8 * BAR_WIDTH * count / most)
        bar = "█" * (eighths // 8) + ("", "▏", "▎", "▍", "▌", "▋", "▊", "▉")[eighths % 8]
        start = figure_text(float(f"{low + at * width:.6g}"))
        lines.append(Text.assemble((f"{start:>10} ", "dim"), (bar, "blue"), f" {count:,}" if count else ""))
    lines.append(Text(f"{figure_text(float(variable.largest or 0)):>10} largest", "dim"))
    if variable.missing:
        lines.append(
            Text.assemble(("   missing ", "yellow"), f"{variable.missing:,} ({100 * variable.missing_share:.1f} %)")
        )
    return Group(*lines, "")


def _quantiles(variable: VariableProfile) -> RenderableType:
    heads = ["smallest", *[f"{100 * share:.4g} %" for share, _ in variable.quantiles], "largest", "mean"]
    values = [variable.smallest, *[value for _, value in variable.quantiles], variable.largest, variable.mean]
    return Fitting([Head(head, right=True) for head in heads], [[Text(figure_text(value)) for value in values]])
