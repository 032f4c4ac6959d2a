"""What may not be a predictor: ids, and the response at its own period."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TypeAlias

from facturum.data.table import Table
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import PlanError
from facturum.language.core.arithmetic import Multiply
from facturum.language.core.literals import List, Name
from facturum.language.tree.nodes import Node

MAX_SUMS = 100_000  # of offsets; beyond, all between the first and the last count as read
MAX_SPAN = 1_000_000
Clock: TypeAlias = tuple[str | None, str | None]  # the time of the row and the step of the plan
NO_CLOCK: Clock = (None, None)


@dataclass(frozen=True)
class Look:
    """A variable that an expression reads, at which period (counted from the row's own), and the place in its text.

    ``pooled`` names the operation that reads it at all periods of a group, to learn from them; ``own`` is the period at
    which the argument of that operation reads it.
    """

    variable: str
    offset: int
    node: Node
    pooled: Node | None = None
    own: int = 0


def looks(root: Node, derived: Mapping[str, Node], groups: bool = True, clock: Clock = NO_CLOCK) -> Iterator[Look]:
    """Yield what an expression reads of the table and when, through derived variables too.

    A statistic within groups reads all periods of the group, the row's own and later ones too, unless each group lies
    in one period.

    Args:
        root: the expression.
        derived: the derived variables.
        groups: whether variables that only form groups count as read.
        clock: the time of the row and the step of the plan.
    """
    pending: list[tuple[Node, frozenset[int], Node | None, Node | None]] = [(root, frozenset({0}), None, None)]
    seen: set[tuple[Node, frozenset[int], bool]] = set()
    while pending:
        node, offsets, through, pooled = pending.pop()
        if (node, offsets, pooled is None) in seen:
            continue
        seen.add((node, offsets, pooled is None))
        if isinstance(node, Name):
            shown = through or node
            if node.variable in derived:
                pending.append((derived[node.variable], offsets, shown, pooled))
            elif pooled is None:
                yield from (Look(node.variable, offset, shown) for offset in sorted(offsets))
            else:
                for offset in (0, 1):
                    yield Look(node.variable, offset, shown, pooled, own=max(offsets))
            continue
        following = offsets_after(offsets, steps_of(node))
        pools = _pools(node, clock)
        within_period = node.pools and any(node.groupings()) and not pools
        for field, child in node.arguments():
            if field in node.groups_by:
                if groups:
                    pending.append((child, following, through, pooled))
                continue
            if child in node.own_row() or within_period:  # else a statistic reads it to learn alone
                pending.append((child, following, through, pooled))
            if pools:
                pending.append((child, following, through, pooled or node))


def steps_of(node: Node) -> tuple[int, ...]:
    """Return at which periods a node reads its expressions; of all earlier ones, which a state stands for, the last."""
    return (-1, 0) if node.carries else node.offsets_read()


def offsets_after(offsets: frozenset[int], steps: Sequence[int]) -> frozenset[int]:
    """Return the periods that are read where an operation that reads ``steps`` is itself read at ``offsets``.

    Example:
        >>> sorted(offsets_after(frozenset({1}), (0, -1)))
        [0, 1]
    """
    if len(offsets) * len(steps) <= MAX_SUMS:
        return frozenset(a + b for a in offsets for b in steps)
    low, high = min(offsets) + min(steps), max(offsets) + max(steps)
    return frozenset(range(low, high + 1) if high - low <= MAX_SPAN else (low, 0, high))


def _pools(node: Node, clock: Clock) -> bool:
    """Return whether an operation learns of groups that hold several periods."""
    return node.pools and any(not any(_is_period(key, clock) for key in by) for by in node.groupings())


def _is_period(key: Node, clock: Clock) -> bool:
    """Return whether a group lies in one period of the plan."""
    time, every = clock
    if (period := key.as_period()) is not None:
        return period[1] == every and _is_period(period[0], clock)
    return isinstance(key, Name) and key.variable == time


def explained_variables(response: Node | None, derived: Mapping[str, Node], clock: Clock = NO_CLOCK) -> dict[str, int]:
    """Return the source variables of a response, and the latest period at which it reads each.

    Those that only form groups are not among them.
    """
    offsets_of: dict[str, int] = {}
    read = [] if response is None else looks(response, derived, groups=False, clock=clock)
    for look in sorted(read, key=lambda look: (look.pooled is not None, look.offset)):
        if look.pooled is None or look.variable not in offsets_of:
            offsets_of[look.variable] = 0 if look.pooled is not None else look.offset
    return offsets_of


def refuse_ids(node: Node, table: Table, derived: Mapping[str, Node], seen: set[str] | None = None) -> None:
    """Refuse ids among the predictors, through derived variables too; to form groups by them is fine."""
    seen = set() if seen is None else seen
    if isinstance(node, Name) and node.variable not in seen:
        seen.add(node.variable)
        if node.variable in derived:
            refuse_ids(derived[node.variable], table, derived, seen)
        elif table[node.variable].identity:
            raise node.error(
                f"'{node.variable}' is an id, and cannot be a predictor",
                'Leave it out; if it is a category, write kind = "category" in [variables].',
            )
    for field, child in node.arguments():
        if field not in node.groups_by:
            refuse_ids(child, table, derived, seen)


def refuse_leaks(response: Node | None, terms: Mapping[str, Node], derived: Mapping[str, Node], spec: PlanSpec) -> None:
    """Refuse predictors that read, at the response's own period, all variables that it is made of.

    Raises:
        PlanError: with the term, unless the plan does not look for leaks.
    """
    if spec.checks.of("leak") == "off":
        return
    clock = spec.data.time, spec.data.every
    explained = explained_variables(response, derived, clock)
    for key, shared in shared_with_response(explained, terms, derived, clock).items():
        if len(shared) < len(explained):
            continue
        look = next(iter(shared.values()))
        name = look.node.variable if isinstance(look.node, Name) else str(look.node)
        through = "" if name in explained else f", made from the response '{look.variable}',"
        what = f"'{name}'{through} is among the predictors, and the response '{response}' reads it"
        remedy = "Leave it out: it would explain itself."
        if spec.data.step is not None:
            remedy += " Its lag would do: lag(.., 1)."
        if look.pooled is not None:
            what = (
                f"'{look.pooled}' is learned from all periods of each group, and so from the response of the row "
                f"itself, '{look.variable}'"
            )
            remedy = 'Leave it out, learn from rows that are not fitted, or write [checks] leak = "off".'
        raise PlanError(what, place=f"terms.{key}", text=spec.terms[key], span=look.node.span, remedy=remedy)


def apart_from_means(
    term: Node, explained: Mapping[str, int], derived: Mapping[str, Node], clock: Clock
) -> Iterator[Look]:
    """Yield what a term reads, but for means of an earlier response beside it: that is still a lag, less its mean.

    A mean of the response itself holds that of the row, whatever it is taken off. In short panels such a lag is biased,
    of which a warning tells. Parts of a list and factors are looked at apart.

    Args:
        term: the term.
        explained: the variables of the response, and the period at which it reads each.
        derived: the derived variables.
        clock: the time of the row and the step of the plan.
    """
    if isinstance(term, List | Multiply):
        for each in term.children():
            yield from apart_from_means(each, explained, derived, clock)
        return
    listed = list(looks(term, derived, clock=clock))
    earlier = {
        look.variable for look in listed if look.pooled is None and look.offset < explained.get(look.variable, 0)
    }
    for look in listed:
        if look.pooled is None or look.variable not in earlier or look.own >= explained.get(look.variable, 0):
            yield look


def shared_with_response(
    explained: Mapping[str, int], terms: Mapping[str, Node], derived: Mapping[str, Node], clock: Clock
) -> dict[str, dict[str, Look]]:
    """Return for each term the variables of the response that it reads at the response's own period.

    Args:
        explained: the variables of the response, and the period at which it reads each.
        terms: by key.
        derived: the derived variables.
        clock: the time of the row and the step of the plan.
    """
    found: dict[str, dict[str, Look]] = {}
    for key, term in terms.items():
        for look in apart_from_means(term, explained, derived, clock):
            if look.offset == explained.get(look.variable):
                found.setdefault(key, {}).setdefault(look.variable, look)
    return found
