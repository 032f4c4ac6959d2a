"""A design matrix with its maps, as a Python user holds it."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from facturum.audit.column_map import column_map
from facturum.audit.entries import ColumnMap
from facturum.audit.row_map import RowMap, row_map
from facturum.audit.treatments import Treatments
from facturum.audit.verify import Verification, verify
from facturum.data.outlet import arrow_column, frame_of
from facturum.data.values import FloatArray
from facturum.engine.build import Built
from facturum.engine.spec import PlanSpec
from facturum.errors import DataError, PlanError, counted
from facturum.files.build_folder import (
    FORMATS,
    LEARNING_ROW,
    SOURCE_ROW,
    imputed_table,
    read_build,
    write_build,
    write_folder,
)

if TYPE_CHECKING:
    from facturum.plan import Plan


class Design:
    """A design matrix, and what is known of each of its columns and rows.

    Attributes:
        X: doubles (rows, columns), column-major.
        y: doubles (rows,), or (rows, k) for a response of several categories; None without a response.
        names: of the columns of X.
        response_names: of the columns of y.
    """

    def __init__(
        self,
        X: FloatArray,  # noqa: N803 - the field's standard name
        y: FloatArray | None,
        names: list[str],
        response_names: list[str],
        resolved: PlanSpec,
        plan: PlanSpec | None = None,
        built: Built | None = None,
        stored: tuple[ColumnMap, RowMap, pa.Table, pa.Table] | None = None,
    ) -> None:
        self.X, self.y = X, y
        self.names, self.response_names = names, response_names
        self._resolved = resolved
        self._plan = plan
        self._built = built
        self._stored = stored
        self._series: tuple[Path | None, dict[str, Any]] = (None, {})

    @classmethod
    def of(cls, built: Built, plan: PlanSpec) -> Design:
        """Return the design of a build."""
        names = [column.name for column in built.columns]
        return cls(built.X, built.y, names, [c.name for c in built.responses], built.spec, plan, built)

    @classmethod
    def open(cls, folder: str | Path) -> Design:
        """Return the design that a build folder holds.

        Raises:
            AuditError: where the folder is no build, or is damaged.
        """
        numbers, table, columns, rows, resolved, imputed = read_build(folder)
        entries = [entry for entry in columns.columns if entry.role != "response"]
        responses = [entry.name for entry in columns.columns if entry.role == "response"]
        matrix = np.empty((len(rows.kept), len(entries)), order="F")
        for at, entry in enumerate(entries):
            matrix[:, at] = numbers[entry.name]
        y = np.column_stack([numbers[name] for name in responses]) if responses else None
        if y is not None and len(responses) == 1:
            y = y[:, 0]
        names = [entry.name for entry in entries]
        return cls(matrix, y, names, responses, resolved, stored=(columns, rows, table, imputed))

    @property
    def plan(self) -> Plan:
        """The resolved plan: building with it learns nothing."""
        from facturum.plan import Plan

        return Plan.of(self._resolved, *self._series)

    def remember(self, folder: Path | None, series: Mapping[str, Any]) -> None:
        """Keep where the tables of the plan's series are, for the resolved plan to build and verify with."""
        self._series = (folder, dict(series))

    @cached_property
    def columns(self) -> ColumnMap:
        """The column map; digests and fingerprints are in the saved one."""
        if self._stored is not None:
            return self._stored[0]
        assert self._built is not None
        assert self._plan is not None
        return column_map(self._built, self._plan, self._treated)

    @cached_property
    def _treated(self) -> Treatments:
        assert self._built is not None
        return Treatments(self._built)

    @cached_property
    def imputed(self) -> pa.Table:
        """Each cell that was filled: the number of its imputation in the map, its source row, what was put in."""
        return self._stored[3] if self._stored is not None else imputed_table(self._treated.filled_cells())

    @cached_property
    def rows(self) -> RowMap:
        """The row map."""
        if self._stored is not None:
            return self._stored[1]
        assert self._built is not None
        return row_map(self._built.selection)

    @cached_property
    def _audited(self) -> ColumnMap:
        """The column map with digests and fingerprints."""
        if self._stored is not None:
            return self._stored[0]
        assert self._built is not None
        assert self._plan is not None
        return column_map(self._built, self._plan, self._treated, digests=True)

    def to_arrow(self) -> pa.Table:
        """Return the design as an Arrow table: source row, carried variables, learning row, response, columns.

        Raises:
            PlanError: where a column of the matrix has the name of another of these.
        """
        if self._stored is not None:
            return self._stored[2]
        assert self._built is not None
        parts: list[tuple[str, Any]] = [(SOURCE_ROW, pa.array(self.rows.kept, pa.int64()))]
        for name in self._resolved.data.carry:
            parts.append((name, arrow_column(self._built.prepared.table[name], self._built.selection.positions())))
        parts.append((LEARNING_ROW, pa.array(self.rows.learning)))
        if self.y is not None:
            y = self.y.reshape(len(self.y), -1)
            parts += [(name, _doubles(y[:, at])) for at, name in enumerate(self.response_names)]
        parts += [(name, _doubles(self.X[:, at])) for at, name in enumerate(self.names)]
        names = [name for name, _ in parts]
        twice = sorted({name for name in names if names.count(name) > 1})
        if twice:
            raise PlanError(
                f"two columns of the output are called '{twice[0]}'",
                place=f"terms.{twice[0]}",
                remedy="Give the term another key, or do not carry the variable.",
            )
        return pa.table([values for _, values in parts], names=names)

    def to_pandas(self) -> Any:
        """Return response and columns as a DataFrame, indexed by the source row.

        Raises:
            DataError: where pandas is not installed.
        """
        frame = frame_of(self.to_arrow()).set_index(SOURCE_ROW)
        return frame[[*self.response_names, *self.names]]

    def to_sparse(self) -> Any:
        """Return X as a SciPy sparse matrix in compressed columns."""
        from scipy import sparse

        return sparse.csc_matrix(self.X)

    def save(self, folder: str | Path, *, format: str = "parquet", replace: bool = False) -> None:
        """Write the build folder, whole or not at all.

        Args:
            folder: where.
            format: of the design file: parquet, csv or npy (numbers only, without carried variables).
            replace: whether a build already there is replaced.

        Raises:
            DataError: where the folder is there already, is not a build, or cannot be written.
        """
        if format not in FORMATS:
            raise DataError(f"'{format}' is no format", remedy="Write parquet, csv or npy.")
        table = self.to_arrow()
        matrix = [SOURCE_ROW, LEARNING_ROW, *self.response_names, *self.names]
        columns, rows = self._audited, self.rows
        write_folder(
            Path(folder),
            lambda part: write_build(part, table, matrix, columns, rows, self._resolved, format, self.imputed),
            replace,
        )

    def verify(self, table: Any, *, history: Any = None, series: Mapping[str, Any] | None = None) -> Verification:
        """Compute every column anew from its sources, by its formula, and say what does not agree.

        Args:
            table: the source, as for ``Plan.build``.
            history: the earlier rows that it was built with.
            series: the tables of the plan's series, instead of their files.
        """
        stored = self._audited
        y = None if self.y is None else self.y.reshape(len(self.y), -1)
        matrix = {name: self.X[:, at] for at, name in enumerate(self.names)}
        if y is not None:
            matrix |= {name: y[:, at] for at, name in enumerate(self.response_names)}
        return verify(stored, matrix, self.rows.kept, self.plan.given(table, history, series))

    def __repr__(self) -> str:
        return f"<design of {counted(self.X.shape[0], 'row')} and {counted(self.X.shape[1], 'column')}>"


def open_design(folder: str | Path) -> Design:
    """Open a build folder.

    Raises:
        AuditError: where it is no build, or is damaged.
    """
    return Design.open(folder)


def _doubles(values: FloatArray) -> pa.Array:
    missing = np.isnan(values)
    return pa.array(np.ascontiguousarray(values), pa.float64(), mask=missing if missing.any() else None)
