"""Numbers brought to a grid, what is left beside it, and signs."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar

import numpy as np

from facturum.data.values import FloatArray
from facturum.language.core.literals import Number
from facturum.language.operations.numbers.transforms import Elementwise
from facturum.language.tree.nodes import Node
from facturum.language.tree.options import POSITIVE, argument, option
from facturum.language.tree.registry import operation


class ToGrid(Elementwise):
    """A number brought to a multiple of a step; multiples of 0.1 and the like are those that are written so."""

    to: float

    def steps(self, x: FloatArray, which: Callable[[FloatArray], FloatArray]) -> FloatArray:
        """Return multiples of the step; ``which`` chooses one by how many steps a number is away from 0."""
        per_one = np.rint(np.divide(1.0, self.to)) if self.to < 1 else np.inf
        if np.isfinite(per_one) and 1 / per_one == self.to:
            return np.divide(which(np.multiply(x, per_one)), per_one)
        return np.multiply(which(np.divide(x, float(self.to))), float(self.to))

    def slope(self) -> Node:
        return Number(0)  # wherever it does not jump


@operation
class Rounded(ToGrid):
    """The nearest multiple of `to`; a number halfway between two becomes the one further from 0.

    Example: `rounded(price)`, `rounded(altitude, to=100)`, `rounded(share, to=0.05)`.
    """

    x: Node = argument("a number")
    to: float = option(POSITIVE, "the step", default=1)

    def compute(self, x: FloatArray) -> FloatArray:
        return self.steps(x, lambda away: np.copysign(np.floor(np.add(np.abs(away), 0.5)), away))


@operation
class FloorTo(ToGrid):
    """The largest multiple of `to` that is not above the number.

    Example: `floor_to(year, to=10)`.
    """

    x: Node = argument("a number")
    to: float = option(POSITIVE, "the step", default=1)

    def compute(self, x: FloatArray) -> FloatArray:
        return self.steps(x, np.floor)


@operation
class Remainder(Elementwise):
    """What is left beyond the largest multiple of `by` that is not above the number; from 0 to below `by`.

    Example: `remainder(day, 7)`.
    """

    x: Node = argument("a number")
    by: float = option(POSITIVE, "the divisor")

    def compute(self, x: FloatArray) -> FloatArray:
        return np.remainder(x, float(self.by))

    def slope(self) -> Node:
        return Number(1)  # wherever it does not jump


@operation
class Sign(Elementwise):
    """1 for a number above 0, -1 for one below, 0 for 0.

    Example: `sign(change)`.
    """

    always_finite: ClassVar[bool] = True
    x: Node = argument("a number")

    def compute(self, x: FloatArray) -> FloatArray:
        return np.sign(x)

    def slope(self) -> Node:
        return Number(0)  # wherever it does not jump
