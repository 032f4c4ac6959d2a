"""Blocks of columns for some rows, and their products, all pairs of columns, without touching the zeros."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias

import numpy as np

from facturum.data.values import Array


@dataclass(frozen=True, slots=True)
class Dense:
    """Columns of a block for some rows, each an array of doubles."""

    columns: tuple[Array, ...]

    @property
    def width(self) -> int:
        return len(self.columns)


@dataclass(frozen=True, slots=True)
class Scattered:
    """Columns of a block of which a row has few that are not zero.

    Args:
        base: for each row, the column that its first value belongs to; negative where all its columns are zero.
        offsets: how far each layer's column lies from the base.
        layers: for each layer the values of all rows, or None where they are all one.
        width: columns.
    """

    base: Array
    offsets: tuple[int, ...]
    layers: tuple[Array | None, ...]
    width: int


Block: TypeAlias = Dense | Scattered


def product(left: Block, right: Block) -> Block:
    """Return all pairwise products, the columns of the left varying slowest.

    Example:
        >>> block = product(Dense((np.array([2.0]), np.array([3.0]))), Dense((np.array([5.0]),)))
        >>> [float(column[0]) for column in block.columns]
        [10.0, 15.0]
    """
    if isinstance(left, Dense):
        if isinstance(right, Dense):
            return Dense(tuple(np.multiply(a, b) for a in left.columns for b in right.columns))
        offsets = tuple(j * right.width + b for j in range(left.width) for b in right.offsets)
        layers = tuple(_times(a, b) for a in left.columns for b in right.layers)
        return Scattered(right.base, offsets, layers, left.width * right.width)
    if isinstance(right, Scattered):
        base = _spread(left.base, right.width, left.width * right.width) + right.base
        base[(left.base < 0) | (right.base < 0)] = -1
        offsets = tuple(a * right.width + b for a in left.offsets for b in right.offsets)
        layers = tuple(_times(a, b) for a in left.layers for b in right.layers)
        return Scattered(base, offsets, layers, left.width * right.width)
    base = _spread(left.base, right.width, left.width * right.width)
    offsets = tuple(a * right.width + j for a in left.offsets for j in range(right.width))
    layers = tuple(_times(a, b) for a in left.layers for b in right.columns)
    return Scattered(base, offsets, layers, left.width * right.width)


def _spread(base: Array, each: int, width: int) -> Array:
    """Return the first column of each row where every column becomes several, in a type that holds the last one.

    Example:
        >>> _spread(np.array([100, -1], dtype=np.int8), 12, 1320).tolist()
        [1200, -12]
    """
    if each == 1:
        return base
    wide_enough = np.result_type(np.min_scalar_type(-width - each), base.dtype if base.dtype.kind == "i" else np.int64)
    return np.multiply(base, each, dtype=wide_enough)


def _times(a: Array | None, b: Array | None) -> Array | None:
    if a is None:
        return b
    return a if b is None else np.multiply(a, b)
