"""Tables from Arrow, DataFrames and NumPy: each column becomes a variable, texts are dictionary-encoded once."""

from __future__ import annotations

import warnings
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa

from facturum.data.arrow.columns import arrow_variable
from facturum.data.time.calendar import refuse_outside
from facturum.data.values import Array, Kind
from facturum.data.variable import Variable
from facturum.errors import DataError

_REFUSED = (pa.ArrowException, TypeError, ValueError, OverflowError, AttributeError, NotImplementedError, KeyError)


def variables_from(given: Any, source: str = "the table") -> tuple[list[Variable], Any]:
    """Return the variables of a DataFrame, an Arrow table, anything with ``__arrow_c_stream__``, or a dict of arrays.

    Args:
        given: the columns.
        source: where they come from, for messages.

    Returns:
        The variables, all of one length, and the index of a DataFrame.

    Raises:
        DataError: for columns of unequal length, two columns of one name, or something that is not a table.

    Example:
        >>> len(variables_from({"price": np.array([1.0, 2.0, np.nan])})[0][0])
        3
    """
    if isinstance(given, Mapping):
        names = [str(name) for name in given]
        _refuse_twice(names)
        return _alike([_column(name, values) for name, values in zip(names, given.values(), strict=True)]), None
    if isinstance(given, pa.RecordBatch):
        given = pa.Table.from_batches([given])
    if isinstance(given, pa.Table):
        return _from_arrow(given, source), None
    if hasattr(given, "dtype") and not hasattr(given, "columns"):
        raise DataError(
            f"a {type(given).__name__} is one column, not a table", remedy="Give a DataFrame, or a dict of arrays."
        )
    if hasattr(given, "__arrow_c_stream__"):
        return _from_arrow(_arrow_table(given), source), _index_of(given)
    raise DataError(
        f"a {type(given).__name__} is not a table",
        remedy="Give a path, a DataFrame, an Arrow table, or a dict of arrays.",
    )


def _index_of(given: Any) -> Any:
    """Return the index of a DataFrame; None of a table that has none."""
    return given.index if hasattr(given, "iloc") and hasattr(given, "index") else None


def variable_from_arrow(name: str, column: pa.ChunkedArray | pa.Array) -> Variable:
    """Make a variable from an Arrow column.

    Raises:
        DataError: for a type that cannot be part of a regression, or contents that are damaged.
    """
    try:
        return arrow_variable(name, column)
    except _REFUSED as problem:
        raise _unreadable(name, problem) from None


def _unreadable(name: str, problem: Exception) -> DataError:
    first = (str(problem).strip().splitlines() or [type(problem).__name__])[0]
    return DataError(
        f"the variable '{name}' cannot be read: {first}", remedy="Give values of one type: numbers, texts or dates."
    )


def _arrow_table(given: Any) -> pa.Table:
    dtypes = getattr(given, "dtypes", None)
    names = [str(name) for name in given.columns] if hasattr(given, "iloc") else []
    _refuse_twice(names)
    if names and dtypes is not None and any(_unknown_to_arrow(kind) for kind in dtypes):
        return pa.table({name: _arrow_array(name, given.iloc[:, at]) for at, name in enumerate(names)})
    try:
        with warnings.catch_warnings(action="ignore", category=UserWarning):  # that names become text is as meant
            return pa.table(given)
    except _REFUSED as problem:
        first = (str(problem).strip().splitlines() or [type(problem).__name__])[0]
        raise DataError(
            f"the table could not be taken in: {first}",
            remedy="Give each column a name of its own, and make it of one type (text, say).",
        ) from None


def _arrow_array(name: str, values: Any) -> pa.Array | pa.ChunkedArray:
    if isinstance(values, pa.Array | pa.ChunkedArray):
        return values
    if hasattr(values, "to_arrow") and not hasattr(values, "iloc"):
        return values.to_arrow()
    values = _as_texts(values)
    try:
        return pa.array(values, from_pandas=True)
    except _REFUSED as problem:
        raise _unreadable(name, problem) from None


def _as_texts(values: Any) -> Any:
    """Return a column of periods or intervals, for which Arrow has no type, as a category of their texts."""
    kind = getattr(values, "dtype", None)
    if kind is None or not _unknown_to_arrow(kind):
        return values
    categories = getattr(kind, "categories", None)
    missing = values.isna().to_numpy()
    if categories is None:
        texts = [None if gone else str(value) for value, gone in zip(values, missing, strict=True)]
        return pa.array(texts, pa.string())
    named = [f"{c.left} to {c.right}" if hasattr(c, "left") else str(c) for c in categories]
    labels = pa.array(named, pa.string())
    return pa.DictionaryArray.from_arrays(
        pa.array(values.cat.codes.to_numpy(), mask=missing), labels, ordered=bool(getattr(kind, "ordered", False))
    )


def _unknown_to_arrow(kind: Any) -> bool:
    """Return whether a DataFrame's column holds periods or intervals, which Arrow would take for numbers or records."""
    inner = getattr(kind, "categories", None)
    return str(kind if inner is None else inner.dtype).lower().startswith(("period", "interval"))


def _from_arrow(table: pa.Table, source: str) -> list[Variable]:
    try:
        # a DataFrame brings its row index along under this name; it is not a variable
        names = [name for name in table.column_names if not name.startswith("__index_level_")]
    except UnicodeDecodeError:
        raise DataError(f"{source} has a column whose name is not valid text", remedy="Rename the column.") from None
    _refuse_twice(names)
    table = table.select(names)
    return _alike([variable_from_arrow(name, table.column(at)) for at, name in enumerate(names)])


def _refuse_twice(names: list[str]) -> None:
    if len(set(names)) < len(names):
        twice = sorted({name for name in names if names.count(name) > 1})
        raise DataError(f"two columns have one name: {', '.join(twice)}", remedy="Rename one of them.")


def _column(name: str, values: Any) -> Variable:
    if isinstance(values, Variable):
        return replace(values, name=name)
    if isinstance(values, str | bytes):
        raise DataError(f"the variable '{name}' is one text, not a column", remedy="Give a list or an array.")
    if isinstance(values, np.ndarray):
        return _numpy_column(name, values)
    return variable_from_arrow(name, _arrow_array(name, values))


def _numpy_column(name: str, values: Array) -> Variable:
    if values.ndim != 1:
        raise DataError(
            f"the variable '{name}' is an array of {values.ndim} dimensions",
            remedy="Give one column for each variable.",
        )
    valid = None
    if isinstance(values, np.ma.MaskedArray):
        valid = ~np.ma.getmaskarray(values)
        values = np.ma.getdata(values)
    kind = values.dtype.kind
    if kind in "iufb":
        native = np.float64 if kind == "f" and values.dtype.itemsize > 8 else values.dtype.newbyteorder("=")
        data = values.astype(native, copy=False)
        return Variable(name, Kind.TRUTH if kind == "b" else Kind.NUMBER, data, valid, storage=str(values.dtype))
    if kind == "M":
        return _moments(name, values, valid)
    mask = None if valid is None else ~valid
    try:
        array = pa.array(values, mask=mask, from_pandas=True)
    except _REFUSED as problem:
        raise _unreadable(name, problem) from None
    return variable_from_arrow(name, array)


def _moments(name: str, values: Array, valid: Array | None) -> Variable:
    """Make a time of NumPy's dates, of whatever unit."""
    unit = np.datetime_data(values.dtype)[0]
    present = ~np.isnat(values) if valid is None else valid & ~np.isnat(values)
    if unit == "generic":
        values = values.astype("datetime64[s]")
    elif unit in ("Y", "M", "W", "D", "h", "m", "s", "ms"):
        low, high = (np.datetime64(end).astype(values.dtype) for end in ("0001-01-01", "9999-12-31"))
        refuse_outside(name, present & ((values < low) | (values > high)))
    data = np.where(present, values, np.datetime64(0, "s").astype(values.dtype)).astype("datetime64[us]")
    return Variable(name, Kind.TIME, data.astype(np.int64), present, storage=str(values.dtype))


def _alike(variables: list[Variable]) -> list[Variable]:
    """Return variables that are of one length."""
    lengths = {variable.name: len(variable) for variable in variables}
    if len(set(lengths.values())) > 1:
        told = ", ".join(f"{name} {length}" for name, length in list(lengths.items())[:8])
        raise DataError(f"the columns are of unequal length: {told}", remedy="Give each row a value, or None.")
    return variables
