"""The build folder: written whole or not at all, and opened again."""

from __future__ import annotations

import csv
import json
import os
import shutil
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from pyarrow import csv as arrow_csv
from pyarrow import parquet
from pydantic import ValidationError

from facturum.audit.entries import ColumnMap
from facturum.audit.row_map import RowMap
from facturum.audit.treatments import FilledCells
from facturum.data.values import Array
from facturum.engine.spec import FORMAT, PlanSpec
from facturum.errors import AuditError, DataError, PlanError
from facturum.files.plan_file import load_plan, plan_text
from facturum.files.tables import read_parquet

MARKER = "facturum-build.json"
FORMATS = ("parquet", "csv", "npy")
SOURCE_ROW, LEARNING_ROW = "source_row", "learning_row"
_RISKY = ("=", "+", "-", "@", "\t", "\r")


def write_folder(target: Path, write: Callable[[Path], None], replace: bool = False) -> None:
    """Write a folder whole or not at all.

    Args:
        target: where; a folder already there is replaced only when told, and only if it is a build of ours.
        write: fills an empty folder beside the target.
        replace: whether an old build may be replaced.

    Raises:
        DataError: where the folder is there already, is not ours, or cannot be written; the old state stays.
    """
    target = Path(os.path.abspath(target))
    part, old = _beside(target, "part"), _beside(target, "old")
    _clean_up(target)
    if target.exists() or target.is_symlink():
        if not replace:
            raise DataError(f"{target} is there already", remedy="Choose another folder, or replace it (--replace).")
        if target.is_symlink() or not (target / MARKER).is_file():
            raise DataError(f"{target} is no build of Facturum, and is left alone", remedy="Choose another folder.")
    try:
        part.mkdir(parents=True)
        write(part)
        for file in part.iterdir():
            _settle(file)
        if target.exists():
            target.rename(old)
        part.rename(target)
    except BaseException as problem:
        if old.exists() and not target.exists():
            old.rename(target)
        shutil.rmtree(part, ignore_errors=True)
        if isinstance(problem, OSError | pa.ArrowException):
            raise DataError(
                f"{target} could not be written: {problem}",
                remedy="Nothing was changed; make room, or choose another place.",
            ) from None
        raise
    shutil.rmtree(old, ignore_errors=True)


def _beside(target: Path, kind: str) -> Path:
    return target.with_name(f".{target.name}.facturum-{kind}")


def _clean_up(target: Path) -> None:
    """Undo what a killed build left: an old build moved aside comes back, a part of a new one goes."""
    part, old = _beside(target, "part"), _beside(target, "old")
    if old.exists():
        if target.exists():
            shutil.rmtree(old)
        else:
            old.rename(target)
    if part.exists():
        shutil.rmtree(part)


def _settle(file: Path) -> None:
    with file.open("rb") as handle:
        os.fsync(handle.fileno())


def write_build(
    folder: Path,
    design: pa.Table,
    matrix: Sequence[str],
    columns: ColumnMap,
    rows: RowMap,
    resolved: PlanSpec,
    form: str,
    imputed: pa.Table,
) -> None:
    """Fill a folder with the files of a build.

    Args:
        folder: an empty folder.
        design: the table of the design file.
        matrix: the names of its numeric columns, for the .npy form.
        columns, rows: the maps.
        resolved: the resolved plan.
        form: parquet, csv or npy.
        imputed: each cell that was filled.
    """
    if form == "parquet":
        parquet.write_table(design, folder / "design.parquet", compression="zstd", use_dictionary=False)
    elif form == "csv":
        arrow_csv.write_csv(design, folder / "design.csv")
    else:
        np.save(
            folder / "design.npy", np.column_stack([design[name].to_numpy() for name in matrix]), allow_pickle=False
        )
    content = columns.model_dump(mode="json")
    (folder / "columns.json").write_text(
        json.dumps(content, indent=1, ensure_ascii=False, allow_nan=False) + "\n", "utf-8"
    )
    _write_columns_csv(folder / "columns.csv", columns)
    parquet.write_table(_dropped_table(rows), folder / "rows.parquet", compression="zstd")
    parquet.write_table(imputed, folder / "imputed.parquet", compression="zstd")
    (folder / "plan.resolved.toml").write_text(plan_text(resolved), "utf-8")
    (folder / MARKER).write_text(json.dumps({"facturum": FORMAT, "design": f"design.{form}"}) + "\n", "utf-8")


def imputed_table(cells: Sequence[FilledCells]) -> pa.Table:
    """Return cells that were filled as a table: the number of the imputation, the source row, what was put in."""
    numbers = [np.full(len(part.rows), part.imputation) for part in cells]
    fills = [fill for part in cells for fill in part.fills]
    texts = pa.array([fill if isinstance(fill, str) else None for fill in fills], pa.string())
    values = pa.array([None if isinstance(fill, str) else fill for fill in fills], pa.float64())
    return pa.table(
        {
            "imputation": pa.array(np.concatenate(numbers) if numbers else [], pa.int64()),
            "source_row": pa.array(np.concatenate([part.rows for part in cells]) if cells else [], pa.int64()),
            "fill": values,
            "fill_text": texts,
        }
    )


def _dropped_table(rows: RowMap) -> pa.Table:
    reasons = [rows.reasons[int(cause)] for cause in rows.causes]
    return pa.table(
        {
            "row": pa.array(rows.dropped, pa.int64()),
            "reason": pa.array([reason for reason, _ in reasons], pa.string()),
            "place": pa.array([place for _, place in reasons], pa.string()),
        }
    )


def _write_columns_csv(path: Path, columns: ColumnMap) -> None:
    with path.open("w", encoding="utf-8", newline="") as handle:
        writer = csv.writer(handle, lineterminator="\n")
        names = list(type(columns.columns[0]).model_fields)
        writer.writerow(names)
        for entry in columns.columns:
            row = entry.model_dump(mode="json")
            writer.writerow([neutral(row[name]) for name in names])


def neutral(value: Any) -> Any:
    """Return a cell that a spreadsheet will not take for a formula.

    Example:
        >>> neutral("=1+1"), neutral(-1.5), neutral(["a", "b"])
        ("'=1+1", -1.5, 'a, b')
    """
    if isinstance(value, list):
        value = ", ".join(map(str, value))
    return "'" + value if isinstance(value, str) and value.startswith(_RISKY) else value


def read_build(folder: str | Path) -> tuple[dict[str, Array], pa.Table, ColumnMap, RowMap, PlanSpec, pa.Table]:
    """Read a build folder.

    Returns:
        The numeric columns by name (the source row among them), the design table, the maps, the resolved
        plan, and the cells that were filled.

    Raises:
        AuditError: where the folder is no build, or a file of it is missing, damaged or a link.
    """
    folder = Path(folder)
    if not (folder / MARKER).is_file():
        raise AuditError(f"{folder} is no build of Facturum", remedy="Name the folder that build --out wrote.")
    try:
        marker = json.loads(_own(folder, MARKER).read_text("utf-8"))
        name = f"design.{str(marker['design']).rpartition('.')[2]}"
        columns = ColumnMap.model_validate_json(_own(folder, "columns.json").read_text("utf-8"))
        dropped = read_parquet(_own(folder, "rows.parquet"))
        imputed = read_parquet(_own(folder, "imputed.parquet"))
        resolved = load_plan(_own(folder, "plan.resolved.toml"))
        names = [SOURCE_ROW, LEARNING_ROW, *[entry.name for entry in columns.columns]]
        design = _read_design(_own(folder, name), names)
        numbers = {name: _numbers(design[name]) for name in names}
    except (OSError, ValueError, KeyError, TypeError, pa.ArrowException, ValidationError, PlanError) as problem:
        raise AuditError(f"{folder} is damaged: {str(problem).splitlines()[0]}", remedy="Build it anew.") from None
    return numbers, design, columns, _row_map(numbers, dropped), resolved, imputed


def _own(folder: Path, name: str) -> Path:
    path = folder / name
    if path.is_symlink() or not path.is_file():
        raise AuditError(f"{folder} has no file {name} of its own", remedy="Build it anew.")
    return path


def _read_design(path: Path, names: list[str]) -> pa.Table:
    if path.suffix == ".parquet":
        return read_parquet(path)
    if path.suffix == ".csv":
        kinds = {name: pa.float64() for name in names[2:]} | {SOURCE_ROW: pa.int64(), LEARNING_ROW: pa.bool_()}
        return arrow_csv.read_csv(path, convert_options=arrow_csv.ConvertOptions(column_types=kinds))
    data = np.load(path, allow_pickle=False)
    return pa.table({name: data[:, at] for at, name in enumerate(names)})


def _numbers(column: pa.ChunkedArray) -> Array:
    kind = pa.int64() if pa.types.is_integer(column.type) else pa.float64()
    if pa.types.is_boolean(column.type):
        kind = pa.bool_()
    values: Array = column.cast(kind).to_numpy()
    return values


def _row_map(numbers: Mapping[str, Array], dropped: pa.Table) -> RowMap:
    pairs = list(zip(dropped["reason"].to_pylist(), dropped["place"].to_pylist(), strict=True))
    distinct = list(dict.fromkeys(pairs))
    return RowMap(
        numbers[SOURCE_ROW].astype(np.int64),
        numbers[LEARNING_ROW].astype(bool),
        dropped["row"].to_numpy(),
        np.array([distinct.index(pair) for pair in pairs], dtype=np.int64),
        dict(enumerate(distinct)),
    )
