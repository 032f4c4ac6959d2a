"""A design as the rows of a trial regression."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from facturum.audit.row_map import LEARNING_ROW, SOURCE_ROW
from facturum.data.values import Array
from facturum.numerics.factors import Factor
from facturum.trial.rows import Block, Rows

if TYPE_CHECKING:
    from facturum.design import Design


def rows_of(design: Design, side: Callable[[], pa.Table], known: Factor | None = None) -> Rows:
    """Return the rows of a design, block by block, as a trial regression reads them.

    Args:
        design: the design.
        side: returns the table of its variables beside the columns.
        known: the factor of its learning rows, where checks have computed it.
    """
    first = 1 if design.columns.resolved.get("intercept", True) else 0

    def read() -> Iterator[Block]:
        learning, at = design.rows.learning, 0
        for X, y, numbers in design.blocks():  # noqa: N806 - the field's standard name
            stop = at + len(X)
            response = np.full(len(X), np.nan) if y is None else y
            yield Block(X[:, first:], response, numbers, learning[at:stop])
            at = stop

    beside = {SOURCE_ROW, LEARNING_ROW, *design.response_names, *design.names}
    return Rows(design.names[first:], first == 1, design.columns, read, _Carried(side, beside), known)


class _Carried(Mapping[str, Array]):
    """The variables taken along, read when one is asked for."""

    def __init__(self, side: Callable[[], pa.Table], beside: set[str]) -> None:
        self._side, self._beside = side, beside
        self._known: dict[str, Array] | None = None

    def _read(self) -> dict[str, Array]:
        if self._known is None:
            table = self._side()
            names = [name for name in table.column_names if name not in self._beside]
            self._known = {name: _plain(table.column(name)) for name in names}
        return self._known

    def __getitem__(self, name: str) -> Array:
        return self._read()[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._read())

    def __len__(self) -> int:
        return len(self._read())


def _plain(column: pa.ChunkedArray) -> Array:
    """Return numbers and moments as they are, and anything else as text."""
    kind = column.type
    if pa.types.is_timestamp(kind):
        return np.asarray(column.to_numpy())
    if (pa.types.is_integer(kind) or pa.types.is_floating(kind)) and not column.null_count:
        return np.asarray(column.to_numpy())
    if pa.types.is_dictionary(kind):
        column = column.cast(kind.value_type)
    return np.array(["" if value is None else str(value) for value in column.to_pylist()])
