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


@dataclass(frozen=True)
class Effect:
    """The difference in the response that goes with a change of a source variable, all else in the table unchanged.

    Args:
        subject: the variable of the source.
        change: the change, in words.
        at: in which rows, or where other variables are, in words; "" where it does not matter.
        estimate, low, high: the average difference of the response as it was fitted, with its interval; of a logit that
            of the probabilities, of counts the logarithm of the ratio of the means. Where a stored build does not tell
            the rows after the change, that of the linear predictor.
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


def effect_text(
    response: Response, change: str, where: str, estimate: float, low: float, high: float, also: str = ""
) -> str:
    """Return the sentence on an effect.

    Args:
        response: the response.
        change: of a variable, in words.
        where: other variables are, in words, or "".
        estimate, low, high: of the linear predictor.
        also: another difference, in words.

    Example:
        >>> effect_text(Response("stays", "percent"), "price 10 % higher", "", -0.0419, -0.0619, -0.0222)[:70]
        'With price 10 % higher: stays 4.1 % lower (95 %: 6.0 % to 2.2 % lower)'
    """
    where_text = f", {where}" if where else ""
    apart = "" if "apart from" in where else ", all else in the table unchanged"
    more = f"; {also}" if also else ""
    return f"With {change}{where_text}: {difference_text(response, estimate, low, high)}{apart}{more}."


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
