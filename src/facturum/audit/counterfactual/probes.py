"""The rows and the values that claims are proved on: spread over the table, with its extremes and all categories."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, fields
from functools import cached_property

import numpy as np

from facturum.audit.counterfactual.reads import Reads
from facturum.audit.counterfactual.worlds import FAR, Worlds
from facturum.data.time.periods import moved_on
from facturum.data.values import Array, FloatArray, Kind, Mask
from facturum.data.variable import Variable
from facturum.engine.blocks.windows import Change
from facturum.engine.passes.outline import Outline
from facturum.language.core.literals import Name
from facturum.language.tree.nodes import Node

LOOKED_AT = 256  # rows, of which those that claims are proved on are chosen
CELLS = 1_000_000  # of the matrix at most that these may have
MAX_EDGES = 6  # numbers written in formulas, on both sides of which a variable is set
MAX_OFFSETS = 12  # periods in which a variable is changed; where more matter, in all at once too
SHIFTS = (1, -1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12)  # by which the time of rows is moved
WORLDS = 3_000  # that one expression is looked at in
MAX_ROWS = 24  # that a claim is proved on
NEAREST = 3  # periods of a variable, in which rows with extreme values are taken


@dataclass(frozen=True)
class Candidate:
    """Another value of a variable in the period of each row, or in another one."""

    variable: str
    when: int | None
    values: Array
    present: Mask


@dataclass(frozen=True)
class Tried:
    """An expression in rows as they are, and with other values of what it reads.

    Args:
        candidates: the changes; the first is none.
        worth: what the expression is with each, doubles (rows, candidates), NaN for no value.
        small: which changes are small.
    """

    candidates: tuple[Candidate | None, ...]
    worth: FloatArray
    small: Mask


class Probes:
    """Rows of a build and other values for them.

    Args:
        outline: the resolved plan over its table, and its columns.
        most: how many rows are looked at.
    """

    def __init__(self, outline: Outline, most: int = LOOKED_AT) -> None:
        self._outline, self._table, self._most = outline, outline.prepared.table, most
        self.reads = Reads(outline.prepared.derived)
        self._tried: dict[Node, Tried] = {}
        self._samples: dict[str, Variable] = {}

    @cached_property
    def _looked_at(self) -> Worlds:
        prepared = self._outline.prepared
        first, length = prepared.shaped.history_rows, self._table.length
        count = min(self._most, max(CELLS // max(len(self._outline.columns), 1), 8), length)
        if prepared.shaped.numbers is not None:  # rows of history stand among the others
            positions = np.flatnonzero(prepared.row_numbers(np.arange(length)) > 0)
        else:
            positions = np.arange(first, length)
        chosen = positions[np.unique(np.linspace(0, len(positions) - 1, count).astype(np.int64))]
        return Worlds(self._outline, chosen, self.reads)

    @cached_property
    def complete(self) -> Worlds:
        """All rows looked at that are rows of a matrix."""
        return self._looked_at.at(self._complete)

    @cached_property
    def _columns(self) -> FloatArray:
        looked = self._looked_at
        terms = looked.reading([*self._table.variables])
        return looked.columns(np.arange(looked.count), [], terms)

    @cached_property
    def _complete(self) -> Array:
        looked, keep = self._looked_at, self._outline.prepared.keep
        there = ~np.isnan(self._columns).any(axis=1)
        if (response := self._outline.prepared.response) is not None:
            there &= looked.known(response)
        if keep is not None:
            kept = looked.values(np.arange(looked.count), [], keep)
            there &= np.nan_to_num(kept) != 0
        return np.flatnonzero(there) if there.any() else np.arange(looked.count)

    @cached_property
    def worlds(self) -> Worlds:
        """The rows that claims are proved on: the most different ones first."""
        complete = self._complete
        order: dict[int, None] = {}
        spread = np.linspace(0, len(complete) - 1, min(8, len(complete))).astype(np.int64)
        for name in self._variables:
            offsets = self._offsets.get(name, frozenset({0}))
            for when in sorted(offsets, key=abs)[:NEAREST] if self._sample(name).kind is Kind.NUMBER else ():
                own, there = self._looked_at.held(name, when)
                data = np.where(there, own, np.nan).astype(np.float64)[complete]
                if len(order) < MAX_ROWS and not np.isnan(data).all():
                    order |= dict.fromkeys([int(np.nanargmax(data)), int(np.nanargmin(data))])
                    order |= dict.fromkeys(np.flatnonzero(np.isnan(data))[:1].tolist())
        chosen = [*dict.fromkeys([*spread[:4].tolist(), *list(order)[: MAX_ROWS - 8], *spread.tolist()])]
        rest = np.linspace(0, len(complete) - 1, MAX_ROWS).astype(np.int64).tolist()
        rows = list(dict.fromkeys([*chosen, *rest]))[:MAX_ROWS]
        return self._looked_at.at(complete[np.array(rows, dtype=np.int64)])

    @cached_property
    def _variables(self) -> list[str]:
        return self.read_by([*self._outline.prepared.terms])

    @cached_property
    def _offsets(self) -> dict[str, frozenset[int]]:
        """The periods in which terms read each variable."""
        found: dict[str, frozenset[int]] = {}
        for node in self._outline.prepared.terms.values():
            for name, offsets in self.reads.of(node).items():
                found[name] = found.get(name, frozenset()) | offsets
        return found

    def read_by(self, terms: Sequence[str]) -> list[str]:
        """Return the variables that some terms read."""
        nodes = [self._outline.prepared.terms[key] for key in terms]
        return list(dict.fromkeys(name for node in nodes for name in self.reads.of(node)))

    def _sample(self, name: str) -> Variable:
        if name not in self._samples:
            self._samples[name] = self._table.variables[name].take(self._looked_at.targets)
        return self._samples[name]

    @cached_property
    def _edges(self) -> dict[str, list[float]]:
        """For each variable the numbers that are written in what reads it."""
        found: dict[str, dict[float, None]] = {}
        for root in [*self._outline.prepared.terms.values(), *self._outline.prepared.derived.values()]:
            for node in root.walk():
                written = list(_numbers_in(node))
                for child in node.children():
                    written += _numbers_in(child) if not child.children() else []
                if written:
                    for name in self.reads.of(node):
                        found.setdefault(name, {}).update(dict.fromkeys(written))
        return {name: list(each) for name, each in found.items()}

    def tried(self, node: Node) -> Tried:
        """Return an expression with other values of what it reads."""
        if node not in self._tried:
            self._tried[node] = self._try(node)
        return self._tried[node]

    def in_steps(self, node: Node) -> bool:
        """Return whether what an expression reads moves by whole steps, as time does."""
        return any(self._sample(name).kind is Kind.TIME for name in self.reads.moving(node))

    def anywhere(self, variable: str) -> tuple[tuple[Candidate | None, ...], Mask]:
        """Return other values of a variable in each period in which columns read it, and in all, and small ones."""
        offsets = self._offsets.get(variable, frozenset())
        cells = self._cells(variable, offsets or frozenset({0}))
        if offsets != {0} and (variable, None) not in cells:
            cells = [*cells, (variable, None)]
        others = [each for name, when in cells for each in self._others(name, when)]
        return (None, *(each for each, _ in others)), np.array([False, *(small for _, small in others)])

    def _try(self, node: Node) -> Tried:
        pairs = [
            pair for variable, offsets in self.reads.moving(node).items() for pair in self._cells(variable, offsets)
        ]
        proposed = [each for variable, when in pairs for each in self._others(variable, when)]
        rows = np.arange(min(self.worlds.count, max(2, min(MAX_ROWS, WORLDS // (len(proposed) + 1)))))
        candidates, small = (None, *(each for each, _ in proposed)), [False, *(is_small for _, is_small in proposed)]
        if isinstance(node, Name) and node.variable not in self.derived:  # it is what it is set to
            own, there = self.worlds.held(node.variable, 0)
            each = [(own, there), *((candidate.values, candidate.present) for candidate, _ in proposed)]
            set_to = np.column_stack([np.where(present, values, np.nan) for values, present in each])
            return Tried(candidates, set_to[: len(rows)], np.array(small))
        worlds, at = np.repeat(rows, len(candidates)), np.tile(np.arange(len(candidates)), len(rows))
        worth = self.worlds.values(worlds, changes_to(candidates, worlds, at), node).reshape(len(rows), -1)
        return Tried(candidates, worth, np.array(small))

    def set_to(self, node: Node, wanted: FloatArray) -> Tried | None:
        """Return an expression set to some values; NaN where it cannot be, None where nowhere.

        It is taken for a straight line in the one variable that it reads; what comes of it is computed.

        Args:
            node: the expression.
            wanted: values (points,), or for each row (rows, points).
        """
        reads = self.reads.moving(node)
        if len(reads) != 1:
            return None
        name, offsets = next(iter(reads.items()))
        cells = self._cells(name, offsets)
        kind = self._sample(name).kind
        if len(cells) != 1 or kind not in (Kind.NUMBER, Kind.TIME):
            return None
        when, rows = cells[0][1], np.arange(self.worlds.count)
        own, there = self._start(name, when, kind)
        wanted = np.broadcast_to(wanted, (len(rows), wanted.shape[-1]))
        ends = [Candidate(name, when, self._later(name, kind, own, by), there) for by in (0.0, 1.0)]
        worlds, at = np.repeat(rows, 2), np.tile([1, 2], len(rows))
        line = self.worlds.values(worlds, changes_to((None, *ends), worlds, at), node).reshape(len(rows), 2)
        with np.errstate(all="ignore"):
            steps = (wanted - line[:, :1]) / (line[:, 1:] - line[:, :1])
        possible = np.isfinite(steps)
        points = [
            Candidate(name, when, self._later(name, kind, own, np.where(fine, step, 0.0)), there & fine)
            for step, fine in zip(steps.T, possible.T, strict=True)
        ]
        candidates = (None, *points)
        worlds, at = np.repeat(rows, len(candidates)), np.tile(np.arange(len(candidates)), len(rows))
        worth = self.worlds.values(worlds, changes_to(candidates, worlds, at), node).reshape(len(rows), -1)
        scale = max(float(np.nanmax(np.abs(wanted), initial=0.0)), 1.0)
        hit = np.isclose(worth[:, 1:], wanted, rtol=1e-9, atol=1e-9 * scale)
        worth[:, 1:] = np.where(hit, wanted, np.nan)
        return Tried(candidates, worth, np.zeros(len(candidates), dtype=bool)) if hit.any() else None

    @property
    def derived(self) -> Mapping[str, Node]:
        """The derived variables."""
        return self._outline.prepared.derived

    def nearby(self, variable: str) -> tuple[tuple[Candidate | None, ...], float] | None:
        """Return four values of a number around each row's own, a step and half a step away, and the step."""
        if self._sample(variable).kind is not Kind.NUMBER:
            return None
        own, there = self._start(variable, 0, Kind.NUMBER)
        step = max(float(np.ptp(own)), float(np.abs(own).max(initial=0.0)) * 1e-3, 1e-9) / 4096
        moved = [own + by * step for by in (-1.0, 1.0, -0.5, 0.5)]
        return (None, *(Candidate(variable, 0, each, there) for each in moved)), step

    def _start(self, name: str, when: int | None, kind: Kind) -> tuple[Array, Mask]:
        """Return what a variable is in each row, in the middle of its values where it is missing."""
        own, there = self.worlds.held(name, when)
        if kind is Kind.TIME:
            return own, there
        return np.where(there, own, self._points(name)[0][2]), np.ones(len(there), dtype=bool)

    def _later(self, name: str, kind: Kind, own: Array, by: Array | float) -> Array:
        """Return numbers that much larger, or moments so many periods later."""
        timing = self._outline.prepared.spec.data.timing
        if kind is Kind.NUMBER:
            return own.astype(np.float64) + by
        if timing is None or timing.time != name or timing.every == "row":
            return own
        return moved_on(own, timing.every, np.rint(by).astype(np.int64))

    def _cells(self, variable: str, offsets: frozenset[int]) -> list[tuple[str, int | None]]:
        timing = self._outline.prepared.spec.data.timing
        if timing is not None and variable in (timing.time, *timing.panel):
            return [(variable, None)]
        ordered = sorted(offsets, key=lambda when: (abs(when), when))
        if len(ordered) == 1:
            return [(variable, ordered[0])]
        alike: dict[frozenset[int], int] = {}  # of periods that the same columns read, the nearest
        for when in ordered:
            alike.setdefault(self._readers.get((variable, when), frozenset()), when)
        chosen = list(dict.fromkeys([*alike.values(), min(ordered), max(ordered)]))
        every: list[int | None] = [None] if len(chosen) > MAX_OFFSETS else []
        return [(variable, when) for when in [*chosen[:MAX_OFFSETS], *every]]

    @cached_property
    def _readers(self) -> dict[tuple[str, int], frozenset[int]]:
        """The columns that read a variable in each period."""
        found: dict[tuple[str, int], list[int]] = {}
        prepared = self._outline.prepared
        for at, column in enumerate(self._outline.columns):
            if column.column is None:
                continue
            formula = column.column.formula
            fills = any(node.filled_from() for node in prepared.reached(formula))
            for name, offsets in self.reads.of(formula).items():
                for when in offsets:
                    found.setdefault((name, when), []).append(at)
                for when in range(-FAR, FAR + 1) if fills else ():  # each of which may fill another
                    found.setdefault((name, when), []).append(when - 10 * FAR)
        return {cell: frozenset(each) for cell, each in found.items()}

    def _others(self, name: str, when: int | None) -> Iterator[tuple[Candidate, bool]]:
        """Yield other values of a variable, and whether each is a small change."""
        variable = self._sample(name)
        own, there = self.worlds.held(name, when)
        every = np.ones(len(own), dtype=bool)
        if variable.kind is Kind.TIME:
            yield from ((each, False) for each in self._moved(name, when, own, there))
        elif variable.labels is not None or variable.kind is Kind.TRUTH:
            codes = range(2 if variable.labels is None else len(variable.labels))
            if len(codes) > WORLDS:  # of more, as many as the rows looked at have
                codes = np.unique(variable.data[variable.data >= 0]).tolist()
            yield from ((Candidate(name, when, np.full(len(own), code), every), False) for code in codes)
        else:
            points, step = self._points(name)
            yield Candidate(name, when, own + step / 1024, there), True
            yield Candidate(name, when, own + step, there), False
            yield Candidate(name, when, own - step, there), False
            values = dict.fromkeys([*np.unique(points).tolist(), *self._at_edges(name, points, step)])
            yield from ((Candidate(name, when, np.full(len(own), value), every), False) for value in values)
        yield Candidate(name, when, own, ~every), False

    def _points(self, name: str) -> tuple[Array, float]:
        """Return the quartiles and the ends of a number, and a step between its values."""
        variable = self._sample(name)
        known = variable.data[~variable.missing_rows()].astype(np.float64)
        if not len(known):
            return np.zeros(5), 1.0
        points = np.quantile(known, [0, 0.25, 0.5, 0.75, 1], method="lower")
        between = float(points[3] - points[1])
        return points, 1.0 if not between or between >= 1 else between / 2

    def _at_edges(self, name: str, points: Array, step: float) -> list[float]:
        """Return numbers written in formulas that lie among the values, or near them, and those on both sides."""
        room = max(float(points[-1] - points[0]), step)
        near = [value for value in self._edges.get(name, ()) if points[0] - room <= value <= points[-1] + room][
            :MAX_EDGES
        ]
        return list(dict.fromkeys(each for value in near for each in (value - step / 8, value, value + step / 8)))

    def _moved(self, name: str, when: int | None, own: Array, there: Mask) -> Iterator[Candidate]:
        """Yield moments that the time of rows is moved to."""
        timing = self._outline.prepared.spec.data.timing
        if timing is None or timing.time != name or timing.every == "row":
            known = np.unique(self._sample(name).data[~self._sample(name).missing_rows()])
            for value in (
                known[np.unique(np.linspace(0, len(known) - 1, 16).astype(int))].tolist() if len(known) else []
            ):
                yield Candidate(name, when, np.full(len(own), value), np.ones(len(own), dtype=bool))
            return
        for shift in SHIFTS:
            yield Candidate(name, when, self._later(name, Kind.TIME, own, float(shift)), there)


def changes_to(candidates: Sequence[Candidate | None], rows: Array, point: Array) -> list[Change]:
    """Return the changes to candidates by their numbers, one for each cell that is changed."""
    found: dict[tuple[str, int | None], list[int]] = {}
    for number in np.unique(point[point > 0]).tolist():
        candidate = candidates[number]
        if candidate is not None:
            found.setdefault((candidate.variable, candidate.when), []).append(number)
    changes = []
    for (variable, when), numbers in found.items():
        known = [candidate for number in numbers if (candidate := candidates[number]) is not None]
        place = np.full(len(candidates), -1)
        place[numbers] = np.arange(len(numbers))
        at = np.where(point > 0, place[point], -1)
        chosen = at >= 0
        own = np.maximum(at, 0)
        values = np.stack([candidate.values for candidate in known])[own, rows]
        present = np.stack([candidate.present for candidate in known])[own, rows]
        changes.append(Change(variable, values, present, chosen, when))
    return changes


def _numbers_in(node: Node) -> Iterator[float]:
    """Yield the numbers that an expression is written with."""
    for each in fields(node):  # type: ignore[arg-type]
        if each.metadata.get("role") in ("argument", "arguments"):
            continue
        value = getattr(node, each.name)
        for one in value[:24] if isinstance(value, tuple) else (value,):
            if isinstance(one, int | float) and not isinstance(one, bool):
                yield float(one)
