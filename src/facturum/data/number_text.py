"""Numbers written as text: what counts as one, and which way of reading would make numbers of a column."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from facturum.errors import DataError, toml_key

_PLAIN = re.compile(r"[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?", re.ASCII)
_UNITS = ("%", "‰", "€", "$", "£", "¥", "₹", "₽", "CHF", "EUR", "USD", "GBP")
_FOREIGN = re.compile(r"[+-]?(?:0[xX][0-9a-fA-F]+|0[bB][01]+|0[oO][0-7]+|\d+(?:_\d+)+)", re.ASCII)
LOOKED_AT = 500
NEARLY = 0.8  # the share of a text's categories that are numbers, from which on it is nearly all numbers


@dataclass(frozen=True)
class NumberForm:
    """How numbers are written as text.

    Args:
        decimal: the decimal mark.
        thousands: what stands between groups of three digits; empty for nothing.
        unit: a sign or word before or after the number, such as ``%``; empty for none.

    Example:
        >>> NumberForm(",", ".", "€").number("€ 1.234,50")
        1234.5
        >>> NumberForm().number("1_000") is None, NumberForm().number("+5")
        (True, 5.0)
    """

    decimal: str = "."
    thousands: str = ""
    unit: str = ""

    def __post_init__(self) -> None:
        if self.thousands == self.decimal:
            other = "," if self.decimal == "." else "."
            raise DataError(
                f"{self.decimal!r} is both the decimal mark and what stands between groups of three digits",
                remedy=f'Write decimal = "{other}" beside thousands = "{self.thousands}", or one of the two alone.',
            )

    def number(self, text: str) -> float | None:
        """Return the number that a text is, or None where it is none; infinity and NaN are none."""
        text = self.plain(text)
        if _PLAIN.fullmatch(text) is None:
            return None
        value = float(text)
        return value if abs(value) <= 1.7976931348623157e308 else None

    def plain(self, text: str) -> str:
        """Return a text without its unit and its thousands separators, with a decimal point."""
        text = text.strip()
        if self.unit:
            sign = text[:1] if text[:1] in "+-" and text[1:].strip().startswith(self.unit) else ""
            text = text[len(sign) :].strip()
            text = text.removeprefix(self.unit).strip() if text.startswith(self.unit) else text.removesuffix(self.unit)
            text = sign + text.strip()
        if self.thousands and self.thousands in text:
            grouped = rf"[+-]?\d{{1,3}}(?:{re.escape(self.thousands)}\d{{3}})+(?:{re.escape(self.decimal)}\d*)?"
            if re.fullmatch(grouped, text, re.ASCII) is None:
                return "?"
            text = text.replace(self.thousands, "")
        if self.decimal != ".":
            text = "?" if "." in text else text.replace(self.decimal, ".", 1)
        return text

    def reads(self, texts: Iterable[str]) -> bool:
        """Return whether all texts are numbers in this form."""
        return all(self.number(text) is not None for text in texts)

    @property
    def remedy(self) -> str:
        """What to write in a plan for these texts to be read as numbers; NAME is the variable."""
        marks = [("decimal", self.decimal if self.decimal != "." else ""), ("thousands", self.thousands)]
        said = " and ".join(f'{key} = "{mark}"' for key, mark in marks if mark)
        if not self.unit:
            return f"write {said} under [data]" if said else 'write [variables] NAME = { kind = "number" }'
        inner = "".join(f', {key} = "{mark}"' for key, mark in marks if mark)
        return f'write [variables] NAME = {{ kind = "number", unit = "{self.unit}"{inner} }}'

    def __str__(self) -> str:
        marks = [
            "a decimal comma" if self.decimal == "," else "",
            f"the thousands separator {self.thousands!r}" if self.thousands else "",
            f"the unit {self.unit!r}" if self.unit else "",
        ]
        return " and ".join(filter(None, marks)) or "plain digits"


PLAIN = NumberForm()
# a separator that always comes before three digits is read as one of thousands, not as a decimal mark
_MARKS = (NumberForm(), NumberForm(".", ","), NumberForm(","), NumberForm(",", "."))
_SPACED = (NumberForm(".", " "), NumberForm(",", " "), NumberForm(".", "'"), NumberForm(".", "\u00a0"))
FORMS = (*_MARKS, *_SPACED)


def form_of(texts: Sequence[str]) -> NumberForm | None:
    """Return the form in which all texts are numbers, or None where there is none.

    Example:
        >>> form_of(["1,234", "12"]), form_of(["5 %", "12 %"]).unit, form_of(["road"]) is None
        (NumberForm(decimal='.', thousands=',', unit=''), '%', True)
    """
    some = a_few(texts)
    if not some or not all(any(char.isdigit() for char in text) for text in some):
        return None
    return next((form for form in _forms(some) if form.reads(some) and form.reads(texts)), None)


def a_few(texts: Sequence[str]) -> Sequence[str]:
    """Return a few texts from all over, so that long lists of other texts are recognised at once."""
    return texts[:: max(1, len(texts) // LOOKED_AT)]


def _forms(some: Sequence[str]) -> list[NumberForm]:
    """Return the forms that texts may be in, the plain one first."""
    units = ["", *(unit for unit in _UNITS if any(unit in text for text in some))]
    return [NumberForm(form.decimal, form.thousands, unit) for unit in units for form in (*_MARKS, *_SPACED)]


_GROUPED = re.compile(r"[+-]?\d{1,3}(?P<mark>[.,])\d{3}", re.ASCII)


@dataclass(frozen=True)
class TwoWays:
    """A text that is a number in two ways.

    Args:
        text: the text.
        mark: what stands before its last three digits: a decimal mark, or a separator of thousands.
        small, large: what it is then.
    """

    text: str
    mark: str
    small: str
    large: str


def in_two_ways(texts: Sequence[str]) -> TwoWays | None:
    """Return one of some texts where all can be read with a mark as a decimal one and as one of thousands; or None.

    They can where each mark stands before exactly three digits, and the others are whole numbers.

    Example:
        >>> in_two_ways(["950", "1.065", "12.400"])
        TwoWays(text='1.065', mark='.', small='1.065', large='1,065')
        >>> in_two_ways(["0.5", "1.065"]) is None, in_two_ways(["0.125", "3"]) is None
        (True, True)
    """
    marked = [text.strip() for text in texts if "." in text or "," in text]
    found = [_GROUPED.fullmatch(text) for text in marked]
    whole = [text.strip() for text in texts if text.strip() not in marked]
    if not found or not all(found) or any(PLAIN.number(text) is None for text in whole):
        return None
    marks = {match["mark"] for match in found if match is not None}
    if len(marks) != 1 or any(text.lstrip("+-").startswith("0") for text in marked):
        return None
    mark = marks.pop()
    digits = marked[0].replace(mark, "")
    return TwoWays(marked[0], mark, marked[0].replace(mark, "."), f"{int(digits):,}")


@dataclass(frozen=True)
class Unread:
    """Why a text that holds numbers is not read as a number, and what to do about it."""

    why: str
    remedy: str


def unread_numbers(name: str, labels: Sequence[Any], nearly: float = NEARLY) -> Unread | None:
    """Return why texts that are numbers, or nearly all are, are kept as text; None for other texts.

    Args:
        name: of the variable.
        labels: its categories.
        nearly: the share of them that are numbers.

    Example:
        >>> unread_numbers("price", ["1", "2", "3", "4", "n/a"]).why
        "'n/a' among its values is not a number"
        >>> unread_numbers("price", ["1,5", "2,5"])
        Unread(why='its numbers have a decimal comma', remedy='Write decimal = "," under [data].')
        >>> unread_numbers("way", ["road", "3"]) is None
        True
    """
    texts = [label for label in labels if isinstance(label, str)]
    if len(texts) < max(len(labels), 1):
        return None
    two_ways = in_two_ways(texts)
    if two_ways is not None:
        other = "," if two_ways.mark == "." else "."
        return Unread(
            f"{two_ways.text!r} among its values is {two_ways.small} or {two_ways.large}",
            f'Write [variables] {toml_key(name)} = {{ kind = "number", decimal = "{other}", '
            f'thousands = "{two_ways.mark}" }}, or decimal = "{two_ways.mark}" alone, as it is meant.',
        )
    form = form_of(texts)
    if form is not None:
        why = "its numbers are stored as text" if form == PLAIN else f"its numbers have {form}"
        remedy = form.remedy.replace("NAME", toml_key(name))
        return Unread(why, remedy[0].upper() + remedy[1:] + ".")
    form, words = _nearest(texts, nearly)
    if not words or len(texts) < 3:
        return None
    shown = ", ".join(repr(word) for word in words[:3])
    are = "is not a number" if len(words) == 1 else "are not numbers"
    if any(_FOREIGN.fullmatch(word.strip()) for word in words):
        return Unread(f"{shown} among its values {are}", "Write these cells in plain digits.")
    remedy = "Correct these cells, or name the words among missing_values in [data]."
    if form == PLAIN:
        return Unread(f"{shown} among its values {are}", remedy)
    why = f"its numbers have {form}, and {shown} among its values {are}"
    return Unread(why, f"{remedy} Then {form.remedy.replace('NAME', toml_key(name))}.")


def _nearest(texts: Sequence[str], nearly: float) -> tuple[NumberForm, list[str]]:
    """Return the form that reads most of the texts, and the words that it does not read; none where they are many."""
    some = a_few(texts)
    form = max(_forms(some), key=lambda form: sum(form.number(text) is not None for text in some))
    return form, _words(texts, form, nearly)


def _words(texts: Sequence[str], form: NumberForm, nearly: float) -> list[str]:
    """Return the words that keep a text from being numbers, or nothing where they are too many."""
    few = max(1, int(len(texts) - nearly * len(texts)))
    words: list[str] = []
    for text in texts:
        if form.number(text) is None:
            words.append(text)
            if len(words) > few:
                return []
    return words
