"""Lookups written by hand: keys that match no row, and rows whose value is not among the keys."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from facturum.audit.topics.stretch import Stretch
from facturum.data.values import Array, Label
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.errors import counted, named, nearest
from facturum.language.learning.groups import Group, KeyIndex
from facturum.language.tree.nodes import Node
from facturum.language.tree.options import Absent
from facturum.language.tree.traits import KeyedTable

SHOWN = 5  # keys in a warning
MOST_KEYS = 10_000  # of a table that somebody wrote


@dataclass(frozen=True, eq=False)
class _Found:
    """What a lookup met: by key whether a row has it, and how many rows have another value."""

    table: KeyedTable
    index: KeyIndex
    met: Array
    rows: Counter[bool] = field(default_factory=Counter)  # by whether the value is another
    other_texts: dict[str, None] = field(default_factory=dict)


class Lookups:
    """Counts the rows that the tables of a plan leave to `otherwise`, part by part.

    Args:
        prepared: the resolved plan over its table.
    """

    def __init__(self, prepared: Prepared) -> None:
        self._found: dict[str, list[_Found]] = {}
        if prepared.written.resolved:
            return
        seen: set[Node] = {part for each in prepared.learned for part in each.answer.walk()}
        for place, root in prepared.parts().items():
            for node in root.walk():
                table = node.keyed()
                if table is None or node in seen or not 0 < len(table.entries) <= MOST_KEYS:
                    continue
                seen.add(node)
                met = np.zeros(len(table.entries), dtype=bool)
                self._found.setdefault(place, []).append(_Found(table, KeyIndex(table.entries), met))

    def see(self, stretch: Stretch) -> None:
        """Look at the rows of a stretch that [rows] keep takes."""
        for found in (each for several in self._found.values() for each in several):
            for which in stretch.leaves(stretch.kept):
                values = [
                    stretch.values(key, stretch.kept[which]).full(which.stop - which.start) for key in found.table.keys
                ]
                at = found.index.find(values)
                found.met[at[at >= 0]] = True
                present = np.logical_and.reduce([value.present_mask() for value in values])
                others = (at < 0) & present
                found.rows.update({True: int(np.count_nonzero(others)), False: int(np.count_nonzero(~others))})
                if len(values) == 1 and values[0].labels is not None and others.any():
                    codes = np.unique(values[0].data[others]).tolist()
                    found.other_texts.update(dict.fromkeys(str(values[0].labels[code]) for code in codes))

    def warnings(self) -> Iterator[str]:
        """Say which keys match no row, and how many rows are left to `otherwise`."""
        for place, several in self._found.items():
            for found in several:
                unmet = _unmet(found)
                if not unmet or not found.rows.total():
                    continue
                subject = ", ".join(key.subject() for key in found.table.keys)
                shown = named([_text(key) for key in unmet[:SHOWN]])
                more = f" and {len(unmet) - SHOWN:,} more" if len(unmet) > SHOWN else ""
                hint = "." if _of_periods(found) else _near(unmet, list(found.other_texts)) or "."
                otherwise = found.table.otherwise
                taken = "missing" if isinstance(otherwise, Absent) else repr(otherwise)
                others = found.rows[True]
                one = others == 1
                yield (
                    f"{place}: no row has the key{'s' if len(unmet) > 1 else ''} {shown}{more} of the table for "
                    f"{subject}{hint} "
                    f"{counted(others, 'row')} of {found.rows.total():,} {'has' if one else 'have'} another "
                    f"value and {'gets' if one else 'get'} {taken}."
                )


def _of_periods(found: _Found) -> bool:
    return len(found.table.keys) == 1 and found.table.keys[0].as_period() is not None


def _unmet(found: _Found) -> list[Group]:
    """Return the keys that match no row; of periods, those between the first and the last of the rows."""
    pairs = list(zip(found.table.entries, found.met.tolist(), strict=True))
    unmet = [key for key, met in pairs if not met]
    if not _of_periods(found):
        return unmet
    there = [*found.other_texts, *[str(key[0]) for key, met in pairs if met]]
    return [key for key in unmet if there and min(there) <= str(key[0]) <= max(there)]


def _text(key: Sequence[Label | Absent]) -> str:
    parts = ["missing" if isinstance(part, Absent) else repr(part) for part in key]
    return parts[0] if len(parts) == 1 else "(" + ", ".join(parts) + ")"


def _near(unmet: list[Group], others: list[str]) -> str:
    """Return the category that one of the keys may mean."""
    for key in unmet:
        if len(key) == 1 and isinstance(key[0], str) and (hint := nearest(key[0], others)):
            return hint
    return ""
