"""Proving claims: rows are built again with other values in the source, and the columns that move are looked at."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from facturum.audit.counterfactual.probes import Probes, Tried, changes_to
from facturum.audit.readings.claims import ColumnGroup
from facturum.audit.readings.comparisons import (
    EXACT,
    Axis,
    Movement,
    Scheme,
    average,
    bends,
    compared,
    differences,
    largest,
    nth_hit,
    slopes_where,
    summed,
    telling,
)
from facturum.data.values import Array, FloatArray
from facturum.engine.blocks.windows import Change
from facturum.language.meanings.meaning import Factor
from facturum.language.tree.nodes import Node

CELLS = 200_000  # of the matrix that the worlds of one group have, for as many rows as fit
MOST = 10_000_000  # of these for one row, above which nothing is proved
MOST_SPANNING = 200  # columns that read a variable, among which a factor is looked for
SPANNED = 1e-7
FEW = 8  # values that are each reached in several ways
MOST_WAYS = 24
FEW_WAYS = 3  # in products
KEPT = 8  # matrices, which further groups of the same factors use


class Prover:
    """Builds the worlds in which columns are compared.

    Args:
        probes: rows, and other values for them.
    """

    def __init__(self, probes: Probes) -> None:
        self._probes = probes
        self._matrices: dict[object, tuple[FloatArray, FloatArray, list[Axis]]] = {}  # an axis is known by its identity
        self._zeros: dict[tuple[Node, float], Tried | None] = {}

    def variables(self, nodes: Sequence[Node]) -> list[set[str]]:
        """Return the variables that move each expression."""
        return [{*self._probes.reads.moving(node)} for node in nodes]

    def movements(self, group: ColumnGroup, zero: Sequence[Factor] = ()) -> tuple[Array, list[Movement]] | None:
        """Return how columns move where the factors of a group are compared; None where they cannot be.

        Args:
            group: the columns.
            zero: factors that are 0, or 0 on average, in the rows compared.

        Returns:
            The positions of the columns that can move, and the movement for each column of the group.
        """
        factors = group.factors[0]
        owners = self.variables([*group.nodes, *(f.node for f in zero if f.node is not None)])
        if len(group.nodes) < len(factors) or any(a & b for at, a in enumerate(owners) for b in owners[:at]):
            return None
        axes = [self._axis(group, at) for at in range(len(factors))]
        still = [self._at_zero(factor) for factor in zero]
        if any(axis is None for axis in [*axes, *still]):
            return None
        whole = [axis for axis in [*axes, *still] if axis is not None]
        terms = self._probes.worlds.reading([name for each in owners[: len(factors)] for name in sorted(each)])
        positions = self._probes.worlds.positions(terms)
        if group.columns[0] not in positions:  # it reads nothing that could be changed
            return None
        shape = [axis.point.shape[1] for axis in whole]
        each = int(np.prod(shape)) * len(positions)
        if each > MOST:
            return None
        count = min(min(axis.point.shape[0] for axis in whole), max(1, CELLS // max(each, 1)))
        key = (len(factors), *(axis.key for axis in whole))
        if key not in self._matrices:
            matrix = self._worlds(whole, count, terms)
            if len(self._matrices) >= KEPT:
                self._matrices.pop(next(iter(self._matrices)))
            self._matrices[key] = matrix, largest(matrix), whole
        matrix, size, _ = self._matrices[key]
        movements = []
        for own, of, multiple in zip(group.columns, group.factors, group.multiples, strict=True):
            at = int(np.flatnonzero(positions == own)[0])
            if len(whole) == 1 and whole[0].tried is not None:
                movements.append(differences(matrix, of[0], whole[0].tried, at, multiple, size))
                continue
            pairs = zip(of, whole, strict=False)  # further axes are of what stays as it is
            schemes = [list(self._schemes(factor, axis)) for factor, axis in pairs]
            schemes += [[average(axis)] for axis in still if axis is not None]
            movements.append(compared(matrix, schemes, at, multiple, size, count))
        return positions, movements

    def moving(self, variables: Sequence[str], slightly: bool = False) -> Array:
        """Return the positions of the columns that move with some variables.

        Args:
            variables: which are changed.
            slightly: whether by small changes alone; otherwise by any.
        """
        worlds = self._probes.worlds
        moving: set[int] = set()
        for variable in variables:
            candidates, small = self._probes.anywhere(variable)
            terms = worlds.reading([variable])
            positions, shape = worlds.positions(terms), len(candidates)
            count = min(worlds.count, max(1, CELLS // max(shape * len(positions), 1)))
            matrix = self._worlds([Axis.of_each(candidates, count)], count, terms)
            chosen = small if slightly else np.ones(shape, dtype=bool)
            with np.errstate(all="ignore"):
                moves = (np.abs(matrix[:, chosen] - matrix[:, :1]) > EXACT * largest(matrix)).any(axis=(0, 1))
            moving.update(positions[moves].tolist())
        return np.array(sorted(moving), dtype=np.int64)

    def filled(self, group: ColumnGroup, others: Sequence[Node]) -> str | None:
        """Return the imputed value beside which a flag tells the whole difference; None where there is none.

        Args:
            group: the flag.
            others: what else moves with it, each expression where it is imputed.

        Returns:
            The value as text, "" where it differs between rows.
        """
        node, worlds = group.nodes[0], self._probes.worlds
        reads = self._probes.reads.moving(node)
        if len(reads) != 1 or not others:
            return None
        tried = self._probes.tried(node)
        gone = next((each for each in tried.candidates if each is not None and not each.present.any()), None)
        if gone is None:
            return None
        rows = np.arange(worlds.count)
        every = np.ones(len(rows), dtype=bool)
        absent = [Change(gone.variable, gone.values, gone.present, every, gone.when)]
        fills = [worlds.values(rows, absent, other) for other in others]
        if not all(np.array_equal(fills[0], fill, equal_nan=True) for fill in fills) or np.isnan(fills[0]).all():
            return None
        given = [Change(gone.variable, fills[0], np.isfinite(fills[0]), every, gone.when)]
        terms = worlds.reading([gone.variable])
        positions = worlds.positions(terms)
        before, after = worlds.columns(rows, given, terms), worlds.columns(rows, absent, terms)
        fine = np.isfinite(before).all(axis=1) & np.isfinite(after).all(axis=1)
        own = positions == group.columns[0]
        change = (after - before)[fine]
        alike = np.abs(change[:, ~own]) <= EXACT * np.abs(after[fine][:, ~own])
        if not fine.any() or not alike.all() or not np.allclose(change[:, own], group.multiples[0]):
            return None
        values = np.unique(fills[0][np.isfinite(fills[0])])
        return f"{values[0]:.6g}" if len(values) == 1 else ""

    def together_zero(self, factors: Sequence[Factor]) -> bool:
        """Return whether a row can be in which all of some factors are 0, and all columns with them."""
        worlds, taken, changes = self._probes.worlds, set[str](), list[Change]()
        rows = np.arange(worlds.count)
        possible = np.ones(len(rows), dtype=bool)
        for factor in factors:
            variables = {*self._probes.reads.of(factor.node)} if factor.node is not None else set()
            if variables <= taken:
                continue
            axis = self._at_zero(factor)
            if axis is None or variables & taken:
                return False
            taken |= variables
            point = axis.point[: len(rows), 0]
            rows, possible = rows[: len(point)], possible[: len(point)] & (point >= 0)
            changes = [change.of(rows) for change in changes]
            changes += changes_to(axis.candidates, rows, np.maximum(point, 0))
        columns = worlds.columns(rows, changes, worlds.reading(sorted(taken)))
        return bool((possible & (columns == 0).all(axis=1)).any())

    def spans(self, factor: Factor) -> bool:
        """Return whether the columns of the plan span a factor of one of them, whatever rows there are."""
        if factor.node is None:
            return True
        worlds, tried = self._probes.worlds, self._probes.tried(factor.node)
        terms = worlds.reading([*self._probes.reads.of(factor.node)])
        positions, shape = worlds.positions(terms), tried.worth.shape[1]
        count = min(len(tried.worth), max(2, CELLS // max(shape * len(positions), 1)))
        if 2 * len(positions) > count * shape or len(positions) > MOST_SPANNING:
            return True
        worlds_of = self._worlds([Axis.of_each(tried.candidates, count)], count, terms)
        matrix, worth = worlds_of.reshape(-1, len(positions)), tried.worth[:count].ravel()
        fine = np.isfinite(matrix).all(axis=1) & np.isfinite(worth)
        if not fine.any():
            return True
        values = factor.worth(worth[fine])
        targets = [values] if not factor.stepwise else [worth[fine] == value for value, _ in factor.compared]
        size = np.abs(matrix[fine]).max(axis=0, initial=0.0)
        basis = np.column_stack([np.ones(int(fine.sum())), matrix[fine] / np.where(size > 0, size, 1.0)])
        wanted = np.column_stack([np.asarray(target, dtype=np.float64) for target in targets])
        wanted = wanted / max(float(np.abs(wanted).max(initial=0.0)), 1e-300)
        solved, *_ = np.linalg.lstsq(basis, wanted, rcond=None)
        return bool(np.abs(basis @ solved - wanted).max(initial=0.0) < SPANNED)

    def parallel(self, group: ColumnGroup) -> tuple[Array, list[Movement]] | None:
        """Return how columns move along a number in some rows less how they do in others, of factors of one variable.

        A trend and a season are both made of the time; where rows stay in their season, the slope of the trend is seen.
        """
        numbers = [at for at, factor in enumerate(group.factors[0]) if not factor.stepwise]
        owners = self.variables(group.nodes)
        if len(numbers) != 1 or len(group.factors[0]) != 2 or owners[0] != owners[1] or len(owners[0]) != 1:
            return None
        number, step = group.factors[0][numbers[0]], 1 - numbers[0]
        along, held = (self._probes.tried(group.nodes[at]) for at in (numbers[0], step))
        if number.power or number.unitless or len(along.candidates) != len(held.candidates):
            return None
        terms = self._probes.worlds.reading(sorted(owners[0]))
        positions, (count, shape) = self._probes.worlds.positions(terms), along.worth.shape
        if count * shape * len(positions) > MOST:
            return None
        matrix = self._worlds([Axis.of_each(along.candidates, count)], count, terms)
        worth = np.where(np.isfinite(matrix).all(axis=2), number.worth(along.worth), np.nan)
        movements = []
        for own, factors, multiple in zip(group.columns, group.factors, group.multiples, strict=True):
            sides = [slopes_where(matrix, worth, held.worth == value) for value, _ in factors[step].compared]
            weights = [weight for _, weight in factors[step].compared]
            if len(sides) != 2 or any(not len(side) for side in sides):
                return None
            most = min(len(side) for side in sides)
            total = np.sum([weight * side[:most] for weight, side in zip(weights, sides, strict=True)], axis=0)
            spread = np.sum([np.ptp(side, axis=0) for side in sides], axis=0)
            at = int(np.flatnonzero(positions == own)[0])
            others = np.abs(total) + spread
            others[:, at] = 0.0
            size = np.array([np.abs(side).max(axis=0) for side in sides]).max(axis=0) * 1e3
            wanted = np.full(most, multiple)
            movements.append(Movement(others, total[:, at], wanted, np.zeros(most, dtype=bool), size))
        return positions, movements

    def _worlds(self, axes: Sequence[Axis], count: int, terms: Sequence[str]) -> FloatArray:
        """Return the columns of terms in all combinations of points, shaped (rows, points of each axis, columns)."""
        shape = [axis.point.shape[1] for axis in axes]
        grid = np.indices((count, *shape)).reshape(len(shape) + 1, -1)
        rows = grid[0]
        changes: list[Change] = []
        impossible = np.zeros(len(rows), dtype=bool)
        for axis, places in zip(axes, grid[1:], strict=True):
            point = axis.point[rows, places]
            impossible |= point < 0
            changes += changes_to(axis.candidates, rows, point)
        columns = np.full((len(rows), len(self._probes.worlds.positions(terms))), np.nan)
        possible = np.flatnonzero(~impossible)
        if len(possible):
            made = [change.of(possible) for change in changes]
            columns[possible] = self._probes.worlds.columns(rows[possible], made, terms)
        return columns.reshape(count, *shape, columns.shape[1])

    def _axis(self, group: ColumnGroup, at: int) -> Axis | None:
        factor = group.factors[0][at]
        if factor.node is None:
            return None
        if factor.stepwise:
            values = sorted({value for factors in group.factors for value, _ in factors[at].compared})
            return (
                self._reaching(factor.node, tuple(values), MOST_WAYS if len(group.factors[0]) == 1 else FEW_WAYS)
                if values
                else None
            )
        if factor.bends:
            return self._around(factor)
        tried = self._probes.tried(factor.node)
        points = np.arange(tried.worth.shape[1])
        if len(group.factors[0]) > 1:
            points = np.concatenate([[0], telling(tried, len(group.factors[0]))])
        return Axis(tried.candidates, np.tile(points, (len(tried.worth), 1)), (), tried)

    def _reaching(self, node: Node, values: tuple[float, ...], several: int = 1) -> Axis:
        """Return the axis whose points are changes that set an expression to some values.

        Args:
            node: the expression.
            values: what it is set to.
            several: in how many ways, where there are as many.
        """
        tried = self._probes.tried(node)
        hits = [tried.worth == value for value in values]
        ways = 1 if len(values) > FEW else min(several, max(int(hit.sum(axis=1).max(initial=1)) for hit in hits))
        points = [nth_hit(hit, way, ways) for way in range(max(ways, 1)) for hit in hits]
        return Axis(tried.candidates, np.column_stack(points), values)

    def _around(self, power: Factor) -> Axis | None:
        """Return the axis of three points around where a power is 0, or around the row itself."""
        assert power.node is not None
        own = self._probes.tried(power.node)
        spread = float(np.nanmax(own.worth) - np.nanmin(own.worth)) if np.isfinite(own.worth).any() else 0.0
        middle = own.worth[:, :1] if power.curve_degree > 1 else np.full((1, 1), power.zero or 0.0)
        step = 1.0 if self._probes.in_steps(power.node) else spread / (1024 if power.curve_degree == 1 else 64)
        if not step or (power.curve_degree > 1 and not power.square):
            return None
        points = middle + step * np.array([-1.0, 0.0, 1.0])
        tried = self._probes.set_to(power.node, points)
        return (
            None if tried is None else Axis(tried.candidates, np.tile(np.arange(1, 4), (len(tried.worth), 1)), (step,))
        )

    def _at_zero(self, factor: Factor) -> Axis | None:
        if factor.node is None:
            return None
        if factor.averaged:
            return self._reaching(factor.node, tuple(float(place) for place in range(factor.averaged)))
        if factor.zero is None:
            return None
        axis = self._reaching(factor.node, (factor.zero,))
        if (axis.point >= 0).any():
            return axis
        key = (factor.node, factor.zero)
        if key not in self._zeros:
            self._zeros[key] = self._probes.set_to(factor.node, np.array([factor.zero]))
        tried = self._zeros[key]
        return (
            None
            if tried is None
            else Axis(tried.candidates, np.where(np.isnan(tried.worth[:, 1:]), -1, 1), (factor.zero,))
        )

    def _schemes(self, factor: Factor, axis: Axis) -> Iterator[Scheme]:
        """Yield the comparisons that one unit of a factor is told by."""
        rows = len(axis.point)
        if factor.stepwise:
            numbers = axis.numbers
            if factor.compared and all(value in numbers for value, _ in factor.compared):
                for first in range(0, axis.point.shape[1], len(axis.values)):
                    weights = [(first + numbers[value], weight) for value, weight in factor.compared]
                    yield Scheme(summed(weights), np.ones(rows))
            return
        if factor.bends:
            yield from bends(factor, axis)
            return
        if axis.tried is None:
            return
        worth = factor.worth(axis.tried.worth)
        for number in range(1, axis.point.shape[1]):
            at = axis.point[:, number]
            differs = worth[np.arange(rows), at] - worth[:, 0]
            if (np.nan_to_num(differs) != 0).any():
                expected = np.where(differs != 0, differs, np.nan)
                yield Scheme(((number, 1.0), (0, -1.0)), expected, bool(axis.tried.small[at[0]]))
