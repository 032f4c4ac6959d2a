"""What coefficients mean with their numbers in them: one effect for each change of a variable.

A change of a variable changes all columns that are made of it. Curves are told between quartiles, interactions at the
quartiles or categories of the other variable.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import product

import numpy as np

from facturum.data.values import FloatArray
from facturum.language.reading import (
    Contrast,
    Holds,
    Indicator,
    Logged,
    NoValue,
    Power,
    Product,
    Reading,
    Scaled,
    Unit,
)
from facturum.trial.effect_text import Response, effect_text
from facturum.trial.makings import Makings, factors_of

MAX_SETTINGS = 8  # of other variables, at which an effect is told
MAX_CATEGORIES = 30  # that are compared with one
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


class Effects:
    """The effects of a fitted design.

    Args:
        made: what the columns that have coefficients are made of, in the order of these, without the intercept.
        coefficients: of the same.
        covariance: of these.
        quantile: of the t or normal distribution, for the intervals.
        response: how differences are told.
        quartiles: of each column, by name, where it was asked for.
    """

    def __init__(
        self,
        made: Makings,
        coefficients: FloatArray,
        covariance: FloatArray,
        quantile: float,
        response: Response,
        quartiles: Mapping[str, tuple[float, float, float]],
    ) -> None:
        self._made, self._response = made, response
        self._coefficients, self._covariance, self._quantile = coefficients, covariance, quantile
        self._quartiles = quartiles
        self._valued: dict[tuple[Reading, Setting], float | None] = {}
        self._entries, self._readings = made.entries, made.readings

    def all(self) -> Iterator[Effect]:
        """Yield the effects of all variables, in the order in which they first occur."""
        for subject in dict.fromkeys(self._made.subjects(self._readings)):
            yield from self._of(subject)

    def _of(self, subject: str) -> Iterator[Effect]:
        own = [at for at, reading in enumerate(self._readings) if subject in self._made.subjects([reading])]
        others = [
            name for name in dict.fromkeys(self._made.subjects(self._readings[at] for at in own)) if name != subject
        ]
        settings = [self._settings(name) for name in others]
        if any(not each for each in settings) or len(list(product(*settings))) > MAX_SETTINGS:
            return
        for change in self._changes(subject, own):
            for chosen in product(*settings):
                given = dict(zip(others, [setting for setting, _ in chosen], strict=True))
                where = " and ".join(text for _, text in chosen)
                if (effect := self._effect(subject, change, given, where, own)) is not None:
                    yield effect

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
        with np.errstate(over="ignore", invalid="ignore"):
            estimate = float(weights @ self._coefficients)
            error = float(np.sqrt(max(float(weights @ self._covariance @ weights), 0.0)))
        if not np.isfinite([estimate, error]).all():
            return None
        low, high = estimate - self._quantile * error, estimate + self._quantile * error
        besides = self._made.besides(subject, own)
        text = effect_text(self._response, change.text, where, estimate, low, high, besides)
        return Effect(subject, change.text, where, estimate, low, high, text, tuple(weights.tolist()))

    def _changes(self, subject: str, own: list[int]) -> list[_Change]:
        """Return the changes of a variable that are told."""
        factors = self._factors(subject, own)
        first = factors[0]
        if isinstance(first, Indicator):
            base, *others = self._indicated(subject, factors)
            return [_Change(base, name, f"{subject} = {name} rather than {base}") for name in others]
        if isinstance(first, Contrast) or self._labels(first):
            names = self._categories(subject)
            base = names[0] if names else ""
            if len(names) - 1 > MAX_CATEGORIES:
                return []
            return [_Change(base, name, f"{subject} = {name} rather than {base}") for name in names[1:]]
        if isinstance(first, Holds | NoValue):
            what = f"{subject} is missing" if isinstance(first, NoValue) else f"{subject} holds"
            return [_Change(0.0, 1.0, f"Rows in which {what}, compared with the others")]
        known = self._made.functions
        once = not any(self._made.subjects([self._readings[at]]).count(subject) > 1 for at in own)
        if once and all(isinstance(f, Unit) and (f not in known or known[f].straight) for f in factors):
            return [_one_more(subject, first if isinstance(first, Unit) and first not in known else Unit(subject))]
        logs = [f for f in factors if isinstance(f, Logged) and not f.shift]
        if once and len(logs) == len(factors) and all(f not in known or known[f].proportional for f in logs):
            return [_Change(1.0, 1.1, f"A 10 % higher {subject}")]
        return self._between_quartiles(subject)

    def _between_quartiles(self, subject: str) -> list[_Change]:
        points = self._points(subject)
        if points is None:
            return []
        low, middle, high = points
        pairs = ((low, middle, "lower quartile to median"), (middle, high, "median to upper quartile"))
        return [_Change(a, b, f"{subject} from {a:.4g} to {b:.4g} ({what})") for a, b, what in pairs if b > a]

    def _points(self, subject: str) -> tuple[float, float, float] | None:
        """Return the quartiles of a number, from a column that is made of it alone."""
        for entry, reading in zip(self._entries, self._readings, strict=True):
            if entry.name not in self._quartiles or self._made.subject(reading) != subject:
                continue
            points = _undone(reading, self._quartiles[entry.name])
            function = self._made.functions.get(reading)
            if points is None or function is None:
                if points is not None:
                    return points
                continue
            known = sorted(at for each in points if (at := function.inverse(each)) is not None)
            if len(known) == 3:
                return known[0], known[1], known[2]
        return None

    def _settings(self, subject: str) -> list[tuple[Setting, str]]:
        """Return where another variable is set, and each setting in words."""
        factors = self._factors(subject, range(len(self._readings)))
        first = factors[0]
        if isinstance(first, Indicator):
            return [(name, f"in rows with {subject} = {name}") for name in self._indicated(subject, factors)]
        if isinstance(first, Contrast) or self._labels(first):
            return [(name, f"in rows with {subject} = {name}") for name in self._categories(subject)]
        if isinstance(first, Holds | NoValue):
            return [(0.0, f"where {subject} does not hold"), (1.0, f"where {subject} holds")]
        points = self._points(subject)
        if points is None:
            return []
        words: dict[float, list[str]] = {}
        for value, word in zip(points, ("lower quartile", "median", "upper quartile"), strict=True):
            words.setdefault(value, []).append(word)
        return [(at, f"where {subject} is {at:.4g} (its {' and '.join(names)})") for at, names in words.items()]

    def _factors(self, subject: str, columns: Iterable[int]) -> list[Reading]:
        """Return the factors of columns that are made of a variable."""
        factors = [factor for at in columns for factor in factors_of(self._readings[at])]
        return [factor for factor in factors if self._made.subject(factor) == subject]

    def _indicated(self, subject: str, factors: Sequence[Reading]) -> list[str]:
        """Return the categories that columns indicate, that without a column first."""
        indicators = [factor for factor in factors if isinstance(factor, Indicator)]
        names = list(dict.fromkeys(each.category for each in indicators))
        reference = indicators[0].reference
        without = (
            [name for name in self._categories(subject) if name not in names] if reference is None else [reference]
        )
        return list(dict.fromkeys([*without, *names]))

    def _categories(self, subject: str) -> list[str]:
        for entry, reading in zip(self._entries, self._readings, strict=True):
            if self._made.subject(reading) == subject and entry.by_source:
                return [each.source for each in entry.by_source]
        return next(
            (list(labels) for f in self._factors(subject, range(len(self._readings))) if (labels := self._labels(f))),
            [],
        )

    def _labels(self, factor: Reading) -> tuple[str, ...]:
        function = self._made.functions.get(factor)
        return () if function is None else function.labels

    def _by_source(self, reading: Reading) -> dict[str, float | None]:
        """Return what the column that is read so, a product aside, is for each value of its source."""
        for entry, other in zip(self._entries, self._readings, strict=True):
            if other == reading and entry.by_source:
                return {each.source: each.value for each in entry.by_source}
        return {}

    def _value(self, reading: Reading, given: Mapping[str, Setting]) -> float | None:
        """Return what a column is where variables are as given; None where that is not known."""
        if isinstance(reading, Product):
            left, right = self._value(reading.left, given), self._value(reading.right, given)
            return None if left is None or right is None else left * right
        if isinstance(reading, Scaled):
            inner = self._value(reading.of, given)
            return None if inner is None else inner * reading.factor
        setting = given.get(self._made.subject(reading) or "")
        if isinstance(reading, Indicator):
            return 1.0 if setting == reading.category else 0.0
        if isinstance(reading, Contrast) and (known := self._by_source(reading)):
            return known.get(str(setting))
        if reading in self._made.functions and setting is not None:
            function = self._made.functions[reading]
            if (reading, setting) not in self._valued:
                self._valued[reading, setting] = function.value(setting)
            setting = self._valued[reading, setting]
            if function.whole:
                return setting
        if not isinstance(setting, float):
            return None
        if isinstance(reading, Holds):
            return setting - (reading.center or 0.0)
        if isinstance(reading, Unit):
            return (setting - (reading.center or 0.0)) / (reading.size or 1.0)
        if isinstance(reading, Logged):
            return float(np.log(setting + reading.shift)) if setting + reading.shift > 0 else None
        if isinstance(reading, Power):
            return float((setting - (reading.center or 0.0)) ** reading.degree)
        return setting if isinstance(reading, NoValue) else None


def _one_more(subject: str, unit: Unit) -> _Change:
    """Return the change by one unit, or by a standard deviation of a number that is told in these."""
    size = unit.size if unit.standardized and unit.size else 1.0
    of = f"one standard deviation ({size:.4g}) of" if unit.standardized else "one unit of"
    start = unit.center or 0.0
    return _Change(start, start + size, f"An increase of {of} {subject}")


def _undone(reading: Reading, quartiles: tuple[float, float, float]) -> tuple[float, float, float] | None:
    """Return the quartiles of what a reading is applied to, from those of the column; None where they do not tell."""
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
