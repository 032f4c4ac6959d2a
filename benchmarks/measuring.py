"""Times and memory of works, measured side by side."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from itertools import permutations
from pathlib import Path

RUNS = 24


def best(*works: Callable[[], object], runs: int = RUNS) -> list[float]:
    """Return the best time of each of some works, taken in turns and in every order, as one may slow down the next."""
    times = [float("inf")] * len(works)
    orders = list(permutations(range(len(works))))
    for run in range(runs):
        for at in orders[run % len(orders)]:
            start = time.perf_counter()
            result = works[at]()
            times[at] = min(times[at], time.perf_counter() - start)
            del result
    return times


def peak(work: Callable[[], object]) -> int:
    """Return how many bytes of memory a work adds at its peak, from the kernel's count for this process."""
    status = Path("/proc/self/statm")
    page = 4096

    def resident() -> int:
        return int(status.read_text().split()[1]) * page

    before, highest, done = resident(), 0, threading.Event()

    def watch() -> None:
        nonlocal highest
        while not done.wait(0.001):
            highest = max(highest, resident())

    watcher = threading.Thread(target=watch)
    watcher.start()
    result = work()
    done.set()
    watcher.join()
    del result
    return highest - before
