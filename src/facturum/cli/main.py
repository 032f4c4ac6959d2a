"""The command line: its commands, and how errors reach a person."""

from __future__ import annotations

import click

from facturum.cli.commands.amend import amend
from facturum.cli.commands.build import build
from facturum.cli.commands.demo import demo
from facturum.cli.commands.explain import explain
from facturum.cli.commands.inspect import compare, report, sheet, trace
from facturum.cli.commands.look import draft, operations, profile
from facturum.cli.commands.reshape import convert, sample, stack, unstack
from facturum.cli.commands.trial import trial
from facturum.cli.commands.verify import verify
from facturum.cli.common import put
from facturum.cli.guard import leave, run_guarded
from facturum.cli.other_words import Commands
from facturum.version import VERSION

COMMANDS = (
    demo, profile, draft, operations, build, explain, verify, amend, compare, trace, trial, report, sheet, sample,
    stack, unstack, convert,
)  # fmt: skip


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
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion(shell: str) -> None:
    """Print the script that lets SHELL complete commands and options; source it from your profile."""
    from click.shell_completion import get_completion_class

    if (completion := get_completion_class(shell)) is not None:
        put(completion(main, {}, "facturum", "_FACTURUM_COMPLETE").source() + "\n")


for command in COMMANDS:
    main.add_command(command)


def run() -> None:
    """Run the command line; whatever happens ends in one of the exit statuses, without a traceback."""
    run_guarded(lambda: main.main(prog_name="facturum", standalone_mode=False))


def start() -> None:
    """Run the command line as a process of its own, which ends with it."""
    leave(run)
