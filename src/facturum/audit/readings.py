"""One sentence on what a column's coefficient means, given how the response is made."""

from __future__ import annotations

from collections.abc import Mapping, Set

from facturum.data.values import plain_number
from facturum.language.reading import (
    Contrast,
    Curve,
    Factor,
    Holds,
    Indicator,
    Logged,
    NoValue,
    Orthogonal,
    Power,
    Product,
    Reading,
    Unit,
)

_PARTS = {1: "linear", 2: "quadratic", 3: "cubic"}


def sentence(reading: Reading | None, response: Reading | None, condition: str = "") -> str:
    """Return what a coefficient b means, the other columns held fixed.

    Args:
        reading: of the column; None for the intercept.
        response: of the response; None where there is none.
        condition: where it means this, as `Interactions.condition` tells; empty for everywhere.

    Example:
        >>> sentence(Logged("price"), Logged("stays"))
        'One percent more price: stays changes by about b percent (exactly 100·(1.01^b − 1)).'
        >>> sentence(Indicator("access", "road", "trail"), Unit("stays"))
        'access = road compared with access = trail (the reference): stays differs by b.'
        >>> sentence(Unit("beds"), Unit("stays"), "in rows with access = trail")
        'One more of beds: stays changes by b, in rows with access = trail.'
    """
    text = _sentence(reading, response)
    return f"{text[:-1]}, {condition}." if condition else text


def _sentence(reading: Reading | None, response: Reading | None) -> str:
    if reading is None:
        return f"The level of {_named(response)} where all other columns are 0{_scale(response)}."
    if isinstance(reading, Logged):
        return _elasticity(reading, response)
    if isinstance(reading, Product):
        return _interaction(reading, response)
    if isinstance(reading, Power):
        return _power(reading, response)
    if isinstance(reading, Orthogonal):
        return (
            f"The {_part(reading)} part of the curve of {_named(response)}{_scale(response)} in {reading.subject}, "
            "apart from the other parts: a change by one unit of this column changes it by b."
        )
    if isinstance(reading, Indicator) and reading.reference is None:
        return f"The level of {_named(response)}{_scale(response)} for {reading.subject} = {reading.category} is b."
    return f"{_contrast(reading)}: {_change(reading, response)}."


def absence(factor: Factor) -> str:
    """Return where a factor is 0, or the columns of its term are on average.

    Example:
        >>> absence(Indicator("access", "road", "trail")), absence(Unit("beds", center=41.5))
        ('in rows with access = trail', 'where beds is 41.5')
    """
    subject = factor.subject
    if isinstance(factor, Indicator):
        return (
            f"in rows with {subject} = {factor.reference}" if factor.reference else f"beside what each {subject} adds"
        )
    if isinstance(factor, Contrast | Orthogonal):
        return f"on average over {subject}"
    if isinstance(factor, Holds):
        return f"in rows where {subject} does not hold"
    if isinstance(factor, NoValue):
        return f"in rows where {subject} has a value"
    if isinstance(factor, Logged):
        return f"where log({_named(factor)}) is 0"
    center = factor.center if isinstance(factor, Unit | Power) else None
    return f"where {subject} is {center or 0.0:.6g}"


def informed(reading: Reading, truths: Set[str], taken_out: Mapping[str, NoValue]) -> Reading:
    """Return a reading in which variables are read as what they are.

    Args:
        reading: of a column or the response.
        truths: the names of variables that are truth values, which are read as conditions.
        taken_out: for derived variables from which wrong values were taken out, what having none means.

    Example:
        >>> informed(Product(Unit("open"), Unit("beds")), {"open"}, {})
        Product(left=Holds(subject='open'), right=Unit(subject='beds', center=None, size=None))
    """
    if isinstance(reading, Product):
        return Product(informed(reading.left, truths, taken_out), informed(reading.right, truths, taken_out))
    if isinstance(reading, NoValue) and reading.subject in taken_out:
        inner = taken_out[reading.subject]
        return NoValue(inner.subject, inner.wrong + reading.wrong)
    return Holds(reading.subject) if isinstance(reading, Unit) and reading.subject in truths else reading


def _named(response: Reading | None) -> str:
    if response is None:
        return "the response"
    if isinstance(response, Holds | NoValue):
        return f"the share of rows {'with' if isinstance(response, Holds) else 'without'} {response.subject}"
    if isinstance(response, Indicator):
        return f"the share of rows with {response.subject} = {response.category}"
    if isinstance(response, Logged):
        return f"{response.subject} + {plain_number(response.shift)}" if response.shift else response.subject
    return getattr(response, "subject", "the response")


def _scale(response: Reading | None) -> str:
    return " (as a logarithm)" if isinstance(response, Logged) else ""


def _contrast(reading: Reading) -> str:
    """Return what is compared with what, for one unit of a column."""
    if isinstance(reading, Unit):
        about = "" if reading.center is None else f" (counted from {plain_number(reading.center):.6g})"
        if reading.size is not None:
            return f"One standard deviation ({reading.size:.6g}) more of {reading.subject}{about}"
        return f"One more of {reading.subject}{about}"
    if isinstance(reading, Holds):
        return f"Rows where {reading.subject} holds compared with the others"
    if isinstance(reading, NoValue):
        return f"Rows {_no_value(reading)} compared with the others"
    if isinstance(reading, Indicator):
        against = f"{reading.subject} = {reading.reference} (the reference)" if reading.reference else "none"
        return f"{reading.subject} = {reading.category} compared with {against}"
    if isinstance(reading, Contrast):
        against = {
            "all": "the mean of all categories",
            "before": f"the category before, {reading.other}",
            "earlier": f"the mean of the categories before it ({reading.other})",
        }[reading.against]
        return f"{reading.subject} = {reading.category} compared with {against}"
    if isinstance(reading, Logged):
        return f"One percent more {_named(reading)}"
    if isinstance(reading, Curve | Power | Orthogonal):
        return f"One unit more of {reading.subject}"
    return f"{_contrast(reading.left)} and {_contrast(reading.right)}"


def _change(reading: Reading, response: Reading | None) -> str:
    verb = "differs" if isinstance(reading, Indicator | Contrast | Holds | NoValue) else "changes"
    named = _named(response)
    if isinstance(response, Logged):
        return f"{named} {verb} by exactly 100·(exp(b) − 1) percent"
    if isinstance(response, Holds | NoValue | Indicator):
        return f"{named} {verb} by b (100·b percentage points)"
    return f"{named} {verb} by b"


def _elasticity(reading: Logged, response: Reading | None) -> str:
    start = f"One percent more {_named(reading)}: {_named(response)} changes by about"
    if isinstance(response, Logged):
        return f"{start} b percent (exactly 100·(1.01^b − 1))."
    if isinstance(response, Holds | NoValue | Indicator):
        return f"{start} b percentage points."
    return f"{start} b / 100."


def _power(reading: Power, response: Reading | None) -> str:
    x = reading.subject
    centre = reading.center or 0.0
    scale = f"{_named(response)}{_scale(response)}"
    if reading.degree == 1:
        return f"The slope of {scale} in {x} where {x} is {centre:.6g} (elsewhere the higher powers bend it)."
    if reading.degree == 2 and reading.top == 2:
        return f"How the slope of {scale} in {x} changes: by 2·b for one more of {x}."
    return f"The power {reading.degree} of the curve of {scale} in {x}, to be read with the other powers."


def _part(reading: Orthogonal) -> str:
    return _PARTS.get(reading.degree, f"degree-{reading.degree}")


def _interaction(reading: Product, response: Reading | None) -> str:
    left, right = reading.left, reading.right
    groups = Indicator | Contrast | Holds | NoValue
    if isinstance(right, groups) and not isinstance(left, groups):
        left, right = right, left
    scale = f" on {_named(response)}{_scale(response)}"
    effect = _effect(right)
    if isinstance(left, Indicator):
        if left.reference is None:
            return f"The effect of {effect}{scale} in rows with {left.subject} = {left.category} is b."
        return (
            f"The effect of {effect}{scale} in rows with {left.subject} = {left.category} differs by b from that in "
            f"rows with {left.reference} (the reference)."
        )
    if isinstance(left, Contrast):
        return f"The effect of {effect}{scale} differs by b for {_contrast(left)}."
    if isinstance(left, Holds):
        return f"The effect of {effect}{scale} in rows where {left.subject} holds differs by b from that in the others."
    if isinstance(left, NoValue):
        return f"The effect of {effect}{scale} in rows {_no_value(left)} differs by b from that in the others."
    return f"The effect of {effect}{scale} changes by b with a unit of {_effect(left)}."


def _no_value(reading: NoValue) -> str:
    wrong = f", or had one that was taken out ({'; '.join(reading.wrong)})" if reading.wrong else ""
    return f"where {reading.subject} has no value{wrong}"


def _effect(reading: Reading) -> str:
    if isinstance(reading, NoValue):
        return f"a missing {reading.subject}"
    if isinstance(reading, Logged):
        return f"log({_named(reading)})"
    if isinstance(reading, Indicator):
        against = f" (against {reading.reference})" if reading.reference else ""
        return f"{reading.subject} = {reading.category}{against}"
    if isinstance(reading, Contrast):
        return f"{reading.subject} = {reading.category}"
    if isinstance(reading, Power):
        bent = f"{reading.subject} (where it is {reading.center or 0.0:.6g})" if reading.top > 1 else reading.subject
        return f"{reading.subject} to the power {reading.degree}" if reading.degree > 1 else bent
    if isinstance(reading, Orthogonal):
        return f"the {_part(reading)} part of {reading.subject}"
    if isinstance(reading, Unit) and reading.size is not None:
        return f"one standard deviation of {reading.subject}"
    if isinstance(reading, Product):
        return f"{_effect(reading.left)} times {_effect(reading.right)}"
    return reading.subject
