"""Verifying a design: in memory, or in parts where the build or its source is large."""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from facturum.audit.fingerprints import column_digests, sparse_digests
from facturum.audit.proof.content import content_failures, row_failures, table_failures, words_note
from facturum.audit.proof.verify import Failure, Verification, verify
from facturum.data.values import FloatArray
from facturum.errors import AuditError, bounded
from facturum.files.builds.built_design import FromBuild, Origin
from facturum.files.builds.stored_build import Stored
from facturum.files.parts.portions import Portions
from facturum.files.parts.verifying import InOtherOrder, verify_in_parts

if TYPE_CHECKING:
    from facturum.design import Design


def verified(
    design: Design, origin: Origin, table: Any, history: Any, series: Mapping[str, Any] | None
) -> Verification:
    """Return whether a design still follows from its source, as `Design.verify` does."""
    if isinstance(origin, Stored) and history is None and _in_parts(design, origin, table):
        with bounded(), suppress(InOtherOrder):
            tables = design.plan.series_tables(series)
            return verify_in_parts(origin, design.plan.scan(table), tables, Portions())
    try:
        return _in_memory(design, origin, table, history, series)
    except AuditError as error:  # a file of the build that cannot be read is what verifying is there to find
        failures = [Failure("file", name, what) for name, what in origin.findings]
        if not failures:
            failures = [Failure("file", "", f"The build cannot be read: {error.what}.")]
        return Verification((*failures,), 0, 0, False, 0)


def _in_memory(
    design: Design, origin: Origin, table: Any, history: Any, series: Mapping[str, Any] | None
) -> Verification:
    stored = origin.audited
    y = None if design.y is None else design.y.reshape(len(design.y), -1)
    responses = {} if y is None else {name: y[:, at] for at, name in enumerate(design.response_names)}
    cells = design.cells
    matrix: Mapping[str, FloatArray] = (
        {name: design.X[:, at] for at, name in enumerate(design.names)} if cells is None else cells.named(design.names)
    )
    marks = column_digests(list(matrix.values())) if cells is None else sparse_digests(cells)
    digests = dict(zip(matrix, marks, strict=True))
    digests |= dict(zip(responses, column_digests(list(responses.values())), strict=True))
    with bounded():
        given = design.plan.given(table, history, series)
        columns = ChainMap(responses, matrix)  # type: ignore[arg-type]
        outcome, anew = verify(stored, columns, digests, design.rows.kept, given, cells is not None)
    failures = [Failure("file", name, what) for name, what in origin.findings]
    notes: tuple[str, ...] = ()
    if anew is not None and outcome.ok:
        made = FromBuild(*anew)
        failures += _content_failures(design, origin, made, outcome.exact)
        notes = words_note(stored, made.audited)
    return replace(outcome, failures=(*failures, *outcome.failures), notes=notes)


def _in_parts(design: Design, stored: Stored, table: Any) -> bool:
    """Return whether verifying holds little of a build and its source at a time, or compares both in memory."""
    if stored.cells is not None or not design.plan.streams:
        return False
    return stored.unread is not None or bool((np.diff(design.rows.kept) < 1).any()) or design.plan.is_large(table)


def _content_failures(design: Design, origin: Origin, anew: FromBuild, exact: bool) -> Iterator[Failure]:
    """Compare everything else in a build, its maps and the cells beside its columns, with the build made anew."""
    yield from content_failures(origin.audited, anew.audited, exact)
    yield from row_failures(design.rows, anew.rows)
    checked_before = set(design.names + design.response_names)
    if design.cells is None:
        own, other = design.to_arrow(), anew.table
    else:  # whose file has neither the columns of X nor carried variables in its table
        own, other = origin.side, anew.side
        other = other.select([name for name in other.column_names if name in own.column_names])
    yield from table_failures(own, other, "the design file", checked_before)
    yield from table_failures(design.imputed, anew.imputed, "the list of imputed cells")
