"""The commands that look into builds: `trace`, `compare` and `report`."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

import click

from facturum.cli.common import FILE, ahead_options, print_json, refuse_existing, series_from, series_option, source_of
from facturum.cli.guard import FOUND_SOMETHING
from facturum.errors import DataError


@click.command()
@click.argument("folder", metavar="DIR", type=FILE)
@click.argument("data", type=FILE)
@click.option("--row", required=True, type=int, help="The source row number, counted from 1.")
@click.option("--column", metavar="NAME", help="A column of the matrix or the response; otherwise all of the row.")
@click.option("--history", type=FILE, help="The earlier rows that it was built with.")
@ahead_options
@series_option
@click.option("--json", "as_json", is_flag=True, help="Print the steps, for programs.")
@click.pass_context
def trace(
    context: click.Context,
    folder: Path,
    data: Path,
    row: int,
    column: str | None,
    history: Path | None,
    ahead: int | None,
    future: Path | None,
    series: tuple[str, ...],
    as_json: bool,
) -> None:
    """Show how a cell of the build in DIR came about from DATA: source cells, each operation, the value stored.

    The exit status is 1 where the value stored does not follow from DATA.
    """
    from facturum.api.opening import open_design

    design, tables = open_design(folder), series_from(series)
    table, before = source_of(design, data, history, tables, ahead, future)
    result = design.trace(table, row, column, history=before, series=tables)
    if as_json:
        print_json(asdict(result))
    else:
        from facturum.show.builds.trace import trace_view
        from facturum.show.terminal import views

        views.console().print(trace_view(result))
    context.exit(0 if result.agrees else FOUND_SOMETHING)


@click.command()
@click.argument("before", metavar="DIR", type=FILE)
@click.argument("after", metavar="DIR", type=FILE)
@click.option(
    "--by", multiple=True, metavar="VARIABLE", help="Carried variables that identify a row; may be given again."
)
@click.option("--json", "as_json", is_flag=True, help="Print what changed, for programs.")
@click.pass_context
def compare(context: click.Context, before: Path, after: Path, by: tuple[str, ...], as_json: bool) -> None:
    """Show what changed between two builds: plan, learned values, source, rows, cells, distributions.

    The exit status is 1 where something changed.
    """
    from facturum.api.comparing import compare as compare_builds

    result = compare_builds(before, after, list(by) or None)
    if as_json:
        print_json(asdict(result))
    else:
        from facturum.show.builds.compare import comparison_view
        from facturum.show.terminal import views

        views.console().print(comparison_view(result))
    context.exit(0 if result.same else FOUND_SOMETHING)


@click.command()
@click.argument("folder", metavar="DIR", type=FILE)
@click.option("--out", required=True, type=FILE, help="The .html file to write.")
@click.option("--replace", is_flag=True, help="Replace a file that already exists.")
def report(folder: Path, out: Path, replace: bool) -> None:
    """Write a report on the build in DIR as one HTML page, for somebody who has only a browser.

    It holds rows, plan, checks, columns, distributions, correlations and a trial regression, and loads nothing.
    """
    from facturum.api.opening import open_design
    from facturum.show.drawn.report import write_report
    from facturum.show.terminal import views

    if not replace:
        refuse_existing(out, "Choose another file, or add --replace.")
    write_report(open_design(folder), out)
    views.console().print(views.safe(f"written to {out}"))


@click.command()
@click.argument("folder", metavar="DIR", type=FILE)
@click.option("--out", required=True, type=FILE, help="The .xlsx file to write.")
@click.option("--data", type=FILE, help="The table that it was built from, for --ahead.")
@click.option("--ahead", type=int, metavar="K", help="Add the forecasts of the next K periods of each unit.")
@click.option("--future", type=FILE, help="With --ahead: values to come, by unit and period.")
@click.option("--replace", is_flag=True, help="Replace a file that already exists.")
@series_option
def sheet(
    folder: Path,
    out: Path,
    data: Path | None,
    ahead: int | None,
    future: Path | None,
    replace: bool,
    series: tuple[str, ...],
) -> None:
    """Write the build in DIR as a workbook for a spreadsheet.

    Its sheets are the matrix, the columns with what they mean, the rows left out, the imputed cells, bins and
    forecasts. It needs the package facturum[sheets].
    """
    from facturum.api.opening import open_design
    from facturum.show.terminal import views
    from facturum.validation.forecasting import forecast

    if not replace:
        refuse_existing(out, "Choose another file, or add --replace.")
    if (ahead is None) != (data is None) or (future is not None and ahead is None):
        raise DataError("--ahead and --data are given together", remedy="Add the other, or leave both out.")
    design, tables, forecasts = open_design(folder), series_from(series), None
    if ahead is not None and data is not None:
        forecasts = forecast(design, data, ahead, future=future, series=tables)
    design.to_workbook(out, forecasts)
    views.console().print(views.safe(f"written to {out}"))
