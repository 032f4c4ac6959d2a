"""Which variables of its tables a plan reads, so that no others need be read from a file."""

from __future__ import annotations

from facturum.engine.planning.sections.plain_names import groups_in_quotes
from facturum.engine.planning.sections.spec import PlanSpec, SeriesSpec
from facturum.errors import FacturumError
from facturum.language.core.literals import names_in
from facturum.language.syntax.parser import parse


def variables_needed(spec: PlanSpec) -> frozenset[str] | None:
    """Return the variables of its own table that a plan reads; None where that depends on the table.

    Example:
        >>> from facturum.engine.planning.sections.spec import spec_from
        >>> sorted(variables_needed(spec_from({"response": "log(y)", "terms": {"a": "b * c"}})) or ())
        ['b', 'c', 'y']
        >>> variables_needed(spec_from({"terms": {"a": "every_number()"}})) is None
        True
    """
    texts = [spec.response, spec.rows.keep, spec.rows.learn, *spec.derived.values(), *spec.terms.values()]
    try:
        nodes = [parse(text, spec.resolved) for text in texts if text is not None]
    except FacturumError:
        return None  # which is told with its place once the plan is prepared
    if spec.stack is not None or any(part.selects for node in nodes for part in node.walk()):
        return None
    read = {name for node in nodes for name in {*names_in(node), *groups_in_quotes(node)}}
    if spec.convert is not None:
        read = {take.of or name for name, take in spec.convert.take.items()}
    joined = tuple(f"{name}_" for name in spec.series)
    composed = {name: set(variable.parts.values()) for name, variable in spec.variables.items() if variable.parts}
    times = set() if spec.data.time is None else {spec.data.time}
    matched = {name for series in spec.series.values() for name in series.matches}
    names = read | times | matched | {*spec.data.panel, *spec.data.carry, *spec.variables}
    names |= {part for parts in composed.values() for part in parts}
    known_elsewhere = {name for name in names if joined and name.startswith(joined)}
    return frozenset(names - set(spec.derived) - set(composed) - known_elsewhere)


def series_needed(spec: SeriesSpec) -> frozenset[str]:
    """Return the variables of its table that a series reads."""
    parts = {name for variable in spec.variables.values() for name in (variable.parts or {}).values()}
    times = {spec.time} if spec.time not in {key for key, each in spec.variables.items() if each.parts} else set()
    return frozenset({*times, *parts, *spec.matches.values(), *[take.of or name for name, take in spec.take.items()]})
