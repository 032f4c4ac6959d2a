"""What it costs to prove readings and to tell effects, beside building and fitting.

Run ``python benchmarks/proofs.py`` (about a minute, 2 GB).
"""

from __future__ import annotations

import time
import warnings
from collections.abc import Callable
from typing import Any

import numpy as np

import facturum as fa
from facturum.audit.column_map import source_changes
from facturum.audit.readings.sentences import Sentences
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


def main() -> None:
    """Print each cost beside what is wanted."""
    warnings.simplefilter("ignore")
    table = {
        "access": DICE.choice([f"way {at}" for at in range(12)], ROWS), "price": DICE.uniform(1, 50, ROWS),
        "y": DICE.normal(size=ROWS),
    }  # fmt: skip
    plan = fa.Plan("y", {"access": "access", "price": "log(price)", "curve": "polynomial(price, 3)",
                         "slope": "access * log(price)"}, intercept=False)  # fmt: skip
    built = plan.build(table)
    whole = seconds(lambda: plan.build(table).columns)
    outline = built._origin.built.outline  # type: ignore[union-attr]
    own = proof(outline, plan)
    print(f"{len(built.names)} columns of {ROWS:,} rows: build and map {whole:.2f} s, of this the proof {own:.3f} s: "
          f"{own / whole:.1%} (wanted: 10 %)")  # fmt: skip
    effects = seconds(lambda: source_changes(outline), 2)
    print(f"effects of these: {effects:.2f} s beyond the trial (wanted: 1 s)")
    for count, wanted in ((300, 0.5), (2_000, 5.0)):
        plan, table = wide(count)
        made = plan.build(table)._origin.built.outline  # type: ignore[union-attr]
        print(f"{count:,} numbers: proof {proof(made, plan):.2f} s (wanted: {wanted:g} s)")
    plan = fa.Plan("y", {f"t{at}": f"x + {at}" for at in range(2_000)})
    table = {"x": DICE.normal(10, 2, 2_000), "y": DICE.normal(size=2_000)}
    made = plan.build(table)._origin.built.outline  # type: ignore[union-attr]
    print(f"2,000 terms x + k: proof {proof(made, plan):.2f} s (wanted: 5 s)")
    table = {f"x{at}": DICE.normal(10, 2, 2_000) for at in range(8)} | {"y": DICE.normal(size=2_000)}
    table |= {"g": DICE.choice([*"abcd"], 2_000), "h": DICE.choice([*"uvw"], 2_000)}
    plan = fa.Plan(
        "y", {f"t{at}": f"x{at}" for at in range(5)} | {"l": "log(x7)", "g": "g", "h": "h", "i": "g * log(x7)"}
    )
    both = seconds(lambda: plan.build(table).columns, 9)
    print(f"2,000 rows and {len(plan.build(table).names)} columns: build and map {1000 * both:.0f} ms (wanted: 60 ms)")


if __name__ == "__main__":
    main()
