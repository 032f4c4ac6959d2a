"""Which variables of the tables given stand behind a build: before stacking, converting and joining."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from facturum.audit.source.fingerprints import Fingerprint, fingerprint_of
from facturum.data.shape.reshaping import ORIGIN
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.engine.planning.sections.spec import PlanSpec, TakeSpec
from facturum.engine.planning.shaping import DATA, HISTORY, SERIES
from facturum.language.core.literals import Name


def fingerprints_of(prepared: Prepared) -> dict[str, dict[str, Fingerprint]]:
    """Return the fingerprints of all variables that a plan reads, by the table given: data, history, series.NAME."""
    tables = prepared.shaped.declared
    return {
        place: {name: fingerprint_of(tables[place][name]) for name in tables[place].variables if name in names}
        for place, names in variables_read(prepared).items()
        if place in tables
    }


def variables_read(prepared: Prepared) -> dict[str, set[str]]:
    """Return the names of the variables that a plan reads of each table given, those of its time and units too."""
    spec = prepared.spec
    roots = [
        *prepared.terms.values(),
        *[node for node in (prepared.response, prepared.keep, prepared.learn) if node is not None],
    ]
    known = {*prepared.table.variables, *prepared.derived}
    roots += [Name(name) for name in spec.data.carry if name in known]
    read = {name for root in roots for name in prepared.sources(root)}
    by_table: dict[str, set[str]] = {}
    for key, series in spec.series.items():
        joined = {f"{key}_{target}": target for target in series.take}
        if read_here := [target for name, target in joined.items() if name in read]:
            by_table[SERIES + key] = {series.time, *series.matches.values(), *_before(read_here, series.take)}
            read |= {*_clock(spec), *series.matches}
        read -= joined.keys()
    if spec.convert is not None or any(prepared.looks_along(root) for root in roots):
        read |= _clock(spec)
    if spec.convert is not None:
        read = {*_clock(spec), *_before(read - _clock(spec), spec.convert.take)}
    if spec.stack is not None:
        into = spec.stack.into
        read = {part for name in read for part in into.get(name, [name])} - {spec.stack.which, ORIGIN}
    return {DATA: read, HISTORY: read, **by_table}


def _clock(spec: PlanSpec) -> set[str]:
    return {*([] if spec.data.time is None else [spec.data.time]), *spec.data.panel}


def _before(names: Iterable[str], take: Mapping[str, TakeSpec]) -> Iterator[str]:
    """Give the variables that converted ones are made of."""
    return (take[name].of or name if name in take else name for name in names)
