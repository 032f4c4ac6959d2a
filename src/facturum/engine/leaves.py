"""Fixed leaves of source rows, run on threads, their results in the order of the leaves."""

from __future__ import annotations

import os
from bisect import bisect_left
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import accumulate, pairwise
from typing import TypeVar

from facturum.errors import DataError, FacturumError
from facturum.language.nodes import Node, RowFailure

LEAF = 65_536
BLOCKS_A_THREAD = 2
TOGETHER = 8  # leaves that a quick look takes together, where the result does not depend on it
T = TypeVar("T")
Where = Callable[[Node], tuple[str | None, str | None]]


def leaves_of(length: int, leaf: int = LEAF) -> list[tuple[int, int]]:
    """Return start and stop of each leaf.

    Example:
        >>> leaves_of(70_000)
        [(0, 65536), (65536, 70000)]
    """
    return [(start, min(start + leaf, length)) for start in range(0, length, leaf)]


def batched(ranges: Sequence[tuple[int, int]], size: int) -> list[Sequence[tuple[int, int]]]:
    """Return neighbouring leaves in groups.

    Example:
        >>> batched([(0, 2), (2, 4), (4, 5)], 2)
        [[(0, 2), (2, 4)], [(4, 5)]]
    """
    return [ranges[at : at + size] for at in range(0, len(ranges), size)]


def thread_count(wanted: int | None) -> int:
    """Return how many threads to use: as told, by FACTURUM_THREADS, or one for each processor."""
    if wanted is None:
        allowed = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()
        given = os.environ.get("FACTURUM_THREADS", "")
        wanted = int(given) if given.isdigit() else allowed or 1
    return max(1, wanted)


def run(
    work: Callable[[int], T],
    count: int,
    threads: int,
    where: Where,
    tick: Callable[[], None] | None = None,
    sizes: Sequence[int] | None = None,
) -> list[T]:
    """Return ``work(0), work(1), ..``, computed on a thread pool; failing rows of all leaves are added up.

    Args:
        work: does one leaf.
        count: how many leaves there are.
        threads: how many threads.
        where: tells the place and text of the expression that failed.
        tick: is called after each leaf, for progress.
        sizes: how much work each leaf is, where that is known.

    Raises:
        DataError: with the rows of all leaves in which the first failing operation failed.
    """
    failures: dict[int, RowFailure] = {}

    def guarded(at: int) -> T | None:
        try:
            return work(at)
        except RowFailure as failure:
            failures[at] = failure
            return None
        finally:
            if tick is not None:
                tick()

    if threads == 1 or count < 2:
        results = [guarded(at) for at in range(count)]
    else:
        blocks = _blocks(count, threads, sizes)
        with ThreadPoolExecutor(min(threads, len(blocks))) as pool:
            results = [found for block in pool.map(lambda block: list(map(guarded, block)), blocks) for found in block]
    if failures:
        raise merged_failure([failures[at] for at in sorted(failures)], where)
    return results  # type: ignore[return-value]


def _blocks(count: int, threads: int, sizes: Sequence[int] | None) -> list[range]:
    """Return which leaves go together; neighbouring ones share pages of memory, so a thread takes them together.

    Example:
        >>> _blocks(4, 2, [10, 10, 10, 30])
        [range(0, 3), range(3, 4)]
    """
    if sizes is None:
        size = -(-count // (threads * BLOCKS_A_THREAD))
        return [range(start, min(start + size, count)) for start in range(0, count, size)]
    done = list(accumulate(sizes))
    edges = [bisect_left(done, done[-1] * at / threads) + 1 for at in range(1, threads)]
    return [range(a, b) for a, b in pairwise(sorted({0, *edges, count})) if a < b]


def merged_failure(failures: Sequence[RowFailure], where: Where) -> FacturumError:
    """Return one error for what failed in several leaves."""
    first = failures[0]
    rows = [row for failure in failures if failure.node == first.node for row in failure.rows]
    place, text = where(first.node)
    span = first.node.span if text is not None else None
    if span is not None and text is not None and span[1] > len(text):
        span = None
    return DataError(
        f"{first.what} in {len(rows):,} {'row' if len(rows) == 1 else 'rows'}",
        place=place,
        text=text,
        span=span,
        rows=rows,
        remedy=first.remedy,
    )
