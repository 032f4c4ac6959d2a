"""Verifying a design: in memory, or in parts where the build or its source is large."""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from facturum.audit.proof.content import content_failures, row_failures, table_failures, words_note
from facturum.audit.proof.verify import Failure, Verification, verify
from facturum.audit.source.fingerprints import column_digests, sparse_digests
from facturum.data.table import TableLike
from facturum.data.values import FloatArray
from facturum.errors import AuditError, FacturumError, bounded
from facturum.files.builds.built_design import FromBuild, Origin
from facturum.files.builds.stored_build import Stored
from facturum.files.given.as_found import form_of
from facturum.files.parts.portions import Portions
from facturum.files.parts.verifying import InOtherOrder, verify_in_parts
from facturum.files.scans.file_scans import TEXT
from facturum.files.scans.text_tables import line_of_rows

if TYPE_CHECKING:
    from facturum.api.design import Design


def verified(
    design: Design, origin: Origin, table: TableLike, history: TableLike | None, series: Mapping[str, Any] | None
) -> Verification:
    """Return whether a design still follows from its source, as `Design.verify` does."""
    outcome = _verified(design, origin, table, history, series)
    offset = None if outcome.ok else _lines_ahead(design, table)
    if offset is None:
        return outcome
    return replace(outcome, failures=tuple(_with_lines(failure, offset) for failure in outcome.failures))


def _with_lines(failure: Failure, offset: int) -> Failure:
    """Return a failure with the lines of its rows in a text file."""
    rows = [failure.at] if failure.at is not None else failure.rows if failure.kind in ("rows", "column") else []
    return replace(failure, lines=tuple(row + offset for row in rows))


def _lines_ahead(design: Design, table: TableLike) -> int | None:
    """Return how far the lines of a text file are ahead of the rows that a plan is built of; None where that varies."""
    spec = design.plan.spec
    if not isinstance(table, str | Path) or Path(table).suffix.lower() not in TEXT or spec.stack or spec.convert:
        return None
    with suppress(FacturumError, OSError):
        return line_of_rows(Path(table), form_of(spec, Path(table)))
    return None


def _verified(
    design: Design, origin: Origin, table: TableLike, history: TableLike | None, series: Mapping[str, Any] | None
) -> Verification:
    if isinstance(origin, Stored) and history is None and _in_parts(design, origin, table):
        with bounded(), suppress(InOtherOrder):
            tables = design.plan._inputs.series_tables(series)
            return verify_in_parts(origin, design.plan._inputs.scan(table), tables, Portions())
    try:
        return _in_memory(design, origin, table, history, series)
    except AuditError as error:  # a file of the build that cannot be read is what verifying is there to find
        failures = [Failure("file", name, what) for name, what in origin.findings]
        if not failures:
            failures = [Failure("file", "", f"The build cannot be read: {error.what}.")]
        return Verification((*failures,), 0, 0, False, 0)


def _in_memory(
    design: Design, origin: Origin, table: TableLike, history: TableLike | None, series: Mapping[str, Any] | None
) -> Verification:
    stored = origin.audited
    y = None if design.y is None else design.y.reshape(len(design.y), -1)
    responses = {} if y is None else {name: y[:, at] for at, name in enumerate(design.response_names)}
    cells = design._cells
    matrix: Mapping[str, FloatArray] = (
        {name: design.X[:, at] for at, name in enumerate(design.names)} if cells is None else cells.named(design.names)
    )
    marks = column_digests(list(matrix.values())) if cells is None else sparse_digests(cells)
    digests = dict(zip(matrix, marks, strict=True))
    digests |= dict(zip(responses, column_digests(list(responses.values())), strict=True))
    with bounded():
        given = design.plan._inputs.given(table, history, series)
        columns = ChainMap(responses, matrix)  # type: ignore[arg-type]
        outcome, anew = verify(stored, columns, digests, design.rows.kept, given, cells is not None)
    failures = [Failure("file", name, what) for name, what in origin.findings]
    notes: tuple[str, ...] = ()
    if anew is not None and outcome.ok:
        made = FromBuild(*anew)
        failures += _content_failures(design, origin, made, outcome.exact)
        notes = words_note(stored, made.audited)
    return replace(outcome, failures=(*failures, *outcome.failures), notes=notes)


def _in_parts(design: Design, stored: Stored, table: TableLike) -> bool:
    """Return whether verifying holds little of a build and its source at a time, or compares both in memory."""
    if stored.cells is not None or not design.plan._inputs.streams:
        return False
    return (
        stored.unread is not None or bool((np.diff(design.rows.kept) < 1).any()) or design.plan._inputs.is_large(table)
    )


def _content_failures(design: Design, origin: Origin, anew: FromBuild, exact: bool) -> Iterator[Failure]:
    """Compare everything else in a build, its maps and the cells beside its columns, with the build made anew."""
    yield from content_failures(origin.audited, anew.audited, exact)
    yield from row_failures(design.rows, anew.rows)
    checked_before = set(design.names + design.response_names)
    if design._cells is None:
        own, other = design.to_arrow(), anew.table
    else:  # whose file has neither the columns of X nor carried variables in its table
        own, other = origin.side, anew.side
        other = other.select([name for name in other.column_names if name in own.column_names])
    yield from table_failures(own, other, "the design file", checked_before)
    yield from table_failures(design.imputed, anew.imputed, "the list of imputed cells")
