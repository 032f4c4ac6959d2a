"""The command line: its commands, and how errors reach a person."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from facturum.cli.amend import amend
from facturum.cli.build import build
from facturum.cli.common import FILE, ahead_options, print_json, put, series_from, series_option, source_of
from facturum.cli.guard import FOUND_SOMETHING, leave, run_guarded
from facturum.cli.inspect import compare, report, sheet, trace
from facturum.cli.look import draft, operations, profile
from facturum.cli.other_words import Commands
from facturum.cli.reshape import convert, sample, stack, unstack
from facturum.cli.trial import trial
from facturum.errors import AuditError, PlanError, nearest
from facturum.version import VERSION

if TYPE_CHECKING:
    from facturum.api.design import Design
    from facturum.audit.map.entries import ColumnMap, PathEntry
    from facturum.audit.proof.verify import Verification


@click.group(cls=Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.version_option(VERSION, message="facturum %(version)s")
def main() -> None:
    """From a table and a readable plan to a design matrix, with every column audited.

    \b
    A first look:     facturum demo
    What is in it:    facturum profile data.csv
    A first plan:     facturum draft data.csv --response y --out plan.toml
    Its operations:   facturum operations
    The main job:     facturum build plan.toml data.csv --out build/
    What came out:    facturum explain build/
    Is it still so:   facturum verify build/ data.csv
    For a browser:    facturum report build/ --out report.html
    For spreadsheets: facturum sheet build/ --out build.xlsx
    What has changed: facturum compare build/ other/
    How a cell arose: facturum trace build/ data.csv --row 7 --column price
    A first fit:      facturum trial build/

    A plan says, in plain expressions, how each term of a regression is made. Building writes a folder with the matrix,
    a map of its columns (formula, sources, reference category, what the coefficient means), a map of the rows left
    out, and the plan with every learned number written into it. That resolved plan builds new data the same way.

    Exit status: 0 fine, 1 a check found something, 2 the input is wrong, 70 a defect of Facturum, from 129 a signal.
    """


@main.command()
@click.argument("folder", metavar="DIR", type=FILE)
@click.argument("column", nargs=-1)
@click.option("--imputed", is_flag=True, help="List each cell that was filled, of the COLUMNs or of all.")
@click.option(
    "--figure",
    type=FILE,
    help="Draw the bins, or the series before and after, of the COLUMNs or of all into this .png file.",
)
@click.option("--unit", multiple=True, metavar="NAME", help="With --figure: the units drawn; may be given again.")
@click.option("--csvw", is_flag=True, help="Print the map as metadata of the standard CSV on the Web (JSON-LD).")
@click.option("--json", "as_json", is_flag=True, help="Print the map, for programs.")
def explain(
    folder: Path,
    column: tuple[str, ...],
    imputed: bool,
    figure: Path | None,
    unit: tuple[str, ...],
    csvw: bool,
    as_json: bool,
) -> None:
    """Print the column map of the build in DIR: all of it, or all that is known of each COLUMN or term.

    For a COLUMN also what was done to its variables: the table of bins, the imputed values, the rows that a flag marks,
    the items of a score.
    """
    from facturum.api.opening import open_design

    design = open_design(folder)
    columns = design.columns
    if csvw:
        from facturum.audit.map.csvw import csvw as metadata

        print_json(metadata(design._audited))
        return
    entries = [entry for name in column for entry in columns.find(name)]
    terms = {entry.term for entry in entries} if column else {entry.term for entry in columns.columns}
    if unit and figure is None:
        raise AuditError("--unit is valid only with --figure", remedy="Add --figure F.png.")
    if figure is not None:
        _draw(columns, set(column), terms, unit, figure)
    if imputed:
        _print_imputed(design, terms, as_json)
        return
    if as_json:
        print_json([entry.model_dump(mode="json") for entry in entries] if column else columns.model_dump(mode="json"))
        return
    from facturum.show.terminal import views
    from facturum.show.terminal.built import head_view, references_text
    from facturum.show.terminal.checks import checks_view
    from facturum.show.terminal.columns import columns_view, findings_view
    from facturum.show.terminal.preparation import treatments_view

    screen = views.console()
    if column:
        screen.print(treatments_view(columns, terms))
        for term in dict.fromkeys(entry.term for entry in entries):
            own = [entry for entry in entries if entry.term == term]
            if term in column and len(own) > 1:
                screen.print(views.safe(references_text(columns, term)))
                screen.print(columns_view(columns, {term}, full=True))
                continue
            for entry in own:
                screen.print(views.column_view(entry, columns))
    else:
        screen.print(head_view(columns, folder, design.seal))
        screen.print("")
        screen.print(findings_view(columns))
        screen.print(views.rows_view(columns))
        screen.print(columns_view(columns, full=True))
        screen.print(checks_view(columns))
    if figure is not None:
        screen.print(views.safe(f"drawn into {figure}"))


def _draw(columns: ColumnMap, asked: set[str], terms: set[str], units: tuple[str, ...], figure: Path) -> None:
    from facturum.show.drawn.figures import bins_figure, paths_figure

    binned = [entry for entry in columns.bins if terms & set(entry.terms)]
    asked_columns = {entry.name for entry in columns.columns if {entry.name, entry.term} & asked} if asked else None
    names = {entry.name for entry in columns.columns}
    paths = [
        entry
        for entry in columns.paths
        if entry.term in terms and (asked_columns is None or entry.column in asked_columns or entry.column not in names)
    ]
    paths = _of_units(paths, units)
    if binned:
        bins_figure(binned, figure)
    elif paths:
        paths_figure(paths, figure)
    else:
        raise AuditError(
            f"neither bins nor operations along time are part of {', '.join(sorted(terms)[:5])}",
            remedy="Name a term with bins(..), a lag, an average or a joined series.",
        )


def _of_units(paths: list[PathEntry], units: tuple[str, ...]) -> list[PathEntry]:
    """Return the paths of some units, or of the first."""
    known = list(dict.fromkeys(entry.unit for entry in paths))
    for unit in units:
        if unit not in known:
            raise AuditError(
                f"unit '{unit}' not found among those kept for figures{nearest(unit, known)}",
                remedy="They are " + ", ".join(known[:30]) + ".",
            )
    wanted = set(units or known[:1])
    return [entry for entry in paths if entry.unit in wanted]


def _print_imputed(design: Design, terms: set[str], as_json: bool) -> None:
    from facturum.show.terminal import views
    from facturum.show.terminal.preparation import imputed_cells, imputed_cells_view

    cells = list(imputed_cells(design.columns, design.imputed, terms))
    if as_json:
        print_json([{**cell, "variable": design.columns.imputations[cell["imputation"]].variable} for cell in cells])
    else:
        views.console().print(imputed_cells_view(design.columns, cells))


@main.command()
@click.argument("folder", metavar="DIR", type=FILE)
@click.argument("data", type=FILE)
@click.option("--history", type=FILE, help="The earlier rows that it was built with.")
@ahead_options
@series_option
@click.option(
    "--seal", is_flag=True, help="Print the build's seal as well: a short fingerprint to write into a report."
)
@click.option("--expect", metavar="SEAL", help="The seal that a report gives; any other is a finding.")
@click.option("--json", "as_json", is_flag=True, help="Print the outcome, for programs.")
@click.pass_context
def verify(
    context: click.Context,
    folder: Path,
    data: Path,
    history: Path | None,
    ahead: int | None,
    future: Path | None,
    series: tuple[str, ...],
    seal: bool,
    expect: str | None,
    as_json: bool,
) -> None:
    """Compute every column of the build in DIR anew from DATA, and report what does not agree.

    Names the cell of the source that has changed, the columns and rows that no longer follow, and a stored file that is
    not the one written. Exit status 1 where anything does not agree.
    """
    outcome, own_seal = _verified(folder, data, history, series_from(series), expect, ahead, future)
    if as_json:
        failures = [
            {"kind": f.kind, "name": f.name, "what": f.what, "rows": f.rows, "count": f.count} for f in outcome.failures
        ]
        told = {"ok": outcome.ok, "exact": outcome.exact, "steps": outcome.steps, "failures": failures}
        print_json(told | {"seal": own_seal})
    else:
        from facturum.show.terminal import views

        screen = views.console()
        screen.print(views.verification_view(outcome))
        if seal and own_seal:
            screen.print(views.safe(f"seal {own_seal}"))
    context.exit(0 if outcome.ok else FOUND_SOMETHING)


def _verified(
    folder: Path,
    data: Path,
    history: Path | None,
    series: dict[str, Path],
    expect: str | None,
    ahead: int | None,
    future: Path | None,
) -> tuple[Verification, str | None]:
    """Return the outcome of verifying a build and its seal; a build that cannot be opened is a finding."""
    from facturum.api.opening import open_design
    from facturum.audit.proof.verify import Failure, Verification
    from facturum.files.builds.build_folder import changed_files, refuse_others

    refuse_others(folder)
    try:
        design = open_design(folder, check=False)
    except AuditError as error:
        told = [what for _, what in changed_files(folder)]
        failures = [Failure("file", "", what) for what in [*told, f"The build cannot be opened: {error.what}."]]
        return Verification(tuple(failures), 0, 0, False, 0), None
    table, before = source_of(design, data, history, series, ahead, future)
    outcome = design.verify(table, history=before, series=series)
    if expect is not None and expect.strip().casefold() != design.seal:
        failure = Failure("file", "", f"The seal of the build is {design.seal}, not {expect.strip()}.")
        outcome = replace(outcome, failures=(failure, *outcome.failures))
    return outcome, design.seal


@main.command()
@click.option(
    "--out", type=FILE, default=Path("facturum-demo"), show_default=True, help="Where the sample is laid out."
)
@click.option("--plan", "name", default="huts", show_default=True, help="Which plan: huts, clean, survey or time.")
def demo(out: Path, name: str) -> None:
    """Lay out the sample data, build a design matrix, and show its plan, its rows and its column map.

    The sample is a made-up network of mountain huts. The plan "clean" shows bins and missing values, "survey" a score
    of several questions, "time" lags, a season and other tables. Change a cell of huts.csv, run verify, and it
    names the cell.
    """
    from facturum.api.plan import Plan
    from facturum.demo.sample import PLANS, lay_out
    from facturum.files.builds.build_folder import seal_in
    from facturum.show.terminal import views
    from facturum.show.terminal.built import built_view

    if name not in PLANS:
        raise PlanError(f"sample plan '{name}' not found{nearest(name, list(PLANS))}", remedy=", ".join(PLANS))
    plan_files = lay_out(out)
    plan, data = out / f"{name}.toml", out / PLANS[name]
    folder = out / ("build" if name == "huts" else f"build-{name}")
    screen = views.console()
    screen.print(views.plan_view(plan.read_text("utf-8"), f"the plan: {plan}"))
    design = Plan.load(plan).build(data)
    design.save(folder, replace=True)
    screen.print(built_view(design.columns, folder, seal_in(folder)))
    if plan_files:
        screen.print(views.safe(f"{', '.join(plan_files)} in {out} differ from the sample and were left as they are."))
    joined = "".join(
        f" --series {key}={out / plan_files.file}"
        for key, plan_files in design.plan.spec.series.items()
        if plan_files.file
    )
    term = next(iter(design.columns.resolved["terms"])) if name != "huts" else "slope"
    screen.print(
        views.lines_view(
            [
                f"written to {folder}; now try",
                f"    facturum explain {folder} {term}",
                f"    facturum verify {folder} {data}" + joined,
                f"    facturum trial {folder}",
                f"    facturum report {folder} --out {out / 'report.html'}",
                f"then change a cell of {data.name}, and verify again",
            ]
        )
    )


@main.command()
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion(shell: str) -> None:
    """Print the script that lets SHELL complete commands and options; source it from your profile."""
    from click.shell_completion import get_completion_class

    if (completion := get_completion_class(shell)) is not None:
        put(completion(main, {}, "facturum", "_FACTURUM_COMPLETE").source() + "\n")


for _command in (
    amend,
    build,
    profile,
    draft,
    operations,
    sample,
    stack,
    unstack,
    compare,
    convert,
    report,
    sheet,
    trace,
    trial,
):
    main.add_command(_command)


def run() -> None:
    """Run the command line; whatever happens ends in one of the exit statuses, without a traceback."""
    run_guarded(lambda: main.main(prog_name="facturum", standalone_mode=False))


def start() -> None:
    """Run the command line as a process of its own, which ends with it."""
    leave(run)
