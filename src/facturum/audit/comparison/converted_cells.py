"""The cells of a file behind a value that a conversion made: those of the periods that it was made of."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np

from facturum.audit.map.entries import ConversionEntry
from facturum.data.conversion.joining import rows_of
from facturum.data.table import Table
from facturum.data.time.calendar import period_text
from facturum.data.time.periods import Timing, period_numbers, period_starts
from facturum.data.time.spans import inner_periods
from facturum.data.values import Array
from facturum.data.variable import Variable
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.engine.planning.shaping import DATA, HISTORY, SERIES

BY_ALL = ("cubic", "smooth_total", "smooth_mean")  # a path through all values that follow one another


@dataclass(frozen=True)
class FileCell:
    """A cell of a file.

    Args:
        value: a number, a text, or None where it is missing.
        row: its row in the file.
        note: where it is, in words.
    """

    value: float | str | None
    row: int
    note: str


@dataclass(frozen=True)
class ConvertedCells:
    """Finds the cells behind converted values.

    Args:
        spec: the resolved plan.
        tables: those given, as declared: data, history, and series.NAME of each series.
    """

    spec: PlanSpec
    tables: Mapping[str, Table]

    def behind(self, made: ConversionEntry, unit: Mapping[str, str], moment: int) -> tuple[list[FileCell], str]:
        """Return the cells behind a value, in the order of time, and what else it was made of, in words.

        Args:
            made: what the conversion did.
            unit: the variables of its unit as its table calls them, and their values as texts.
            moment: a moment within its period, in microseconds since 1970.
        """
        if self.spec.stack is not None and not made.place.startswith(SERIES):
            return [], ""  # whose rows are several of a row of the file
        found: list[tuple[int, FileCell]] = []
        for name, table, timing in self._sources(made):
            rows, periods = _rows(table, timing, made, unit, moment)
            values = table[made.source]
            missing = values.missing_rows()
            for row, period in zip(rows.tolist(), periods.tolist(), strict=True):
                note = f"row {row + 1:,} of {name}, {period_text(int(period), timing.every)}"
                found.append((int(period), FileCell(None if missing[row] else _plain(values, row), row + 1, note)))
        rest = "and the values before and after these, through which the path runs"
        return [cell for _, cell in sorted(found, key=lambda each: each[0])], rest if made.how in BY_ALL else ""

    def _sources(self, made: ConversionEntry) -> Iterator[tuple[str, Table, Timing]]:
        if made.place.startswith(SERIES):
            series = self.spec.series[made.place.removeprefix(SERIES)]
            timing = Timing(series.time, self.spec.data.token(series.every), tuple(series.matches.values()))
            table = self.tables[made.place]
            unnamed = table.source == Table.source
            yield f"the {made.place.replace('.', ' ')}" if unnamed else table.source, table, timing
        elif self.spec.convert is not None:
            every = self.spec.data.token(self.spec.convert.every)
            for place in (HISTORY, DATA):
                if place in self.tables:
                    own = self.tables[place]
                    yield own.source, own, Timing(self.spec.data.time, every, tuple(self.spec.data.panel))


def _rows(
    table: Table, timing: Timing, made: ConversionEntry, unit: Mapping[str, str], moment: int
) -> tuple[Array, Array]:
    """Return the rows of a table behind a value, and their periods."""
    time, rows = table[timing.time or ""], rows_of(table, unit)
    rows = rows[~time.missing_rows()[rows]]
    periods = period_numbers(time.data[rows], timing.every)
    own = int(period_numbers(np.array([moment]), made.to_every)[0])
    begin, end = period_starts(np.array([own, own + 1]), made.to_every).tolist()
    first, last = period_numbers(np.array([begin, end - 1]), timing.every).tolist()
    before, after = _beyond(made, own, first, timing.every)
    inside = (periods >= first - before) & (periods <= last + after)
    return rows[inside], periods[inside]


def _beyond(made: ConversionEntry, own: int, around: int, every: str) -> tuple[int, int]:
    """Return how many periods before and after its own, which is around it, a value is made of."""
    if made.at is None:
        return 0, 0
    if made.how == "cubic":
        return 1, 1
    first, stop = (int(each[0]) for each in inner_periods(np.array([around]), every, made.to_every))
    dated = {"start": first, "middle": (first + stop - 1) / 2, "end": stop - 1}[made.at]
    return int(own < dated), int(own > dated)


def _plain(variable: Variable, row: int) -> float | str:
    value = variable.data[row]
    return variable.text_of(value) if variable.labels is not None else float(value)
