"""What a build folder holds: its design file and its maps, read where they are asked for."""

from __future__ import annotations

import hashlib
import mmap
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, fields, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from pydantic import ValidationError

from facturum.audit.map.entries import ColumnMap
from facturum.audit.map.row_map import LEARNING_ROW, SOURCE_ROW, RowMap
from facturum.audit.source.fingerprints import column_digests
from facturum.data.values import Array, FloatArray
from facturum.engine.passes.outline import RESPONSE
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import AuditError, FacturumError
from facturum.files.builds.build_writer import IMPUTED, ROWS
from facturum.files.builds.built_design import Matrices, doubles, in_blocks
from facturum.files.builds.formats import FORMATS, DesignFormat, parquet_of, parquet_table
from facturum.files.folder import Buffer, Snapshot
from facturum.files.scans.file_scans import UNREADABLE
from facturum.numerics.linear.sparse import SparseColumns

_SEAL = 24  # hexadecimal digits of a seal: 96 bits
_CHUNK = 2**24
REBUILD = "Build it anew, or run verify to see all that is not as it was written."


@dataclass(frozen=True)
class Stored:
    """What a build folder holds; a large design file is read only where its rows are asked for.

    Args:
        folder: where it is.
        snapshot: its files as they are at one moment.
        design: the name of the design file.
        columns: the column map.
        resolved: the resolved plan.
        told: what is not as it was written, of all files but a large design file: the file, and a sentence.
        unread: the digest that a large design file should have, where it has not been compared yet.
        check: whether a file that is not as it was written is refused.
    """

    folder: Path
    snapshot: Snapshot
    design: str
    columns: ColumnMap
    resolved: PlanSpec
    told: tuple[tuple[str, str], ...]
    unread: str | None
    check: bool

    @property
    def index(self) -> None:
        """No index is stored."""

    def __getstate__(self) -> dict[str, Any]:
        """Return what is pickled: the contents of the files."""
        files = {name: bytes(data) for name, data in self.snapshot.files.items()}
        names = [each.name for each in fields(self)]
        return {name: getattr(self, name) for name in names} | {"snapshot": replace(self.snapshot, files=files)}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)

    @property
    def _format(self) -> DesignFormat:
        """The format of the design file."""
        return FORMATS[Path(self.design).suffix[1:]]

    @cached_property
    def _whole(self) -> Buffer:
        """The design file, compared with its digest."""
        data = self.snapshot.files[self.design]
        if self.check and self.findings:
            raise AuditError(f"{self.folder} is damaged: {self.findings[0][1]}", remedy=REBUILD)
        return data

    @cached_property
    def findings(self) -> tuple[tuple[str, str], ...]:
        """What is not as it was written: the file, and a sentence."""
        changed = self.unread is not None and digest_of(self.snapshot.files[self.design]) != self.unread
        return ((self.design, changed_sentence(self.design)), *self.told) if changed else self.told

    @cached_property
    def _read(self) -> tuple[pa.Table, SparseColumns | None]:
        """The table of the design file, and of a sparse design its columns of X."""
        with undamaged(self.folder):
            return self._format.read(self._whole, self.columns)

    @property
    def table(self) -> pa.Table:
        """The table of the design file, of a sparse design without the columns of X."""
        return self._read[0]

    @property
    def cells(self) -> SparseColumns | None:
        """The columns of X of a sparse design."""
        return self._read[1] if self._format.sparse else None

    @cached_property
    def X(self) -> FloatArray | SparseColumns:  # noqa: N802 - the field's standard name
        """The matrix."""
        if (cells := self.cells) is not None:
            return cells
        names = self._names(False)
        matrix = np.empty((self.table.num_rows, len(names)), order="F")
        with undamaged(self.folder):
            for at, name in enumerate(names):
                matrix[:, at] = numbers_of(self.table.column(name))
        return matrix

    @cached_property
    def y(self) -> FloatArray | None:
        """The columns of the response; None without one."""
        names = self._names(True)
        with undamaged(self.folder):
            return np.column_stack([numbers_of(self._some([name]).column(name)) for name in names]) if names else None

    def _some(self, names: list[str]) -> pa.Table:
        """Return some columns of the design file, without reading the others where that can be."""
        if "_read" in self.__dict__ or not self._format.by_column:
            return self.table.select(names)
        with parquet_of(self._whole) as file:
            return file.read(names)

    def column(self, name: str) -> Array:
        """Return one column of numbers of the design file, of a large one without reading and checking all of it.

        Raises:
            AuditError: where it is not the one that was written.
        """
        if name in (held := self._held):
            return held[name]
        if (cells := self.cells) is not None and name in (X := self._names(False)):  # noqa: N806
            return cells.column(X.index(name))
        if self.unread is None or "_read" in self.__dict__ or not self._format.by_column:
            return numbers_of(self.table.column(name))
        data = self.snapshot.files[self.design]
        with undamaged(self.folder), parquet_of(data) as file:
            values = numbers_of(file.read([name]).column(name))
        known = next((entry.digest for entry in self.columns.columns if entry.name == name), None)
        if self.check and known is not None and column_digests([values]) != [known]:
            raise AuditError(f"{self.folder} is damaged: {name} is not as it was written", remedy=REBUILD)
        return values

    @cached_property
    def rows(self) -> RowMap:
        """The row map."""
        with undamaged(self.folder):
            some = self._some([SOURCE_ROW, LEARNING_ROW])
            numbers = {name: numbers_of(some.column(name)) for name in some.column_names}
            return _row_map(numbers, parquet_table(self.snapshot.files[ROWS]))

    @cached_property
    def imputed(self) -> pa.Table:
        """The cells that were filled."""
        with undamaged(self.folder):
            return parquet_table(self.snapshot.files[IMPUTED])

    @cached_property
    def seal(self) -> str:
        """A short fingerprint of all files."""
        return seal_of(self.snapshot)

    @property
    def side(self) -> pa.Table:
        """The table of the design file without the columns of X."""
        X = set(self._names(False))  # noqa: N806
        return self.table.select([name for name in self.table.column_names if name not in X])

    @property
    def length(self) -> int:
        """How many rows the matrix has."""
        return self.columns.rows.kept

    @property
    def audited(self) -> ColumnMap:
        """The column map, which has digests and fingerprints in a folder."""
        return self.columns

    @property
    def schema(self) -> pa.Schema:
        """The columns of the design file."""
        if not (self.is_large and self._format.by_column):
            return self.table.schema
        with undamaged(self.folder), parquet_of(self._whole) as file:
            return file.schema_arrow

    def blocks(self, rows: int, name: str | None = None, columns: list[str] | None = None) -> Iterator[pa.Table]:
        """Yield the rows of the design file, or of another file of the build, block by block.

        Matrix and response are as they are where somebody has them in hands, and may have changed them.

        Args:
            rows: of a block, at most.
            name: of a Parquet file; None for the design file.
            columns: those wanted; None for all.
        """
        blocks = self._blocks_of_file(rows, name, columns)
        held = self._held if name is None else {}
        if not held:
            yield from blocks
            return
        start = 0
        for table in blocks:
            stop = start + table.num_rows
            for at, each in enumerate(table.column_names):
                if each in held:
                    table = table.set_column(at, each, doubles(held[each][start:stop]))
            yield table
            start = stop

    def _blocks_of_file(self, rows: int, name: str | None, columns: list[str] | None) -> Iterator[pa.Table]:
        if name is None and not (self.is_large and self._format.by_column):  # all columns at once are read on threads
            table = self.table if columns is None else self.table.select(columns)
            for start in range(0, table.num_rows, rows):
                yield table.slice(start, rows)
            return
        data = self._whole if name is None else self.snapshot.files[name]
        with undamaged(self.folder), parquet_of(data) as file:
            for group in range(file.num_row_groups):  # one by one, as what has been read of others is kept
                for batch in file.iter_batches(rows, [group], columns):
                    yield pa.Table.from_batches([batch])
                release(data)

    @property
    def _held(self) -> dict[str, FloatArray]:
        """The columns of the matrix and of the response that were read, by name."""
        held = dict[str, FloatArray]()
        if "X" in self.__dict__ and not self._format.sparse:
            matrix: Any = self.X
            held |= zip(self._names(False), matrix.T, strict=True)
        if "y" in self.__dict__ and self.y is not None:
            held |= zip(self._names(True), self.y.T, strict=True)
        return held

    def _names(self, responses: bool) -> list[str]:
        """Return the names of the columns of X, or of the response."""
        return [entry.name for entry in self.columns.columns if (entry.role == RESPONSE) == responses]

    @property
    def kept(self) -> Array:
        """The source row number of each row of the matrix, without reading all of a large build."""
        return self.column(SOURCE_ROW).astype("int64")  # which a file of doubles holds as doubles

    @property
    def built(self) -> None:
        """No build is at hand."""

    @property
    def factor(self) -> None:
        """No triangular factor is known."""

    @property
    def is_large(self) -> bool:
        """Whether the design file is large."""
        return self.unread is not None

    def matrices(self, rows: int) -> Iterator[Matrices]:
        """Yield the rows of the design file as X, y and source row numbers, block by block."""
        if self._format.sparse or "X" in self.__dict__:
            yield from in_blocks(self.X, self.y, self.kept, rows)
            return
        names, responses = self._names(False), self._names(True)
        for table in self.blocks(rows):
            numbers = {name: numbers_of(table.column(name)) for name in [*names, *responses]}
            y = np.column_stack([numbers[name] for name in responses]) if responses else None
            X = np.asfortranarray(np.column_stack([numbers[name] for name in names]))  # noqa: N806
            yield X, y if y is None or y.shape[1] > 1 else y[:, 0], numbers_of(table.column(SOURCE_ROW))


@contextmanager
def undamaged(folder: Path) -> Iterator[None]:
    """Make one error of all that is raised while the files of a build are read.

    Raises:
        AuditError: where they are damaged.
    """
    try:
        yield
    except AuditError:
        raise
    except (*UNREADABLE, RecursionError, AttributeError, ValidationError, FacturumError) as problem:
        said = str(problem.args[0]) if isinstance(problem, KeyError) and problem.args else str(problem)
        first = (said.splitlines() or [type(problem).__name__])[0]
        raise AuditError(f"{folder} is damaged: {first}", remedy=REBUILD) from None


def digest_of(data: Buffer) -> str:
    """Return the SHA-256 of a file, of which little stays in memory."""
    digest = hashlib.sha256()
    view = memoryview(data)
    for start in range(0, len(view), _CHUNK):
        digest.update(view[start : start + _CHUNK])
        release(data)
    return digest.hexdigest()


def release(data: Buffer) -> None:
    """Let the system take back the memory that a mapped file has been read into."""
    if isinstance(data, mmap.mmap) and hasattr(mmap, "MADV_DONTNEED"):
        data.madvise(mmap.MADV_DONTNEED)


def numbers_of(column: pa.ChunkedArray) -> Array:
    """Return a column of numbers or truth values as an array, NaN where it is missing."""
    kind = pa.int64() if pa.types.is_integer(column.type) else pa.float64()
    if pa.types.is_boolean(column.type):
        kind = pa.bool_()
    values: Array = column.cast(kind).to_numpy()
    return values


def _row_map(numbers: Mapping[str, Array], dropped: pa.Table) -> RowMap:
    pairs = list(zip(dropped["reason"].to_pylist(), dropped["place"].to_pylist(), strict=True))
    distinct = {pair: at for at, pair in enumerate(dict.fromkeys(pairs))}
    source, learning = numbers[SOURCE_ROW], numbers[LEARNING_ROW]
    if not np.isfinite(source).all() or not np.isin(learning, (0, 1)).all() or dropped["row"].null_count:
        raise ValueError("source rows are numbers, and learning rows are true or false")
    return RowMap(
        source.astype(np.int64),
        learning.astype(bool),
        dropped["row"].cast(pa.int64()).to_numpy(),
        np.array([distinct[pair] for pair in pairs], dtype=np.int64),
        {at: pair for pair, at in distinct.items()},
    )


def seal_of(snapshot: Snapshot) -> str:
    """Return a short fingerprint of all files of a build, to be written into a report.

    Example:
        >>> seal_of(Snapshot({"a": b"1"}, ("a",)))
        '5082-bf1f-d682-2bc2-bd8e-0e5a'
    """
    return seal_of_digests(
        {name: digest_of(snapshot.files[name]) if name in snapshot.files else "" for name in snapshot.listed}
    )


def seal_of_digests(digests: Mapping[str, str]) -> str:
    """Return the same from the digests of the files."""
    lines = [f"{name} {digests[name]}" for name in sorted(digests)]
    digits = digest_of("\n".join(lines).encode())[:_SEAL]
    return "-".join(digits[at : at + 4] for at in range(0, _SEAL, 4))


def changed_sentence(name: str) -> str:
    return f"The file {name} is not as it was written."
