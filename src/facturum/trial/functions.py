"""Factors of columns as functions of one variable: of a number, or of a category."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import TypeAlias

import numpy as np

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
from facturum.language.reading import Contrast, Curve, Logged, Orthogonal, Power, Unit

_VALUE = Name("value")
_SIZES = np.logspace(-12, 12, 97)
_GRID = np.concatenate([-_SIZES[::-1], [0.0], _SIZES])
_ROUNDS, _STEPS = 5, 1000


@dataclass(frozen=True)
class NumberFunction:
    """What a factor is made of, as a function of one number.

    Args:
        subject: the variable.
        node: the function, as an expression of the variable "value".
        whole: whether it is the factor itself; otherwise what the factor's reading is applied to.
    """

    subject: str
    node: Node
    whole: bool

    @cached_property
    def _known(self) -> dict[float, float | None]:
        return {}

    def value(self, x: float) -> float | None:
        """Return the function at a number; None where it is not defined."""
        if x not in self._known:
            found = float(self.at(np.array([x]))[0])
            self._known[x] = None if np.isnan(found) else found
        return self._known[x]

    def at(self, values: FloatArray) -> FloatArray:
        """Return the function at some numbers; NaN where it is not defined."""
        return _evaluated(self.node, Table.of({_VALUE.variable: values}))

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
            apart = self.at(grid) - result
            exact = np.flatnonzero(apart == 0)
            crossed = np.flatnonzero(np.sign(apart[:-1]) * np.sign(apart[1:]) < 0)
            if len(exact) + len(crossed) != 1:
                return None
            if len(exact):
                return float(grid[exact[0]])
            grid = np.linspace(grid[crossed[0]], grid[crossed[0] + 1], _STEPS)
        return float(grid.mean())


@dataclass(frozen=True)
class CategoryFunction:
    """A factor that has a value for each of some categories.

    Args:
        subject: the category.
        values: by its name.
    """

    subject: str
    values: Mapping[str, float]


Function: TypeAlias = NumberFunction | CategoryFunction


def number_function(
    factor: Curve | Orthogonal | Unit | Logged | Power, formula: str, alone: bool
) -> NumberFunction | None:
    """Return a factor as a function of one number; None where it is none, or that number itself.

    Args:
        factor: how it is read.
        formula: of the column.
        alone: whether the column has no other factor.
    """
    node, whole = parsed(factor.subject), isinstance(factor, Curve)
    if node is None and alone and factor == Unit(factor.subject):  # its subject is in words
        node, whole = parsed(formula), True
    names = set() if node is None else set(names_in(node))
    if node is None or len(names) != 1 or along_time(str(node)):
        return None
    name = names.pop()
    inner = _in_place(node, Name(name), _VALUE)
    if isinstance(factor, Orthogonal):
        return _recurrence(factor, formula, name, inner)
    function = NumberFunction(name, inner, whole)
    return None if isinstance(node, Name) or not np.isfinite(function.at(_GRID)).any() else function


def _recurrence(factor: Orthogonal, formula: str, name: str, inner: Node) -> NumberFunction | None:
    """Return an orthogonal polynomial of an expression as a function of the variable in it."""
    for part in walk(parse(formula, True)):
        if isinstance(part, Recurrence) and len(part.basis) == 2 * factor.degree and part.x.subject() == factor.subject:
            return NumberFunction(name, part.replaced(x=inner), True)
    return None


def wave_function(factor: Curve, formula: str) -> CategoryFunction | None:
    """Return the wave of a season by the parts of the calendar; None where it is but a factor of its column."""
    node = parsed(formula)
    if not isinstance(node, Sin | Cos):
        return None
    part, *labels = factor.cycle
    numbers = Table.of({_VALUE.variable: np.arange(float(len(labels)))})
    values = _evaluated(_in_place(node, Name(names_in(node)[0]), _VALUE), numbers)
    return CategoryFunction(part, dict(zip(labels, values.tolist(), strict=True)))


def contrast_function(factor: Contrast, labels: list[str], formula: str) -> CategoryFunction | None:
    """Return a contrast by its categories; None where its formula reads more than these."""
    whole = parsed(formula)
    parts = [] if whole is None else list(walk(whole))
    compared = {part.operands[0] for part in parts if isinstance(part, Comparison)}
    compared |= {part.value for part in parts if isinstance(part, Membership)}
    if whole is None or len(compared) != 1:
        return None
    node = _in_place(whole, compared.pop(), _VALUE)
    if set(names_in(node)) != {_VALUE.variable}:
        return None
    values = _evaluated(node, Table.of({_VALUE.variable: labels}))
    if np.isnan(values).any():
        return None
    return CategoryFunction(factor.subject, dict(zip(labels, values.tolist(), strict=True)))


def _evaluated(node: Node, table: Table) -> FloatArray:
    """Return an expression in each row; NaN where it cannot be computed."""
    try:
        found = Source(table, {}).values_at(node, np.arange(table.length)).full(table.length)
        return np.where(found.present_mask(), found.numbers(), np.nan)
    except FacturumError:  # an expression of categories given numbers, say
        return np.full(table.length, np.nan)


def parsed(text: str) -> Node | None:
    """Return an expression; None where a text is none."""
    try:
        return parse(text, True)
    except FacturumError:
        return None


@lru_cache(maxsize=4096)
def along_time(formula: str) -> bool:
    """Return whether a formula reads other periods."""
    node = parsed(formula)
    return node is not None and any(part.along_time for part in walk(node))


def _in_place(node: Node, old: Node, new: Node) -> Node:
    """Return an expression with a new one wherever an old one stands."""
    if node == old:
        return new
    return node.rebuilt(_in_place(child, old, new) for child in node.children())
