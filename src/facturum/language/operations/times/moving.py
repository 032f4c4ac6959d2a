"""Sums and means over windows of periods."""

from __future__ import annotations

from abc import abstractmethod
from typing import ClassVar

import numpy as np

from facturum.data.values import Array, FloatArray, Kind, Mask, Values
from facturum.language.meanings.meaning import STEP
from facturum.language.operations.times.along import MAX_SHIFTS, Windowed, numbers_of
from facturum.language.tree.nodes import Kinds, Node, Type
from facturum.language.tree.options import AT_LEAST, SHARE, argument, one_of, option, whole_from
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Look
from facturum.numerics.exact.sums import added_in_order

_NOUNS = {"sd": "standard deviation", "smallest": "smallest value", "largest": "largest value"}


class Moving(Windowed):
    """A sum over a window of periods, the oldest first."""

    family: ClassVar[str] = "time"
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
        figure = self.name.removeprefix("moving_")
        what = f"the {self.window}-{STEP} {_NOUNS.get(figure, figure)} of {self.x.subject()}"
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


class MovingStatistic(Moving):
    """A figure of the values in a window of periods, of those present."""

    def check(self, kinds: Kinds) -> Type:
        if self.align == "centre" and self.window % 2 == 0:
            what = f"a window of {self.window} periods has none in its middle"
            raise self.error(what, f"Write {self.window + 1}, or leave align out.")
        return super().check(kinds)

    @abstractmethod
    def statistic(self, values: FloatArray, there: Mask, count: Array) -> Array:
        """Return a figure for each row.

        Args:
            values: (periods, rows).
            there: (periods, rows), which of them are present.
            count: how many are.
        """

    def along(self, look: Look) -> Values:
        parts = [numbers_of(look(offset)) for offset in self.weights()]
        there = np.array([part.present_mask() for part in parts])
        count = np.count_nonzero(there, axis=0)
        enough = self.enough(count) & (count > 0)
        with np.errstate(all="ignore"):
            found = self.statistic(np.array([part.data for part in parts]), there, count)
        return Values(np.where(enough, found, 0.0), enough)


@operation
class MovingSmallest(MovingStatistic):
    """The smallest value over `window` periods that end with the row's own; with `at_least`, of those present.

    Example: `moving_smallest(price, 12)`.
    """

    x: Node = argument("a number")
    window: int = option(whole_from(1, MAX_SHIFTS), "how many periods")
    align: str = option(ALIGN, "where the row's own period lies in the window", default="past")
    at_least: int | str = option(AT_LEAST, "how many of its periods must have a value", default="all")

    def statistic(self, values: FloatArray, there: Mask, count: Array) -> Array:
        smallest: Array = np.min(np.where(there, values, np.inf), axis=0)
        return smallest


@operation
class MovingLargest(MovingStatistic):
    """The largest value over `window` periods that end with the row's own; with `at_least`, of those present.

    Example: `moving_largest(snow, 12)`.
    """

    x: Node = argument("a number")
    window: int = option(whole_from(1, MAX_SHIFTS), "how many periods")
    align: str = option(ALIGN, "where the row's own period lies in the window", default="past")
    at_least: int | str = option(AT_LEAST, "how many of its periods must have a value", default="all")

    def statistic(self, values: FloatArray, there: Mask, count: Array) -> Array:
        largest: Array = np.max(np.where(there, values, -np.inf), axis=0)
        return largest


@operation
class MovingSd(MovingStatistic):
    """The sample standard deviation (divisor n - 1) over `window` periods that end with the row's own.

    Example: `moving_sd(price, 12)`.
    """

    x: Node = argument("a number")
    window: int = option(whole_from(2, MAX_SHIFTS), "how many periods")
    align: str = option(ALIGN, "where the row's own period lies in the window", default="past")
    at_least: int | str = option(AT_LEAST, "how many of its periods must have a value", default="all")

    def enough(self, count: Array) -> Array:
        return super().enough(count) & (count > 1)

    def statistic(self, values: FloatArray, there: Mask, count: Array) -> Array:
        mean = np.divide(added_in_order(np.where(there, values, 0.0)), count)
        about = np.where(there, np.subtract(values, mean), 0.0)
        spread: Array = np.sqrt(np.divide(added_in_order(np.multiply(about, about)), count - 1))
        return spread


@operation
class MovingCount(Windowed):
    """How many of `window` periods that end with the row's own have a value.

    Example: `moving_count(stays, 12)`.
    """

    family: ClassVar[str] = "time"
    x: Node = argument("any variable")
    window: int = option(whole_from(1, MAX_SHIFTS), "how many periods")

    def check(self, kinds: Kinds) -> Type:
        kinds.along_time(self)
        kinds.type_of(self.x)
        return Type(Kind.NUMBER)

    def along(self, look: Look) -> Values:
        there = np.array([look(offset).present_mask() for offset in self.offsets_read()])
        return Values(np.count_nonzero(there, axis=0).astype(np.float64))

    def present_along(self, look: Look) -> Mask | None:
        return None

    def offsets_read(self) -> tuple[int, ...]:
        return tuple(range(1 - self.window, 1))

    def subject(self) -> str:
        return f"the number of values of {self.x.subject()} in {self.window} {STEP}s"


class MovingOrder(MovingStatistic):
    """A quantile of the values in a window, interpolated between order statistics."""

    @abstractmethod
    def below(self) -> float:
        """Return how much of the values lies below it."""

    def statistic(self, values: FloatArray, there: Mask, count: Array) -> Array:
        ordered, rows = np.sort(np.where(there, values, np.inf), axis=0), np.arange(values.shape[1])
        most = np.maximum(count - 1, 0)
        place = np.multiply(self.below(), most)
        low = np.floor(place).astype(np.int64)
        lower, upper = ordered[low, rows], ordered[np.minimum(low + 1, most), rows]
        between: Array = np.add(lower, np.multiply(place - low, np.subtract(upper, lower)))
        return np.where(place == low, lower, between)


@operation
class MovingMedian(MovingOrder):
    """The median over `window` periods that end with the row's own; with `at_least`, of those present.

    Example: `moving_median(snow, 5)`.
    """

    x: Node = argument("a number")
    window: int = option(whole_from(1, MAX_SHIFTS), "how many periods")
    align: str = option(ALIGN, "where the row's own period lies in the window", default="past")
    at_least: int | str = option(AT_LEAST, "how many of its periods must have a value", default="all")

    def below(self) -> float:
        return 0.5


@operation
class MovingQuantile(MovingOrder):
    """A quantile over `window` periods that end with the row's own, interpolated between order statistics.

    Example: `moving_quantile(stays, 0.9, 12)`.
    """

    x: Node = argument("a number")
    share: float = option(SHARE, "how much of the values lies below")
    window: int = option(whole_from(1, MAX_SHIFTS), "how many periods")
    align: str = option(ALIGN, "where the row's own period lies in the window", default="past")
    at_least: int | str = option(AT_LEAST, "how many of its periods must have a value", default="all")

    def below(self) -> float:
        return self.share
