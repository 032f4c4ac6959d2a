"""How many exports made by rules are read right where the plan says nothing of them, and what that takes.

Delimiters, decimal and thousands marks, encodings, orders of dates, quotes, units, lines above the names, 3 to 3,000
rows. Run ``python benchmarks/exports.py --count 400`` (about a minute).
"""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
import warnings
from pathlib import Path

import facturum as fa

sys.path.insert(0, str(Path(__file__).parents[1]))
from tests.exports import BARE, export  # the tests' own exports


def main() -> int:
    """Print how many were read right, asked about and read otherwise, and the time beside that of declared reading."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=200)
    parser.add_argument("--seed", type=int, default=0)
    asked_for = parser.parse_args()
    warnings.simplefilter("ignore")
    right, asked, wrong, spent, declared = 0, 0, 0, 0.0, 0.0
    with tempfile.TemporaryDirectory() as folder:
        for seed in range(asked_for.seed, asked_for.seed + asked_for.count):
            made = export(seed, Path(folder))
            start = time.perf_counter()
            by_hand = made.declared.build(made.path)
            middle = time.perf_counter()
            try:
                design = BARE.build(made.path)
            except fa.FacturumError as error:
                asked += 1
                print(f"{seed}, {len(made.held['Ort'])} rows: {str(error).splitlines()[0]}")
                continue
            declared, spent = declared + middle - start, spent + time.perf_counter() - middle
            said, found = made.wrong(by_hand), made.wrong(design)
            right, wrong = right + (not found), wrong + bool(found or said)
            if found or said:
                print(f"{seed}: wrong {said} {found} {made.written}")
    print(f"{right} of {asked_for.count} read right, {asked} asked about, {wrong} read otherwise")
    print(f"time {spent / declared:.2f} of that of reading with everything declared")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
