"""Sums and means over windows of periods."""

from __future__ import annotations

import numpy as np

from facturum.data.values import Array, Mask, Values
from facturum.language.meanings.meaning import STEP
from facturum.language.operations.times.along import MAX_SHIFTS, Windowed, numbers_of
from facturum.language.tree.nodes import Kinds, Node, Type
from facturum.language.tree.options import AT_LEAST, argument, one_of, option, whole_from
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Look


class Moving(Windowed):
    """A sum over a window of periods, the oldest first."""

    window: int
    align: str
    at_least: int | str

    def check(self, kinds: Kinds) -> Type:
        type_of_x = super().check(kinds)
        most = len(self.weights())
        if isinstance(self.at_least, int) and self.at_least > most:
            raise self.error(
                f"a window of {self.window} has {most} values, and {self.at_least} are asked for",
                f"Write at_least={most} or fewer.",
            )
        return type_of_x

    def weights(self) -> dict[int, float]:
        """Return the weight of each period, from the oldest; in an even window that is centred, half at both ends."""
        if self.align == "past":
            return dict.fromkeys(range(1 - self.window, 1), 1.0)
        half = self.window // 2
        each = dict.fromkeys(range(-half, half + 1), 1.0)
        if self.window % 2 == 0:
            each[-half] = each[half] = 0.5
        return each

    def sums(self, look: Look) -> tuple[Array, Array, Array]:
        """Return for all rows the weighted sum of the values there, their weights together, and how many there are."""
        weights = self.weights()
        equal = set(weights.values()) == {1.0}
        parts = {offset: numbers_of(look(offset)) for offset in weights}
        length = len(next(iter(parts.values())).data)
        total, weight = np.zeros(length), np.zeros(0 if equal else length)
        count = np.zeros(length, dtype=np.int16)
        for offset, share in weights.items():
            part = parts[offset]
            there: Mask | bool = True if part.valid is None else part.valid
            with np.errstate(all="ignore"):
                np.add(total, part.data if equal else share * part.data, out=total, where=there)
            if not equal:
                np.add(weight, share, out=weight, where=there)
            np.add(count, 1, out=count, where=there)
        return total, count if equal else weight, count

    def present_along(self, look: Look) -> Mask | None:
        if isinstance(self.at_least, str):
            return super().present_along(look)
        count = np.zeros(len(look(0).data), dtype=np.int16)
        for offset in self.offsets_read():
            part = look(offset).valid
            np.add(count, 1, out=count, where=True if part is None else part)
        return self.enough(count)

    def enough(self, count: Array) -> Array:
        """Return where there are as many values as are asked for."""
        return count >= (len(self.weights()) if isinstance(self.at_least, str) else self.at_least)

    def offsets_read(self) -> tuple[int, ...]:
        return tuple(self.weights())

    def subject(self) -> str:
        what = f"the {self.window}-{STEP} {self.name.removeprefix('moving_')} of {self.x.subject()}"
        if self.align == "past":
            before = {1: "", 2: f" and the {STEP} before"}.get(self.window, f" and the {self.window - 1} before")
            return f"{what} (this {STEP}{before})"
        return f"{what} (centred)"


ALIGN = one_of("past", "centre")


@operation
class MovingAverage(Moving):
    """The mean over `window` periods that end with the row's own, or with `align="centre"` lie around it.

    An even window is centred on the period by counting the periods at both its ends half.

    Example: `moving_average(snow_depth, 3)`, `moving_average(stays, 12, align="centre")`.
    """

    x: Node = argument("a number")
    window: int = option(whole_from(1, MAX_SHIFTS), "how many periods")
    align: str = option(ALIGN, "where the row's own period lies in the window", default="past")
    at_least: int | str = option(AT_LEAST, "how many of its periods must have a value", default="all")

    def along(self, look: Look) -> Values:
        total, weight, count = self.sums(look)
        with np.errstate(all="ignore"):
            return Values(np.divide(total, weight), self.enough(count))


@operation
class MovingSum(Moving):
    """The sum over `window` periods that end with the row's own; with `at_least`, of those present.

    Example: `moving_sum(snowfall, 3)`.
    """

    x: Node = argument("a number")
    window: int = option(whole_from(1, MAX_SHIFTS), "how many periods")
    align: str = option(ALIGN, "where the row's own period lies in the window", default="past")
    at_least: int | str = option(AT_LEAST, "how many of its periods must have a value", default="all")

    def along(self, look: Look) -> Values:
        total, _, count = self.sums(look)
        return Values(total, self.enough(count))
