"""What the columns of a design are made of, and curves as functions of a number."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from facturum.audit.entries import ColumnEntry
from facturum.data.table import Table
from facturum.data.values import FloatArray
from facturum.engine.blocks.source import Source
from facturum.engine.planning.spreading import walk
from facturum.errors import FacturumError
from facturum.language.core import Name, names_in
from facturum.language.logic import Comparison, Membership
from facturum.language.nodes import Node
from facturum.language.operations.polynomials import Recurrence
from facturum.language.operations.transforms import Cos, Sin
from facturum.language.parser import parse
from facturum.language.reading import Contrast, Curve, Logged, Orthogonal, Power, Product, Reading, Scaled, Unit
from facturum.language.structures import reading_of

_VALUE = "value"
_SIZES = np.logspace(-12, 12, 97)
_GRID = np.concatenate([-_SIZES[::-1], [0.0], _SIZES])
_ROUNDS, _STEPS = 5, 1000


@dataclass(frozen=True)
class Function:
    """A column, or a factor of one, that is a curve in one number, or has a value for each of some categories.

    Args:
        subject: the number: a variable, or the expression that orthogonal polynomials are made of; or the category.
        node: the curve, as an expression of the variable "value".
        labels: the categories; none of a number.
        cyclic: whether the expression is of the numbers of the categories, not of their names.
    """

    subject: str
    node: Node
    labels: tuple[str, ...] = ()
    cyclic: bool = False

    def value(self, setting: float | str) -> float | None:
        """Return the value for one number, or one category; None where it is not defined."""
        if isinstance(setting, str) != bool(self.labels) or (self.labels and setting not in self.labels):
            return None
        if self.labels and not self.cyclic:
            found = self._of(Table.of({_VALUE: list(self.labels)}))[self.labels.index(str(setting))]
        else:
            found = self.at(np.array([self.labels.index(str(setting)) if self.labels else setting]))[0]
        return None if np.isnan(found) else float(found)

    def at(self, values: FloatArray) -> FloatArray:
        """Return the curve at some values; NaN where it is not defined."""
        return self._of(Table.of({_VALUE: np.asarray(values, dtype=np.float64)}))

    def _of(self, table: Table) -> FloatArray:
        found = Source(table, {}).values_at(self.node, np.arange(table.length)).full(table.length)
        return np.where(found.present_mask(), found.numbers(), np.nan)

    def inverse(self, result: float) -> float | None:
        """Return where the curve takes a value; None where that is nowhere, or in several places."""
        grid = _GRID
        for _ in range(_ROUNDS):
            away = self.at(grid) - result
            exact = np.flatnonzero(away == 0)
            crossed = np.flatnonzero(np.sign(away[:-1]) * np.sign(away[1:]) < 0)
            if len(exact) + len(crossed) != 1:
                return None
            if len(exact):
                return float(grid[exact[0]])
            grid = np.linspace(grid[crossed[0]], grid[crossed[0] + 1], _STEPS)
        return float(grid.mean())


@dataclass(frozen=True)
class Makings:
    """What columns are made of.

    Args:
        entries: the columns.

    A column is the product of factors, each of which is made of one subject: a variable, or an expression of some.
    """

    entries: tuple[ColumnEntry, ...]

    @cached_property
    def readings(self) -> list[Reading]:
        """The reading of each column."""
        return [reading_of(entry.structure) if entry.structure else Curve(entry.name) for entry in self.entries]

    @cached_property
    def functions(self) -> dict[Reading, Function]:
        """The factors that are curves in one number, or have a value for each of some categories."""
        known: dict[Reading, Function] = {}
        for entry, reading in zip(self.entries, self.readings, strict=True):
            for factor in factors_of(reading):
                function = None
                if isinstance(factor, Contrast):
                    function = _contrast(factor, self._contrasted(factor.subject), entry.formula)
                elif isinstance(factor, Curve | Orthogonal | Unit):
                    function = _curve(factor, entry.formula)
                if function is not None:
                    known[factor] = function
        return known

    def _contrasted(self, subject: str) -> tuple[str, ...]:
        """Return the categories that columns contrast, that without a column first."""
        factors = [factor for reading in self.readings for factor in factors_of(reading)]
        own = [each for each in factors if isinstance(each, Contrast) and each.subject == subject]
        return tuple(dict.fromkeys([own[0].other or "", *[each.category for each in own]]))

    def subject(self, reading: Reading) -> str | None:
        """Return what a column that is no product is made of."""
        if isinstance(reading, Scaled):
            return self.subject(reading.of)
        if isinstance(reading, Product):
            return None
        return self.functions[reading].subject if reading in self.functions else reading.subject

    def subjects(self, readings: Iterable[Reading]) -> list[str]:
        """Return what columns are made of, as often as they are made of it."""
        found = [self.subject(factor) for reading in readings for factor in factors_of(reading)]
        return [subject for subject in found if subject is not None]

    def told_at_quartiles(self) -> list[str]:
        """Return the columns that tell where the quartiles lie of numbers with curves or interactions."""
        bent = {
            subject
            for reading in self.readings
            if isinstance(reading, Product) or factors_of(reading)[0] in self.functions or _bends(reading)
            for subject in self.subjects([reading])
        }
        alone = [self.subject(reading) for reading in self.readings]
        bent |= {subject for subject in alone if subject is not None and alone.count(subject) > 1}
        return [
            entry.name
            for entry, reading in zip(self.entries, self.readings, strict=True)
            if self.subject(reading) in bent
            and (reading in self.functions or isinstance(reading, Unit | Logged | Power))
        ]


def _bends(reading: Reading) -> bool:
    return isinstance(reading, Power) or (isinstance(reading, Logged) and reading.shift != 0)


def factors_of(reading: Reading) -> Sequence[Reading]:
    """Return the factors that a column is the product of."""
    if isinstance(reading, Product):
        return [*factors_of(reading.left), *factors_of(reading.right)]
    return factors_of(reading.of) if isinstance(reading, Scaled) else [reading]


def _curve(factor: Curve | Orthogonal | Unit, formula: str) -> Function | None:
    """Return a factor of a formula as a curve in one number; None where it is none, or a straight line."""
    if isinstance(factor, Unit) and factor != Unit(factor.subject):
        return None
    try:
        whole = parse(formula, True)
        if isinstance(factor, Orthogonal):
            return _recurrence(factor, whole)
        if isinstance(factor, Curve) and factor.cycle:
            return _wave(factor, whole)
        node = parse(factor.subject, True)
    except FacturumError:  # a subject in words
        return None
    names = names_in(node)
    if len(set(names)) != 1 or any(part.along_time for part in walk(node)) or isinstance(node, Name):
        return None
    function = Function(names[0], _in_place(node, Name(names[0]), Name(_VALUE)))
    return function if _bends_somewhere(function) else None


def _wave(factor: Curve, whole: Node) -> Function | None:
    """Return the wave of a season, a function of the numbers of its parts; None where it is but a factor."""
    names = set(names_in(whole))
    if len(names) != 1 or not isinstance(whole, Sin | Cos):
        return None
    part, *labels = factor.cycle
    return Function(part, _in_place(whole, Name(names.pop()), Name(_VALUE)), tuple(labels), True)


def _contrast(factor: Contrast, labels: tuple[str, ...], formula: str) -> Function | None:
    """Return a contrast as a function of its categories; None where its formula compares more than these."""
    try:
        whole = parse(formula, True)
    except FacturumError:  # of a number that no one can write, say
        return None
    compared = {part.operands[0] for part in walk(whole) if isinstance(part, Comparison)}
    compared |= {part.value for part in walk(whole) if isinstance(part, Membership)}
    if len(compared) != 1:
        return None
    node = _in_place(whole, compared.pop(), Name(_VALUE))
    if set(names_in(node)) != {_VALUE}:
        return None
    function = Function(factor.subject, node, labels)
    try:
        return function if function.value(labels[0]) is not None else None
    except FacturumError:  # where numbers are compared
        return None


def _recurrence(factor: Orthogonal, whole: Node) -> Function | None:
    for part in walk(whole):
        if isinstance(part, Recurrence) and len(part.basis) == 2 * factor.degree and part.x.subject() == factor.subject:
            return Function(factor.subject, part.replaced(x=Name(_VALUE)))
    return None


def _bends_somewhere(function: Function) -> bool:
    """Return whether a function can be computed of numbers, and is no straight line."""
    try:
        values = function.at(_GRID)
    except FacturumError:  # one of categories, say
        return False
    known = np.isfinite(values)
    if known.sum() < 3:
        return False
    x, y = _GRID[known] / _GRID[known].max(), values[known] / max(np.abs(values[known]).max(), 1e-300)
    return bool(np.abs(y - np.polyval(np.polyfit(x, y, 1), x)).max() > 1e-9)


def _in_place(node: Node, old: Node, new: Node) -> Node:
    """Return an expression with another one in the place of each of one kind."""
    if node == old:
        return new
    return node.rebuilt(_in_place(child, old, new) for child in node.children())
