"""What a build will write, before any row is: its columns, and the terms that they belong to."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from facturum.engine.passes.matrix import Piece
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import DataError
from facturum.language.tree.nodes import Column

INTERCEPT = "intercept"
RESPONSE = "response"


@dataclass(frozen=True)
class BuiltColumn:
    """A column of the matrix or of the response: its name, its role and its term."""

    name: str
    role: str
    term: str
    column: Column | None


@dataclass(frozen=True)
class Outline:
    """A resolved plan over its table, and the columns that come of it."""

    prepared: Prepared

    @property
    def spec(self) -> PlanSpec:
        """The resolved plan."""
        return self.prepared.spec

    @cached_property
    def columns(self) -> tuple[BuiltColumn, ...]:
        """The columns of X.

        Raises:
            DataError: where the resolved plan names others.
        """
        columns = [BuiltColumn(INTERCEPT, INTERCEPT, INTERCEPT, None)] if self.spec.intercept else []
        known = self.spec.columns or {}
        for key, term in self.prepared.terms.items():
            term_columns = term.columns()
            names = known.get(key, [])
            if len(names) != len(term_columns):
                raise DataError(
                    f"the resolved plan names {len(names)} columns of this term, and it has {len(term_columns)}",
                    place=f"columns.{key}",
                    remedy="Resolve the plan anew; a resolved plan is not edited by hand.",
                )
            columns += [
                BuiltColumn(name, "predictor", key, column) for name, column in zip(names, term_columns, strict=True)
            ]
        return tuple(columns)

    @cached_property
    def responses(self) -> tuple[BuiltColumn, ...]:
        """The columns of y."""
        if self.prepared.response is None:
            return ()
        names = (self.spec.columns or {})[RESPONSE]
        columns = self.prepared.response.columns()
        return tuple(BuiltColumn(name, RESPONSE, RESPONSE, column) for name, column in zip(names, columns, strict=True))

    @cached_property
    def pieces(self) -> list[Piece]:
        """The terms, as filling takes them."""
        pieces = [Piece(None, (), 0)] if self.spec.intercept else []
        by_term: dict[str, list[tuple[int, Column]]] = {}
        for at, each in enumerate(self.columns):
            if each.column is not None:
                by_term.setdefault(each.term, []).append((at, each.column))
        for key, term in self.prepared.terms.items():
            placed = by_term.get(key, [])
            first = placed[0][0] if placed else len(self.columns)
            pieces.append(Piece(term, tuple(column for _, column in placed), first))
        return pieces

    @cached_property
    def response_pieces(self) -> list[Piece]:
        """The response, as filling takes it."""
        node = self.prepared.response
        columns = tuple(each.column for each in self.responses if each.column is not None)
        return [] if node is None else [Piece(node, columns, 0)]
