"""Threads: how many there are, and works that are done on them."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from functools import cache
from threading import Lock
from typing import Any, TypeVar

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
    if len(items) < 2:
        return [work(item) for item in items]
    with ThreadPoolExecutor(thread_count(threads)) as pool:
        return list(pool.map(work, items))


class _OneBlasThread:
    """Counts who needs linear algebra on one thread, for the first sets it and the last sets it back."""

    def __init__(self) -> None:
        self._lock = Lock()
        self._users = 0
        self._limits: Any = None

    def enter(self) -> None:
        with self._lock:
            self._users += 1
            if self._users == 1:
                self._limits = _blas().limit(limits=1, user_api="blas")

    def leave(self) -> None:
        with self._lock:
            self._users -= 1
            if self._users == 0:
                self._limits.restore_original_limits()


_ONE_BLAS_THREAD = _OneBlasThread()


@cache
def _blas() -> Any:
    import scipy.linalg.lapack  # noqa: F401 - which brings a library of its own, to be found below
    from threadpoolctl import ThreadpoolController

    return ThreadpoolController()


@contextmanager
def one_blas_thread() -> Iterator[None]:
    """Let each call of linear algebra run on the thread that makes it, so that its digits depend on no setting.

    Example:
        >>> with one_blas_thread():
        ...     pass
    """
    _ONE_BLAS_THREAD.enter()
    try:
        yield
    finally:
        _ONE_BLAS_THREAD.leave()
