"""Fixed leaves of source rows, run on threads, their results in the order of the leaves."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import accumulate, pairwise
from threading import Lock
from typing import Protocol, TypeVar

import numpy as np

from facturum.data.values import Array
from facturum.errors import FailedRows
from facturum.language.tree.failures import RowFailure
from facturum.language.tree.nodes import Node

LEAF = 65_536
STRETCH = 4  # leaves filled at a time: 2 MiB of a column, which systems hand out as one large page
TOGETHER = 8  # leaves that a quick look takes together, where the result does not depend on it
S = TypeVar("S")
T = TypeVar("T")


class Reporter(Protocol):
    """What errors need to name a place in the plan and rows of the table given."""

    def where(self, node: Node) -> tuple[str | None, str | None]: ...
    def row_numbers(self, positions: Array) -> Array: ...


def leaves_of(length: int, leaf: int = LEAF) -> list[tuple[int, int]]:
    """Return start and stop of each leaf.

    Example:
        >>> leaves_of(70_000)
        [(0, 65536), (65536, 70000)]
    """
    return [(start, min(start + leaf, length)) for start in range(0, length, leaf)]


def batched(items: Sequence[T], size: int) -> list[Sequence[T]]:
    """Return neighbouring items in groups.

    Example:
        >>> batched([(0, 2), (2, 4), (4, 5)], 2)
        [[(0, 2), (2, 4)], [(4, 5)]]
    """
    return [items[at : at + size] for at in range(0, len(items), size)]


def run(work: Callable[[int], T], count: int, threads: int, reporter: Reporter) -> list[T]:
    """Return ``work(0), work(1), ..``, computed on a thread pool; failing rows of all leaves are added up.

    Args:
        work: does one leaf.
        count: how many leaves there are.
        threads: how many threads.
        reporter: names the place of the expression that failed, and its rows.

    Raises:
        DataError: with the rows of all leaves in which the first failing operation failed.
    """
    return run_together(lambda group: [work(at) for at in group], count, threads, reporter, together=1)


def run_together(
    work: Callable[[range], list[T]],
    count: int,
    threads: int,
    reporter: Reporter,
    tick: Callable[[], None] | None = None,
    sizes: Sequence[int] | None = None,
    together: int = STRETCH,
) -> list[T]:
    """Return what `run` does, of work that is done faster for a few neighbouring leaves at a time.

    Args:
        work: does some leaves; where it fails, they are done one by one, so that the rows of each are reported.
        count, threads, reporter: as of `run`.
        tick: is called after each leaf, for progress.
        sizes: how much work each leaf is, where that is known.
        together: how many leaves at most are done at a time.

    Raises:
        DataError: as `run` does.
    """
    failures: dict[int, RowFailure] = {}
    results: dict[int, T] = {}
    queues = [deque(_groups(block, together)) for block in _blocks(sizes or [1] * count, threads)]
    lock = Lock()

    def taken(worker: int) -> range | None:
        """Return what a thread does next: from the front of its own block, then from the back of the longest one."""
        with lock:
            longest = max(queues, key=len)
            return queues[worker].popleft() if queues[worker] else longest.pop() if longest else None

    def guarded(group: range) -> None:
        try:
            results.update(zip(group, work(group), strict=True))
        except RowFailure as failure:
            if len(group) == 1:
                failures[group[0]] = failure
                return
            for at in group:  # without calling itself, since what a cycle holds stays in memory for long
                try:
                    results[at] = work(range(at, at + 1))[0]
                except RowFailure as of_leaf:
                    failures[at] = of_leaf

    def thread(worker: int) -> None:
        while group := taken(worker):
            guarded(group)
            for _ in group:
                if tick is not None:
                    tick()

    if len(queues) == 1:
        thread(0)
    else:
        with ThreadPoolExecutor(len(queues)) as pool:
            try:
                list(pool.map(thread, range(len(queues))))
            except BaseException:
                for queue in queues:
                    queue.clear()  # so that the other threads stop soon
                raise
    if failures:
        raise merged_failure([failures[at] for at in sorted(failures)], reporter)
    return [results[at] for at in range(count)]


def _blocks(sizes: Sequence[int], threads: int) -> list[range]:
    """Return which leaves each thread begins with: neighbouring ones, since these share pages of memory.

    Example:
        >>> _blocks([10, 10, 10, 30], 2)
        [range(0, 3), range(3, 4)]
    """
    done, leaves = [0, *accumulate(sizes)], range(len(sizes) + 1)
    threads = min(threads, len(sizes))
    edges = [min(leaves, key=lambda at: abs(done[at] - done[-1] * part / threads)) for part in range(1, threads)]
    return [range(a, b) for a, b in pairwise(sorted({0, *edges, len(sizes)})) if a < b] or [range(0)]


def _groups(block: range, together: int) -> list[range]:
    """Return which leaves of a block are done at a time: fewer towards its end, which other threads may take over.

    Example:
        >>> _groups(range(0, 10), 4)
        [range(0, 4), range(4, 7), range(7, 8), range(8, 9), range(9, 10)]
    """
    groups = []
    while block:
        size = min(together, max(1, len(block) // 2))
        groups.append(block[:size])
        block = block[size:]
    return groups


def together(parts: Sequence[FailedRows]) -> FailedRows:
    """Return one error for the operation that failed first, in all parts."""
    first = parts[0]
    same = [part.numbers for part in parts if part.operation == first.operation]
    numbers = np.unique(np.concatenate(same))
    return FailedRows(first.alone, operation=first.operation, numbers=numbers, **first.rest)


def merged_failure(failures: Sequence[RowFailure], reporter: Reporter) -> FailedRows:
    """Return one error for what failed in several leaves."""
    first = failures[0]
    positions = {row for failure in failures if failure.node == first.node for row in failure.rows}
    place, text = reporter.where(first.node)
    span = first.node.span if text is not None else None
    if span is not None and text is not None and span[1] > len(text):
        span = None
    numbers = np.sort(reporter.row_numbers(np.array(list(positions), dtype=np.int64)))
    rest = {"place": place, "text": text, "span": span, "remedy": first.remedy}
    return FailedRows(first.what, operation=str(first.node), numbers=numbers, **rest)
