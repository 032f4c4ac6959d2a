"""From a plan's texts to checked expressions: selectors frozen, lists spread out, bare categories made columns."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from typing import TypeVar

import numpy as np

from facturum.data.table import Table
from facturum.data.values import Kind
from facturum.engine.planning.expressions.expansion import frozen, passed_over_in, spread
from facturum.engine.planning.expressions.leaks import refuse_ids, refuse_leaks
from facturum.engine.planning.expressions.period_keys import with_periods
from facturum.engine.planning.expressions.prepared import Prepared, sources_of, used_in
from facturum.engine.planning.expressions.scope import Scope, refuse_deep
from facturum.engine.planning.sections.quoting import quoting_error
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.engine.planning.shaping import Given, Shaped, given_of, name_clash, shape
from facturum.errors import FacturumError, PlanError, nearest
from facturum.language.core.arithmetic import Multiply
from facturum.language.core.literals import List, Name, names_in
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Node
from facturum.language.tree.traits import Surroundings
from facturum.language.writing import as_category

T = TypeVar("T")


@contextmanager
def at_place(place: str, text: str | None = None) -> Iterator[None]:
    """Add the place in the plan to the errors raised within."""
    try:
        yield
    except FacturumError as error:
        raise error.at(place, text) from None


def prepare(spec: PlanSpec, given: Table | Given, shaped: Shaped | None = None) -> Prepared:
    """Return a plan as checked expressions over a table.

    Args:
        spec: the plan.
        given: the tables as given.
        shaped: the table that the plan works on, where it has been made, in the order that the plan needs.

    Raises:
        PlanError: for anything that has no meaning, with its place in the plan.
        DataError: where the table is empty or does not agree with the plan's declarations.
    """
    given = given_of(given)
    ordered = shaped is not None
    shaped = shaped or shape(spec, given)
    table = shaped.table
    _check_names(spec, table)
    parsed = {
        key: _parsed(f"derived.{key}", text, spec.resolved, table)
        for key, text in spec.derived.items()
        if key != spec.data.time  # which is a variable of the table by now
    }
    response = None if spec.response is None else _parsed("response", spec.response, spec.resolved, table)
    if response is not None and spec.resolved and not _known(response, shaped, parsed):
        response = None
    reserved = _reserved(spec, table, response, parsed)
    choices = {v.name: v.kind for v in table if v.name not in reserved}
    time = None if spec.data.step in (None, "row") else spec.data.time
    texts = {f"terms.{key}": _parsed(f"terms.{key}", text, spec.resolved, table) for key, text in spec.terms.items()}
    refuse_deep(parsed, texts | ({} if response is None else {"response": response}))
    passed_over = passed_over_in({**parsed, **texts}, choices, table)
    ids = {name for names in passed_over.values() for name in names}

    first_day = None if spec.data.week_starts == "monday" else spec.data.week_starts[:3]
    references = {name: each.reference for name, each in spec.variables.items() if each.reference is not None}
    around = Surroundings(choices, time, ids, first_day, references)
    plain = {key: spread(frozen(node, around)) for key, node in parsed.items()}
    kinds = Scope(table, plain, spec.resolved, spec.data.step)

    def written_out(node: Node) -> Node:
        spelled = spread(frozen(node, around))
        return with_periods(spelled, kinds, table, spec.data.time, spec.data.every)

    derived = {key: written_out(node) for key, node in parsed.items()}
    scope = Scope(table, derived, spec.resolved, spec.data.step)
    terms: dict[str, Node] = {}
    for key, text in spec.terms.items():
        with at_place(f"terms.{key}", text):
            terms[key] = _as_term(written_out(texts[f"terms.{key}"]), scope, around)
            scope.type_of(terms[key])
            refuse_ids(terms[key], table, derived)
    if response is not None:
        with at_place("response", spec.response):
            response = _as_response(written_out(response), scope)
    conditions = {
        key: _condition(key, getattr(spec.rows, key), scope, spec, table, derived, written_out)
        for key in ("keep", "learn")
    }
    carried: list[Node] = [Name(name) for name in spec.data.carry if name in derived]
    used = used_in(
        derived, [*terms.values(), *([response] if response else []), *[c for c in conditions.values() if c], *carried]
    )
    for key, node in derived.items():
        if key in used or not spec.resolved:
            with at_place(f"derived.{key}", spec.derived[key]):
                scope.variable(Name(key), key)
                scope.type_of(node)
    if not terms:
        raise PlanError(
            "the plan has no terms", place="terms", remedy='Write at least one, such as price = "log(price)".'
        )
    kept = {key: node for key, node in derived.items() if key in used}
    conditioned = conditions["keep"], conditions["learn"]
    prepared = Prepared(spec, given, shaped, response, terms, kept, *conditioned, spec, passed_over=passed_over)
    refuse_leaks(response, terms, kept, spec)
    timing = spec.data.timing
    roots = [*prepared.parts().values(), *[node for node in conditioned if node is not None]]
    if not ordered and timing is not None and (shaped.joined or any(prepared.looks_along(root) for root in roots)):
        return replace(prepared, shaped=shaped.in_order_of_time(timing))
    return prepared


def _parsed(place: str, text: str, learned: bool, table: Table) -> Node:
    with at_place(place, text):
        try:
            return parse(text, learned)
        except PlanError as error:
            raise quoting_error(text, table.variables) or error from None


def _check_names(spec: PlanSpec, table: Table) -> None:
    for name in spec.derived:
        if name in table and name != spec.data.time:
            raise name_clash(name)
    known = [*table.variables, *spec.derived]
    times = [] if spec.data.time is None else [spec.data.time]
    for key, names in (("time", times), ("panel", spec.data.panel), ("carry", spec.data.carry)):
        for name in names:
            made = key == "carry" and name in spec.derived
            if name not in table and not made and not (spec.resolved and (key != "carry" or name in spec.data.clock)):
                raise PlanError(
                    f"variable '{name}' not found{nearest(name, known)}",
                    place=f"data.{key}",
                    remedy="The table has " + ", ".join(list(table.variables)[:20]) + ".",
                )


def _known(response: Node, shaped: Shaped, derived: Mapping[str, Node]) -> bool:
    """Return whether the rows given, not only their history, have what the response reads."""
    if not _available(response, shaped.table, derived):
        return False
    names = sources_of(response, derived)
    if not shaped.history_rows:
        return True
    rows = np.arange(shaped.history_rows, shaped.table.length)
    return all(not shaped.table[name].take(rows).missing_rows().all() for name in names)


def _available(node: Node, table: Table, derived: Mapping[str, Node]) -> bool:
    """Return whether the table has all that an expression reads, through derived variables too."""
    return all(name in table for name in sources_of(node, derived))


def _reserved(spec: PlanSpec, table: Table, response: Node | None, derived: Mapping[str, Node]) -> set[str]:
    """Return the variables that selectors pass over."""
    taken = {spec.data.time or "", *spec.data.panel, *spec.data.carry}
    taken |= {variable.name for variable in table if variable.identity or variable.kind is Kind.TIME}
    pending = names_in(response) if response is not None else []
    while pending:
        name = pending.pop()
        if name in derived and name not in taken:
            pending += names_in(derived[name])
        taken.add(name)
    return taken


def _as_term(node: Node, scope: Scope, around: Surroundings) -> Node:
    """Make columns of bare categories, also inside products and lists."""
    if isinstance(node, List | Multiply):
        return node.map(lambda child: _as_term(child, scope, around))
    type_of_term = scope.type_of(node)
    if type_of_term.kind.categorical and not type_of_term.block:
        return as_category(node).settled(around)
    if type_of_term.kind is Kind.TIME:
        raise node.error(
            f"'{node}' is a time, which cannot be a column by itself", "Compare it with a period: month < '2023-01'."
        )
    if type_of_term.kind is Kind.MISSING:
        raise node.error("a term cannot be missing in every row", "Take it out.")
    return node


def _as_response(node: Node, scope: Scope) -> Node:
    type_of_response = scope.type_of(node)
    if type_of_response.kind.categorical and not type_of_response.block:
        return as_category(node, "every")
    if type_of_response.kind is Kind.TIME or (type_of_response.block and not node.responds):
        raise node.error("the response is a number, a truth value or a category", "Write one of them.")
    return node


def _condition(
    key: str,
    text: str | None,
    scope: Scope,
    spec: PlanSpec,
    table: Table,
    derived: Mapping[str, Node],
    write_out: Callable[[Node], Node],
) -> Node | None:
    if text is None:
        return None
    with at_place(f"rows.{key}", text):
        node = _parsed(f"rows.{key}", text, spec.resolved, table)
        if spec.resolved and not _available(node, table, derived) and key == "learn":
            return None
        refuse_deep(derived, {f"rows.{key}": node})
        node = write_out(node)
        scope.type_of(node)
        reached = [node]
        for part in reached:
            reached += [derived[name] for name in names_in(part) if name in derived and derived[name] not in reached]
        learns = [part for root in reached for part in root.walk() if part.question(scope) is not None]
        if learns:
            marked = learns[0] if learns[0] in node.walk() else node  # of a derived variable, the text is not here
            raise marked.error(f"{key} holds '{learns[0]}', which is learned", "Write the number itself.")
        type_of_condition = scope.type_of(node)
        if type_of_condition.block:
            raise node.error(
                f"{key} is one condition, and this is a block of several columns",
                "Write and or or between conditions, or count_of(..) of a list of them.",
            )
        if not type_of_condition.kind.numeric:
            raise node.error(f"{key} needs a condition", "Write a comparison, such as open == 'yes'.")
        return node
