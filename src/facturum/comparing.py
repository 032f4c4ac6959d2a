"""Two designs compared."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from facturum.arguments import checked
from facturum.audit.entries import ColumnMap
from facturum.audit.proof.changes import Comparison
from facturum.audit.proof.compare import Side
from facturum.audit.proof.compare import compare as compare_sides
from facturum.data.arrow_import import variable_from_arrow
from facturum.data.time.calendar import period_text
from facturum.data.time.periods import period_numbers
from facturum.data.values import Array, Kind
from facturum.design import Design, open_design
from facturum.engine.planning.shaping import DATA
from facturum.errors import AuditError, bounded, nearest
from facturum.trials import design_carried


@checked
def compare(before: Design | str | Path, after: Design | str | Path, by: list[str] | None = None) -> Comparison:
    """Return what changed between two builds: plan, learned values, source, rows, cells, distributions.

    Args:
        before, after: designs, or the folders of builds.
        by: carried variables that identify a row together. Otherwise rows are those with one number in the source;
            where the units or the periods of the source have changed, and are carried along, those of one unit and
            period.

    Raises:
        AuditError: where a folder is not a build, or the variables do not identify rows.

    Example:
        >>> from facturum.plan import Plan
        >>> plan, table = Plan(None, {"x": "center(x)"}), {"x": [1.0, 2.0, 6.0]}
        >>> found = compare(plan.build(table), plan.build({"x": [1.0, 2.0, 9.0]}))
        >>> print(found.learned[0])
        x: at of center was 3, and is 4.
    """
    with bounded():
        first, second = (each if isinstance(each, Design) else open_design(each) for each in (before, after))
        titles = [
            name if isinstance(each, Design) else str(each)
            for each, name in ((before, "the first build"), (after, "the second build"))
        ]
        moved = [] if by else _moved(first.audited, second.audited)
        carried = bool(moved) and all(set(moved) <= set(design_carried(each)) for each in (first, second))
        names = by or (moved if carried else [])
        hint = "" if carried or not moved else _hint(moved)
        old, new = (
            Side(title, each.audited, each.rows, each.column, _keys(each, names, title) if names else None)
            for title, each in zip(titles, (first, second), strict=True)
        )
        return compare_sides(old, new, by=tuple(names), hint=hint)


def _moved(before: ColumnMap, after: ColumnMap) -> list[str]:
    """Return the units and the time of both builds where the rows of the source lie at other units and periods."""
    settings = [columns.resolved.get("data", {}) for columns in (before, after)]
    keys = [[*data.get("panel", []), data["time"]] if data.get("time") else [] for data in settings]
    if not keys[0] or keys[0] != keys[1] or "row" in [data.get("every") for data in settings]:
        return []
    marks = [columns.fingerprints.get(DATA, {}) for columns in (before, after)]
    read = {*keys[0], *settings[0].get("parts", {}).values()}
    return [] if all(marks[0].get(name) == marks[1].get(name) for name in read) else keys[0]


def _hint(names: list[str]) -> str:
    called = ", ".join(f'"{name}"' for name in names)
    by = " and ".join(names)
    remedy = f"write carry = [{called}] in [data], and rows are matched by {by}"
    return f"Rows with one number may be of another {by}: {remedy}."


def _texts(design: Design, name: str, called: str) -> list[str]:
    """Return a carried variable as texts; a time as its periods."""
    column, data = design.side.column(called), design.columns.resolved.get("data", {})
    moments = variable_from_arrow(name, column) if name == data.get("time") else None
    if moments is None or moments.kind is not Kind.TIME:
        return [str(value) for value in column.to_pylist()]
    return [period_text(int(number), data["every"]) for number in period_numbers(moments.data, data["every"])]


def _keys(design: Design, by: list[str], title: str) -> Array:
    carried = design_carried(design)
    for name in by:
        if name not in carried:
            raise AuditError(
                f"'{name}' is not carried along in {title}{nearest(name, list(carried))}",
                remedy=f'Write carry = ["{name}"] in [data], and build anew.',
            )
    keys = np.array(
        [", ".join(parts) for parts in zip(*[_texts(design, name, carried[name]) for name in by], strict=True)]
    )
    if len(np.unique(keys)) < len(keys):
        raise AuditError(
            f"{' and '.join(by)} do not identify the rows of {title}", remedy="Name more carried variables."
        )
    return keys
