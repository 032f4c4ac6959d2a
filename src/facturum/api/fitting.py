"""What is fitted of a design, and a design as the rows of a trial regression."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cache, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import numpy as np
import pyarrow as pa

from facturum.audit.counterfactual.requested import RequestedChange, before_and_after
from facturum.audit.map.change_entries import ChangeEntry
from facturum.audit.map.column_map import source_changes
from facturum.audit.map.row_map import carried_names
from facturum.data.arrow.export import arrow_column
from facturum.data.table import Table, TableLike
from facturum.data.values import Array
from facturum.engine.planning.shaping import DATA, Given, declared_tables, shaped_first
from facturum.errors import DataError, bounded, counted
from facturum.files.builds.built_design import Origin
from facturum.support.arguments import checked
from facturum.support.threads import one_blas_thread
from facturum.trial.errors.covariances import ErrorKind
from facturum.trial.fit.regression import Fit, estimate, fitted, run_trial
from facturum.trial.fit.rows import Block, Rows
from facturum.trial.fit.trial import Trial
from facturum.trial.told.effect_text import Effect
from facturum.trial.told.requested import requested_effect

if TYPE_CHECKING:
    from facturum.api.design import Design


class Fitting:
    """What is fitted of a design."""

    _origin: Origin

    @property
    def _design(self) -> Design:
        return cast("Design", self)

    @checked
    def trial(
        self, model: str = "linear", *, errors: str = "ordinary", by: str | Sequence[str] | None = None,
        lags: int | None = None, table: TableLike | None = None,
    ) -> Trial:  # fmt: skip
        """Fit a regression, to read the coefficients and to check the matrix; it is not a modelling package.

        Least squares uses the factorisation that the checks have made. Rows that are not learned from are held out.

        Args:
            model: linear, logistic (of a response of 0 and 1) or poisson (of counts).
            errors: ordinary; hc1 or hc3, robust to heteroscedasticity; clustered; autocorrelation.
            by: the variable that names the unit, of clustered errors (or two of them) or of series (otherwise the
                panel's).
            lags: of autocorrelation; otherwise chosen by the number of periods.
            table: the source of a stored build, for units and times that are not carried along.

        Raises:
            DataError: without a response, with too few rows, and where the response is separated.

        Example:
            >>> from facturum.api.plan import Plan
            >>> design = Plan("y", {"x": "x"}).build({"x": [1, 2, 3, 4], "y": [3, 5, 8, 9]})
            >>> round(design.trial()["x"].estimate, 6)
            2.1
        """
        with bounded(), one_blas_thread():
            return run_trial(rows_of(self._design, self._origin, table), model, ErrorKind.of(errors, by, lags))[0]

    def _fit(
        self, model: str = "linear", table: TableLike | None = None, to_the_last_digit: bool = True
    ) -> tuple[Fit, Rows]:
        """Return the coefficients of a trial regression as predictions need them, and the rows fitted."""
        return fitted(rows := rows_of(self._design, self._origin, table), model, to_the_last_digit), rows

    @checked
    def effects(
        self, variable: str, *, by: float | None = None, ratio: float | None = None, to: Any = None,
        at: Mapping[str, Any] | None = None, within: str | None = None, model: str = "linear",
        errors: str = "ordinary", clusters: str | Sequence[str] | None = None, lags: int | None = None,
        table: TableLike | None = None,
    ) -> Effect:  # fmt: skip
        """Return what a change of a source variable comes to in the response, on average over the rows.

        All that the plan makes of the variable moves with it, and all else in the table stays: the rows are built again
        with the changed values, and predictions are compared. Of a logistic trial, the difference is that of the
        probabilities. At most 65,536 rows are looked at, evenly spread.

        Args:
            variable: of the table, in each row's own period.
            by: how much more it becomes.
            ratio: by what it is multiplied.
            to: what it becomes, or a pair (before, after); NaN for a missing value.
            at: other variables with the values that they are set to first.
            within: a condition; rows in which it holds are averaged over.
            model, errors, lags: as for `trial`.
            clusters: as `by` for `trial`.
            table: the source, of a stored build.

        Raises:
            DataError: where the change cannot be made, or the coefficients do not tell its effect.

        Example:
            >>> from facturum.api.plan import Plan
            >>> table = {"x": [1, 2, 3, 4, 5], "open": [True, False, True, False, False], "y": [3, 5, 8, 9, 12]}
            >>> design = Plan("y", {"x": "x", "x2": "x ** 2", "open": "open"}).build(table)
            >>> effect = design.effects("x", by=1, within="open")
            >>> effect.text.partition(": ")[0]
            'With x 1 higher, in rows in which open holds'
        """
        with bounded(), one_blas_thread():
            built = self._origin.built
            if built is None and table is not None:
                built = self._design.plan.build(table)._origin.built
            if built is None:
                raise DataError(
                    "a stored build is built again with the changed values", remedy="Give its source: table=.."
                )
            estimated = estimate(
                rows_of(self._design, self._origin, table), model, ErrorKind.of(errors, clusters, lags, "clusters")
            )
            change = RequestedChange(variable, by, ratio, to, at, within)
            return requested_effect(estimated, before_and_after(built.outline, change), variable)


def rows_of(design: Design, origin: Origin, table: TableLike | None = None) -> Rows:
    """Return the rows of a design, block by block, as a trial regression reads them.

    Args:
        design: the design.
        origin: what it is made of.
        table: the source, for variables that are not carried along; of a build in memory it is known.
    """
    first = 1 if design.columns.resolved.get("intercept", True) else 0

    def read() -> Iterator[Block]:
        learning, at = design.rows.learning, 0
        for X, y, numbers in design.blocks():  # noqa: N806 - the field's standard name
            stop = at + len(X)
            response = np.full(len(X), np.nan) if y is None else y
            yield Block(X[:, first:], response, numbers, learning[at:stop])
            at = stop

    built, known = origin.built, origin.factor
    not_carried: _NotCarried | None = None
    if table is not None:
        not_carried = _NotCarried(partial(_declared, design, table), lambda: design._kept - 1)
    elif built is not None:
        not_carried = _NotCarried(lambda: built.prepared.table, built.selection.positions)
    carried = _Carried(design, not_carried)

    def changes() -> Sequence[ChangeEntry]:
        return design.columns.changes if built is None else source_changes(built.outline, design.columns)

    return Rows(design.names[first:], first == 1, design.columns, read, carried, known, changes)


def _declared(design: Design, table: TableLike) -> Table:
    """Return the source of a design, stacked and converted, with the kinds that its variables were declared of."""
    plan = design.plan
    whole = plan.read(table) if isinstance(table, str | Path) else Table.of(table)
    spec, given = shaped_first(plan.spec.model_copy(update={"series": {}}), Given(whole))
    found, rows = declared_tables(spec, given)[DATA], design.columns.rows.given
    if found.length != rows:
        raise DataError(
            f"{found.source} has {counted(found.length, 'row')}, and the build was made of {rows:,}",
            remedy="Give the table that it was built from; verify tells what has changed.",
        )
    return found


def design_carried(design: Design) -> dict[str, str]:
    """Return the variables that stand beside a design, and what each is called there."""
    taken = [*design.response_names, *design.names]
    names = carried_names(design.columns.resolved.get("data", {}).get("carry", []), taken)
    there = set(design._side.column_names)
    return {name: called for name, called in names.items() if called in there}


class _NotCarried:
    """Variables of the source that are not carried along, at the rows of the matrix.

    Args:
        table: returns the source; it is read where a variable is asked for.
        rows: returns the position of each row in it.
    """

    def __init__(self, table: Callable[[], Table], rows: Callable[[], Array]) -> None:
        self._table, self._rows = cache(table), rows

    def get(self, name: str) -> Array | None:
        """Return a variable; None where there is none of that name."""
        table = self._table()
        return _plain(pa.chunked_array([arrow_column(table[name], self._rows())])) if name in table else None


class _Carried(Mapping[str, Array]):
    """The variables taken along, and others where the source is known, read when one is asked for."""

    def __init__(self, design: Design, not_carried: _NotCarried | None) -> None:
        self._design, self._not_carried = design, not_carried
        self._known: dict[str, Array] | None = None

    def _read(self) -> dict[str, Array]:
        if self._known is None:
            table = self._design._side
            names = design_carried(self._design)
            self._known = {name: _plain(table.column(called)) for name, called in names.items()}
        return self._known

    def __getitem__(self, name: str) -> Array:
        known = self._read()
        if name not in known:
            found = None if self._not_carried is None else self._not_carried.get(name)
            if found is None:
                raise KeyError(name)
            known[name] = found
        return known[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._read())

    def __len__(self) -> int:
        return len(self._read())


def _plain(column: pa.ChunkedArray) -> Array:
    """Return numbers and moments as they are, and anything else as text; masked where cells are missing."""
    kind = column.type
    if pa.types.is_timestamp(kind):
        return np.asarray(column.to_numpy())
    if (pa.types.is_integer(kind) or pa.types.is_floating(kind)) and not column.null_count:
        return np.asarray(column.to_numpy())
    if pa.types.is_dictionary(kind):
        column = column.cast(kind.value_type)
    values = column.to_pylist()
    texts = np.array(["" if value is None else str(value) for value in values])
    return np.ma.array(texts, mask=[value is None for value in values]) if column.null_count else texts
