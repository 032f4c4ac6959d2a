"""What was learned of a table, and from how many rows."""

from __future__ import annotations

from dataclasses import dataclass

from facturum.language.tree.nodes import Node


@dataclass(frozen=True)
class Learned:
    """What was learned of a table.

    Args:
        node: the operation as it was asked.
        answer: its closed form.
        terms: the terms that it is part of, and "response".
        rows: from how many rows it was learned.
        remaining: whether from those that remain in the matrix; otherwise from all that [rows] keep takes.
    """

    node: Node
    answer: Node
    terms: tuple[str, ...]
    rows: int
    remaining: bool
