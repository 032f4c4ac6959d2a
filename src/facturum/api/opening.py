"""Build folders opened again."""

from __future__ import annotations

from pathlib import Path

from facturum.api.design import Design
from facturum.api.plan import Plan
from facturum.support.arguments import checked


@checked
def open_design(folder: str | Path, check: bool = True) -> Design:
    """Open a build folder.

    Args:
        folder: the folder.
        check: whether files that are not as they were written are refused; otherwise `Design.verify` reports them.

    Raises:
        AuditError: where it is not a build, or is damaged.
    """
    return Design._open(folder, check, Plan)
