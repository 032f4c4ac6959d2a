"""Operations that stand for an expression of others."""

from __future__ import annotations

from abc import abstractmethod
from typing import Self

from facturum.data.values import Mask, Values
from facturum.language.core.literals import List
from facturum.language.meanings.meaning import Meaning
from facturum.language.tree.nodes import Column, Kinds, Node, Type
from facturum.language.tree.rows import Rows
from facturum.language.tree.traits import Surroundings


class Shorthand(Node):
    """An operation that preparing a plan replaces by an expression of others, which the resolved plan then shows."""

    @abstractmethod
    def spelled(self) -> Node:
        """Return the expression that it stands for."""

    def gathered(self) -> Self:
        """Return the same with the members of lists among the expressions that it takes."""
        return self

    def settled(self, around: Surroundings) -> Node:
        given = self.rebuilt(child.settled(around) for child in self.children()).gathered()
        first, *others = given.children()
        if self.distributes and isinstance(first, List):
            each = [self.rebuilt([member, *others]).settled(around) for member in first.members]
            return List(tuple(each)).put_at(self)
        spelled = given.spelled()
        for part in spelled.walk():
            if part.span is None:  # messages point at the operation that was written
                part.put_at(self)
        return spelled.settled(around)

    def check(self, kinds: Kinds) -> Type:
        return kinds.type_of(self.spelled())

    def values(self, rows: Rows) -> Values:
        return rows.evaluate(self.spelled())

    def valid(self, rows: Rows) -> Mask | None:
        return rows.valid(self.spelled())

    def columns(self) -> tuple[Column, ...]:
        return self.spelled().columns()

    def meaning(self) -> Meaning:
        return self.spelled().meaning()
