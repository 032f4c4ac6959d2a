"""A table: variables of one length, under their names."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Protocol, TypeAlias, runtime_checkable

import numpy as np
import pyarrow as pa

from facturum.data.arrow.export import arrow_column, frame_of
from facturum.data.arrow.intake import variables_from
from facturum.data.values import Array
from facturum.data.variable import Variable
from facturum.errors import DataError, counted, listed, nearest
from facturum.support.arguments import checked


@runtime_checkable
class Columns(Protocol):
    """A DataFrame, or anything else that gives its columns to Arrow."""

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object: ...


@dataclass(frozen=True, eq=False)
class Table:
    """Variables of one length.

    Args:
        variables: by name, in the order of the table.
        length: rows.
        source: where it came from, for messages.
        notes: what to notice of its file.
        index: of the DataFrame that it was taken from, one label for each row; None of anything else.

    Example:
        >>> table = Table.of({"beds": [12, 40], "access": ["trail", "road"]})
        >>> [(v.name, str(v.kind)) for v in table]
        [('beds', 'number'), ('access', 'category')]
    """

    variables: Mapping[str, Variable]
    length: int
    source: str = "the table"
    notes: tuple[str, ...] = ()
    index: Any = None

    @classmethod
    def of(cls, given: Any, source: str = "the table") -> Table:
        """Take in a DataFrame, anything with ``__arrow_c_stream__``, a dict of arrays, or a Table itself.

        Args:
            given: the columns.
            source: where they come from, for messages.

        Raises:
            DataError: for columns of unequal length, two columns of one name, or something that is not a table.
        """
        if isinstance(given, Table):
            return given
        variables, index = variables_from(given, source)
        length = len(variables[0]) if variables else 0
        return cls({variable.name: variable for variable in variables}, length, source, index=index)

    def __repr__(self) -> str:
        head = f"table of {counted(self.length, 'row')} and {counted(len(self.variables), 'variable')}"
        return listed(head, (variable.summary() for variable in self.variables.values()))

    @checked
    def take(self, rows: Array) -> Table:
        """Return some rows, counted from 0, in their order."""
        rows = np.asarray(rows)
        if (
            rows.ndim != 1
            or rows.dtype.kind not in "iub"
            or (len(rows) and not 0 <= int(rows.min()) <= int(rows.max()) < self.length)
        ):
            raise DataError(
                "rows are whole numbers from 0, of rows that the table has", remedy="Give an array of them."
            )
        variables = {name: variable.take(rows) for name, variable in self.variables.items()}
        index = None if self.index is None else self.index[rows]
        return replace(self, variables=variables, length=len(rows), index=index)

    def to_arrow(self) -> pa.Table:
        """Return the table as an Arrow table; categories as text where all are, times as timestamps.

        Example:
            >>> Table.of({"access": ["road", None], "beds": [8, 40]}).to_arrow().to_pylist()
            [{'access': 'road', 'beds': 8}, {'access': None, 'beds': 40}]
        """
        return pa.table([arrow_column(variable) for variable in self], names=list(self.variables))

    def to_pandas(self) -> Any:
        """Return the table as a DataFrame.

        Raises:
            DataError: where pandas is not installed.
        """
        return frame_of(self.to_arrow())

    def __len__(self) -> int:
        return self.length

    def __iter__(self) -> Iterator[Variable]:
        return iter(self.variables.values())

    def __contains__(self, name: object) -> bool:
        return name in self.variables

    @checked
    def __getitem__(self, name: str) -> Variable:
        variable = self.variables.get(name)
        if variable is None:
            raise DataError(
                f"variable '{name}' not found in {self.source}{nearest(name, list(self.variables))}",
                remedy="It has " + ", ".join(list(self.variables)[:20]) + ".",
            )
        return variable


TableLike: TypeAlias = Table | Mapping[str, Any] | Columns | str | Path  # what is taken as a table, a path included
