"""The commands that make one table of another: sample, stack, unstack and convert."""

from __future__ import annotations

import csv
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from facturum.cli.common import FILE, put, reading_from, reading_options, refuse_existing
from facturum.errors import DataError, counted

if TYPE_CHECKING:
    from facturum.data.table import Table


def _common(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add what all of them take: DATA, the file to write, and how DATA is read."""
    out = click.option(
        "--out", required=True, type=FILE, help="The table to write (.csv, .parquet, .arrow); it must not be there yet."
    )
    return click.argument("data", type=FILE)(out(reading_options(command)))


@click.command()
@click.option(
    "--size",
    "sizes",
    multiple=True,
    required=True,
    metavar="[NAME=]N",
    help="How many rows, or which share of them (0.7). Several with names, such as learn=0.7, share no row; each goes "
    "into a file of its own, huts-learn.csv for --out huts.csv.",
)
@click.option("--seed", type=int, required=True, help="Of the random numbers: the same seed draws the same rows.")
@click.option("--by", help="A category: the size then counts in each of its categories.")
@click.option("--with-replacement", is_flag=True, help="A row may be drawn more than once.")
@_common
def sample(
    data: Path, out: Path, sizes: tuple[str, ...], seed: int, by: str | None, with_replacement: bool, **reading: Any
) -> None:
    """Draw a random sample of the rows of DATA, or several that share no row."""
    from facturum.api.tables import sample as sample_table

    named = dict(_sizes(sizes))
    places = {name: out if not name else out.with_name(f"{out.stem}-{name}{out.suffix}") for name in named}
    for place in places.values():
        refuse_existing(place)
    drawn = sample_table(_read(data, reading), named, by, with_replacement, seed=seed)
    _write({places[name]: table for name, table in drawn.items()})


def _sizes(texts: tuple[str, ...]) -> Iterator[tuple[str, float]]:
    for text in texts:
        name, equals, size = text.rpartition("=")
        try:
            number = int(size) if size.isdigit() else float(size)
        except ValueError:
            raise DataError(f"--size {text} is not a number of rows", remedy="Write 100, 0.7 or learn=0.7.") from None
        if (equals or len(texts) > 1) and not name.isidentifier():
            raise DataError(
                f"--size {text} does not begin with a valid name", remedy="Write one name for each sample: learn=0.7."
            )
        if sum(other.rpartition("=")[0] == name for other in texts) > 1:
            raise DataError(f"two samples are called {name}", remedy="Give each a name of its own.")
        yield name, number


@click.command()
@click.option(
    "--into",
    multiple=True,
    required=True,
    metavar="NAME=COLUMN,..",
    help="A new variable, and the columns stacked into it.",
)
@click.option("--which", required=True, metavar="NAME", help="The new category: the column that a value is from.")
@click.option("--labels", metavar="LABEL,..", help="Its categories; without them, the names of the columns.")
@_common
def stack(data: Path, out: Path, into: tuple[str, ...], which: str, labels: str | None, **reading: Any) -> None:
    """Stack several columns of DATA into one, beside a category that names the column: wide becomes long."""
    from facturum.api.tables import stack as stack_table

    refuse_existing(out)
    parts = {name: _cells(rest) for name, rest in (_named("--into", text) for text in into)}
    made = stack_table(_read(data, reading), parts, which, None if labels is None else _cells(labels))
    _write({out: made})


@click.command()
@click.option("--value", required=True, metavar="NAME", help="The variable whose values are spread over columns.")
@click.option("--which", required=True, metavar="NAME", help="The category whose values become columns.")
@click.option("--by", multiple=True, required=True, metavar="NAME", help="What makes a row; may be given again.")
@_common
def unstack(data: Path, out: Path, value: str, which: str, by: tuple[str, ...], **reading: Any) -> None:
    """Make a column for each category of one variable of DATA: long becomes wide."""
    from facturum.api.tables import unstack as unstack_table

    refuse_existing(out)
    _write({out: unstack_table(_read(data, reading), value, which, by)})


@click.command()
@click.option("--time", required=True, metavar="NAME", help="The time variable.")
@click.option("--every", required=True, metavar="STEP", help="Its step: year, quarter, month, week, day or hour.")
@click.option("--to", required=True, metavar="STEP", help="The step wanted.")
@click.option(
    "--take",
    multiple=True,
    required=True,
    metavar="NAME=HOW[,KEY=VALUE..]",
    help="How a variable is made, as in a plan: rain=sum,partial=0.8 or depth=mean,of=snow,partial=keep.",
)
@click.option("--panel", multiple=True, metavar="NAME", help="What a series runs within; may be given again.")
@click.option("--pattern", metavar="PATTERN", help="How the time is written: %d.%m.%Y, decimal year, serial 1900.")
@click.option("--parts", metavar="PART=NAME,..", help="A time in several variables: year=y,month=m.")
@_common
def convert(
    data: Path,
    out: Path,
    time: str,
    every: str,
    to: str,
    take: tuple[str, ...],
    panel: tuple[str, ...],
    pattern: str | None,
    parts: str | None,
    **reading: Any,
) -> None:
    """Bring DATA to another step of time: days to months, quarters to months, and so on."""
    from facturum.api.tables import convert as convert_table

    refuse_existing(out)
    ways: dict[str, dict[str, Any]] = {}
    for name, rest in (_named("--take", text) for text in take):
        how, *more = _cells(rest)
        ways[name] = {"how": how, **{key: _way(key, value) for key, value in (_named("--take", text) for text in more)}}
    composed = None if parts is None else dict(_named("--parts", text) for text in _cells(parts))
    how_read = reading_from(**reading)
    made = convert_table(data, time, every, to, ways, panel, pattern=pattern, parts=composed, reading=how_read)
    _write({out: made})


def _named(option: str, text: str) -> tuple[str, str]:
    name, equals, rest = text.partition("=")
    if not (name and equals and rest):
        raise DataError(
            f"{option} {text} is not of the form NAME=VALUE", remedy="Write a name, an equals sign and a value."
        )
    return name, rest


def _way(key: str, text: str) -> Any:
    """Return what stands behind a key of --take, numbers as such."""
    if key == "order" and text.isdigit():
        return int(text)
    return float(text) if key == "partial" and text.replace(".", "", 1).isdigit() else text


def _cells(text: str) -> list[str]:
    """Return the parts between commas; a name with a comma is written in double quotes."""
    return next(csv.reader([text]), [])


def _read(data: Path, reading: dict[str, Any]) -> Table:
    from facturum.api.tables import taken_in

    return taken_in(data, reading_from(**reading))


def _write(tables: dict[Path, Table]) -> None:
    """Write all the tables, or none of them."""
    from facturum.files.scans.tables import write_table

    done: list[Path] = []
    try:
        for path, table in tables.items():
            write_table(table, path)
            done.append(path)
    except BaseException:
        for path in done:
            with suppress(OSError):
                path.unlink()
        raise
    for path, table in tables.items():
        size = f"{counted(table.length, 'row')} and {counted(len(table.variables), 'variable')}"
        put(f"written to {path}: {size}\n")
    for note in dict.fromkeys(note for table in tables.values() for note in table.notes):
        put(f"note: {note}\n")
