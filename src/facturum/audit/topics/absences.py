"""Why rows were left out, by the variable that is missing in them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

import numpy as np

from facturum.audit.map.entries import AbsenceEntry
from facturum.audit.topics.stretch import Stretch
from facturum.data.time.periods import step_noun
from facturum.data.values import Array, Mask
from facturum.engine.blocks.source import Source
from facturum.engine.passes.presence import present
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.errors import counted
from facturum.language.core.literals import Name
from facturum.language.meanings.meaning import stepped
from facturum.language.tree.nodes import Node


class Absences:
    """Why rows that [rows] keep selects were left out, gathered from stretches of rows.

    A row in which several variables are missing counts for each of them.

    Args:
        prepared: the resolved plan.
    """

    def __init__(self, prepared: Prepared) -> None:
        self._prepared = prepared
        self._rows: Counter[str] = Counter()
        self._alone: Counter[str] = Counter()
        self._terms: dict[str, set[str]] = {}

    def see(self, stretch: Stretch) -> None:
        """Look at the rows left out of a stretch."""
        at = stretch.left_out
        if not len(at):
            return
        finder = _Finder(self._prepared, stretch.source, at)
        by_reason: dict[str, Mask] = {}
        roots = {place.removeprefix("terms."): node for place, node in self._prepared.parts().items()}
        for place in stretch.selection.parts:
            key = place.removeprefix("terms.")
            for why, where in finder.reasons(roots[key]).items():
                by_reason[why] = by_reason.get(why, np.zeros(len(at), dtype=bool)) | where
                self._terms.setdefault(why, set()).add(key)
        together = np.sum(list(by_reason.values()), axis=0)
        for why, where in by_reason.items():
            self._rows[why] += int(where.sum())
            self._alone[why] += int((where & (together == 1)).sum())

    def entries(self) -> list[AbsenceEntry]:
        """Return why rows were left out, the most frequent reason first."""
        places = [place.removeprefix("terms.") for place in self._prepared.parts()]
        entries = [
            AbsenceEntry(
                why=why,
                rows=rows,
                alone=self._alone[why],
                terms=[place for place in places if place in self._terms[why]],
            )
            for why, rows in self._rows.items()
        ]
        return sorted(entries, key=lambda entry: (-entry.rows, entry.why))


class _Finder:
    """Follows a missing value down to the variables that it comes from.

    Args:
        prepared: the resolved plan.
        source: the table.
        at: positions of the rows left out.
    """

    def __init__(self, prepared: Prepared, source: Source, at: Array) -> None:
        self._prepared, self._source, self._at = prepared, source, at
        self._rows = source.rows_at(at)
        self._step = prepared.spec.data.every
        self._known: dict[Node, dict[str, Mask]] = {}

    def reasons(self, part: Node) -> dict[str, Mask]:
        """Return for a part of the plan in which of the rows it is missing, by reason."""
        valid = present(self._rows, part)
        if valid is None or valid.all():
            return {}
        return {why: where & ~valid for why, where in self._of(part).items() if (where & ~valid).any()}

    def _missing(self, node: Node) -> Mask:
        there = present(self._rows, node)
        return np.zeros(len(self._at), dtype=bool) if there is None else ~there

    def _of(self, node: Node) -> dict[str, Mask]:
        if node not in self._known:
            self._known[node] = dict(self._found(node))
        return self._known[node]

    def _found(self, node: Node) -> Iterator[tuple[str, Mask]]:
        if isinstance(node, Name):
            yield from self._of_name(node)
        elif node.moved is not None and not node.filled_from():
            yield from self._of_periods(node, node.moved)
        else:
            inner: dict[str, Mask] = {}
            for child in node.children():
                for why, where in self._of(child).items():
                    inner[why] = inner.get(why, np.zeros(len(self._at), dtype=bool)) | where
            yield from inner.items()
            if not node.many_columns and not self._is_block(node):
                explained = np.logical_or.reduce([*inner.values(), np.zeros(len(self._at), dtype=bool)])
                rows_missing = self._missing(node) & ~explained
                if rows_missing.any():
                    yield stepped(node.missing_because(), self._step), rows_missing
            elif (unplaced := node.unplaced(self._rows)) is not None and unplaced.any():
                yield stepped(node.missing_because(), self._step), unplaced

    def _is_block(self, node: Node) -> bool:
        return self._prepared.scope().type_of(node).block

    def _of_name(self, node: Name) -> Iterator[tuple[str, Mask]]:
        if node.variable in self._prepared.derived:
            yield from self._of(self._prepared.derived[node.variable]).items()
            return
        series = self._source.origins.get(node.variable)
        where = self._missing(node)
        if where.any():
            yield f"{node.variable} is missing" + (f" in the series {series}" if series else ""), where

    def _of_periods(self, node: Node, moved: Node) -> Iterator[tuple[str, Mask]]:
        """Yield the rows whose periods are absent from the table, and those whose values there are missing."""
        offsets = node.offsets_read()
        frame = self._rows.frame(moved, offsets)
        absent = np.logical_or.reduce([frame.absent(offset) for offset in offsets])
        subject, step = stepped(moved.subject(), self._step), step_noun(self._step or "row")
        which = "an earlier" if max(offsets) <= 0 else "a later" if min(offsets) >= 0 else "an earlier or later"
        needs, when = f"needs {which} {step} that is not in the table", f"in {which} {step}"
        if len(offsets) == 1 and offsets[0]:
            when = f"{counted(abs(offsets[0]), step)} {'before' if offsets[0] < 0 else 'later'}"
            needs = f"needs the value {when}, and that {step} is not in the table"
        values = frame.whole(moved)
        empty = np.logical_or.reduce(
            [~frame.absent(offset) & ~frame.here(values, offset).present_mask() for offset in offsets]
        )
        missing = np.ones(len(self._at), dtype=bool) if self._is_block(node) else self._missing(node)
        if (absent & missing).any():
            yield f"{subject} {needs}", absent & missing
        if (empty & missing).any():
            yield f"{subject} is missing {when}", empty & missing
