"""The commands before there is a plan: profile, draft and operations."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from facturum.cli.common import FILE, print_json, put, reading_from, reading_options, refuse_existing
from facturum.errors import DataError

if TYPE_CHECKING:
    from facturum.data.table import Table
    from facturum.look.crossing import CrossTable


@click.command()
@click.argument("data", type=FILE)
@click.argument("variable", nargs=-1)
@click.option(
    "--quantiles",
    metavar="N|SHARES",
    help="Of numbers: N parts of equal numbers of rows (3 for tertiles), or shares such as 0.1,0.5,0.9.",
)
@click.option(
    "--by",
    metavar="VARIABLE",
    help="Of the one VARIABLE named: a number by the groups of this one, or a two-way table.",
)
@click.option(
    "--percent", type=click.Choice(["row", "column", "total"]), help="With --by: percent of row, column or total."
)
@click.option("--plan", type=FILE, help="Look at the rows that a plan keeps, and at its derived variables too.")
@click.option("--figure", type=FILE, help="Draw histograms, bars and correlations into this .png file.")
@reading_options
@click.option("--json", "as_json", is_flag=True, help="Print all figures, for programs.")
def profile(
    data: Path,
    variable: tuple[str, ...],
    quantiles: str | None,
    by: str | None,
    percent: str | None,
    plan: Path | None,
    figure: Path | None,
    as_json: bool,
    **reading: Any,
) -> None:
    """Show what each VARIABLE of DATA is, what its values are, and what to notice; without VARIABLE, all on one screen.

    For one variable or several: a frequency table with missing values on a line of their own, or a histogram with
    quantiles.
    """
    from facturum.api.tables import profile as profile_table
    from facturum.api.tables import with_forms

    shares = shares_from(quantiles)
    table: Any = data
    options = reading_from(**reading)
    if plan is not None:
        table, options = _seen_by(plan, data, options), {}
    if percent is not None and by is None:
        raise DataError("--percent is valid only with --by", remedy="Add --by VARIABLE.")
    if by is not None:
        if len(variable) != 1:
            raise DataError("--by crosses one variable with another", remedy="Name one VARIABLE: access --by comfort.")
        if figure is not None:
            raise DataError("a table by groups has no figure", remedy="Leave out --figure.")
        _print_by(with_forms(table, options), variable[0], by, percent, shares if quantiles else None, as_json)
        return
    profiled = profile_table(table, variable, shares, options)
    if figure is not None:
        from facturum.show.drawn.figures import profile_figure

        profile_figure(profiled, figure)
    if as_json:
        print_json(profiled.to_dict())
        return
    from facturum.show.terminal import views
    from facturum.show.terminal.profile import correlation_view, profile_view, variable_view

    screen = views.console()
    if variable:
        for entry in profiled:
            screen.print(variable_view(entry))
        if profiled.correlations:
            screen.print(correlation_view(profiled))
    else:
        screen.print(profile_view(profiled))
    if figure is not None:
        screen.print(views.safe(f"drawn into {figure}"))


def _seen_by(plan: Path, data: Path, options: Any) -> Table:
    """Return the table that a plan sees."""
    from facturum.api.plan import Plan

    if options:
        raise DataError("the plan of --plan defines how the file is read", remedy="Leave out --delimiter and the like.")
    return Plan.load(plan).view(data)


def _print_by(
    table: Table, variable: str, by: str, percent: str | None, shares: list[float] | None, as_json: bool
) -> None:
    """Print a number by groups, or how often the values of two variables go together."""
    from facturum.api.tables import by_group, cross
    from facturum.data.values import Kind
    from facturum.look.profile import QUARTILES
    from facturum.show.terminal import views
    from facturum.show.terminal.profile import grouped_view

    if percent is not None or table[variable].kind is not Kind.NUMBER:
        if shares is not None:
            raise DataError("a two-way table has no quantiles", remedy="Leave out --quantiles.")
        _print_crossed(cross(table, variable, by), percent, as_json)
        return
    grouped = by_group(table, variable, by, shares or QUARTILES)
    if as_json:
        print_json(grouped.to_dict())
        return
    views.console().print(grouped_view(grouped))


def _print_crossed(crossed: CrossTable, percent: str | None, as_json: bool) -> None:
    if as_json:
        print_json(crossed.to_dict() | ({} if percent is None else {"percents": crossed.percents(percent)}))
        return
    from facturum.show.terminal import views
    from facturum.show.terminal.profile import cross_view

    views.console().print(cross_view(crossed, percent))


def shares_from(text: str | None) -> list[float]:
    """Return the shares of ``--quantiles``.

    Raises:
        DataError: for anything but a whole number from 2 or shares between 0 and 1.

    Example:
        >>> shares_from("4"), shares_from("0.1, 0.9")
        ([0.25, 0.5, 0.75], [0.1, 0.9])
    """
    if text is None:
        return [0.25, 0.5, 0.75]
    try:
        if text.strip().isdigit() and 2 <= int(text) <= 1000:
            return [at / int(text) for at in range(1, int(text))]
        shares = [float(part) for part in text.split(",")]
    except ValueError:
        shares = [-1.0]
    if not all(0 <= share <= 1 for share in shares):
        raise DataError(
            f"--quantiles {text} is neither a number of parts nor a list of shares",
            remedy="Write a whole number from 2 to 1000, or shares from 0 to 1 such as 0.1,0.5,0.9.",
        )
    return shares


@click.command()
@click.argument("data", type=FILE)
@click.option("--response", required=True, metavar="NAME", help="The variable to explain.")
@click.option("--out", type=FILE, help="The plan file to write; it must not be there yet. Without it, print the plan.")
@reading_options
def draft(data: Path, response: str, out: Path | None, **reading: Any) -> None:
    """Write a first plan for DATA, commented line by line, that builds as it is.

    Ids, dates and constants are left out, with the reason. The most frequent category is the reference, positive
    numbers with a long right tail enter as logarithms, missing values are imputed with a flag beside them, and time
    gives a trend and a season.
    """
    from facturum.api.tables import draft as draft_plan
    from facturum.files.folder import write_file

    refuse_existing(out)
    text = draft_plan(data, response, reading_from(**reading))
    if out is None:
        put(text)
        return
    write_file(out, text)
    put(f"written to {out}; read it, change it, then: facturum build {out} {data} --out {out.stem}-build\n")


@click.command()
@click.argument("name", nargs=-1)
def operations(name: tuple[str, ...]) -> None:
    """List the operations that a plan may use, or describe each NAME: what it does, its options, an example."""
    from facturum.language.reference import families, looked_up
    from facturum.show.terminal import views
    from facturum.show.terminal.operations import operation_view, operations_view, other_word_view

    chosen = [looked_up(each) for each in name]
    screen = views.console()
    for word, found in zip(name, chosen, strict=True):
        if found.written is not None:
            screen.print(other_word_view(word, found.written))
        if found.family is not None:
            screen.print(operations_view({found.family: list(found.operations)}))
            continue
        for operation in found.operations:
            screen.print(operation_view(operation))
    if not chosen:
        screen.print(operations_view(families()))
