"""Times that stand where categories are wanted, made the periods that they lie in."""

from __future__ import annotations

import numpy as np

from facturum.data.table import Table
from facturum.data.time.calendar import period_of, period_text
from facturum.data.time.periods import period_numbers, period_starts, step_of_moments
from facturum.data.time.steps import PERIODS, is_shorter
from facturum.data.values import Kind
from facturum.engine.blocks.leaves import leaves_of
from facturum.engine.planning.expressions.scope import Scope
from facturum.errors import FacturumError
from facturum.language.core.literals import Name, Text
from facturum.language.core.logic import Comparison, Membership
from facturum.language.tree.nodes import Node
from facturum.language.writing import period_containing, step_of_keys


def with_periods(node: Node, scope: Scope, table: Table, time: str | None, every: str | None) -> Node:
    """Return an expression whose groups, keys and categories are periods wherever they were times.

    Args:
        node: the expression.
        scope: knows the kinds.
        table: the variables as declared.
        time, every: the time of the row and the step of the plan.
    """
    wanted = node.groups_by | node.categorizes
    children: list[Node] = []
    for field, child in node.arguments():
        inner = with_periods(child, scope, table, time, every)
        if field in wanted and _is_time(inner, scope):
            step = step_of_keys(node) or _step(inner, table, time, every)
            if _is_within(step, inner, time, every):
                step = str(every)
                node = node.in_periods(step)
            inner = period_containing(inner, step)
        children.append(inner)
    if not scope.resolved:
        _refuse_days_in_periods(node, time, every)
    same = all(a is b for a, b in zip(children, node.children(), strict=True))
    return node if same else node.rebuilt(children)


def _is_within(step: str, child: Node, time: str | None, every: str | None) -> bool:
    """Return whether a step is shorter than that of the plan, whose time an expression is."""
    named = isinstance(child, Name) and child.variable == time and every in PERIODS
    return named and is_shorter(step, str(every))


def _refuse_days_in_periods(node: Node, time: str | None, every: str | None) -> None:
    """Refuse to ask whether the period of a row is a day inside of it, which no row is."""
    pairs: list[tuple[Node, Node]] = []
    if isinstance(node, Comparison):
        sides = zip(node.operands[:-1], node.operators, node.operands[1:], strict=True)
        equal = [(a, b) for a, operator, b in sides if operator in ("==", "!=")]
        pairs = [*equal, *[(b, a) for a, b in equal]]
    elif isinstance(node, Membership):
        pairs = [(node.value, member) for member in node.members]
    for variable, text in pairs:
        if not (isinstance(variable, Name) and isinstance(text, Text)) or (period := period_of(text.value)) is None:
            continue
        if not _is_within(period.step, variable, time, every):
            continue
        numbers = period_numbers(np.array([period.start]), str(every))
        if int(period_starts(numbers, str(every))[0]) != period.start:
            called = period_text(int(numbers[0]), str(every))
            raise text.error(
                f"each row is a {every}, and '{text.value}' lies inside of one", f"Write '{called}' for that {every}."
            )


def _is_time(node: Node, scope: Scope) -> bool:
    try:
        return scope.type_of(node).kind is Kind.TIME
    except FacturumError:  # which is reported where the whole is checked
        return False


def _step(node: Node, table: Table, time: str | None, every: str | None) -> str:
    if not isinstance(node, Name) or node.variable not in table:
        return "day"
    if node.variable == time and every in PERIODS:
        return str(every)
    variable = table[node.variable]
    parts = [variable.part(*leaf) for leaf in leaves_of(len(variable))]
    steps = {step_of_moments(part.data[~part.missing_rows()]) for part in parts}
    return next(step for step in ("minute", "hour", "day", "month", "year") if step in steps)
