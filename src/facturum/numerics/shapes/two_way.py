"""The effects of two groupings on a number, by least squares."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

FloatArray = npt.NDArray[np.float64]
IntArray = npt.NDArray[np.int64]

CLOSE = 1e-13  # of the largest deviation: how far from 0 the mean residual of a group may lie
MAX_RESTARTS = 50


def two_way_effects(first: IntArray, second: IntArray, x: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return the effects of two groupings: those by which subtracting leaves mean 0 in each group of both.

    Projecting off one grouping and then the other, in turn, converges to the least squares residual, on unbalanced
    panels too; slowly, where few units are seen in several groups. So the steps follow conjugate directions, in the
    inner product in which a round of the two projections is symmetric.

    Args:
        first, second: the group of each row, (rows,), counted from 0 without a gap.
        x: the number, (rows,).

    Returns:
        The effects of the groups of each grouping. Those of the second have mean 0 over the rows of each connected set
        of groups, so that the two are unique.

    Raises:
        ArithmeticError: where the steps do not converge.

    Source: Halperin, "The product of projection operators" (1962); Hestenes & Stiefel, "Methods of conjugate gradients
    for solving linear systems" (1952).

    Example:
        >>> a, b = two_way_effects(np.array([0, 0, 1, 1]), np.array([0, 1, 0, 1]), np.array([1.0, 3.0, 11.0, 13.0]))
        >>> a.tolist(), b.tolist()
        ([2.0, 12.0], [-1.0, 1.0])
    """
    sizes, other = np.bincount(second).astype(float), np.bincount(first).astype(float)
    centre = float(np.mean(x))
    about = x - centre
    close = CLOSE * float(np.max(np.abs(about)))

    def left(values: FloatArray) -> FloatArray:
        """Return the mean in each second group of what a projection off the first leaves."""
        rest = values - (_sums(first, values) / other)[first]
        remainder: FloatArray = _sums(second, rest) / sizes
        return remainder

    b = np.zeros(len(sizes))
    for _ in range(MAX_RESTARTS):
        residual = left(about - b[second])
        if not np.max(np.abs(residual)) > close:
            break
        b = b + _conjugate_gradients(lambda step: left(step[second]), residual, sizes, close)
    else:
        raise ArithmeticError("the projections do not converge")
    _, sets = connected_sets(first, second)
    component = np.zeros(len(sizes), dtype=np.int64)
    component[second] = sets
    b = b - (np.bincount(component, sizes * b) / np.bincount(component, sizes))[component]
    return _sums(first, about - b[second]) / other + centre, b


def _sums(codes: IntArray, values: FloatArray) -> FloatArray:
    return np.asarray(np.bincount(codes, values), dtype=float)


def _conjugate_gradients(
    apply: Callable[[FloatArray], FloatArray], residual: FloatArray, weights: FloatArray, close: float
) -> FloatArray:
    """Return the solution of ``apply(b) = residual``, symmetric in the inner product with weights."""
    solution, direction = np.zeros(len(residual)), residual
    squared = float(np.sum(weights * residual * residual))
    for _ in range(2 * len(residual) + 10):
        image = apply(direction)
        curvature = float(np.sum(weights * direction * image))
        if not curvature > 0:
            break
        solution = solution + squared / curvature * direction
        residual = residual - squared / curvature * image
        if not np.max(np.abs(residual)) > close / 4:
            break
        before, squared = squared, float(np.sum(weights * residual * residual))
        direction = residual + squared / before * direction
    return solution


def connected_sets(first: IntArray, second: IntArray) -> tuple[int, IntArray]:
    """Return how many sets of groups no row connects, and the set of each row.

    Args:
        first, second: the group of each row in either grouping, (rows,), counted from 0 without a gap.

    Example:
        >>> connected_sets(np.array([0, 0, 1, 2]), np.array([0, 1, 1, 2]))[0]
        2
    """
    from scipy import sparse  # loaded when it is needed, for commands to start at once

    left, right = int(first.max()) + 1, int(second.max()) + 1
    graph = sparse.coo_array((np.ones(len(first)), (first, second + left)), shape=(left + right, left + right))
    count, sets = sparse.csgraph.connected_components(graph, directed=False)
    return int(count), np.asarray(sets, dtype=np.int64)[first]
