"""One sentence on what a column's coefficient means, given how the response is made and what else moves with it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence, Set
from dataclasses import replace

from facturum.audit.readings.claims import Claim
from facturum.audit.readings.responses import effect, percent_effect, scale
from facturum.data.values import multiple_text
from facturum.errors import named as in_a_row
from facturum.language.factors import (
    Curve,
    Factor,
    Holds,
    Indicator,
    Logged,
    NoValue,
    Orthogonal,
    Power,
    Unit,
)
from facturum.language.reading import Product, Reading, Scaled, factors_of, stepped


def sentence(claim: Claim, response: Reading | None, columns: Sequence[Reading | None] = ()) -> str:
    """Return what a coefficient b means, the columns that the sentence does not name held fixed.

    Args:
        claim: what the column is read as, and on what its coefficient depends.
        response: the reading of the response; None where there is none.
        columns: for the intercept, the readings of the other columns.

    Example:
        >>> sentence(Claim(Logged("price")), Logged("stays"))
        'With price 1 % higher: a difference of about b % in stays (exactly 100·(1.01^b − 1) %).'
        >>> sentence(Claim(Indicator("access", "road", "trail")), Unit("stays"))
        'access = road rather than trail: a difference of b in stays.'
        >>> sentence(Claim(Unit("beds"), zero=(Indicator("access", "road", "trail"),)), Unit("stays"))
        'Each additional unit of beds is associated with a difference of b in stays, in rows with access = trail.'
    """
    reading = claim.reading
    if reading is None:
        where = "when every other column is 0" if claim.nowhere else _where_all_are_zero(columns)
        return f"Expected {scale(response).removeprefix('the ')} {where}."
    if claim.constant is not None:
        return _constant(claim.constant, response)
    if claim.beside is not None and isinstance(reading, Curve):
        return _wave(reading, claim.beside, response)
    if claim.together is not None:
        return _together(claim, response)
    parts, factor = factors_of(reading)
    inner = parts[0]
    b = _times(factor)
    if len(parts) > 1:
        text = _interaction(parts, response, factor, claim)
    elif isinstance(inner, Power | Orthogonal):
        text = _curve(inner, response, factor)
    else:
        text = _main(inner, response, b, factor, claim.filled)
    return text + _conditions(claim) + _missing_main(claim) + "."


def informed(reading: Reading, truths: Set[str], set_missing: Mapping[str, NoValue], every: str | None) -> Reading:
    """Return a reading in which variables are read as what they are, and steps of time in words.

    Args:
        reading: of a column or the response.
        truths: the names of variables that are truth values, which are read as conditions.
        set_missing: for derived variables of which wrong values were set to missing, what having none means.
        every: the step of the plan.

    Example:
        >>> informed(Product(Unit("open"), Unit("beds")), {"open"}, {}, None)
        Product(left=Holds(subject='open', center=None), right=Unit(subject='beds', center=None, size=None, \
standardized=False))
    """
    if isinstance(reading, Product):
        left, right = (informed(side, truths, set_missing, every) for side in (reading.left, reading.right))
        return Product(left, right)
    if isinstance(reading, Scaled):
        return Scaled(informed(reading.of, truths, set_missing, every), reading.factor)
    if isinstance(reading, NoValue) and reading.subject in set_missing:
        inner = set_missing[reading.subject]
        return NoValue(inner.subject, inner.wrong + reading.wrong, node=reading.node)
    at = reading.subject.removesuffix(f" {reading.when}") if reading.when else reading.subject
    when = stepped(reading.when, every)
    if isinstance(reading, Unit) and at in truths:
        held = Holds(at, reading.center, node=reading.node, when=when)
        return held if reading.size is None else Scaled(held, 1 / reading.size)
    return replace(reading, subject=stepped(reading.subject, every), when=when)


def _main(reading: Factor, response: Reading | None, b: str, factor: float, filled: str | None) -> str:
    if isinstance(reading, Logged):
        name = f"({reading.inside})" if reading.shift else reading.inside
        return f"With {name} 1 % higher: {percent_effect(response, factor)}"
    if (more := reading.increase()) is not None:
        return f"{more} is associated with {effect(response, b)}"
    if isinstance(reading, Indicator) and reading.reference is None:
        rows = f"Rows with {reading.row(reading.category)}"
        return f"{rows} (no category is the reference): b adds to {scale(response)}"
    return f"{reading.comparison(filled)}: {effect(response, b)}"


def _curve(reading: Power | Orthogonal, response: Reading | None, factor: float) -> str:
    x, y, b = reading.subject, scale(response), _times(factor)
    if isinstance(reading, Orthogonal):
        part = f"The {reading.part} part of the curve of {y} in {x}"
        return f"{part}: {effect(response, b)} for each unit of this column, apart from the other parts"
    center = reading.center or 0.0
    if reading.degree == 1:
        return f"The slope of {y} in {x} is {b} where {x} is {center:.6g} (the higher powers change it elsewhere)"
    if reading.degree == 2 and reading.top == 2:
        return f"The slope of {y} in {x} changes by {_times(2 * factor)} with each additional unit of {x}"
    return f"The power {reading.degree} of the curve of {y} in {x}, to be read with the other powers"


def _together(claim: Claim, response: Reading | None) -> str:
    y, x = scale(response), _listed(claim.shared)
    if claim.slope is not None:
        return f"The slope of {y} in {x} is {claim.slope}{_conditions(claim)}."
    beside = f", to be read together with {_listed(claim.together)}" if claim.together else ""
    return f"Part of how {y} depends on {x}{beside}."


def _constant(value: float, response: Reading | None) -> str:
    if not value:
        return "0 in every row: its coefficient is not identified."
    return f"Constant at {value:.6g}: {_times(value)} adds to {scale(response)}."


def _wave(reading: Curve, beside: str, response: Reading | None) -> str:
    part, length = reading.cycle[0], (len(reading.cycle) - 1) / reading.turns
    size = f"√(b² + b[{beside}]²), together with {beside}" if beside else "|b|"
    return f"A cycle of {length:.3g} {part}s in {scale(response)} with amplitude {size}."


def _interaction(factors: list[Factor], response: Reading | None, multiple: float, claim: Claim) -> str:
    bend = next((factor for factor in factors if isinstance(factor, Power) and factor.degree == 2), None)
    by = next((factor for factor in factors if factor.stepwise), next(f for f in factors if f is not bend))
    factors = [factor for factor in factors if factor is not by]
    b = _times(2 * multiple if bend is not None else multiple)
    rest = [factor.words() for factor in factors]
    y = scale(response)
    what = f"effect of {rest[0]} on {y}" if len(rest) == 1 else f"interaction of {_listed(rest)} in {y}"
    if bend is not None:
        beside = [factor.words() for factor in factors if factor is not bend]
        among = f"The part of {_listed(beside)} in the" if beside else "The"
        what = f"change of the slope of {y} in {bend.subject} with each additional unit of {bend.subject}"
        start = f"{among} {what}"
    else:
        start = f"The {what}"
    if isinstance(by, Indicator) and by.reference is None:
        rows = f"in rows with {by.row(by.category)}"
        return f"{start} {rows} is {b}" if not claim.apart else f"{start}: {b} adds to it {rows}"
    if by.stepwise:
        return f"{start} differs by {b} between {by.sides()}"
    return f"{start} changes by {b} with each additional unit of {by.words()}"


def product_text(factors: Sequence[Factor]) -> str:
    """Return a product of factors in words.

    Example:
        >>> product_text([Logged("price"), Orthogonal("beds", degree=1, top=2)])
        'the product of log(price) and the linear part of beds'
    """
    words = [factor.words() for factor in factors]
    return words[0] if len(words) == 1 else f"the product of {_listed(words)}"


def _missing_main(claim: Claim) -> str:
    if not claim.mainless:
        return ""
    return f"; the plan has no main effect of {_listed(claim.mainless)}"


def _conditions(claim: Claim) -> str:
    """Return the conditions under which a sentence holds, and the columns that differ along with its own."""
    said = " and ".join(dict.fromkeys(factor.where_zero() for factor in claim.zero))
    conditions = [said] if said else []
    if claim.elsewhen:
        conditions.append(f"with {_listed(claim.elsewhen)} at other periods held fixed")
    if claim.steady:
        conditions.append(f"while {_listed(claim.steady)} {'stays' if _single(claim.steady) else 'stay'} the same")
    if claim.apart:
        conditions.append(f"apart from what {_listed(claim.apart)} add{'s' if _single(claim.apart) else ''}")
    return "".join(f", {each}" for each in conditions)


def _where_all_are_zero(columns: Sequence[Reading | None]) -> str:
    """Return in words where all other columns are 0."""
    readings = [reading for reading in columns if reading is not None]
    if not all(isinstance(r, Unit | Indicator | Holds) and getattr(r, "center", None) is None for r in readings):
        return "when every other column is 0"
    if any(isinstance(reading, Indicator) and reading.reference is None for reading in readings):
        return "when every other column is 0"
    kinds = {
        Indicator: "every category is at its reference",
        Holds: "no condition holds",
        Unit: "every number is 0",
    }
    said = [words for kind, words in kinds.items() if any(isinstance(reading, kind) for reading in readings)]
    return f"when {_listed(said)}" if said else "over all rows"


def _times(factor: float) -> str:
    return multiple_text(factor, "b")


def _single(names: Sequence[str]) -> bool:
    return len(names) == 1 and " " not in names[0]


def _listed(words: Sequence[str]) -> str:
    return in_a_row(words, len(words)) or "it"
