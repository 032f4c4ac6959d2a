"""How much of a table that is not in memory is held at a time."""

from __future__ import annotations

from dataclasses import dataclass, replace

from facturum.engine.passes.selection import leaves_within
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.files.builds.parquet_groups import GROUP_BYTES


@dataclass(frozen=True)
class Portions:
    """How much of a table that is not in memory is held at a time; but for the leaves, results do not depend on it.

    Args:
        memory: bytes in which rows are brought into the order of unit and period, where they are not in it.
        leaves: how many leaves of rows are filled and written together.
        leaf: for tests, the rows of a leaf.
        block: rows that are read together; None for as many as suit the memory.
    """

    memory: int = 256 * 2**20
    leaves: int = 4
    leaf: int | None = None
    block: int | None = None

    def of(self, prepared: Prepared) -> Prepared:
        """Return a resolved plan whose passes hold so few leaves that their matrix takes little memory."""
        width = sum(map(len, (prepared.spec.columns or {}).values()))
        leaves = min(self.leaves, leaves_within(GROUP_BYTES, width))
        return replace(prepared, shaped=replace(prepared.shaped, leaves_at_once=leaves))
