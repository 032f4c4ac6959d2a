"""Works out the sentences of random plans with the interpreter of the tests, for as many plans as told.

    python tools/sentences.py --count 5000 --seed 1

Readings of coefficients and changes that effects are told of are read word by word; cells of the source are changed,
and the interpreter builds the rows anew. What is false is printed.
"""

from __future__ import annotations

import argparse
import random
import sys
import warnings
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

from facturum import FacturumError, FacturumWarning  # noqa: E402 - found through the path above
from tests.claims import outcomes_of  # noqa: E402
from tests.interpreter import Refused  # noqa: E402
from tests.test_readings import claimed, random_plans  # noqa: E402

SIZE = 50  # plans that one process works out at a time


def work_out(first: int, size: int = SIZE) -> tuple[Counter[str], list[str]]:
    """Return what came of the sentences of some plans, and the false ones."""
    warnings.simplefilter("ignore", FacturumWarning)
    found, false = Counter[str](), []
    for plan in random_plans(first, size):
        try:
            made = claimed(plan)
        except (FacturumError, Refused):
            found["plans refused"] += 1
            continue
        found["plans"] += 1
        for kind, outcome, text in outcomes_of(made):
            found[f"{kind}s {outcome}"] += 1
            false += [text] if outcome == "false" else []
    return found, false


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--count", type=int, default=5_000)
    parser.add_argument("--seed", type=int, default=random.SystemRandom().randrange(10**6))
    parser.add_argument("--jobs", type=int, default=2)
    given = parser.parse_args()
    starts = range(given.seed, given.seed + -(-given.count // SIZE))
    total, wrong = Counter[str](), []
    with ProcessPoolExecutor(given.jobs) as pool:
        for found, false in pool.map(work_out, starts):
            total += found
            wrong += false
            print("".join(f"{text}\n" for text in false), end="", flush=True)
    print(f"seed {given.seed}: " + ", ".join(f"{n:,} {what}" for what, n in sorted(total.items())))
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
