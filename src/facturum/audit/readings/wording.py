"""One sentence on what a column's coefficient means, given how the response is made and what else moves with it."""

from __future__ import annotations

from collections.abc import Sequence

from facturum.audit.readings.claims import Claim
from facturum.errors import named as in_a_row
from facturum.language.meanings.meaning import NO_RESPONSE, Factor, Meaning, times_b


def sentence(claim: Claim, response: Factor | None, columns: Sequence[Meaning | None] = ()) -> str:
    """Return what a coefficient b means, the columns that the sentence does not name held fixed.

    Args:
        claim: what the column means, and on what its coefficient depends.
        response: what the response means; None where there is none.
        columns: for the intercept, what the other columns mean.

    Example:
        >>> from facturum.language.meanings.categories import Indicator
        >>> from facturum.language.meanings.numbers import Logged, Unit
        >>> sentence(Claim(Logged("price")), Logged("stays"))
        'With price 1 % higher: a difference of about b % in stays (exactly 100·(1.01^b − 1) %).'
        >>> sentence(Claim(Indicator("access", "road", "trail")), Unit("stays"))
        'access = road rather than trail: a difference of b in stays.'
        >>> sentence(Claim(Unit("beds"), zero=(Indicator("access", "road", "trail"),)), Unit("stays"))
        'Each additional unit of beds is associated with a difference of b in stays, in rows with access = trail.'
    """
    meaning, response = claim.meaning, response or NO_RESPONSE
    if meaning is None:
        where = "when every other column is 0" if claim.nowhere else _where_all_are_zero(columns)
        return f"Expected {response.scale().removeprefix('the ')} {where}."
    if claim.constant is not None:
        return _constant(claim.constant, response)
    if claim.beside is not None and meaning.wave is not None:
        return _wave(*meaning.wave, claim.beside, response)
    if claim.together is not None:
        return _together(claim, response)
    factors, multiple = meaning.factors()
    if len(factors) > 1:
        text = _interaction(factors, response, multiple, claim)
    else:
        text = factors[0].main_effect(response, multiple, claim.filled)
    return text + _conditions(claim) + _missing_main(claim) + "."


def _together(claim: Claim, response: Factor) -> str:
    y, x = response.scale(), _listed(claim.shared)
    if claim.slope is not None:
        return f"The slope of {y} in {x} is {claim.slope}{_conditions(claim)}."
    beside = f", to be read together with {_listed(claim.together)}" if claim.together else ""
    return f"Part of how {y} depends on {x}{beside}."


def _constant(value: float, response: Factor) -> str:
    if not value:
        return "0 in every row: its coefficient is not identified."
    return f"Constant at {value:.6g}: {times_b(value)} adds to {response.scale()}."


def _wave(cycle: Sequence[str], turns: int, beside: str, response: Factor) -> str:
    part, length = cycle[0], (len(cycle) - 1) / turns
    size = f"√(b² + b[{beside}]²), together with {beside}" if beside else "|b|"
    return f"A cycle of {length:.3g} {part}s in {response.scale()} with amplitude {size}."


def _interaction(factors: list[Factor], response: Factor, multiple: float, claim: Claim) -> str:
    bend = next((factor for factor in factors if factor.power and factor.curve_degree == 2), None)
    by = next((factor for factor in factors if factor.stepwise), next(f for f in factors if f is not bend))
    factors = [factor for factor in factors if factor is not by]
    b = times_b(2 * multiple if bend is not None else multiple)
    rest = [factor.words() for factor in factors]
    y = response.scale()
    what = f"effect of {rest[0]} on {y}" if len(rest) == 1 else f"interaction of {_listed(rest)} in {y}"
    if bend is not None:
        beside = [factor.words() for factor in factors if factor is not bend]
        among = f"The part of {_listed(beside)} in the" if beside else "The"
        what = f"change of the slope of {y} in {bend.subject} with each additional unit of {bend.subject}"
        start = f"{among} {what}"
    else:
        start = f"The {what}"
    if by.level is not None and by.level.alone:
        rows = f"in rows with {by.level.row(by.level.category)}"
        return f"{start} {rows} is {b}" if not claim.apart else f"{start}: {b} adds to it {rows}"
    if by.stepwise:
        return f"{start} differs by {b} between {by.sides()}"
    return f"{start} changes by {b} with each additional unit of {by.words()}"


def product_text(factors: Sequence[Factor]) -> str:
    """Return a product of factors in words.

    Example:
        >>> from facturum.language.meanings.numbers import Logged, Orthogonal
        >>> product_text([Logged("price"), Orthogonal("beds", degree=1, top=2)])
        'the product of log(price) and the linear part of beds'
    """
    words = [factor.words() for factor in factors]
    return words[0] if len(words) == 1 else f"the product of {_listed(words)}"


def _missing_main(claim: Claim) -> str:
    return f"; the plan has no main effect of {_listed(claim.mainless)}" if claim.mainless else ""


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


def _where_all_are_zero(columns: Sequence[Meaning | None]) -> str:
    """Return in words where all other columns are 0."""
    said = {meaning.single and meaning.single.all_at_zero for meaning in columns if meaning is not None}
    if None in said:
        return "when every other column is 0"
    order = ("every category is at its reference", "no condition holds", "every number is 0")
    return f"when {_listed([words for words in order if words in said])}" if said else "over all rows"


def _single(names: Sequence[str]) -> bool:
    return len(names) == 1 and " " not in names[0]


def _listed(words: Sequence[str]) -> str:
    return in_a_row(words, len(words)) or "it"
