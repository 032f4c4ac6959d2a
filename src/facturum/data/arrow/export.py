"""Tables given out to Arrow and pandas."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa

from facturum.data.values import Array, Kind, label_text
from facturum.data.variable import Variable
from facturum.errors import DataError


def arrow_column(variable: Variable, rows: Array | None = None) -> pa.Array:
    """Return a variable as an Arrow array, or some rows of it (counted from 0)."""
    variable = variable if rows is None else variable.take(rows)
    missing = variable.missing_rows()
    if variable.labels is not None:
        labels = pa.array([label_text(label) for label in variable.labels], pa.string())
        codes = pa.array(np.where(missing, 0, variable.data), mask=missing)
        return pa.DictionaryArray.from_arrays(codes, labels).cast(pa.string())
    data = variable.data.astype("datetime64[us]") if variable.kind is Kind.TIME else variable.data
    return pa.array(data, mask=missing)


def frame_of(table: pa.Table, index: Any = None, positions: Array | None = None) -> Any:
    """Return an Arrow table as a DataFrame.

    Args:
        table: the table.
        index: of another frame, whose labels its rows get; None for their positions.
        positions: of its rows in that frame, from 0; None for all rows in turn.

    Raises:
        DataError: where pandas is not installed.
    """
    try:
        import pandas  # noqa: F401 - which the package works without
    except ImportError:
        raise DataError(
            "pandas is not installed", remedy="Run pip install 'facturum[pandas]', or use to_arrow()."
        ) from None
    frame = table.to_pandas()
    if positions is not None:
        frame.index = positions if index is None else index[positions]
    return frame
