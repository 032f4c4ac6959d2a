"""Tables from Arrow, pandas and NumPy: each column becomes a variable, texts are dictionary-encoded once."""

from __future__ import annotations

import warnings
from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from facturum.data.table import Table
from facturum.data.values import Array, Kind, Labels, Mask
from facturum.data.variable import Variable
from facturum.errors import DataError

_REFUSED = (pa.ArrowException, TypeError, ValueError, OverflowError)


def table_from(given: Any, source: str = "the table") -> Table:
    """Make a table from a DataFrame, an Arrow table, anything with ``__arrow_c_stream__``, or a dict of arrays.

    Raises:
        DataError: for columns of unequal length, two columns of one name, or something that is no table.

    Example:
        >>> len(table_from({"price": np.array([1.0, 2.0, np.nan])}))
        3
    """
    if isinstance(given, Mapping):
        return _table([_column(str(name), values) for name, values in given.items()], source)
    if isinstance(given, pa.Table):
        return _from_arrow(given, source)
    if hasattr(given, "__arrow_c_stream__"):
        try:
            with warnings.catch_warnings(action="ignore", category=UserWarning):  # that names become text is as meant
                table = pa.table(given)
        except _REFUSED as problem:
            raise DataError(
                f"the table could not be taken in: {problem}",
                remedy="Give each column a name of its own, and make it of one type (text, say).",
            ) from problem
        return _from_arrow(table, source)
    raise DataError(
        f"a {type(given).__name__} is no table",
        remedy="Give a path, a DataFrame, an Arrow table, or a dict of arrays.",
    )


def variable_from_arrow(name: str, column: pa.ChunkedArray | pa.Array) -> Variable:
    """Make a variable from an Arrow column."""
    array = column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column
    if isinstance(array, pa.ChunkedArray):  # what combining leaves of an empty or an oversized column
        array = pa.concat_arrays(array.chunks) if array.num_chunks else pa.array([], array.type)
    kind = array.type
    if pa.types.is_string(kind) or pa.types.is_large_string(kind) or kind == pa.string_view():
        array = array.cast(pa.large_string()).dictionary_encode()
        return _dictionary(name, array, "text")
    if pa.types.is_dictionary(kind):
        return _dictionary(name, array, "text" if "string" in str(kind.value_type) else str(kind.value_type))
    valid = None if array.null_count == 0 else array.is_valid().to_numpy(zero_copy_only=False)
    if pa.types.is_boolean(kind):
        data = array.fill_null(False).to_numpy(zero_copy_only=False)
        return Variable(name, Kind.TRUTH, data, valid, storage="truth values")
    if pa.types.is_temporal(kind) and not pa.types.is_duration(kind) and not pa.types.is_time(kind):
        return Variable(name, Kind.TIME, _moments(name, array), valid, storage=str(kind))
    if pa.types.is_decimal(kind):
        array = _of_decimals(name, array)
        kind = array.type
    if pa.types.is_null(kind):
        return Variable(name, Kind.NUMBER, np.full(len(array), np.nan), storage="nothing but missing values")
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        filled = array if valid is None else array.fill_null(0)
        return Variable(name, Kind.NUMBER, filled.to_numpy(zero_copy_only=False), valid, storage=str(kind))
    raise DataError(
        f"the variable '{name}' has the type {kind}, which cannot be part of a regression",
        remedy="Leave the column out, or turn it into numbers or text.",
    )


def _of_decimals(name: str, array: pa.Array) -> pa.Array:
    """Return decimals as doubles, or as whole numbers where they have no places, so that long ids keep their digits."""
    if array.type.scale > 0:
        return array.cast(pa.float64())
    try:
        return array.cast(pa.int64())
    except pa.ArrowInvalid as problem:
        raise DataError(
            f"the variable '{name}' holds whole numbers of more than 18 digits", remedy="Turn it into text."
        ) from problem


def _from_arrow(table: pa.Table, source: str) -> Table:
    # a DataFrame brings its row index along under this name; it is no variable
    names = [name for name in table.column_names if not name.startswith("__index_level_")]
    if len(set(names)) < len(names):
        twice = sorted({name for name in names if names.count(name) > 1})
        raise DataError(f"two columns have one name: {', '.join(twice)}", remedy="Rename one of them.")
    table = table.select(names).unify_dictionaries()
    return _table([variable_from_arrow(name, table.column(name)) for name in names], source)


def _column(name: str, values: Any) -> Variable:
    if isinstance(values, Variable):
        return values
    if isinstance(values, np.ndarray) and values.ndim == 1 and values.dtype.kind in "iufb":
        kind = Kind.TRUTH if values.dtype.kind == "b" else Kind.NUMBER
        return Variable(name, kind, values, storage=str(values.dtype))
    try:
        array = values if isinstance(values, pa.Array | pa.ChunkedArray) else pa.array(values, from_pandas=True)
    except _REFUSED as problem:
        raise DataError(
            f"the variable '{name}' could not be taken in: {problem}", remedy="Give values of one type."
        ) from problem
    return variable_from_arrow(name, array)


def _table(variables: list[Variable], source: str) -> Table:
    lengths = {variable.name: len(variable) for variable in variables}
    if len(set(lengths.values())) > 1:
        raise DataError("the columns are of unequal length: " + ", ".join(f"{k} {v}" for k, v in lengths.items()))
    return Table({variable.name: variable for variable in variables}, next(iter(lengths.values()), 0), source)


def _dictionary(name: str, array: pa.DictionaryArray, storage: str) -> Variable:
    labels: Labels = tuple(array.dictionary.to_pylist())
    codes = array.indices.fill_null(-1) if array.indices.null_count else array.indices
    data: Array = codes.to_numpy(zero_copy_only=False)
    if None in labels or len(set(labels)) < len(labels):
        data, labels = _unified(data, labels)
    kind = Kind.ORDERED if array.type.ordered else Kind.CATEGORY
    if data.dtype.kind == "u":
        data = data.astype(np.int64)
    return Variable(name, kind, data, None, labels, storage=storage)


def _unified(codes: Array, labels: Labels) -> tuple[Array, Labels]:
    """Give equal labels one code, and a missing label the code -1."""
    distinct = {label: None for label in labels if label is not None}
    position = {label: at for at, label in enumerate(distinct)}
    recode = np.array([position.get(label, -1) for label in labels] + [-1])
    return recode[codes], tuple(distinct)


def _moments(name: str, array: pa.Array) -> Array:
    if pa.types.is_timestamp(array.type) and array.type.tz is not None:
        array = pc.local_timestamp(array)
    try:
        array = array.cast(pa.timestamp("us"))
    except pa.ArrowInvalid:
        array = array.cast(pa.timestamp("us"), safe=False)
    filled = array.fill_null(0) if array.null_count else array
    data: Array = filled.to_numpy(zero_copy_only=False).astype("datetime64[us]").astype(np.int64)
    return data


def codes_of_numbers(data: Array, valid: Mask | None) -> tuple[Array, Labels]:
    """Return category codes and labels for stored numbers; missing ones get -1.

    Example:
        >>> codes_of_numbers(np.array([3, 1, 3]), None)
        (array([1, 0, 1]), (1, 3))
    """
    present = np.ones(len(data), dtype=bool) if valid is None else valid.copy()
    if data.dtype.kind == "f":
        present &= ~np.isnan(data)
    distinct, inverse = np.unique(data[present], return_inverse=True)
    codes = np.full(len(data), -1, dtype=np.int64)
    codes[present] = inverse
    labels = tuple(_plain(value) for value in distinct.tolist())
    return codes, labels


def _plain(value: int | float | bool) -> int | float | bool:
    return int(value) if isinstance(value, float) and value.is_integer() and abs(value) < 2**53 else value
