"""Where other variables are when one is changed: in which rows, or what all rows are set to, and in words."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence

import numpy as np

from facturum.audit.counterfactual.worlds import Worlds
from facturum.audit.map.change_entries import ChangeEntry
from facturum.data.table import Table
from facturum.data.values import Kind, Mask, label_text, number_text
from facturum.engine.blocks.windows import Change

Said = tuple[tuple[str, str], ...]  # in words: "in rows with access =", "road"
Settled = tuple[tuple[Change, ...], Mask, Said]  # what rows are set to, which of them are chosen, and in words


class Settings:
    """Where the variables of a table may be.

    Args:
        worlds: the rows.
        table: the variables.
        reads: for each variable the periods in which terms read it.
        named: returns what a variable of a period is called.
    """

    def __init__(
        self,
        worlds: Worlds,
        table: Table,
        reads: Mapping[str, set[int]],
        named: Callable[[str, int | None], str],
    ) -> None:
        self._worlds, self._table, self._reads, self._named = worlds, table, reads, named
        self._of: dict[str, list[Settled]] = {}

    def presence(self, name: str) -> Iterator[list[Settled]]:
        """Yield the rows with a value of a variable and those without, where there are such."""
        offsets = self._reads.get(name, {0})
        when = min(offsets, key=abs)
        _, there = self._worlds.held(name, when)
        if there.any() and not there.all():
            called = self._named(name, when)
            yield [
                ((), there, ((f"in rows in which {called} is", "not missing"),)),
                ((), ~there, ((f"in rows in which {called} is", "missing"),)),
            ]

    def of(self, name: str) -> list[Settled]:
        """Return where another variable may be: what rows are set to, which are chosen, and in words."""
        if name not in self._of:
            self._of[name] = self._found(name)
        return self._of[name]

    def _found(self, name: str) -> list[Settled]:
        offsets = self._reads.get(name, {0})
        variable = self._table[name]
        if len(offsets) != 1 or variable.kind is Kind.TIME:
            return []
        when = min(offsets)
        own, there = self._worlds.held(name, when)
        called = self._named(name, when)
        if variable.kind is Kind.TRUTH:
            truths = ((True, "holds"), (False, "does not hold"))
            found: list[Settled] = [
                ((), there & (own == v), ((f"in rows in which {called}", word),)) for v, word in truths
            ]
        elif variable.labels is not None:
            codes = np.unique(own[there]).tolist()
            labels = variable.labels
            said = f"in rows with {called} ="
            found = [((), there & (own == code), ((said, label_text(labels[code])),)) for code in codes]
        elif there.any():
            every = np.ones(len(own), dtype=bool)
            quartiles = np.quantile(own[there].astype(np.float64), [0.25, 0.5, 0.75]).tolist()
            named: dict[float, list[str]] = {}
            for value, word in zip(quartiles, ("lower quartile", "median", "upper quartile"), strict=True):
                named.setdefault(value, []).append(word)
            found = [
                (
                    (Change(name, np.full(len(own), value), every, every, when),),
                    every,
                    ((f"where {called} is", f"{number_text(value)} (its {' and '.join(words)})"),),
                )
                for value, words in named.items()
            ]
        else:
            found = []
        if not there.all() and found:
            found.append(((), ~there, ((f"in rows in which {called} is", "missing"),)))
        return [each for each in found if each[1].any()]


def both(settings: Sequence[Settled]) -> Settled:
    """Return settings of several variables as one."""
    if not settings:
        return (), np.zeros(0, dtype=bool), ()
    changes = tuple(change for each in settings for change in each[0])
    return changes, np.all([each[1] for each in settings], axis=0), tuple(part for each in settings for part in each[2])


def words(where: tuple[tuple[str, str], ...]) -> str:
    """Return where rows are, in words."""
    text = " and ".join(f"{said} {value}" for said, value in where)
    together = all(said.startswith("in rows with ") for said, _ in where)
    return text.replace(" and in rows with ", " and ") if together else text


def merged(entries: Sequence[tuple[tuple[tuple[str, str], ...], ChangeEntry]]) -> Iterator[ChangeEntry]:
    """Yield changes, those as one that move alike where only the last of their settings differs."""
    alike: dict[object, list[tuple[tuple[tuple[str, str], ...], ChangeEntry]]] = {}
    for where, entry in entries:
        weights = tuple((name, float(f"{value:.9g}")) for name, value in entry.weights.items())
        moved = None if entry.sides is None else entry.sides.model_copy(update={"among": {}}).model_dump_json()
        alike.setdefault((where[:-1], where[-1][0] if where else "", weights, moved), []).append((where, entry))
    for each in alike.values():
        where, entry = each[0]
        values = list(dict.fromkeys(other[-1][1] for other, _ in each if other))
        joined = (*where[:-1], (where[-1][0], " or ".join(values))) if where else ()
        rows = sum(other.rows for _, other in each)
        together = Counter[str]()
        for other in (other.sides for _, other in each if other.sides is not None):
            together.update(other.among)
        sides = None if entry.sides is None else entry.sides.model_copy(update={"among": dict(together)})
        yield entry.model_copy(update={"where": words(joined), "rows": rows, "sides": sides})
