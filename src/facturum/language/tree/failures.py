"""Rows in which a value cannot be computed or learned; the engine adds their numbers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from facturum.data.values import Mask

if TYPE_CHECKING:
    from facturum.language.tree.nodes import Node


class RowFailure(Exception):
    """An operation that is not defined in some rows; the engine adds up those of all leaves.

    Args:
        node: the operation.
        what: what is wrong.
        rows: the positions of the rows in the table.
        remedy: what to write instead.
        looking: the rows that read these along time, and so are not defined either; the same where none are given.
        because: for each of those, one of the rows that it reads.
    """

    def __init__(
        self,
        node: Node,
        what: str,
        rows: Sequence[int],
        remedy: str | None,
        looking: Sequence[int] | None = None,
        because: Sequence[int] | None = None,
    ) -> None:
        super().__init__(what)
        self.node, self.what, self.rows, self.remedy = node, what, rows, remedy
        self.looking = rows if looking is None else looking
        self.because = rows if because is None else because


class Unlearnable(Exception):
    """Rows from which a question cannot be answered, as a mask of the rows observed; learning adds their numbers."""

    def __init__(self, rows: Mask, what: str, remedy: str) -> None:
        super().__init__(what)
        self.rows, self.what, self.remedy = rows, what, remedy
