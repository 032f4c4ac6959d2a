"""A plan, as a Python user holds it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from facturum.engine.planning.sections.column_names import names_from_text
from facturum.engine.planning.sections.spec import PlanSpec, spec_from
from facturum.errors import PlanError, counted
from facturum.support.arguments import checked

if TYPE_CHECKING:
    from facturum.api.design import Design
    from facturum.audit.map.entries import ColumnMap
    from facturum.data.table import Table, TableLike
    from facturum.engine.passes.build import Progress
    from facturum.files.given.inputs import PlanInputs
    from facturum.files.parts.streaming import RowProgress
    from facturum.terms import Expression

MEMORY = 256 * 2**20  # bytes in which rows of a large table are brought into order


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
        checks: what each check does with what it finds: "off", "warn", "strict" or "error".

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
        if isinstance(terms, Mapping):
            pairs = terms.items()
        else:
            listed = terms.tolist() if hasattr(terms, "tolist") else terms  # of an array
            if not isinstance(listed, Sequence) and not hasattr(listed, "node"):
                remedy = "Give texts or what facturum.terms makes, in a dict or a list."
                raise PlanError(f"Plan cannot take {type(listed).__name__} as 'terms'", remedy=remedy)
            several = listed if isinstance(listed, Sequence) and not isinstance(listed, str) else [listed]
            pairs = names_from_text([str(term) for term in several]).items()
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
    def _of(
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
        from facturum.files.builds.build_folder import read_build
        from facturum.files.builds.build_writer import MARKER
        from facturum.files.plan_file import load_plan

        spec = load_plan(path)
        try:
            folder = Path(path).resolve().parent
            if not (folder / MARKER).exists():
                return cls._of(spec, folder)
            # paths written in a build folder are never followed
            return cls._of(spec, known=lambda: read_build(folder, False).columns)
        except OSError as problem:  # such as a working folder that has been deleted
            raise PlanError(f"the folder of {path} cannot be read: {problem}", remedy="Check the path.") from None

    @classmethod
    @checked
    def from_text(cls, text: str) -> Plan:
        """Read a plan from the text of a plan file."""
        from facturum.files.plan_file import parse_plan

        return cls._of(parse_plan(text), Path())

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
        return Plan._of(spec, self._folder, self._tables, self._known)

    @checked
    def save(self, path: str | Path) -> None:
        """Write the plan as a file."""
        from facturum.files.plan_file import save_plan

        save_plan(self._spec, path)

    @checked
    def resolve(self, table: TableLike, *, threads: int | None = None, series: Mapping[str, Any] | None = None) -> Plan:
        """Return the plan with every open question answered on a table; a resolved plan comes back as it is.

        Args:
            table: a DataFrame, anything with ``__arrow_c_stream__``, a dict of arrays, a path or a Table.
            threads: how many threads; the result does not depend on it.
            series: the tables of the plan's series, instead of their files.

        Raises:
            PlanError: where the plan has no meaning.
            DataError: where the data do not allow it.
        """
        from facturum.api.building import resolved_inputs

        resolved = resolved_inputs(self._inputs, table, series, threads)
        return Plan._of(resolved.spec, resolved.folder, resolved.tables)

    @checked
    def build(
        self,
        table: TableLike,
        *,
        history: TableLike | None = None,
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
        from facturum.api.building import built_design

        return built_design(Plan, self._inputs, table, history, series, threads, progress, sparse)

    @checked
    def build_into(
        self,
        folder: str | Path,
        table: TableLike,
        *,
        series: Mapping[str, Any] | None = None,
        format: str = "parquet",
        replace: bool = False,
        wait: float = 0.0,
        text: Mapping[str, Any] | None = None,
        memory: int = MEMORY,
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
        from facturum.api.building import built_into

        return built_into(
            Plan, self._inputs, Path(folder), table, series, memory, progress,
            form=format, text=text, replace=replace, wait=wait, threads=threads,
        )  # fmt: skip

    @checked
    def view(self, table: TableLike, *, series: Mapping[str, Any] | None = None) -> Table:
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
        from facturum.api.building import view_of

        return view_of(self._inputs, table, series)

    @property
    def _inputs(self) -> PlanInputs:
        """The plan and its tables, for what works on them."""
        from facturum.files.given.inputs import PlanInputs

        return PlanInputs(self._spec, self._folder, self._tables, self._known)

    @checked
    def read(self, path: str | Path) -> Table:
        """Read a table according to the plan's [data], and for the rest as found in its file."""
        return self._inputs.as_found(path).table(path)

    def __str__(self) -> str:
        from facturum.files.plan_file import plan_text

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
