"""The command `trial`: a regression on a build, to read it and to check it."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from facturum.cli.common import FILE, print_json

if TYPE_CHECKING:
    from facturum.trial.trial import Trial


@click.command()
@click.argument("folder", metavar="DIR", type=FILE)
@click.option(
    "--model",
    type=click.Choice(["linear", "logistic", "poisson"]),
    default="linear",
    show_default=True,
    help="Least squares, or the likelihood of a response of 0 and 1, or of counts.",
)
@click.option(
    "--errors",
    type=click.Choice(["ordinary", "hc1", "hc3", "clustered", "autocorrelation"]),
    default="ordinary",
    show_default=True,
    help="Standard errors; hc1 and hc3 are robust to heteroscedasticity.",
)
@click.option(
    "--by", metavar="VARIABLE", help="The carried variable that names the unit, of clustered errors or series."
)
@click.option("--lags", type=click.IntRange(0), help="Of autocorrelation, how many; otherwise chosen.")
@click.option("--json", "as_json", is_flag=True, help="Print the result, for programs.")
def trial(folder: Path, model: str, errors: str, by: str | None, lags: int | None, as_json: bool) -> None:
    """Fit a regression to the build in DIR, and say what its coefficients mean with their numbers.

    It is a check on the matrix, not a modelling package: hand X, y and the names to one for more. Rows that are not
    learned from are held out.
    """
    from facturum.design import open_design

    result = open_design(folder).trial(model, errors=errors, by=by, lags=lags)
    if as_json:
        print_json(trial_json(result))
        return
    from facturum.show import terminal
    from facturum.show.trial import trial_view

    terminal.console().print(trial_view(result))


def trial_json(result: Trial) -> dict[str, Any]:
    """Return a trial as plain data."""
    content = asdict(result)
    content["covariance"] = result.covariance.tolist()
    return content
