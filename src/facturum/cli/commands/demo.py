"""The command `demo`: the main job on the sample data."""

from __future__ import annotations

from pathlib import Path

import click

from facturum.cli.common import FILE
from facturum.errors import PlanError, nearest


@click.command()
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
    from facturum.show.builds.built import built_view
    from facturum.show.terminal import views

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
