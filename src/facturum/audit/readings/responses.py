"""Differences in the response in words, for the models that are usual for each kind of response."""

from __future__ import annotations

from dataclasses import dataclass

from facturum.data.values import multiple_text
from facturum.language.factors import Holds, Indicator, Logged, NoValue, Unit
from facturum.language.reading import Product, Reading, Scaled


@dataclass(frozen=True)
class Count(Unit):
    """A response of whole numbers from 0, which models with a log link are made for."""


def response_reading(reading: Reading, text: str) -> Reading:
    """Return a response as it is read: a number in units of its own by its expression.

    Args:
        reading: of the response.
        text: its expression.
    """
    if isinstance(reading, Product | Scaled):
        return Unit(text)
    if isinstance(reading, Unit) and (reading.size is not None or reading.center is not None):
        return Unit(text)
    return reading


def counted_response(reading: Reading) -> Reading:
    """Return the reading of a response whose values are counts."""
    return Count(reading.subject) if isinstance(reading, Unit) else reading


def named(response: Reading | None) -> str:
    """Return what a response is called, without its scale.

    Example:
        >>> named(Logged("stays", 1.0)), named(Holds("open"))
        ('stays + 1', 'the share of rows in which open holds')
    """
    if response is None:
        return "the response"
    if isinstance(response, Logged):
        return response.inside
    if isinstance(response, Indicator):
        return f"the share of rows with {proposition(response)}"
    if is_truth(response):
        return f"the share of rows in which {proposition(response)}"
    return getattr(response, "subject", "the response")


def proposition(response: Reading | None) -> str:
    """Return what is true or false in each row, of a response that is a truth value.

    Example:
        >>> proposition(Indicator("sex", "male")), proposition(NoValue("fees")), proposition(Holds("open"))
        ('sex = male', 'fees is missing', 'open holds')
    """
    if isinstance(response, Indicator):
        return f"{response.subject} = {response.category}"
    return f"{getattr(response, 'subject', 'it')} {'is missing' if isinstance(response, NoValue) else 'holds'}"


def scale(response: Reading | None) -> str:
    """Return what a model's linear predictor is the expectation of.

    Example:
        >>> scale(Logged("stays")), scale(Holds("open"))
        ('log(stays)', 'the share of rows in which open holds (or its log odds, in a logit model)')
    """
    if isinstance(response, Logged):
        return f"log({named(response)})"
    if is_truth(response):
        return f"{named(response)} (or its log odds, in a logit model)"
    if isinstance(response, Count):
        return f"{named(response)} (or its logarithm, with a log link)"
    return named(response)


def effect(response: Reading | None, b: str) -> str:
    """Return the difference associated with one unit of a column.

    Args:
        response: the response.
        b: the coefficient times what the column changes by.

    Example:
        >>> effect(Logged("stays"), "b")
        'a difference of 100·(exp(b) − 1) % in stays'
        >>> effect(Holds("open"), "b")
        'a difference of 100·b percentage points in the share of rows in which open holds (linear model), or an odds \
ratio of exp(b) (logit model)'
    """
    name = named(response)
    if isinstance(response, Logged):
        return f"a difference of 100·(exp({b}) − 1) % in {name}"
    size = f"100·{b} percentage points" if is_truth(response) else b
    return _in_each_model(response, f"a difference of {size} in {name}", f"exp({b})")


def percent_effect(response: Reading | None, factor: float) -> str:
    """Return the difference associated with a 1 % higher value of a logged number.

    Args:
        response: the response.
        factor: of which multiple of the logarithm the column is made.

    Example:
        >>> percent_effect(Unit("stays"), 1.0)
        'a difference of about b / 100 in stays'
    """
    b = multiple_text(factor, "b")
    name = named(response)
    if isinstance(response, Logged):
        return f"a difference of about {b} % in {name} (exactly 100·(1.01^{_raised(b)} − 1) %)"
    size = f"{b} percentage points" if is_truth(response) else f"{b} / 100"
    return _in_each_model(response, f"a difference of about {size} in {name}", f"1.01^{_raised(b)}")


def _in_each_model(response: Reading | None, linear: str, factor: str) -> str:
    """Return a difference in the linear model, and in the other model that is usual for the response.

    Args:
        response: the response.
        linear: the difference in the linear model.
        factor: what the odds or the count is multiplied by in the other.
    """
    if is_truth(response):
        return f"{linear} (linear model), or an odds ratio of {factor} (logit model)"
    if isinstance(response, Count):
        return f"{linear} (linear model), or a factor of {factor} (log link)"
    return linear


def _raised(b: str) -> str:
    return b if b == "b" else f"({b})"


def is_truth(response: Reading | None) -> bool:
    """Return whether a response is true or false in each row."""
    return isinstance(response, Holds | NoValue | Indicator)
