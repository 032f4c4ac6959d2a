"""Imputed cells of a build in parts, kept on the disk until they can be written in their order."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa

from facturum.audit.topics.imputations import FilledCells
from facturum.files.builds.build_writer import imputed_table
from facturum.files.builds.parquet_groups import MOST_ROWS
from facturum.files.parts.disk_arrays import DiskArray


class CellSpool:
    """Imputed cells on the disk, until those of one imputation can be written after those of another.

    Args:
        folder: where temporary files are.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._of: dict[int, tuple[DiskArray, DiskArray, dict[str, int] | None]] = {}

    def add(self, cells: Sequence[FilledCells]) -> None:
        """Take in the cells of a stretch of rows."""
        for part in cells:
            if part.imputation not in self._of:
                codes: dict[str, int] | None = None if part.texts is None else {}
                kind = np.float64 if codes is None else np.int64
                arrays = DiskArray(self._folder, np.int64), DiskArray(self._folder, kind)
                self._of[part.imputation] = *arrays, codes
            rows, fills, codes = self._of[part.imputation]
            rows.append(part.rows)
            if part.texts is not None and codes is not None:
                fills.append(np.array([codes.setdefault(text, len(codes)) for text in part.texts], dtype=np.int64))
            elif part.numbers is not None:
                fills.append(part.numbers)

    def tables(self) -> Iterator[pa.Table]:
        """Yield the cells, imputation by imputation."""
        for imputation, (rows, fills, codes) in sorted(self._of.items()):
            texts = None if codes is None else list(codes)
            for start in range(0, len(rows), MOST_ROWS):
                part = slice(start, start + MOST_ROWS)
                named = None if texts is None else [texts[code] for code in fills[part].tolist()]
                yield imputed_table(FilledCells(imputation, rows[part], fills[part] if texts is None else None, named))


class CellList:
    """Imputed cells of a table in memory, which comes in one stretch."""

    def __init__(self) -> None:
        self._cells: list[FilledCells] = []

    def add(self, cells: Sequence[FilledCells]) -> None:
        """Take in the cells of all rows."""
        self._cells += cells

    def tables(self) -> Iterator[pa.Table]:
        """Yield the cells, imputation by imputation."""
        return map(imputed_table, self._cells)
