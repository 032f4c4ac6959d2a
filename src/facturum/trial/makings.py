"""What the columns of a design are made of, and curves as functions of a number."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache

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
    """What a column, or a factor of one, is made of, as a function of one variable.

    Args:
        subject: the variable: a number, or the name of a category.
        node: the function, as an expression of the variable "value".
        whole: whether it is the column itself; otherwise what the column's reading is applied to.
        labels: the categories; none of a number.
        cyclic: whether the expression is of the numbers of the categories, not of their names.
    """

    subject: str
    node: Node
    whole: bool = True
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
        """Return the function at some values; NaN where it is not defined."""
        return self._of(Table.of({_VALUE: np.asarray(values, dtype=np.float64)}))

    def _of(self, table: Table) -> FloatArray:
        found = Source(table, {}).values_at(self.node, np.arange(table.length)).full(table.length)
        return np.where(found.present_mask(), found.numbers(), np.nan)

    @cached_property
    def straight(self) -> bool:
        """Whether it is a straight line that is defined everywhere."""
        start, end = self.at(np.array([0.0, 1.0]))
        values = self.at(_GRID)
        if not np.isfinite(values).all():
            return False
        with np.errstate(over="ignore", invalid="ignore"):
            apart = np.abs(values - (start + (end - start) * _GRID))
            return bool((apart <= 1e-9 * np.abs(values) + 1e-12 * abs(start)).all())

    @cached_property
    def proportional(self) -> bool:
        """Whether it is a multiple of the number."""
        return self.straight and self.value(0.0) == 0

    def inverse(self, result: float) -> float | None:
        """Return where the function takes a value; None where that is nowhere, or in several places."""
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
        """The factors that are functions of one variable other than itself."""
        known: dict[Reading, Function] = {}
        for entry, reading in zip(self.entries, self.readings, strict=True):
            for factor in factors_of(reading):
                function = None
                if isinstance(factor, Contrast):
                    function = _contrast(factor, self._contrasted(factor.subject), entry.formula)
                elif isinstance(factor, Curve | Orthogonal | Unit | Logged | Power):
                    function = _of_number(factor, entry.formula, factor == reading)
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

    def besides(self, subject: str, own: Sequence[int]) -> list[str]:
        """Return the other columns that read a variable in the same row."""
        others = [self.entries[at] for at in self._reading.get(subject, []) if at not in own]
        return [entry.name for entry in others if not _along_time(entry.formula)]

    @cached_property
    def _reading(self) -> dict[str, list[int]]:
        """For each variable, the columns that read it."""
        found: dict[str, list[int]] = {}
        for at, entry in enumerate(self.entries):
            for variable in entry.sources:
                found.setdefault(variable, []).append(at)
        return found

    def told_at_quartiles(self) -> list[str]:
        """Return the columns that tell where the quartiles lie of numbers with curves or interactions."""
        bent = {
            subject
            for reading in self.readings
            if isinstance(reading, Product) or self._bends(factors_of(reading)[0])
            for subject in self.subjects([reading])
        }
        alone = [self.subject(reading) for reading in self.readings]
        bent |= {subject for subject in alone if subject is not None and alone.count(subject) > 1}
        chosen: dict[str, list[str]] = {}
        plain: dict[str, list[str]] = {}
        for entry, reading in zip(self.entries, self.readings, strict=True):
            subject, function = self.subject(reading), self.functions.get(reading)
            if subject is None or subject not in bent or (function is not None and function.labels):
                continue
            if isinstance(reading, Unit | Logged) or (isinstance(reading, Power) and reading.degree == 1):
                if function is None or function.straight:
                    plain.setdefault(subject, [entry.name])  # one is enough, and can always be undone
                    continue
            elif function is None:
                continue
            chosen.setdefault(subject, []).append(entry.name)
        return [name for names in (chosen | plain).values() for name in names]

    def _bends(self, factor: Reading) -> bool:
        function = self.functions.get(factor)
        if function is not None and (function.whole or not function.straight):
            return True
        return isinstance(factor, Power) or (isinstance(factor, Logged) and (factor.shift != 0 or function is not None))


@lru_cache(maxsize=4096)
def _along_time(formula: str) -> bool:
    node = _parsed(formula)
    return node is not None and any(part.along_time for part in walk(node))


def _parsed(text: str) -> Node | None:
    """Return an expression; None where a text is none."""
    try:
        return parse(text, True)
    except FacturumError:
        return None


def factors_of(reading: Reading) -> Sequence[Reading]:
    """Return the factors that a column is the product of."""
    if isinstance(reading, Product):
        return [*factors_of(reading.left), *factors_of(reading.right)]
    return factors_of(reading.of) if isinstance(reading, Scaled) else [reading]


def _of_number(factor: Curve | Orthogonal | Unit | Logged | Power, formula: str, alone: bool) -> Function | None:
    """Return a factor of a formula as a function of one number; None where it is none, or that number itself.

    Args:
        factor: how it is read.
        formula: of the column.
        alone: whether the column has no other factor.
    """
    whole = _parsed(formula)
    if whole is None:
        return None
    if isinstance(factor, Curve) and factor.cycle:
        return _wave(factor, whole)
    node, is_whole = _parsed(factor.subject), isinstance(factor, Curve)
    if node is None and alone and factor == Unit(factor.subject):  # a subject in words
        node, is_whole = whole, True
    if node is None:
        return None
    names = names_in(node)
    if len(set(names)) != 1 or any(part.along_time for part in walk(node)):
        return None
    function = Function(names[0], _in_place(node, Name(names[0]), Name(_VALUE)), is_whole)
    if isinstance(factor, Orthogonal):
        return _recurrence(factor, whole, function)
    return None if isinstance(node, Name) or not _is_numeric(function) else function


def _wave(factor: Curve, whole: Node) -> Function | None:
    """Return the wave of a season, a function of the numbers of its parts; None where it is but a factor."""
    names = set(names_in(whole))
    if len(names) != 1 or not isinstance(whole, Sin | Cos):
        return None
    part, *labels = factor.cycle
    return Function(part, _in_place(whole, Name(names.pop()), Name(_VALUE)), True, tuple(labels), True)


def _contrast(factor: Contrast, labels: tuple[str, ...], formula: str) -> Function | None:
    """Return a contrast as a function of its categories; None where its formula compares more than these."""
    whole = _parsed(formula)
    if whole is None:
        return None
    compared = {part.operands[0] for part in walk(whole) if isinstance(part, Comparison)}
    compared |= {part.value for part in walk(whole) if isinstance(part, Membership)}
    if len(compared) != 1:
        return None
    node = _in_place(whole, compared.pop(), Name(_VALUE))
    if set(names_in(node)) != {_VALUE}:
        return None
    function = Function(factor.subject, node, True, labels)
    try:
        return function if function.value(labels[0]) is not None else None
    except FacturumError:  # where numbers are compared
        return None


def _recurrence(factor: Orthogonal, whole: Node, inner: Function) -> Function | None:
    """Return an orthogonal polynomial of a function."""
    for part in walk(whole):
        if isinstance(part, Recurrence) and len(part.basis) == 2 * factor.degree and part.x.subject() == factor.subject:
            return Function(inner.subject, part.replaced(x=inner.node))
    return None


def _is_numeric(function: Function) -> bool:
    """Return whether a function can be computed of numbers."""
    try:
        return bool(np.isfinite(function.at(_GRID)).any())
    except FacturumError:  # one of categories, say
        return False


def _in_place(node: Node, old: Node, new: Node) -> Node:
    """Return an expression with a new one wherever an old one stands."""
    if node == old:
        return new
    return node.rebuilt(_in_place(child, old, new) for child in node.children())
