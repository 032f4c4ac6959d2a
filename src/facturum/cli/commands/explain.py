"""The command `explain`: the column map of a build."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from facturum.cli.common import FILE, print_json
from facturum.errors import AuditError, nearest

if TYPE_CHECKING:
    from facturum.api.design import Design
    from facturum.audit.map.entries import ColumnMap, PathEntry


@click.command()
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
    from facturum.show.builds.built import head_view, references_text
    from facturum.show.builds.checks import checks_view
    from facturum.show.builds.columns import columns_view, findings_view
    from facturum.show.builds.preparation import treatments_view
    from facturum.show.terminal import views

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
    from facturum.show.builds.preparation import imputed_cells, imputed_cells_view
    from facturum.show.terminal import views

    cells = list(imputed_cells(design.columns, design.imputed, terms))
    if as_json:
        print_json([{**cell, "variable": design.columns.imputations[cell["imputation"]].variable} for cell in cells])
    else:
        views.console().print(imputed_cells_view(design.columns, cells))
