"""The column value of each source value, for a column with one source variable of few values."""

from __future__ import annotations

from typing import Any

import numpy as np

from facturum.audit.map.entries import SourceValueEntry
from facturum.data.values import Array, FloatArray, Kind, sorted_labels
from facturum.engine.passes.build import Built
from facturum.engine.passes.outline import BuiltColumn, Outline
from facturum.language.core.literals import Name
from facturum.numerics.linear.sparse import SparseColumns

FEW = 12
LOOKED_AT = 1000  # rows, in which a variable with many values shows many


class _Groups:
    """The rows of the matrix by the value of a variable: how many have each value, and what each column is there.

    None stands for missing; the columns are those that read the variable alone, by their places in the matrix.
    """

    def __init__(self) -> None:
        self.columns: list[int] = []
        self.counts: dict[Any, int] = {}
        self.cells: dict[Any, list[float]] = {}


class SourceValues:
    """Gathers values of columns by the values of their source, from stretches of the rows of a build."""

    def __init__(self, outline: Outline) -> None:
        self._prepared = outline.prepared
        self._groups: dict[str, _Groups] = {}
        self._source: dict[int, str] = {}
        for at, column in enumerate(outline.columns):
            if (name := self._only_source(column)) is not None:
                self._groups.setdefault(name, _Groups()).columns.append(at)
                self._source[at] = name

    def _only_source(self, column: BuiltColumn) -> str | None:
        """Return the one variable that a column reads in its own row; None where it reads others."""
        if column.column is None:
            return None
        sources = self._prepared.sources(column.column.formula)
        if len(sources) != 1 or self._prepared.looks_along(column.column.formula):
            return None
        return sources[0] if self._prepared.table[sources[0]].kind is not Kind.TIME else None

    def see(self, built: Built) -> None:
        """Look at the rows of a stretch; a variable with many values is not looked at again."""
        at = built.selection.positions()
        if not len(at):
            return
        for name in list(self._groups):
            if not self._counted(self._groups[name], built, name, at):
                del self._groups[name]

    def _counted(self, groups: _Groups, built: Built, name: str, at: Array) -> bool:
        """Count the rows of a stretch by value, or return that there are many."""
        node = Name(name)
        few = built.source.values_at(node, at[:LOOKED_AT])
        if len(np.unique(few.data[few.present_mask()])) > FEW:
            return False
        values = built.source.values_at(node, at)
        there = values.present_mask()
        distinct, first, counts = _counted(
            values.data if there.all() else values.data[there], values.labels is not None
        )
        new = set(distinct.tolist()) - groups.counts.keys()
        if len(distinct) > FEW or len(groups.counts.keys() - {None}) + len(new) > FEW:
            return False
        rows = np.flatnonzero(there)[first].tolist()
        met: list[tuple[Any, int, int]] = list(zip(distinct.tolist(), rows, counts.tolist(), strict=True))
        if not there.all():
            met.append((None, int(np.argmin(there)), int(np.count_nonzero(~there))))
        for value, row, count in met:
            if value not in groups.counts:
                groups.cells[value] = [_cell(built.X, column, row) for column in groups.columns]
            groups.counts[value] = groups.counts.get(value, 0) + count
        return True

    def of(self, column: int) -> list[SourceValueEntry]:
        """Return the table of a column of X; empty where it has several sources, many values, or reads other rows."""
        groups = self._groups.get(self._source.get(column, ""))
        if groups is None:
            return []
        variable, place = self._prepared.table[self._source[column]], groups.columns.index(column)
        entries = []
        place_of = {value: value for value in groups.counts}
        if variable.kind is Kind.CATEGORY and variable.labels is not None:  # codes are in the order of a container
            ranks = {label: at for at, label in enumerate(sorted_labels([*variable.labels]))}
            place_of = {value: None if value is None else ranks[variable.labels[value]] for value in groups.counts}
        for value in sorted(groups.counts, key=lambda value: (value is None, place_of[value])):
            cell = groups.cells[value][place]
            text = "missing" if value is None else variable.text_of(value)
            shown = None if cell != cell else cell + 0.0
            entries.append(SourceValueEntry(source=text, value=shown, rows=groups.counts[value]))
        return entries


def _cell(matrix: FloatArray | SparseColumns, column: int, row: int) -> float:
    if isinstance(matrix, SparseColumns):
        return float(matrix.at(column, np.array([row]))[0])
    return float(matrix[row, column])


def _counted(data: Array, coded: bool) -> tuple[Array, Array, Array]:
    """Return the values that occur, where each occurs first, and how often; codes are counted without sorting."""
    if not coded:
        return np.unique(data, return_index=True, return_counts=True)
    sizes = np.bincount(data)
    present = np.flatnonzero(sizes)
    few = present[: FEW + 1]
    return present, np.array([int(np.argmax(data == code)) for code in few], dtype=np.int64), sizes[present]
