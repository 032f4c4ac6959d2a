"""The operations of the language in the terminal."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.console import Group, RenderableType
from rich.markdown import Markdown
from rich.rule import Rule
from rich.table import Table
from rich.text import Text

from facturum.language.reference import entry_of, summary_of
from facturum.language.tree.nodes import Node
from facturum.show.terminal.views import safe


def operations_view(by_family: Mapping[str, Sequence[type[Node]]]) -> RenderableType:
    """Return operations by family, each with its first sentence."""
    parts: list[RenderableType] = []
    for family, operations in by_family.items():
        grid = Table.grid(padding=(0, 2))
        grid.add_column(style="bold", no_wrap=True, min_width=16)
        grid.add_column(overflow="fold")
        for operation in operations:
            grid.add_row(safe(f"  {operation.name}"), _with_code(summary_of(operation)))
        parts += [Rule(Text(family, "bold"), style="dim", align="left"), grid, ""]
    return Group(*parts, Text("All of one, its options and an example:  facturum operations NAME"))


def other_word_view(word: str, written: str) -> RenderableType:
    """Return how what another word means is written here."""
    return Group(Text.assemble(safe(f"{word} is written "), safe(written, "bold")), "")


def operation_view(operation: type[Node]) -> RenderableType:
    """Return the documentation of one operation."""
    return Group(Markdown(entry_of(operation)), "")


def _with_code(text: str) -> Text:
    """Return a sentence whose names in backticks are bold."""
    return Text.assemble(*[safe(part, "bold" if at % 2 else "") for at, part in enumerate(text.split("`"))])
