"""How notebooks show tables."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from html import escape
from typing import Protocol


class Stepwise(Protocol):
    """Something with parts of its own kind, and a line of text for each."""

    @property
    def parts(self) -> Sequence[Stepwise]: ...

    def lines(self, depth: int = 0) -> Iterator[str]: ...


def tree_html(caption: str, step: Stepwise, note: str) -> str:
    """Return a tree for notebooks, each level indented.

    Args:
        caption: above it.
        step: its root.
        note: a line below it.
    """

    def item(each: Stepwise) -> str:
        inner = "".join(item(part) for part in each.parts)
        return f"<li>{escape(next(iter(each.lines())))}{f'<ul>{inner}</ul>' if inner else ''}</li>"

    return f"<p>{escape(caption)}</p><ul>{item(step)}</ul><p>{escape(note)}</p>"


def text_html(caption: str, text: str) -> str:
    """Return a text for notebooks, line by line.

    Example:
        >>> text_html("a plan", "x < 1")
        '<p>a plan</p><pre>x &lt; 1</pre>'
    """
    return f"<p>{escape(caption)}</p><pre>{escape(text)}</pre>"


def table_html(caption: str, heads: Sequence[str], rows: Iterable[Sequence[str]], notes: Iterable[str] = ()) -> str:
    """Return a table for notebooks.

    Args:
        caption: above it.
        heads: of its columns.
        rows: their cells, as text.
        notes: lines below it.

    Example:
        >>> table_html("two huts", ["name"], [["A & B"]])[:74]
        "<table><caption>two huts</caption><thead><tr><th style='text-align:left'>n"
    """

    def line(tag: str, cells: Iterable[str]) -> str:
        return "<tr>" + "".join(f"<{tag} style='text-align:left'>{escape(cell)}</{tag}>" for cell in cells) + "</tr>"

    body = "".join(line("td", cells) for cells in rows)
    below = "".join(f"<p>{escape(note)}</p>" for note in notes)
    head = f"<table><caption>{escape(caption)}</caption><thead>{line('th', heads)}</thead>"
    return f"{head}<tbody>{body}</tbody></table>{below}"
