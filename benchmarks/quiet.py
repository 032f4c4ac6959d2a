"""How often clean tables with ordinary plans are warned of: 300 made-up tables of wages, in which nothing is wrong.

Run ``python benchmarks/quiet.py`` (about half a minute).
"""

from __future__ import annotations

import random
import sys
import warnings
from collections import Counter
from typing import Any

import numpy as np

import facturum as fa

POOL = {
    "exper": "polynomial(exper, 2)", "size": "log(size)", "hours": "hours", "union": "union", "sector": "sector",
    "wide": "bins(age, width=10)", "quarters": "bins(age, quantiles=4)", "both": "educ * female",
    "scaled": "standardize(hours)", "slopes": "sector * log(size)", "thirds": "bins(age, edges=[30, 45])",
}  # fmt: skip


def table(seed: int) -> dict[str, Any]:
    """Return people with their wages, some values of one variable missing."""
    dice, choice = np.random.default_rng(seed), random.Random(seed)
    rows = choice.choice([300, 500, 800, 1500, 3000])
    age = dice.integers(18, 65, rows)
    educ = np.clip(dice.normal(12.5, 2.5, rows).round(), 6, 20)
    exper = np.clip(age - educ - 6 + dice.normal(0, 3, rows), 0, None).round(1)
    count = choice.choice([3, 4, 6, 8])
    shares = np.maximum(dice.dirichlet(np.full(count, 6.0)), 0.06)
    female = dice.random(rows) < choice.uniform(0.3, 0.6)
    made: dict[str, Any] = {
        "age": age, "educ": educ, "exper": exper, "female": female, "union": dice.random(rows) < 0.25,
        "region": dice.choice([f"region {at}" for at in range(count)], rows, p=shares / shares.sum()),
        "hours": np.clip(dice.normal(38, 6, rows), 10, 60).round(1),
        "size": np.exp(dice.normal(4, 1, rows)).round() + 1,
        "sector": dice.choice(["public", "private", "other"], rows, p=[0.3, 0.5, 0.2]),
        "wage": np.exp(1 + 0.06 * educ + 0.02 * exper - 0.1 * female + 0.3 * dice.normal(size=rows)),
    }  # fmt: skip
    gaps = choice.choice([None, "exper", "hours"])
    if gaps is not None:
        made[gaps] = [None if dice.random() < 0.04 else value for value in made[gaps].tolist()]
    return made


def plan(seed: int) -> fa.Plan:
    """Return an ordinary plan: three main effects, and two to four terms of the pool."""
    choice = random.Random(seed + 1)
    terms = {"educ": "educ", "region": "region", "female": "female"}
    terms |= {key: POOL[key] for key in choice.sample([*POOL], choice.choice([2, 3, 4]))}
    if "slopes" in terms:
        terms |= {"sector": "sector", "size": "log(size)"}
    once = [["hours", "scaled"], ["wide", "quarters", "thirds"]]
    for keys in once:  # a number is in the plan once
        for key in [key for key in keys if key in terms][1:]:
            del terms[key]
    return fa.Plan("log(wage)", terms)


def main() -> int:
    """Count warnings and notes; return 1 where there are more than wanted."""
    warnings.simplefilter("ignore")
    told: Counter[str] = Counter()
    for seed in range(300):
        columns = plan(seed).build(table(seed)).columns
        told["warnings"] += len(columns.warnings)
        told["notes"] += sum(finding.level == "note" for finding in columns.findings)
        for text in columns.warnings:
            print(f"{seed}: {text}")
    print(
        f"300 clean builds: {told['warnings']} warnings (wanted: 0), {told['notes'] / 300:.2f} notes each (wanted: 1/3)"
    )
    return int(told["warnings"] > 0 or told["notes"] > 100)


if __name__ == "__main__":
    sys.exit(main())
