"""Throws random plans, files and damage at Facturum for as long as told; every use of the last net is a failure.

    python tools/fuzz.py --minutes 60                 all kinds in turn
    python tools/fuzz.py --kind expressions --count 100000 --seed 7

Each finding is printed once, with the seed that brings it about.
"""

from __future__ import annotations

import argparse
import random
import signal
import sys
import time
import traceback
import warnings
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from types import FrameType
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

from facturum import FacturumWarning  # noqa: E402 - found through the path above
from tests import hostile  # noqa: E402 - found through the path above

SLOW = 2.0  # seconds
BATCH = 250


class TooSlow(Exception):
    """A case has not come to an end."""


def _stop(number: int, frame: FrameType | None) -> None:
    raise TooSlow


def batch(kind: str, seed: int, count: int) -> tuple[int, list[tuple[str, int, str]]]:
    """Run some cases; return how many had a result, and the findings: their place, seed and details."""
    warnings.simplefilter("error")
    warnings.simplefilter("ignore", FacturumWarning)
    signal.signal(signal.SIGALRM, _stop)
    findings = []
    results = 0
    for number in range(seed, seed + count):
        start = time.monotonic()
        signal.setitimer(signal.ITIMER_REAL, 10 * SLOW)
        try:
            results += hostile.KINDS[kind](random.Random(f"{kind} {number}"))
        except BaseException as problem:
            findings.append((_place(problem), number, "".join(traceback.format_exception(problem)[-6:])))
        finally:
            signal.setitimer(signal.ITIMER_REAL, 0)
        took = time.monotonic() - start
        if took > SLOW:
            findings.append(("slow", number, f"{took:.1f} s"))
    return results, findings


def _place(problem: BaseException) -> str:
    frames = traceback.extract_tb(problem.__traceback__)
    own = [frame for frame in frames if "facturum" in frame.filename] or frames
    place = f"{type(problem).__name__} at {Path(own[-1].filename).name}:{own[-1].lineno} ({own[-1].line})"
    said = str(problem) if isinstance(problem, AssertionError) else ""
    return f"{place} {''.join(c for c in said if not c.isdigit())[:60]}".strip()


def run(kind: str, seed: int, count: int, until: float, jobs: int) -> Counter[str]:
    """Run cases of one kind on several processes, and print what is found."""
    seen: Counter[str] = Counter()
    done = results = 0
    start = time.monotonic()
    with ProcessPoolExecutor(jobs, max_tasks_per_child=40) as pool:
        starts = iter(range(seed, seed + count, BATCH))
        waiting: list[Any] = []
        while True:
            while len(waiting) < 2 * jobs and time.monotonic() < until and (at := next(starts, None)) is not None:
                size = min(BATCH, seed + count - at)
                waiting.append((pool.submit(batch, kind, at, size), size))
            if not waiting:
                break
            future, size = waiting.pop(0)
            had, findings = future.result()
            done, results = done + size, results + had
            for place, number, details in findings:
                if not seen[place]:
                    print(f"\n{kind} seed {number}: {place}\n{details}", flush=True)
                seen[place] += 1
    took = time.monotonic() - start
    print(
        f"{kind}: {done:,} cases from seed {seed}, {results:,} with a result, {took:.0f} s; findings: {dict(seen)}",
        flush=True,
    )
    return seen


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--kind", choices=[*hostile.KINDS, "all"], default="all")
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--count", type=int, default=10**9)
    parser.add_argument("--seed", type=int, default=random.SystemRandom().randrange(10**9))
    parser.add_argument("--jobs", type=int, default=2)
    given = parser.parse_args()
    kinds = list(hostile.KINDS) if given.kind == "all" else [given.kind]
    found: Counter[str] = Counter()
    for kind in kinds:
        until = time.monotonic() + 60 * given.minutes / len(kinds)
        found += run(kind, given.seed, given.count, until, given.jobs)
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
