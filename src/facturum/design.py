"""A design matrix with its maps, as a Python user holds it."""

from __future__ import annotations

import warnings
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
import pyarrow as pa

from facturum.arguments import checked
from facturum.audit.column_map import column_map
from facturum.audit.content import content_failures, row_failures, table_failures
from facturum.audit.entries import ColumnMap
from facturum.audit.preparation import PreparationReport
from facturum.audit.row_map import RowMap, row_map
from facturum.audit.verify import Failure, Verification, verify
from facturum.data.arrow_export import arrow_column, frame_of
from facturum.data.values import FloatArray
from facturum.engine.build import Built
from facturum.engine.spec import PlanSpec
from facturum.errors import AuditError, DataError, FacturumWarning, PlanError, bounded, counted
from facturum.files.build_folder import (
    FORMATS,
    LEARNING_ROW,
    SOURCE_ROW,
    Stored,
    imputed_table,
    own_files,
    read_build,
    write_build,
)
from facturum.files.folder import write_folder

if TYPE_CHECKING:
    from facturum.plan import Plan


SMALL = 2_000_000  # cells up to which the column map is made with the matrix, for its warnings


class Origin(Protocol):
    """Where a design comes from: a build, or a build folder."""

    @property
    def columns(self) -> ColumnMap: ...
    @property
    def audited(self) -> ColumnMap: ...
    @property
    def rows(self) -> RowMap: ...
    @property
    def imputed(self) -> pa.Table: ...
    @property
    def table(self) -> pa.Table: ...
    @property
    def findings(self) -> tuple[tuple[str, str], ...]: ...


@dataclass(frozen=True)
class FromBuild:
    """A design just built; its maps are made when they are asked for."""

    built: Built
    plan: PlanSpec
    findings: tuple[tuple[str, str], ...] = ()

    @cached_property
    def _treated(self) -> PreparationReport:
        return PreparationReport(self.built)

    @cached_property
    def columns(self) -> ColumnMap:
        """The column map, without digests and fingerprints."""
        return column_map(self.built, self.plan, self._treated, digests=False)

    @cached_property
    def audited(self) -> ColumnMap:
        """The column map with digests and fingerprints."""
        return column_map(self.built, self.plan, self._treated, digests=True)

    @cached_property
    def rows(self) -> RowMap:
        """The row map."""
        return row_map(self.built.selection)

    @cached_property
    def imputed(self) -> pa.Table:
        """Each cell that was filled."""
        return imputed_table(self._treated.filled_cells())

    @property
    def table(self) -> pa.Table:
        """Source row, carried variables, learning row, response and columns."""
        built = self.built
        parts: list[tuple[str, Any]] = [(SOURCE_ROW, pa.array(self.rows.kept, pa.int64()))]
        for name in built.spec.data.carry:
            parts.append((name, arrow_column(built.prepared.table[name], built.selection.positions())))
        parts.append((LEARNING_ROW, pa.array(self.rows.learning)))
        if built.y is not None:
            y = built.y.reshape(len(built.y), -1)
            parts += [(column.name, _doubles(y[:, at])) for at, column in enumerate(built.responses)]
        parts += [(column.name, _doubles(built.X[:, at])) for at, column in enumerate(built.columns)]
        names = [name for name, _ in parts]
        twice = sorted({name for name in names if names.count(name) > 1}) if len(set(names)) < len(names) else []
        if twice:
            raise PlanError(
                f"two columns of the output are called '{twice[0]}'",
                place=f"terms.{twice[0]}",
                remedy="Give the term another key, or do not carry the variable.",
            )
        return pa.table([values for _, values in parts], names=names)


class Design:
    """A design matrix with the maps of its columns and rows.

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
        origin: Origin,
    ) -> None:
        self.X, self.y = X, y
        self.names, self.response_names = names, response_names
        self._resolved = resolved
        self._origin = origin
        self._series: tuple[Path | None, dict[str, Any]] = (None, {})
        self._warned = not isinstance(origin, FromBuild)  # a stored build was warned of when it was made

    @classmethod
    def of(cls, built: Built, plan: PlanSpec) -> Design:
        """Return the design of a build."""
        names = [column.name for column in built.columns]
        return cls(built.X, built.y, names, [c.name for c in built.responses], built.spec, FromBuild(built, plan))

    @classmethod
    def open(cls, folder: str | Path, check: bool = True) -> Design:
        """Return the design that a build folder holds.

        Args:
            folder: the folder.
            check: whether files that are not as they were written are refused; otherwise `verify` reports them.

        Raises:
            AuditError: where the folder is not a build, or is damaged.
        """
        stored = read_build(folder, check)
        entries = [entry for entry in stored.columns.columns if entry.role != "response"]
        responses = [entry.name for entry in stored.columns.columns if entry.role == "response"]
        matrix = np.empty((len(stored.rows.kept), len(entries)), order="F")
        for at, entry in enumerate(entries):
            matrix[:, at] = stored.numbers[entry.name]
        y = np.column_stack([stored.numbers[name] for name in responses]) if responses else None
        if y is not None and len(responses) == 1:
            y = y[:, 0]
        names = [entry.name for entry in entries]
        return cls(matrix, y, names, responses, stored.resolved, stored)

    @property
    def plan(self) -> Plan:
        """The resolved plan: building with it learns nothing."""
        from facturum.plan import Plan

        return Plan.of(self._resolved, *self._series)

    def remember(self, folder: Path | None, series: Mapping[str, Any]) -> None:
        """Keep where the tables of the plan's series are, for the resolved plan to build and verify with."""
        self._series = (folder, dict(series))

    @property
    def columns(self) -> ColumnMap:
        """The column map; digests and fingerprints are in the saved one."""
        with bounded():
            stored = self._origin.columns
        self._warn(stored, stacklevel=3)
        return stored

    @property
    def imputed(self) -> pa.Table:
        """Each imputed cell: the number of its imputation in the map, its source row, the imputed value."""
        return self._origin.imputed

    @property
    def rows(self) -> RowMap:
        """The row map."""
        return self._origin.rows

    @property
    def seal(self) -> str:
        """A short fingerprint of the build folder that the design was opened from, to be written into a report.

        Raises:
            AuditError: where the design has not been opened from a folder.
        """
        if not isinstance(self._origin, Stored):
            raise AuditError("the design has no seal before it is saved", remedy="Save it, and open its folder.")
        return self._origin.seal

    def to_arrow(self) -> pa.Table:
        """Return the design as an Arrow table: source row, carried variables, learning row, response, columns.

        Raises:
            PlanError: where a column of the matrix has the name of another of these.
        """
        return self._origin.table

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

    @checked
    def save(self, folder: str | Path, *, format: str = "parquet", replace: bool = False) -> None:
        """Write the build folder, whole or not at all.

        Args:
            folder: where.
            format: of the design file: parquet, csv or npy (numbers only, without carried variables).
            replace: whether a build already there is replaced.

        Raises:
            DataError: where the folder already exists, is not a build, or cannot be written.
        """
        if format not in FORMATS:
            raise DataError(f"'{format}' is not a valid format", remedy="Write parquet, csv or npy.")
        with bounded():
            table = self.to_arrow()
            columns, rows = self._origin.audited, self.rows
        self._warn(columns, stacklevel=4)
        matrix = [SOURCE_ROW, LEARNING_ROW, *self.response_names, *self.names]
        write_folder(
            Path(folder),
            lambda part: write_build(part, table, matrix, columns, rows, self._resolved, format, self.imputed),
            own_files,
            replace,
        )

    @checked
    def verify(self, table: Any, *, history: Any = None, series: Mapping[str, Any] | None = None) -> Verification:
        """Compute every column anew from its sources, by its formula, and report what does not agree.

        Args:
            table: the source, as for ``Plan.build``.
            history: the earlier rows that it was built with.
            series: the tables of the plan's series, instead of their files.
        """
        stored = self._origin.audited
        y = None if self.y is None else self.y.reshape(len(self.y), -1)
        matrix = {name: self.X[:, at] for at, name in enumerate(self.names)}
        if y is not None:
            matrix |= {name: y[:, at] for at, name in enumerate(self.response_names)}
        with bounded():
            outcome, anew = verify(stored, matrix, self.rows.kept, self.plan.given(table, history, series))
        failures = [Failure("file", name, what) for name, what in self._origin.findings]
        if anew is not None and outcome.ok:
            failures += self._content_failures(FromBuild(*anew), outcome.exact)
        return replace(outcome, failures=(*failures, *outcome.failures))

    def _content_failures(self, anew: FromBuild, exact: bool) -> Iterator[Failure]:
        """Compare everything else in a build, its maps and the cells beside its columns, with the build made anew."""
        yield from content_failures(self._origin.audited, anew.audited, exact)
        yield from row_failures(self.rows, anew.rows)
        yield from table_failures(self.to_arrow(), anew.table, "the design file", set(self.names + self.response_names))
        yield from table_failures(self.imputed, anew.imputed, "the list of imputed cells")

    def issue_warnings(self, stacklevel: int) -> None:
        """Issue what the column map warns of, unless the matrix is so large that the map is made only when asked for.

        Args:
            stacklevel: how far up the caller is, to whom the warnings are shown.
        """
        if not self._warned and self.X.size <= SMALL and _are_shown():
            with bounded():
                columns = self._origin.columns
            self._warn(columns, stacklevel + 1)

    def _warn(self, columns: ColumnMap, stacklevel: int) -> None:
        if not self._warned:
            self._warned = True
            for text in columns.warnings:
                warnings.warn(text, FacturumWarning, stacklevel=stacklevel)

    def _repr_html_(self) -> str:
        return self.columns._repr_html_()

    def __repr__(self) -> str:
        return f"<design of {counted(self.X.shape[0], 'row')} and {counted(self.X.shape[1], 'column')}>"


def _are_shown() -> bool:
    """Return whether warnings of ours are not ignored altogether, so that the map need not be made for them."""
    for action, message, category, module, _ in warnings.filters:
        if message is None and module is None and issubclass(FacturumWarning, category):
            return action != "ignore"
    return True


@checked
def open_design(folder: str | Path, check: bool = True) -> Design:
    """Open a build folder.

    Args:
        folder: the folder.
        check: whether files that are not as they were written are refused; otherwise `Design.verify` reports them.

    Raises:
        AuditError: where it is not a build, or is damaged.
    """
    return Design.open(folder, check)


def _doubles(values: FloatArray) -> pa.Array:
    missing = np.isnan(values)
    return pa.array(np.ascontiguousarray(values), pa.float64(), mask=missing if missing.any() else None)
