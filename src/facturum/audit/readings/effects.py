"""What else moves when one column does: interactions, curves of several columns, columns that share what they read."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace

from facturum.audit.readings.factors import as_reading, every_one, shared_variables, stepwise, straight_in, zeros
from facturum.audit.readings.interpretation import Interpretation
from facturum.audit.readings.slopes import slope_text
from facturum.audit.readings.sources import ColumnFactor, ColumnGroup, Read, SourceReader, Sources
from facturum.language.core import Divide, Multiply, Negative, Number
from facturum.language.logic import And
from facturum.language.nodes import Node
from facturum.language.operations.imputing import Impute
from facturum.language.operations.missing import IsMissing
from facturum.language.reading import (
    Curve,
    Factor,
    Logged,
    NoValue,
    Power,
    Product,
    Reading,
    Scaled,
    Unit,
)

MAX_NAMED = 3
MAX_RELATED = 100  # groups of columns that read one variable; among more, a column is not told apart from the others


class Effects:
    """The columns of a matrix, each with what moves beside it.

    Args:
        names: of the columns.
        terms: the term of each.
        formulas: of each; None for the intercept.
        readings: of each, its variables read as what they are; None for the intercept.
        derived: the derived variables.
        time: the time of the row.
        numbers: the variables that are numbers.
        informed: gives readings with variables read as what they are.
    """

    def __init__(
        self,
        names: Sequence[str],
        terms: Sequence[str],
        formulas: Sequence[Node | None],
        readings: Sequence[Reading | None],
        derived: Mapping[str, Node],
        time: str | None,
        numbers: frozenset[str],
        informed: Callable[[Reading], Reading],
    ) -> None:
        self._names, self._terms, self._formulas, self._readings = names, terms, formulas, readings
        self._derived, self._time, self._numbers, self._informed = derived, time, numbers, informed
        self._reader = SourceReader(derived)
        self._known: dict[Node, Reading] = {
            self._reader.opened(formula): reading
            for formula, reading in zip(formulas, readings, strict=True)
            if formula is not None and reading is not None
        }
        self._members = [self._apart(at, self._factors_of(at)) for at in range(len(names))]
        self._groups: dict[int, ColumnGroup] = {}
        self._interpretations: dict[ColumnGroup, Interpretation] = {}
        self._reading: dict[str, list[ColumnGroup]] = {}
        self._counts: dict[str, int] = {}
        self._gather()

    def _gather(self) -> None:
        """Bring the columns that are alike together, and note which variables they read."""
        alike: dict[tuple[object, ...], list[int]] = {}
        for at, members in enumerate(self._members):
            if members:
                alike.setdefault((self._terms[at], *map(_kind, members)), []).append(at)
        for columns in alike.values():
            factors = [self._members[at] for at in columns]
            formulas = tuple(
                frozenset(self._reader.opened(member[i].formula) for member in factors) for i in range(len(factors[0]))
            )
            group = ColumnGroup(tuple(columns), formulas, tuple(factors[0]))
            self._groups |= dict.fromkeys(columns, group)
            for variable in {read[0] for read in group.sources.reads}:
                self._reading.setdefault(variable, []).append(group)

    def interpretation(self, at: int) -> Interpretation:
        """Return on what the coefficient of a column depends."""
        members = self._members[at]
        if not members:
            return Interpretation(self._readings[at])
        group = self._groups[at]
        if group not in self._interpretations:  # which all its columns share
            self._interpretations[group] = self._found(at, members)
        interpretations = self._interpretations[group]
        if at == group.columns[0]:
            return interpretations
        if interpretations.slope is not None:  # which begins with the coefficient of the column itself
            return self._found(at, members)
        return replace(interpretations, reading=as_reading(self._readings[at], members))

    def _found(self, at: int, members: list[ColumnFactor]) -> Interpretation:
        if (crowded := self._among_many(at, members)) is not None:
            return crowded
        return self._single(at, members[0]) if len(members) == 1 else self._product(at, members)

    def mainless(self) -> Iterator[tuple[int, Factor]]:
        """Yield each factor of an interaction without a column of its own, and the first column that it is part of."""
        said: set[tuple[str, str]] = set()
        for group in dict.fromkeys(self._groups.values()):
            at = group.columns[0]
            for factor in self.interpretation(at).mainless:
                if (self._terms[at], factor.subject) not in said:
                    said.add((self._terms[at], factor.subject))
                    yield at, factor

    def _among_many(self, at: int, members: list[ColumnFactor]) -> Interpretation | None:
        """Return the interpretation of a column whose variable more columns read than are compared one by one."""
        variables = sorted({read[0] for member in members for read in member.sources.moves} - {self._time})
        crowded = [name for name in variables if len(self._reading.get(name, ())) > MAX_RELATED]
        if not crowded:
            return None
        count = max(self._columns_reading(name) for name in crowded) - 1
        reading = as_reading(self._readings[at], members)
        return Interpretation(reading, together=(f"the {count:,} other columns made of it",), shared=tuple(crowded))

    def _columns_reading(self, name: str) -> int:
        if name not in self._counts:
            self._counts[name] = sum(len(group.columns) for group in self._reading[name])
        return self._counts[name]

    def _single(self, at: int, column: ColumnFactor) -> Interpretation:
        group = self._groups[at]
        interactions: list[tuple[ColumnGroup, list[ColumnFactor]]] = []
        others: list[ColumnGroup] = []
        apart: list[ColumnGroup] = []
        elsewhen: set[str] = set()
        for other in self._related(column.sources.moves, group):
            if not column.sources.moves & other.sources.reads:
                elsewhen |= {read[0] for read in column.sources.moves} & {
                    read[0] for read in other.sources.plain if read[2]
                }
            elif (rest := self._rest([group.formulas[0]], other, column.sources.moves)) is not None:
                interactions.append((other, rest))
            elif self._hard(column.sources, other.sources):
                others.append(other)
            else:
                apart.append(other)
        zero, contradicting = zeros(interactions)
        others += contradicting
        filled = self._filled(column, others)
        steady: list[ColumnGroup] = []
        if filled is not None:
            others = []
        elif stepwise(column.reading):
            apart, others = [*apart, *others], []
        else:
            steady = [other for other in others if self._steady(column.sources, other)]
            others = [other for other in others if other not in steady]
        interpretation = Interpretation(
            as_reading(self._readings[at], [column]),
            zero=zero,
            apart=self._called(apart),
            steady=self._called(steady),
            filled=filled,
            elsewhen=tuple(sorted(elsewhen - {self._time or ""})),
        )
        return self._bent(at, column, others, interpretation) if others else interpretation

    def _product(self, at: int, members: list[ColumnFactor]) -> Interpretation:
        group = self._groups[at]
        interactions: list[tuple[ColumnGroup, list[ColumnFactor]]] = []
        others: list[ColumnGroup] = []
        apart: list[ColumnGroup] = []
        for other in self._related(members[0].sources.moves, group):
            if not all(member.sources.moves & other.sources.reads for member in members):
                continue  # it cancels out of the difference between two effects
            moves = frozenset().union(*(member.sources.moves for member in members))
            if (rest := self._rest(group.formulas, other, moves)) is not None:
                interactions.append((other, rest))
            elif all(self._hard(member.sources, other.sources) for member in members):
                others.append(other)
            else:
                apart.append(other)
        zero, contradicting = zeros(interactions)
        others += contradicting
        singles = [other for other in dict.fromkeys(self._groups.values()) if len(other.members) == 1]
        mains = [other.formulas[0] for other in singles]
        linear = {straight_in(other.members[0].reading) for other in singles} - {None}
        mainless = [
            member.reading
            for member, formula in zip(members, group.formulas, strict=True)
            if not (
                any(formula & main for main in mains)
                or straight_in(member.reading) in linear
                or every_one(member.reading)
            )
        ]
        beside = [member.sources for member in members if not every_one(member.reading)]
        return Interpretation(
            as_reading(self._readings[at], members),
            zero=zero,
            apart=self._called(apart),
            together=self._called(others),
            shared=shared_variables([member.sources for member in members], others),
            mainless=tuple(mainless),
            alone=not any(
                self._hard(sources, other.sources)
                for sources in beside
                for other in self._related(sources.moves, group)
            ),
        )

    def _bent(
        self, at: int, column: ColumnFactor, others: list[ColumnGroup], interpretation: Interpretation
    ) -> Interpretation:
        """Return the interpretation of a column whose source others read too, as a slope where they have one."""
        interpretation = replace(
            interpretation, zero=(), together=self._called(others), shared=shared_variables([column.sources], others)
        )
        moved = sorted({read[0] for read in column.sources.moves})
        plain = isinstance(column.reading, Unit | Logged | Curve | Power)
        if len(moved) != 1 or moved[0] not in self._numbers or not plain:
            return interpretation
        if any(read[1] for read in column.sources.moves):
            return interpretation
        related = [
            other for other in self._related(column.sources.moves, None) if column.sources.moves & other.sources.reads
        ]
        moving = [other for other in related if not self._steady(column.sources, other)]
        columns = [at, *[k for other in moving for k in other.columns if k != at]]
        formulas = [formula for k in columns if (formula := self._formulas[k]) is not None]
        slope = slope_text(formulas, moved[0], self._derived)
        return replace(
            interpretation, slope=slope, legend=tuple(self._names[k] for k in columns[1:]), shared=(moved[0],)
        )

    def _rest(
        self, formulas_of: Sequence[frozenset[Node]], other: ColumnGroup, moves: frozenset[Read]
    ) -> list[ColumnFactor] | None:
        """Return the factors that other columns have beside those given; None where they lack one of these."""
        left = list(zip(other.formulas, other.members, strict=True))
        for formulas in formulas_of:
            matching = next((pair for pair in left if pair[0] & formulas), None)
            if matching is None:
                return None
            left.remove(matching)
        rest = [member for _, member in left]
        return rest if rest and not any(moves & member.sources.plain for member in rest) else None

    def _related(self, moves: frozenset[Read], own: ColumnGroup | None) -> Iterator[ColumnGroup]:
        """Yield the columns that read a variable that moves, at any period, a column's own group left out."""
        groups: dict[int, ColumnGroup] = {}
        for variable in sorted({read[0] for read in moves}):
            groups |= {id(group): group for group in self._reading.get(variable, []) if group is not own}
        yield from groups.values()

    def _hard(self, sources: Sources, other: Sources) -> bool:
        """Return whether one moves with the other otherwise than through the time of the row or through groups."""
        return any(read[0] != self._time for read in sources.moves & other.plain)

    def _steady(self, sources: Sources, other: ColumnGroup) -> bool:
        """Return whether other columns read what moves only in conditions and categories."""
        return all(stepwise(m.reading) for m in other.members if sources.moves & m.sources.plain)

    def _called(self, groups: Sequence[ColumnGroup]) -> tuple[str, ...]:
        names_called: list[str] = []
        for group in groups:
            names = [self._names[at] for at in group.columns]
            names_called += names if len(names) <= MAX_NAMED else [f"the columns of {self._terms[group.columns[0]]}"]
        return tuple(names_called)

    def _filled(self, own: ColumnFactor, others: list[ColumnGroup]) -> str | None:
        """Return the imputed value where others read a variable only with its missing values imputed; else None."""
        if not others or not isinstance(own.reading, NoValue) or not isinstance(own.formula, IsMissing):
            return None
        inner = self._reader.opened(own.formula.children()[0])
        imputed: list[Impute] = []

        def without(node: Node) -> Node:
            if isinstance(node, Impute) and self._reader.opened(node.x) == inner:
                imputed.append(node)
                return Number(0)
            children = node.children()
            return node.rebuilt(map(without, children)) if children else node

        for other in others:
            for at in other.columns:
                formula = self._formulas[at]
                rest = None if formula is None else self._reader.read(without(self._reader.expanded(formula)), False)
                if rest is not None and own.sources.moves & rest.reads:
                    return None
        values = {node.value for node in imputed}
        value = values.pop() if len(values) == 1 else None
        return "" if value is None else f"{value:.6g}" if isinstance(value, int | float) else str(value)

    def _factors_of(self, at: int) -> list[ColumnFactor]:
        """Return the factors of a column; none for the intercept."""
        formula, reading = self._formulas[at], self._readings[at]
        if formula is None or reading is None:
            return []
        opened = self._reader.opened(formula)
        if isinstance(opened, And) or (opened is not formula and isinstance(opened, Multiply)):
            parts = list(_parts(opened, type(opened)))
            if any(self._reader.opened(part) in self._known for part in parts):
                readings = [
                    self._known.get(self._reader.opened(part)) or self._informed(part.reading()) for part in parts
                ]
                return [
                    m
                    for part, member_reading in zip(parts, readings, strict=True)
                    for m in self._split(member_reading, part)
                ]
        return list(self._split(reading, formula))

    def _apart(self, at: int, members: list[ColumnFactor]) -> list[ColumnFactor]:
        """Return the factors of a column, or the column as one where a factor moves with another."""
        formula = self._formulas[at]
        if formula is None or not any(self._hard(a.sources, b.sources) for a in members for b in members if a is not b):
            return members
        return [self._member(Curve(formula.subject()), formula)]

    def _split(self, reading: Reading, formula: Node) -> Iterator[ColumnFactor]:
        if isinstance(reading, Scaled):
            yield from self._split(reading.of, _unscaled(formula))
        elif not isinstance(reading, Product):
            yield self._member(reading, formula)
        elif isinstance(formula, Multiply):
            yield from self._split(reading.left, formula.left)
            yield from self._split(reading.right, formula.right)
        else:
            yield self._member(Curve(formula.subject()), formula)

    def _member(self, reading: Factor, formula: Node) -> ColumnFactor:
        return ColumnFactor(reading, formula, self._reader.read(formula, isinstance(reading, NoValue)))


def _parts(node: Node, kind: type[Node]) -> Iterator[Node]:
    if isinstance(node, kind):
        for child in node.children():
            yield from _parts(child, kind)
    else:
        yield node


def _unscaled(formula: Node) -> Node:
    """Return what a multiple is a multiple of."""
    if isinstance(formula, Multiply) and isinstance(formula.left, Number):
        return _unscaled(formula.right)
    if isinstance(formula, Multiply | Divide) and isinstance(formula.right, Number):
        return _unscaled(formula.left)
    return _unscaled(formula.value) if isinstance(formula, Negative) else formula


def _kind(member: ColumnFactor) -> tuple[object, ...]:
    """Return what the factors of a coding have in common; any other factor has it alone."""
    reading = member.reading
    if isinstance(reading, Unit | Logged | Curve) or not hasattr(reading, "subject"):
        return (member.formula,)
    against = getattr(reading, "reference", None) or getattr(reading, "against", None) or getattr(reading, "top", None)
    return (type(reading), reading.subject, against)
