"""Values that mean a missing one: 98 and 99, "n/a"."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from facturum.data.number_text import PLAIN
from facturum.data.values import Kind, Label, label_text
from facturum.data.variable import Variable


def without_codes(variable: Variable, codes: Sequence[Label]) -> Variable:
    """Return a variable with the cells missing that hold some values.

    Args:
        variable: of any kind.
        codes: texts, which numbers equal that are written so; and numbers, which texts equal that are.

    Example:
        >>> from facturum.data.table import Table
        >>> found = without_codes(Table.of({"q": [1, 98, 3]})["q"], ["98"])
        >>> found.missing_rows().tolist()
        [False, True, False]
    """
    if not codes or variable.kind is Kind.TIME:
        return variable
    if variable.labels is not None:
        words = {label_text(code) for code in codes}
        kept = [at for at, label in enumerate(variable.labels) if label_text(label) not in words]
        if len(kept) == len(variable.labels):
            return variable
        recode = np.full(len(variable.labels) + 1, -1, dtype=np.int64)
        recode[kept] = np.arange(len(kept))
        labels = tuple(variable.labels[at] for at in kept)
        return replace(variable, data=recode[variable.data], labels=labels)
    numbers = [PLAIN.number(code) if isinstance(code, str) else float(code) for code in codes]
    wanted = [number for number in numbers if number is not None]
    if not wanted or variable.kind is Kind.TRUTH:
        return variable
    gone = np.isin(variable.data, np.array(wanted))
    if not gone.any():
        return variable
    return replace(variable, valid=~variable.missing_rows() & ~gone)
