"""Comparisons of worlds: along which axes they differ, with which weights, and how columns move from one to another."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property, reduce
from itertools import product
from typing import Any

import numpy as np

from facturum.audit.counterfactual.probes import Candidate, Tried
from facturum.data.values import Array, FloatArray, Mask
from facturum.language.meanings.meaning import Factor

EXACT = 1e-9  # of the largest value of a column: what is less has not moved
FOLLOWS = 1e-6  # of the movement claimed
SEVERAL = {2: 24, 3: 5}  # changes of each number in a product of so many; 3 of more


@dataclass(frozen=True)
class Axis:
    """One factor along which worlds differ.

    Args:
        candidates: changes of what its expression reads.
        point: for each row and each point of the axis the change that leads there, -1 for none (rows, points).
        values: what the expression is at each point, where all rows have the same there.
        tried: what it is with each change.
    """

    candidates: tuple[Candidate | None, ...]
    point: Array
    values: tuple[float, ...] = ()
    tried: Tried | None = None

    @classmethod
    def of_each(cls, candidates: tuple[Candidate | None, ...], count: int) -> Axis:
        """Return the axis whose points are all changes, in the order in which they stand, for each of some rows."""
        return cls(candidates, np.tile(np.arange(len(candidates)), (count, 1)))

    @cached_property
    def numbers(self) -> dict[float, int]:
        """The number of the point at which the expression has each value."""
        return {value: at for at, value in enumerate(self.values)}

    @property
    def key(self) -> tuple[object, ...]:
        """What axes of the same worlds have in common."""
        return id(self.candidates), self.values, self.point.shape


@dataclass(frozen=True)
class Scheme:
    """A comparison along an axis: points with their weights, and what the factor differs by.

    Args:
        weights: by the number of the point.
        expected: for each row; NaN where the comparison cannot be made.
        small: whether the change is a small one.
    """

    weights: tuple[tuple[int, float], ...]
    expected: FloatArray
    small: bool = False


@dataclass(frozen=True)
class Movement:
    """How the columns of a matrix move where the factors of one are compared.

    Args:
        moved: by how much each of the other columns moves (comparisons, columns).
        own: what the column itself moves by.
        expected: what it should move by, its multiple included.
        small: which comparisons are of small changes.
        size: the largest absolute value of each column in these worlds.
    """

    moved: FloatArray
    own: FloatArray
    expected: FloatArray
    small: Mask
    size: FloatArray

    @classmethod
    def of(cls, whole: FloatArray, own: int, expected: FloatArray, small: Mask, size: FloatArray) -> Movement:
        """Return those comparisons of all columns that can be made.

        Args:
            whole: by how much each column moves (comparisons, columns).
            own: the place of the column itself among them.
            expected: what it should move by.
            small: which comparisons are of small changes.
            size: the largest absolute value of each column in these worlds.
        """
        fine = np.isfinite(whole).all(axis=1) & np.isfinite(expected)
        others = whole[fine]
        moved = others[:, own].copy()
        others[:, own] = 0.0
        return cls(others, moved, expected[fine], small[fine], size)

    @property
    def holds(self) -> bool:
        """Whether the column moves as it should, in one comparison at least and in all."""
        if not len(self.own) or not (np.abs(self.expected) > 0).any():
            return False
        room = FOLLOWS * np.abs(self.expected) + EXACT * max(float(np.max(np.abs(self.own), initial=0.0)), 1e-300) * 1e3
        return bool((np.abs(self.own - self.expected) <= room).all())

    @property
    def which(self) -> Mask:
        """Which columns move in which comparisons (comparisons, columns)."""
        mask: Mask = np.abs(self.moved) > EXACT * self.size
        return mask

    def only(self, chosen: Mask) -> Movement:
        """Return some of the comparisons."""
        return Movement(self.moved[chosen], self.own[chosen], self.expected[chosen], self.small[chosen], self.size)


def largest(matrix: FloatArray) -> FloatArray:
    """Return the largest absolute value of each column, the last axis of a matrix."""
    with np.errstate(all="ignore"):
        size: FloatArray = np.nanmax(np.abs(matrix), axis=tuple(range(matrix.ndim - 1)), initial=0.0)
    return size


def slopes_where(matrix: FloatArray, worth: FloatArray, held: Mask) -> FloatArray:
    """Return the slopes of columns along a number, between worlds of a row in which a condition holds.

    Args:
        matrix: the columns (rows, worlds, columns).
        worth: the number in each world (rows, worlds).
        held: in which of them the condition holds.
    """
    found = []
    for columns, values, chosen in zip(matrix, worth, held & np.isfinite(worth), strict=True):
        at = np.flatnonzero(chosen)
        differs = values[at] - values[at[:1]] if len(at) else values[at]
        if (differs != 0).any():
            rest = at[differs != 0]
            found.append((columns[rest] - columns[at[0]]) / differs[differs != 0][:, None])
    return np.concatenate(found) if found else np.zeros((0, matrix.shape[2]))


def telling(tried: Tried, factors: int) -> Array:
    """Return changes that most rows can make, and that differ: fewer in products of many factors."""
    with np.errstate(all="ignore"):
        differs = np.isfinite(tried.worth) & (tried.worth != tried.worth[:, :1])
    able = np.flatnonzero(differs.sum(axis=0) * 2 >= max(differs.sum(axis=0).max(initial=0), 1))
    return able[np.unique(np.linspace(0, len(able) - 1, SEVERAL.get(factors, 3)).astype(int))] if len(able) else able


def nth_hit(hit: Mask, way: int, ways: int) -> Array:
    """Return for each row the place of one of several hits, from the first to the last; -1 where there is none.

    Example:
        >>> nth_hit(np.array([[False, True, True, True], [False, False, False, False]]), 1, 3).tolist()
        [2, -1]
    """
    count = hit.sum(axis=1)
    wanted = 1 + (way * np.maximum(count - 1, 0)) // max(ways - 1, 1)
    found = (np.cumsum(hit, axis=1) == wanted[:, None]) & hit
    return np.where(count > 0, found.argmax(axis=1), -1)


def average(axis: Axis) -> Scheme:
    """Return the comparison that takes all points of an axis with one weight."""
    count = axis.point.shape[1]
    return Scheme(tuple((number, 1.0 / count) for number in range(count)), np.ones(len(axis.point)))


def bends(power: Factor, axis: Axis) -> Iterator[Scheme]:
    """Yield how a power is told: by the slope where it is 0, or by how that changes with one unit."""
    rows, per_step = len(axis.point), 1 / axis.values[0]
    twice = per_step * per_step  # which a number in tiny units exceeds, and then nothing is told of it
    if power.curve_degree == 1 and np.isfinite(per_step):
        yield Scheme(((2, 0.5 * per_step), (0, -0.5 * per_step)), np.ones(rows))
    elif power.curve_degree != 1 and np.isfinite(twice):
        yield Scheme(((2, twice), (1, -2 * twice), (0, twice)), np.full(rows, 2.0))


def summed(weights: Sequence[tuple[int, float]]) -> tuple[tuple[int, float], ...]:
    total: dict[int, float] = {}
    for number, weight in weights:
        total[number] = total.get(number, 0.0) + weight
    return tuple(total.items())


def compared(
    matrix: FloatArray, schemes: Sequence[Sequence[Scheme]], own: int, multiple: float, size: FloatArray, count: int
) -> Movement:
    """Return the movement of all columns in all comparisons, one for each row and each choice of schemes."""
    moved, expected, small = [], [], []
    for chosen in product(*schemes):
        total: FloatArray | float = 0.0
        for points in product(*(scheme.weights for scheme in chosen)):
            weight = math.prod(each[1] for each in points)
            places: tuple[Any, ...] = tuple(each[0] for each in points)
            total = total + weight * matrix[(slice(None), *places)]
        moved.append(np.asarray(total))
        expected.append(multiple * reduce(np.multiply, [scheme.expected[:count] for scheme in chosen]))
        small.append(np.full(count, any(scheme.small for scheme in chosen)))
    if not moved:
        nothing = np.zeros(0)
        return Movement(np.zeros((0, matrix.shape[-1])), nothing, nothing, np.zeros(0, dtype=bool), size)
    return Movement.of(np.concatenate(moved), own, np.concatenate(expected), np.concatenate(small), size)


def differences(
    matrix: FloatArray, factor: Factor, tried: Tried, own: int, multiple: float, size: FloatArray
) -> Movement:
    """Return the movement of all columns from each row as it is to each change of a number."""
    count = len(matrix)
    worth = factor.worth(tried.worth[:count])
    expected = (multiple * (worth[:, 1:] - worth[:, :1])).ravel()
    whole = (matrix[:, 1:] - matrix[:, :1]).reshape(len(expected), -1)
    differs = expected != 0
    return Movement.of(whole[differs], own, expected[differs], np.tile(tried.small[1:], count)[differs], size)
