"""One sentence on what a column's coefficient means, given how the response is made and what else moves with it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence, Set
from dataclasses import replace

from facturum.audit.readings.interpretation import Interpretation
from facturum.audit.readings.responses import effect, named, percent_effect, scale
from facturum.data.values import plain_number
from facturum.errors import named as in_a_row
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
    Scaled,
    Unit,
    stepped,
)

_PARTS = {1: "linear", 2: "quadratic", 3: "cubic"}
_GROUPS = Indicator | Contrast | Holds | NoValue
MAX_APART = 4


def sentence(interpretation: Interpretation, response: Reading | None, columns: Sequence[Reading | None] = ()) -> str:
    """Return what a coefficient b means, the columns that the sentence does not name held fixed.

    Args:
        interpretation: what the column is read as, and on what its coefficient depends.
        response: the reading of the response; None where there is none.
        columns: for the intercept, the readings of the other columns.

    Example:
        >>> sentence(Interpretation(Logged("price")), Logged("stays"))
        'A 1 % higher price is associated with a difference of about b % in stays (exactly 100·(1.01^b − 1) %).'
        >>> sentence(Interpretation(Indicator("access", "road", "trail")), Unit("stays"))
        'access = road rather than trail: a difference of b in stays.'
        >>> sentence(Interpretation(Unit("beds"), zero=(Indicator("access", "road", "trail"),)), Unit("stays"))
        'Each additional unit of beds is associated with a difference of b in stays, in rows with access = trail.'
    """
    reading = interpretation.reading
    if reading is None:
        return f"Expected {scale(response).removeprefix('the ')} {_where_all_are_zero(columns)}."
    if interpretation.together:
        return _together(interpretation, response)
    factor = reading.factor if isinstance(reading, Scaled) else 1.0
    inner = reading.of if isinstance(reading, Scaled) else reading
    b = _times(factor)
    if isinstance(inner, Product):
        text = _interaction(inner, response, b, interpretation)
    elif isinstance(inner, Power | Orthogonal):
        text = _curve(inner, response, factor)
    else:
        text = _main(inner, response, b, factor, interpretation.filled)
    return text + _conditions(interpretation) + "."


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
        if factor.center is not None:
            return f"where {subject} is {factor.center:.4g}"
        return f"in rows in which {subject} does not hold"
    if isinstance(factor, NoValue):
        return f"in rows in which {subject} is not missing"
    if isinstance(factor, Logged):
        return f"where log({named(factor)}) is 0"
    center = factor.center if isinstance(factor, Unit | Power) else None
    return f"where {subject} is {center or 0.0:.6g}"


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
        return NoValue(inner.subject, inner.wrong + reading.wrong)
    if isinstance(reading, Unit) and reading.subject in truths:
        held = Holds(reading.subject, reading.center)
        return held if reading.size is None else Scaled(held, 1 / reading.size)
    return replace(reading, subject=stepped(reading.subject, every))


def _main(reading: Reading, response: Reading | None, b: str, factor: float, filled: str | None) -> str:
    if isinstance(reading, Logged):
        return f"A 1 % higher {named(reading)} is associated with {percent_effect(response, factor)}"
    if isinstance(reading, Unit | Curve):
        return f"{_increase(reading)} is associated with {effect(response, b)}"
    if isinstance(reading, Indicator) and reading.reference is None:
        rows = f"Rows with {reading.subject} = {reading.category}"
        return f"{rows} (no category is the reference): b adds to {scale(response)}"
    return f"{_comparison(reading, filled)}: {effect(response, b)}"


def _increase(reading: Unit | Curve) -> str:
    if isinstance(reading, Curve):
        return f"Each additional unit of {reading.subject}"
    if reading.standardized:
        return f"An increase of one standard deviation ({reading.size:.4g}) in {reading.subject}"
    if reading.size is None:
        head, _, since = reading.subject.partition("s since ")
        return f"Each additional {head} since {since}" if since else f"Each additional unit of {reading.subject}"
    if reading.size < 0:
        return f"Each {-reading.size:.6g} fewer units of {reading.subject}"
    return f"Each additional {reading.size:.6g} units of {reading.subject}"


def _comparison(reading: Reading, filled: str | None = None) -> str:
    """Return what is compared with what."""
    if isinstance(reading, Holds):
        return f"Rows in which {reading.subject} holds, compared with the others"
    if isinstance(reading, NoValue):
        others = "all others" if filled is None else "rows with the imputed value"
        return f"Rows in which {_missing(reading)}, compared with {others}{f', {filled}' if filled else ''}"
    if isinstance(reading, Indicator):
        return f"{reading.subject} = {reading.category} rather than {reading.reference}"
    if isinstance(reading, Contrast):
        return f"{reading.subject} = {reading.category} compared with {_against(reading)}"
    raise TypeError(reading)


def _against(reading: Contrast) -> str:
    return {
        "all": "the mean of all categories",
        "before": f"the category before, {reading.other}",
        "earlier": f"the mean of the categories before it ({reading.other})",
    }[reading.against]


def _curve(reading: Power | Orthogonal, response: Reading | None, factor: float) -> str:
    x, y, b = reading.subject, scale(response), _times(factor)
    if isinstance(reading, Orthogonal):
        part = f"The {_PARTS.get(reading.degree, f'degree-{reading.degree}')} part of the curve of {y} in {x}"
        return f"{part}: {effect(response, b)} for each unit of this column, apart from the other parts"
    center = reading.center or 0.0
    if reading.degree == 1:
        return f"The slope of {y} in {x} is {b} where {x} is {center:.6g} (the higher powers change it elsewhere)"
    if reading.degree == 2 and reading.top == 2:
        return f"The slope of {y} in {x} changes by {_times(2 * factor)} with each additional unit of {x}"
    return f"The power {reading.degree} of the curve of {y} in {x}, to be read with the other powers"


def _together(interpretation: Interpretation, response: Reading | None) -> str:
    y, x = scale(response), _listed(interpretation.shared)
    if interpretation.slope is not None:
        letters = "cdefg"[: len(interpretation.legend)]
        legend = [
            f"{letter} the coefficient of {name}" for letter, name in zip(letters, interpretation.legend, strict=True)
        ]
        return (
            f"The slope of {y} in {x} is {interpretation.slope}, with {_listed(legend)}{_conditions(interpretation)}."
        )
    return f"Part of how {y} depends on {x}, to be read together with {_listed(interpretation.together)}."


def _interaction(reading: Product, response: Reading | None, b: str, interpretation: Interpretation) -> str:
    factors = _factors(reading)
    by = next((factor for factor in factors if isinstance(factor, _GROUPS)), factors[0])
    factors.remove(by)
    rest = [_effect(factor) for factor in factors]
    what = f"effect of {rest[0]} on" if len(rest) == 1 else f"interaction of {_listed(rest)} in"
    start = f"The {what} {scale(response)}"
    main = (
        f"; the plan has no main effect of {_listed([each.subject for each in interpretation.mainless])}"
        if interpretation.mainless
        else ""
    )
    if isinstance(by, Indicator) and by.reference is None:
        rows = f"in rows with {by.subject} = {by.category}"
        return f"{start} {rows} is {b}" if interpretation.alone else f"{start}: {b} adds to it {rows}"
    if isinstance(by, Indicator):
        said = f"between rows with {by.subject} = {by.category} and rows with {by.reference} (the reference)"
    elif isinstance(by, Contrast):
        said = f"between {by.subject} = {by.category} and {_against(by)}"
    elif isinstance(by, Holds):
        said = f"between rows in which {by.subject} holds and the others"
    elif isinstance(by, NoValue):
        said = f"between rows in which {_missing(by)} and the others"
    else:
        return f"{start} changes by {b} with each additional unit of {_effect(by)}{main}"
    return f"{start} differs by {b} {said}{main}"


def _factors(reading: Reading) -> list[Reading]:
    if isinstance(reading, Product):
        return [*_factors(reading.left), *_factors(reading.right)]
    return [reading]


def _effect(reading: Reading) -> str:
    if isinstance(reading, NoValue):
        return f"a missing {reading.subject}"
    if isinstance(reading, Logged):
        return f"log({named(reading)})"
    if isinstance(reading, Indicator):
        against = f" (rather than {reading.reference})" if reading.reference else ""
        return f"{reading.subject} = {reading.category}{against}"
    if isinstance(reading, Contrast):
        return f"{reading.subject} = {reading.category}"
    if isinstance(reading, Power):
        bent = f"{reading.subject} (where it is {reading.center or 0.0:.6g})" if reading.top > 1 else reading.subject
        return f"{reading.subject} to the power {reading.degree}" if reading.degree > 1 else bent
    if isinstance(reading, Orthogonal):
        return f"the {_PARTS.get(reading.degree, f'degree-{reading.degree}')} part of {reading.subject}"
    if isinstance(reading, Unit) and reading.standardized:
        return f"one standard deviation of {reading.subject}"
    if isinstance(reading, Unit) and reading.size is not None:
        return f"{reading.size:.6g} units of {reading.subject}"
    return getattr(reading, "subject", "")


def _conditions(interpretation: Interpretation) -> str:
    """Return the conditions under which a sentence holds, and the columns that differ along with its own."""
    said = " and ".join(dict.fromkeys(absence(factor) for factor in interpretation.zero))
    conditions = [said] if said else []
    if interpretation.elsewhen:
        conditions.append(f"with {_listed(interpretation.elsewhen)} at other periods held fixed")
    if interpretation.steady:
        conditions.append(
            f"while {_listed(interpretation.steady)} {'stays' if _single(interpretation.steady) else 'stay'} the same"
        )
    if interpretation.apart:
        names = (
            interpretation.apart
            if len(interpretation.apart) <= MAX_APART
            else (*interpretation.apart[:MAX_APART], "others")
        )
        conditions.append(f"apart from what {_listed(names)} add{'s' if _single(names) else ''}")
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


def _missing(reading: NoValue) -> str:
    wrong = f", or was set to missing ({'; '.join(reading.wrong)})" if reading.wrong else ""
    return f"{reading.subject} is missing{wrong}"


def _times(factor: float) -> str:
    return "b" if factor == 1 else "−b" if factor == -1 else f"{plain_number(factor):.6g}·b"


def _single(names: Sequence[str]) -> bool:
    return len(names) == 1 and not names[0].startswith("the columns")


def _listed(words: Sequence[str]) -> str:
    return in_a_row(words, len(words)) or "it"
