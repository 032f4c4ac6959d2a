"""Tells whether a change of the code changes a byte of what is built: records digests before it, compares after it.

    python tools/same_bytes.py record before.json --count 1000
    (change the code)
    python tools/same_bytes.py compare before.json

Every sample plan and as many random plans as told are built in memory and in parts. Of each, the digests of all files
of the build folder are kept; of a plan that is refused, the message.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import random
import sys
import tempfile
import warnings
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

import facturum as fa  # noqa: E402 - found through the path above
from facturum.demo.sample import PLANS, sample  # noqa: E402
from tests.grammar import Grammar, table  # noqa: E402
from tests.support import PANEL_DATA  # noqa: E402
from tests.test_interpreter import cells  # noqa: E402
from tests.test_readings import COMFORT, DERIVED, random_plans  # noqa: E402

SIZE = 20  # plans that one process builds at a time


def digests(write: Callable[[Path], Any]) -> dict[str, str]:
    """Return the digest of each file that is written, or the message of the refusal."""
    with tempfile.TemporaryDirectory(prefix="facturum-bytes-") as name:
        folder = Path(name) / "out"
        try:
            write(folder)
        except fa.FacturumError as error:
            return {"refused": str(error).replace(str(folder), "out")}
        return {path.name: hashlib.sha256(path.read_bytes()).hexdigest() for path in sorted(folder.iterdir())}


def both_ways(name: str, plan: fa.Plan, data: Any) -> dict[str, dict[str, str]]:
    """Return the digests of a plan built in memory and in parts."""
    found = {f"{name} in memory": digests(lambda folder: plan.build(data, threads=1).save(folder))}
    if plan._inputs.streams:
        found[f"{name} in parts"] = digests(lambda folder: plan.build_into(folder, data, threads=1))
    return found


def some_plans(first: int, panels: Sequence[Any]) -> dict[str, dict[str, str]]:
    """Return the digests of some random plans: half of them of a panel, half of every operation and option."""
    warnings.simplefilter("ignore")
    found: dict[str, dict[str, str]] = {}
    for at, (terms, response, missing, number) in enumerate(panels):
        named = {f"t{each}": text for each, text in enumerate(terms)}
        plan = fa.Plan(
            response, named, derived=DERIVED, data=PANEL_DATA, variables={"comfort": COMFORT}, rows={"missing": missing}
        )
        found |= both_ways(f"panel {first}.{at}", plan, cells(number))
    for number in range(first * SIZE, first * SIZE + SIZE // 2):
        content = Grammar(random.Random(number), 0.0).plan()
        response, terms = content.pop("response", None), content.pop("terms")
        try:
            plan = fa.Plan(response, terms, **content)
        except fa.FacturumError:
            continue
        found |= both_ways(f"grammar {number}", plan, table(seed=number % 5))
    return found


def sample_plans() -> dict[str, dict[str, str]]:
    """Return the digests of the sample plans."""
    warnings.simplefilter("ignore")
    found: dict[str, dict[str, str]] = {}
    for name, data in PLANS.items():
        found |= both_ways(f"sample {name}", fa.Plan.load(sample(f"{name}.toml")), sample(data))
    return found


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("do", choices=["record", "compare"])
    parser.add_argument("file", type=Path)
    parser.add_argument("--count", type=int, default=1000)
    options = parser.parse_args()
    before = json.loads(options.file.read_text("utf-8")) if options.do == "compare" else None
    count = options.count if before is None else before["count"]
    # the generator draws constants from the source too: what was recorded is what is compared
    panels = (
        [random_plans(first, SIZE // 2) for first in range(-(-count // SIZE))] if before is None else before["panels"]
    )
    found = sample_plans()
    with ProcessPoolExecutor(2) as pool:
        for part in pool.map(some_plans, range(len(panels)), panels):
            found |= part
    refused = sum("refused" in files for files in found.values())
    print(f"{len(found):,} builds of {count:,} random plans and the samples, {refused:,} of them refused")
    if before is None:
        options.file.write_text(json.dumps({"count": count, "panels": panels, "builds": found}, indent=1), "utf-8")
        return 0
    differ = [name for name, files in found.items() if files != before["builds"].get(name)]
    for name in differ[:20]:
        old = before["builds"].get(name, {})
        print(f"{name}: {', '.join(key for key in {**old, **found[name]} if old.get(key) != found[name].get(key))}")
    print(f"{len(differ):,} differ")
    return 1 if differ else 0


if __name__ == "__main__":
    sys.exit(main())
