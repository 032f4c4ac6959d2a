"""From movements to claims: what is said of each coefficient is what came out when the source was changed."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property

import numpy as np

from facturum.audit.counterfactual.probes import Probes
from facturum.audit.readings.claims import Claim, ColumnGroup, groups_of
from facturum.audit.readings.comparisons import Movement
from facturum.audit.readings.conditions import Conditions
from facturum.audit.readings.proving import Prover
from facturum.audit.readings.slopes import slope_text
from facturum.audit.readings.wording import product_text
from facturum.data.values import Array
from facturum.engine.passes.outline import Outline
from facturum.language.core.literals import Name
from facturum.language.meanings.meaning import Factor, Meaning, Product, Scaled
from facturum.language.meanings.numbers import Curve

MAX_NAMED = 3  # columns of a term that are named one by one
MAX_APART = 6  # columns whose part is left out by name
MAX_RELATED = 100  # groups of columns that read one variable; among more, a column is not told apart from the others


class Claims:
    """What is claimed of each column of a matrix.

    Args:
        outline: the resolved plan over its table, and its columns.
        meanings: of the columns, their variables read as what they are; None for the intercept.
        written: returns a factor of a term as the plan writes it, by its place; None where it is no product.
        alike: the columns that are the same in all rows of the matrix, each with its value.
    """

    def __init__(
        self,
        outline: Outline,
        meanings: Sequence[Meaning | None],
        written: Callable[[str, int], str | None],
        alike: Mapping[int, float],
    ) -> None:
        self._outline, self._meanings, self._alike = outline, meanings, alike
        self._names = [column.name for column in outline.columns]
        self._probes = Probes(outline)
        self._prover = Prover(self._probes)
        self._groups = groups_of(outline.columns, meanings, self._probes.reads, self._worth)
        self._of_column = {at: group for group in self._groups for at in group.columns}
        self._conditions = Conditions(outline, self._groups, self._probes, self._prover, written)

    def _worth(self, factor: Factor) -> float:
        """Return what a factor is that reads nothing."""
        assert factor.node is not None
        return float(factor.worth(self._probes.worlds.values(np.arange(1), (), factor.node))[0])

    @cached_property
    def each(self) -> list[Claim]:
        """The claim on each column."""
        with np.errstate(all="ignore"):  # values that are changed may be too large, and then prove nothing
            return self._found()

    def _found(self) -> list[Claim]:
        found = [Claim(meaning, nowhere=meaning is None and not self._zero_row) for meaning in self._meanings]
        for group in self._groups:
            for at, claim in zip(group.columns, self._claimed(group), strict=True):
                found[at] = claim
        return found

    def mainless(self) -> Iterator[tuple[str, str]]:
        """Yield each factor of an interaction that is not in the plan, after the term of the interaction."""
        pairs = [(group.term, main) for group in self._groups for main in self.each[group.columns[0]].mainless]
        yield from dict.fromkeys(pairs)

    @property
    def _zero_row(self) -> bool:
        """Whether a row can be in which every number is 0, each category at its reference and no condition holds."""
        factors = [group.factors[0][0] for group in self._groups if len(group.factors[0]) == 1]
        if len(factors) < len(self._groups) or len(factors) > MAX_RELATED:
            return False
        numbers = [factor for factor in factors if not factor.stepwise]
        source = self._outline.prepared.table
        if not all(isinstance(f.node, Name) and f.node.variable in source for f in numbers):
            return False
        return self._prover.together_zero([*numbers, *(factor for factor in factors if factor.stepwise)])

    @cached_property
    def _crowded(self) -> dict[str, int]:
        """The variables that more columns read than are told apart, each with how many columns do."""
        groups: dict[str, list[int]] = {}
        for group in self._groups:
            for variable in self._variables(group):
                groups.setdefault(variable, []).append(len(group.columns))
        return {name: sum(sizes) for name, sizes in groups.items() if len(sizes) > MAX_RELATED and name != self._time}

    @property
    def _time(self) -> str | None:
        return self._outline.prepared.spec.data.time

    def _variables(self, group: ColumnGroup) -> list[str]:
        return list(dict.fromkeys(name for node in group.nodes for name in self._probes.reads.moving(node)))

    def _claimed(self, group: ColumnGroup) -> list[Claim]:
        meanings = [self._read(at) for at in group.columns]
        crowded = [name for name in self._variables(group) if name in self._crowded]
        if crowded:
            count = max(self._crowded[name] for name in crowded) - 1
            together = (f"the {count:,} other columns made of it",)
            return [Claim(meaning, together=together, shared=tuple(crowded)) for meaning in meanings]
        factor = group.factors[0][0]
        if len(group.factors[0]) == 1 and factor.stepwise and len(factor.compared) == 1:
            return [Claim(meaning) for meaning in meanings]  # of categories without a reference nothing is compared
        if len(group.factors[0]) == 1 and factor.wave and group.multiples == (1.0,):
            return [self._wave(group.columns[0], factor)]
        found = self._prover.movements(group)
        cut = found is None and len(group.factors[0]) > 1
        if cut:
            found = self._prover.parallel(group)
        if found is None or (self._crossed(group) and len(group.factors[0]) == 1):
            return self._vague(group)
        positions, movements = found
        moved = self._moving(group, positions, movements)
        zero = self._zero(group, moved)
        again = self._prover.movements(group, zero) if zero else None
        if again is not None and all(movement.holds for movement in again[1]):
            positions, movements = again
            moved = self._moving(group, positions, movements)
        else:
            zero = ()
        if not any(movement.holds for movement in movements):
            return self._vague(group)
        single = len(group.factors[0]) == 1
        told = self._single(group, zero, moved, positions, movements) if single else self._product(group, zero, moved)
        if cut:
            told = [self._sloped(group, at) or claim for at, claim in zip(group.columns, told, strict=True)]
        vague: list[Claim] = []
        claims = []
        for at, movement in enumerate(movements):
            own = told[at]
            if not movement.holds or own is None:
                vague = vague or self._vague(group)
                claims.append(vague[at])
            else:
                claims.append(replace(own, rows=own.rows or len(movement.own)))
        return claims

    def _crossed(self, group: ColumnGroup) -> bool:
        """Return whether the columns of a group are written as products."""
        meaning = self._meanings[group.columns[0]]
        return meaning is not None and meaning.crossed

    def _read(self, at: int) -> Meaning | None:
        """Return what a column is read as: its factors as they were found."""
        group = self._of_column[at]
        place = group.columns.index(at)
        whole: Meaning = group.factors[place][0]
        for factor in group.factors[place][1:]:
            whole = Product(whole, factor)
        multiple = group.multiples[place]
        return whole if multiple == 1 else Scaled(whole, multiple)

    def _moving(self, group: ColumnGroup, positions: Array, movements: Sequence[Movement]) -> dict[int, ColumnGroup]:
        """Return the other columns that move in some comparison, each with its group."""
        moves = np.zeros(len(positions), dtype=bool)
        for movement in movements:
            moves |= movement.which.any(axis=0)
        found = [at for at in positions[moves].tolist() if at in self._of_column]
        return {at: self._of_column[at] for at in self._alongside(found, group)}

    def _alongside(self, moved: Sequence[int], group: ColumnGroup) -> list[int]:
        """Return columns that move with a group, those too that differ from one of them in what else they are made of.

        In the rows looked at one category may not be there, and an interaction with it be 0.
        """
        own, found = {*self._variables(group)}, dict.fromkeys(moved)
        others: dict[int, list[int]] = {}  # by the first column of their group
        for at in moved:
            other = self._of_column.get(at, group)
            if other is not group and len(other.factors[0]) > 1:
                others.setdefault(other.columns[0], []).append(at)
        for first, columns in others.items():
            other = self._of_column[first]
            nodes = [factor.node for factor in other.factors[0]]  # which all columns of a group share
            shared = [k for k, node in enumerate(nodes) if node and own & {*self._probes.reads.moving(node)}]
            made = {
                at: tuple(factors[k] for k in shared) for at, factors in zip(other.columns, other.factors, strict=True)
            }
            wanted = {made[at] for at in columns}
            found |= dict.fromkeys(at for at, factors in made.items() if shared and factors in wanted)
        return list(found)

    def _zero(self, group: ColumnGroup, moved: dict[int, ColumnGroup]) -> tuple[Factor, ...]:
        """Return the factors that, where they are 0, keep interactions with a group from moving."""
        own = {*self._variables(group)}
        said: list[Factor] = []
        taken: set[str] = set()
        groups = {id(other): other for other in moved.values() if other is not group}
        for other in sorted(groups.values(), key=lambda each: len(each.factors[0])):
            rest = self._rest(group, other)
            if rest is None or any(factor.node in {f.node for f in said} for factor in rest):
                continue
            for factor in rest:
                variables = {*self._probes.reads.moving(factor.node)} if factor.node is not None else own
                tellable = factor.averaged or factor.zero is not None
                if tellable and not variables & (own | taken):
                    said.append(factor)
                    taken |= variables
                    break
        return tuple(said)

    def _rest(self, group: ColumnGroup, other: ColumnGroup) -> list[Factor] | None:
        """Return the factors that other columns have beside those of a group; None where they lack one of these."""
        left = list(other.factors[0])
        for factor in group.factors[0]:
            match = next((each for each in left if type(each) is type(factor) and each.node == factor.node), None)
            if match is None:
                return None
            left.remove(match)
        return left or None

    def _interacts(self, group: ColumnGroup, other: ColumnGroup) -> bool:
        """Return whether other columns are interactions of a group with what is made of other variables."""
        rest, own = self._rest(group, other), {*self._variables(group)}
        return rest is not None and not any(
            own & {*self._probes.reads.moving(f.node)} for f in rest if f.node is not None
        )

    def _single(
        self,
        group: ColumnGroup,
        zero: tuple[Factor, ...],
        moved: dict[int, ColumnGroup],
        positions: Array,
        movements: Sequence[Movement],
    ) -> list[Claim | None]:
        factor = group.factors[0][0]
        if factor.curve_degree:  # whose other parts the sentence names as such
            moved = {at: other for at, other in moved.items() if other.term != group.term}
        claim = Claim(None, zero=zero, elsewhen=self._conditions.elsewhen(group, moved))
        if not moved:
            return [replace(claim, meaning=self._read(at)) for at in group.columns]
        if factor.absence:
            others = list(dict.fromkeys(f.node for other in moved.values() for f in other.factors[0] if f.node))
            filled = self._prover.filled(group, others)
            if filled is not None:
                return [replace(claim, meaning=self._read(at), filled=filled, zero=()) for at in group.columns]
        if factor.stepwise:
            if len(moved) > 2 * MAX_RELATED:
                return [None] * len(group.columns)
            return [
                replace(claim, meaning=self._read(at), apart=self._called(moved, group.term)) for at in group.columns
            ]
        pairs = zip(group.columns, movements, strict=True)
        return [self._beside(group, at, claim, moved, positions, movement) for at, movement in pairs]

    def _beside(
        self,
        group: ColumnGroup,
        at: int,
        claim: Claim,
        moved: dict[int, ColumnGroup],
        positions: Array,
        movement: Movement,
    ) -> Claim | None:
        """Return the claim on a column made of a number that others are made of too."""
        place = {int(position): index for index, position in enumerate(positions)}
        which = movement.which
        slight = movement.small if movement.small.any() else np.ones(len(movement.small), dtype=bool)
        power = group.factors[0][0].power  # told of three points, which steps may lie between
        steady = {other: of for other, of in moved.items() if power or not which[slight][:, place[other]].any()}
        bending = {other: of for other, of in moved.items() if other not in steady}
        still = np.logical_not(which[:, [place[other] for other in steady]].any(axis=1))
        rest = movement.only(still)
        if power and not rest.holds:
            return self._sloped(group, at)
        if not rest.holds or rest.which[:, [place[o] for o in positions if o not in moved and o != at]].any():
            return None
        told = replace(claim, meaning=self._read(at), steady=self._called(steady, group.term), rows=len(rest.own))
        names = self._called(bending, group.term)
        beside = replace(told, apart=names) if len(names) <= MAX_APART else None
        if all(self._interacts(group, of) for of in bending.values()):
            return beside
        return self._sloped(group, at) or beside

    def _sloped(self, group: ColumnGroup, at: int) -> Claim | None:
        """Return the claim that a column made of one number has a slope with others; None where it has none."""
        variables, factor = self._variables(group), group.factors[0][0]
        if len(variables) != 1 or factor.stepwise or factor.wave:
            return None
        moving = self._alongside(self._prover.moving(variables, slightly=True).tolist(), group)
        columns = [at, *[other for other in moving if other != at]]
        formulas = [column.formula for k in columns if (column := self._outline.columns[k].column) is not None]
        slope = slope_text(formulas, [self._names[k] for k in columns], variables[0], self._probes)
        if slope is None:
            return None
        steady = [at for at in self._prover.moving(variables).tolist() if at not in columns]
        rows = self._probes.worlds.count
        return Claim(
            self._read(at),
            slope=slope,
            shared=(variables[0],),
            steady=self._called(steady, group.term),
            together=(),
            rows=rows,
        )

    def _product(
        self, group: ColumnGroup, zero: tuple[Factor, ...], moved: dict[int, ColumnGroup]
    ) -> list[Claim | None]:
        others = {at: of for at, of in moved.items() if of is not group}
        if len(others) != len(moved) or len(self._called(others, group.term)) > MAX_APART:
            return [None] * len(group.columns)
        claim = Claim(
            None, zero=zero, apart=self._called(others, group.term), mainless=self._conditions.mainless(group)
        )
        return [replace(claim, meaning=self._read(at)) for at in group.columns]

    def _vague(self, group: ColumnGroup) -> list[Claim]:
        """Return what is true of any column: its own unit beside others, or part of how the response depends on it."""
        variables = self._variables(group)
        moving = self._alongside(self._prover.moving(variables).tolist(), group)
        every = self._called(moving, group.term)
        crossed = len(group.factors[0]) == 1 and self._crossed(group)
        shared = tuple(variables if crossed else dict.fromkeys(factor.subject for factor in group.factors[0]))
        claims = []
        single = len(group.factors[0]) == 1
        for at in group.columns:
            if single and (sloped := self._sloped(group, at)) is not None:
                claims.append(sloped)
                continue
            names = self._called([o for o in moving if o != at], group.term) if len(moving) <= MAX_RELATED else every
            claims.append(self._plain(at, moving, names) or Claim(self._meanings[at], together=names, shared=shared))
        return claims

    def _wave(self, at: int, wave: Factor) -> Claim:
        """Return the claim on a sine or cosine wave: how far it swings together with the other one."""
        columns, rows = self._outline.columns, np.arange(self._probes.complete.count)
        for other, meaning in enumerate(self._meanings):
            pair = meaning is not None and meaning.wave == wave.wave
            if pair and other != at and columns[other].term == columns[at].term:
                formulas = [column.formula for k in (at, other) if (column := columns[k].column) is not None]
                squares = [self._probes.complete.values(rows, (), each) ** 2 for each in formulas]
                if np.allclose(np.sum(squares, axis=0), 1.0):
                    return Claim(wave, beside=self._names[other], rows=len(rows))
        return Claim(wave, beside="", rows=len(rows))

    def _plain(self, at: int, moving: Sequence[int], names: tuple[str, ...]) -> Claim | None:
        """Return the claim on a column as its formula has it, apart from others; None where these are too many."""
        rows, column = self._probes.worlds.count, self._outline.columns[at].column
        if at not in moving and at in self._alike:
            return Claim(self._meanings[at], constant=self._alike[at], rows=rows)
        if column is None or len(names) > MAX_APART:
            return None
        meaning = self._meanings[at]
        if meaning is None or meaning.linear or meaning.unitless:
            return Claim(meaning, apart=names, rows=rows)
        factors, multiple = meaning.factors()
        if any(
            factor.averaged or (factor.curve_degree and not factor.power) for factor in factors
        ):  # their formulas are tables
            return Claim(Scaled(Curve(product_text(factors), node=column.formula), multiple), apart=names, rows=rows)
        return Claim(Curve(column.formula.subject(), node=column.formula), apart=names, rows=rows)

    def _called(self, columns: Iterable[int], own: str) -> tuple[str, ...]:
        """Return the names of columns beside one of a term; of many of one term, that of the term."""
        by_term: dict[str, list[int]] = {}
        for at in sorted(columns):
            by_term.setdefault(self._of_column[at].term, []).append(at)
        for most in (MAX_NAMED, 1):
            names: list[str] = []
            for term, places in by_term.items():
                the_others = f"the {'other ' if term == own else ''}columns of {term}"
                names += [self._names[at] for at in places] if len(places) <= most else [the_others]
            if len(names) <= MAX_APART:
                break
        return tuple(names)
