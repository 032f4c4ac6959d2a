"""Where rows fitted stand: the unit and the period of each, and the groups that expressions form."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from facturum.data.grouping import dense_ranks
from facturum.data.time.periods import period_numbers
from facturum.data.time.series import row_numbers
from facturum.data.values import Array
from facturum.engine.planning.sections.spec import DataSpec
from facturum.errors import DataError, counted, nearest, option
from facturum.language.core.literals import Name
from facturum.language.tree.nodes import Node
from facturum.trial.fit.rows import Rows, moments_of


def carried(rows: Rows, name: str) -> tuple[Array, Array]:
    """Return a variable beside the matrix in the rows fitted, and in which of them it is missing.

    Raises:
        DataError: where it is not at hand.
    """
    if name not in rows.carried:
        raise DataError(
            f"'{name}' is not carried along with the matrix{nearest(name, list(rows.carried))}",
            remedy=f'Give the source, {option("--data FILE", "table=table")}, or write carry = ["{name}"] in [data] '
            "and build anew.",
        )
    fitted = np.concatenate([rows.fitted(block) for block in rows.read()])
    chosen = rows.carried[name][fitted]
    return np.ma.getdata(chosen), np.ma.getmaskarray(chosen)


def units_of(rows: Rows, name: str) -> tuple[Array, int]:
    """Return the number of the unit of each row fitted, and in how many it is missing: each of these is one of its own.

    Raises:
        DataError: where the variable is not at hand.
    """
    values, missing = carried(rows, name)
    codes = np.zeros(len(values), dtype=np.int64)
    codes[~missing] = dense_ranks(values[~missing])
    codes[missing] = int(codes.max(initial=-1)) + 1 + np.arange(int(missing.sum()))
    return dense_ranks(codes), int(missing.sum())


def groups_of(rows: Rows, keys: Sequence[Node]) -> Array:
    """Return the number of the group of each row fitted that some expressions form, counted from 0.

    Raises:
        DataError: where what they read is not at hand.
    """
    groups: Array | None = None
    for key in keys:
        codes = _key(rows, key)
        groups = codes if groups is None else dense_ranks(groups * (int(codes.max(initial=0)) + 1) + codes)
    return np.zeros(0, dtype=np.int64) if groups is None else groups


def _key(rows: Rows, key: Node) -> Array:
    if isinstance(key, Name):
        return units_of(rows, key.variable)[0]
    time, every = key.as_period() or (key, "")
    if every and isinstance(time, Name):
        values, _ = carried(rows, time.variable)
        return dense_ranks(period_numbers(moments_of(values)[0], every))
    raise DataError(
        f"the groups of '{key}' are not carried along with the matrix",
        remedy=f"Write a variable for them under [derived], and group by that: by=[..] instead of by=[{key}].",
    )


def periods_of(rows: Rows, data: DataSpec, unit: Array | None) -> tuple[Array, str]:
    """Return the period of each row fitted; without a time its number in the source, or its place in its unit.

    Raises:
        DataError: where a row has no time, or the time is not at hand.
    """
    timing = data.timing
    if timing is None or timing.time is None:
        numbers = np.concatenate([block.numbers for block in rows.blocks()])
        return numbers if unit is None else row_numbers(unit), "row"
    moments, known = moments_of(carried(rows, timing.time)[0])
    if not known.all():
        raise DataError(
            f"{counted(int((~known).sum()), 'row')} of the matrix without '{timing.time}' cannot be placed in a series",
            remedy=f'Leave them out: [rows] keep = "not is_missing({timing.time})".',
        )
    return period_numbers(moments, timing.every), timing.every
