"""Threads: how many there are, and works that are done on them."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

MAX_THREADS = 256
S = TypeVar("S")
T = TypeVar("T")


def thread_count(wanted: int | None) -> int:
    """Return how many threads to use: as given, by FACTURUM_THREADS, or one for each processor."""
    if wanted is None:
        allowed = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()
        given = os.environ.get("FACTURUM_THREADS", "")
        wanted = int(given) if given.isdecimal() and len(given) < 9 else allowed or 1
    return max(1, min(wanted, MAX_THREADS))


def on_threads(work: Callable[[S], T], items: Sequence[S], threads: int | None = None) -> list[T]:
    """Return the work of each item in their order, computed on a thread pool; what fails is raised as it is.

    Example:
        >>> on_threads(len, ["a", "bc"])
        [1, 2]
    """
    with ThreadPoolExecutor(thread_count(threads)) as pool:
        return list(pool.map(work, items))
