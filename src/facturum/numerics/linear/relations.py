"""Linear relations among columns, exact and near ones, each told in few columns."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np
import numpy.typing as npt

from facturum.numerics.linear.triangular import ROUNDINGS, UNIT, Factor, FloatArray

NEAR = 1e-4  # of the size of a column, below which what the others leave of it makes a near relation
_NEARER = 1e-3  # the same where what others leave of columns is compared
_SURE = 6.0  # standard errors
_MANY = 24  # relations that are shortened; of more, whole groups of columns depend on others, and are told as such
_ROUNDS = 50
_NOTHING = 1e-9  # of the largest weight of a relation
Array = npt.NDArray[np.intp]


@dataclass(frozen=True)
class Relation:
    """Columns a weighted sum of which is a constant, or nearly.

    Args:
        columns: their positions, increasing.
        weights: of each, the last one being -1.
        constant: what the sum of the others, each times its weight, lacks of the last column.
        apart: the size of what is left, as a share of the spread of the last column.
        exact: whether that is no more than roundings.
    """

    columns: tuple[int, ...]
    weights: tuple[float, ...]
    constant: float
    apart: float
    exact: bool


def relations(factor: Factor, centred: bool, usable: Sequence[int]) -> list[Relation]:
    """Return all independent relations among some columns, exact and near ones.

    Columns are taken in their order. One of which the columns before it leave next to nothing is set aside, and
    expressed in those that stay; those set aside are compared among themselves in the same way. A relation is then
    shortened, as long as it holds as well, by weights that cannot be told from 0 and by other relations.

    Args:
        factor: of the columns.
        centred: whether a constant counts as one of them.
        usable: the columns looked at; constant ones must not be among them.

    Example:
        >>> age = np.array([20.0, 31.0, 45.0, 60.0])
        >>> factor = Factor.of([np.column_stack([age, 2 * age + 3])], np.zeros(2))
        >>> found = relations(factor, True, [0, 1])[0]
        >>> found.columns, np.round(found.weights, 9).tolist(), round(found.constant, 6)
        ((0, 1), [2.0, -1.0], 3.0)
    """
    if not usable or factor.rows < 2:
        return []
    with np.errstate(all="ignore"):
        table = _Columns.of(factor, centred, np.asarray(usable, dtype=np.intp))
        found = [table.told(vector) for vector in _shortened(table, list(_set_aside(table)))]
    return sorted((each for each in found if each.columns), key=lambda each: (not each.exact, each.columns[::-1]))


def independent(found: Sequence[Relation], usable: Sequence[int]) -> list[int]:
    """Return the columns that are left where one of each exact relation is taken out, the last that can be.

    Example:
        >>> independent([Relation((0, 2), (1.0, -1.0), 0.0, 0.0, True)], [0, 1, 2])
        [0, 1]
    """
    out = set(taken_out([each for each in found if each.exact]))
    return [at for at in usable if at not in out]


def taken_out(exact: Sequence[Relation]) -> list[int]:
    """Return for each of some exact relations the column that is taken out: the last that those before leave in it.

    Example:
        >>> same = [Relation((0, 2), (1.0, -1.0), 0.0, 0.0, True), Relation((1, 2), (1.0, -1.0), 0.0, 0.0, True)]
        >>> taken_out(same)
        [2, 1]
    """
    solved: list[tuple[int, FloatArray]] = []
    width = max((each.columns[-1] for each in exact), default=-1) + 1
    out: list[int] = []
    for each in exact:
        row = np.zeros(width)
        row[list(each.columns)] = each.weights
        room = _NOTHING * np.abs(row).max()
        for column, other in solved:
            row = row - row[column] * other
        left = np.flatnonzero(np.abs(row) > room)
        at = int(left[-1]) if len(left) else each.columns[-1]
        if len(left):
            solved.append((at, row / row[at]))
        out.append(at)
    return out


@dataclass(frozen=True)
class _Columns:
    """Columns scaled to length 1 in the coordinates of a factor.

    Args:
        scaled: doubles (coordinates, columns).
        noise: of each column, the size of its roundings.
        length: of each before it was scaled.
    """

    factor: Factor
    centred: bool
    usable: Array
    scaled: FloatArray
    noise: FloatArray
    length: FloatArray

    @classmethod
    def of(cls, factor: Factor, centred: bool, usable: Array) -> _Columns:
        matrix = (factor.centred if centred else factor.raw)[:, usable]
        length = np.sqrt(np.add.reduce(np.square(matrix), axis=0))
        length = np.where(length > 0, length, 1.0)
        noise = ROUNDINGS * UNIT * np.maximum(factor.size[usable] / length, 1.0)
        return cls(factor, centred, usable, matrix / length, noise, length)

    def left(self, vector: FloatArray) -> float:
        """Return the size of a weighted sum of the scaled columns."""
        return float(np.linalg.norm(self.scaled @ vector))

    def roundings(self, vector: FloatArray) -> float:
        """Return how large a weighted sum may be by roundings alone."""
        return float(np.abs(vector) @ self.noise)

    def told(self, vector: FloatArray) -> Relation:
        """Return a relation in the units of the columns."""
        at = np.flatnonzero(vector)
        if not len(at):
            return Relation((), (), 0.0, 0.0, True)
        raw = vector[at] / self.length[at]
        weights = -raw / raw[-1]
        columns = self.usable[at]
        constant = -float(weights @ self.factor.mean[columns]) if self.centred else 0.0
        left = self.left(vector) / abs(vector[at[-1]])
        exact = left <= self.roundings(vector) / abs(vector[at[-1]])
        doubt = 0.0 if exact else 3 * left * self.length[at[-1]] / np.sqrt(self.factor.rows)
        constant = 0.0 if abs(constant) <= doubt else constant
        return Relation(tuple(columns.tolist()), tuple(weights.tolist()), constant, left, exact)


@dataclass(frozen=True)
class _Found:
    """A weighted sum of scaled columns that is nothing or nearly so, and how surely each weight is known."""

    vector: FloatArray
    left: float
    exact: bool


def _basis(matrix: FloatArray, near: float) -> tuple[list[int], list[int], FloatArray]:
    """Return which columns, taken in order, are independent, which are not, and an orthonormal basis of the former."""
    height, width = matrix.shape
    basis = np.empty((height, min(height, width) + 1))
    kept: list[int] = []
    aside: list[int] = []
    for at in range(width):
        column = matrix[:, at].copy()
        for _ in range(2):  # twice is enough (Giraud, Langou & Rozloznik, 2005)
            own = basis[:, : len(kept)]
            column -= own @ (own.T @ column)
        size = float(np.linalg.norm(column))
        if size <= near or len(kept) >= height:
            aside.append(at)
        else:
            basis[:, len(kept)] = column / size
            kept.append(at)
    return kept, aside, basis[:, : len(kept)]


def _set_aside(table: _Columns) -> Iterator[_Found]:
    """Yield a relation for each column that those before it determine, or nearly."""
    matrix = table.scaled
    kept, aside, basis = _basis(matrix, NEAR)
    if not aside:
        return
    triangle = basis.T @ matrix[:, kept]
    vectors = np.zeros((matrix.shape[1], len(aside)))
    if kept:
        vectors[kept] = np.linalg.solve(triangle, basis.T @ matrix[:, aside])
    vectors[aside, range(len(aside))] = -1.0
    rest = matrix[:, aside] - basis @ (basis.T @ matrix[:, aside])
    rest -= basis @ (basis.T @ rest)
    yield from _among(table, vectors, rest)


def _among(table: _Columns, vectors: FloatArray, rest: FloatArray) -> Iterator[_Found]:
    """Yield relations of columns set aside, which may determine one another by what the others leave of them.

    Args:
        vectors: their relations, one a column.
        rest: what these leave.
    """
    sizes = np.sqrt(np.add.reduce(np.square(rest), axis=0))
    roundings = np.abs(vectors).T @ table.noise
    exact = sizes <= roundings
    for at in np.flatnonzero(exact):
        yield _Found(vectors[:, at], float(sizes[at]), True)
    near = np.flatnonzero(~exact)
    if not len(near):
        return
    scaled = rest[:, near] / sizes[near]
    kept, aside, basis = _basis(scaled, _NEARER)
    for at in near[kept]:
        yield _Found(vectors[:, at], float(sizes[at]), False)
    if aside:
        inner = np.linalg.solve(basis.T @ scaled[:, kept], basis.T @ scaled[:, aside])
        deeper = vectors[:, near[aside]] / sizes[near[aside]] - (vectors[:, near[kept]] / sizes[near[kept]]) @ inner
        left = scaled[:, aside] - basis @ (basis.T @ scaled[:, aside])
        scale = np.abs(deeper).max(axis=0)
        yield from _among(table, deeper / scale, left / scale)


def _shortened(table: _Columns, found: Sequence[_Found]) -> list[FloatArray]:
    """Return relations with as few columns as can be found."""
    if len(found) > _MANY:
        return [each.vector for each in found]
    short = [_fitted(table, each) for each in found]
    for _ in range(_ROUNDS):
        if not any(_exchange(table, short, a, b) for a, b in combinations(range(len(short)), 2)):
            break
    return [each.vector for each in short]


def _fitted(table: _Columns, found: _Found) -> _Found:
    """Return a relation without the columns whose weights cannot be told from 0, the others fitted again.

    All of these are left out at once; where the rest do not hold without them, as of two that are nearly alike, the
    least certain alone.
    """
    at = _fit(table, np.flatnonzero(found.vector), found.vector)
    if at is None:
        return found
    while at.doubtful.any():
        worst = np.arange(len(at.doubtful)) == np.argmax(at.doubt)
        for leave in (at.doubtful, worst):
            fewer = _fit(table, at.support[~leave], at.vector)
            if fewer is not None and fewer.left <= max(at.allowed, table.roundings(fewer.vector)):
                at = fewer
                break
        else:
            break
    return replace(found, vector=at.vector, left=at.left)


@dataclass(frozen=True)
class _Fit:
    """A relation fitted to some columns.

    Args:
        vector: its weights, -1 of the column fitted.
        support: the columns.
        left: what it leaves.
        allowed: how much fewer columns may leave.
        doubt: of each of the columns, the error of its weight as a multiple of it.
    """

    vector: FloatArray
    support: Array
    left: float
    allowed: float
    doubt: FloatArray

    @property
    def doubtful(self) -> npt.NDArray[np.bool_]:
        """Which columns have weights that cannot be told from 0."""
        return self.doubt > 1


def _fit(table: _Columns, support: Array, guess: FloatArray) -> _Fit | None:
    """Return the relation of one column to others, the one with the largest weight so far; None where there is none."""
    if len(support) < 2:
        return None
    last = support[np.argmax(np.abs(guess[support]))]
    others = support[support != last]
    orthogonal, triangle = np.linalg.qr(table.scaled[:, others])
    if np.abs(np.diagonal(triangle)).min() < 1e-13:
        return None
    weights = np.linalg.solve(triangle, orthogonal.T @ table.scaled[:, last])  # an inverse would cost digits
    vector = np.zeros_like(guess)
    vector[others], vector[last] = weights, -1.0
    left = table.left(vector)
    free = max(table.factor.rows - len(others) - 1, 1)
    error = max(_SURE * left / np.sqrt(free), table.roundings(vector))
    inflation = np.sqrt(np.add.reduce(np.square(np.linalg.inv(triangle)), axis=1))
    doubt = np.zeros(len(support))
    doubt[support != last] = error * inflation / np.maximum(np.abs(weights), 1e-300)
    allowed = 1.5 * left * np.sqrt(table.factor.rows / free)  # fewer columns leave more, by chance
    return _Fit(vector, support, left, allowed, doubt)


def _exchange(table: _Columns, short: list[_Found], first: int, second: int) -> bool:
    """Replace the longer of two relations where a combination of both that lacks a shared column is shorter."""
    a, b = short[first], short[second]
    for at in np.flatnonzero((a.vector != 0) & (b.vector != 0)):
        vector = a.vector - (a.vector[at] / b.vector[at]) * b.vector
        vector[at] = 0.0
        small = 1e-7 * (np.abs(a.vector) + abs(a.vector[at] / b.vector[at]) * np.abs(b.vector))
        vector[np.abs(vector) <= small] = 0.0
        size = np.count_nonzero(vector)
        longer, which = max((np.count_nonzero(a.vector), first), (np.count_nonzero(b.vector), second))
        if not 1 < size < longer:
            continue
        vector /= np.abs(vector).max()
        left = table.left(vector)
        exact = left <= table.roundings(vector)
        sharp = short[which].left / np.abs(short[which].vector).max()
        if left <= max(4 * sharp, table.roundings(vector)) and exact == short[which].exact:
            short[which] = _fitted(table, _Found(vector, left, exact))
            return True
    return False
