"""The entries on time: gaps, conversions, and columns along time beside their sources."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict
from itertools import pairwise

import numpy as np

from facturum.audit.entries import ClockEntry, ConversionEntry, GapEntry, PathEntry, PathLine
from facturum.data.declared import declare
from facturum.data.time.calendar import period_text
from facturum.data.time.series import Series, period_numbers
from facturum.data.time.spans import inner_periods, nests
from facturum.data.values import Array, Kind
from facturum.engine.blocks.source import Source
from facturum.engine.passes.build import Built, BuiltColumn
from facturum.engine.planning.prepared import Prepared
from facturum.engine.planning.spreading import walk
from facturum.language.core import Name, names_in
from facturum.language.nodes import Node
from facturum.language.operations.along import AlongTime
from facturum.language.operations.imputing import Impute
from facturum.language.reading import stepped

MAX_PERIODS = 5000  # of a unit
MAX_UNITS = 60
MAX_PATHS = 24  # columns
MAX_VALUES = 40_000  # in all lines together; the first unit is drawn in any case
MAX_GAPS = 100


def clock_entry(built: Built) -> ClockEntry | None:
    """Return how rows follow one another, or None where the plan does not define it."""
    prepared = built.prepared
    timing = prepared.spec.data.timing
    if timing is None:
        return None
    if timing.time is not None and (
        timing.time not in prepared.table or prepared.table[timing.time].kind is not Kind.TIME
    ):
        return None
    if not any(prepared.looks_along(root) for root in prepared.parts().values()) and not prepared.shaped.joined:
        return None
    series = built.source.series
    order = series.order
    unit, period = series.unit[order], series.period[order]
    starts = np.flatnonzero(np.diff(unit, prepend=-1))
    ends = np.append(starts[1:], len(unit)) - 1
    gaps = int((period[ends] - period[starts] + 1).sum()) - len(order) if len(order) else 0
    dated = timing.every != "row" and len(order) > 0
    return ClockEntry(
        time=timing.time,
        every=timing.every,
        panel=list(timing.panel),
        units=len(starts),
        first=period_text(int(period.min()), timing.every) if dated else None,
        last=period_text(int(period.max()), timing.every) if dated else None,
        gaps=gaps,
        gap_list=_gap_list(prepared, series) if dated else [],
        no_period=int((~series.known).sum()),
        history=prepared.shaped.history_rows,
    )


def _gap_list(prepared: Prepared, series: Series) -> list[GapEntry]:
    """Return where periods are without a row, each unit's between its first row and its last."""
    order = series.order
    unit, period = series.unit[order], series.period[order]
    at = np.flatnonzero((np.diff(unit) == 0) & (np.diff(period) > 1))[:MAX_GAPS]
    gaps = []
    for place in at.tolist():
        first, last = int(period[place]) + 1, int(period[place + 1]) - 1
        texts = [period_text(number, series.every) for number in (first, last)]
        name = _unit_text(prepared, int(order[place])) or None
        gaps.append(GapEntry(unit=name, first=texts[0], last=texts[1], periods=last - first + 1))
    return gaps


def _unit_text(prepared: Prepared, row: int) -> str:
    names = [prepared.table[name] for name in prepared.spec.data.panel]
    return ", ".join(variable.text_of(variable.data[row].item()) for variable in names)


def conversion_entries(built: Built) -> list[ConversionEntry]:
    """Return what conversions did, each variable by itself."""
    return [ConversionEntry(place=place, **asdict(report)) for place, report in built.prepared.shaped.converted]


def conversion_warnings(built: Built) -> Iterator[str]:
    """Say which conversions read what would not have been known, and which periods were not fully covered."""
    prepared = built.prepared
    used = {name for root in prepared.parts().values() for name in prepared.sources(root)}
    forecast = prepared.spec.rows.learn is not None or prepared.shaped.history_rows > 0
    for _, report in prepared.shaped.converted:
        if report.variable not in used:
            continue
        if report.reads_later and forecast:
            yield (
                f"{report.variable} is made by '{report.how}', which reads later {report.from_every}s: for the rows "
                "not learned from, the future would not have been known."
            )
        if report.partial:
            became = {"missing": "are missing", "keep": "are computed from the values present", "drop": "are left out"}
            of_share = f"are computed from the values present where {report.partial_as} is covered, and else missing"
            yield (
                f"{report.variable}: {report.partial:,} {report.to_every}s are not fully covered (the least to "
                f"{100 * (report.least_cover or 0):.0f} %) and {became.get(report.partial_as or 'keep', of_share)}."
            )


def path_entries(built: Built) -> list[PathEntry]:
    """Return, for columns along time and of joined series, the first units beside their sources."""
    prepared = built.prepared
    timing = prepared.spec.data.timing
    if timing is None or timing.time is None or timing.every == "row" or clock_entry(built) is None:
        return []
    series = built.source.series
    edges = np.flatnonzero(np.diff(series.unit[series.order], prepend=-1, append=-1))
    paths: list[PathEntry] = []
    values = 0
    for start, stop in pairwise(edges[: MAX_UNITS + 1].tolist()):
        rows = series.order[start : min(stop, start + MAX_PERIODS)]
        lines = [
            entry
            for column in built.columns
            if column.column is not None
            for entry in _paths(built, column, column.column.formula, rows)
        ][:MAX_PATHS]
        values += sum(len(line.values) for entry in lines for line in entry.lines)
        if paths and values > MAX_VALUES:
            break
        paths += lines
        if not lines:
            break
    return paths


def _paths(built: Built, column: BuiltColumn, formula: Node, rows: Array) -> Iterator[PathEntry]:
    """Yield a column along time beside its sources, and each joined variable beside its own, for one unit."""
    prepared, source_rows = built.prepared, built.source
    inner = _inner(prepared, formula)
    joined = [name for name in names_in(formula) if name in source_rows.origins]
    if (inner is None and not joined) or not _numeric(prepared, formula):
        return
    series = source_rows.series
    texts = [period_text(int(period), series.every) for period in series.period[rows].tolist()]
    unit = _unit_text(prepared, int(rows[0]))
    if inner is not None and _numeric(prepared, inner):
        lines = [(stepped(node.subject(), prepared.spec.data.every), node) for node in (formula, inner)]
        drawn = [PathLine(name=name, periods=texts, values=_values(source_rows, node, rows)) for name, node in lines]
        yield PathEntry(term=column.term, column=column.name, unit=unit, lines=drawn)
    for name in joined:
        source = _source_line(built, name)
        source_line = PathLine(name=name, periods=texts, values=_values(source_rows, Name(name), rows))
        lines_of = [source_line] if source is None else [source_line, source]
        yield PathEntry(term=column.term, column=name, unit=unit, lines=lines_of)


def _inner(prepared: Prepared, formula: Node) -> Node | None:
    """Return what an operation along time is taken of."""
    for node in walk(formula):
        if isinstance(node, AlongTime | Impute) and node.along_time:
            return node.x
        if isinstance(node, Name) and node.variable in prepared.derived:
            inner = _inner(prepared, prepared.derived[node.variable])
            if inner is not None:
                return inner
    return None


def _numeric(prepared: Prepared, node: Node) -> bool:
    return prepared.scope().type_of(node).kind.numeric


def _values(source: Source, node: Node, rows: Array) -> list[float | None]:
    order = np.argsort(rows)
    in_order = source.values_at(node, rows[order]).take(np.argsort(order))
    return [float(v) if ok else None for v, ok in zip(in_order.numbers(), in_order.present_mask(), strict=True)]


def _source_line(built: Built, name: str) -> PathLine | None:
    """Return the source values of a joined variable, each at the period in which its own begins."""
    prepared = built.prepared
    series = next(s for s in prepared.shaped.joined if name in s.variables)
    spec = prepared.spec.series[series.name]
    table = prepared.given.series[series.name]
    take = spec.take[name.removeprefix(f"{series.name}_")]
    source = take.of or name.removeprefix(f"{series.name}_")
    step = built.source.series.every
    fits = nests(step, spec.every) and table[source].kind is Kind.NUMBER and len(table) <= MAX_PERIODS
    if spec.match or not fits:
        return None
    time = declare(table, {}, spec.time)[spec.time]
    order = np.argsort(time.data, kind="stable")
    values = table[source]
    missing = values.missing_rows()
    first, after = inner_periods(period_numbers(time.data[order], spec.every), spec.every, step)
    dated = take.how in ("linear", "cubic")
    at = {"start": first, "middle": (first + after - 1) // 2, "end": after - 1}[take.at if dated else "middle"]
    return PathLine(
        name=f"{source} by {spec.every}",
        periods=[period_text(int(p), step) for p in at.tolist()],
        values=[None if missing[at] else float(values.data[at]) for at in order.tolist()],
    )
