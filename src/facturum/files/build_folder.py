"""The build folder: its files, and how it is opened again and checked."""

from __future__ import annotations

import csv
import hashlib
import io
import json
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from pyarrow import csv as arrow_csv
from pyarrow import parquet
from pydantic import ValidationError

from facturum.audit.entries import ColumnMap
from facturum.audit.row_map import LEARNING_ROW, SOURCE_ROW, RowMap
from facturum.data.values import Array
from facturum.engine.passes.outline import RESPONSE
from facturum.engine.planning.spec import FORMAT, PlanSpec
from facturum.errors import AuditError, DataError, FacturumError
from facturum.files.build_writer import (
    COLUMNS,
    COLUMNS_CSV,
    FORMATS,
    IMPUTED,
    MARKER,
    RESOLVED,
    ROWS,
    columns_csv,
    map_digest,
    marker_text,
)
from facturum.files.file_scans import UNREADABLE
from facturum.files.folder import Buffer, Snapshot, read_folder
from facturum.files.plan_file import parse_plan
from facturum.files.sparse_file import read_sparse
from facturum.numerics.sparse import SparseColumns

_SEAL = 24  # hexadecimal digits of a seal: 96 bits


@dataclass(frozen=True)
class Stored:
    """What a build folder holds.

    Args:
        numbers: the numeric columns by name, the source row among them.
        table: the table of the design file.
        columns, rows: the maps.
        resolved: the resolved plan.
        imputed: the cells that were filled.
        findings: what is not as it was written: the file, and a sentence.
        seal: a short fingerprint of all files.
        cells: the columns of X, of a sparse design; its table and numbers have only the others.
    """

    numbers: Mapping[str, Array]
    table: pa.Table
    columns: ColumnMap
    rows: RowMap
    resolved: PlanSpec
    imputed: pa.Table
    findings: tuple[tuple[str, str], ...]
    seal: str
    cells: SparseColumns | None = None

    @property
    def side(self) -> pa.Table:
        """The table of the design file without the columns of X."""
        X = {entry.name for entry in self.columns.columns if entry.role != RESPONSE}  # noqa: N806
        return self.table.select([name for name in self.table.column_names if name not in X])

    @property
    def audited(self) -> ColumnMap:
        """The column map, which has digests and fingerprints in a folder."""
        return self.columns


def own_files(folder: Path) -> Collection[str]:
    """Return the names of the files of a build.

    Raises:
        DataError: where the folder is not a build.
    """
    if not (folder / MARKER).is_file():
        raise DataError(f"{folder} is not a Facturum build, and is not changed", remedy="Choose another folder.")
    return {MARKER, COLUMNS, COLUMNS_CSV, ROWS, IMPUTED, RESOLVED, *[f"design.{form}" for form in FORMATS]}


def refuse_others(folder: Path) -> None:
    """Refuse a folder that is not a build.

    Raises:
        AuditError: where it is not.
    """
    if not (folder / MARKER).is_file():
        raise _not_a_build(folder)


def _not_a_build(folder: Path) -> AuditError:
    return AuditError(f"{folder} is not a Facturum build", remedy="Name the folder that build --out wrote.")


def snapshot_of(folder: Path) -> tuple[Snapshot, dict[str, Any]]:
    """Return the files of a build as they are at one moment, and the contents of its marker.

    Raises:
        AuditError: where the folder is not a build, or its marker cannot be read.
    """
    try:
        snapshot = read_folder(folder, lambda marker: list(_marker(marker)["files"]), MARKER)
        return snapshot, _marker(bytes(snapshot.files[MARKER]))
    except (FileNotFoundError, NotADirectoryError):
        raise _not_a_build(folder) from None
    except (OSError, ValueError, RecursionError, KeyError, TypeError, AttributeError) as problem:
        first = (str(problem).splitlines() or [type(problem).__name__])[0]
        raise AuditError(f"{folder} is damaged: {MARKER} cannot be read: {first}", remedy="Build it anew.") from None


def _marker(data: bytes) -> dict[str, Any]:
    marker = json.loads(data.decode("utf-8"))
    version = marker["facturum"]
    if version != FORMAT or isinstance(version, bool):
        raise AuditError(
            f"the build is of format {version!r}, and this version reads format {FORMAT}",
            remedy="Use the version of Facturum that wrote it, or build it anew.",
        )
    design = f"design.{str(marker['design']).rpartition('.')[2]}"
    files = {str(name): str(digest) for name, digest in marker["files"].items()}
    return {"design": design, "files": files, "map": str(marker["map"])}


def findings_of(snapshot: Snapshot, marker: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """Yield which files of a build were changed, are missing or were added, each with a sentence."""
    wanted = {marker["design"], COLUMNS, COLUMNS_CSV, ROWS, IMPUTED, RESOLVED}
    for name in sorted(wanted | set(marker["files"])):
        if name not in snapshot.files:
            yield name, f"The file {name} is missing from the build."
        elif name not in marker["files"]:
            yield name, f"The file {name} is not among those that {MARKER} lists."
        elif _digest(snapshot.files[name]) != marker["files"][name]:
            yield name, f"The file {name} is not as it was written."
    if bytes(snapshot.files[MARKER]) != marker_text(marker["design"], marker["map"], marker["files"]):
        yield MARKER, f"The file {MARKER} is not as it was written."
    for name in snapshot.listed:
        if name not in wanted | set(marker["files"]) | {MARKER}:
            yield name, f"The file {name} was added to the build."


def changed_files(folder: Path) -> list[tuple[str, str]]:
    """Return which files of a build are not as they were written, as far as its marker can be read."""
    try:
        return list(findings_of(*snapshot_of(folder)))
    except AuditError:
        return []


def read_build(folder: str | Path, check: bool = True) -> Stored:
    """Read a build folder.

    Args:
        folder: the folder.
        check: whether files that are not as they were written are refused; otherwise they are among the findings.

    Raises:
        AuditError: where the folder is not a build, or a file of it is missing, changed, added, damaged or a link.
    """
    folder = Path(folder)
    snapshot, marker = snapshot_of(folder)
    findings = tuple(findings_of(snapshot, marker))
    remedy = "Build it anew, or run verify to see all that is not as it was written."
    if check and findings:
        raise AuditError(f"{folder} is damaged: {findings[0][1]}", remedy=remedy)
    try:
        stored = _stored(snapshot, marker, findings)
        if check and stored.findings:
            raise AuditError(stored.findings[0][1])
        return stored
    except (*UNREADABLE, RecursionError, AttributeError, ValidationError, FacturumError) as problem:
        said = str(problem.args[0]) if isinstance(problem, KeyError) and problem.args else str(problem)
        first = (said.splitlines() or [type(problem).__name__])[0]
        raise AuditError(f"{folder} is damaged: {first}", remedy=remedy) from None


def _stored(snapshot: Snapshot, marker: Mapping[str, Any], findings: tuple[tuple[str, str], ...]) -> Stored:
    files = snapshot.files
    columns = ColumnMap.model_validate_json(bytes(files[COLUMNS]))
    dropped, imputed = _parquet(files[ROWS]), _parquet(files[IMPUTED])
    resolved = parse_plan(bytes(files[RESOLVED]).decode("utf-8"), RESOLVED)
    names = [SOURCE_ROW, LEARNING_ROW, *[entry.name for entry in columns.columns]]
    if len(set(names)) < len(names):
        raise ValueError("two columns of the map have one name")
    cells: SparseColumns | None = None
    if marker["design"].endswith(".npz"):
        design, cells = read_sparse(files[marker["design"]], columns)
        names = design.column_names
    else:
        design = _read_design(files[marker["design"]], marker["design"], names)
    numbers = {name: _numbers(design.column(name)) for name in names}
    rows = _row_map(numbers, dropped)
    more = [*_inner_findings(files, columns, resolved, marker)]
    return Stored(numbers, design, columns, rows, resolved, imputed, (*findings, *more), seal_of(snapshot), cells)


def _inner_findings(
    files: Mapping[str, Buffer], columns: ColumnMap, resolved: PlanSpec, marker: Mapping[str, Any]
) -> Iterator[tuple[str, str]]:
    """Yield where files of a build that hold the same contents do not agree."""
    if map_digest(columns) != marker["map"]:
        yield COLUMNS, "The column map has changed since it was written."
    if columns.facturum != FORMAT:
        yield COLUMNS, f"The column map is of format {columns.facturum}, and this version reads format {FORMAT}."
    if bytes(files.get(COLUMNS_CSV, b"")) != columns_csv(columns).encode():
        yield COLUMNS_CSV, f"{COLUMNS_CSV} does not agree with {COLUMNS}."
    if resolved.model_dump(exclude_defaults=True) != columns.resolved:
        yield RESOLVED, f"{RESOLVED} is not the resolved plan that {COLUMNS} holds."


def seal_of(snapshot: Snapshot) -> str:
    """Return a short fingerprint of all files of a build, to be written into a report.

    Example:
        >>> seal_of(Snapshot({"a": b"1"}, ("a",)))
        '5082-bf1f-d682-2bc2-bd8e-0e5a'
    """
    lines = [
        f"{name} {_digest(snapshot.files[name]) if name in snapshot.files else ''}" for name in sorted(snapshot.listed)
    ]
    digits = _digest("\n".join(lines).encode())[:_SEAL]
    return "-".join(digits[at : at + 4] for at in range(0, _SEAL, 4))


def _digest(data: Buffer) -> str:
    return hashlib.sha256(data).hexdigest()


def _parquet(data: Buffer) -> pa.Table:
    with parquet.ParquetFile(pa.BufferReader(pa.py_buffer(data))) as file:
        table = file.read()
    table.validate(full=True)
    return table


def _read_design(data: Buffer, name: str, names: list[str]) -> pa.Table:
    if name.endswith(".parquet"):
        return _parquet(data)
    if name.endswith(".csv"):
        head = next(csv.reader(io.StringIO(bytes(data).decode("utf-8"))), [])
        kinds = dict.fromkeys(head, pa.string()) | dict.fromkeys(names[2:], pa.float64())
        kinds |= {SOURCE_ROW: pa.int64(), LEARNING_ROW: pa.bool_()}
        options = arrow_csv.ConvertOptions(
            column_types=kinds, null_values=[""], strings_can_be_null=True, quoted_strings_can_be_null=False
        )
        parse = arrow_csv.ParseOptions(newlines_in_values=True)
        return arrow_csv.read_csv(pa.BufferReader(pa.py_buffer(data)), parse_options=parse, convert_options=options)
    matrix = np.load(io.BytesIO(bytes(data)), allow_pickle=False)
    if matrix.ndim != 2 or matrix.shape[1] != len(names) or matrix.dtype != np.float64:
        raise ValueError("the matrix has another number of columns than the map")
    return pa.table({each: matrix[:, at] for at, each in enumerate(names)})


def _numbers(column: pa.ChunkedArray) -> Array:
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
