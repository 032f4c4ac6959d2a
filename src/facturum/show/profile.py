"""What a person sees of a profile in the terminal."""

from __future__ import annotations

from rich import box
from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.rule import Rule
from rich.table import Table
from rich.text import Text

from facturum.errors import counted
from facturum.look.plain import cells_of, figure_text
from facturum.look.profile import CELLS, Profile, VariableProfile
from facturum.show.terminal import safe

BAR_WIDTH = 50
MOST_LINES = 40


def profile_view(profile: Profile) -> RenderableType:
    """Return the profile of a table on one screen."""
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, expand=True)
    table.add_column("variable", style="bold", overflow="fold", ratio=4)
    table.add_column("kind", no_wrap=True)
    table.add_column("stored as", style="dim", no_wrap=True)
    table.add_column("missing", justify="right", no_wrap=True)
    table.add_column("distinct", justify="right", no_wrap=True)
    table.add_column("smallest", justify="right", no_wrap=True)
    table.add_column("quartiles, or the commonest", overflow="fold", ratio=7)
    table.add_column("largest", justify="right", no_wrap=True)
    table.add_column("notice", style="yellow", overflow="fold", ratio=8)
    for variable in profile:
        name, storage, kind, missing, distinct, smallest, middle, largest, notes = cells_of(variable)
        cells = [name, kind, storage, missing, distinct, smallest, middle, largest, notes]
        table.add_row(*[safe(cell) for cell in cells])
    title = Text.assemble(
        safe(profile.source, "bold"), f"  {counted(profile.rows, 'row')}, {counted(len(profile.variables), 'variable')}"
    )
    return Group(Rule(title, style="dim", align="left"), table)


def variable_view(variable: VariableProfile) -> RenderableType:
    """Return all that a profile says of one variable: a frequency table, or a histogram with quantiles."""
    facts = f"{variable.kind} ({variable.why}), {counted(variable.distinct, 'different value')}"
    parts: list[RenderableType] = [safe(facts)]
    parts += [Text.assemble(("notice ", "yellow"), safe(note)) for note in variable.notes]
    if variable.cells and not variable.values:
        parts += [_histogram(variable), _quantiles(variable)]
    else:
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
    shown = variable.values if len(variable.values) <= MOST_LINES else variable.commonest
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
    """Return a histogram of lying bars, two cells to a line."""
    pairs = [variable.cells[at] + variable.cells[at + 1] for at in range(0, CELLS - 1, 2)]
    low, high = float(variable.smallest or 0), float(variable.largest or 0)
    most = max(pairs) or 1
    lines = []
    for at, count in enumerate(pairs):
        share = at / len(pairs)
        eighths = round(8 * BAR_WIDTH * count / most)
        bar = "█" * (eighths // 8) + ("", "▏", "▎", "▍", "▌", "▋", "▊", "▉")[eighths % 8]
        start = figure_text(float(f"{low * (1 - share) + high * share:.4g}"))
        lines.append(Text.assemble((f"{start:>10} ", "dim"), (bar, "blue"), f" {count:,}" if count else ""))
    lines.append(Text(f"{figure_text(float(f'{high:.4g}')):>10}", "dim"))
    if variable.missing:
        lines.append(
            Text.assemble(("   missing ", "yellow"), f"{variable.missing:,} ({100 * variable.missing_share:.1f} %)")
        )
    return Group(*lines, "")


def _quantiles(variable: VariableProfile) -> RenderableType:
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False)
    heads = ["smallest", *[f"{100 * share:.4g} %" for share, _ in variable.quantiles], "largest", "mean"]
    values = [variable.smallest, *[value for _, value in variable.quantiles], variable.largest, variable.mean]
    for head in heads:
        table.add_column(head, justify="right", no_wrap=True)
    table.add_row(*[figure_text(value) for value in values])
    return table
