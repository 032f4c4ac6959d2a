"""What a build shows on the screen: first what was built and where, then what to look at, the rows, and the columns."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from pathlib import Path

from rich.console import Group, RenderableType
from rich.text import Text

from facturum.audit.map.entries import ColumnMap
from facturum.engine.planning.shaping import DATA
from facturum.errors import counted
from facturum.language.tree.writer import in_words
from facturum.show.builds.columns import columns_view, findings_view
from facturum.show.terminal.views import rows_view, safe


def built_view(columns: ColumnMap, folder: Path, seal: str | None, told: Iterable[str] = ()) -> RenderableType:
    """Return a build as it is shown once it is written.

    Args:
        columns: its map.
        folder: where it is.
        seal: of its files.
        told: what was found in the source, and what is new in its rows.
    """
    lines = [safe(line) for line in told]
    return Group(
        head_view(columns, folder, seal), *lines, "", findings_view(columns, brief=True), rows_view(columns),
        columns_view(columns),
    )  # fmt: skip


def head_view(columns: ColumnMap, folder: Path, seal: str | None) -> RenderableType:
    """Return in a few lines what a build is: its size, its response, the reference categories, its source and seal."""
    count = sum(entry.role != "response" for entry in columns.columns)
    response = columns.resolved.get("response")
    of = f" of {in_words(response)}" if response else ""
    size = f"{counted(count, 'column')}, {columns.rows.kept:,} of {counted(columns.rows.given, 'row')}"
    against = references_text(columns)
    lines = [Text.assemble((f"{folder}", "bold"), f": design matrix{of}, {size}", f"; {against}" if against else "")]
    where = [source_text(columns), f"seal {seal}" if seal else ""]
    if any(where):
        lines.append(safe(", ".join(filter(None, where)), "dim"))
    return Group(*lines)


def source_text(columns: ColumnMap) -> str:
    """Return the name of the file of the data, with a digest of the variables read; "" of a table in memory."""
    if columns.source is None:
        return ""
    marks = columns.fingerprints.get(DATA, {})
    digest = hashlib.sha256("".join(f"{name} {mark.digest}\n" for name, mark in sorted(marks.items())).encode())
    return f"source {columns.source}" + (f" (the variables read: {digest.hexdigest()[:12]})" if marks else "")


def references_text(columns: ColumnMap, term: str | None = None) -> str:
    """Return the reference categories of all terms, or of one; "" without one.

    Example:
        >>> from facturum.api.plan import Plan
        >>> references_text(Plan(None, {"way": "way"}).build({"way": ["road", "trail"] * 5}).columns)
        'reference category: way road'
    """
    found = dict.fromkeys(
        (entry.term, entry.reference)
        for entry in columns.columns
        if entry.reference and entry.role == "predictor" and term in (None, entry.term)
    )
    told = [f"{term} {reference}" for term, reference in found]
    called = "reference category" if len(told) == 1 else "reference categories"
    return f"{called}: {', '.join(told)}" if told else ""
