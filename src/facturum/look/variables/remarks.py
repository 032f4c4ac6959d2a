"""What an analyst should notice of a variable's values."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from facturum.data.id_variables import MANY_ROWS, looks_like_id
from facturum.data.number_text import PLAIN, a_few, in_two_ways, unread_numbers
from facturum.data.time.calendar import period_of
from facturum.data.values import Array, FloatArray, Label, label_text, plain_number
from facturum.errors import counted
from facturum.look.variables.forms import two_orders
from facturum.numerics.exact.order_statistics import quantile_between

MISSING_WORDS = frozenset(
    {"", "-", "--", "?", ".", "n/a", "na", "n.a.", "nan", "none", "null", "nil", "missing", "unknown", "not known"}
)
ONE_VALUE = 0.95
FEW = 10
GAP = 0.2  # of the range of the other values


def number_notes(x: FloatArray, distinct: FloatArray, sizes: Array, infinite: int) -> Iterator[str]:
    """Say what to notice of a number.

    Args:
        x: the finite values, sorted.
        distinct, sizes: the different ones, and how often each occurs.
        infinite: how many values are infinite.
    """
    if infinite:
        yield f"{counted(infinite, 'infinite value')}, which count as wrong"
    if len(distinct) == 1:
        yield f"{plain_number(float(distinct[0]))} in every row: a constant"
        return
    whole = bool((distinct == np.floor(distinct)).all())
    if looks_like_id(x, distinct):
        yield "whole numbers without gaps, each once: an id?"
    elif len(distinct) == 2 and distinct.tolist() == [0, 1]:
        yield '0 and 1: a truth value? Declare kind = "truth"'
    elif whole and len(distinct) <= FEW and len(x) >= MANY_ROWS:
        yield f"{len(distinct)} different values: a category?"
    most = int(np.argmax(sizes))
    if sizes[most] > ONE_VALUE * len(x):
        yield f"{plain_number(float(distinct[most]))} in {100 * sizes[most] / len(x):.1f} % of the rows"
    for code in odd_codes(distinct):
        rows = int(sizes[np.searchsorted(distinct, code)])
        yield f"{plain_number(code)} in {counted(rows, 'row')}, far from the other values: a code for missing?"
    negative, zero = int(np.searchsorted(x, 0.0, "left")), int(np.searchsorted(x, 0.0, "right"))
    if negative:
        yield f"{counted(negative, 'negative value')}: a log will not do"
    elif zero and len(distinct) > 2:
        yield f"{counted(zero, 'zero')}: a log will not do (log(x, shift=1) would)"
    if long_tail(x) and not negative and len(distinct) > 2:
        yield "a long tail to the right" + ("" if zero else ": a log may help")


def odd_codes(distinct: FloatArray) -> list[float]:
    """Return values at either end that look like codes: 0, or of the digit 9, 8 or 7 alone, far from all others.

    Args:
        distinct: the different values, sorted.

    Example:
        >>> odd_codes(np.array([0.0, *range(18, 90), 999.0])), odd_codes(np.arange(100.0))
        ([0.0, 999.0], [])
    """
    codes: list[float] = []
    for end in (-1, 0, -1, 0):  # as one of them can hide another
        if len(distinct) <= FEW:
            break
        value, others = float(distinct[end]), distinct[1:] if end == 0 else distinct[:-1]
        gap = abs(float(others[end]) - value)
        if not _is_code(value) or not gap > GAP * float(others[-1] - others[0]):
            continue
        if gap > 3 * float(np.median(np.diff(others))):
            codes.append(value)
            distinct = others
    return sorted(codes)


def _is_code(value: float) -> bool:
    text = str(int(abs(value))) if value.is_integer() else ""
    return value == 0 or (len(set(text)) == 1 and text[0] in "987" and (len(text) > 1 or value < 0)) or value == -1


def long_tail(x: FloatArray) -> bool:
    """Return whether sorted values reach much further above their median than below it."""
    if len(x) < MANY_ROWS:
        return False
    low, middle, high = (quantile_between(x, share, len(x)) for share in (0.05, 0.5, 0.95))
    return high - middle > 2.5 * (middle - low) and high > middle


def label_notes(name: str, labels: Sequence[Label], counts: Array, truth: bool) -> Iterator[str]:
    """Say what to notice of a category.

    Args:
        name: of the variable.
        labels: the categories that occur.
        counts: how often each does.
        truth: whether it is a truth value.
    """
    total = int(counts.sum())
    if len(labels) == 1:
        yield f"{label_text(labels[0])!r} in every row: a constant"
        return
    if total and len(labels) and int(counts.max()) > ONE_VALUE * total:
        most = labels[int(np.argmax(counts))]
        yield f"{label_text(most)!r} in {100 * counts.max() / total:.1f} % of the rows"
    if truth or not labels:
        return
    if len(labels) == total and total >= MANY_ROWS:
        yield "each value occurs once: an id?"
    texts = [label for label in labels if isinstance(label, str)]
    if not texts:
        return
    if all(period_of(text) for text in a_few(texts)) and all(period_of(text) for text in texts):
        yield 'dates stored as text: declare kind = "time"'
    elif two_orders(texts):
        yield "may be dates, the day or the month first: --day-first, --month-first, or a pattern under [variables]"
    elif are_numbers(texts):
        yield _number_note(texts)
    words = [text for text in texts if text.strip().casefold() in MISSING_WORDS]
    rest = [text for text in texts if text not in words] if words else texts
    unread = None if are_numbers(rest) else unread_numbers(name, rest)
    if unread is not None:
        yield f"kept as text, since {unread.why}: {unread.remedy[0].lower()}{unread.remedy[1:].rstrip('.')}"
    if words:
        yield f"looks like missing values: {', '.join(map(repr, words[:4]))}; name them in missing_values"
        if rest and are_numbers(rest):
            yield "numbers but for these words"
    alike = _alike(texts)
    if alike:
        yield f"differ only in case or spaces: {'; '.join(' = '.join(map(repr, group)) for group in alike[:3])}"


def are_numbers(texts: Sequence[str]) -> bool:
    """Return whether all texts are numbers, in one way."""
    return PLAIN.reads(a_few(texts)) and in_two_ways(texts) is None and PLAIN.reads(texts)


def _number_note(texts: Sequence[str]) -> str:
    if any(len(text.lstrip("+-")) > 1 and text.lstrip("+-").startswith("0") and "." not in text for text in texts):
        return "numbers with leading zeros, kept as text: codes?"
    return 'numbers stored as text: declare kind = "number"'


def _alike(texts: Sequence[str]) -> list[list[str]]:
    groups: dict[str, list[str]] = {}
    for text in texts:
        groups.setdefault(" ".join(text.casefold().split()), []).append(text)
    return [group for group in groups.values() if len(group) > 1]
