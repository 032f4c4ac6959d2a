"""Fields of operations: arguments (expressions) and options (literals), with what each accepts."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from math import isfinite
from typing import Any

from facturum.data.values import Label


class Absent(Enum):
    """The word `missing` where a literal stands: the missing value, as a category or a key."""

    MISSING = "missing"


MISSING = Absent.MISSING


@dataclass(frozen=True)
class Accept:
    """What an option accepts.

    Args:
        words: for messages and the reference, such as "a whole number from 1".
        test: whether a literal will do; lists come as tuples, dicts as tuples of pairs.
        mapping: whether it is written as a dict.
        keys: whether whole numbers in it are categories or keys, which need not be doubles.
    """

    words: str
    test: Callable[[Any], bool]
    mapping: bool = False
    keys: bool = False


WHOLE_LIMIT = 2**63


def _is_number(value: Any) -> bool:
    if isinstance(value, int):
        return not isinstance(value, bool) and abs(value) < WHOLE_LIMIT
    return isinstance(value, float) and isfinite(value)


def loses_digits(value: Any) -> int | None:
    """Return a whole number of a literal that no double represents exactly, or None where all are.

    Example:
        >>> loses_digits(2**53), loses_digits((1, (2**53 + 1,)))
        (None, 9007199254740993)
    """
    if isinstance(value, tuple):
        return next((lossy for part in value if (lossy := loses_digits(part)) is not None), None)
    exact = not isinstance(value, int) or abs(value) <= 2**53 or int(float(value)) == value
    return None if exact else value


EXACT = "Use numbers up to 2**53, or text for a code."


def _is_whole(value: Any) -> bool:
    return isinstance(value, int) and _is_number(value)


def _is_label(value: Any) -> bool:
    return isinstance(value, str | bool) or _is_number(value)


def _is_key(value: Any) -> bool:
    if isinstance(value, tuple):
        return all(_is_label(part) or part is MISSING for part in value)
    return _is_label(value) or value is MISSING


def _are_pairs(value: Any) -> bool:
    return isinstance(value, tuple) and all(isinstance(pair, tuple) and len(pair) == 2 for pair in value)


NUMBER = Accept("a number", _is_number)
TEXT = Accept("a text", lambda value: isinstance(value, str))
PERIOD = Accept("a period in quotes, or the number of a row", lambda v: isinstance(v, str) or _is_whole(v))
FLAG = Accept("True or False", lambda value: isinstance(value, bool))


def _is_pair(value: Any) -> bool:
    return isinstance(value, tuple) and len(value) == 2 and all(map(_is_number, value))


EDGES = Accept(
    "a list of numbers, or of pairs [first, last]",
    lambda edges: (
        isinstance(edges, tuple) and bool(edges) and (all(map(_is_number, edges)) or all(map(_is_pair, edges)))
    ),
)
LABEL = Accept("a category", _is_label, keys=True)
FILL = Accept("a value", _is_label, keys=True)
LABELS = Accept(
    "a list of categories",
    lambda value: isinstance(value, tuple) and all(_is_label(v) or v is MISSING for v in value),
    keys=True,
)
CATEGORIES = Accept(
    "a list of categories", lambda value: isinstance(value, tuple) and all(map(_is_label, value)), keys=True
)
NUMBERS = Accept("a list of numbers", lambda value: isinstance(value, tuple) and all(map(_is_number, value)))
TABLE = Accept(
    "a dict of values by key",
    lambda pairs: _are_pairs(pairs) and all(_is_key(k) and (_is_label(v) or v is MISSING) for k, v in pairs),
    mapping=True,
    keys=True,
)
GROUPS = Accept(
    "a dict of lists of categories",
    lambda pairs: _are_pairs(pairs) and all(isinstance(k, str) and LABELS.test(v) for k, v in pairs),
    mapping=True,
    keys=True,
)
ANY = 2**31  # the limit of an option that has none of its own
VALUE = Accept("a value or missing", lambda value: _is_label(value) or value is MISSING, keys=True)
POSITIVE = Accept("a number above 0", lambda value: _is_number(value) and value > 0)
SHARE = Accept("a share between 0 and 1", lambda value: _is_number(value) and 0 <= value <= 1)


def whole_from(least: int, most: int = ANY) -> Accept:
    """Accept whole numbers from ``least`` to ``most``."""
    return Accept(
        f"a whole number from {least}" + (f" to {most:,}" if most < ANY else ""),
        lambda value: isinstance(value, int) and not isinstance(value, bool) and least <= value <= most,
    )


def one_of(*choices: str) -> Accept:
    """Accept one of some words."""
    return Accept(
        " or ".join(f'"{choice}"' for choice in choices), lambda value: isinstance(value, str) and value in choices
    )


def either(*accepts: Accept) -> Accept:
    """Accept what any of the given accept."""
    return Accept(
        " or ".join(accept.words for accept in accepts),
        lambda value: any(accept.test(value) for accept in accepts),
        keys=any(accept.keys for accept in accepts),
    )


def argument(words: str) -> Any:
    """Declare a field that holds an expression."""
    return dataclasses.field(metadata={"role": "argument", "words": words})


def arguments(words: str, *, default: Any = dataclasses.MISSING, spread: bool = False, pairs: bool = False) -> Any:
    """Declare a field that holds several expressions.

    Args:
        words: what they are.
        default: what holds where none is written.
        spread: whether they are written one after the other, ``f(a, b, c)``, rather than as a list.
        pairs: whether they are written as a dict, ``f({a: b, c: d})``, and held one after the other.
    """
    metadata = {"role": "arguments", "words": words, "spread": spread, "pairs": pairs}
    return dataclasses.field(default=default, metadata=metadata)


def option(
    accept: Accept, words: str, *, default: Any = dataclasses.MISSING, learned: bool = False, by_hand: bool = False
) -> Any:
    """Declare a field that holds a literal.

    Args:
        accept: what may be written.
        words: what it means.
        default: what holds where nothing is written; where it is None, None may be written too.
        learned: whether resolving writes it.
        by_hand: whether it is often written by hand all the same, so that messages name it.
    """
    metadata = {"role": "option", "accept": accept, "words": words, "learned": learned, "by_hand": by_hand}
    return dataclasses.field(default=default, metadata=metadata)


def literal_key(label: Label) -> tuple[str, Label]:
    """Return a key under which the labels 1, 1.0 and True are one, and '1' is another."""
    return ("text", label) if isinstance(label, str) else ("number", label)


AT_LEAST = either(whole_from(1), one_of("all"))
