"""What it costs to prove readings and to tell effects, beside building and fitting.

Run ``python benchmarks/proofs.py`` (about a minute, 2 GB); with --write the table goes into docs/performance.md.
"""

from __future__ import annotations

import sys
import time
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

import facturum as fa
from facturum.audit.map.column_map import source_changes
from facturum.audit.readings.coefficients import Sentences
from facturum.engine.passes.outline import Outline

DICE = np.random.default_rng(5)
ROWS = 2_000_000


def seconds(work: Callable[[], Any], times: int = 3) -> float:
    """Return the least of a few times that a work takes."""
    taken = []
    for _ in range(times):
        start = time.perf_counter()
        work()
        taken.append(time.perf_counter() - start)
    return min(taken)


def proof(outline: Outline, plan: fa.Plan) -> float:
    """Return how long it takes to prove the readings of a build."""

    def prove() -> None:
        sentences = Sentences(outline, False, plan.spec, {})
        for at in range(len(outline.columns)):
            sentences.of(at)

    return seconds(prove)


def wide(count: int) -> tuple[fa.Plan, dict[str, Any]]:
    """Return a plan of numbers beside a category, and its table."""
    table: dict[str, Any] = {f"x{at}": DICE.normal(10, 2, 2_000) for at in range(count)}
    return fa.Plan("y", {f"t{at}": f"x{at}" for at in range(count)}), table | {"y": DICE.normal(size=2_000)}


def measured() -> list[tuple[str, str, str]]:
    """Return each case with its cost and what is wanted."""
    found: list[tuple[str, str, str]] = []
    table = {
        "access": DICE.choice([f"way {at}" for at in range(12)], ROWS), "price": DICE.uniform(1, 50, ROWS),
        "y": DICE.normal(size=ROWS),
    }  # fmt: skip
    plan = fa.Plan("y", {"access": "access", "price": "log(price)", "curve": "polynomial(price, 3)",
                         "slope": "access * log(price)"}, intercept=False)  # fmt: skip
    built = plan.build(table)
    whole = seconds(lambda: plan.build(table).columns)
    outline = built._origin.built.outline  # type: ignore[attr-defined]
    own = proof(outline, plan)
    found.append((f"{len(built.names)} columns of {ROWS:,} rows: readings proved, of build and map",
                  f"{own:.2f} of {whole:.2f} s: {own / whole:.1%}", "≤ 10 %"))  # fmt: skip
    effects = seconds(lambda: source_changes(outline, built.columns), 2)
    found.append(("effects of these, beyond the trial", f"{effects:.2f} s", "≤ 1 s"))
    table["y"] = DICE.random(ROWS) < 0.4
    built = plan.build(table)
    outline = built._origin.built.outline  # type: ignore[attr-defined]
    effects = seconds(lambda: source_changes(outline, built.columns), 2)
    found.append(("the same of a response of 0 and 1, with the rows before and after", f"{effects:.2f} s", "≤ 1 s"))
    for count, wanted in ((300, 0.5), (2_000, 5.0)):
        plan, table = wide(count)
        made = plan.build(table)._origin.built.outline  # type: ignore[attr-defined]
        found.append((f"{count:,} numbers: readings proved", f"{proof(made, plan):.2f} s", f"≤ {wanted:g} s"))
    plan = fa.Plan("y", {f"t{at}": f"x + {at}" for at in range(2_000)})
    table = {"x": DICE.normal(10, 2, 2_000), "y": DICE.normal(size=2_000)}
    made = plan.build(table)._origin.built.outline  # type: ignore[attr-defined]
    found.append(("2,000 terms `x + k`: readings proved", f"{proof(made, plan):.2f} s", "≤ 5 s"))
    table = {"g": DICE.choice([f"g{at}" for at in range(300)], 20_000), "x": DICE.normal(size=20_000)}
    plan = fa.Plan("y", {"x": "x", "g": "g", "gx": "g * x"})
    made = plan.build(table | {"y": DICE.normal(size=20_000)})._origin.built.outline  # type: ignore[attr-defined]
    found.append(("a number crossed with 300 categories: readings proved", f"{proof(made, plan):.2f} s", "≤ 2 s"))
    months = [f"{1990 + at // 12}-{at % 12 + 1:02d}" for at in range(200)] * 10
    table = {"m": months, "u": np.repeat(np.arange(10), 200), "y": DICE.normal(size=2_000)}
    table |= {f"x{at}": DICE.normal(size=2_000) for at in range(40)}
    plan = fa.Plan("y", {f"t{at}": f"season('month') * x{at}" for at in range(40)},
                   data={"time": "m", "every": "month", "panel": ["u"]})  # fmt: skip
    built = plan.build(table)
    made = built._origin.built.outline  # type: ignore[attr-defined]
    changes = seconds(lambda: source_changes(made, built.columns), 1)
    found.append(("40 numbers crossed with months: their effects", f"{changes:.2f} s", "≤ 5 s"))
    table = {f"x{at}": DICE.normal(10, 2, 2_000) for at in range(8)} | {"y": DICE.normal(size=2_000)}
    table |= {"g": DICE.choice([*"abcd"], 2_000), "h": DICE.choice([*"uvw"], 2_000)}
    terms = {f"t{at}": f"x{at}" for at in range(5)} | {"l": "log(x7)", "g": "g", "h": "h", "i": "g * log(x7)"}
    for words, centred in (("", terms | {"i": "g * center(log(x7))"}), (", a remedy tried", terms)):
        plan = fa.Plan("y", centred)
        both = seconds(lambda plan=plan: plan.build(table).columns, 9)  # type: ignore[misc]
        case = f"2,000 rows, {len(plan.build(table).names)} columns: build and map{words}"
        found.append((case, f"{1000 * both:.0f} ms", "≤ 60 ms"))
    return found


def main() -> None:
    """Print each cost beside what is wanted; with --write, into docs/performance.md."""
    warnings.simplefilter("ignore")
    rows = measured()
    text = "\n".join(["| case | measured | wanted |", "|---|---|---|", *(f"| {a} | {b} | {c} |" for a, b, c in rows)])
    print(text)
    if "--write" in sys.argv:
        page = Path(__file__).resolve().parent.parent / "docs" / "performance.md"
        head, _, rest = page.read_text("utf-8").partition("<!-- proofs -->")
        tail = rest.partition("<!-- end of proofs -->")[2]
        page.write_text(f"{head}<!-- proofs -->\n\n{text}\n\n<!-- end of proofs -->{tail}", "utf-8")


if __name__ == "__main__":
    main()
