"""A profile as plain text and as a table for notebooks."""

from __future__ import annotations

from typing import TYPE_CHECKING

from facturum.errors import counted
from facturum.support.notebook_tables import table_html

if TYPE_CHECKING:
    from facturum.look.profile import Profile, VariableProfile

HEADS = ("variable", "storage", "kind", "missing", "distinct", "smallest", "quartiles", "largest", "notice")


def figure_text(value: float | str | None) -> str:
    """Return a figure in five digits.

    Example:
        >>> figure_text(1234.5678), figure_text(12.0), figure_text(None), figure_text("2023-01-01")
        ('1234.6', '12', '', '2023-01-01')
    """
    if value is None or isinstance(value, str):
        return value or ""
    return f"{value:.0f}" if float(value).is_integer() and abs(value) < 1e6 else f"{value:.5g}"


def cells_of(variable: VariableProfile) -> list[str]:
    """Return the profile of one variable, under the heads of its table."""
    missing = f"{variable.missing:,} ({100 * variable.missing_share:.1f} %)" if variable.missing else "0"
    if variable.quartiles:
        middle = "  ".join(map(figure_text, variable.quartiles))
    elif variable.values:
        middle = ", ".join(f"{value} ({count:,})" for value, count in variable.most_frequent[:3])
        middle += ", .." if variable.distinct > 3 else ""
    else:
        middle = ""
    return [
        variable.name,
        variable.storage,
        variable.kind,
        missing,
        f"{variable.distinct:,}",
        figure_text(variable.smallest),
        middle,
        figure_text(variable.largest),
        "; ".join(variable.notes),
    ]


def profile_text(profiled: Profile) -> str:
    """Return a profile as lines of text."""
    rows = [list(HEADS), *[cells_of(variable) for variable in profiled]]
    widths = [max(len(row[at]) for row in rows) for at in range(len(HEADS))]
    lines = ["  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip() for row in rows]
    return "\n".join(
        [f"{profiled.source}: {counted(profiled.rows, 'row')}, {counted(len(profiled.variables), 'variable')}", *lines]
    )


def profile_html(profiled: Profile) -> str:
    """Return a profile as a table for notebooks."""
    title = f"{profiled.source}: {counted(profiled.rows, 'row')}, {counted(len(profiled.variables), 'variable')}"
    return table_html(title, HEADS, [cells_of(variable) for variable in profiled])
