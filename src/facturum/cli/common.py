"""What several commands share."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from facturum.errors import DataError

FILE = click.Path(path_type=Path)


def print_json(content: Any) -> None:
    """Print a result for programs."""
    import json

    click.echo(json.dumps(content, indent=1, ensure_ascii=False))


def refuse_existing(out: Path | None, remedy: str = "Choose another place.") -> None:
    """Refuse to write where something is already.

    Raises:
        DataError: where it is.
    """
    if out is not None and out.exists():
        raise DataError(f"{out} is there already", remedy=remedy)
