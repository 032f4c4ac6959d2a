"""The command `build`: the main job."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from facturum.cli.common import FILE, FORMAT, print_json, refuse_existing, series_from, series_option
from facturum.cli.progress import leaves_progress, rows_progress
from facturum.errors import PlanError

if TYPE_CHECKING:
    from facturum.api.design import Design
    from facturum.api.plan import Plan


@click.command()
@click.argument("plan", type=FILE)
@click.argument("data", type=FILE)
@click.option("--out", required=True, type=FILE, help="The folder to write; it must not be there yet.")
@click.option(
    "--format",
    "form",
    type=FORMAT,
    default="parquet",
    show_default=True,
    help="Of the design file; npy holds numbers only, npz those that are not zero.",
)
@click.option("--delimiter", metavar="CHARACTER", help="With --format csv: between the cells of the files written.")
@click.option("--decimal", type=click.Choice([".", ","]), help="With --format csv: the decimal mark of the files.")
@click.option("--mark", is_flag=True, help="With --format csv: begin the files with the mark of UTF-8.")
@click.option("--replace", is_flag=True, help="Replace a build that already exists.")
@click.option("--history", type=FILE, help="Earlier rows, for lags and averages.")
@series_option
@click.option("--threads", type=click.IntRange(1), help="How many threads; the result does not depend on it.")
@click.option(
    "--stream",
    is_flag=True,
    help="Read and write the rows in parts, as is done anyway where the table or the matrix would take more than half "
    "of the free memory.",
)
@click.option(
    "--memory",
    type=click.IntRange(16),
    default=256,
    show_default=True,
    metavar="MB",
    help="With --stream: in which rows are brought into the order of time.",
)
@click.option("--report", type=FILE, help="Write the report of the build into this .html file as well.")
@click.option("--ahead", type=int, metavar="K", help="Build the rows of the next K periods of each unit.")
@click.option("--future", type=FILE, help="With --ahead: values to come, by unit and period.")
@click.option("--strict", is_flag=True, help="Let each check that would warn refuse the build instead (exit status 1).")
@click.option("--no-checks", is_flag=True, help="Make no checks of the columns.")
@click.option("--json", "as_json", is_flag=True, help="Print what was built, for programs.")
def build(
    plan: Path,
    data: Path,
    out: Path,
    form: str,
    delimiter: str | None,
    decimal: str | None,
    mark: bool,
    replace: bool,
    history: Path | None,
    series: tuple[str, ...],
    threads: int | None,
    stream: bool,
    memory: int,
    report: Path | None,
    ahead: int | None,
    future: Path | None,
    strict: bool,
    no_checks: bool,
    as_json: bool,
) -> None:
    """Build the design matrix of PLAN from DATA.

    PLAN is a plan file (.toml), open or resolved: with the plan.resolved.toml of an earlier build nothing is learned
    anew. DATA is a table: .csv, .tsv, .parquet, .arrow or .feather, or a folder of Parquet files.
    """
    from facturum.api.plan import Plan
    from facturum.files.builds.csv_files import CsvForm
    from facturum.files.builds.formats import STREAMED

    if not replace:
        refuse_existing(out, "Choose another folder, or add --replace.")
    given = {"delimiter": delimiter and delimiter.replace("\\t", "\t"), "decimal": decimal, "mark": mark or None}
    text = {key: value for key, value in given.items() if value is not None}
    CsvForm.of(text, form)
    loaded, tables = Plan.load(plan), series_from(series)
    if strict and no_checks:
        raise PlanError("--strict and --no-checks exclude each other", remedy="Write one of them.")
    if strict or no_checks:
        loaded = loaded.with_checks("strict" if strict else "off")
    if stream and history is not None:
        raise PlanError(
            "--stream cannot read --history",
            remedy="Put the earlier rows into the table, and leave them out of the matrix with [rows] keep.",
        )
    if ahead is not None:
        from facturum.validation.forecasting import build_ahead

        design = build_ahead(loaded, data, ahead, future=future, history=history, series=tables)
        design.save(out, format=form, replace=replace, text=text)
        _show_build(design, loaded, data, out, form, False, as_json, report)
        return
    streams = stream or (
        history is None and form in STREAMED and loaded._inputs.streams and loaded._inputs.is_large(data)
    )
    if streams:
        with rows_progress(as_json) as told:
            design = loaded.build_into(
                out, data, series=tables, format=form, replace=replace, memory=memory * 2**20, threads=threads,
                progress=told, text=text,
            )  # fmt: skip
    else:
        with leaves_progress(as_json) as ticked:
            design = loaded.build(
                data, history=history, series=tables, threads=threads, progress=ticked, sparse=form == "npz"
            )
            design.save(out, format=form, replace=replace, text=text)
    _show_build(design, loaded, data, out, form, streams, as_json, report)


def _show_build(
    design: Design, plan: Plan, data: Path, out: Path, form: str, streams: bool, as_json: bool, report: Path | None
) -> None:
    """Print what was built, and write its report."""
    if report is not None:
        from facturum.api.opening import open_design
        from facturum.show.drawn.report import write_report

        write_report(open_design(out), report)
    if as_json:
        counts = design.columns.rows.model_dump(mode="json")
        print_json({"out": str(out), "columns": design.names, "rows": counts, "warnings": design.columns.warnings})
        return
    from facturum.engine.planning.sections.spec import spec_from
    from facturum.files.builds.build_folder import seal_in
    from facturum.files.given.as_found import found_in_files
    from facturum.show.builds.built import built_view
    from facturum.show.terminal import views

    told = [*found_in_files(data.name, plan.spec, spec_from(design.columns.plan)), *design.news]
    lists = ["rows.csv", "imputed.csv"] if form == "csv" else []
    files = [f"design.{form}", "columns.json", "columns.csv", *lists, "rows.parquet", "imputed.parquet"]
    how = "; the rows were read and written in parts" if streams else ""
    screen = views.console()
    screen.print(built_view(design._audited, out, seal_in(out), told))
    screen.print(views.safe(f"written to {out}: {', '.join(files)}, plan.resolved.toml{how}"))
