"""The file of a sparse design: arrays in compressed columns, as SciPy reads them, with the rows and the response."""

from __future__ import annotations

import io

import numpy as np
import pyarrow as pa

from facturum.audit.map.entries import ColumnMap
from facturum.audit.map.row_map import LEARNING_ROW, SOURCE_ROW
from facturum.data.values import Array
from facturum.engine.passes.outline import RESPONSE
from facturum.files.folder import Buffer
from facturum.numerics.linear.sparse import SparseColumns


def sparse_arrays(design: pa.Table, cells: SparseColumns, columns: ColumnMap) -> dict[str, Array]:
    """Return what a sparse design holds, in the arrays that SciPy reads, with its rows and response beside them."""
    small = cells.rows.dtype
    starts = cells.starts.astype(small) if len(cells.data) <= np.iinfo(small).max else cells.starts
    responses = [entry.name for entry in columns.columns if entry.role == RESPONSE]
    return {
        "format": np.array(b"csc"),
        "shape": np.array(cells.shape),
        "data": cells.data,
        "indices": cells.rows,
        "indptr": starts,
        SOURCE_ROW: design[SOURCE_ROW].to_numpy(),
        LEARNING_ROW: design[LEARNING_ROW].to_numpy(),
        RESPONSE: np.column_stack([design[name].to_numpy() for name in responses]) if responses else np.zeros((0, 0)),
    }


def read_sparse(data: Buffer, columns: ColumnMap) -> tuple[pa.Table, SparseColumns]:
    """Return the rows and the response of a sparse design, and its columns."""
    responses = [entry.name for entry in columns.columns if entry.role == RESPONSE]
    with np.load(io.BytesIO(bytes(data)), allow_pickle=False) as arrays:
        wanted = {"format", "shape", "data", "indices", "indptr", SOURCE_ROW, LEARNING_ROW, RESPONSE}
        if set(arrays.files) != wanted or arrays["format"].shape != () or arrays["format"].item() != b"csc":
            raise ValueError("the design file is not one of compressed columns")
        length, width = (int(part) for part in arrays["shape"])
        cells = SparseColumns(arrays["data"], arrays["indices"], arrays["indptr"].astype(np.int64), length)
        source, learning, response = (arrays[name] for name in (SOURCE_ROW, LEARNING_ROW, RESPONSE))
    if width != len(columns.columns) - len(responses) or not cells.whole(width):
        raise ValueError("the matrix is not one of the columns of the map")
    if len(source) != length or len(learning) != length or (responses and response.shape != (length, len(responses))):
        raise ValueError("the rows of the design are of unequal length")
    parts = {SOURCE_ROW: source, LEARNING_ROW: learning} | {n: response[:, at] for at, n in enumerate(responses)}
    return pa.table(parts), cells
