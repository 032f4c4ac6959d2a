"""The column value of each source value, for a column with one source variable of few values."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from facturum.audit.entries import SourceValueEntry
from facturum.data.values import Array, FloatArray, Kind
from facturum.engine.passes.build import Built, BuiltColumn
from facturum.language.core import Name

FEW = 12
LOOKED_AT = 1000  # rows, in which a variable with many values shows many


@dataclass(frozen=True)
class _Grouped:
    """The rows of the matrix by the value of a variable: their texts, a row of each, and how many there are."""

    texts: list[str]
    first: Array
    counts: list[int]


class SourceValues:
    """Looks up values of columns by the values of their source, over the rows of a build."""

    def __init__(self, built: Built) -> None:
        self._built = built
        self._known: dict[str, _Grouped | None] = {}

    def of(self, column: BuiltColumn, values: Callable[[Array], FloatArray]) -> list[SourceValueEntry]:
        """Return the table of a column; empty where it has several sources, many values, or reads other rows.

        Args:
            column: the column.
            values: returns its values in some rows.
        """
        prepared = self._built.prepared
        if column.column is None:
            return []
        sources = prepared.sources(column.column.formula)
        if len(sources) != 1 or prepared.looks_along(column.column.formula):
            return []
        name = sources[0]
        if name not in self._known:
            self._known[name] = self._grouped(name)
        groups = self._known[name]
        if groups is None:
            return []
        column_values = values(groups.first).tolist()
        return [
            SourceValueEntry(source=text, value=None if value != value else value + 0.0, rows=rows)
            for text, value, rows in zip(groups.texts, column_values, groups.counts, strict=True)
        ]

    @cached_property
    def _at(self) -> Array:
        return self._built.selection.positions()

    def _grouped(self, name: str) -> _Grouped | None:
        variable, at = self._built.prepared.table[name], self._at
        if variable.kind is Kind.TIME or not len(at):
            return None
        few = self._built.source.values_at(Name(name), at[:LOOKED_AT])
        if len(np.unique(few.data[few.present_mask()])) > FEW:
            return None
        values = self._built.source.values_at(Name(name), at)
        there = values.present_mask()
        coded = values.labels is not None
        distinct, first, counts = _counted(values.data if there.all() else values.data[there], coded)
        if len(distinct) > FEW:
            return None
        texts = [variable.text_of(value) for value in distinct.tolist()]
        rows = np.flatnonzero(there)[first]
        if not there.all():
            absent = np.flatnonzero(~there)
            return _Grouped([*texts, "missing"], np.append(rows, absent[0]), [*counts.tolist(), len(absent)])
        return _Grouped(texts, rows, counts.tolist())


def _counted(data: Array, coded: bool) -> tuple[Array, Array, Array]:
    """Return the values that occur, where each occurs first, and how often; codes are counted without sorting."""
    if not coded:
        return np.unique(data, return_index=True, return_counts=True)
    sizes = np.bincount(data)
    present = np.flatnonzero(sizes)
    few = present[: FEW + 1]
    return present, np.array([int(np.argmax(data == code)) for code in few], dtype=np.int64), sizes[present]
