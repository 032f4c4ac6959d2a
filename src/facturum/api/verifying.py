"""Verifying a design: in memory, or in parts where the build or its source is large."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from facturum.audit.proof.verify import Failure, Verification
from facturum.data.table import TableLike
from facturum.errors import FacturumError, bounded
from facturum.files.builds.built_design import Origin
from facturum.files.given.as_found import form_of
from facturum.files.given.inputs import PlanInputs
from facturum.files.parts.portions import Portions
from facturum.files.scans.file_scans import TEXT
from facturum.files.scans.text_tables import line_of_rows
from facturum.files.verifying.sources import SourceNow, source_in_memory, source_in_parts
from facturum.files.verifying.verifying import verify

if TYPE_CHECKING:
    from facturum.api.design import Design


def verified(
    design: Design, origin: Origin, table: TableLike, history: TableLike | None, series: Mapping[str, Any] | None
) -> Verification:
    """Return whether a design still follows from its source, as `Design.verify` does."""
    with bounded():
        now = _source(design, origin, table, history, series)
        outcome = verify(origin, now)
    offset = None if outcome.ok else _lines_ahead(design, table)
    if offset is None:
        return outcome
    return replace(outcome, failures=tuple(_with_lines(failure, offset, now.rows) for failure in outcome.failures))


def _with_lines(failure: Failure, offset: int, most: int | None) -> Failure:
    """Return a failure with the lines of its rows in a text file, as far as this has so many rows."""
    rows = [failure.at] if failure.at is not None else failure.rows if failure.kind in ("rows", "column") else []
    return replace(failure, lines=tuple(row + offset for row in rows if most is None or row <= most))


def _lines_ahead(design: Design, table: TableLike) -> int | None:
    """Return how far the lines of a text file are ahead of the rows that a plan is built of; None where that varies."""
    spec = design.plan.spec
    if not isinstance(table, str | Path) or Path(table).suffix.lower() not in TEXT or spec.stack or spec.convert:
        return None
    with suppress(FacturumError, OSError):
        return line_of_rows(Path(table), form_of(spec, Path(table)))
    return None


def _source(
    design: Design, origin: Origin, table: TableLike, history: TableLike | None, series: Mapping[str, Any] | None
) -> SourceNow:
    inputs, columns = design.plan._inputs, origin.audited
    if history is None and inputs.streams and _is_large(origin, inputs, table):
        tables = inputs.series_tables(series)
        return source_in_parts(columns, inputs.scan(table), tables, _place_of(origin), Portions())
    return source_in_memory(columns, inputs.given(table, history, series))


def _is_large(origin: Origin, inputs: PlanInputs, table: TableLike) -> bool:
    """Return whether verifying holds little of a build and its source at a time."""
    if origin.folder is None or origin.cells is not None:
        return False
    return origin.is_large or inputs.is_large(table)


def _place_of(origin: Origin) -> Path:
    """Return where files without names are put: beside the build, where that can be written."""
    beside = None if origin.folder is None else origin.folder.absolute().parent
    return beside if beside is not None and os.access(beside, os.W_OK) else Path(tempfile.gettempdir())
