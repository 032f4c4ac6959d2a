"""Changes of a source variable that a person would make, and how columns move with each on average."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import product

import numpy as np

from facturum.audit.counterfactual.calendar import CalendarChanges
from facturum.audit.counterfactual.probes import Probes
from facturum.audit.counterfactual.recovering import Recovery
from facturum.audit.counterfactual.settings import Said, Settings, Settled, both, merged, words
from facturum.audit.map.change_entries import ChangeEntry
from facturum.data.values import Array, FloatArray, Kind, Mask, label_text, number_text
from facturum.engine.blocks.windows import Change
from facturum.engine.passes.outline import Outline
from facturum.language.meanings.meaning import STEP, Factor, Meaning, stepped

MOST_ROWS = 4_096  # that movements are averaged over; of more, as many are taken, evenly spread
MOST_CATEGORIES = 24  # that are compared with the reference
GLANCE = 48  # rows that a setting is looked at first
MOST_TRIED = 40  # variables, and pairs of them, that a change is told at
MOST_SETTINGS = 12  # of other variables, at which a change is told
MOST_CELLS = 300  # variables, each period counted, of a plan whose changes are told
MOST_OFFSETS = 6  # periods of one variable
FEW = 8  # values of a number up to which each is told, where it bends
SAME = 1e-7  # of the largest movement of a column


@dataclass(frozen=True)
class Step:
    """A change of all rows: what they are set to before and after, and the change in words."""

    text: str
    before: tuple[Change, ...]
    after: tuple[Change, ...]
    rows: Mask


class CounterfactualChanges:
    """The changes of each variable of the source.

    Args:
        outline: the resolved plan over its table, and its columns.
        readings: of the columns, their variables read as what they are; None for the intercept.
        linked: whether the response is one of 0 and 1, or a number from 0 on, which models with a link are made for.
    """

    def __init__(self, outline: Outline, readings: Sequence[Meaning | None], linked: bool) -> None:
        self._outline, self._every = outline, outline.prepared.spec.data.every
        self._probes = Probes(outline, MOST_ROWS)
        self._recovery = Recovery(self._probes.complete, [column.name for column in outline.columns], linked)
        self._readings = readings
        self._factors = [reading.factors()[0] for reading in readings if reading is not None]

    def entries(self) -> list[ChangeEntry]:
        """Return the changes, variable by variable in the order in which the terms read them."""
        with np.errstate(all="ignore"):
            cells = list(self._cells())
            if len(cells) > MOST_CELLS:
                return []
            found = [entry for variable, when in cells for entry in self._of(variable, when)]
        return [*found, *self._calendar()]

    def _calendar(self) -> Iterator[ChangeEntry]:
        """Yield what is told of the time."""
        data = self._outline.prepared.spec.data
        if data.time is not None and data.time in self._reads:
            pairs = zip(self._outline.columns, self._readings, strict=True)
            columns = {column.name: (column.term, reading) for column, reading in pairs}
            yield from CalendarChanges(
                self._probes, data.time, data.every, columns, self._settings, self._recovery
            ).entries()

    @cached_property
    def _settings(self) -> Settings:
        return Settings(self._probes.complete, self._outline.prepared.table, self._reads, self._named)

    @cached_property
    def _rows(self) -> Array:
        return np.arange(self._probes.complete.count)

    @cached_property
    def _reads(self) -> dict[str, set[int]]:
        """For each variable that moves a term the periods in which terms read it; one that forms groups moves none."""
        found: dict[str, set[int]] = {}
        for node in self._outline.prepared.terms.values():
            for name, offsets in self._probes.reads.moving(node).items():
                found.setdefault(name, set()).update(offsets)
        return found

    def _cells(self) -> Iterator[tuple[str, int | None]]:
        timing = self._outline.prepared.spec.data.timing
        for name, offsets in self._reads.items():
            if timing is not None and name in (timing.time, *timing.panel):
                yield name, None
            else:
                nearest = sorted(offsets, key=lambda offset: (abs(offset), offset))[:MOST_OFFSETS]
                yield from ((name, when) for when in nearest)

    def _of(self, variable: str, when: int | None) -> Iterator[ChangeEntry]:
        terms = self._probes.complete.reading([variable])
        for step in self._steps(variable, when, terms):
            yield from self._told(variable, step, terms)

    def _steps(self, name: str, when: int | None, terms: Sequence[str]) -> Iterator[Step]:
        table = self._outline.prepared.table
        variable = table[name]
        own, there = self._probes.complete.held(name, when)
        every = np.ones(len(own), dtype=bool)

        def to(value: Array | float) -> tuple[Change, ...]:
            return (Change(name, np.broadcast_to(value, len(own)), every, every, when),)

        if variable.kind is Kind.TIME:
            return
        if variable.kind is Kind.TRUTH:
            yield Step(f"{self._named(name, when)} true rather than false", to(False), to(True), there)
        elif variable.labels is not None:
            yield from self._categories(name, when, own, there, to)
        elif there.any():
            yield from self._numbers(name, when, own, there, to, terms)
        yield from self._missing(name, when, own, there, terms)

    def _named(self, name: str, when: int | None) -> str:
        if not when:
            return name
        count = f"{abs(when)} {STEP}{'s' if abs(when) > 1 else ''}"
        return stepped(f"{name} {count} {'before' if when < 0 else 'later'}", self._every)

    def _categories(
        self, name: str, when: int | None, own: Array, there: Mask, to: Callable[[Array | float], tuple[Change, ...]]
    ) -> Iterator[Step]:
        labels = self._outline.prepared.table[name].labels or ()
        codes, counts = np.unique(own[there], return_counts=True)
        often = [int(codes[at]) for at in np.argsort(-counts, kind="stable")[: MOST_CATEGORIES + 1]]
        base = self._reference(name, [label_text(label) for label in labels])
        ordered = self._outline.prepared.table[name].kind is Kind.ORDERED
        places = {code: (code if ordered else 0, label_text(labels[code])) for code in often}
        first = base if base in often else min(often, key=lambda code: places[code], default=None)
        if first is None:
            return
        said = label_text(labels[first])
        for code in sorted(often, key=lambda code: places[code]):
            if code != first:
                text = f"{self._named(name, when)} = {label_text(labels[code])} rather than {said}"
                yield Step(text, to(first), to(code), there)

    def _reference(self, name: str, labels: Sequence[str]) -> int | None:
        """Return the category that the plan compares with, where it names one of the variable itself."""
        for factor in self._made_with.get(name, ()):
            if factor.level is not None and factor.level.reference in labels and self._made_of(factor) == {name}:
                return labels.index(str(factor.level.reference))
        return None

    @cached_property
    def _made_with(self) -> dict[str, list[Factor]]:
        """The factors that are made of each variable."""
        found: dict[str, list[Factor]] = {}
        for factors in self._factors:
            for factor in factors:
                for name in self._made_of(factor):
                    found.setdefault(name, []).append(factor)
        return found

    def _made_of(self, factor: Factor) -> set[str]:
        return set() if factor.node is None else {*self._probes.reads.moving(factor.node)}

    def _numbers(
        self,
        name: str,
        when: int | None,
        own: Array,
        there: Mask,
        to: Callable[[Array | float], tuple[Change, ...]],
        terms: Sequence[str],
    ) -> Iterator[Step]:
        values = own[there].astype(np.float64)
        low, middle, high = np.quantile(values, [0.25, 0.5, 0.75], method="linear").tolist()
        size, words = self._unit(name)
        if high > low:
            wide = self._movement(to(low), to(high), terms) / (high - low)
            narrow = [self._movement(to(start), to(start + size), terms) / size for start in (low, middle, high)]
            shifted = Change(name, own + size, there, there, when)
            if all(_alike(wide, each) for each in [*narrow, self._movement((), (shifted,), terms) / size]):
                yield Step(f"{self._named(name, when)} {words} higher", (), (shifted,), there)
                return
            tenfold = [self._movement(to(start), to(1.1 * start), terms) for start in (low, middle, high)]
            logs = np.log([high / low, 1.1]) if low > 0 else np.ones(2)
            shifted = Change(name, own * 1.1, there, there, when)
            tenfold.append(self._movement((), (shifted,), terms))
            if low > 0 and all(_alike(wide * (high - low) / logs[0], each / logs[1]) for each in tenfold):
                yield Step(f"{self._named(name, when)} 10 % higher", (), (shifted,), there)
                return
        distinct = np.unique(values)
        if len(distinct) <= FEW:
            for value in distinct[1:].tolist():
                text = f"{self._named(name, when)} {number_text(value)} rather than {number_text(distinct[0])}"
                yield Step(text, to(distinct[0]), to(value), there)
            return
        points = ((low, middle, "lower quartile to median"), (middle, high, "median to upper quartile"))
        for before, after, which in points:
            if after > before:
                text = f"{self._named(name, when)} {number_text(after)} rather than {number_text(before)} ({which})"
                yield Step(text, to(before), to(after), there)

    def _unit(self, name: str) -> tuple[float, str]:
        """Return by how much a number is changed, and in words: in the plan's own unit where it has one."""
        made = [factor for factor in self._made_with.get(name, ()) if self._made_of(factor) == {name}]
        sizes = {(abs(factor.scaling[0]), factor.scaling[1]) for factor in made if factor.scaling is not None}
        if len(sizes) != 1:
            return 1.0, "one unit"
        size, standardized = sizes.pop()
        if size == 1.0:
            return size, "one unit"
        return size, f"one standard deviation ({number_text(size)})" if standardized else f"{number_text(size)} units"

    def _missing(self, name: str, when: int | None, own: Array, there: Mask, terms: Sequence[str]) -> Iterator[Step]:
        """Yield a missing value rather than the one that is imputed, or than one that is there where none is."""
        made = self._made_with.get(name, [])
        if not any(factor.absence for factor in made):
            return
        every = np.ones(len(own), dtype=bool)
        gone = (Change(name, own, ~every, every, when),)
        filled = [factor.node for factor in made if factor.node is not None and not factor.stepwise]
        imputed = [node for node in dict.fromkeys(filled) if {*self._probes.reads.moving(node)} == {name}]
        fills = [self._probes.complete.values(self._rows, gone, node) for node in imputed]
        known = [fill for fill in fills if np.isfinite(fill).all()]
        text = f"{self._named(name, when)} missing"
        if known and all(np.array_equal(known[0], fill) for fill in known[1:]):
            before = (Change(name, known[0], every, every, when),)
            yield Step(f"{text} rather than known at its imputed value", before, gone, every)
        elif not known:
            yield Step(f"{text} rather than known", (), gone, there)

    def _movement(self, before: Sequence[Change], after: Sequence[Change], terms: Sequence[str]) -> FloatArray:
        """Return how columns move in each row, NaN where a world has none (rows, columns)."""
        worlds = self._probes.complete
        return worlds.columns(self._rows, after, terms) - worlds.columns(self._rows, before, terms)

    def _told(self, variable: str, step: Step, terms: Sequence[str]) -> Iterator[ChangeEntry]:
        """Yield a change, at each setting of what else its movement depends on."""
        every = np.ones(len(self._rows), dtype=bool)
        whole = self._entry(variable, step, ((), every, ()), terms)
        if whole is None:
            return
        entry, movement = whole
        if _constant(movement):
            yield entry
            return
        moving = [terms[at] for at in range(len(terms)) if self._moves(terms, at, movement)]
        others = [name for name in self._probes.read_by(moving) if name != variable]
        single = [each for name in others for each in self._settings.presence(name)]
        single += [each for name in others if (each := self._settings.of(name))]
        pairs = [(a, b) for at, a in enumerate(single) for b in single[:at]]
        wanted = [chosen for chosen in [*((each,) for each in single), *pairs] if _few(chosen)]
        for chosen in wanted[:MOST_TRIED]:
            found = self._alike_at([both(each) for each in product(*chosen)], variable, step, terms)
            if found:
                yield from merged(found)
                return
        yield entry.model_copy(update={"where": "on average over the rows", "same": False})

    def _alike_at(
        self, settings: Sequence[Settled], variable: str, step: Step, terms: Sequence[str]
    ) -> list[tuple[Said, ChangeEntry]]:
        """Return a change at each of some settings, if all rows move alike in each; otherwise nothing."""
        found: list[tuple[Said, ChangeEntry]] = []
        for setting in settings:
            glance = self._entry(variable, step, setting, terms, GLANCE)  # most are found out by a few rows
            if glance is not None and not _constant(glance[1]):
                return []
            made = self._entry(variable, step, setting, terms)
            if made is not None:
                if not _constant(made[1]):
                    return []
                found.append((setting[2], made[0]))
        return found

    def _moves(self, terms: Sequence[str], at: int, movement: FloatArray) -> bool:
        own = self._probes.complete.positions([terms[at]])
        first = len(self._probes.complete.positions(terms[:at]))
        return bool((movement[:, first : first + len(own)] != 0).any())

    def _entry(
        self, variable: str, step: Step, setting: Settled, terms: Sequence[str], most: int = MOST_ROWS
    ) -> tuple[ChangeEntry, FloatArray] | None:
        """Return a change at a setting with its average movement, and the movement of each row."""
        changes, chosen, where = setting
        whole = most == MOST_ROWS
        rows = np.flatnonzero(chosen & step.rows)
        rows = rows[:: max(len(rows) // most, 1)]
        worlds = self._probes.complete
        parts = [
            worlds.columns(rows, [change.of(rows) for change in (*changes, *side)], terms)
            for side in (step.before, step.after)
        ]
        movement = parts[1] - parts[0]
        fine = np.isfinite(movement).all(axis=1)
        movement = movement[fine]
        if not len(movement) or not (movement != 0).any():
            return None
        mean, size = movement.mean(axis=0), np.abs(movement).max(axis=0)
        over = ~np.isfinite(mean)  # the sum of which is too large, not the mean
        mean[over] = (movement[:, over] / len(movement)).sum(axis=0)
        names = [self._outline.columns[at].name for at in worlds.positions(terms).tolist()]
        weights = {
            name: float(value) for name, value, most in zip(names, mean, size, strict=True) if abs(value) > 1e-12 * most
        }
        sides = self._recovery.sides(rows[fine], terms, parts[0][fine], parts[1][fine], setting) if whole else None
        entry = ChangeEntry(
            variable=variable, change=step.text, where=words(where), weights=weights, rows=len(movement), sides=sides
        )
        return (entry, movement) if weights else None


def _few(chosen: Sequence[Sequence[Settled]]) -> bool:
    """Return whether so many settings can be told."""
    return int(np.prod([len(each) for each in chosen])) <= MOST_SETTINGS


def _constant(movement: FloatArray) -> bool:
    """Return whether all rows move alike."""
    size = np.abs(movement).max(axis=0)
    return bool((np.ptp(movement, axis=0) <= SAME * np.maximum(size, SAME * size.max())).all())


def _alike(one: FloatArray, other: FloatArray) -> bool:
    """Return whether two movements agree in all rows in which both can be made."""
    fine = np.isfinite(one).all(axis=1) & np.isfinite(other).all(axis=1)
    if not fine.any():
        return False
    size = np.maximum(np.abs(one[fine]).max(axis=0), np.abs(other[fine]).max(axis=0))
    return bool((np.abs(one[fine] - other[fine]) <= SAME * np.maximum(size, SAME * size.max())).all())
