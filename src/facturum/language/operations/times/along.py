"""What lies before and after in time, within a unit: lags, leads, differences, moving averages."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import replace
from itertools import pairwise
from math import comb
from typing import Any, ClassVar

import numpy as np

from facturum.data.values import Kind, Mask, Values, and_masks
from facturum.errors import counted
from facturum.language.core.arithmetic import Add, Divide, Multiply, Subtract
from facturum.language.core.literals import Number, Presence
from facturum.language.meanings.categories import Holds
from facturum.language.meanings.meaning import STEP, Meaning
from facturum.language.meanings.numbers import Logged, Unit
from facturum.language.tree.nodes import Column, Kinds, Node, Type, finite, need_number
from facturum.language.tree.options import Accept, argument, option, whole_from
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Look, Rows

MAX_SHIFTS = 1000


def _is_shift(value: object) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and abs(value) < 2**31


SHIFTS = Accept(
    "a number of periods, or a list of them",
    lambda value: (
        _is_shift(value)
        or (isinstance(value, tuple) and 0 < len(value) <= MAX_SHIFTS and all(_is_shift(each) for each in value))
    ),
)


class AlongTime(Node):
    """An operation that reads other periods of the same unit."""

    family: ClassVar[str] = "time"
    x: Node

    @property
    def along_time(self) -> bool:
        return True

    @property
    def moved(self) -> Node:
        return self.x

    def check(self, kinds: Kinds) -> Type:
        kinds.along_time(self)
        need_number(self, self.x, kinds)
        return Type(Kind.NUMBER)

    def meaning(self) -> Meaning:
        return Unit(self.subject(), node=self)


class Carried(AlongTime):
    """A number that carries a state from row to row of its unit, in the order of time; gaps are passed over."""

    carries: ClassVar[bool] = True

    @abstractmethod
    def carry(self, values: Values, state: Any) -> tuple[Values, Any]:
        """Return the values of some rows of a unit, and the state after them.

        Args:
            values: of the argument, in the order of time.
            state: after the rows before; None at the first row of the unit.
        """

    def values(self, rows: Rows) -> Values:
        values = rows.frame(self.x, (0,)).carried(self.x, self, self.carry)
        return finite(self, rows, values.data, values.valid)


class Windowed(AlongTime):
    """A number computed from several periods, for all rows at once."""

    @abstractmethod
    def along(self, look: Look) -> Values:
        """Return the values of some rows; ``look`` returns the argument of each, so many periods later."""

    def present_along(self, look: Look) -> Mask | None:
        """Return which of some rows have a value; ``look`` returns whether the argument of each has, as `along`."""
        valid: Mask | None = None
        for offset in self.offsets_read():
            valid = and_masks(valid, look(offset).valid)
        return valid

    def values(self, rows: Rows) -> Values:
        offsets = self.offsets_read()
        frame = rows.frame(self.x, offsets)
        frame.refuse_failed(self.x, offsets)
        values = frame.windowed(self.x, self, self.along)
        return finite(self, rows, values.data, values.valid)

    def valid(self, rows: Rows) -> Mask | None:
        presence, offsets = Presence(self.x), self.offsets_read()
        frame = rows.frame(presence, offsets)
        frame.refuse_failed(presence, offsets)

        def there(look: Look) -> Values:
            valid = self.present_along(look)
            return Values(np.ones(len(look(offsets[0]).data), dtype=bool), valid)

        return frame.windowed(presence, Presence(self), there).valid


def numbers_of(values: Values) -> Values:
    return Values(values.numbers(), values.valid)


class Shifted(AlongTime):
    """A value of another period; several shifts make a block of columns."""

    sign: ClassVar[int]
    k: int | tuple[int, ...]

    @property
    def many_columns(self) -> bool:
        """Whether there are several shifts."""
        return isinstance(self.k, tuple)

    @property
    def missing_by_column(self) -> bool:
        return self.many_columns

    def _shifts(self) -> tuple[int, ...]:
        return self.k if isinstance(self.k, tuple) else (self.k,)

    def check(self, kinds: Kinds) -> Type:
        kinds.along_time(self)
        type_of_x = kinds.type_of(self.x)
        other = "lead" if self.sign < 0 else "lag"
        for shift in self._shifts():
            if shift < (first := 0 if self.many_columns else 1):
                what = "the row's own period" if shift == 0 else f"{counted(-shift, 'period')} the other way"
                raise self.error(
                    f"{self.name} counts periods from {first}, and {shift} is {what}",
                    f"Write {self.x} itself, or {other}({self.x}, {max(-shift, 1)}).",
                )
        if len(set(self._shifts())) < len(self._shifts()):
            raise self.error("a shift is named twice", "Name each once.")
        if isinstance(self.k, tuple):
            if not type_of_x.kind.numeric:
                what = f"several shifts of {type_of_x.kind.with_article} are not allowed"
                raise self.error(what, "Write a term for each shift.")
            return Type(Kind.NUMBER, block=True)
        return type_of_x

    def values(self, rows: Rows) -> Values:
        if isinstance(self.k, tuple):
            return super().values(rows)  # which refuses: there are several columns
        frame = rows.frame(self.x, self.offsets_read())
        whole = frame.whole(self.x)
        frame.refuse_failed(self.x, self.offsets_read())
        return frame.here(whole, self.sign * self.k)

    def valid(self, rows: Rows) -> Mask | None:
        presence, valid = Presence(self.x), None
        frame = rows.frame(presence, self.offsets_read())
        frame.refuse_failed(presence, self.offsets_read())
        whole = frame.whole(presence)
        for offset in self.offsets_read():
            valid = and_masks(valid, frame.here(whole, offset).valid)
        return valid

    def columns(self) -> tuple[Column, ...]:
        if not isinstance(self.k, tuple):
            return (Column((), self, self.meaning()),)
        each = [(shift, self.replaced(k=shift) if shift else self.x) for shift in self.k]
        return tuple(Column((("operation", f"{self.name}{shift}"),), node, node.meaning()) for shift, node in each)

    def offsets_read(self) -> tuple[int, ...]:
        return tuple(self.sign * shift for shift in self._shifts())

    def meaning(self) -> Meaning:
        inner = self.x.meaning()
        if isinstance(inner, Logged | Unit) and inner.node is not None:
            return replace(
                inner, subject=f"{inner.subject} {self._when()}", node=self.replaced(x=inner.node), when=self._when()
            )
        return Holds(inner.subject, when=self._when(), node=self) if isinstance(inner, Holds) else super().meaning()

    def subject(self) -> str:
        return f"{self.x.subject()} {self._when()}"

    def _when(self) -> str:
        return f"{counted(self.k if isinstance(self.k, int) else 0, STEP)} {'before' if self.sign < 0 else 'later'}"


@operation
class Lag(Shifted):
    """The value `k` periods before, within the unit; missing where that period is not in the table.

    With a list of periods, or `range(1, 13)`, a column for each; 0 among them is the row's own period.

    Example: `lag(stays, 12)`, `lag(price, [0, 1, 2])`, `lag(log(stays), range(1, 13))`.
    """

    sign: ClassVar[int] = -1
    x: Node = argument("any variable")
    k: int | tuple[int, ...] = option(SHIFTS, "how many periods before")


@operation
class Lead(Shifted):
    """The value `k` periods later, within the unit; missing where that period is not in the table.

    Example: `lead(price, 1)`.
    """

    sign: ClassVar[int] = 1
    x: Node = argument("any variable")
    k: int | tuple[int, ...] = option(SHIFTS, "how many periods later")


@operation
class Difference(Windowed):
    """The change since `step` periods before, taken `order` times.

    Example: `difference(stays)`, `difference(log(stays), step=12)`, `difference(price, order=2)`.
    """

    x: Node = argument("a number")
    order: int = option(whole_from(1, 10), "how often the difference is taken", default=1)
    step: int = option(whole_from(1), "how many periods lie between", default=1)

    def along(self, look: Look) -> Values:
        values = [numbers_of(look(-self.step * number)) for number in range(self.order + 1)]
        while len(values) > 1:
            with np.errstate(all="ignore"):
                values = [
                    Values(np.subtract(now.data, before.data), and_masks(now.valid, before.valid))
                    for now, before in pairwise(values)
                ]
        return values[0]

    def offsets_read(self) -> tuple[int, ...]:
        return tuple(-self.step * number for number in range(self.order + 1))

    def in_lags(self) -> Node:
        made: Node = self.x
        for number in range(1, self.order + 1):
            weight, earlier = comb(self.order, number), Lag(self.x, number * self.step)
            part = earlier if weight == 1 else Multiply(Number(weight), earlier)
            made = Subtract(made, part) if number % 2 else Add(made, part)
        return made

    def subject(self) -> str:
        if self.order == 1:
            return f"the {_every(self.step)} change of {self.x.subject()}"
        which = {2: "second", 3: "third"}.get(self.order, f"{self.order}th")
        step = "" if self.step == 1 else f"{_every(self.step)} "
        return f"the {which} {step}difference of {self.x.subject()}"


@operation
class PercentChange(Windowed):
    """The change since `step` periods before, in percent of the value then; a value of 0 then is an error.

    Example: `percent_change(stays, step=12)`.
    """

    x: Node = argument("a number")
    step: int = option(whole_from(1), "how many periods lie between", default=1)

    def along(self, look: Look) -> Values:
        values, earlier = numbers_of(look(0)), numbers_of(look(-self.step))
        with np.errstate(all="ignore"):
            data = np.multiply(100.0, np.divide(np.subtract(values.data, earlier.data), earlier.data))
        return Values(data, and_masks(values.valid, earlier.valid))

    def offsets_read(self) -> tuple[int, ...]:
        return (0, -self.step)

    def in_lags(self) -> Node:
        return Subtract(Multiply(Divide(Number(100), Lag(self.x, self.step)), self.x), Number(100))

    def subject(self) -> str:
        return f"the {_every(self.step)} percent change of {self.x.subject()}"


def _every(step: int) -> str:
    return f"{STEP}ly" if step == 1 else f"{step}-{STEP}"
