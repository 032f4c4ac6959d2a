"""Long literals, kept in tables of their own: the text of a plan names them by a digest of what they hold."""

from __future__ import annotations

import ast
import hashlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any
from weakref import WeakValueDictionary

import pyarrow as pa

from facturum.language.tree.options import MISSING, Absent

LONG = 1_000  # entries of a list or dict, beyond which it is stored
WORD = "stored"  # what the text of a plan calls it by
_DIGITS = 24  # hexadecimal digits of a digest: 96 bits
_FORM = b"facturum"  # of a column of unlike values, written as they are in a plan
_BY_DIGEST: WeakValueDictionary[str, StoredLiteral] = WeakValueDictionary()
_BY_CONTENT: WeakValueDictionary[int, StoredLiteral] = WeakValueDictionary()  # which live as long as what they hold


@dataclass(frozen=True, eq=False)
class StoredLiteral:
    """A long list or dict of an operation; plans that name it hold it, and it is found by them as long as they live.

    Args:
        value: a tuple, of a dict one of pairs.
        mapping: whether it is a dict.
    """

    value: tuple[Any, ...]
    mapping: bool

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        _remember(self)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, StoredLiteral) and self.digest == other.digest

    def __hash__(self) -> int:
        return hash(self.digest)

    @cached_property
    def table(self) -> pa.Table:
        """The same as a table: a column of values, and of a dict one for each part of its keys."""
        if not self.mapping:
            return _table({"value": self.value})
        keys = [key if isinstance(key, tuple) else (key,) for key, _ in self.value]
        parts = {f"key_{at + 1}": [key[at] for key in keys] for at in range(len(keys[0]) if keys else 1)}
        return _table({**parts, "value": [value for _, value in self.value]})

    @cached_property
    def digest(self) -> str:
        """A digest of what it holds, however that is stored."""
        digest = hashlib.sha256(repr([(f.name, str(f.type), bool(f.metadata)) for f in self.table.schema]).encode())
        for column in self.table.columns:
            for buffer in column.combine_chunks().buffers():
                digest.update(b"" if buffer is None else memoryview(buffer))
        return digest.hexdigest()[:_DIGITS]

    @property
    def text(self) -> str:
        """What stands for it in an expression."""
        return f"{WORD}('{self.digest}')"


def stored_literal(value: tuple[Any, ...], mapping: bool) -> StoredLiteral:
    """Return the stored form of a literal, the same one each time while it is held.

    Example:
        >>> made = stored_literal(tuple(range(5000)), False)
        >>> found(made.digest) is made, read_literal(made.table) == made
        (True, True)
    """
    known = _BY_CONTENT.get(id(value))
    if known is not None and known.value is value:
        return known
    made = StoredLiteral(value, mapping)
    same = _BY_DIGEST.get(made.digest)
    if same is not None and same.value == value:
        return same
    _remember(made)
    return made


def _remember(made: StoredLiteral) -> None:
    _BY_DIGEST[made.digest] = made
    _BY_CONTENT[id(made.value)] = made


def found(digest: str) -> StoredLiteral | None:
    """Return what a text names, or None where no plan at hand holds it."""
    return _BY_DIGEST.get(digest)


def read_literal(table: pa.Table) -> StoredLiteral:
    """Return what a table holds, as `StoredLiteral.table` wrote it.

    Raises:
        ValueError: where it is no such table.
    """
    columns = {name: _values(table.column(name), table.schema.field(name)) for name in table.column_names}
    values = columns.pop("value", None)
    if values is None or any(name != f"key_{at + 1}" for at, name in enumerate(columns)):
        raise ValueError("it does not hold a learned table")
    if not columns:
        made = StoredLiteral(tuple(values), False)
    else:
        keys: Iterable[Any] = next(iter(columns.values())) if len(columns) == 1 else zip(*columns.values(), strict=True)
        made = StoredLiteral(tuple(zip(keys, values, strict=True)), True)
    same = _BY_DIGEST.get(made.digest)
    if same is None:
        _remember(made)
    return same or made


def _table(columns: dict[str, Sequence[Any]]) -> pa.Table:
    arrays, fields = [], []
    for name, values in columns.items():
        kinds = {type(value) for value in values}
        plain = {str: pa.string(), bool: pa.bool_(), int: pa.int64(), float: pa.float64()}
        kind = plain.get(next(iter(kinds))) if len(kinds) == 1 else None
        if kind is None:
            arrays.append(pa.array([_written(value) for value in values], pa.string()))
            fields.append(pa.field(name, pa.string(), metadata={_FORM: b"literal"}))
        else:
            arrays.append(pa.array(values, kind))
            fields.append(pa.field(name, kind))
    return pa.table(arrays, schema=pa.schema(fields))


def _written(value: Any) -> str:
    return "missing" if isinstance(value, Absent) else repr(value)


def _values(column: pa.ChunkedArray, field: pa.Field) -> list[Any]:
    values: list[Any] = column.to_pylist()
    if not field.metadata or _FORM not in field.metadata:
        return values
    return [MISSING if text == "missing" else ast.literal_eval(text) for text in values]
