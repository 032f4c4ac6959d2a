"""Tries the remedies that builds of random plans with planted troubles tell, for as many plans as told.

    python tools/remedies.py --count 1000 --seed 1

Each edit is written into the plan file, which is built anew: what its sentence promises must come out.
"""

from __future__ import annotations

import argparse
import sys
import warnings
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

from facturum import FacturumWarning  # noqa: E402 - found through the path above
from tests.planted import outcomes  # noqa: E402


def try_out(seed: int) -> Counter[str]:
    """Return what came of the remedies of one plan."""
    warnings.simplefilter("ignore", FacturumWarning)
    return outcomes(seed)


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--count", type=int, default=1_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=2)
    given = parser.parse_args()
    total = Counter[str]()
    with ProcessPoolExecutor(given.jobs) as pool:
        for found in pool.map(try_out, range(given.seed, given.seed + given.count), chunksize=20):
            total += found
    print("\n".join(f"{count:6,} {what}" for what, count in sorted(total.items())))
    return 1 if any(what.startswith("broken") for what in total) else 0


if __name__ == "__main__":
    sys.exit(main())
