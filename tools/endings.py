"""Builds a small plan again and again, each time as a command of its own, and counts how these end.

    python tools/endings.py --count 2000

Threads at the end of a process: one build in about 160 once ended, its folder whole, with "terminate called without
an active exception".
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

PLAN = 'response = "y"\n[terms]\na = "a"\nb = "log(b)"\n'
TABLE = "y,a,b\n1,2,3\n2,4,5\n3,7,2\n4,6,8\n7,1,3\n"


def ended(folder: Path, number: int) -> str:
    """Return how one build ends: "fine", or its exit status with what it said."""
    command = str(Path(sys.executable).with_name("facturum"))
    out = ["--out", str(folder / f"b{number}"), "--replace"]
    run = subprocess.run(
        [command, "build", str(folder / "plan.toml"), str(folder / "d.csv"), *out],
        capture_output=True,
        text=True,
        check=False,
        cwd=folder,
    )
    if run.returncode == 0 and "terminate" not in run.stderr:
        return "fine"
    return f"status {run.returncode}: {run.stderr.strip()[:200]}"


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--count", type=int, default=2_000)
    parser.add_argument("--jobs", type=int, default=2)
    given = parser.parse_args()
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # else each command compiles all modules anew
    with tempfile.TemporaryDirectory() as place, ThreadPoolExecutor(given.jobs) as pool:
        folder = Path(place)
        (folder / "plan.toml").write_text(PLAN, encoding="utf-8")
        (folder / "d.csv").write_text(TABLE, encoding="utf-8")
        outcomes = Counter(pool.map(lambda at: ended(folder, at % given.jobs), range(given.count)))
    for outcome, count in outcomes.most_common():
        print(f"{count:,} {outcome}")
    return int(set(outcomes) != {"fine"})


if __name__ == "__main__":
    sys.exit(main())
