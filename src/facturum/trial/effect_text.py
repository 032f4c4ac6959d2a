"""Differences in the response in words, with their numbers and intervals."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from facturum.errors import named

MAX_HELD = 3  # columns that a sentence names


@dataclass(frozen=True)
class Response:
    """How differences in a response are told.

    Args:
        name: of the response, without its scale.
        scale: percent (of a logged response, or a count), odds, points (of a share), or units.
    """

    name: str
    scale: str


def number_text(value: float) -> str:
    """Return a number in four digits, as people write it.

    Example:
        >>> number_text(37.527), number_text(1640.0), number_text(16432.4), number_text(0.00012)
        ('37.53', '1640', '16,430', '0.00012')
    """
    text = f"{value:.4g}"
    return f"{float(text):,.0f}" if 1e4 <= abs(value) < 1e15 else text


def effect_text(
    response: Response, change: str, where: str, estimate: float, low: float, high: float, held: Sequence[str] = ()
) -> str:
    """Return the sentence on an effect.

    Args:
        response: the response.
        change: of a variable, in words.
        where: other variables are, in words, or "".
        estimate, low, high: of the linear predictor.
        held: columns held fixed that read the variable too.

    Example:
        >>> effect_text(Response("stays", "percent"), "A 10 % higher price", "", -0.0419, -0.0619, -0.0222)[:74]
        'A 10 % higher price is associated with stays 4.1 % lower (95 %: 6.0 % to 2'
    """
    verb = "have" if change.startswith("Rows ") else "is associated with"
    where_text = f", {where}," if where else "," if verb == "have" else ""
    among = f", {named(held, MAX_HELD)} among them" if held else ""
    return f"{change}{where_text} {verb} {_difference(response, estimate, low, high)}, other columns held fixed{among}."


def _difference(response: Response, estimate: float, low: float, high: float) -> str:
    if response.scale == "odds":
        odds, least, most = (float(np.exp(min(each, 700.0))) for each in (estimate, low, high))
        return f"odds of {response.name} {odds:.3g} times as large (95 %: {least:.3g} to {most:.3g})"
    figures = [_scaled(response.scale, each) for each in (estimate, low, high)]
    unit = {"percent": " %", "points": " percentage points", "units": ""}[response.scale]
    size, way = _size(figures[0])
    between = _interval(figures[1], figures[2], unit)
    by = "by " if response.scale == "units" else ""
    if response.scale == "units":
        return f"{response.name} {way} {by}{size} (95 %: {between})"
    return f"{response.name} {size}{unit} {way} (95 %: {between})"


def _interval(low: float, high: float, unit: str) -> str:
    (first, one), (second, other) = _size(low), _size(high)
    if one == other:
        return f"{first}{unit} to {second}{unit} {one}"
    return f"{first}{unit} {one} to {second}{unit} {other}"


def _size(value: float) -> tuple[str, str]:
    size = abs(value)
    text = f"{size:,.1f}" if 0.95 <= size < 1e6 else f"{size:.2g}" if size else "0"
    return text, "higher" if value >= 0 else "lower"


def _scaled(scale: str, value: float) -> float:
    if scale == "percent":
        return float(100 * np.expm1(min(value, 700.0)))
    return 100 * value if scale == "points" else value
