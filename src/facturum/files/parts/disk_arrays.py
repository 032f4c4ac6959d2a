"""Arrays on disk, in temporary files without names: the system removes them whatever ends the program."""

from __future__ import annotations

import os
import tempfile
import weakref
from pathlib import Path
from threading import Lock
from typing import Any, BinaryIO, cast

import numpy as np

from facturum.data.values import Array
from facturum.errors import DataError

_FAR = 2**18  # rows: those that lie within so many are read together with what is between them


class DiskArray:
    """An array that is written from its beginning to its end, and read by ranges of rows.

    Args:
        folder: where its file is.
        dtype: of its elements.
    """

    def __init__(self, folder: Path, dtype: Any) -> None:
        self.dtype, self._folder = np.dtype(dtype), folder
        self._file: BinaryIO = tempfile.TemporaryFile(dir=folder, buffering=0)  # noqa: SIM115 - open as long as it is
        weakref.finalize(self, self._file.close)
        self._lock = Lock()
        self._length = 0
        self._ends: tuple[Any, Any] | None = None

    def append(self, values: Array) -> None:
        """Write further elements."""
        if not len(values):
            return
        values = np.ascontiguousarray(values, dtype=self.dtype)
        left = memoryview(values.view(np.uint8))  # type: ignore[arg-type]
        try:
            while len(left):
                left = left[self._file.write(left) :]
        except OSError as problem:
            what = f"temporary files in {self._folder} cannot be written: {problem.strerror}"
            raise DataError(what, remedy="Nothing was changed. Make room, or choose another place.") from None
        self._length += len(values)
        if self.dtype.kind in "iub":
            low, high = values.min(), values.max()
            self._ends = (low, high) if self._ends is None else (min(self._ends[0], low), max(self._ends[1], high))

    def __len__(self) -> int:
        return self._length

    def min(self) -> Any:
        """Return the smallest element, of whole numbers and truth values."""
        return self._ends[0] if self._ends is not None else np.nan

    def max(self) -> Any:
        """Return the largest element, of whole numbers and truth values."""
        return self._ends[1] if self._ends is not None else np.nan

    def __getitem__(self, rows: slice | Array) -> Array:
        if isinstance(rows, slice):
            start, stop, _ = rows.indices(self._length)
            return self._range(start, max(stop, start))
        return picked(self, np.asarray(rows))

    def _range(self, start: int, stop: int) -> Array:
        values = np.empty(stop - start, dtype=self.dtype)
        left, place = memoryview(values.view(np.uint8)), start * self.dtype.itemsize  # type: ignore[arg-type]
        while len(left):
            done = self._read(left, place)
            if not done:
                raise OSError("a temporary file is shorter than it was written")
            left, place = left[done:], place + done
        return values

    def _read(self, into: memoryview, place: int) -> int:
        if hasattr(os, "preadv"):
            return os.preadv(self._file.fileno(), [into], place)
        with self._lock:  # where a system reads only at one place of a file
            self._file.seek(place)
            return cast(int, self._file.readinto(into))  # type: ignore[attr-defined]

    def close(self) -> None:
        """Give its room on the disk back."""
        self._file.close()


class LookedUp:
    """An array whose elements are looked up in a table, by codes on disk.

    Args:
        codes: places in the table, counted from its end where they are negative.
        table: the elements.
    """

    def __init__(self, codes: DiskArray, table: Array) -> None:
        self._codes, self._table, self.dtype = codes, table, table.dtype

    def __len__(self) -> int:
        return len(self._codes)

    def min(self) -> Any:
        """Return the smallest element that may be looked up."""
        return self._used.min()

    def max(self) -> Any:
        """Return the largest element that may be looked up."""
        return self._used.max()

    @property
    def _used(self) -> Array:
        return self._table if not len(self._codes) or self._codes.min() < 0 else self._table[: self._codes.max() + 1]

    def __getitem__(self, rows: slice | Array) -> Array:
        values: Array = self._table[self._codes[rows]]
        return values


def picked(whole: DiskArray, rows: Array) -> Array:
    """Return some elements by their places, reading ranges that are not much longer."""
    if rows.dtype == np.bool_:
        rows = np.flatnonzero(rows)
    values = np.empty(len(rows), dtype=whole.dtype)
    if not len(rows):
        return values
    order = np.argsort(rows, kind="stable")
    ordered = rows[order]
    start = 0
    while start < len(rows):
        stop = int(np.searchsorted(ordered, ordered[start] + _FAR))
        low, high = int(ordered[start]), int(ordered[stop - 1]) + 1
        values[order[start:stop]] = whole[low:high][ordered[start:stop] - low]
        start = stop
    return values


def as_array(stored: DiskArray | LookedUp) -> Array:
    """Return an array on disk as what variables hold: it has ranges of rows, a length, and its least and largest."""
    return cast(Array, stored)
