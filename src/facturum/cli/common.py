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


series_option = click.option(
    "--series", multiple=True, metavar="NAME=FILE", help="The table of one of the plan's series, instead of its file."
)


def series_from(given: tuple[str, ...]) -> dict[str, Path]:
    """Return the tables that ``--series`` names.

    Raises:
        DataError: for anything but NAME=FILE.

    Example:
        >>> series_from(("energy=index.csv",))
        {'energy': PosixPath('index.csv')}
    """
    found = {}
    for text in given:
        name, equals, file = text.partition("=")
        if not (name and equals and file):
            raise DataError(f"--series {text} is no NAME=FILE", remedy="Write --series energy=energy.csv.")
        found[name] = Path(file)
    return found
