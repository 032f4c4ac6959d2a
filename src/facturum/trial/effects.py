"""What coefficients mean with their numbers in them: one effect for each change of a variable.

A change of a variable changes all columns that are made of it. Curves are told between quartiles, interactions at the
quartiles or categories of the other variable.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import product

import numpy as np

from facturum.audit.entries import ColumnEntry
from facturum.data.values import FloatArray
from facturum.language.reading import (
    Contrast,
    Curve,
    Holds,
    Indicator,
    Logged,
    NoValue,
    Orthogonal,
    Power,
    Product,
    Reading,
    Scaled,
    Unit,
)
from facturum.language.structures import reading_of
from facturum.trial.effect_text import Response, effect_text

MAX_SETTINGS = 8  # of other variables, at which an effect is told
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
        entries: the columns that have coefficients, in the order of these, without the intercept.
        coefficients: of the same.
        covariance: of these.
        quantile: of the t or normal distribution, for the intervals.
        response: how differences are told.
        quartiles: of each column, by name, where it was asked for.
    """

    def __init__(
        self,
        entries: Sequence[ColumnEntry],
        coefficients: FloatArray,
        covariance: FloatArray,
        quantile: float,
        response: Response,
        quartiles: Mapping[str, tuple[float, float, float]],
    ) -> None:
        self._entries, self._response = entries, response
        self._coefficients, self._covariance, self._quantile = coefficients, covariance, quantile
        self._quartiles = quartiles
        self._readings = readings_of(entries)

    def all(self) -> Iterator[Effect]:
        """Yield the effects of all variables, in the order in which they first occur."""
        subjects = dict.fromkeys(name for reading in self._readings for name in subjects_of(reading))
        for subject in subjects:
            yield from self._of(subject)

    def _of(self, subject: str) -> Iterator[Effect]:
        own = [at for at, reading in enumerate(self._readings) if subject in subjects_of(reading)]
        others = dict.fromkeys(name for at in own for name in subjects_of(self._readings[at]) if name != subject)
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
        estimate = float(weights @ self._coefficients)
        error = float(np.sqrt(max(float(weights @ self._covariance @ weights), 0.0)))
        low, high = estimate - self._quantile * error, estimate + self._quantile * error
        text = effect_text(self._response, change.text, where, estimate, low, high)
        return Effect(subject, change.text, where, estimate, low, high, text, tuple(weights.tolist()))

    def _changes(self, subject: str, own: list[int]) -> list[_Change]:
        """Return the changes of a variable that are told."""
        factors = [factor for at in own for factor in factors_of(self._readings[at]) if factor_of(factor) == subject]
        first = factors[0]
        if isinstance(first, Indicator):
            if first.reference is None:
                return []
            known = dict.fromkeys(f.category for f in factors if isinstance(f, Indicator))
            return [
                _Change(first.reference, name, f"{subject} = {name} rather than {first.reference}") for name in known
            ]
        if isinstance(first, Contrast):
            names = self._categories(subject)
            base = names[0] if names else ""
            return [_Change(base, name, f"{subject} = {name} rather than {base}") for name in names[1:]]
        if isinstance(first, Holds | NoValue):
            what = f"{subject} is missing" if isinstance(first, NoValue) else f"{subject} holds"
            return [_Change(0.0, 1.0, f"Rows in which {what}, compared with the others")]
        straight = len({type(f) for f in factors}) == 1 and not any(
            subjects_of(self._readings[at]).count(subject) > 1 for at in own
        )
        if straight and isinstance(first, Unit):
            size = first.size if first.standardized and first.size else 1.0
            of = f"one standard deviation ({size:.4g}) of" if first.standardized else "one unit of"
            start = first.center or 0.0
            return [_Change(start, start + size, f"An increase of {of} {subject}")]
        if straight and isinstance(first, Logged) and not first.shift:
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
            if entry.name not in self._quartiles or factor_of(reading) != subject:
                continue
            low, middle, high = self._quartiles[entry.name]
            if isinstance(reading, Unit):
                size, center = reading.size or 1.0, reading.center or 0.0
                return low * size + center, middle * size + center, high * size + center
            if isinstance(reading, Logged):
                points = np.exp([low, middle, high]) - reading.shift
                return float(points[0]), float(points[1]), float(points[2])
            if isinstance(reading, Power) and reading.degree == 1:
                center = reading.center or 0.0
                return low + center, middle + center, high + center
        return None

    def _settings(self, subject: str) -> list[tuple[Setting, str]]:
        """Return where another variable is set, and each setting in words."""
        factors = [f for reading in self._readings for f in factors_of(reading) if factor_of(f) == subject]
        first = factors[0]
        if isinstance(first, Indicator):
            names = dict.fromkeys([*([first.reference] if first.reference else []), *[
                f.category for f in factors if isinstance(f, Indicator)]])  # fmt: skip
            return [(name, f"in rows with {subject} = {name}") for name in names]
        if isinstance(first, Contrast):
            return [(name, f"in rows with {subject} = {name}") for name in self._categories(subject)]
        if isinstance(first, Holds | NoValue):
            return [(0.0, f"where {subject} does not hold"), (1.0, f"where {subject} holds")]
        points = self._points(subject)
        words = ("lower quartile", "median", "upper quartile")
        if points is None:
            return []
        return [
            (value, f"where {subject} is {value:.4g} (its {word})") for value, word in zip(points, words, strict=True)
        ]

    def _categories(self, subject: str) -> list[str]:
        for entry, reading in zip(self._entries, self._readings, strict=True):
            if factor_of(reading) == subject and entry.by_source:
                return [each.source for each in entry.by_source]
        return []

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
        setting = given.get(factor_of(reading) or "")
        if isinstance(reading, Indicator):
            return 1.0 if setting == reading.category else 0.0
        if isinstance(reading, Contrast | Orthogonal | Curve):
            return self._by_source(reading).get(str(setting))
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


def readings_of(entries: Sequence[ColumnEntry]) -> list[Reading]:
    """Return the readings of columns."""
    return [reading_of(entry.structure) if entry.structure else Curve(entry.name) for entry in entries]


def wants_quartiles(entries: Sequence[ColumnEntry]) -> list[str]:
    """Return the columns whose quartiles effects are told at: numbers with curves or interactions."""
    readings = readings_of(entries)
    bent = {
        name
        for reading in readings
        if isinstance(reading, Product | Power) or (isinstance(reading, Logged) and reading.shift)
        for name in subjects_of(reading)
    }
    twice = [factor_of(reading) for reading in readings]
    bent |= {name for name in twice if name is not None and twice.count(name) > 1}
    return [
        entry.name
        for entry, reading in zip(entries, readings, strict=True)
        if isinstance(reading, Unit | Logged | Power) and factor_of(reading) in bent
    ]


def factors_of(reading: Reading) -> list[Reading]:
    """Return the factors that a column is the product of."""
    if isinstance(reading, Product):
        return [*factors_of(reading.left), *factors_of(reading.right)]
    return factors_of(reading.of) if isinstance(reading, Scaled) else [reading]


def factor_of(reading: Reading) -> str | None:
    """Return what a column that is no product is made of."""
    if isinstance(reading, Scaled):
        return factor_of(reading.of)
    return None if isinstance(reading, Product) else reading.subject


def subjects_of(reading: Reading) -> list[str]:
    """Return what a column is made of."""
    return [name for factor in factors_of(reading) if (name := factor_of(factor)) is not None]
