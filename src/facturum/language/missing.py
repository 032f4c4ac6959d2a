"""Whether values are there."""

from __future__ import annotations

import numpy as np

from facturum.data.values import Kind, Mask, Values
from facturum.language.core import Condition
from facturum.language.nodes import Kinds, Node, Rows, Type, operation
from facturum.language.options import argument


@operation
class IsMissing(Condition):
    """1 where there is no value, 0 where there is one; itself never missing.

    Example: `is_missing(snow_depth)`.
    """

    x: Node = argument("any expression")

    def check(self, kinds: Kinds) -> Type:
        if kinds.of(self.x).block:
            raise self.x.fail("is_missing works on one value, not on a block of several columns")
        return Type(Kind.TRUTH)

    def values(self, rows: Rows) -> Values:
        valid = rows.valid(self.x)
        return Values(np.zeros(rows.length, dtype=bool) if valid is None else ~valid)

    def valid(self, rows: Rows) -> Mask | None:
        return None
