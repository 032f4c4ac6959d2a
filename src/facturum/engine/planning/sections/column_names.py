"""Names of columns: lower-case ASCII letters, digits and underscores, made from terms and categories."""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from collections.abc import Mapping, Sequence

from facturum.errors import PlanError
from facturum.language.tree.nodes import Column, Part

LONGEST = 60
_PLAIN = str.maketrans(  # letters that are not an ASCII letter with a mark
    {"ß": "ss", "æ": "ae", "œ": "oe", "ø": "o", "ł": "l", "đ": "d", "ð": "d", "þ": "th", "ħ": "h", "ı": "i", "ŋ": "n"}
    | {"Æ": "Ae", "Œ": "Oe", "Ø": "O", "Ł": "L", "Đ": "D", "Ð": "D", "Þ": "Th", "Ħ": "H", "ẞ": "Ss"}
)


def slug(text: str) -> str:
    """Return a text as part of a name.

    Letters of other scripts, which have no plain form, become the hexadecimal numbers of their code points.

    Example:
        >>> slug("Cable car"), slug("-1.5"), slug("Čapek"), slug("Maß"), slug("山")
        ('cable_car', 'minus_1_5', 'capek', 'mass', 'u5c71')
    """
    text = re.sub(r"^-(?=[\d.])", "minus ", text.strip()).translate(_PLAIN)
    plain = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode().lower()
    name = re.sub(r"[^a-z0-9]+", "_", plain).strip("_")[:LONGEST].strip("_")
    if name or not text:
        return name or "empty"
    return "u" + "_".join(f"{ord(char):x}" for char in text[:6])


def column_names(key: str, columns: Sequence[Column]) -> list[str]:
    """Return the names of a term's columns; equal names that arise from its categories are numbered.

    Raises:
        PlanError: where two columns would have one name for another reason.
    """
    alone = len(columns) == 1
    names = ["_".join([slug(key), *_parts(column.parts, alone)]) for column in columns]
    counts = Counter(names)
    seen: Counter[str] = Counter()
    taken = set(names)
    for at, name in enumerate(names):
        if counts[name] < 2:
            continue
        if not any(part[0] == "category" for part in columns[at].parts):
            raise PlanError(
                f"two columns of the term would be called '{name}'",
                place=f"terms.{key}",
                remedy="Write the members as terms of their own.",
            )
        seen[name] += 1
        number = seen[name]
        while number > 1 and f"{name}_{number}" in taken:
            number += 1
        names[at] = name if number == 1 else f"{name}_{number}"
        taken.add(names[at])
    return names


def _parts(parts: Sequence[Part], alone: bool) -> list[str]:
    return [slug(text) for kind, text in parts if kind == "category" or not alone]


def refuse_equal_names(names: Mapping[str, Sequence[str]]) -> None:
    """Refuse two terms whose columns have one name.

    Args:
        names: the names of each term's columns.

    Raises:
        PlanError: naming both terms.
    """
    owner: dict[str, str] = {}
    for key, names_of_term in names.items():
        for name in names_of_term:
            if name in owner:
                raise PlanError(
                    f"the terms '{owner[name]}' and '{key}' both have a column called '{name}'",
                    place=f"terms.{key}",
                    remedy="Give one of the terms another key.",
                )
            owner[name] = key


def names_from_text(texts: Sequence[str]) -> dict[str, str]:
    """Return terms under keys made from their texts.

    Example:
        >>> names_from_text(["log(price)", "beds"])
        {'log_price': 'log(price)', 'beds': 'beds'}
    """
    key_of: dict[str, str] = {}
    for text in texts:
        key = slug(text)
        if key in key_of:
            raise PlanError(f"two terms would be called '{key}'", place="terms", remedy="Give terms as a dict of keys.")
        key_of[key] = text
    return key_of
