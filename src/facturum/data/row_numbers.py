"""The numbers of rows in the table given, from their positions in the table that a plan works on."""

from __future__ import annotations

from facturum.data.values import Array


def row_numbers(positions: Array, history_rows: int, numbers: Array | None) -> Array:
    """Return the number of the row at each position, counted from 1; those of history are below.

    Args:
        positions: counted from 0.
        history_rows: how many rows of history come before the others.
        numbers: of all positions, where rows were brought into another order.

    Example:
        >>> import numpy as np
        >>> row_numbers(np.array([0, 3]), 2, None).tolist()
        [-1, 2]
    """
    return positions + (1 - history_rows) if numbers is None else numbers[positions]
