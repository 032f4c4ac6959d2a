"""What several commands share."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.shell_completion import CompletionItem

from facturum.errors import DataError

if TYPE_CHECKING:
    from facturum.api.design import Design


class _AnyPath(click.Path):
    """A path, taken as it is: whether it is valid shows when it is used."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Path:
        return Path(value)


FILE = _AnyPath(path_type=Path)


class FormatName(click.ParamType):  # type: ignore[type-arg,unused-ignore]  # generic in newer versions
    """The name of a format of the design file; the formats are loaded when they are asked for."""

    name = "format"

    @property
    def _names(self) -> list[str]:
        from facturum.files.builds.formats import FORMATS

        return list(FORMATS)

    def get_metavar(self, param: click.Parameter, ctx: click.Context | None = None) -> str:
        return f"[{'|'.join(self._names)}]"

    def convert(self, value: str, param: click.Parameter | None, ctx: click.Context | None) -> str:
        return click.Choice(self._names).convert(value, param, ctx)

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        return [CompletionItem(name) for name in self._names if name.startswith(incomplete)]


FORMAT = FormatName()


def put(text: str) -> None:
    """Print a text as it is; a closed pipe ends the command as described in `guard`."""
    try:
        click.echo(text, nl=False)
    except BrokenPipeError:
        raise BrokenPipeError from None  # without a number, by which click would end the process by itself


def print_json(content: Any) -> None:
    """Print a result for programs."""
    import json

    text = json.dumps(content, indent=1, ensure_ascii=False)
    put("".join(c if c.isprintable() or c == "\n" else json.dumps(c)[1:-1] for c in text) + "\n")


def refuse_existing(out: Path | None, remedy: str = "Choose another place.") -> None:
    """Refuse to write where something is already.

    Raises:
        DataError: where it is, or where nothing can be.
    """
    try:
        exists = out is not None and out.exists()
    except (OSError, ValueError) as problem:
        raise DataError(f"{out} cannot be written: {problem}", remedy="Choose another place.") from None
    if exists:
        remedy_text = remedy if out and out.absolute().name else "Name a folder below it."
        raise DataError(f"{out} already exists", remedy=remedy_text)


series_option = click.option(
    "--series", multiple=True, metavar="NAME=FILE", help="The table of one of the plan's series, instead of its file."
)


def ahead_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options that tell of a build of rows ahead how it was made."""
    future = click.option("--future", type=FILE, help="With --ahead: the values to come that it was built with.")
    return click.option("--ahead", type=int, metavar="K", help="DIR holds the rows of the K periods after DATA.")(
        future(command)
    )


def source_of(
    design: Design, data: Path, history: Path | None, series: dict[str, Path], ahead: int | None, future: Path | None
) -> tuple[Any, Any]:
    """Return the rows that a build was made of, and the rows before them; of rows ahead, both are made anew."""
    if ahead is None:
        return data, history
    from facturum.validation.forecasting import rows_ahead

    return rows_ahead(design.plan, data, ahead, future=future, history=history, series=series)


def reading_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options for reading a text file."""
    for option in (
        click.option(
            "--missing-value", multiple=True, metavar="WORD", help="A word that means missing; may be given again."
        ),
        click.option(
            "--day-first/--month-first", default=None, help="Of dates such as 01/02/2023, where nothing tells."
        ),
        click.option("--sheet", metavar="NAME", help="Of a workbook."),
        click.option("--header-line", type=click.IntRange(1), metavar="N", help="The line that holds the names."),
        click.option("--encoding", help="Of a text file.  [default: as found]"),
        click.option("--thousands", metavar="CHARACTER", help="Between groups of three digits of a text file."),
        click.option("--decimal", type=click.Choice([".", ","]), help="The decimal mark of a text file."),
        click.option("--delimiter", metavar="CHARACTER", help="Between the cells of a text file.  [default: as found]"),
    ):
        command = option(command)
    return command


def reading_from(
    delimiter: str | None,
    decimal: str | None,
    encoding: str | None,
    missing_value: tuple[str, ...],
    thousands: str | None = None,
    **others: Any,
) -> dict[str, Any]:
    """Return how a text file is read, as far as options say; the empty cell is always missing.

    Raises:
        DataError: for a delimiter of several characters.

    Example:
        >>> reading_from(";", None, None, ("NA",))
        {'delimiter': ';', 'missing_values': ['', 'NA']}
    """
    if delimiter is not None:
        delimiter = delimiter.replace("\\t", "\t")
        if len(delimiter) != 1:
            raise DataError(f"--delimiter {delimiter} is not one character", remedy="Write --delimiter ';', say.")
    words = ["", *missing_value] if missing_value else None
    said = {
        "delimiter": delimiter,
        "decimal": decimal,
        "encoding": encoding,
        "missing_values": words,
        "thousands": thousands,
        **others,
    }
    return {key: value for key, value in said.items() if value is not None}


def series_from(given: tuple[str, ...]) -> dict[str, Path]:
    """Return the tables that ``--series`` names.

    Raises:
        DataError: for anything but NAME=FILE.

    Example:
        >>> series_from(("energy=index.csv",))
        {'energy': PosixPath('index.csv')}
    """
    series = {}
    for text in given:
        name, equals, file = text.partition("=")
        if not (name and equals and file):
            raise DataError(f"--series {text} is not of the form NAME=FILE", remedy="Write --series energy=energy.csv.")
        series[name] = Path(file)
    return series
