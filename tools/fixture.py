"""Writes builds of this version into tests/fixtures/VERSION, which every later version must open and verify.

    python tools/fixture.py

Run it once for each release; what it has written is never changed.
"""

from __future__ import annotations

import csv
import random
import sys
from importlib.metadata import version
from pathlib import Path

import facturum as fa

ROOT = Path(__file__).resolve().parent.parent
TERMS = {
    "access": "category(access, reference='trail')",
    "price": "log(impute(price, 'median', by=[access]))",
    "height": "bins(altitude, quantiles=3)",
    "curve": "polynomial(altitude / 1000, 2, orthogonal=True)",
    "before": "lag(log(stays), 1)",
    "season": "season('quarter')",
    "dear": "price > median(price)",
    "slope": "category(access, reference='trail') * log(altitude)",
}
DATA = {"time": "month", "every": "month", "panel": ["hut"], "carry": ["month", "hut"]}


def source(path: Path) -> None:
    """Write the table that the builds are made of."""
    dice = random.Random(7)
    with path.open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(["hut", "month", "stays", "access", "price", "altitude"])
        for hut in range(6):
            access, altitude = dice.choice(["trail", "road", "lift"]), dice.randrange(900, 2800)
            for at in range(24):
                price = "" if dice.random() < 0.1 else f"{dice.uniform(20, 80):.2f}"
                month = f"{2022 + at // 12}-{at % 12 + 1:02d}"
                writer.writerow([f"hut {hut}", month, dice.randrange(5, 400), access, price, altitude + at])


def main() -> int:
    folder = ROOT / "tests" / "fixtures" / version("facturum")
    if folder.exists():
        print(f"{folder} is there already, and is not changed")
        return 2
    folder.mkdir(parents=True)
    source(folder / "huts.csv")
    plan = fa.Plan("log(stays)", TERMS, data=DATA)
    plan.save(folder / "plan.toml")
    for form in ("parquet", "csv", "npy"):
        plan.build(folder / "huts.csv").save(folder / form, format=form)
    plan.build(folder / "huts.csv", sparse=True).save(folder / "npz", format="npz")
    plan.build_into(folder / "parts", folder / "huts.csv")
    print(f"written to {folder}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
