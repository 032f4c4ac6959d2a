"""Two designs compared."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from facturum.arguments import checked
from facturum.audit.proof.compare import Comparison, Side
from facturum.audit.proof.compare import compare as compare_sides
from facturum.data.values import Array
from facturum.design import Design, open_design
from facturum.errors import AuditError, bounded, nearest
from facturum.trials import design_carried


@checked
def compare(before: Design | str | Path, after: Design | str | Path, by: list[str] | None = None) -> Comparison:
    """Return what changed between two builds: plan, learned values, source, rows, cells, distributions.

    Args:
        before, after: designs, or the folders of builds.
        by: carried variables that identify a row together; otherwise rows are those with one number in the source.

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
        sides = [_side(each, by, name) for each, name in ((before, "the first build"), (after, "the second build"))]
        return compare_sides(*sides)


def _side(given: Design | str | Path, by: list[str] | None, name: str) -> Side:
    design = given if isinstance(given, Design) else open_design(given)
    title = name if isinstance(given, Design) else str(given)
    keys = None if not by else _keys(design, by, title)
    return Side(title, design.audited, design.rows, design.column, keys)


def _keys(design: Design, by: list[str], title: str) -> Array:
    carried = design_carried(design)
    for name in by:
        if name not in carried:
            raise AuditError(
                f"'{name}' is not carried along in {title}{nearest(name, list(carried))}",
                remedy=f'Write carry = ["{name}"] in [data], and build anew.',
            )
    texts = zip(*[design.side.column(carried[name]).to_pylist() for name in by], strict=True)
    keys = np.array([", ".join(map(str, parts)) for parts in texts])
    if len(np.unique(keys)) < len(keys):
        raise AuditError(
            f"{' and '.join(by)} do not identify the rows of {title}", remedy="Name more carried variables."
        )
    return keys
