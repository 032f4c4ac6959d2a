"""A design just built, with all that a build folder would hold of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, Protocol

import numpy as np
import pyarrow as pa

from facturum.audit.map.column_map import Digests, column_map
from facturum.audit.map.entries import ColumnMap
from facturum.audit.map.report import BuildReport, report_of
from facturum.audit.map.row_map import LEARNING_ROW, SOURCE_ROW, RowMap, carried_names, row_map
from facturum.audit.topics.imputations import FilledCells
from facturum.data.arrow.export import arrow_column
from facturum.data.values import Array, FloatArray, Kind
from facturum.data.variable import Variable
from facturum.engine.passes.build import Built
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import AuditError, PlanError
from facturum.files.builds.build_writer import IMPUTED, IMPUTED_SCHEMA, ROWS, dropped_table, imputed_table
from facturum.language.core.literals import Name
from facturum.numerics.linear.sparse import SparseColumns
from facturum.numerics.linear.triangular import Factor

Matrices = tuple[FloatArray, FloatArray | None, Array]


class Origin(Protocol):
    """Where a design comes from: a build, or a build folder.

    Attributes:
        columns: the column map; ``audited`` has digests and fingerprints as well.
        resolved: the resolved plan.
        rows, kept: the row map, and of it the source row number of each row of the matrix.
        imputed: each cell that was filled.
        table: of the design file, of a sparse design without X; ``side`` is without X in any case.
        X, y, cells: the matrix, the response, and of a sparse design its cells.
        length: how many rows the matrix has.
        index: of the DataFrame that it was built from, for its rows.
        built: the build; None of a build folder.
        factor: the triangular factor of its rows, where it is known.
        folder: where it is stored; None of a build.
        is_large: whether it is read where it is asked for.
        seal: a short fingerprint of its folder.
        findings: what in the folder is not as it was written: the file, and a sentence.
        schema: of ``table``.
    """

    @property
    def columns(self) -> ColumnMap: ...
    @property
    def resolved(self) -> PlanSpec: ...
    @property
    def audited(self) -> ColumnMap: ...
    @property
    def rows(self) -> RowMap: ...
    @property
    def imputed(self) -> pa.Table: ...
    @property
    def table(self) -> pa.Table: ...
    @property
    def side(self) -> pa.Table: ...
    @property
    def X(self) -> FloatArray | SparseColumns: ...  # noqa: N802 - the field's standard name
    @property
    def y(self) -> FloatArray | None: ...
    @property
    def cells(self) -> SparseColumns | None: ...
    @property
    def length(self) -> int: ...
    @property
    def index(self) -> Any: ...
    @property
    def findings(self) -> tuple[tuple[str, str], ...]: ...
    @property
    def built(self) -> Built | None: ...
    @property
    def factor(self) -> Factor | None: ...
    @property
    def folder(self) -> Path | None: ...
    @property
    def is_large(self) -> bool: ...
    @property
    def seal(self) -> str: ...
    @property
    def kept(self) -> Array: ...
    @property
    def schema(self) -> pa.Schema: ...
    def column(self, name: str) -> Array: ...
    def matrices(self, rows: int) -> Iterator[Matrices]: ...
    def blocks(self, rows: int, name: str | None = None, columns: list[str] | None = None) -> Iterator[pa.Table]: ...


@dataclass(frozen=True)
class FromBuild:
    """A design just built; its maps are made when they are asked for."""

    built: Built
    plan: PlanSpec
    findings: tuple[tuple[str, str], ...] = ()
    folder: None = None
    is_large: bool = False

    @property
    def seal(self) -> str:
        """No seal is known before a design is saved.

        Raises:
            AuditError: always.
        """
        raise AuditError("the design has no seal before it is saved", remedy="Save it, and open its folder.")

    @property
    def kept(self) -> Array:
        """The source row number of each row of the matrix."""
        return self.rows.kept

    def column(self, name: str) -> FloatArray:
        """Return one column of the matrix or of the response."""
        for at, each in enumerate(self.built.responses):
            if each.name == name and self.built.y is not None:
                return self.built.y[:, at]
        at = next(at for at, each in enumerate(self.built.columns) if each.name == name)
        return self.built.X.column(at) if isinstance(self.built.X, SparseColumns) else self.built.X[:, at]

    def matrices(self, rows: int) -> Iterator[Matrices]:
        """Yield the rows as X, y and source row numbers, block by block."""
        return in_blocks(self.X, self.y, self.kept, rows)

    @property
    def X(self) -> FloatArray | SparseColumns:  # noqa: N802 - the field's standard name
        """The matrix."""
        return self.built.X

    @property
    def y(self) -> FloatArray | None:
        """The columns of the response."""
        return self.built.y

    @property
    def resolved(self) -> PlanSpec:
        """The resolved plan."""
        return self.built.spec

    @property
    def index(self) -> Any:
        """The index of the DataFrame that it was built from; None where there is none for its rows."""
        spec, given = self.built.spec, self.built.prepared.given
        return None if spec.stack is not None or spec.convert is not None else given.table.index

    @property
    def cells(self) -> SparseColumns | None:
        """The matrix, where it is sparse."""
        return self.built.X if isinstance(self.built.X, SparseColumns) else None

    @property
    def length(self) -> int:
        """How many rows the matrix has."""
        return self.built.selection.count

    @cached_property
    def _report(self) -> tuple[BuildReport, list[FilledCells]]:
        return report_of(self.built)

    @property
    def factor(self) -> Factor | None:
        """The triangular factor of the learning rows, or of all, with the response; None where it was not computed."""
        if len(self.built.responses) != 1 or isinstance(self.built.X, SparseColumns):
            return None
        sums = self._report[0].checks.sums
        return sums.whole if sums.learning is None else sums.learning

    @cached_property
    def columns(self) -> ColumnMap:
        """The column map, without digests and fingerprints."""
        return column_map(self._report[0], self.plan)

    @cached_property
    def audited(self) -> ColumnMap:
        """The column map with digests and fingerprints."""
        return Digests.of(self.built).on(self.columns, self.built.outline)

    @cached_property
    def rows(self) -> RowMap:
        """The row map."""
        return row_map(self.built.selection)

    @cached_property
    def imputed(self) -> pa.Table:
        """Each cell that was filled."""
        return pa.concat_tables([IMPUTED_SCHEMA.empty_table(), *map(imputed_table, self._report[1])])

    @property
    def table(self) -> pa.Table:
        """Source row, carried variables, learning row, response and columns, of a sparse design none of X."""
        X = self.built.X  # noqa: N806
        return self.side if isinstance(X, SparseColumns) else self._table(list(X.T))

    @property
    def side(self) -> pa.Table:
        """The same without the columns of X."""
        return self._table([])

    @property
    def schema(self) -> pa.Schema:
        """The columns of the table."""
        X = [] if self.cells is not None else self.built.columns  # noqa: N806
        return pa.schema([*self.side.schema, *(pa.field(column.name, pa.float64()) for column in X)])

    def blocks(self, rows: int, name: str | None = None, columns: list[str] | None = None) -> Iterator[pa.Table]:
        """Yield what would stand in the design file, or in another of the build, block by block.

        Args:
            rows: of a block, at most.
            name: of a Parquet file; None for the design file.
            columns: those wanted; None for all.
        """
        if name == ROWS:
            table = dropped_table(self.rows.dropped, self.rows.causes, self.rows.reasons)
        else:
            side = columns is not None and {SOURCE_ROW, LEARNING_ROW}.issuperset(columns)
            table = self.imputed if name == IMPUTED else self.side if side else self.table
        table = table if columns is None else table.select(columns)
        return (table.slice(start, rows) for start in range(0, table.num_rows, rows))

    def _table(self, columns: Sequence[FloatArray]) -> pa.Table:
        return design_table(self.built, self.rows, columns)


def in_blocks(X: FloatArray | SparseColumns, y: FloatArray | None, kept: Array, rows: int) -> Iterator[Matrices]:  # noqa: N803
    """Yield the rows of a matrix with those of the response and their numbers, block by block."""
    by_row: Any = X.compressed().tocsr() if isinstance(X, SparseColumns) else None
    y = y if y is None or y.shape[1] > 1 else y[:, 0]
    for start in range(0, len(kept), rows):
        part = slice(start, start + rows)
        block = X[part] if not isinstance(X, SparseColumns) else by_row[part].toarray()
        yield block, None if y is None else y[part], kept[part]


def design_table(built: Built, rows: RowMap, columns: Sequence[FloatArray]) -> pa.Table:
    """Return rows of a design file: source row, carried variables, learning row, response, columns.

    Args:
        built: the rows.
        rows: their row map.
        columns: those of X, or none of them.

    Raises:
        PlanError: where a column of the matrix has the name of another of these.
    """
    parts: list[tuple[str, Any]] = [(SOURCE_ROW, pa.array(rows.kept, pa.int64()))]
    taken = [column.name for column in (*built.responses, *built.columns)]
    known = {*built.prepared.table.variables, *built.prepared.derived}
    for name, called in carried_names(built.spec.data.carry, taken).items():
        if name in known:  # a resolved plan may be built on rows without their period
            parts.append((called, arrow_column(_carried(built, name))))
    parts.append((LEARNING_ROW, pa.array(rows.learning)))
    if built.y is not None:
        parts += [(column.name, doubles(built.y[:, at])) for at, column in enumerate(built.responses)]
    parts += [(column.name, doubles(values)) for column, values in zip(built.columns, columns, strict=False)]
    names = [*[name for name, _ in parts], *[column.name for column in built.columns[len(columns) :]]]
    twice = sorted({name for name in names if names.count(name) > 1}) if len(set(names)) < len(names) else []
    if twice:
        raise PlanError(
            f"two columns of the output are called '{twice[0]}'",
            place=f"terms.{twice[0]}",
            remedy="Give the term another key.",
        )
    return pa.table([values for _, values in parts], names=[name for name, _ in parts])


def _carried(built: Built, name: str) -> Variable:
    """Return a variable of the table, or a derived one, in the rows of the matrix."""
    prepared, rows = built.prepared, built.selection.positions()
    if name not in prepared.derived:
        return prepared.table[name].take(rows)
    node = Name(name)
    values = built.source.values_at(node, rows).full(len(rows))
    kind = prepared.scope().type_of(node).kind
    return Variable(name, Kind.NUMBER if kind is Kind.MISSING else kind, values.data, values.valid, values.labels)


def doubles(values: FloatArray) -> pa.Array:
    """Return doubles as an Arrow column, NaN as missing."""
    missing = np.isnan(values)
    return pa.array(np.ascontiguousarray(values), pa.float64(), mask=missing if missing.any() else None)
