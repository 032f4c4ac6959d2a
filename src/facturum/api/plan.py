"""A plan, as a Python user holds it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path
from typing import Any

from facturum.api.as_found import as_found, form_of, series_files, with_keys
from facturum.api.builders import Expression
from facturum.api.design import Design
from facturum.audit.map.entries import ColumnMap
from facturum.data.table import Table
from facturum.engine.passes.build import Progress, build, resolve
from facturum.engine.passes.viewing import viewed
from facturum.engine.planning.sections.column_names import names_from_text
from facturum.engine.planning.sections.plain_names import with_names
from facturum.engine.planning.sections.projection import series_needed, variables_needed
from facturum.engine.planning.sections.spec import PlanSpec, spec_from
from facturum.engine.planning.shaping import Given
from facturum.errors import DataError, PlanError, bounded, counted, nearest, plan_says, series_remedy
from facturum.files.builds.build_folder import read_build
from facturum.files.builds.build_writer import MARKER
from facturum.files.parts.choosing import free_memory, is_large
from facturum.files.parts.portions import Portions
from facturum.files.parts.streaming import RowProgress, build_into
from facturum.files.plan_file import load_plan, parse_plan, plan_text, save_plan
from facturum.files.scans.file_scans import scan_of
from facturum.files.scans.scans import Scan, TableScan, names_of
from facturum.files.scans.tables import read_file
from facturum.support.arguments import checked
from facturum.support.issued_warnings import issue


class Plan:
    """How each term of a regression is made from the variables of a table.

    Args:
        response: the response, an expression: a number, a truth value or a category; None for a matrix alone.
        terms: expressions by key (the key names the columns), or one or a list of them (names are made from their
            texts).
        intercept: whether there is a column of ones.
        data: how the data are read: time, every, panel, carry, missing_values, delimiter, decimal, encoding.
        variables: kinds, labels and orders of variables, which the table does not hold.
        stack: columns stacked under one another before anything else: into, which, labels.
        convert: the table itself brought to the plan's step: every, take.
        series: other tables joined by period: file, time, every, match, take.
        derived: new variables, one column each.
        rows: keep, learn and missing.

    Raises:
        PlanError: for unknown keys and values of a wrong type.

    Example:
        >>> plan = Plan(response="log(stays)", terms={"access": "category(access)", "beds": "beds"})
        >>> design = plan.build({"stays": [1.0, 2.0, 4.0], "access": ["road", "trail", "road"], "beds": [8, 6, 9]})
        >>> design.names
        ['intercept', 'access_trail', 'beds']
    """

    @checked
    def __init__(
        self,
        response: str | Expression | None = None,
        terms: Mapping[str, str | Expression] | Sequence[str | Expression] | str | Expression = (),
        *,
        intercept: bool = True,
        data: Mapping[str, Any] | None = None,
        variables: Mapping[str, Mapping[str, Any]] | None = None,
        stack: Mapping[str, Any] | None = None,
        convert: Mapping[str, Any] | None = None,
        series: Mapping[str, Mapping[str, Any]] | None = None,
        derived: Mapping[str, str | Expression] | None = None,
        rows: Mapping[str, Any] | None = None,
        checks: Mapping[str, str] | None = None,
    ) -> None:
        if isinstance(terms, str | Expression):
            terms = [terms]
        pairs = terms.items() if isinstance(terms, Mapping) else names_from_text([str(term) for term in terms]).items()
        content: dict[str, Any] = {
            "intercept": intercept,
            "data": data,
            "variables": variables,
            "stack": stack,
            "convert": convert,
            "series": series,
            "derived": _texts(derived),
            "rows": _texts(rows),
            "checks": checks,
            "terms": {key: str(value) for key, value in pairs},
            "response": None if response is None else str(response),
        }
        self._spec = spec_from({key: value for key, value in content.items() if value is not None})
        self._folder: Path | None = Path()
        self._tables: dict[str, Any] = {}
        self._known: Callable[[], ColumnMap] | None = None

    @classmethod
    def of(
        cls,
        spec: PlanSpec,
        folder: Path | None = None,
        tables: Mapping[str, Any] | None = None,
        known: Callable[[], ColumnMap] | None = None,
    ) -> Plan:
        """Return the plan of a specification.

        Args:
            spec: the specification.
            folder: where the files of its series are looked for; None for nowhere.
            tables: tables of its series, where they are known.
            known: of a resolved plan, returns the map of the build that it belongs to.
        """
        plan = cls.__new__(cls)
        plan._spec, plan._folder, plan._tables, plan._known = spec, folder, dict(tables or {}), known
        return plan

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "_known": None}

    @classmethod
    @checked
    def load(cls, path: str | Path) -> Plan:
        """Read a plan file.

        Raises:
            PlanError: where it is not found, is not valid TOML, or holds what a plan may not hold.
        """
        spec = load_plan(path)
        try:
            folder = Path(path).resolve().parent
            if not (folder / MARKER).exists():
                return cls.of(spec, folder)
            # paths written in a build folder are never followed
            return cls.of(spec, known=lambda: read_build(folder, False).columns)
        except OSError as problem:  # such as a working folder that has been deleted
            raise PlanError(f"the folder of {path} cannot be read: {problem}", remedy="Check the path.") from None

    @classmethod
    @checked
    def from_text(cls, text: str) -> Plan:
        """Read a plan from the text of a plan file."""
        return cls.of(parse_plan(text), Path())

    @property
    def spec(self) -> PlanSpec:
        """The sections of the plan."""
        return self._spec

    @property
    def resolved(self) -> bool:
        """Whether nothing is left to learn."""
        return self._spec.resolved

    def with_checks(self, level: str) -> Plan:
        """Return the plan with all its checks at a level: "strict" or "error" may refuse a build, "off" makes none."""
        spec = self._spec.model_copy(update={"checks": self._spec.checks.all(level)})
        return Plan.of(spec, self._folder, self._tables, self._known)

    @checked
    def save(self, path: str | Path) -> None:
        """Write the plan as a file."""
        save_plan(self._spec, path)

    @checked
    def resolve(self, table: Any, *, threads: int | None = None, series: Mapping[str, Any] | None = None) -> Plan:
        """Return the plan with every open question answered on a table; a resolved plan comes back as it is.

        Args:
            table: a DataFrame, anything with ``__arrow_c_stream__``, a dict of arrays, a path or a Table.
            threads: how many threads; the result does not depend on it.
            series: the tables of the plan's series, instead of their files.

        Raises:
            PlanError: where the plan has no meaning.
            DataError: where the data do not allow it.
        """
        with bounded():
            plan = self.as_found(table, series)
            given = plan.given(table, series=series)
            return Plan.of(resolve(plan.spec, given, threads).spec, self._folder, given.series)

    @checked
    def build(
        self,
        table: Any,
        *,
        history: Any = None,
        series: Mapping[str, Any] | None = None,
        threads: int | None = None,
        progress: Progress | None = None,
        sparse: bool = False,
    ) -> Design:
        """Return the design matrix of the plan on a table, with its column map and row map.

        Args:
            table: a DataFrame, anything with ``__arrow_c_stream__``, a dict of arrays, a path or a Table.
            history: earlier rows, for operations along time to read; they do not become rows of the matrix.
            series: the tables of the plan's series, instead of their files.
            threads: how many threads; the result does not depend on it.
            progress: is called with the number of blocks filled and the number of all.
            sparse: whether only the cells of X that are not zero are held, for plans of thousands of indicators.

        What the column map warns of is issued as a `FacturumWarning`; of a large matrix when its map is made.

        Raises:
            PlanError: where the plan has no meaning.
            DataError: where the data do not allow it.
        """
        with bounded():
            plan = self.as_found(table, series)
            given = plan.given(table, history, series)
            built = build(plan.spec, given, threads, progress=progress, sparse=sparse)
            design = Design.of(built, plan.spec)
        design.remember(self._folder, given.series, self._known)
        if self._spec.checks.refuses:
            _ = design.columns
        design.issue_warnings(stacklevel=4)
        return design

    @checked
    def build_into(
        self,
        folder: str | Path,
        table: Any,
        *,
        series: Mapping[str, Any] | None = None,
        format: str = "parquet",
        replace: bool = False,
        wait: float = 0.0,
        text: Mapping[str, Any] | None = None,
        memory: int = Portions.memory,
        threads: int | None = None,
        progress: RowProgress | None = None,
    ) -> Design:
        """Write the build of a table that need not fit into memory, whole or not at all, and return it as opened.

        The table is read once, and its matrix written block by block; files and their contents are those of building
        in memory and saving. Where an expression works along time and rows are not in the order of unit and period,
        they are brought into it on the disk, and the matrix has them in that order.

        Args:
            folder: where.
            table: a path, also of a folder of Parquet files; or what `build` takes.
            series: the tables of the plan's series, instead of their files.
            format: of the design file: parquet or csv.
            replace: whether a build already there is replaced.
            wait: for how many seconds to wait where another is being written to the same place.
            text: how text files are written, as for `Design.save`.
            memory: bytes in which rows are brought into order.
            threads: how many threads; the result does not depend on it.
            progress: is called with what is being done, and the number of rows done and of all.

        Raises:
            PlanError: where the plan has no meaning, or stacks or converts.
            DataError: where the data do not allow it, or the folder cannot be written.

        Example:
            >>> import tempfile
            >>> plan = Plan("y", {"x": "x"})
            >>> with tempfile.TemporaryDirectory() as folder:
            ...     design = plan.build_into(f"{folder}/out", {"x": [1, 2, 3], "y": [5, 6, 9]})
            ...     design.names
            ['intercept', 'x']
        """
        with bounded(), plan_says():
            plan = self.as_found(table, series)
            scan, tables = plan.scan(table), plan.series_tables(series)
            columns = build_into(
                plan.spec, scan, tables, Path(folder), form=format, text=text, replace=replace, wait=wait,
                threads=threads, portions=Portions(memory=memory), progress=progress,
            )  # fmt: skip
            design = Design.open(folder, check=False)
        design.remember(self._folder, tables)
        issue(columns.warnings, stacklevel=4)
        return design

    def scan(self, table: Any) -> Scan:
        """Return a table as one that is read block by block, according to the plan's [data].

        Raises:
            DataError: where it is not found or not a table.
        """
        is_file = isinstance(table, str | Path)
        return scan_of(Path(table), form_of(self._spec, Path(table))) if is_file else TableScan(Table.of(table))

    @property
    def streams(self) -> bool:
        """Whether the plan can be built of a table that is read in parts: it neither stacks nor converts it."""
        return self._spec.stack is None and self._spec.convert is None

    def is_large(self, table: Any) -> bool:
        """Return whether a table or its matrix would take more than half of the free memory, judged by its first rows.

        Raises:
            DataError: where it is not found or not a table.
        """
        with bounded():
            plan = self.as_found(table)
            return is_large(plan.spec, plan.scan(table), free_memory())

    @checked
    def view(self, table: Any, *, series: Mapping[str, Any] | None = None) -> Table:
        """Return the rows of a table that the plan keeps, with its derived variables, to profile or cross.

        Args:
            table: a DataFrame, anything with ``__arrow_c_stream__``, a dict of arrays, a path or a Table.
            series: the tables of the plan's series, instead of their files.

        Raises:
            PlanError, DataError: as `build` does.

        Example:
            >>> plan = Plan(None, {"d": "dear"}, derived={"dear": "price > 30"}, rows={"keep": "open == 'yes'"})
            >>> plan.view({"price": [20, 40, 50], "open": ["yes", "no", "yes"]})["dear"].data.tolist()
            [False, True]
        """
        with bounded():
            plan = self.as_found(table, series)
            return viewed(plan.spec, plan.given(table, series=series))

    def as_found(self, table: Any, series: Mapping[str, Any] | None = None) -> Plan:
        """Return an open plan that says how its files are written, with names as expressions; a resolved one as it is.

        Raises:
            DataError: where a file can be read in two ways.
        """
        if self.resolved:
            return self
        files = series_files(self._spec, self._folder, {**self._tables, **(series or {})})
        path = Path(table) if isinstance(table, str | Path) else None
        found = Plan.of(as_found(self._spec, path, files), self._folder, self._tables, self._known)
        spec = with_names(with_keys(found.spec), lambda: names_of(found.scan(table)))
        return Plan.of(spec, self._folder, self._tables, self._known)

    def given(self, table: Any, history: Any = None, series: Mapping[str, Any] | None = None) -> Given:
        """Return the tables that the plan is given, each taken in.

        Raises:
            DataError: where one of them cannot be read, or is not a series of the plan.
        """
        from_file = any(isinstance(given, str | Path) for given in (table, history))
        columns = variables_needed(self._spec) if from_file else None
        return Given(
            self._table(table, columns),
            self.series_tables(series),
            None if history is None else self._table(history, columns),
        )

    def series_tables(self, series: Mapping[str, Any] | None) -> dict[str, Table]:
        """Return the tables of the plan's series, from where they are known."""
        tables = {**self._tables, **(series or {})}
        for name in tables:
            if name not in self._spec.series:
                hint = nearest(name, list(self._spec.series))
                raise DataError(f"series '{name}' not found in the plan{hint}", remedy="Write it under [series].")
        for name, spec in self._spec.series.items():
            if name not in tables and spec.file is not None and self._folder is not None:
                tables[name] = self._folder / spec.file
            elif name not in tables:
                remedy = f"{series_remedy(name)} Paths written in a build folder are not followed."
                what = f"the table of the series '{name}' is not given"
                raise DataError(what, place=f"series.{name}", remedy=remedy)
        return {name: self._table(data, series_needed(self._spec.series[name]), name) for name, data in tables.items()}

    @checked
    def read(self, path: str | Path) -> Table:
        """Read a table according to the plan's [data], and for the rest as found in its file."""
        return self.as_found(path)._table(path, None)

    def _table(self, given: Any, columns: Collection[str] | None, series: str | None = None) -> Table:
        if not isinstance(given, str | Path):
            return Table.of(given)
        with plan_says():
            return read_file(Path(given), form_of(self._spec, Path(given), series), columns)

    def __str__(self) -> str:
        return plan_text(self._spec)

    def __repr__(self) -> str:
        response = f" of {self._spec.response}" if self._spec.response else ""
        terms = counted(len(self._spec.terms), "term")
        return f"<{'resolved ' if self.resolved else ''}plan{response} with {terms}>"

    def _repr_html_(self) -> str:
        from facturum.support.notebook_tables import text_html

        return text_html(repr(self).strip("<>"), str(self))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Plan) and self._spec == other._spec

    def __hash__(self) -> int:
        return hash(str(self))


def _texts(section: Any) -> Any:
    """Return a section with its expressions as texts; what is not a section is refused later, with its place."""
    return {key: str(value) for key, value in section.items()} if isinstance(section, Mapping) else section


Design.plan_class = Plan
