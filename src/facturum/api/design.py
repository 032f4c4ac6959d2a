"""A design matrix with its maps, as a Python user holds it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from facturum.api.fitting import Fitting
from facturum.api.tracing import traced
from facturum.api.verifying import verified
from facturum.audit.checks.outcome import Outcome
from facturum.audit.map.entries import ColumnMap
from facturum.audit.map.row_map import LEARNING_ROW, SOURCE_ROW, RowMap
from facturum.audit.proof.trace import RowTrace, Trace
from facturum.audit.proof.verify import Verification
from facturum.audit.source.unseen_rows import news
from facturum.data.arrow.export import frame_of
from facturum.data.table import TableLike
from facturum.data.values import Array, FloatArray
from facturum.engine.passes.build import Built
from facturum.engine.passes.outline import RESPONSE
from facturum.engine.passes.sinks import refuse_size
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import bounded, counted
from facturum.files.builds.build_folder import own_files, read_build
from facturum.files.builds.build_writer import write_build
from facturum.files.builds.built_design import FromBuild, Origin, doubles
from facturum.files.builds.csv_files import CsvForm
from facturum.files.builds.formats import format_named
from facturum.files.folder import write_folder
from facturum.numerics.linear.sparse import SparseColumns
from facturum.support.arguments import checked
from facturum.support.issued_warnings import are_shown, issue

if TYPE_CHECKING:
    from facturum.api.plan import Plan
    from facturum.validation.forecast_path import Forecasts


NAMED = 8  # columns that a design at the prompt names
SMALL = 2_000_000  # cells up to which the column map is made with the matrix, for its warnings


class Design(Fitting):
    """A design matrix with the maps of its columns and rows; a large one in a folder is read where it is asked for.

    Attributes:
        names: of the columns of X.
        response_names: of the columns of y.
    """

    def __init__(
        self, names: list[str], response_names: list[str], resolved: PlanSpec, origin: Origin, plans: type[Plan]
    ) -> None:
        self._plans = plans
        self.names, self.response_names = names, response_names
        self._resolved = resolved
        self._origin = origin
        self._series: tuple[Path | None, dict[str, Any]] = (None, {})
        self._known: Callable[[], ColumnMap] | None = None
        self._warned = origin.folder is not None  # a stored build was warned of when it was made

    @classmethod
    def _of(cls, built: Built, plan: PlanSpec, plans: type[Plan]) -> Design:
        """Return the design of a build, whose resolved plan is of a class."""
        names, responses = [c.name for c in built.columns], [c.name for c in built.responses]
        return cls(names, responses, built.spec, FromBuild(built, plan), plans)

    @classmethod
    def _open(cls, folder: str | Path, check: bool, plans: type[Plan]) -> Design:
        """Return the design that a build folder holds.

        Args:
            folder: the folder.
            check: whether files that are not as they were written are refused; otherwise `verify` reports them.
            plans: the class of plans.

        Raises:
            AuditError: where the folder is not a build, or is damaged.
        """
        stored = read_build(folder, check)
        names = [entry.name for entry in stored.columns.columns if entry.role != RESPONSE]
        responses = [entry.name for entry in stored.columns.columns if entry.role == RESPONSE]
        return cls(names, responses, stored.resolved, stored, plans)

    def __getstate__(self) -> dict[str, Any]:
        return self.__dict__ | {"_known": None}

    @property
    def X(self) -> Any:  # noqa: N802 - the field's standard name
        """The matrix: doubles (rows, columns), column-major; of a sparse design a SciPy array in compressed columns."""
        X = self._origin.X  # noqa: N806
        return X.compressed() if isinstance(X, SparseColumns) else X

    @property
    def y(self) -> FloatArray | None:
        """The response: doubles (rows,), or (rows, k) of several categories; None without one."""
        y = self._origin.y
        return y if y is None or y.shape[1] > 1 else y[:, 0]

    @property
    def _cells(self) -> SparseColumns | None:
        """The matrix, where it is sparse: only its cells that are not zero."""
        return self._origin.cells

    @property
    def plan(self) -> Plan:
        """The resolved plan: building with it learns nothing."""
        return self._plans._of(self._resolved, *self._series, known=lambda: self.columns)

    def _remember(
        self, folder: Path | None, series: Mapping[str, Any], known: Callable[[], ColumnMap] | None = None
    ) -> None:
        """Keep where the tables of the plan's series are, and the map of the build that the plan was resolved for."""
        self._series, self._known = (folder, dict(series)), known

    @property
    def news(self) -> list[str]:
        """What is new in the rows of a resolved plan, beside those of the build that it was resolved for."""
        return [] if self._known is None else news(self._known, self.columns)

    @property
    def columns(self) -> ColumnMap:
        """The column map; digests and fingerprints are in the saved one."""
        with bounded():
            stored = self._origin.columns
        self._warn(stored, stacklevel=3)
        return stored

    @property
    def _audited(self) -> ColumnMap:
        """The column map with digests and fingerprints."""
        return self._origin.audited

    @property
    def _side(self) -> pa.Table:
        """Source row, carried variables, learning row and response, without the columns of the matrix."""
        return self._origin.side

    def column(self, name: str) -> FloatArray:
        """Return one column of the matrix or of the response, doubles (rows,).

        Raises:
            AuditError: where there is none of this name.
        """
        return self._origin.column(self.columns[name].name)

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
        return self._origin.seal

    def to_arrow(self) -> pa.Table:
        """Return the design as an Arrow table: source row, carried variables, learning row, response, columns.

        Raises:
            PlanError: where a column of the matrix has the name of another of these.
            DataError: where the columns of a sparse design would not fit into memory.
        """
        if self._cells is None:
            return self._origin.table
        refuse_size(*self._cells.shape)
        table = self._origin.side
        for name, values in self._cells.named(self.names).items():
            table = table.append_column(name, doubles(values))
        return table

    def to_pandas(self) -> Any:
        """Return the same as a DataFrame, with the index of the one that it was built from.

        Where it was built from anything else, rows are labelled by their position in the table, from 0. It raises what
        `to_arrow` does, and a DataError where pandas is not installed.

        Example:
            >>> import pandas as pd
            >>> from facturum.api.plan import Plan
            >>> huts = pd.DataFrame({"price": [20.0, None, 30.0]}, index=["Alp", "Berg", "Col"])
            >>> Plan(None, {"p": "price"}).build(huts).to_pandas().index.tolist()
            ['Alp', 'Col']
        """
        return frame_of(self.to_arrow(), self._origin.index, self.rows.kept - 1)

    def to_sparse(self) -> Any:
        """Return X as a SciPy array in compressed columns; of a sparse design X itself.

        Example:
            >>> from facturum.api.plan import Plan
            >>> Plan(None, {"way": "way"}).build({"way": ["road", "trail"]}).to_sparse().nnz
            3
        """
        if self._cells is not None:
            return self.X
        if not self._origin.is_large:
            return SparseColumns.of_dense(self.X).compressed()
        return SparseColumns.of_blocks((block for block, _, _ in self.blocks()), len(self.names)).compressed()

    def blocks(self, rows: int = 65_536) -> Iterator[tuple[FloatArray, FloatArray | None, Array]]:
        """Yield the design block by block, for solvers that learn in parts.

        Args:
            rows: of a block, at most.

        Returns:
            For each block X as doubles (rows, columns), y (None without a response), and the source row numbers.

        Example:
            >>> from facturum.api.plan import Plan
            >>> design = Plan("y", {"x": "x"}).build({"x": [1, 2, 3], "y": [5, 6, 9]})
            >>> [(X.shape, y.tolist(), rows.tolist()) for X, y, rows in design.blocks(2)]
            [((2, 2), [5.0, 6.0], [1, 2]), ((1, 2), [9.0], [3])]
        """
        return self._origin.matrices(max(rows, 1))

    @checked
    def save(
        self,
        folder: str | Path,
        *,
        format: str = "parquet",
        replace: bool = False,
        wait: float = 0.0,
        text: Mapping[str, Any] | None = None,
    ) -> None:
        """Write the build folder, whole or not at all.

        Args:
            folder: where.
            format: of the design file: parquet, csv or npy (numbers only, without carried variables); npz of a sparse
                design, and no other.
            replace: whether a build already there is replaced.
            wait: for how many seconds to wait where another is being written to the same place.
            text: of csv, how the files are written: delimiter, decimal, mark (whether they begin with that of UTF-8).

        Raises:
            DataError: where the folder already exists, is not a build, or cannot be written.
        """
        sparse = self._cells is not None
        format_named(format, sparse)
        written = CsvForm.of(text, format)
        with bounded():
            table = self._origin.side if sparse else self.to_arrow()
            columns, rows = self._origin.audited, self.rows
        self._warn(columns, stacklevel=4)
        matrix = [SOURCE_ROW, LEARNING_ROW, *self.response_names, *self.names]
        write_folder(
            Path(folder),
            lambda part: write_build(
                part, table, matrix, columns, rows, self._resolved, format, self.imputed, self._cells, written
            ),
            own_files,
            replace,
            wait,
        )

    @checked
    def to_workbook(self, path: str | Path, forecasts: Forecasts | None = None) -> None:
        """Write a workbook: matrix, columns with what they mean, rows left out, imputed cells, bins, forecasts.

        Args:
            path: the .xlsx file; one that is there is replaced.
            forecasts: of `fa.forecast`, to be written as a sheet of their own.

        Raises:
            DataError: without the package of ``facturum[sheets]``, for a matrix larger than a sheet, or where the file
                cannot be written.
        """
        from facturum.files.workbook import Content, write_workbook

        with bounded():
            told = None if forecasts is None else forecasts.to_table().to_arrow()
            write_workbook(Content(self._audited, self.to_arrow(), self.rows, self.imputed, told), Path(path))

    @checked
    def verify(
        self, table: TableLike, *, history: TableLike | None = None, series: Mapping[str, Any] | None = None
    ) -> Verification:
        """Compute every column anew from its sources, by its formula, and report what does not agree.

        Args:
            table: the source, as for ``Plan.build``.
            history: the earlier rows that it was built with.
            series: the tables of the plan's series, instead of their files.

        A build or a source that is large is not brought into memory: both are read side by side.
        """
        return verified(self, self._origin, table, history, series)

    @property
    def _kept(self) -> Array:
        """The source row number of each row of the matrix; of a large build read without all the rest."""
        return self._origin.kept

    @property
    def checks(self) -> Outcome:
        """What the checks of the build found."""
        return Outcome.of(self.columns)

    @checked
    def trace(
        self,
        table: TableLike,
        row: int,
        column: str | None = None,
        *,
        history: TableLike | None = None,
        series: Mapping[str, Any] | None = None,
    ) -> Trace | RowTrace:
        """Return how a cell came about, step by step from the source cells to the value stored.

        Args:
            table: the source, as for ``Plan.build``.
            row: a source row number, counted from 1.
            column: of the matrix or of the response; None for all of the row.
            history, series: as for `verify`.

        Raises:
            AuditError: where the row or the column is not in the design, and why.

        Example:
            >>> from facturum.api.plan import Plan
            >>> table = {"price": [20.0, 30.0, 50.0]}
            >>> Plan(None, {"p": "price / 10"}).build(table).trace(table, 2, "p").outcome
            'The stored value 3 follows from the source.'
        """
        with bounded():
            return traced(self, table, row, column, history, series)

    def _issue_warnings(self, stacklevel: int) -> None:
        """Issue what the column map warns of, as seen from the caller, unless that map is made only when asked for."""
        if not self._warned and self._origin.length * len(self.names) <= SMALL and are_shown():
            with bounded():
                columns, news = self._origin.columns, self.news
            self._warn(columns, stacklevel + 1)
            issue(news, stacklevel + 1)

    def _warn(self, columns: ColumnMap, stacklevel: int) -> None:
        if not self._warned:
            self._warned = True
            issue(columns.warnings, stacklevel + 1)

    def _repr_html_(self) -> str:
        return self.columns._repr_html_()

    def __repr__(self) -> str:
        names = ", ".join(self.names[:NAMED]) + (", .." if len(self.names) > NAMED else "")
        return f"<design of {counted(self._origin.length, 'row')} and {counted(len(self.names), 'column')}: {names}>"
