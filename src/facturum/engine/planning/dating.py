"""Times that stand where categories are wanted, made the periods that they lie in."""

from __future__ import annotations

from facturum.data.table import Table
from facturum.data.values import Kind
from facturum.engine.blocks.leaves import leaves_of
from facturum.engine.planning.scope import Scope
from facturum.errors import FacturumError
from facturum.language.core import Name
from facturum.language.nodes import Node
from facturum.language.operations.periods import STEPS, PeriodOf, step_of_keys, step_of_moments
from facturum.language.operations.placing import Categorical
from facturum.language.operations.regrouping import Regroup


def with_periods(node: Node, scope: Scope, table: Table, time: str | None, every: str | None) -> Node:
    """Return an expression whose groups, keys and categories are periods wherever they were times.

    Args:
        node: the expression.
        scope: knows the kinds.
        table: the variables as declared.
        time, every: the time of the row and the step of the plan.
    """
    wanted = node.groups_by | ({"x"} if isinstance(node, Categorical | Regroup) else set())
    children = []
    for field, child in node.arguments():
        inner = with_periods(child, scope, table, time, every)
        if field in wanted and _is_time(inner, scope):
            inner = PeriodOf(inner, step_of_keys(node) or _step(inner, table, time, every))
        children.append(inner)
    same = all(a is b for a, b in zip(children, node.children(), strict=True))
    return node if same else node.rebuilt(children)


def _is_time(node: Node, scope: Scope) -> bool:
    try:
        return scope.type_of(node).kind is Kind.TIME
    except FacturumError:  # which is reported where the whole is checked
        return False


def _step(node: Node, table: Table, time: str | None, every: str | None) -> str:
    if not isinstance(node, Name) or node.variable not in table:
        return "day"
    if node.variable == time and every in STEPS:
        return str(every)
    variable = table[node.variable]
    parts = [variable.part(*leaf) for leaf in leaves_of(len(variable))]
    steps = {step_of_moments(part.data[~part.missing_rows()]) for part in parts}
    return next(step for step in ("minute", "hour", "day", "month", "year") if step in steps)
