"""The command `amend`: take remedies that a build has tried, and write the plan with them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from facturum.cli.common import FILE, put, refuse_existing, series_from, series_option
from facturum.errors import DataError, counted

if TYPE_CHECKING:
    from facturum.audit.map.entries import FindingEntry


@click.command()
@click.argument("plan", type=FILE)
@click.argument("data", type=FILE)
@click.option("--take", metavar="N,N", help="The numbers of the remedies; without it, they are listed.")
@click.option("--out", type=FILE, help="The plan file to write; it must not be there yet.")
@click.option("--history", type=FILE, help="Earlier rows, for lags and averages.")
@series_option
def amend(
    plan: Path, data: Path, take: str | None, out: Path | None, history: Path | None, series: tuple[str, ...]
) -> None:
    """Write PLAN with the remedies that building it from DATA proposes, its comments kept.

    `build` numbers them. Each has been tried: the plan was built with it, and what its sentence promises came out.
    """
    from facturum.api.plan import Plan
    from facturum.audit.remedies.remedying import numbered
    from facturum.files.plan_file import amended, written_plan

    refuse_existing(out)
    loaded = Plan.load(plan)
    design = loaded.build(data, history=history, series=series_from(series))
    remedies = numbered(design.columns.findings)
    if take is None:
        listed = [f"{number}  {each.text}\n" for number, alike in enumerate(remedies, 1) for each in alike]
        put("".join(listed) or "There are no remedies.\n")
        return
    chosen = _chosen(take, remedies)
    if out is None:
        raise DataError("--take needs the plan to write", remedy="Add --out better.toml.")
    edits = {key: text for alike in chosen for key, text in (alike[0].edit or {}).items()}
    written_plan(amended(plan.read_text(encoding="utf-8-sig"), edits), out)
    put(f"written to {out}, with {counted(len(chosen), 'remedy')} taken\n")


def _chosen(take: str, remedies: Sequence[list[FindingEntry]]) -> list[list[FindingEntry]]:
    """Return the remedies of some numbers.

    Raises:
        DataError: for anything that is no number of one.
    """
    words = [word.strip() for word in take.split(",")]
    wrong = [word for word in words if not word.isdecimal() or not 1 <= int(word) <= len(remedies)]
    if wrong:
        have = f"Building the plan proposes {counted(len(remedies), 'remedy')}; leave --take out to list them."
        raise DataError(f"--take {take} names no remedy {wrong[0]}", remedy=have)
    return [remedies[int(word) - 1] for word in dict.fromkeys(words)]
