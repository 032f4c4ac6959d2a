"""How one cell came about: from the source cells through each operation to the value stored."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from facturum.audit.comparison.converted_cells import ConvertedCells
from facturum.audit.map.entries import ColumnEntry, ColumnMap
from facturum.audit.proof.verify import ALLOWED_STEPS, definitions_of, formula_node
from facturum.data.conversion.joining import unit_of
from facturum.data.time.calendar import period_text
from facturum.data.time.periods import period_numbers
from facturum.data.values import Array, Kind, Values, label_text
from facturum.data.variable import Variable
from facturum.engine.blocks.source import Source
from facturum.engine.planning.expressions.prepare import prepare
from facturum.engine.planning.expressions.scope import Scope
from facturum.engine.planning.sections.spec import PlanSpec, spec_from
from facturum.engine.planning.shaping import Given
from facturum.errors import AuditError, FacturumError, PlanError
from facturum.language.core.literals import Name
from facturum.language.tree.nodes import Node
from facturum.language.writing import at_offset, is_missing, missing_where
from facturum.numerics.exact.ulps import ulp_distance
from facturum.support.notebook_tables import tree_html

ROW = "\0row"  # holds the number of each row, which operations along time are asked for; no file has such a variable
MOST_CARRIED = 12  # rows of a unit that a carried state is shown for
MOST = 60  # other rows that a step shows


@dataclass(frozen=True)
class Step:
    """A part of a formula, its value in one row, and the parts that it is made of.

    Args:
        expression: the part.
        value: a number, a text, or None where it is missing.
        row: the source row; None where it is a constant.
        note: what else there is to say, such as the period of another row.
        parts: what it is computed from.
    """

    expression: str
    value: float | str | None
    row: int | None = None
    note: str = ""
    parts: tuple[Step, ...] = ()

    @property
    def more(self) -> bool:
        """Whether it stands for others that are not shown, of which its note tells."""
        return self.expression == ".."

    def lines(self, depth: int = 0) -> Iterator[str]:
        """Yield the step and its parts as text, a line each."""
        note = f"   ({self.note})" if self.note else ""
        told = f".. {self.note}" if self.more else f"{self.expression} = {value_text(self.value)}{note}"
        yield f"{'    ' * depth}{told}"
        for part in self.parts:
            yield from part.lines(depth + 1)


@dataclass(frozen=True)
class Trace:
    """How a cell of the matrix came about.

    Args:
        column: its column.
        row: its source row.
        source: what the rows were read from.
        stored: the value in the matrix; None where it is missing.
        computed: the same, computed from the source by the formula.
        agrees: whether both are the same, within the units in the last place that `verify` allows.
        steps: from the value down to the source cells.
    """

    column: str
    row: int
    source: str
    stored: float | None
    computed: float | None
    agrees: bool
    steps: Step

    @property
    def outcome(self) -> str:
        """Whether the stored value follows from the source, in a sentence."""
        if self.agrees:
            return f"The stored value {value_text(self.stored)} follows from the source."
        return f"The stored value is {value_text(self.stored)}, and the source gives {value_text(self.computed)}."

    def __str__(self) -> str:
        head = f"{self.column} in row {self.row:,} of {self.source}"
        return "\n".join([head, *self.steps.lines(1), self.outcome])

    def __repr__(self) -> str:
        return str(self)

    def _repr_html_(self) -> str:
        return tree_html(f"{self.column} in row {self.row:,} of {self.source}", self.steps, self.outcome)


@dataclass(frozen=True)
class RowTrace:
    """How all cells of a row came about."""

    row: int
    source: str
    cells: tuple[Trace, ...]

    @property
    def agrees(self) -> bool:
        """Whether all stored values follow from the source."""
        return all(cell.agrees for cell in self.cells)

    def __str__(self) -> str:
        lines = [f"row {self.row:,} of {self.source}"]
        for cell in self.cells:
            mark = "" if cell.agrees else f"   (the source gives {value_text(cell.computed)})"
            lines.append(f"    {cell.column} = {value_text(cell.stored)}{mark}")
        return "\n".join(lines)

    def __repr__(self) -> str:
        return str(self)

    def _repr_html_(self) -> str:
        from facturum.support.notebook_tables import table_html

        rows = [[c.column, value_text(c.stored), c.steps.expression, "yes" if c.agrees else "no"] for c in self.cells]
        return table_html(f"row {self.row:,} of {self.source}", ("column", "value", "formula", "agrees"), rows)


def value_text(value: float | str | None) -> str:
    """Return a value as it is shown, numbers with all their digits.

    Example:
        >>> value_text(3.0), value_text("road"), value_text(None)
        ('3', "'road'", 'missing')
    """
    if value is None:
        return "missing"
    return f"'{value}'" if isinstance(value, str) else label_text(value)


def trace_cells(
    stored: ColumnMap, entries: list[ColumnEntry], cells: list[float], row: int, given: Given
) -> list[Trace]:
    """Return how cells of one row came about.

    Args:
        stored: the column map.
        entries: of the columns.
        cells: their stored values.
        row: the source row number.
        given: the source tables.

    Raises:
        AuditError: where the row is not in the source.
        PlanError, DataError: where the plan cannot be applied to it.
    """
    prepared = prepare(_reduced(spec_from(stored.resolved), entries), given)
    definitions, unread = definitions_of(stored)
    if unread:
        raise AuditError(unread[0].what, remedy="Build anew.")
    source = prepared.source()
    length, name = prepared.table.length - prepared.shaped.history_rows, prepared.table.source
    if not 1 <= row <= length:
        raise AuditError(f"row {row:,} is not in {name}, which has {length:,} rows", remedy="Rows are counted from 1.")
    numbers = source.row_numbers(np.arange(source.table.length))
    variable = Variable(ROW, Kind.NUMBER, numbers.astype(np.float64))
    table = replace(source.table, variables={**source.table.variables, ROW: variable})
    source = replace(source, table=table, derived=definitions, cache={})
    scope = Scope(table, definitions, True, prepared.spec.data.step)
    behind = ConvertedCells(prepared.spec, prepared.shaped.declared if stored.conversions else {})
    tracer = _Tracer(source, scope, stored, prepared.spec, behind)
    place = int(source.positions_of(np.array([row]))[0])
    return [tracer.cell(entry, cell, row, place) for entry, cell in zip(entries, cells, strict=True)]


def _reduced(spec: PlanSpec, entries: list[ColumnEntry]) -> PlanSpec:
    """Return a resolved plan with only the terms of some columns, for the other variables not to be read."""
    wanted = {entry.term for entry in entries}
    if not wanted & set(spec.terms):  # a plan has terms, of which the response alone is none
        wanted.add(next(iter(spec.terms)))
    response = spec.response if any(entry.role == "response" for entry in entries) else None
    terms = {key: text for key, text in spec.terms.items() if key in wanted}
    names = {key: own for key, own in (spec.columns or {}).items() if key in wanted or (key == "response" and response)}
    rows = spec.rows.model_copy(update={"keep": None, "learn": None})
    return spec.model_copy(update={"terms": terms, "response": response, "columns": names, "rows": rows})


class _Tracer:
    def __init__(self, source: Source, scope: Scope, stored: ColumnMap, spec: PlanSpec, behind: ConvertedCells) -> None:
        self._source, self._scope, self._spec, self._behind = source, scope, spec, behind
        self._conversions = {each.variable: each for each in stored.conversions}

    def cell(self, entry: ColumnEntry, stored: float, row: int, place: int) -> Trace:
        node = formula_node(entry.formula, self._source, self._scope)
        steps = self._step(node, place, 0)
        computed = steps.value
        if isinstance(computed, bool):
            computed = float(computed)
        known = float(computed) if isinstance(computed, int | float) else np.nan
        apart = int(ulp_distance(np.array([known + 0.0]), np.array([stored]))[0])
        return Trace(
            entry.name,
            row,
            self._source.table.source,
            None if np.isnan(stored) else float(stored),
            None if np.isnan(known) else known,
            apart <= ALLOWED_STEPS,
            steps,
        )

    def _step(self, node: Node, place: int, depth: int) -> Step:
        row = int(self._source.row_numbers(np.array([place]))[0])
        if isinstance(node, Name):
            return self._named(node, place, row, depth)
        parts = tuple(self._parts(node, place, depth)) if depth < 40 else ()
        if not node.children():
            return Step(str(node), self._value(node, place))
        return Step(str(node), self._value(node, place), row, "", parts)

    def _named(self, node: Name, place: int, row: int, depth: int) -> Step:
        name = node.variable
        value = self._value(node, place)
        if name in self._source.derived:
            inner = self._step(self._source.derived[name], place, depth + 1)
            return Step(name, value, row, "derived", (inner,))
        return Step(name, value, row, self._where(name, place, row), self._converted(name, place))

    def _converted(self, name: str, place: int) -> tuple[Step, ...]:
        """Return the cells of the file that a converted value was made of."""
        made, timing = self._conversions.get(name), self._spec.data.timing
        time = None if timing is None or timing.time is None else self._source.table[timing.time]
        if made is None or timing is None or time is None or time.missing_rows()[place]:
            return ()
        series = self._spec.series.get(made.place.partition(".")[2])
        names = {name: name for name in timing.panel} if series is None else series.matches
        unit = unit_of(self._source.table, names, place)
        if unit is None:
            return ()
        cells, rest = self._behind.behind(made, unit, int(time.data[place]))
        steps = [Step(made.source, cell.value, cell.row, cell.note) for cell in cells[:MOST]]
        if len(cells) > MOST:
            steps.append(Step("..", None, None, f"and {len(cells) - MOST:,} more"))
        return (*steps, Step("..", None, None, rest)) if rest and cells else tuple(steps)

    def _where(self, name: str, place: int, row: int) -> str:
        """Say where a source cell is: its row, its unit and period, and the series that it comes from."""
        told = [f"row {row:,}" if row > 0 else f"row {1 - row:,} from the end of the history"]
        told += self._unit_and_period(place)
        if name in self._conversions:
            made = self._conversions[name]
            how = f"{made.how}, at the {made.at}" if made.at else made.how
            told.append(f"{made.place}: {made.source} by {made.from_every}, brought to each {made.to_every} ({how})")
        return ", ".join(told)

    def _unit_and_period(self, place: int) -> Iterator[str]:
        timing = self._spec.data.timing
        if timing is None:
            return
        for name in timing.panel:
            yield f"{name} {self._text(self._source.table[name], place)}"
        if timing.time is not None:
            yield f"{timing.time} {self._text(self._source.table[timing.time], place)}"

    def _text(self, variable: Variable, place: int) -> str:
        if variable.missing_rows()[place]:
            return "missing"
        if variable.kind is Kind.TIME:
            return self._period(variable.data[place : place + 1])
        return variable.text_of(variable.data[place])

    def _parts(self, node: Node, place: int, depth: int) -> Iterator[Step]:
        """Yield what a part is computed from: its operands in the same row, and in the rows that it reaches."""
        offsets = node.offsets_read() if node.along_time else (0,)
        home = self._source.home_of(node) if node.along_time else None
        if fills := node.filled_from():
            yield from self._filled(node.children()[0], fills, place, depth, home)
            return
        if node.carries:
            yield from self._carried(node, place, depth)
            return
        for field, child in node.arguments():
            looked_at = offsets if field == "x" else (0,)
            if not node.along_time or looked_at == (0,):
                if child.children() or isinstance(child, Name):
                    yield self._step(child, place, depth + 1)
                continue
            shown = list(looked_at)[:MOST]
            for offset in shown:
                yield self._reached(child, place, offset, depth, home)
            if len(looked_at) > len(shown):
                yield Step("..", None, None, f"and {len(looked_at) - len(shown):,} more periods")

    def _carried(self, node: Node, place: int, depth: int) -> Iterator[Step]:
        """Yield the operands in the last rows of the unit up to a row, and how many rows lie before them."""
        start = self._source.unit_start(place)
        shown = range(max(start, place - MOST_CARRIED + 1), place + 1)
        for at in reversed(shown):
            for child in node.children():
                yield self._step(child, at, depth + 1)
        if shown.start > start:
            yield Step("..", None, None, f"and {shown.start - start:,} earlier rows of the unit")

    def _filled(
        self, x: Node, fills: tuple[tuple[str, Node], ...], place: int, depth: int, home: str | None
    ) -> Iterator[Step]:
        """Yield the operand in its own row and, where it is missing there, in the rows that its fill is taken from."""
        own = self._step(x, place, depth + 1)
        yield own
        if own.value is not None:
            return
        row_of_value = missing_where(Name(ROW), is_missing(x))
        for where, fill in fills:
            if home is not None:  # whose periods are not rows of the table
                yield Step(str(x), self._value(fill, place), None, f"the {where} value, in the series {home}")
                continue
            number = self._value(fill.rebuilt([row_of_value]), place)
            if isinstance(number, float):
                yield self._step(x, int(self._source.positions_of(np.array([int(number)]))[0]), depth + 1)
            else:
                yield Step(str(x), None, None, f"no {where} value in the unit, or none near enough")

    def _reached(self, child: Node, place: int, offset: int, depth: int, home: str | None) -> Step:
        """Return an operand in the row that is so many periods later, in the same unit."""
        if offset == 0:
            return self._step(child, place, depth + 1)
        number = self._value(at_offset(Name(ROW), offset), place)
        if not isinstance(number, float):
            way = f"{abs(offset)} period{'s' if abs(offset) > 1 else ''} {'earlier' if offset < 0 else 'later'}"
            told = "no row of the table" if home is None else f"in the series {home}, without a row of the table"
            return Step(str(child), None, None, f"{way}: {told}")
        return self._step(child, int(self._source.positions_of(np.array([int(number)]))[0]), depth + 1)

    def _value(self, node: Node, place: int) -> float | str | None:
        try:
            values = self._source.values_at(node, np.array([place])).full(1)
            return self._plain(values, node)
        except PlanError:  # such as a list, which has no single value
            return None
        except FacturumError as error:
            return f"not computed: {error.what}"

    def _plain(self, values: Values, node: Node) -> float | str | None:
        if not values.present_mask()[0]:
            return None
        cell: Any = values.data[0]
        if values.labels is not None:
            return label_text(values.labels[int(cell)])
        if values.data.dtype == bool:
            return float(cell)
        if self._scope.type_of(node).kind is Kind.TIME:
            return self._period(values.data)
        return float(cell)

    def _period(self, moment: Array) -> str:
        timing = self._spec.data.timing
        every = timing.every if timing is not None and timing.every != "row" else "day"
        return period_text(int(period_numbers(moment, every)[0]), every)
