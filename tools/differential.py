"""Compares builds of random plans with the interpreter of the tests, for as many plans as told.

    python tools/differential.py --count 10000 --seed 1
    python tools/differential.py --kind errors --count 500 --seed 1000

Plans learn from random rows, and look along time inside and outside of what they learn. The first plan that differs is
made as small as possible and printed. With `--kind errors`, standard errors of random panels are compared with those of
regressions beside indicators, to 1e-8.
"""

from __future__ import annotations

import argparse
import random
import sys
import unittest
import warnings
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from hypothesis import HealthCheck, given, seed, settings
from hypothesis import strategies as st

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

from facturum import FacturumWarning  # noqa: E402 - found through the path above
from tests.expressions import ALONG, CONDITIONS, LEARNED, LEARNED_ALONG  # noqa: E402
from tests.test_interpreter import ANY, MASKS, PRODUCTS, agree, cells  # noqa: E402
from tests.test_trial_errors import Absorbed  # noqa: E402

TERM = st.one_of(ANY, PRODUCTS, ALONG, LEARNED, LEARNED_ALONG, LEARNED_ALONG)


def compare(first: int, count: int) -> Counter[str]:
    """Compare some random plans; return how many had a matrix."""
    warnings.simplefilter("ignore", FacturumWarning)
    outcomes: Counter[str] = Counter()
    case = unittest.TestCase()

    @seed(first)
    @settings(max_examples=count, deadline=None, database=None, suppress_health_check=list(HealthCheck))
    @given(
        st.lists(TERM, min_size=1, max_size=4),
        st.one_of(st.none(), st.none(), CONDITIONS),
        st.one_of(MASKS, MASKS, MASKS, CONDITIONS),
        st.sampled_from(["drop", "drop", "keep"]),
        st.sampled_from([None, "hidden", "lead(hidden, 1)"]),
        st.integers(0, 10**6),
    )
    def one(terms: list[str], keep: str | None, learn: str, missing: str, response: str | None, number: int) -> None:
        rows = {"missing": missing, "learn": learn} | ({"keep": keep} if keep else {})
        named = {f"t{at}": text for at, text in enumerate(terms)}
        made = agree(case, cells(number, 51 * (number % 2)), named, rows, response)
        outcomes["compared cell by cell" if made else "refused by both"] += 1

    one()
    return outcomes


def compare_errors(first: int, count: int) -> Counter[str]:
    """Compare the standard errors of some random panels; return how many had any."""
    warnings.simplefilter("ignore", FacturumWarning)
    case = Absorbed()
    return Counter("compared" if case.check(number) else "refused" for number in range(first, first + count))


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--kind", choices=["plans", "errors"], default="plans")
    parser.add_argument("--count", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=random.SystemRandom().randrange(10**6))
    parser.add_argument("--jobs", type=int, default=2)
    given_options = parser.parse_args()
    size, errors = 250, given_options.kind == "errors"
    starts = range(given_options.seed, given_options.seed + -(-given_options.count // size))
    if errors:
        starts = range(given_options.seed, given_options.seed + given_options.count, size)
    outcomes: Counter[str] = Counter()
    with ProcessPoolExecutor(given_options.jobs) as pool:
        for part in pool.map(compare_errors if errors else compare, starts, [size] * len(starts)):
            outcomes += part
    print(f"seed {given_options.seed}: " + ", ".join(f"{n:,} {what}" for what, n in sorted(outcomes.items())))
    return 0


if __name__ == "__main__":
    sys.exit(main())
