"""What the columns of a design are composed of: factors, each a function of one variable."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from facturum.audit.entries import ColumnEntry
from facturum.language.core import names_in
from facturum.language.reading import (
    Contrast,
    Curve,
    Indicator,
    Logged,
    Orthogonal,
    Power,
    Product,
    Reading,
    Scaled,
    Unit,
)
from facturum.language.structures import reading_of
from facturum.trial.functions import (
    CategoryFunction,
    Function,
    NumberFunction,
    along_time,
    contrast_function,
    number_function,
    parsed,
    wave_function,
)


@dataclass(frozen=True)
class Composition:
    """What columns are composed of.

    A column is the product of factors, each of which is made of one subject: a variable, or an expression of several.

    Args:
        entries: the columns.
    """

    entries: tuple[ColumnEntry, ...]

    @cached_property
    def readings(self) -> list[Reading]:
        """The reading of each column."""
        return [reading_of(entry.structure) if entry.structure else Curve(entry.name) for entry in self.entries]

    @cached_property
    def functions(self) -> dict[Reading, Function]:
        """The factors that are functions of one variable other than the variable itself and its indicators."""
        known: dict[Reading, Function] = {}
        for entry, reading in zip(self.entries, self.readings, strict=True):
            for factor in factors_of(reading):
                function = self._function(factor, entry, factor == reading)
                if function is not None:
                    known.setdefault(factor, function)
        return known

    def _function(self, factor: Reading, entry: ColumnEntry, alone: bool) -> Function | None:
        if isinstance(factor, Contrast):
            if alone and entry.by_source:
                return CategoryFunction(
                    factor.subject, {each.source: each.value for each in entry.by_source if each.value is not None}
                )
            return contrast_function(factor, self._contrasted[factor.subject], entry.formula)
        if isinstance(factor, Curve) and factor.cycle:
            return wave_function(factor, entry.formula)
        if isinstance(factor, Curve | Orthogonal | Unit | Logged | Power):
            return number_function(factor, entry.formula, alone)
        return None

    @cached_property
    def _contrasted(self) -> dict[str, list[str]]:
        """For each subject the categories that columns contrast, that without a column first."""
        found: dict[str, dict[str, None]] = {}
        for reading in self.readings:
            for factor in factors_of(reading):
                if isinstance(factor, Contrast):
                    found.setdefault(factor.subject, {factor.other or "": None})[factor.category] = None
        return {subject: list(names) for subject, names in found.items()}

    def subject(self, reading: Reading) -> str | None:
        """Return what a column that is no product is made of."""
        if isinstance(reading, Scaled):
            return self.subject(reading.of)
        if isinstance(reading, Product):
            return None
        return self.functions[reading].subject if reading in self.functions else reading.subject

    def subjects(self, column: int) -> list[str]:
        """Return what a column is made of, as often as it is made of it."""
        found = [self.subject(factor) for factor in factors_of(self.readings[column])]
        return [subject for subject in found if subject is not None]

    @cached_property
    def columns(self) -> dict[str, list[int]]:
        """For each subject the columns that are made of it, in the order in which they first occur."""
        found: dict[str, list[int]] = {}
        for at in range(len(self.entries)):
            for subject in dict.fromkeys(self.subjects(at)):
                found.setdefault(subject, []).append(at)
        return found

    def factors(self, subject: str) -> list[Reading]:
        """Return the factors of all columns that are made of a subject."""
        factors = [factor for at in self.columns[subject] for factor in factors_of(self.readings[at])]
        return [factor for factor in factors if self.subject(factor) == subject]

    def categories(self, subject: str) -> list[str]:
        """Return the names of a category, the one to compare the others with first; none of a number."""
        factors = self.factors(subject)
        indicators = [factor for factor in factors if isinstance(factor, Indicator)]
        if not indicators:
            function = self.functions.get(factors[0])
            return list(function.values) if isinstance(function, CategoryFunction) else []
        names = dict.fromkeys(each.category for each in indicators)
        reference = indicators[0].reference
        without_column = [reference] if reference is not None else self._of_source(subject)
        return list(dict.fromkeys([*[name for name in without_column if name not in names], *names]))

    def cuts(self, subject: str) -> set[frozenset[str]]:
        """Return the ways in which terms cut a subject into categories: one, unless a number is binned twice."""
        found: dict[str, set[str]] = {}
        for at in self.columns[subject]:
            for factor in factors_of(self.readings[at]):
                if isinstance(factor, Indicator) and self.subject(factor) == subject:
                    names = filter(None, (factor.category, factor.reference))
                    found.setdefault(self.entries[at].term, set()).update(names)
        return {frozenset(names) for names in found.values()}

    def reads(self, subject: str) -> frozenset[str]:
        """Return the variables that an expression reads; none of a subject in words."""
        node = parsed(subject)
        return frozenset() if node is None else frozenset(names_in(node))

    def _of_source(self, subject: str) -> list[str]:
        """Return the categories that the map lists for a subject."""
        for entry, reading in zip(self.entries, self.readings, strict=True):
            if entry.by_source and self.subject(reading) == subject:
                return [each.source for each in entry.by_source]
        return []

    def also_reading(self, subject: str, own: Sequence[int]) -> list[str]:
        """Return the names of other columns that read a variable in the same row."""
        others = [self.entries[at] for at in self._readers.get(subject, []) if at not in own]
        return [entry.name for entry in others if not along_time(entry.formula)]

    @cached_property
    def _readers(self) -> dict[str, list[int]]:
        """For each variable, the columns that read it."""
        found: dict[str, list[int]] = {}
        for at, entry in enumerate(self.entries):
            for variable in entry.sources:
                found.setdefault(variable, []).append(at)
        return found

    def quartile_columns(self) -> list[str]:
        """Return the columns whose quartiles tell those of the numbers with curves or interactions."""
        bent = {subject for subject, own in self.columns.items() if len(own) > 1}
        for reading in self.readings:
            factors = factors_of(reading)
            bent |= {self.subject(each) or "" for each in factors if len(factors) > 1 or self._bends(each)}
        certain: dict[str, list[str]] = {}
        possible: dict[str, list[str]] = {}
        for entry, reading in zip(self.entries, self.readings, strict=True):
            subject, function = self.subject(reading), self.functions.get(reading)
            if subject not in bent or subject is None or isinstance(function, CategoryFunction):
                continue
            if _can_be_undone(reading) and (function is None or function.straight):
                certain.setdefault(subject, [entry.name])  # one is enough
            elif function is not None:
                possible.setdefault(subject, []).append(entry.name)
        return [name for names in (possible | certain).values() for name in names]

    def _bends(self, factor: Reading) -> bool:
        function = self.functions.get(factor)
        if isinstance(function, NumberFunction) and (function.whole or not function.straight):
            return True
        return isinstance(factor, Power) or (isinstance(factor, Logged) and (factor.shift != 0 or function is not None))


def factors_of(reading: Reading) -> Sequence[Reading]:
    """Return the factors that a column is the product of."""
    if isinstance(reading, Product):
        return [*factors_of(reading.left), *factors_of(reading.right)]
    return factors_of(reading.of) if isinstance(reading, Scaled) else [reading]


def _can_be_undone(reading: Reading) -> bool:
    return isinstance(reading, Unit | Logged) or (isinstance(reading, Power) and reading.degree == 1)
