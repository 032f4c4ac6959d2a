"""Taking in a table larger than memory: its variables as declared, in the plan's order, as arrays on disk."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from facturum.audit.source.fingerprints import Fingerprint, FingerprintTaker, fingerprint_of
from facturum.audit.source.origins import variables_read
from facturum.data.conversion.converting import Converted
from facturum.data.conversion.joining import JoinedSeries, SeriesToJoin
from facturum.data.declared import as_time, unknown_declarations
from facturum.data.table import Table
from facturum.data.time.merging import Keys, Runs, order_of
from facturum.data.time.ordering import refuse_faults
from facturum.data.time.periods import Timing, period_numbers
from facturum.data.values import Array, Kind, Label, Labels, label_text, sorted_labels
from facturum.data.variable import Variable
from facturum.engine.planning.expressions.prepare import prepare
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.engine.planning.sections.projection import variables_needed
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.engine.planning.shaping import DATA, Given, Shaped, declared_tables, of_the_table, series_to_join
from facturum.errors import DataError, FacturumError, PlanError
from facturum.files.background import ahead
from facturum.files.parts.disk_arrays import DiskArray, LookedUp, as_array, picked
from facturum.files.parts.portions import Portions
from facturum.files.scans.scans import Scan
from facturum.language.syntax.parser import parse
from facturum.support.threads import on_threads

_BLOCK = 2**18  # rows that are read at a time
_FEWEST = 2**16  # of a run
_MOST = 1 << 22  # rows of a run
Tick = Callable[[int, int], None]


@dataclass(frozen=True)
class TakenIn:
    """A plan over a table on disk.

    Args:
        prepared: the plan as checked expressions.
        marks: the fingerprints of the table's variables.
        first: of the same the locators of the first rows, where an earlier fingerprint was given.
        series: the tables of its series as declared, by their place in the plan.
    """

    prepared: Prepared
    marks: dict[str, Fingerprint]
    first: dict[str, list[str]]
    series: dict[str, Table]

    def fingerprints(self, prepared: Prepared) -> dict[str, dict[str, Fingerprint]]:
        """Return the fingerprints of the variables that a plan reads, by table."""
        read = variables_read(prepared)
        marks = {DATA: {name: mark for name, mark in self.marks.items() if name in read[DATA]}}
        for place, table in self.series.items():
            if place in read:
                marks[place] = {name: fingerprint_of(table[name]) for name in table.variables if name in read[place]}
        return marks


def take_in(
    spec: PlanSpec,
    scan: Scan,
    series: Mapping[str, Table],
    folder: Path,
    portions: Portions,
    tick: Tick | None = None,
    before: Mapping[str, Fingerprint] | None = None,
) -> TakenIn:
    """Bring what a plan needs of a table to the disk, and return the plan over it.

    Args:
        spec: the plan.
        scan: the table.
        series: the tables of its series.
        folder: where temporary files are.
        portions: how much is held at a time.
        tick: is called with the number of rows taken in and the number of all.
        before: earlier fingerprints of variables, with whose rows the first ones are compared.

    Raises:
        PlanError, DataError: as `prepare` does.
    """
    _refuse_sections(spec)
    spool = _Spool(spec, scan, series, folder, portions, before or {})
    for block in ahead(scan.blocks(spool.columns, spool.rows_at_once)):
        spool.add(block)
        if tick is not None:
            tick(spool.length, scan.length)
    return spool.finished()


def _refuse_sections(spec: PlanSpec) -> None:
    for section, command in (("stack", "stack"), ("convert", "convert")):
        if getattr(spec, section) is not None:
            raise PlanError(
                f"a table that is read in parts cannot pass through [{section}]",
                place=section,
                remedy=f"Run facturum {command} on the table first, and take the section out of the plan.",
            )


def needs_order_of_time(spec: PlanSpec) -> bool:
    """Return whether a plan works along time or joins a series, so that rows are brought into order."""
    if spec.data.timing is None:
        return False
    texts = [spec.response, spec.rows.keep, spec.rows.learn, *spec.derived.values(), *spec.terms.values()]
    try:
        nodes = [parse(text, spec.resolved) for text in texts if text is not None]
    except FacturumError:
        return False  # which is told with its place once the plan is prepared
    return bool(spec.series) or any(part.along_time for node in nodes for part in node.walk())


class _Coding:
    """The categories of a variable whose rows come block by block.

    Args:
        first: its first rows.
        sorts: whether its categories come of numbers, so that they are sorted.
        named: the labels that the plan declares, in their order.
    """

    def __init__(self, first: Variable, sorts: bool, named: Sequence[str] | None) -> None:
        self._first, self._sorts, self._named = first, sorts, named
        self._codes: dict[tuple[bool, Label], int] = {}

    @property
    def dtype(self) -> np.dtype[Any]:
        """How rows are stored."""
        return np.dtype(np.int32) if self._first.labels is not None else self._first.data.dtype

    def coded(self, variable: Variable) -> Variable:
        """Return the next rows with their categories coded as in all blocks.

        Raises:
            DataError: where the variable is of another kind in these rows.
        """
        if (variable.kind, variable.labels is None) != (self._first.kind, self._first.labels is None):
            raise DataError(
                f"'{variable.name}' is {self._first.kind.with_article} in the first rows, and "
                f"{variable.kind.with_article} in others",
                place=f"variables.{variable.name}",
                remedy="Write the table with one type for each variable.",
            )
        if variable.labels is None:
            return variable
        keys = [(isinstance(label, str), label) for label in variable.labels]
        codes = [self._codes.setdefault(key, len(self._codes)) for key in keys]
        missing = variable.missing_rows()
        data = np.array([*codes, -1], dtype=np.int32)[np.where(missing, -1, variable.data)]
        return replace(variable, data=data, valid=None, labels=tuple(label for _, label in self._codes))

    def variable(self, data: DiskArray, valid: DiskArray | None) -> Variable:
        """Return all rows as a variable, its categories in the order that they have in memory."""
        if self._first.labels is None:
            return replace(self._first, data=as_array(data), valid=None if valid is None else as_array(valid))
        met: Labels = tuple(label for _, label in self._codes)
        labels = met
        if self._named is not None and self._first.kind is not Kind.ORDERED:
            labels = tuple(label for label in dict.fromkeys(self._named) if label in met)
        elif self._sorts and self._first.kind is not Kind.ORDERED:
            labels = tuple(sorted_labels(list(met)))
        if labels == met:
            return replace(self._first, data=as_array(data), valid=None, labels=labels)
        place = {(isinstance(label, str), label): at for at, label in enumerate(labels)}
        recode = np.array([*[place[isinstance(label, str), label] for label in met], -1], dtype=np.int32)
        return replace(self._first, data=as_array(LookedUp(data, recode)), valid=None, labels=labels)


class _Spool:
    """A table on its way to the disk."""

    def __init__(
        self,
        spec: PlanSpec,
        scan: Scan,
        series: Mapping[str, Table],
        folder: Path,
        portions: Portions,
        before: Mapping[str, Fingerprint],
    ) -> None:
        self._before = before
        self._spec, self._scan, self._series, self._folder = spec, scan, dict(series), folder
        self._portions = portions
        self._timing: Timing | None = spec.data.timing
        self.columns = variables_needed(spec)
        self._codings: dict[str, _Coding] = {}
        self._arrays: dict[tuple[str, str], DiskArray] = {}  # all that has an element for each row
        self._takers: dict[str, FingerprintTaker] = {}
        self._texts: dict[str, dict[str, None]] = {}  # of times written as text
        self._declared_series: dict[str, Table] = {}
        self._to_join: list[SeriesToJoin] = []
        self._reports: list[tuple[str, Converted]] = []
        self._keys = Keys(self._timing) if self._timing is not None and needs_order_of_time(spec) else None
        self._edges: list[int] = [0]
        self._last: tuple[int, int] | None = None
        self._moved = False
        self.length = 0

    @property
    def rows_at_once(self) -> int:
        """How many rows are asked for at a time: as many as can be sorted in the memory there is."""
        if self._portions.block is not None or self._keys is None:
            return self._portions.block or _BLOCK
        return self._fitting(8 * (4 + len(self.columns or range(16))))

    def _fitting(self, width: int) -> int:
        """Return how many rows of so many bytes can be sorted in the memory there is."""
        return max(_FEWEST, min(_MOST, self._portions.memory // (4 * width)))

    def add(self, block: Table) -> None:
        """Take in the next rows."""
        if not block.length:
            return
        try:
            declared = declared_tables(self._spec, Given(block, {} if self._codings else self._series))
        except DataError as error:
            error.rows = tuple(row + self.length for row in error.rows)
            raise
        table = declared[DATA]
        if not self._codings:
            self._begin(block, table, declared)
        for name, texts in self._texts.items():
            texts.update(dict.fromkeys(label_text(label) for label in block[name].labels or ()))
        variables = {name: coding.coded(table[name]) for name, coding in self._codings.items()}
        on_threads(lambda name: self._takers[name].add(variables[name]), list(variables))
        table = replace(table, variables=variables)
        at = np.arange(self.length + 1, self.length + 1 + table.length)
        self._write(table, at)
        self.length += table.length

    def _begin(self, block: Table, table: Table, declared: Mapping[str, Table]) -> None:
        spec = self._spec
        rest = {name: v.declaration(spec.data) for name, v in spec.variables.items() if name not in block}
        if not spec.resolved:
            own = of_the_table(spec, rest)
            unknown_declarations(table, {name: each for name, each in own.items() if not each.parts})
        for variable in table:
            raw = block.variables.get(variable.name, variable)
            sorts = raw.labels is None
            labels = spec.variables[variable.name].labels if variable.name in spec.variables else None
            named = None if labels is None else list(labels.values())
            self._codings[variable.name] = _Coding(variable, sorts, named)
            wide = variable.data.dtype.kind in "iu" and variable.data.dtype.itemsize == 8
            both = variable.kind is Kind.NUMBER and wide
            first = self._before[variable.name].rows if variable.name in self._before else 0
            self._takers[variable.name] = FingerprintTaker(variable.kind, both, first)
            if variable.kind is Kind.TIME and raw.labels is not None:
                self._texts[variable.name] = {}
        self._declared_series = {name: each for name, each in declared.items() if name != DATA}
        for name in spec.series:
            to_join, reports = series_to_join(spec, name, self._declared_series)
            self._to_join.append(to_join)
            self._reports += reports

    def _write(self, table: Table, numbers: Array) -> None:
        """Write rows, sorted where the plan looks along time."""
        parts: dict[tuple[str, str], Array] = {}
        for variable in table:
            parts["data", variable.name] = variable.data
            if variable.valid is not None or ("valid", variable.name) in self._arrays:
                valid = variable.valid
                parts["valid", variable.name] = np.ones(table.length, dtype=bool) if valid is None else valid
        for series in self._to_join:
            parts["unit of", series.name], parts["row of", series.name] = self._rows_in(series, table)
        if self._keys is not None:
            parts["numbers", ""] = numbers
            parts["unit", ""], parts["period", ""] = unit, period = self._keys.of(table)
            order = order_of(unit, period)
            if order is not None:
                parts = {key: part[order] for key, part in parts.items()}
                unit, period = parts["unit", ""], parts["period", ""]
            follows = self._last is None or self._last <= (int(unit[0]), int(period[0]))
            self._moved = self._moved or order is not None or not follows
            if not follows:
                self._edges.append(self.length)
            self._last = int(unit[-1]), int(period[-1])
        for key, part in parts.items():
            self._array(key, part.dtype).append(part)

    def _array(self, key: tuple[str, str], dtype: Any) -> DiskArray:
        """Return the array under a key; what a mask has not said of earlier rows is true."""
        if key not in self._arrays:
            what, name = key
            self._arrays[key] = DiskArray(self._folder, self._codings[name].dtype if what == "data" else dtype)
            for start in range(0, self.length, _BLOCK):
                self._arrays[key].append(np.ones(min(_BLOCK, self.length - start), dtype=bool))
        return self._arrays[key]

    def _rows_in(self, series: SeriesToJoin, table: Table) -> tuple[Array, Array]:
        time = table[self._spec.data.time or ""]
        return series.rows(table, period_numbers(time.data, series.timing.every), ~time.missing_rows())

    def finished(self) -> TakenIn:
        """Return the plan over the table.

        Raises:
            PlanError, DataError: as `prepare` does, and for faults of the time.
        """
        if not self.length:
            raise DataError(
                f"{self._scan.source} has no rows", remedy="Check the file, its delimiter and its first line."
            )
        for name, texts in self._texts.items():
            labels = tuple(texts)
            pattern = self._spec.variables[name].pattern if name in self._spec.variables else None
            as_time(Variable(name, Kind.CATEGORY, np.arange(len(labels)), None, labels), pattern)
        if len(self._edges) > 1:
            self._merge()
        variables = {
            name: coding.variable(self._arrays["data", name], self._arrays.get(("valid", name)))
            for name, coding in self._codings.items()
        }
        given = Table(variables, self.length, self._scan.source, self._scan.notes)
        table, joined = self._joined(given)
        numbers = as_array(self._arrays["numbers", ""]) if self._moved else None
        if self._keys is not None and self._timing is not None:
            refuse_faults(table, self._timing, lambda at: at + 1 if numbers is None else numbers[at])
        at_once, declared = self._portions.leaves, self._declared_series
        shaped = Shaped(table, 0, joined, tuple(self._reports), numbers, False, at_once, declared)
        prepared = prepare(self._spec, Given(given, self._series), shaped)
        marks = {name: taker.taken() for name, taker in self._takers.items()}
        first = {name: taker.first_locators() for name, taker in self._takers.items()}
        return TakenIn(prepared, marks, first, self._declared_series)

    def _joined(self, given: Table) -> tuple[Table, tuple[JoinedSeries, ...]]:
        """Return the table with the variables of its series, looked up by their rows."""
        variables, joined = dict(given.variables), []
        for series in self._to_join:
            rows = self._arrays["row of", series.name]
            if rows.max() < 0:
                raise series.nothing_in_common()
            for name in series.variables:
                variables[name] = _looked_up(series.table[name], rows)
            joined.append(series.joined(as_array(self._arrays["unit of", series.name])))
        return replace(given, variables=variables), tuple(joined)

    def _merge(self) -> None:
        """Merge the runs of rows that are in order, each array anew."""
        unit, period = self._arrays.pop(("unit", "")), self._arrays.pop(("period", ""))
        runs = Runs(as_array(unit), as_array(period), [*self._edges, self.length])
        merged = {key: DiskArray(self._folder, array.dtype) for key, array in self._arrays.items()}
        width = sum(array.dtype.itemsize for array in merged.values()) + 32
        for rows, order in runs.merged(self._portions.block or self._fitting(width)):

            def write(key: tuple[str, str], rows: Array = rows, order: Array = order) -> None:
                merged[key].append(picked(self._arrays[key], rows)[order])

            on_threads(write, list(merged))
        for array in (unit, period, *self._arrays.values()):
            array.close()
        self._arrays = merged


def _looked_up(variable: Variable, rows: DiskArray) -> Variable:
    """Return a variable of a series for rows that find theirs there; -1 is missing."""
    nothing = variable.data.dtype.type(-1 if variable.kind.categorical else 0)
    missing = np.append(variable.missing_rows(), True)
    data = np.where(missing, nothing, np.append(variable.data, nothing))
    valid = None if not missing[:-1].any() and rows.min() >= 0 else as_array(LookedUp(rows, ~missing))
    return replace(variable, data=as_array(LookedUp(rows, data)), valid=valid)
