"""A matrix of which only the cells that are not zero are held, column by column."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[Any]
FloatArray = npt.NDArray[np.float64]


@dataclass(frozen=True)
class SparseColumns:
    """A matrix in compressed columns.

    Args:
        data: the values that are not zero, column after column (cells,); NaN for those that are missing.
        rows: the row of each, increasing within a column (cells,).
        starts: where each column begins, and where the last one ends (columns + 1,).
        length: how many rows there are.

    Example:
        >>> columns = SparseColumns.of([(np.array([0, 1]), np.array([2, 0]), np.array([5.0, 7.0]))], 3, 2)
        >>> columns.column(0), columns.at(1, np.array([0, 2]))
        (array([0., 0., 5.]), array([7., 0.]))
    """

    data: FloatArray
    rows: Array
    starts: Array
    length: int

    @classmethod
    def of(cls, parts: Sequence[tuple[Array, Array, FloatArray]], length: int, width: int) -> SparseColumns:
        """Bring cells into the order of columns and rows; zeros among them are left out.

        Args:
            parts: columns, rows and values of cells; each cell at most once.
            length, width: of the matrix.
        """
        columns = np.concatenate([part[0] for part in parts] or [np.zeros(0, dtype=np.int64)])
        rows = np.concatenate([part[1] for part in parts] or [np.zeros(0, dtype=np.int64)])
        data = np.concatenate([part[2] for part in parts] or [np.zeros(0)])
        if len(data) and not data.all():
            cells = data != 0
            columns, rows, data = columns[cells], rows[cells], data[cells]
        order = np.lexsort((rows, columns))
        starts = np.concatenate([[0], np.cumsum(np.bincount(columns, minlength=width))])
        small = np.int32 if length < 2**31 else np.int64
        return cls(data[order], rows[order].astype(small), starts.astype(np.int64), length)

    @classmethod
    def of_dense(cls, matrix: FloatArray) -> SparseColumns:
        """Return the cells of a matrix that are not zero."""
        rows = [np.flatnonzero(column) for column in matrix.T]
        starts = np.cumsum([0, *map(len, rows)])
        data = [column[at] for column, at in zip(matrix.T, rows, strict=True)]
        small = np.int32 if len(matrix) < 2**31 else np.int64
        empty = [np.zeros(0)]
        return cls(np.concatenate(data or empty), np.concatenate(rows or empty).astype(small), starts, len(matrix))

    @classmethod
    def of_blocks(cls, blocks: Iterable[FloatArray], width: int) -> SparseColumns:
        """Return the cells that are not zero of a matrix whose rows come block by block."""
        parts, length = [], 0
        for block in blocks:
            rows, columns = np.nonzero(block)
            parts.append((columns.astype(np.int32), rows + length, block[rows, columns]))
            length += len(block)
        return cls.of(parts, length, width)

    def compressed(self) -> Any:
        """Return the matrix as SciPy has it, sharing memory."""
        from scipy import sparse  # loaded when it is needed, for commands to start at once

        return sparse.csc_array((self.data, self.rows, self.starts), shape=self.shape)

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns."""
        return self.length, len(self.starts) - 1

    def named(self, names: Sequence[str]) -> NamedColumns:
        """Return the columns under their names, each with its zeros when it is asked for."""
        return NamedColumns(self, {name: at for at, name in enumerate(names)})

    def whole(self, width: int) -> bool:
        """Return whether it is a matrix of so many columns: doubles, and rows that increase within each column."""
        kinds = self.data.dtype == np.float64 and self.rows.dtype.kind == "i" and self.data.ndim == self.rows.ndim == 1
        starts = self.starts
        if not kinds or starts.shape != (width + 1,) or starts[0] != 0 or (np.diff(starts) < 0).any():
            return False
        if len(self.data) != starts[-1] or len(self.rows) != starts[-1]:
            return False
        if not len(self.rows):
            return True
        first = np.zeros(len(self.rows) + 1, dtype=bool)
        first[starts[:-1]] = True
        increasing = (np.diff(self.rows.astype(np.int64)) > 0) | first[1:-1]
        return bool(increasing.all()) and int(self.rows.min()) >= 0 and int(self.rows.max()) < self.length

    def part(self, column: int) -> slice:
        """Return where the cells of a column are."""
        return slice(int(self.starts[column]), int(self.starts[column + 1]))

    def column(self, column: int) -> FloatArray:
        """Return one column with its zeros, (rows,)."""
        values = np.zeros(self.length)
        part = self.part(column)
        values[self.rows[part]] = self.data[part]
        return values

    def between(self, column: int, start: int, stop: int) -> FloatArray:
        """Return the cells of a column in neighbouring rows."""
        part = self.part(column)
        low, high = np.searchsorted(self.rows[part], [start, stop])
        values = np.zeros(stop - start)
        values[self.rows[part][low:high] - start] = self.data[part][low:high]
        return values

    def at(self, column: int, rows: Array) -> FloatArray:
        """Return some cells of a column, by their rows."""
        part = self.part(column)
        own = self.rows[part]
        if not len(own):
            return np.zeros(len(rows))
        place = np.minimum(np.searchsorted(own, rows), len(own) - 1)
        values: FloatArray = np.where(own[place] == rows, self.data[part][place], 0.0)
        return values


@dataclass(frozen=True)
class NamedColumns(Mapping[str, FloatArray]):
    """Columns of a sparse matrix by name."""

    columns: SparseColumns
    places: Mapping[str, int]

    def __getitem__(self, name: str) -> FloatArray:
        return self.columns.column(self.places[name])

    def __iter__(self) -> Iterator[str]:
        return iter(self.places)

    def __len__(self) -> int:
        return len(self.places)
