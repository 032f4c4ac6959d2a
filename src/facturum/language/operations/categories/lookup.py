"""Values by key."""

from __future__ import annotations

from functools import cached_property
from typing import Any, ClassVar

import numpy as np

from facturum.data.time.calendar import period_of, period_text
from facturum.data.time.periods import period_numbers
from facturum.data.values import Kind, Label, Values
from facturum.language.learning.groups import Key, KeyIndex
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Unit
from facturum.language.tree.nodes import Kinds, Node, Type
from facturum.language.tree.options import MISSING, TABLE, VALUE, Absent, arguments, option
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows
from facturum.language.tree.traits import KeyedTable


@operation
class Lookup(Node):
    """Replaces each value by the one written beside it in a table; over several variables, by their combination.

    A value that is not in the table gets `otherwise`. The key `missing` is for missing values.

    Example: `lookup(valley, {'Upper': 1, 'Lower': 0}, missing)`, `lookup([hut, open], {('Alp', 'yes'): 2}, 0)`.
    """

    family: ClassVar[str] = "core"
    distributes: ClassVar[bool] = False
    groups_by: ClassVar[frozenset[str]] = frozenset({"keys"})
    has_levels: ClassVar[bool] = True
    keys: tuple[Node, ...] = arguments("the variable, or a list of variables")
    table: tuple[tuple[Key, Label | Absent], ...] = option(TABLE, "the value for each key")
    otherwise: Label | Absent = option(VALUE, "the value for other keys", default=MISSING)

    def check(self, kinds: Kinds) -> Type:
        for entry, _ in self.table:
            width = len(entry) if isinstance(entry, tuple) else 1
            if width != len(self.keys):
                raise self.error(f"the key {entry!r} has {width} parts for {len(self.keys)} variables")
        if not kinds.resolved and self.keys:
            self._check_keys(kinds)
        targets = [value for _, value in self.table] + [self.otherwise]
        texts = {isinstance(value, str) for value in targets if value is not MISSING}
        if len(texts) > 1:
            raise self.error("the table mixes texts and numbers", "Make all values of one kind.")
        if True in texts:
            return Type(Kind.CATEGORY, labels=self._labels)
        self.need_exact(tuple(targets))
        return Type(Kind.NUMBER)

    def _check_keys(self, kinds: Kinds) -> None:
        """Refuse texts among the keys of a number, and numbers among those of a text: they would match nothing."""
        for at, variable in enumerate(self.keys):
            kind = kinds.type_of(variable).kind
            parts = [key[at] if isinstance(key, tuple) else key for key, _ in self.table]
            wrong = [part for part in parts if isinstance(part, str) == kind.numeric and not isinstance(part, Absent)]
            any_part = kind in (Kind.TIME, Kind.MISSING) or (kind.categorical and self._has_numbers(kinds, variable))
            if not wrong or any_part:
                continue
            is_text = isinstance(wrong[0], str)
            raise self.error(
                f"'{variable}' is {kind.with_article}, and the key {wrong[0]!r} is "
                f"{'a text' if is_text else 'a number'}, which it never is",
                "Write the keys without quotes." if is_text else "Write the keys in quotes.",
            )

    @staticmethod
    def _has_numbers(kinds: Kinds, variable: Node) -> bool:
        labels = kinds.type_of(variable).labels
        return labels is None or any(not isinstance(label, str) for label in labels)

    def values(self, rows: Rows) -> Values:
        index, data, present = rows.shared(self, self._arrays)
        at = index.find([rows.evaluate(key).full(rows.length) for key in self.keys])
        labels = self._labels or None
        valid = present[at]
        return Values(data[at], None if valid.all() else valid, labels)

    def valid(self, rows: Rows) -> Any:
        return rows.evaluate(self).valid

    def decided_by(self) -> tuple[Node, ...]:
        return self.keys

    def groupings(self) -> tuple[tuple[Node, ...], ...]:
        return (self.keys,) if self.keys else ()

    def keyed(self) -> KeyedTable:
        entries = tuple(key if isinstance(key, tuple) else (key,) for key, _ in self.table)
        return KeyedTable(self.keys, entries, self.otherwise)

    def in_periods(self, step: str) -> Node:
        table: dict[Key, Label | Absent] = {}
        written: dict[Key, Key] = {}
        for key, value in self.table:
            period = period_of(key) if isinstance(key, str) else None
            called: Key = key
            if period is not None:
                called = period_text(int(period_numbers(np.array([period.start]), step)[0]), step)
            if table.setdefault(called, value) != value:
                raise self.error(
                    f"the keys {written[called]!r} and {key!r} lie in one {step}, {called}, and have different values",
                    f"Write one value for each {step}.",
                )
            written.setdefault(called, key)
        return self.replaced(table=tuple(table.items()))

    def meaning(self) -> Meaning:
        return Unit(", ".join(key.subject() for key in self.keys) + " (looked up)", node=self)

    def missing_because(self) -> str:
        return f"{' and '.join(key.subject() for key in self.keys)} is not among the keys of the table"

    @cached_property
    def _labels(self) -> tuple[str, ...]:
        targets = [value for _, value in self.table] + [self.otherwise]
        return tuple(dict.fromkeys(value for value in targets if isinstance(value, str)))

    def _arrays(self) -> tuple[KeyIndex, Any, Any]:
        keys = [key if isinstance(key, tuple) else (key,) for key, _ in self.table]
        targets = [value for _, value in self.table] + [self.otherwise]
        present = np.array([value is not MISSING for value in targets])
        labels = self._labels
        if labels:
            place = {label: at for at, label in enumerate(labels)}
            data = np.array([place[value] if isinstance(value, str) else -1 for value in targets])
        else:
            data = np.array([0.0 if isinstance(value, Absent) else float(value) for value in targets])
        return KeyIndex(keys), data, present
