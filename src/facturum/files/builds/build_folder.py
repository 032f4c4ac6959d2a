"""The build folder: its files, and how it is opened again and checked."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator, Mapping
from itertools import product
from pathlib import Path
from typing import Any

from facturum.audit.map.entries import ColumnMap
from facturum.audit.map.row_map import LEARNING_ROW, SOURCE_ROW
from facturum.engine.planning.sections.spec import FORMAT, PlanSpec, spec_from
from facturum.errors import AuditError, DataError
from facturum.files.builds.build_writer import (
    COLUMNS,
    COLUMNS_CSV,
    DROPPED_SCHEMA,
    IMPUTED,
    IMPUTED_CSV,
    IMPUTED_SCHEMA,
    MARKER,
    RESOLVED,
    ROWS,
    ROWS_CSV,
    csv_of_entries,
    map_digest,
    marker_text,
)
from facturum.files.builds.csv_files import CsvForm, read_csv
from facturum.files.builds.formats import FORMATS, parquet_of
from facturum.files.builds.stored_build import REBUILD, Stored, changed_sentence, digest_of, seal_of_digests, undamaged
from facturum.files.folder import TOO_MANY, Buffer, Snapshot, read_folder
from facturum.files.learned_files import file_name, with_tables
from facturum.files.plan_file import parse_plan

LARGE = 2**23  # bytes of a design file, from which on it is read only where its rows are asked for


def own_files(folder: Path) -> Collection[str]:
    """Return the names of the files of a build.

    Raises:
        DataError: where the folder is not a build.
    """
    if not (folder / MARKER).is_file():
        raise DataError(f"{folder} is not a Facturum build, and is not changed", remedy="Choose another folder.")
    learned = [path.name for path in folder.glob(file_name("*"))]
    return {
        MARKER,
        COLUMNS,
        COLUMNS_CSV,
        ROWS,
        IMPUTED,
        RESOLVED,
        ROWS_CSV,
        IMPUTED_CSV,
        *[f"design.{form}" for form in FORMATS],
        *learned,
    }


def refuse_others(folder: Path) -> None:
    """Refuse a folder that is not a build.

    Raises:
        AuditError: where it is not.
    """
    if not (folder / MARKER).is_file():
        raise _not_a_build(folder)


def seal_in(folder: Path) -> str:
    """Return the seal of a build that was just written, from the digests that its marker holds.

    Raises:
        AuditError: where the folder is not a build.
    """
    marker = (folder / MARKER).read_bytes()
    digests = {**_marker(marker)["files"], MARKER: digest_of(marker)}
    return seal_of_digests({path.name: digests.get(path.name, "") for path in folder.iterdir()})


def _not_a_build(folder: Path) -> AuditError:
    return AuditError(f"{folder} is not a Facturum build", remedy="Name the folder that a build was written to.")


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
        if isinstance(problem, OSError) and problem.errno in TOO_MANY:
            raise AuditError(
                f"{folder} cannot be opened: {problem.strerror}", remedy="Allow more open files: ulimit -n 256."
            ) from None
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


def findings_of(snapshot: Snapshot, marker: Mapping[str, Any], but: str | None = None) -> Iterator[tuple[str, str]]:
    """Yield which files of a build were changed, are missing or were added, each with a sentence.

    Args:
        snapshot: its files.
        marker: what they should be.
        but: a file whose content is not looked at.
    """
    wanted = {marker["design"], COLUMNS, COLUMNS_CSV, ROWS, IMPUTED, RESOLVED}
    for name in sorted(wanted | set(marker["files"])):
        if name not in snapshot.files:
            yield name, f"The file {name} is missing from the build."
        elif name not in marker["files"]:
            yield name, f"The file {name} is not among those that {MARKER} lists."
        elif name != but and digest_of(snapshot.files[name]) != marker["files"][name]:
            yield name, changed_sentence(name)
    if bytes(snapshot.files[MARKER]) != marker_text(marker["design"], marker["map"], marker["files"]):
        yield MARKER, changed_sentence(MARKER)
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
    """Open a build folder; a design file that is large is not read yet.

    Args:
        folder: the folder.
        check: whether files that are not as they were written are refused; otherwise they are among the findings.

    Raises:
        AuditError: where the folder is not a build, or a file of it is missing, changed, added, damaged or a link.
    """
    folder = Path(folder)
    snapshot, marker = snapshot_of(folder)
    design = marker["design"]
    large = len(snapshot.files.get(design, b"")) > LARGE and design in marker["files"]
    findings = tuple(findings_of(snapshot, marker, design if large else None))
    if check and findings:
        raise AuditError(f"{folder} is damaged: {findings[0][1]}", remedy=REBUILD)
    with undamaged(folder):
        files = snapshot.files
        content = json.loads(bytes(files[COLUMNS]))
        columns = ColumnMap.model_validate_json(bytes(files[COLUMNS]))
        resolved = parse_plan(bytes(files[RESOLVED]).decode("utf-8"), RESOLVED)
        resolved = with_tables(resolved, lambda name: files[name])
        names = [SOURCE_ROW, LEARNING_ROW, *[entry.name for entry in columns.columns]]
        if len(set(names)) < len(names):
            raise ValueError("two columns of the map have one name")
        more = [*_inner_findings(files, content, resolved, marker)]
        unread = marker["files"][design] if large else None
        stored = Stored(folder, snapshot, design, columns, resolved, (*findings, *more), unread, check)
        if check and more:
            raise AuditError(more[0][1])
        if not large:
            stored.X, stored.y, stored.rows, stored.imputed  # noqa: B018 - read now, so that damage shows here
        return stored


def _column_files(entries: list[dict[str, Any]]) -> Iterator[bytes]:
    """Yield the file of the columns as it is written, in all forms that there are."""
    for delimiter, decimal, mark in product((",", ";", "\t", "|"), (".", ","), (False, True)):
        yield csv_of_entries(entries, CsvForm(delimiter, decimal, mark))
    yield csv_of_entries(entries, nested=True)


def _inner_findings(
    files: Mapping[str, Buffer], content: Mapping[str, Any], resolved: PlanSpec, marker: Mapping[str, Any]
) -> Iterator[tuple[str, str]]:
    """Yield where files of a build that hold the same contents do not agree.

    What the files hold is compared, not what this version would write: another one may have made them.
    """
    if map_digest(content) != marker["map"]:
        yield COLUMNS, "The column map has changed since it was written."
    if content.get("facturum") != FORMAT:
        yield COLUMNS, f"The column map is of format {content.get('facturum')}, and this version reads format {FORMAT}."
    if not any(bytes(files.get(COLUMNS_CSV, b"")) == each for each in _column_files(content["columns"])):
        yield COLUMNS_CSV, f"{COLUMNS_CSV} does not agree with {COLUMNS}."
    for name, same, schema in ((ROWS_CSV, ROWS, DROPPED_SCHEMA), (IMPUTED_CSV, IMPUTED, IMPUTED_SCHEMA)):
        if name in files:
            with parquet_of(files[same]) as file:
                wanted = file.read()
            if not read_csv(files[name], dict(zip(schema.names, schema.types, strict=True))).equals(wanted):
                yield name, f"{name} does not agree with {same}."
    if resolved.model_dump(exclude_defaults=True) != spec_from(content["resolved"]).model_dump(exclude_defaults=True):
        yield RESOLVED, f"{RESOLVED} is not the resolved plan that {COLUMNS} holds."
