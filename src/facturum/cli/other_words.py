"""Commands and options by the names that other programs have for them."""

from __future__ import annotations

import re
from typing import Any

import click

_COMMANDS = {
    "trial DIR fits a regression to a build": "fit regress regression ols logit estimate model",
    "trial DIR --ahead 12 forecasts the periods to come; build RESOLVED DATA applies a plan to new rows": "predict "
    "forecast apply",
    "profile DATA shows the variables of a table, explain DIR the columns of a build": "describe summary summarize "
    "summarise show view look inspect",
    "compare DIR OTHER tells what changed between two builds": "diff changes",
    "convert DATA brings a table to another step of time": "aggregate resample",
    "stack DATA and unstack DATA make a table long or wide": "pivot melt reshape long wide",
    "draft DATA --response NAME writes a first plan": "new init create start plan",
    "verify DIR DATA tells whether a build still is what its source gives": "check validate audit",
    "build PLAN DATA --out DIR writes the design matrix": "run make prepare design matrix",
    "report DIR --out FILE writes one page for a browser": "html page publish",
    "build PLAN DATA --out DIR --format csv writes text files": "export save write",
    "trace DIR DATA --row 7 --column NAME follows a cell to its source": "lineage origin",
    "operations lists the language of plans": "functions language list",
    "sample DATA draws rows": "split draw",
}
COMMANDS = {word: sentence for sentence, words in _COMMANDS.items() for word in words.split()}
OPTIONS = {
    "--overwrite": "--replace", "--force": "--replace", "-f": "--replace", "--output": "--out", "-o": "--out",
    "--output-dir": "--out", "--dir": "--out", "--sep": "--delimiter", "--separator": "--delimiter",
    "--charset": "--encoding", "--group": "--by", "--group-by": "--by", "--cluster": "--by", "--horizon": "--ahead",
    "--periods": "--ahead", "--target": "--response", "--outcome": "--response", "--family": "--model",
    "--plot": "--figure", "--chart": "--figure", "--cv": "--folds", "--bootstrap": "--resample", "--col": "--column",
    "--rows": "--size",
}  # fmt: skip


class Commands(click.Group):
    """A group of commands that knows other names for them and their options."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Return the command; of an unknown one tell what may be meant."""
        if args and self.get_command(ctx, args[0]) is None and (meant := COMMANDS.get(args[0].casefold())):
            ctx.fail(f"No such command '{args[0]}': {meant}.")
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write each command with its first sentence, whole."""
        commands = [(name, self.get_command(ctx, name)) for name in self.list_commands(ctx)]
        rows = [(name, _first_sentence(command)) for name, command in commands if command is not None]
        with formatter.section("Commands"):
            formatter.write_dl(rows)


def _first_sentence(command: click.Command) -> str:
    text = " ".join((command.help or "").split("\n\n")[0].split())
    return re.split(r"[:.;](?: |$)", text)[0] + "."


def told(problem: click.ClickException) -> click.ClickException:
    """Return an error of the command line that names the option that may be meant, and no other."""
    if not isinstance(problem, click.NoSuchOption) or problem.ctx is None:
        return problem
    known: set[Any] = {name for each in problem.ctx.command.params for name in (*each.opts, *each.secondary_opts)}
    written = problem.option_name
    alike = [each for each in problem.possibilities or () if each.strip("-")[:2] == written.strip("-")[:2]]
    meant = [OPTIONS[written]] if OPTIONS.get(written) in known else alike[:1]
    hint = f" Did you mean '{meant[0]}'?" if meant else ""
    return click.NoSuchOption(written, message=f"No such option '{written}'.{hint}", ctx=problem.ctx)
