"""Trend and season: columns computed from the calendar alone."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, ClassVar, Self

import numpy as np

from facturum.data.time.calendar import PARTS, part_codes, part_labels, period_text
from facturum.data.time.periods import period_numbers
from facturum.data.values import Kind, Label, Labels, Mask, Values, and_masks
from facturum.language.core.arithmetic import Multiply, Power
from facturum.language.core.comparing import period_written
from facturum.language.core.literals import Name, Number, Text, declared_as
from facturum.language.meanings.meaning import STEP, Meaning
from facturum.language.meanings.numbers import Curve, Unit
from facturum.language.meanings.numbers import Power as PowerMeaning
from facturum.language.operations.categories.bins import RangeQuestion
from facturum.language.operations.categories.categories import Category, Codes
from facturum.language.operations.numbers.transforms import Cos, Sin
from facturum.language.tree.blocks import Block
from facturum.language.tree.nodes import Column, Kinds, Node, Question, Type
from facturum.language.tree.options import LABEL, PERIOD, argument, arguments, one_of, option, whole_from
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows
from facturum.language.tree.traits import Surroundings

CYCLES = ("quarter", "fiscal_quarter", "month", "week", "weekday", "hour")
YEARS = ("year", "iso_year", "fiscal_year")
STARTS = one_of(*PARTS["month"], *PARTS["weekday"])


def _check_starts(node: Part | Season) -> None:
    """Refuse a start that the part does not take, and a fiscal part without one."""
    fiscal = node.part.startswith("fiscal")
    if fiscal and node.starts not in PARTS["month"]:
        raise node.error(f"{node.part} needs the month in which a fiscal year starts", 'Write starts="jul", say.')
    if node.starts is not None and not fiscal and (node.part != "weekday" or node.starts not in PARTS["weekday"]):
        raise node.error(
            f"{node.part} does not start with '{node.starts}'", "A fiscal part starts with a month, weekday with a day."
        )


def _started(node: Part | Season, around: Surroundings) -> Node:
    """Return weekdays that begin with the plan's first day, unless they have one of their own."""
    own = node.part != "weekday" or node.starts is not None or around.first_day is None
    return node if own else node.replaced(starts=around.first_day)


class Timed(Node):
    """An operation on the time of the row, which preparing the plan writes into `of`."""

    of: tuple[Node, ...]

    def settled(self, around: Surroundings) -> Node:
        return self.timed(around.time)

    def timed(self, time: str | None) -> Self:
        """Return the same with the plan's time variable.

        Raises:
            PlanError: where another one is written.
        """
        wanted = () if time is None else (Name(time),)
        if self.of not in ((), wanted):
            what = (
                "of is not allowed where rows have no time" if time is None else f"of must be the plan's time, '{time}'"
            )
            raise self.error(what, "Leave of out.")
        return self if self.of == wanted else self.replaced(of=wanted)


@operation
class Part(Node):
    """A part of a date: its month, quarter, weekday, week or hour as an ordered category, its year or day as a number.

    Weeks are those of ISO 8601, which has its own year beside them (`iso_year`). A fiscal year is called by the year in
    which it ends; `starts` names its first month. Weekdays begin with `starts`, else with the plan's `week_starts`.

    Example: `part(opened, "year")`, `part(month, "fiscal_year", starts="jul")`.
    """

    family: ClassVar[str] = "time"
    x: Node = argument("a time")
    part: str = option(one_of(*YEARS, *CYCLES, "day"), "which part")
    starts: str | None = option(STARTS, "the first month of a fiscal year, or the first weekday", default=None)

    def settled(self, around: Surroundings) -> Node:
        return _started(self, around)

    def check(self, kinds: Kinds) -> Type:
        _check_starts(self)
        type_of_x = kinds.type_of(self.x)
        if type_of_x.kind is not Kind.TIME:
            raise self.x.error(
                f"part works on a time, and '{self.x}' is {type_of_x.kind.with_article}",
                f"Declare it {declared_as(self.x, 'time')}.",
            )
        return (
            Type(Kind.ORDERED, labels=part_labels(self.part, self.starts)) if self.part in CYCLES else Type(Kind.NUMBER)
        )

    def values(self, rows: Rows) -> Values:
        inner = rows.evaluate(self.x)
        codes = part_codes(inner.data, self.part, self.starts)
        if self.part in CYCLES:
            return Values(codes, inner.valid, part_labels(self.part, self.starts))
        return Values(codes.astype(np.float64), inner.valid)

    def meaning(self) -> Meaning:
        return Unit(self.subject(), node=self)

    def subject(self) -> str:
        subject_of_x = self.x.subject()
        return subject_of_x if subject_of_x == self.part else f"{self.part.replace('_', ' ')} of {subject_of_x}"


@operation
class PeriodsSince(Timed):
    """How many periods lie between a date and the period of the row; negative before it.

    Example: `periods_since(opened)`, `periods_since('2020-03')`.
    """

    family: ClassVar[str] = "time"
    date: Node = argument("a time variable, or a date in quotes")
    of: tuple[Node, ...] = arguments("the time of the row", default=())

    @property
    def along_time(self) -> bool:
        return True

    def check(self, kinds: Kinds) -> Type:
        kinds.along_time(self)
        if kinds.every == "row":
            if not isinstance(self.date, Number) or not isinstance(self.date.value, int):
                raise self.error("rows without a time have no dates", "Write trend().")
        elif isinstance(self.date, Text):
            period_written(self.date)
        elif kinds.type_of(self.date).kind is not Kind.TIME:
            raise self.date.error(f"'{self.date}' is not a time", "Write a date in quotes, or a time variable.")
        return Type(Kind.NUMBER)

    def values(self, rows: Rows) -> Values:
        period, known = rows.periods()
        start, valid = self._start(rows)
        known = None if known is None or known.all() else known
        return Values(np.subtract(period, start).astype(np.float64), and_masks(valid, known))

    def _start(self, rows: Rows) -> tuple[Any, Mask | None]:
        if isinstance(self.date, Number):
            return int(self.date.value), None
        if isinstance(self.date, Text):
            return period_numbers(np.array([period_written(self.date).start]), rows.every), None
        values = rows.evaluate(self.date).full(rows.length)
        return period_numbers(values.data, rows.every), values.valid

    def valid(self, rows: Rows) -> Mask | None:
        return rows.evaluate(self).valid

    def decided_by(self) -> tuple[Node, ...]:
        return (self.date,)

    def meaning(self) -> Meaning:
        return Unit(self.subject(), node=self)

    def subject(self) -> str:
        date = self.date.value if isinstance(self.date, Text) else str(self.date)
        return f"{STEP}s since {date}"


@operation
class Trend(Timed):
    """The number of periods since the first, and its powers up to `degree`; gaps in time leave gaps.

    Resolving writes the first period as `origin`.

    Example: `trend()`, `trend(degree=2)`.
    """

    family: ClassVar[str] = "time"
    many_columns: ClassVar[bool] = True
    degree: int = option(whole_from(1, 10), "the highest power", default=1)
    origin: str | int | None = option(PERIOD, "the period that counts as 0", learned=True, default=None)
    of: tuple[Node, ...] = arguments("the time of the row", default=())

    def check(self, kinds: Kinds) -> Type:
        kinds.along_time(self)
        if self.origin is not None:
            kinds.type_of(self._periods())
        return Type(Kind.NUMBER, block=True)

    def _periods(self) -> PeriodsSince:
        if self.origin is None:
            raise self.unresolved()
        start = Text(self.origin) if isinstance(self.origin, str) else Number(self.origin)
        return PeriodsSince(start, of=self.of)

    def question(self, kinds: Kinds) -> Question | None:
        if self.origin is not None:
            return None
        step = kinds.every
        start: Node = Number(0) if step == "row" else Text("1970")

        def closed(low: float, high: float) -> Node:
            return self.replaced(origin=int(low) if step == "row" else period_text(int(low), step))

        return RangeQuestion((PeriodsSince(start, of=self.of),), closed)

    def columns(self) -> tuple[Column, ...]:
        base = self._periods()
        columns = []
        for degree in range(1, self.degree + 1):
            formula = base if degree == 1 else Power(base, Number(degree))
            subject = base.subject()
            meaning = (
                Unit(subject, node=base) if self.degree == 1 else PowerMeaning(subject, degree, self.degree, node=base)
            )
            parts: Any = (("operation", str(degree)),) if degree > 1 else ()
            columns.append(Column(parts, formula, meaning, "power" if self.degree > 1 else "number"))
        return tuple(columns)

    def meaning(self) -> Meaning:
        return Curve(self.subject(), node=self)


@operation
class Season(Timed):
    """The part of the calendar that a row lies in, as columns: all months, say, whether they occur or not.

    With the coding "waves", sine and cosine pairs that go round once in the cycle, twice, .. up to `pairs` times.

    Example: `season("month", reference="jan")`, `season("weekday")`, `season("month", coding="waves", pairs=2)`.
    """

    family: ClassVar[str] = "time"
    many_columns: ClassVar[bool] = True
    part: str = option(one_of(*CYCLES), "which part of the calendar")
    coding: str = option(
        one_of("reference", "every", "effect", "difference", "helmert", "waves"), "how the columns are made",
        default="reference",
    )  # fmt: skip
    reference: Label | None = option(
        LABEL, "the part that the others are compared with; the first where none is named", default=None
    )
    pairs: int | None = option(whole_from(1, 26), "how many pairs of waves", default=None)
    starts: str | None = option(STARTS, "the first month of a fiscal year, or the first weekday", default=None)
    of: tuple[Node, ...] = arguments("the time of the row", default=())

    def settled(self, around: Surroundings) -> Node:
        return _started(self.timed(around.time), around)

    def check(self, kinds: Kinds) -> Type:
        kinds.along_time(self)
        if not self.of:
            raise self.error("a season needs a time", "Name a time in [data].")
        _check_starts(self)
        labels = part_labels(self.part, self.starts)
        if self.reference is not None and self.reference not in labels:
            raise self.error(f"{self.part} {self.reference!r} not found", "Write " + ", ".join(labels) + ".")
        if self.pairs is not None and self.coding != "waves":
            raise self.error("pairs is valid only with the coding 'waves'", "Leave it out, or write coding='waves'.")
        if self.reference is not None and self.coding not in ("reference", "effect"):
            raise self.error(f"the coding '{self.coding}' has no reference", "Leave reference out.")
        if (self.pairs or 1) > len(labels) // 2:
            raise self.error(f"{len(labels)} parts allow {len(labels) // 2} pairs of waves", "Write fewer.")
        kinds.type_of(Part(self.of[0], self.part, self.starts))
        return Type(Kind.NUMBER, block=True)

    def _category(self) -> Category:
        labels: Labels = part_labels(self.part, self.starts)
        reference = None
        if self.coding in ("reference", "effect"):
            reference = labels[0] if self.reference is None else self.reference
        return Category(Part(self.of[0], self.part, self.starts), reference=reference, coding=self.coding, order=labels)

    def columns(self) -> tuple[Column, ...]:
        if self.coding != "waves":
            return self._category().columns()
        labels = part_labels(self.part, self.starts)
        code = Codes(Part(self.of[0], self.part, self.starts), order=labels)
        columns = []
        for number in range(1, (self.pairs or 1) + 1):
            angle = Multiply(Number(float(2 * np.pi * number / len(labels))), code)
            waves: Sequence[tuple[str, Node]] = (("sin", Sin(angle)), ("cos", Cos(angle)))
            for name, wave in waves[2 * number == len(labels) :]:  # at half the cycle a sine is zero throughout
                often = {1: "once", 2: "twice"}.get(number, f"{number} times")
                wave_name = "sine" if name == "sin" else "cosine"
                subject = f"the {wave_name} wave that goes round {often} in {len(labels)} {self.part}s"
                meaning = Curve(subject, (self.part, *labels), number, node=wave)
                columns.append(Column((("operation", f"{name}{number}"),), wave, meaning))
        return tuple(columns)

    def block(self, rows: Rows) -> Block:
        return super().block(rows) if self.coding == "waves" else self._category().block(rows)

    def meaning(self) -> Meaning:
        return Curve(self.subject(), node=self)
