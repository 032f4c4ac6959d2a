"""A table: variables of one length, under their names."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from facturum.data.variable import Variable
from facturum.errors import DataError, nearest


@dataclass(frozen=True)
class Table:
    """Variables of one length.

    Args:
        variables: by name, in the order of the table.
        length: rows.
        source: where it came from, for messages.

    Example:
        >>> table = Table.of({"beds": [12, 40], "access": ["trail", "road"]})
        >>> [(v.name, str(v.kind)) for v in table]
        [('beds', 'number'), ('access', 'category')]
    """

    variables: Mapping[str, Variable]
    length: int
    source: str = "the table"

    @classmethod
    def of(cls, given: Any) -> Table:
        """Take in a DataFrame, anything with ``__arrow_c_stream__``, a dict of arrays, or a Table itself.

        Raises:
            DataError: for columns of unequal length, two columns of one name, or something that is no table.
        """
        from facturum.data.intake import table_from

        return given if isinstance(given, Table) else table_from(given)

    def __len__(self) -> int:
        return self.length

    def __iter__(self) -> Iterator[Variable]:
        return iter(self.variables.values())

    def __contains__(self, name: object) -> bool:
        return name in self.variables

    def __getitem__(self, name: str) -> Variable:
        found = self.variables.get(name)
        if found is None:
            raise DataError(
                f"{self.source} has no variable '{name}'{nearest(name, list(self.variables))}",
                remedy="It has " + ", ".join(list(self.variables)[:20]) + ".",
            )
        return found
