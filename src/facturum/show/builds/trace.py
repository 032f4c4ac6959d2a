"""How a cell came about, as a tree in the terminal; a whole row as a table."""

from __future__ import annotations

from rich.console import Group, RenderableType
from rich.rule import Rule
from rich.text import Text
from rich.tree import Tree

from facturum.audit.proof.trace import RowTrace, Step, Trace, value_text
from facturum.errors import counted
from facturum.show.terminal.expressions import abridged
from facturum.show.terminal.fitting import Fitting, Head
from facturum.show.terminal.views import safe


def trace_view(trace: Trace | RowTrace) -> RenderableType:
    """Return a trace: of a cell as a tree, of a row as a table."""
    return _cell(trace) if isinstance(trace, Trace) else _row(trace)


def _cell(trace: Trace) -> RenderableType:
    head = Rule(safe(f"{trace.column} in row {trace.row:,} of {trace.source}", "bold"), style="dim", align="left")
    tree = Tree(_line(trace.steps), guide_style="dim")
    _grow(tree, trace.steps)
    return Group(head, tree, _outcome(trace.agrees, trace.outcome))


def _grow(tree: Tree, step: Step) -> None:
    for part in step.parts:
        _grow(tree.add(_line(part)), part)


def _line(step: Step) -> Text:
    if step.more:
        return safe(f".. {step.note}", "dim")
    note = f"   {step.note}" if step.note else ""
    return Text.assemble(
        safe(abridged(step.expression)), " = ", safe(value_text(step.value), "bold"), safe(note, "dim")
    )


def _outcome(agrees: bool, text: str) -> Text:
    return Text.assemble(("agrees ", "bold green") if agrees else ("does not agree ", "bold red"), safe(text))


def _row(trace: RowTrace) -> RenderableType:
    heads = (Head("column", "bold", leads=True), Head("value", right=True), Head("formula", ratio=3), Head("agrees"))
    rows = [
        [safe(cell.column), safe(value_text(cell.stored)), safe(abridged(cell.steps.expression)),
         Text("yes" if cell.agrees else f"no: {value_text(cell.computed)}")]
        for cell in trace.cells
    ]  # fmt: skip
    wrong = sum(not cell.agrees for cell in trace.cells)
    said = f"{counted(wrong, 'value')} of the row do not follow from the source." if wrong else (
        "All values of the row follow from the source.")  # fmt: skip
    head = Rule(safe(f"row {trace.row:,} of {trace.source}", "bold"), style="dim", align="left")
    return Group(head, Fitting(heads, rows), _outcome(not wrong, said))
