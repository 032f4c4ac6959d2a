"""The command `verify`: whether a build still follows from its source."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from facturum.cli.common import FILE, ahead_options, print_json, series_from, series_option, source_of
from facturum.cli.guard import FOUND_SOMETHING
from facturum.errors import AuditError

if TYPE_CHECKING:
    from facturum.audit.proof.verify import Verification


@click.command()
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
