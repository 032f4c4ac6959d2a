"""Tables that fit the terminal: where one is too narrow for the columns, each row is stacked into lines of its own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from rich import box
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, RenderResult
from rich.measure import Measurement
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

UNBOUNDED = 10_000  # characters, in which any table can be measured
WIDEST_SHORT = 40  # characters of a cell that shares its line with others when rows are stacked


@dataclass(frozen=True)
class Head:
    """A column of a table.

    Args:
        name: its head.
        style: of its cells.
        right: whether they are aligned right, on one line, as figures are.
        ratio: its share of the width that is left, for text that runs over several lines; 0 for as wide as it must be.
        leads: whether its cells begin a row that is stacked, without the name.
        short: its name there, the same where none is given.
    """

    name: str
    style: str = ""
    right: bool = False
    ratio: int = 0
    leads: bool = False
    short: str | None = None


class Fitting:
    """A table, or where its words would have to be broken a stack.

    Args:
        heads: of its columns.
        rows: the cells, as texts.
        expand: whether the table is as wide as the terminal.
        least: the width below which rows are stacked in any case.
    """

    def __init__(self, heads: Sequence[Head], rows: Sequence[Sequence[Text]], expand: bool = False, least: int = 0):
        self._heads, self._rows, self._expand, self._least = heads, rows, expand, least

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        table = self._table()
        fits = Measurement.get(console, options.update_width(UNBOUNDED), table).minimum <= options.max_width
        if fits and options.max_width >= self._least:
            yield table
        else:
            for row in self._rows:
                yield from self._stacked(row)

    def _table(self) -> Table:
        table = Table(box=box.SIMPLE_HEAD, pad_edge=False, expand=self._expand)
        for at, head in enumerate(self._heads):
            if head.right or head.leads:  # which are never broken
                width = max([cell_len(head.name), *(row[at].cell_len for row in self._rows)])
                justify: Literal["left", "right"] = "right" if head.right else "left"
                table.add_column(head.name, style=head.style, justify=justify, no_wrap=True, min_width=width)
            else:
                table.add_column(head.name, style=head.style, ratio=head.ratio or None)
        for row in self._rows:
            table.add_row(*row)
        return table

    def _stacked(self, row: Sequence[Text]) -> RenderResult:
        lead, facts = Text(), Text()
        below: list[Text] = []
        for head, cell in zip(self._heads, row, strict=True):
            if not cell.plain:
                continue
            if head.leads:
                lead.append_text(Text(" ") if lead.plain else Text()).append(cell.plain, head.style)
            elif head.right and len(cell.plain) <= WIDEST_SHORT:
                facts.append("   " if facts.plain else "").append(f"{head.name} ", "dim").append_text(cell)
            else:
                name = head.name if head.short is None else head.short
                named = Text(f"{name} " if name else "", "dim")
                below.append(named.append(cell.plain, head.style))
        yield lead
        for line in [*([facts] if facts.plain else []), *below]:
            yield Padding(line, (0, 0, 0, 4))
        yield ""
