"""Two designs compared."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

import numpy as np

from facturum.api.design import Design
from facturum.api.fitting import design_carried
from facturum.api.opening import open_design
from facturum.audit.comparison.changes import Comparison
from facturum.audit.comparison.compare import Side
from facturum.audit.comparison.compare import compare as compare_sides
from facturum.audit.map.entries import ColumnMap
from facturum.data.arrow.intake import variable_from_arrow
from facturum.data.declared import as_time
from facturum.data.time.calendar import period_text
from facturum.data.time.periods import period_numbers
from facturum.data.values import Array
from facturum.engine.planning.shaping import DATA
from facturum.errors import AuditError, bounded, nearest
from facturum.support.arguments import checked


@checked
def compare(before: Design | str | Path, after: Design | str | Path, by: list[str] | None = None) -> Comparison:
    """Return what changed between two builds: plan, learned values, source, rows, cells, distributions.

    Args:
        before, after: designs, or the folders of builds.
        by: carried variables that identify a row together. Otherwise rows are those of one unit and period, where both
            plans have a time; those with the same variables carried along, where these tell rows apart; or those with
            one number in the source.

    Raises:
        AuditError: where a folder is not a build, or the variables do not identify rows.

    Example:
        >>> from facturum.api.plan import Plan
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
        sides = list(zip(titles, (first, second), strict=True))
        names, keys = (list(by), [_keys(each, by, title) for title, each in sides]) if by else _keys_of_both(sides)
        moved = [] if names else _moved(first._audited, second._audited, _clock(first))
        in_place = not names or not _moved(first._audited, second._audited, names)
        old, new = (
            Side(title, each._audited, each.rows, each.column, keys[at] if keys else None, in_place)
            for at, (title, each) in enumerate(sides)
        )
        return compare_sides(old, new, by=tuple(names), hint=_hint(moved) if moved else "")


def _clock(design: Design) -> list[str]:
    """Return the variables that tell the unit and the period of a row; nothing where the plan has no periods."""
    data = design.columns.resolved.get("data", {})
    return [*data.get("panel", []), data["time"]] if data.get("time") and data.get("every") not in (None, "row") else []


def _keys_of_both(sides: Sequence[tuple[str, Design]]) -> tuple[list[str], list[Array]]:
    """Return what tells a row in both builds, and its keys: unit and period, or what is carried along; or nothing."""
    carried = [each.columns.resolved.get("data", {}).get("carry", []) for _, each in sides]
    for first, second in ([_clock(each) for _, each in sides], carried):
        if first and first == second and all(set(first) <= set(design_carried(each)) for _, each in sides):
            with suppress(AuditError):
                return list(first), [_keys(each, first, title) for title, each in sides]
    return [], []


def _moved(before: ColumnMap, after: ColumnMap, names: Sequence[str]) -> list[str]:
    """Return variables that tell rows where rows of one number in the source differ in them, or may do."""
    marks = [columns.fingerprints.get(DATA, {}) for columns in (before, after)]
    parts = before.resolved.get("variables", {})
    read = {part for name in names for part in ((parts.get(name) or {}).get("parts") or {name: name}).values()}
    return [] if all(marks[0].get(name) == marks[1].get(name) for name in read) else list(names)


def _hint(names: list[str]) -> str:
    called = ", ".join(f'"{name}"' for name in names)
    by = " and ".join(names)
    remedy = f"write carry = [{called}] in [data], and rows are matched by {by}"
    return f"Rows with one number may be of another {by}: {remedy}."


def _texts(design: Design, name: str, called: str) -> list[str]:
    """Return a carried variable as texts; a time as its periods."""
    column, data = design._side.column(called), design.columns.resolved.get("data", {})
    if name != data.get("time"):
        return [str(value) for value in column.to_pylist()]
    moments = as_time(variable_from_arrow(name, column))
    periods, place = np.unique(period_numbers(moments.data, data["every"]), return_inverse=True)
    texts = [period_text(int(number), data["every"]) for number in periods]
    return [texts[at] for at in place]


def _keys(design: Design, by: Sequence[str], title: str) -> Array:
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
