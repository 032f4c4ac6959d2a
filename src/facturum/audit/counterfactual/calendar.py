"""Changes of the time: the parts of its cycles, such as months, and its trends, each apart from the others."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import product

import numpy as np

from facturum.audit.counterfactual.probes import Probes
from facturum.audit.counterfactual.recovering import Recovery
from facturum.audit.counterfactual.settings import Settings, Settled, both, words
from facturum.audit.map.change_entries import ChangeEntry, SidesEntry
from facturum.data.time.calendar import part_codes, part_labels
from facturum.data.time.periods import moved_on
from facturum.data.values import Array, FloatArray, label_text
from facturum.engine.blocks.windows import Change
from facturum.language.core.literals import Name
from facturum.language.meanings.meaning import Factor, Meaning
from facturum.language.writing import part_of_time

APART = "apart from what else is made of the time"
UNITS = {"hour": "hour", "weekday": "day", "week": "week", "month": "month", "quarter": "quarter"}  # from the finest
ROUND = {"hour": 24, "weekday": 7, "week": 52, "month": 12, "quarter": 4}  # units that a cycle takes
WORLDS = 2_400  # in which the terms of a cycle are looked at
GLANCE = 150  # in which they are looked at first
SAME = 1e-7  # of the largest value of a column


@dataclass(frozen=True)
class _Turned:
    """Rows moved to one part of a cycle, and to its first: their places, and their columns in each (rows, columns)."""

    rows: Array
    before: FloatArray
    after: FloatArray


class CalendarChanges:
    """The changes of the time variable of a plan.

    Args:
        probes: rows, and other values for them.
        time: the time variable.
        every: the step of the plan.
        columns: the names of the columns, each with its term and reading.
        settings: where other variables may be.
        recovery: tells the rows before and after by the matrix.
    """

    def __init__(
        self,
        probes: Probes,
        time: str,
        every: str | None,
        columns: Mapping[str, tuple[str, Meaning | None]],
        settings: Settings,
        recovery: Recovery,
    ) -> None:
        self._probes, self._worlds, self._time, self._every = probes, probes.complete, time, every
        self._columns, self._settings, self._recovery = columns, settings, recovery
        self._names = list(columns)

    def entries(self) -> Iterator[ChangeEntry]:
        """Yield the parts of each cycle, then the trends."""
        every = self._worlds.reading([self._time])
        left, cycles = [*every], list[tuple[str, tuple[str, ...], tuple[list[Settled], ...], list[str]]]()
        for part, labels in self._parts:
            chosen, terms = self._cyclic(every, part) if left else ((), [])
            if {*terms} & {*left}:  # what was told by quarters is told by months, if others are
                cycles = [cycle for cycle in cycles if not {*cycle[3]} <= {*terms}]
                cycles.append((part, labels, chosen, terms))
                left = [key for key in left if key not in terms]
        for part, labels, chosen, terms in cycles:
            for setting in [both(each) for each in product(*chosen)]:
                yield from self._cycle(terms, part, labels, setting, len(terms) < len(every))
        for name, (term, reading) in self._columns.items():
            factors, multiple = ([], 0.0) if reading is None else reading.factors()
            unit = factors[0] if factors else None
            if (
                term in left
                and len(factors) == 1
                and unit is not None
                and unit.linear
                and self._made_of(unit) == {self._time}
            ):
                weights = {name: multiple / (1.0 if unit.scaling is None else unit.scaling[0])}
                apart = "" if len(self._worlds.reading([self._time])) == 1 else APART
                text = f"{unit.subject} one more"
                rows = self._worlds.count
                later = SidesEntry(after={name: {name: 1.0, "": weights[name]}})
                yield ChangeEntry(
                    variable=self._time, change=text, where=apart, weights=weights, rows=rows, sides=later
                )

    def _made_of(self, factor: Factor) -> set[str]:
        return set() if factor.node is None else {*self._probes.reads.moving(factor.node)}

    @cached_property
    def _parts(self) -> list[tuple[str, tuple[str, ...]]]:
        """The parts of the calendar that are no finer than the step, those with few labels first."""
        finer = [part for part, unit in UNITS.items() if unit == (self._every or "row").partition("_")[0]]
        known = list(UNITS)[list(UNITS).index(finer[0]) if finer else 0 :] if self._every != "year" else []
        labels = [(part, tuple(label_text(label) for label in part_labels(part))) for part in known]
        return sorted(labels, key=lambda each: len(each[1]))

    def _cyclic(self, terms: Sequence[str], part: str) -> tuple[tuple[list[Settled], ...], list[str]]:
        """Return the terms that are alike in all rows moved to one part, and where others must be for that."""
        plain = [key for key in terms if self._alike(key, part, ())]
        best: tuple[tuple[list[Settled], ...], list[str]] = ((), plain)
        left = [key for key in terms if key not in plain]
        readers: dict[str, list[str]] = {}
        for key in left:
            for name in self._probes.read_by([key]):
                readers.setdefault(name, []).append(key)
        for name, keys in readers.items():
            if name != self._time and (chosen := self._settings.of(name)):
                alike = [key for key in keys if self._alike(key, part, chosen)]
                if len(plain) + len(alike) > len(best[1]):
                    best = ((chosen,), [key for key in terms if key in plain or key in alike])
        return best

    def _alike(self, term: str, part: str, chosen: Sequence[Settled]) -> bool:
        """Return whether a term is alike in all rows moved to one part, at each setting; a few are looked at first."""
        settings = [both([each]) for each in chosen] or [both(())]
        return all(self._moved([term], part, setting, most)[1] for most in (GLANCE, WORLDS) for setting in settings)

    def _moved(
        self, terms: Sequence[str], part: str, setting: Settled, most: int = WORLDS
    ) -> tuple[dict[int, _Turned], bool]:
        """Return how columns differ between each part and the first, and whether they do so alike everywhere.

        Each row is moved through the whole cycle, one step after the other; once round, columns must be as before.
        """
        changes, chosen, _ = setting
        steps = np.arange(ROUND[part] + 1)
        rows = np.flatnonzero(chosen) if len(chosen) else np.arange(self._worlds.count)
        rows = rows[:: max(1, len(rows) * len(steps) // most)]
        each, by = np.repeat(rows, len(steps)), np.tile(steps, len(rows))
        own, there = self._worlds.held(self._time, None)
        moments = moved_on(own[each], UNITS[part], by)
        later = Change(self._time, moments, there[each], np.ones(len(each), dtype=bool), None)
        matrix = self._worlds.columns(each, [later, *(change.of(each) for change in changes)], terms)
        codes = np.where(there[each], part_codes(moments, part), -1).reshape(len(rows), -1)
        worlds = matrix.reshape(len(rows), len(steps), -1)
        fine = np.isfinite(worlds).all(axis=(1, 2)) & (codes[:, 0] >= 0)
        again = fine & (codes[:, 0] == codes[:, -1])
        kinds = self._kinds(part, setting)
        if not again.any() or len(kinds) < 2 or not _none((worlds[:, -1] - worlds[:, 0])[again], worlds[again]):
            return {}, False
        found: dict[int, _Turned] = {}
        for kind in kinds[1:]:
            reached = fine & (codes == kind).any(axis=1) & (codes == kinds[0]).any(axis=1)
            places = [np.argmax(codes[reached] == wanted, axis=1) for wanted in (kind, kinds[0])]
            at = np.arange(int(reached.sum()))
            after, before = (worlds[reached][at, place] for place in places)
            if not len(at) or not _none(after - before - (after[0] - before[0]), worlds[reached]):
                return {}, False
            found[kind] = _Turned(rows[reached], before, after)
        return found, True

    def _cycle(
        self, terms: Sequence[str], part: str, labels: Sequence[str], setting: Settled, more: bool
    ) -> Iterator[ChangeEntry]:
        """Yield the parts of a cycle, each compared with the first."""
        found, _ = self._moved(terms, part, setting)
        names = [self._names[at] for at in self._worlds.positions(terms).tolist()]
        subject = part_of_time(Name(self._time), part).subject()
        said = ", ".join(each for each in (words(setting[2]), APART if more else "") if each)
        rows = int(setting[1].sum()) if len(setting[1]) else self._worlds.count
        first = labels[self._kinds(part, setting)[0]]
        for kind, turned in found.items():
            moved = turned.after[0] - turned.before[0]
            weights = {name: float(value) for name, value in zip(names, moved, strict=True) if value}
            text = f"{subject} = {labels[kind]} rather than {first}"
            if not weights:
                continue
            yield ChangeEntry(
                variable=subject,
                change=text,
                where=said,
                weights=weights,
                rows=rows,
                cycle=[labels[kind], first],
                sides=self._recovery.sides(turned.rows, terms, turned.before, turned.after, setting),
            )

    def _kinds(self, part: str, setting: Settled) -> list[int]:
        """Return the parts that rows lie in."""
        own, there = self._worlds.held(self._time, None)
        chosen = setting[1] & there if len(setting[1]) else there
        return [int(code) for code in np.unique(part_codes(own[chosen], part))]


def _none(differences: FloatArray, worlds: FloatArray) -> bool:
    """Return whether differences of columns are none, beside the columns themselves."""
    size = np.abs(worlds).max(axis=(0, 1), initial=0.0)
    return bool((np.abs(differences) <= SAME * size).all())
