"""Expressions as people read them: constants of few digits, long learned tables cut."""

from __future__ import annotations

import re

DIGITS = 6
PAIRS = 4  # of a learned table that are shown where it has more than WHOLE
WHOLE = 8
_LONG = re.compile(r"(?<![\w.])\d+\.\d{6,}(?:e[+-]?\d+)?")
_PART = re.compile(r"""'(?:[^'\\]|\\.)*'|"(?:[^"\\]|\\.)*"|[{}()\[\],]|[^'"{}()\[\],]+""")


def rounded(formula: str) -> str:
    """Return a formula whose constants have at most six digits; the map and the resolved plan keep them all.

    Example:
        >>> rounded("standardize(x, at=4800.360000000001, scale=0.5)")
        'standardize(x, at=4800.36, scale=0.5)'
    """
    return _LONG.sub(lambda found: f"{float(found[0]):.{DIGITS}g}", formula)


def abridged(formula: str) -> str:
    """Return a formula with the first few pairs of each learned table, and how many there are besides.

    Example:
        >>> abridged("lookup(g, {'a': 1, 'b, c': 2, 3: 3, 4: 4, 5: 5, 6: 6, 7: 7, 8: 8, 9: 9}) + x")
        "lookup(g, {'a': 1, 'b, c': 2, 3: 3, 4: 4, and 5 others in columns.json}) + x"
    """
    text, depth, pairs, held = "", 0, 0, ""
    for part in _PART.findall(formula):
        if part == "{" and not depth:
            depth, pairs, held = 1, 1, ""
            text += part
        elif not depth:
            text += part
        elif part == "}" and depth == 1:
            text += held if pairs <= WHOLE else f", and {pairs - PAIRS:,} others in columns.json"
            text += part
            depth = 0
        else:
            depth += (part in "{[(") - (part in "}])")
            pairs += part == "," and depth == 1
            if pairs > PAIRS:
                held += part
            else:
                text += part
    return text
