"""What coefficients mean with their numbers in them: one effect for each change of a variable.

A change of a variable changes all columns that are made of it. Curves are reported between quartiles, interactions at
the quartiles or categories of the other variable.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from itertools import product
from typing import Literal

import numpy as np

from facturum.data.values import FloatArray
from facturum.language.reading import Holds, Indicator, Logged, NoValue, Power, Product, Reading, Scaled, Unit
from facturum.trial.composition import Composition
from facturum.trial.effect_text import Response, effect_text, number_text
from facturum.trial.functions import CategoryFunction, NumberFunction

MAX_SETTINGS = 8  # of other variables, at which an effect is reported
Setting = float | str


@dataclass(frozen=True)
class Effect:
    """The difference in the response that goes with a change of one variable, other columns held fixed.

    Args:
        subject: the variable, or the expression that the plan makes columns of.
        change: the change, in words.
        at: where other variables are, in words; "" where it does not matter.
        estimate, low, high: of the linear predictor, with its interval.
        text: a sentence.
        weights: of the coefficients that make it up, in the order of the trial.
    """

    subject: str
    change: str
    at: str
    estimate: float
    low: float
    high: float
    text: str
    weights: tuple[float, ...]


@dataclass(frozen=True)
class _Change:
    before: Setting
    after: Setting
    text: str


@dataclass(frozen=True)
class Known:
    """What is known of sums of coefficients.

    Args:
        kept: the columns that have one.
        identifies: returns whether a change of all columns keeps the relations among them.
        error: returns the standard error of what goes with the change; None where it is not defined.
    """

    kept: tuple[int, ...]
    identifies: Callable[[FloatArray], bool]
    error: Callable[[FloatArray], float | None]


class Effects:
    """The effects of a fitted design.

    Args:
        composition: of all columns, without the intercept.
        coefficients: of the same, 0 where a column has none.
        known: what is known of sums of coefficients.
        quantile: of the t or normal distribution, for the intervals.
        response: how differences are reported.
        quartiles: of each column, by name, where it was asked for.
    """

    def __init__(
        self,
        composition: Composition,
        coefficients: FloatArray,
        known: Known,
        quantile: float,
        response: Response,
        quartiles: Mapping[str, tuple[float, float, float]],
    ) -> None:
        self._composition, self._response = composition, response
        self._coefficients, self._known, self._quantile = coefficients, known, quantile
        self.not_identified: dict[str, None] = {}
        self._quartiles = quartiles
        self._entries, self._readings = composition.entries, composition.readings

    def all(self) -> Iterator[Effect]:
        """Yield the effects of all variables, in the order in which they first occur."""
        for subject in self._composition.columns:
            yield from self._of(subject)

    def _of(self, subject: str) -> Iterator[Effect]:
        own = self._composition.columns[subject]
        others = list(dict.fromkeys(name for at in own for name in self._composition.subjects(at) if name != subject))
        if self._moves_with(subject, others):
            self.not_identified[subject] = None
            return
        settings = [self._settings(name) for name in others]
        if any(not each for each in settings) or len(list(product(*settings))) > MAX_SETTINGS:
            return
        for change in self._changes(subject, own):
            for chosen in product(*settings):
                given = dict(zip(others, [setting for setting, _ in chosen], strict=True))
                where = " and ".join(text for _, text in chosen)
                if (effect := self._effect(subject, change, given, where, own)) is not None:
                    yield effect

    def _moves_with(self, subject: str, others: list[str]) -> bool:
        """Return whether a variable cannot change alone: a number cut twice, or a condition on one that it meets."""
        condition = isinstance(self._composition.factors(subject)[0], Holds)
        met = condition and bool(self._composition.reads(subject) & {*others})
        return met or len(self._composition.cuts(subject)) > 1

    def _effect(
        self, subject: str, change: _Change, given: dict[str, Setting], where: str, own: list[int]
    ) -> Effect | None:
        weights = np.zeros(len(self._entries))
        for at in own:
            values = [
                self._value(self._readings[at], {**given, subject: setting})
                for setting in (change.before, change.after)
            ]
            if values[0] is None or values[1] is None:
                return None
            weights[at] = values[1] - values[0]
        if not weights.any():  # the plan leaves it no effect there
            return None
        if not self._known.identifies(weights):
            self.not_identified[subject] = None
            return None
        with np.errstate(over="ignore", invalid="ignore"):
            estimate, error = float(weights @ self._coefficients), self._known.error(weights)
        if error is None or not np.isfinite([estimate, error]).all():
            return None
        low, high = estimate - self._quantile * error, estimate + self._quantile * error
        held = self._composition.also_reading(subject, own)
        text = effect_text(self._response, change.text, where, estimate, low, high, held)
        return Effect(
            subject, change.text, where, estimate, low, high, text, tuple(weights[list(self._known.kept)].tolist())
        )

    def _changes(self, subject: str, own: list[int]) -> list[_Change]:
        """Return the changes of a variable that an effect is reported for."""
        if names := self._composition.categories(subject):
            base, *others = names
            return [_Change(base, name, f"{subject} = {name} rather than {base}") for name in others]
        factors = self._composition.factors(subject)
        first = factors[0]
        if isinstance(first, Holds | NoValue):
            what = f"{subject} is missing" if isinstance(first, NoValue) else f"{subject} holds"
            return [_Change(0.0, 1.0, f"Rows in which {what}, compared with the others")]
        if all(self._composition.subjects(at).count(subject) == 1 for at in own):
            if all(isinstance(each, Unit) and self._is(each, "straight") for each in factors):
                return [_by_one(subject, first if isinstance(first, Unit) and self._is(first) else Unit(subject))]
            if all(isinstance(each, Logged) and not each.shift and self._is(each, "proportional") for each in factors):
                return [_Change(1.0, 1.1, f"A 10 % higher {subject}")]
        return self._between_quartiles(subject)

    def _is(self, factor: Reading, at_most: Literal["itself", "straight", "proportional"] = "itself") -> bool:
        """Return whether a factor is of its variable itself, or of a function of it that bends it no more than so."""
        function = self._composition.functions.get(factor)
        if at_most == "itself" or not isinstance(function, NumberFunction):
            return function is None
        return function.straight if at_most == "straight" else function.proportional

    def _between_quartiles(self, subject: str) -> list[_Change]:
        points = self._points(subject)
        if points is None:
            return []
        low, middle, high = points
        pairs = ((low, middle, "lower quartile to median"), (middle, high, "median to upper quartile"))
        return [
            _Change(a, b, f"{subject} from {number_text(a)} to {number_text(b)} ({what})")
            for a, b, what in pairs
            if b > a
        ]

    def _points(self, subject: str) -> tuple[float, float, float] | None:
        """Return the quartiles of a number, from a column that is made of it alone."""
        for at in self._composition.columns[subject]:
            name, reading = self._entries[at].name, self._readings[at]
            points = _before(reading, self._quartiles[name]) if name in self._quartiles else None
            function = self._composition.functions.get(reading)
            if points is not None and isinstance(function, NumberFunction):
                known = sorted(x for each in points if (x := function.inverse(each)) is not None)
                points = (known[0], known[1], known[2]) if len(known) == 3 else None
            if points is not None:
                return points
        return None

    def _settings(self, subject: str) -> list[tuple[Setting, str]]:
        """Return where another variable is set, and each setting in words."""
        if names := self._composition.categories(subject):
            return [(name, f"in rows with {subject} = {name}") for name in names]
        if isinstance(self._composition.factors(subject)[0], Holds | NoValue):
            return [(0.0, f"where {subject} does not hold"), (1.0, f"where {subject} holds")]
        points = self._points(subject)
        if points is None:
            return []
        words: dict[float, list[str]] = {}
        for value, word in zip(points, ("lower quartile", "median", "upper quartile"), strict=True):
            words.setdefault(value, []).append(word)
        return [
            (at, f"where {subject} is {number_text(at)} (its {' and '.join(names)})") for at, names in words.items()
        ]

    def _value(self, reading: Reading, given: Mapping[str, Setting]) -> float | None:
        """Return what a column is where variables are as given; None where that is not known."""
        if isinstance(reading, Product):
            left, right = self._value(reading.left, given), self._value(reading.right, given)
            return None if left is None or right is None else left * right
        if isinstance(reading, Scaled):
            inner = self._value(reading.of, given)
            return None if inner is None else inner * reading.factor
        setting = given.get(self._composition.subject(reading) or "")
        if isinstance(reading, Indicator):
            return 1.0 if setting == reading.category else 0.0
        function = self._composition.functions.get(reading)
        if isinstance(function, CategoryFunction):
            return function.values.get(str(setting))
        if not isinstance(setting, float):
            return None
        x = setting if function is None else function.value(setting)
        return x if x is None or (function is not None and function.whole) else _read(reading, x)


def _by_one(subject: str, unit: Unit) -> _Change:
    """Return the change by one unit, or by a standard deviation of a number that is told in these."""
    size = unit.size if unit.standardized and unit.size else 1.0
    of = f"one standard deviation ({number_text(size)}) of" if unit.standardized else "one unit of"
    start = unit.center or 0.0
    return _Change(start, start + size, f"An increase of {of} {subject}")


def _read(reading: Reading, x: float) -> float | None:
    """Return a column from what its reading is applied to; None where it is not known."""
    if isinstance(reading, Holds):
        return x - (reading.center or 0.0)
    if isinstance(reading, Unit):
        return (x - (reading.center or 0.0)) / (reading.size or 1.0)
    if isinstance(reading, Logged):
        return float(np.log(x + reading.shift)) if x + reading.shift > 0 else None
    if isinstance(reading, Power):
        return float((x - (reading.center or 0.0)) ** reading.degree)
    return x if isinstance(reading, NoValue) else None


def _before(reading: Reading, quartiles: tuple[float, float, float]) -> tuple[float, float, float] | None:
    """Return the quartiles of what a reading is applied to, from those of the column; None where they do not say."""
    low, middle, high = quartiles
    if isinstance(reading, Unit):
        size, center = reading.size or 1.0, reading.center or 0.0
        return low * size + center, middle * size + center, high * size + center
    if isinstance(reading, Logged):
        points = np.exp([low, middle, high]) - reading.shift
        return float(points[0]), float(points[1]), float(points[2])
    if isinstance(reading, Power):
        center = reading.center or 0.0
        return (low + center, middle + center, high + center) if reading.degree == 1 else None
    return quartiles
