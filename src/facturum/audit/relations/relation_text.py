"""Linear relations in words, as one would write them on paper."""

from __future__ import annotations

from collections.abc import Sequence

from facturum.data.values import simple_number
from facturum.numerics.linear.relations import Relation

MAX_TOLD = 12  # columns of a relation that are written out


def relation_text(names: Sequence[str], relation: Relation, near: bool = False) -> str:
    """Return a relation as an equation.

    Columns that only add up stand on one side; otherwise the last column is written as made of the others.

    Args:
        names: of its columns.
        relation: the relation.
        near: whether its weights are known to a few digits only.

    Example:
        >>> relation_text(["age", "b"], Relation((0, 1), (2.0, -1.0), 3.0, 0.0, True))
        'b = 2·age + 3'
        >>> relation_text(["road", "trail"], Relation((0, 1), (-1.0, -1.0), 1.0, 0.0, True))
        'road + trail = 1'
    """
    digits = 4 if near else 10
    weights = [simple_number(weight, digits) for weight in relation.weights[:MAX_TOLD]]
    constant = simple_number(relation.constant, digits)
    scale = max([abs(weight) for weight in relation.weights[:-1]], default=1.0)
    if abs(relation.constant) <= 1e-11 * max(scale, 1.0):
        constant = "0"
    if all(abs(weight + 1) < 1e-9 for weight in relation.weights):
        return f"{_sum([('1', name) for name in names])} = {constant}"
    parts = list(zip(weights, names[:-1], strict=False))
    if constant != "0":
        parts.append((constant, ""))
    return f"{names[-1]} = {_sum(parts, len(names) - 1 - len(weights))}"


def leave_out(names: Sequence[str]) -> str:
    """Return what to do about columns of which one follows from the others."""
    rest = names[0] if len(names) == 2 else "another of them"
    return f"Leave out {names[-1]} or {rest}." if len(names) > 1 else f"Leave out {names[-1]}."


def _sum(parts: Sequence[tuple[str, str]], left_out: int = 0) -> str:
    said = ""
    for at, (weight, name) in enumerate(parts[:MAX_TOLD]):
        size = weight.removeprefix("-")
        what = size if not name else name if size == "1" else f"{size}·{name}"
        minus = weight.startswith("-")
        said += (("−" if minus else "") if not at else (" − " if minus else " + ")) + what
    more = max(len(parts) - MAX_TOLD, 0) + max(left_out, 0)
    return said + (f" + {more} more" if more > 0 else "")
