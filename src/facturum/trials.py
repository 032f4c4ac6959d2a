"""A design as the rows of a trial regression."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cache, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from facturum.audit.column_map import source_changes
from facturum.audit.entries import ChangeEntry
from facturum.audit.row_map import carried_names
from facturum.data.arrow_export import arrow_column
from facturum.data.table import Table
from facturum.data.values import Array
from facturum.engine.planning.shaping import DATA, Given, declared_tables, shaped_first
from facturum.errors import DataError, counted
from facturum.files.builds.built_design import FromBuild, Origin
from facturum.trial.rows import Block, Rows

if TYPE_CHECKING:
    from facturum.design import Design


def rows_of(design: Design, origin: Origin, table: Any = None) -> Rows:
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

    in_memory = origin if isinstance(origin, FromBuild) else None
    known = None if in_memory is None else in_memory.factor
    not_carried: _NotCarried | None = None
    if table is not None:
        not_carried = _NotCarried(partial(_declared, design, table), lambda: design.kept - 1)
    elif in_memory is not None:
        not_carried = _NotCarried(lambda: in_memory.built.prepared.table, in_memory.built.selection.positions)
    carried = _Carried(design, not_carried)

    def changes() -> Sequence[ChangeEntry]:
        return design.columns.changes if in_memory is None else source_changes(in_memory.built.outline)

    return Rows(design.names[first:], first == 1, design.columns, read, carried, known, changes)


def _declared(design: Design, table: Any) -> Table:
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
    there = set(design.side.column_names)
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
            table = self._design.side
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
