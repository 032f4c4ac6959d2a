"""The table that a plan works on: history before it, columns stacked, periods converted, series joined."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from facturum.data.conversion.appending import append, without_overlap
from facturum.data.conversion.converting import Converted, Take, convert
from facturum.data.conversion.joining import JoinedSeries, SeriesToJoin, join
from facturum.data.declared import Declaration, declare, unknown_declarations
from facturum.data.grouping import group_numbers
from facturum.data.shape.reshaping import stack
from facturum.data.table import Table
from facturum.data.time.ordering import order_of_time
from facturum.data.time.periods import Timing, step_noun
from facturum.data.time.series import series_of
from facturum.data.time.spans import nests
from facturum.data.values import Array, Kind
from facturum.data.variable import Variable
from facturum.engine.blocks.source import Source
from facturum.engine.planning.expressions.scope import Scope, refuse_deep
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import DataError, FacturumError, PlanError, nearest, series_remedy
from facturum.language.syntax.parser import parse
from facturum.language.tree.failures import RowFailure
from facturum.support.threads import on_threads

MARK = "\0new"  # marks new rows against history while both are converted; no file has a variable of that name
DATA, HISTORY, SERIES = "data", "history", "series."  # how the tables given are called, a series with its name


@dataclass(frozen=True)
class Given:
    """The tables that a plan is given.

    Args:
        table: the rows that become rows of the matrix.
        series: the tables of the plan's series, by name.
        history: earlier rows, which only operations along time read.
    """

    table: Table
    series: Mapping[str, Table] = field(default_factory=dict)
    history: Table | None = None


@dataclass(frozen=True)
class Shaped:
    """The table that a plan works on.

    Args:
        table: all rows, those of history first.
        history_rows: how many rows of history there are.
        joined: the series beside it.
        converted: what conversions did, by the place in the plan.
        numbers: the row number of each position, those of history below 1; None where they are in order.
        restored: whether the matrix has its rows in the order given; otherwise in that of this table.
        leaves_at_once: how many leaves a pass takes at a time, of a table that is not in memory; None for all.
        declared: the tables given, by place, their variables of the kinds declared; those that are in memory.
    """

    table: Table
    history_rows: int = 0
    joined: tuple[JoinedSeries, ...] = ()
    converted: tuple[tuple[str, Converted], ...] = ()
    numbers: Array | None = None
    restored: bool = True
    leaves_at_once: int | None = None
    declared: Mapping[str, Table] = field(default_factory=dict)

    def in_order_of_time(self, timing: Timing) -> Shaped:
        """Return the same with the rows of each unit together and in the order of time.

        Raises:
            DataError: where a period occurs twice within a unit, or the step is longer than the plan's.
        """
        order = order_of_time(self.table, timing, on_threads)
        if order is None:
            return self
        joined = tuple(replace(series, unit=series.unit[order]) for series in self.joined)
        return replace(self, table=self.table.take(order), joined=joined, numbers=order + (1 - self.history_rows))


def shape(spec: PlanSpec, given: Given) -> Shaped:
    """Return the table that a plan works on.

    Raises:
        PlanError: for a conversion that has no meaning.
        DataError: where a table is empty or does not agree with the plan.
    """
    for table in (given.table, *([given.history] if given.history is not None else [])):
        if not table.length or not table.variables:
            raise DataError(f"{table.source} has no rows", remedy="Check the file, its delimiter and its first line.")
    declared = declared_tables(spec, given)
    if HISTORY in declared and (spec.data.timing is None or spec.data.time is None):
        raise DataError("history needs a time", place="data.time", remedy="Write [data] time and every.")
    history_rows = 0
    if HISTORY in declared and spec.convert is not None and spec.stack is None:
        table, converted, history_rows = _converted_together(spec, declared)
    else:
        table, converted = _own_shape(spec, declared[DATA])
        if HISTORY in declared and spec.data.timing is not None:
            history, _ = _own_shape(spec, declared[HISTORY])
            history = without_overlap(history, table, spec.data.timing)
            history_rows = history.length
            table = append(history, table)
    reports = tuple(("convert", report) for report in converted)
    shaped = Shaped(table, history_rows, converted=reports, declared=declared)
    for name in spec.series:
        series, of_series = series_to_join(spec, name, declared)
        assert spec.data.timing is not None  # as a series is joined by period
        table, joined = join(shaped.table, series_of(shaped.table, spec.data.timing), series)
        reports = (*shaped.converted, *of_series)
        shaped = replace(shaped, table=table, joined=(*shaped.joined, joined), converted=reports)
    return shaped


def shaped_first(spec: PlanSpec, given: Given) -> tuple[PlanSpec, Given]:
    """Return a plan that neither stacks nor converts, and its tables as they are when the one given has done so.

    Raises:
        PlanError: for a conversion that has no meaning.
        DataError: where a table does not agree with the plan.
    """
    if spec.stack is None and spec.convert is None:
        return spec, given
    declared = declared_tables(spec, given)
    history = None
    if HISTORY in declared and spec.stack is None:
        both, _, count = _converted_together(spec, declared)
        history, table = both.take(np.arange(count)), both.take(np.arange(count, both.length))
    else:
        table, _ = _own_shape(spec, declared[DATA])
        if HISTORY in declared:
            history, _ = _own_shape(spec, declared[HISTORY])
    derived = {name: text for name, text in spec.derived.items() if name != spec.data.time}  # which the tables hold now
    plain = spec.model_copy(update={"stack": None, "convert": None, "variables": {}, "derived": derived})
    return plain, replace(given, table=table, history=history)


def declared_tables(spec: PlanSpec, given: Given) -> dict[str, Table]:
    """Return the tables given, their variables of the kinds declared: data, history, and series.NAME of each series.

    Raises:
        DataError: where a table does not agree with its declaration.
    """
    named = {DATA: given.table} | ({} if given.history is None else {HISTORY: given.history})
    kinds = {name: variable.declaration(spec.data) for name, variable in spec.variables.items()}
    missing = spec.data.missing_codes
    declared = {}
    for place, table in named.items():
        if spec.data.time in spec.derived and spec.data.time in table:
            raise name_clash(spec.data.time)
        chosen = {name: kind for name, kind in kinds.items() if name in table or kind.parts}
        declared[place] = _timed(spec, declare(table, chosen, spec.data.time, missing))
    tables = {name: given.series[name] for name in spec.series if name in given.series}
    for name, table in tables.items():
        series = spec.series[name]
        own = {key: variable.declaration(series.written(spec.data)) for key, variable in series.variables.items()}
        chosen = {key: kind for key, kind in kinds.items() if key in table and key not in given.table} | own
        if not spec.resolved:
            unknown_declarations(table, {key: kind for key, kind in own.items() if not kind.parts}, f"{SERIES}{name}.")
        declared[SERIES + name] = declare(table, chosen, series.time, missing)
    return declared


def name_clash(name: str) -> PlanError:
    """Return the error that a derived variable has the name of a variable of the table."""
    return PlanError(
        f"'{name}' is a variable of the table already",
        place=f"derived.{name}",
        remedy="Give the derived variable a name of its own.",
    )


def _timed(spec: PlanSpec, table: Table) -> Table:
    """Return a table with the time of its rows, where that is a derived variable."""
    time = spec.data.time
    if time is None or time not in spec.derived:
        return table
    text = spec.derived[time]
    derived = {name: parse(definition, spec.resolved) for name, definition in spec.derived.items()}
    try:
        refuse_deep(derived, {})
        kind = Scope(table, derived, spec.resolved).type_of(derived[time]).kind
        if kind is not Kind.TIME:
            raise derived[time].error(
                f"'{time}' is the time of the rows, and is {kind.with_article}", "Write date_of(year, month, day), say."
            )
        values = Source(table, derived).rows(0, table.length).evaluate(derived[time]).full(table.length)
    except RowFailure as failure:
        place = f"derived.{time}"
        raise DataError(
            failure.what, place=place, text=text, rows=[at + 1 for at in failure.rows], remedy=failure.remedy
        ) from None
    except FacturumError as error:
        raise error.at(f"derived.{time}", text) from None
    data = np.where(values.present_mask(), values.data, 0)
    time_variable = Variable(time, Kind.TIME, data, values.valid, None, "derived", declared=True)
    return replace(table, variables={**table.variables, time: time_variable})


def _own_shape(spec: PlanSpec, given: Table) -> tuple[Table, list[Converted]]:
    """Return one declared table as the plan stacks and converts it, and declares what comes of that."""
    table = given
    if spec.stack is not None:
        table = stack(table, spec.stack.into, spec.stack.which, spec.stack.labels)
    reports: list[Converted] = []
    if spec.convert is not None:
        every = spec.data.every
        if spec.data.time is None or every is None or every == "row":
            raise PlanError(
                "the table is converted to the plan's step, and the plan names none",
                place="convert",
                remedy='Write [data] time = ".." and every = "month", say; convert.every is the step that it comes in.',
            )
        timing = Timing(spec.data.time, spec.data.token(spec.convert.every), tuple(spec.data.panel))
        takes = {name: take.take() for name, take in spec.convert.take.items()}
        if MARK in table:
            to = spec.data.token(every)
            how = "largest" if nests(timing.every, to) else "repeat" if nests(to, timing.every) else "sum"
            takes[MARK] = Take(how, MARK, partial="keep")
        table, reports = convert(table, timing, spec.data.token(every), takes, "convert")
        table = replace(table, source=f"{given.source}, brought to each {step_noun(every)}")
    elif spec.stack is not None:
        table = replace(table, source=f"{given.source}, stacked")
    rest = {name: variable.declaration(spec.data) for name, variable in spec.variables.items() if name not in given}
    if not spec.resolved:
        unknown_declarations(table, of_the_table(spec, rest))
    return declare(table, rest, spec.data.time), reports


def of_the_table(spec: PlanSpec, declarations: Mapping[str, Declaration]) -> dict[str, Declaration]:
    """Return the declarations that are of variables of the plan's own table, and not of a series."""
    joined = tuple(f"{name}_" for name in spec.series) or ("\0",)
    elsewhere = {series.time for series in spec.series.values()}
    elsewhere |= {take.of or name for series in spec.series.values() for name, take in series.take.items()}
    return {
        name: declaration
        for name, declaration in declarations.items()
        if not name.startswith(joined) and name not in elsewhere
    }


def _converted_together(spec: PlanSpec, declared: Mapping[str, Table]) -> tuple[Table, list[Converted], int]:
    """Return history and new rows converted as one series, so that a period may lie half in each.

    A period that holds a new row is new, and so are those after it; the others are of history, and come first.
    """
    every = "row" if spec.convert is None else spec.data.token(spec.convert.every)
    new = declared[DATA]
    history = without_overlap(declared[HISTORY], new, Timing(spec.data.time, every, tuple(spec.data.panel)))
    both = append(history, new)
    marks = np.arange(both.length) >= history.length
    marked = Variable(MARK, Kind.NUMBER, marks.astype(np.float64))
    table, converted = _own_shape(spec, replace(both, variables={**both.variables, MARK: marked}))
    unit = group_numbers([table[name] for name in spec.data.panel], table.length)
    seen = np.cumsum(table[MARK].data > 0)
    first_of_unit = np.flatnonzero(np.diff(unit, prepend=-1))  # a unit's periods follow one another
    before = np.concatenate([[0], seen])[first_of_unit]
    is_new = seen > np.repeat(before, np.diff(np.append(first_of_unit, table.length)))
    order = np.concatenate([np.flatnonzero(~is_new), np.flatnonzero(is_new)])
    ordered = table.take(order)
    rest = {name: variable for name, variable in ordered.variables.items() if name != MARK}
    return replace(ordered, variables=rest), [c for c in converted if c.variable != MARK], int((~is_new).sum())


def series_to_join(
    spec: PlanSpec, name: str, tables: Mapping[str, Table]
) -> tuple[SeriesToJoin, list[tuple[str, Converted]]]:
    """Return a series of the plan at the plan's step, and what its conversion did.

    Args:
        spec: the plan.
        name: of the series.
        tables: those given, as declared.

    Raises:
        DataError: where the plan has no time, the table is not given, or it cannot be converted.
    """
    place, series, timing = SERIES + name, spec.series[name], spec.data.timing
    if timing is None or spec.data.time is None or timing.every == "row":
        raise DataError(
            "a series is joined by period, and the plan names no time",
            place=place,
            remedy="Write [data] time and every.",
        )
    if place not in tables:
        raise DataError(f"the table of the series '{name}' is not given", place=place, remedy=series_remedy(name))
    source_table = _called_as_here(tables[place], series.matches, place)
    source_table[series.time]  # reports that it is not found
    takes = {target: take.take(target) for target, take in series.take.items()}
    source = Timing(series.time, spec.data.token(series.every), tuple(series.matches))
    converted, reports = convert(source_table, source, timing.every, takes, place)
    kept = (series.time, *series.matches)
    renamed = [v if v.name in kept else replace(v, name=f"{name}_{v.name}") for v in converted]
    at_step = replace(converted, variables={v.name: v for v in renamed})
    to_join = SeriesToJoin(name, at_step, Timing(series.time, timing.every, tuple(series.matches)))
    return to_join, [(place, replace(report, variable=f"{name}_{report.variable}")) for report in reports]


def _called_as_here(table: Table, matches: Mapping[str, str], place: str) -> Table:
    """Return the table of a series, the variables that it is matched by called as the plan's table calls them."""
    there = table.variables
    for name, other in matches.items():
        if other not in there:
            raise DataError(
                f"variable '{other}' to match by not found in its table{nearest(other, list(there))}",
                place=f"{place}.match",
                remedy=f'Where it has another name there, write match = {{ {name} = "THERE" }}.',
            )
        if other != name and name in there:
            raise DataError(
                f"'{other}' of {table.source} is matched with '{name}', and it has a '{name}' too",
                place=f"{place}.match",
                remedy="Rename one of them in its file.",
            )
    names = {other: name for name, other in matches.items()}
    called = [replace(variable, name=names.get(variable.name, variable.name)) for variable in table]
    return replace(table, variables={variable.name: variable for variable in called})


def given_of(given: Table | Given) -> Given:
    """Return tables as what a plan is given."""
    return given if isinstance(given, Given) else Given(given)
