"""The checks of a build in the terminal: what was looked at, and the rows with the largest leverage."""

from __future__ import annotations

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.rule import Rule
from rich.text import Text

from facturum.audit.map.entries import ColumnMap
from facturum.errors import counted
from facturum.show.terminal.fitting import Fitting, Head
from facturum.show.terminal.views import safe

HOLDS = "holds"
LARGE = 3  # times the average leverage, from which on a row is listed
_HEADS = (Head("what was checked", ratio=3, leads=True), Head("outcome", "bold"), Head("detail", ratio=3))


def checks_view(columns: ColumnMap) -> RenderableType:
    """Return the checks of a build: a line for each that does not hold or notes something, one for all others."""
    told = [each for each in columns.checks if not each.ok or each.outcome != HOLDS]
    quiet = [each.check for each in columns.checks if each not in told]
    rows = [
        [safe(each.check), Text(each.outcome, "bold" if each.ok else "bold red"), safe(each.detail)] for each in told
    ]
    view: list[RenderableType] = [Rule(Text("checks", "bold"), style="dim", align="left")]
    view += [Fitting(_HEADS, rows)] if rows else []
    if quiet:
        view.append(
            Padding(safe(f"{counted(len(quiet), 'check')} without a finding: {'; '.join(quiet)}"), (0, 0, 1, 2))
        )
    if leverages_text(columns):
        view.append(Padding(safe(f"largest leverages: {leverages_text(columns)}"), (0, 0, 1, 2)))
    return Group(*view)


def leverages_text(columns: ColumnMap) -> str:
    """Return the rows in a line whose leverage is three times the average, or more; "" without one."""
    average = len([each for each in columns.columns if each.role != "response"]) / max(columns.rows.kept, 1)
    large = [each for each in columns.leverages if each.leverage >= LARGE * average]
    return ", ".join(f"row {each.row:,} ({each.leverage:.3g})" for each in large)
