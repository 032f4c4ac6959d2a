"""The checks of a build as a user holds them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from facturum.audit.map.entries import CheckEntry, ColumnMap, FindingEntry
from facturum.errors import counted, listed
from facturum.support.notebook_tables import table_html


@dataclass(frozen=True)
class Outcome:
    """What the checks of a build looked at, and what they found.

    Args:
        made: the checks.
        findings: what they found, warnings first.
    """

    made: tuple[CheckEntry, ...]
    findings: tuple[FindingEntry, ...]

    @classmethod
    def of(cls, columns: ColumnMap) -> Outcome:
        """Return that of a column map."""
        return cls(tuple(columns.checks), tuple(sorted(columns.findings, key=lambda each: each.level != "warning")))

    @property
    def ok(self) -> bool:
        """Whether there is nothing to warn of."""
        return all(check.ok for check in self.made)

    def __iter__(self) -> Iterator[FindingEntry]:
        return iter(self.findings)

    def __len__(self) -> int:
        return len(self.findings)

    def __repr__(self) -> str:
        head = f"{counted(len(self.made), 'check')}, {counted(len(self.findings), 'finding')}"
        return listed(head, (f"{each.level}: {each.text}" for each in self.findings))

    def _repr_html_(self) -> str:
        rows = [[check.check, check.outcome, check.detail] for check in self.made]
        notes = [f"{each.level}: {each.text}" for each in self.findings]
        return table_html(f"{counted(len(self.made), 'check')}", ("what was checked", "outcome", "detail"), rows, notes)
