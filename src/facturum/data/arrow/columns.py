"""One Arrow column as a variable, whatever its type; what lies beneath a missing cell is never looked at."""

from __future__ import annotations

import math
from collections.abc import Callable
from datetime import date, datetime
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from facturum.data.time.calendar import refuse_outside
from facturum.data.values import Array, Kind, Label, Labels, Mask
from facturum.data.variable import EXACT, Variable
from facturum.errors import DataError

_LOW, _HIGH = -62_135_596_800, 253_402_300_799  # the first and the last second of the calendar, from year 1 to 9999
_FINER = {"s": 1, "ms": 1_000, "us": 1_000_000, "ns": 1_000_000_000}


def arrow_variable(name: str, column: pa.ChunkedArray | pa.Array) -> Variable:
    """Make a variable from an Arrow column.

    Raises:
        DataError: for a type that cannot be part of a regression, and dates outside the calendar.
        ArrowException, ValueError: where the column is damaged.
    """
    array = _one_array(column)
    kind = array.type
    if isinstance(kind, pa.BaseExtensionType):
        if not str(kind.extension_name).startswith("arrow."):  # whose values mean something of their own
            raise DataError(
                f"the variable '{name}' has the type {kind.extension_name}, which cannot be part of a regression",
                remedy="Turn it into numbers, text or dates.",
            )
        return arrow_variable(name, array.storage)
    if pa.types.is_run_end_encoded(kind):
        return arrow_variable(name, pc.run_end_decode(array))
    if pa.types.is_dictionary(kind):
        return _dictionary(name, array)
    for holds, make in _MAKERS:
        if holds(kind):
            return make(name, array, _present(array))
    raise DataError(
        f"the variable '{name}' has the type {kind}, which cannot be part of a regression",
        remedy="Leave the column out, or turn it into numbers or text.",
    )


def _one_array(column: pa.ChunkedArray | pa.Array) -> pa.Array:
    if not isinstance(column, pa.ChunkedArray):
        return column
    if pa.types.is_dictionary(column.type):
        column = column.unify_dictionaries()
    if column.num_chunks == 1:
        return column.chunk(0)
    return pa.concat_arrays(column.chunks) if column.num_chunks else pa.array([], column.type)


def _present(array: pa.Array) -> Mask | None:
    if array.null_count == 0:
        return None
    mask: Mask = array.is_valid().to_numpy(zero_copy_only=False)
    return mask


def _is_text(kind: pa.DataType) -> bool:
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind) or kind == pa.string_view())


def _text(name: str, array: pa.Array, valid: Mask | None) -> Variable:
    array.validate(full=True)  # bytes that are not valid text are found here, and not while they are used
    return _dictionary(name, array.cast(pa.large_string()).dictionary_encode(), "text")


def _truth(name: str, array: pa.Array, valid: Mask | None) -> Variable:
    data = array.fill_null(False).to_numpy(zero_copy_only=False)
    return Variable(name, Kind.TRUTH, data, valid, storage="truth values")


def _number(name: str, array: pa.Array, valid: Mask | None) -> Variable:
    storage = str(array.type)
    if pa.types.is_float16(array.type):
        array = array.cast(pa.float32())
    filled = array if valid is None else array.fill_null(0)
    return Variable(name, Kind.NUMBER, filled.to_numpy(zero_copy_only=False), valid, storage=storage)


def _nothing(name: str, array: pa.Array, valid: Mask | None) -> Variable:
    return Variable(name, Kind.NUMBER, np.full(len(array), np.nan), storage="nothing but missing values")


def _decimal(name: str, array: pa.Array, valid: Mask | None) -> Variable:
    """Make doubles of decimals, each the nearest one, or texts where digits would be lost."""
    storage = str(array.type)
    texts = array.cast(pa.string()).dictionary_encode()
    digits = [Decimal(text) for text in texts.dictionary.to_pylist()]
    if any(abs(number) > EXACT for number in digits):
        if array.type.scale <= 0 and all(abs(number) < 2**63 for number in digits):
            return _number(name, pa.array([int(n) for n in digits], pa.int64()).take(texts.indices), valid)
        return _dictionary(name, texts, f"{storage}, kept as text")
    numbers = np.array([float(number) for number in digits] + [0.0])
    codes = texts.indices.fill_null(-1).to_numpy(zero_copy_only=False)
    return Variable(name, Kind.NUMBER, numbers[codes], valid, storage=storage)


def _is_time(kind: pa.DataType) -> bool:
    return bool(pa.types.is_timestamp(kind) or pa.types.is_date(kind))


def _time(name: str, array: pa.Array, valid: Mask | None) -> Variable:
    """Make microseconds by the clock on the wall of dates and moments, refusing those outside the calendar."""
    storage = str(array.type)
    if pa.types.is_date32(array.type):
        array, each = array.cast(pa.int32()).cast(pa.int64()), 86_400
        seconds = pc.multiply(array.fill_null(0), each).to_numpy(zero_copy_only=False)
        refuse_outside(name, (seconds < _LOW) | (seconds > _HIGH))
        return Variable(name, Kind.TIME, seconds * 1_000_000, valid, storage=storage)
    unit = "ms" if pa.types.is_date64(array.type) else array.type.unit
    ticks = array.cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False)
    per_second = _FINER[unit]
    refuse_outside(name, (ticks < _LOW * per_second) | (ticks > _HIGH * per_second) if unit != "ns" else ticks < ticks)
    if pa.types.is_timestamp(array.type) and array.type.tz is not None:
        array = _local(name, array)
        ticks = array.cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False)
    whole: Array = ticks // 1000 if unit == "ns" else ticks * (1_000_000 // per_second)
    return Variable(name, Kind.TIME, whole, valid, storage=storage)


def _local(name: str, array: pa.Array) -> pa.Array:
    try:
        return pc.local_timestamp(array)
    except pa.ArrowException:
        raise DataError(
            f"the variable '{name}' is in the time zone '{array.type.tz}', which is not known here",
            remedy="Turn it into UTC, or into times without a zone.",
        ) from None


_MAKERS: tuple[tuple[Callable[[pa.DataType], bool], Callable[[str, pa.Array, Mask | None], Variable]], ...] = (
    (_is_text, _text),
    (pa.types.is_boolean, _truth),
    (_is_time, _time),
    (pa.types.is_decimal, _decimal),
    (pa.types.is_null, _nothing),
    (lambda kind: pa.types.is_integer(kind) or pa.types.is_floating(kind), _number),
)


def _dictionary(name: str, array: pa.DictionaryArray, storage: str | None = None) -> Variable:
    kind = array.type.value_type
    if _is_time(kind):
        return arrow_variable(name, array.dictionary_decode())
    array.dictionary.validate(full=True)
    labels = tuple(_label(name, value) for value in array.dictionary.to_pylist())
    data = _codes(array)
    if None in labels or len({(isinstance(label, str), label) for label in labels}) < len(labels):
        data, labels = _unified(data, labels)
    known: Labels = tuple(label for label in labels if label is not None)
    if len(data) and int(data.max()) >= len(known):
        raise DataError(f"the variable '{name}' has codes without a category", remedy="Write the table anew.")
    ordered = Kind.ORDERED if array.type.ordered else Kind.CATEGORY
    shown = storage or ("text" if _is_text(kind) else str(kind))
    return Variable(name, ordered, data, None, known, storage=shown)


def _codes(array: pa.DictionaryArray) -> Array:
    """Return the codes in the smallest signed type that holds them, -1 where it is missing."""
    indices = array.indices
    if pa.types.is_unsigned_integer(indices.type):
        wider = {8: pa.int16(), 16: pa.int32()}.get(indices.type.bit_width, pa.int64())
        indices = indices.cast(wider, safe=False)
    codes = indices.fill_null(-1) if indices.null_count else indices
    data: Array = codes.to_numpy(zero_copy_only=False)
    return data


def _label(name: str, value: Any) -> Label | None:
    """Return a category as it is compared: a text, a number or a truth value; None for a missing one."""
    if value is None or (isinstance(value, float) and math.isnan(value)):
        return None
    if isinstance(value, str | int | float):
        return value
    if isinstance(value, Decimal):
        whole = value == value.to_integral_value()
        return int(value) if whole else float(value)
    if isinstance(value, date | datetime):
        return value.isoformat()
    if isinstance(value, dict) and {"left", "right"} <= value.keys():
        return f"{value['left']} to {value['right']}"
    raise DataError(
        f"the variable '{name}' has categories of the type {type(value).__name__}",
        remedy="Turn its categories into text or numbers.",
    )


def _unified(codes: Array, labels: tuple[Label | None, ...]) -> tuple[Array, Labels]:
    """Give equal labels one code, and a missing label the code -1."""
    position: dict[tuple[bool, Label], int] = {}
    for label in labels:
        if label is not None:
            position.setdefault((isinstance(label, str), label), len(position))
    places = [-1 if label is None else position[isinstance(label, str), label] for label in labels]
    return np.array([*places, -1])[codes], tuple(label for _, label in position)
