"""The entries on time: gaps, conversions, and columns along time beside their sources."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass
from itertools import pairwise

import numpy as np

from facturum.audit.map.entries import ClockEntry, ConversionEntry, GapEntry, PathEntry, PathLine
from facturum.data.conversion.converting import Converted
from facturum.data.conversion.joining import rows_of, unit_of
from facturum.data.time.calendar import period_text
from facturum.data.time.periods import AT_ONCE, period_numbers
from facturum.data.time.spans import inner_periods, nests
from facturum.data.values import Array, Kind
from facturum.engine.blocks.source import Source
from facturum.engine.passes.outline import BuiltColumn, Outline
from facturum.engine.planning.expressions.leaks import looks
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.engine.planning.shaping import SERIES
from facturum.language.core.literals import Name, names_in
from facturum.language.meanings.meaning import stepped
from facturum.language.tree.nodes import Node

MAX_PERIODS = 5000  # of a unit
MAX_UNITS = 60
MAX_PATHS = 24  # columns
MAX_VALUES = 40_000  # in all lines together; the first unit is drawn in any case
MAX_GAPS = 100


def is_clocked(prepared: Prepared) -> bool:
    """Return whether a plan defines how rows follow one another, and uses it."""
    timing = prepared.spec.data.timing
    if timing is None:
        return False
    if timing.time is not None and (
        timing.time not in prepared.table or prepared.table[timing.time].kind is not Kind.TIME
    ):
        return False
    return any(prepared.looks_along(root) for root in prepared.parts().values()) or bool(prepared.shaped.joined)


class Clock:
    """How rows follow one another, gathered from stretches of a table in the order of unit and period."""

    def __init__(self, prepared: Prepared) -> None:
        self._prepared = prepared
        self._units = self._gaps = self._no_period = 0
        self._first, self._last = math.inf, -math.inf
        self._gap_list: list[GapEntry] = []

    def see(self, source: Source, start: int, stop: int) -> None:
        """Look at a range of rows, and at the one before."""
        for low in range(start, stop, AT_ONCE):
            self._see(source, low, min(low + AT_ONCE, stop))

    def _see(self, source: Source, start: int, stop: int) -> None:
        known = source.known(start, stop)
        new = source.changes(start, stop)
        period = source.periods(start, stop)
        if known is not None:
            self._no_period += int(np.count_nonzero(~known))
            new, period = new[known], period[known]
        if not len(period):
            return
        self._units += int(np.count_nonzero(new))
        self._first, self._last = min(self._first, int(period.min())), max(self._last, int(period.max()))
        before = source.periods(start - 1, start) if start else period[:1]
        steps = np.diff(period, prepend=before)
        at = np.flatnonzero(~new & (steps > 1))
        self._gaps += int((steps[at] - 1).sum())
        if self._dated:
            for place in at[: MAX_GAPS - len(self._gap_list)].tolist():
                self._gap_list.append(self._gap(start + place, int(period[place] - steps[place]), int(period[place])))

    @property
    def _dated(self) -> bool:
        timing = self._prepared.spec.data.timing
        return timing is not None and timing.every != "row"

    def _gap(self, row: int, before: int, after: int) -> GapEntry:
        every = self._every
        first, last = period_text(before + 1, every), period_text(after - 1, every)
        return GapEntry(
            unit=_unit_text(self._prepared, row) or None, first=first, last=last, periods=after - before - 1
        )

    @property
    def _every(self) -> str:
        timing = self._prepared.spec.data.timing
        return "row" if timing is None else timing.every

    def entry(self) -> ClockEntry | None:
        """Return how rows follow one another, or None where the plan does not define it."""
        timing = self._prepared.spec.data.timing
        if timing is None or not is_clocked(self._prepared):
            return None
        dated = self._dated and self._units > 0
        return ClockEntry(
            time=timing.time,
            every=timing.every,
            panel=list(timing.panel),
            units=self._units,
            first=period_text(int(self._first), timing.every) if dated else None,
            last=period_text(int(self._last), timing.every) if dated else None,
            gaps=self._gaps,
            gap_list=self._gap_list,
            no_period=self._no_period,
            history=self._prepared.shaped.history_rows,
        )


class LastPeriod:
    """The last period of the rows given, whether or not anything looks along time."""

    def __init__(self, prepared: Prepared) -> None:
        data, table = prepared.spec.data, prepared.table
        dated = data.time in table and data.every not in (None, "row") and table[str(data.time)].kind is Kind.TIME
        self._time, self._every = (data.time, data.token(str(data.every))) if dated else (None, "")
        self._last: int | None = None

    def see(self, source: Source, start: int, stop: int) -> None:
        """Look at a range of rows."""
        if self._time is not None:
            moments = source.table[self._time].part(start, stop)
            there = moments.data[~moments.missing_rows()]
            if len(there):
                self._last = max(int(there.max()), there.max() if self._last is None else self._last)

    def entry(self) -> str | None:
        """Return the period as text."""
        if self._last is None:
            return None
        return period_text(int(period_numbers(np.array([self._last]), self._every)[0]), self._every)


def _unit_text(prepared: Prepared, row: int) -> str:
    names = [prepared.table[name] for name in prepared.spec.data.panel]
    return ", ".join(variable.text_of(variable.data[row : row + 1][0].item()) for variable in names)


def conversion_entries(prepared: Prepared) -> list[ConversionEntry]:
    """Return what conversions did, each variable by itself."""
    return [ConversionEntry(place=place, **asdict(report)) for place, report in prepared.shaped.converted]


def conversion_warnings(prepared: Prepared) -> Iterator[str]:
    """Say which conversions read what would not have been known, and which periods were not fully covered."""
    used = {name for root in prepared.parts().values() for name in prepared.sources(root)}
    forecast = prepared.spec.rows.learn is not None or prepared.shaped.history_rows > 0
    latest: dict[str, int] = {}
    roots = prepared.parts().values() if forecast and prepared.shaped.converted else ()
    for look in (look for root in roots for look in looks(root, prepared.derived)):
        latest[look.variable] = max(look.offset, latest.get(look.variable, look.offset))
    for _, report in prepared.shaped.converted:
        if report.variable not in used:
            continue
        if report.reads_later and forecast:
            yield (
                f"{report.variable} is made by '{report.how}', which reads later {report.from_every}s: for the rows "
                "not learned from, the future would not have been known."
            )
        if report.how in ("repeat", "spread") and forecast and (least := _known_after(report, latest)):
            yield (
                f"{report.variable} gives each {report.to_every} the figure of its {report.from_every}: in the rows "
                f"not learned from, that is known only at the end of the {report.from_every}. "
                f"lag({report.variable}, {least}) is known in time."
            )
        if report.partial:
            became = {"missing": "are missing", "keep": "are computed from the values present", "drop": "are left out"}
            of_share = f"are computed from the values present where {report.partial_as} is covered, and else missing"
            yield (
                f"{report.variable}: {report.partial:,} {report.to_every}s are not fully covered (the least to "
                f"{100 * (report.least_cover or 0):.0f} %) and {became.get(report.partial_as or 'keep', of_share)}."
            )


def _known_after(report: Converted, latest: Mapping[str, int]) -> int:
    """Return the lag from which on a figure of longer periods is known in time; 0 where it is read so late.

    Args:
        report: how it is made.
        latest: the latest period at which the plan reads each variable, counted from the row's own.
    """
    first, after = inner_periods(np.arange(40), report.from_every, report.to_every)
    least = int((after - first).max()) - 1
    return least if latest.get(report.variable, -least) > -least else 0


class Paths:
    """Columns along time and of joined series beside their sources, for the first units of a table in order.

    Gathered from stretches of rows: of each unit the first periods, unit by unit while there is room.

    Args:
        outline: the resolved plan and its columns.
    """

    def __init__(self, outline: Outline) -> None:
        self._prepared = prepared = outline.prepared
        timing = prepared.spec.data.timing
        self._done = timing is None or timing.time is None or timing.every == "row" or not is_clocked(prepared)
        self._every = "row" if timing is None else timing.every
        self._drawn = [] if self._done else [each for column in outline.columns for each in self._of_column(column)]
        self._done = self._done or not self._drawn
        self._entries: list[PathEntry] = []
        self._unit: list[PathEntry] = []  # of the unit that is being read
        self._units = self._rows = self._values = 0
        self._sources: dict[tuple[str, str], PathLine | None] = {}

    def _of_column(self, column: BuiltColumn) -> Iterator[_Drawn]:
        """Yield what is drawn of a column: itself beside its sources, and each joined variable beside its own."""
        if column.column is None:
            return
        prepared, formula = self._prepared, column.column.formula
        inner = _inner(prepared, formula)
        joined_names = {name for series in prepared.shaped.joined for name in series.variables}
        joined = [name for name in names_in(formula) if name in joined_names]
        if (inner is None and not joined) or not _numeric(prepared, formula):
            return
        if inner is not None and _numeric(prepared, inner):
            every = prepared.spec.data.every
            lines = tuple((stepped(node.subject(), every), node) for node in (formula, inner))
            yield _Drawn(column.term, column.name, lines)
        for name in joined:
            yield _Drawn(column.term, name, ((name, Name(name)),), joined=True)

    def see(self, source: Source, start: int, stop: int) -> None:
        """Look at a range of rows."""
        while start < stop and not self._done:
            self._see(source, start, min(start + AT_ONCE, stop))
            start += AT_ONCE

    def _see(self, source: Source, start: int, stop: int) -> None:
        edges = [0, *np.flatnonzero(source.changes(start, stop)).tolist(), stop - start]
        known = source.known(start, stop)
        for at, (low, high) in enumerate(pairwise(edges)):
            if at and not self._begin():
                return
            wanted = min(high - low, MAX_PERIODS - self._rows)
            if known is not None and not known[low : low + wanted].all():  # rows without a time come last
                self._finish()
                self._done = True
                return
            if wanted > 0:
                self._add(source, np.arange(start + low, start + low + wanted))
                self._rows += wanted

    def _begin(self) -> bool:
        """Begin with a further unit, or return that no more are drawn."""
        self._finish()
        self._units += 1
        self._rows = 0
        self._done = self._done or self._units > MAX_UNITS
        return not self._done

    def _finish(self) -> None:
        """Take the unit that has been read, where there is room."""
        self._values += sum(len(line.values) for entry in self._unit for line in entry.lines)
        if self._entries and self._values > MAX_VALUES:
            self._done = True
        else:
            self._entries += self._unit
        self._unit = []

    def _add(self, source: Source, rows: Array) -> None:
        texts = [period_text(int(period), self._every) for period in source.periods(rows[0], rows[-1] + 1).tolist()]
        new = [self._entry(source, each, rows, texts) for each in self._drawn[:MAX_PATHS]]
        self._unit = [_longer(a, b) for a, b in zip(self._unit, new, strict=True)] if self._unit else new

    def _entry(self, source: Source, drawn: _Drawn, rows: Array, texts: list[str]) -> PathEntry:
        lines = [PathLine(name=name, periods=texts, values=_values(source, node, rows)) for name, node in drawn.lines]
        unit = _unit_text(self._prepared, int(rows[0]))
        beside = self._beside(drawn.column, unit, int(rows[0])) if drawn.joined else None
        lines += [] if beside is None else [beside]
        return PathEntry(term=drawn.term, column=drawn.column, unit=unit, lines=lines)

    def _beside(self, name: str, unit: str, row: int) -> PathLine | None:
        """Return the source values of a joined variable for the unit of a row, the same object for all its rows."""
        if (name, unit) not in self._sources:
            self._sources[name, unit] = _source_line(self._prepared, name, self._every, row)
        return self._sources[name, unit]

    def entries(self) -> list[PathEntry]:
        """Return the lines of all units."""
        if self._unit and not self._done:
            self._finish()
        return self._entries


@dataclass(frozen=True)
class _Drawn:
    """What is drawn of a column: the expressions of its lines, and whether the values it was joined from are too."""

    term: str
    column: str
    lines: tuple[tuple[str, Node], ...]
    joined: bool = False


def _longer(before: PathEntry, after: PathEntry) -> PathEntry:
    """Return lines with those of further rows; a line of source values is the same for all."""
    lines = [
        a if a is b else PathLine(name=a.name, periods=[*a.periods, *b.periods], values=[*a.values, *b.values])
        for a, b in zip(before.lines, after.lines, strict=True)
    ]
    return before.model_copy(update={"lines": lines})


def _inner(prepared: Prepared, formula: Node) -> Node | None:
    """Return what an operation along time is taken of."""
    for node in formula.walk():
        if node.moved is not None:
            return node.moved
        if isinstance(node, Name) and node.variable in prepared.derived:
            inner = _inner(prepared, prepared.derived[node.variable])
            if inner is not None:
                return inner
    return None


def _numeric(prepared: Prepared, node: Node) -> bool:
    return prepared.scope().type_of(node).kind.numeric


def _values(source: Source, node: Node, rows: Array) -> list[float | None]:
    values = source.values_at(node, rows)
    return [float(v) if ok else None for v, ok in zip(values.numbers(), values.present_mask(), strict=True)]


def _source_line(prepared: Prepared, name: str, step: str, row: int) -> PathLine | None:
    """Return the source values of a joined variable for the unit of a row, each at a period of its own."""
    series = next(s for s in prepared.shaped.joined if name in s.variables)
    spec = prepared.spec.series[series.name]
    table = prepared.given.series[series.name]
    take = spec.take[name.removeprefix(f"{series.name}_")]
    source = take.of or name.removeprefix(f"{series.name}_")
    fits = nests(step, spec.every) and table[source].kind is Kind.NUMBER and len(table) <= MAX_PERIODS
    if not fits:
        return None
    declared = prepared.shaped.declared[SERIES + series.name]
    unit = unit_of(prepared.table, spec.matches, row)
    if unit is None:
        return None
    time, rows = declared[spec.time], rows_of(declared, unit)
    order = rows[np.argsort(time.data[rows], kind="stable")]
    values = declared[source]
    missing = values.missing_rows()
    first, after = inner_periods(period_numbers(time.data[order], spec.every), spec.every, step)
    dated = take.how in ("linear", "cubic")
    at = {"start": first, "middle": (first + after - 1) // 2, "end": after - 1}[take.at if dated else "middle"]
    return PathLine(
        name=f"{source} by {spec.every}",
        periods=[period_text(int(p), step) for p in at.tolist()],
        values=[None if missing[at] else float(values.data[at]) for at in order.tolist()],
    )
