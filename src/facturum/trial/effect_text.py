"""Differences in the response in words, with their numbers and intervals."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

SMALL = 0.1  # of log odds, below which their ratio is told in percent


@dataclass(frozen=True)
class Response:
    """How differences in a response are told.

    Args:
        name: of the response, without its scale; of odds, what is true or false.
        scale: percent (of a logged response, or a count), odds, log odds, points (of a share), or units.
    """

    name: str
    scale: str


def effect_text(
    response: Response, change: str, where: str, estimate: float, low: float, high: float,
    points: float | None = None, also: str = "",
) -> str:  # fmt: skip
    """Return the sentence on an effect.

    Args:
        response: the response.
        change: of a variable, in words.
        where: other variables are, in words, or "".
        estimate, low, high: of the linear predictor.
        points: of log odds, by how many percentage points the share differs on average; None where that is not known.
        also: another difference, in words.

    Example:
        >>> effect_text(Response("stays", "percent"), "price 10 % higher", "", -0.0419, -0.0619, -0.0222)[:70]
        'With price 10 % higher: stays 4.1 % lower (95 %: 6.0 % to 2.2 % lower)'
    """
    where_text = f", {where}" if where else ""
    share = "" if points is None else f", or {_size(points)[0]} percentage points {_size(points)[1]} on average"
    apart = "" if "apart from" in where else ", all else in the table unchanged"
    more = f"; {also}" if also else ""
    return f"With {change}{where_text}: {difference_text(response, estimate, low, high)}{share}{apart}{more}."


def difference_text(response: Response, estimate: float, low: float, high: float) -> str:
    """Return a difference in the response with its interval, in words.

    Example:
        >>> difference_text(Response("stays", "units"), 1.5, 1.0, 2.0)
        'stays 1.5 higher (95 %: 1.0 to 2.0 higher)'
    """
    name, scale = response.name, response.scale
    if scale == "odds" and abs(estimate) >= SMALL:
        odds, least, most = (float(np.exp(min(each, 700.0))) for each in (estimate, low, high))
        return f"the odds that {name} {odds:.3g} times as large (95 %: {least:.3g} to {most:.3g})"
    if scale in ("odds", "log odds"):
        name, scale = f"the {scale} that {name}", "percent" if scale == "odds" else "units"
    figures = [_scaled(scale, each) for each in (estimate, low, high)]
    unit = {"percent": " %", "points": " percentage points", "units": ""}[scale]
    size, way = _size(figures[0])
    between = _interval(figures[1], figures[2], " %" if scale == "percent" else "")
    return f"{name} {size}{unit} {way} (95 %: {between})"


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
