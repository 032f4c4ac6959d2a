"""Work that is done in a thread of its own, one piece behind or ahead of the others."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

T = TypeVar("T")


class Behind:
    """Does works one after the other in a thread of its own, while the caller goes on; what fails is raised later.

    Args:
        waiting: how many works may wait for the one being done.
    """

    def __init__(self, waiting: int) -> None:
        self._waiting = waiting
        self._thread = ThreadPoolExecutor(1)
        self._works: deque[Future[object]] = deque()

    def do(self, work: Callable[[], object]) -> None:
        """Do a work once those before it are done.

        Raises:
            BaseException: what one of those has raised.
        """
        self._wait(self._waiting)
        self._works.append(self._thread.submit(work))

    def _wait(self, still: int) -> None:
        while len(self._works) > still:
            self._works.popleft().result()

    def finish(self) -> None:
        """Wait until all is done.

        Raises:
            BaseException: what one of the works has raised.
        """
        self._wait(0)
        self._thread.shutdown()

    def abandon(self) -> None:
        """Wait for the work being done, and leave the others."""
        self._thread.shutdown(cancel_futures=True)


def ahead(items: Iterable[T]) -> Iterator[T]:
    """Yield items, each made in a thread of its own while the one before is used.

    Example:
        >>> list(ahead(iter([1, 2])))
        [1, 2]
    """
    following = iter(items)
    nothing = object()
    with ThreadPoolExecutor(1) as thread:
        coming = thread.submit(next, following, nothing)
        while (item := coming.result()) is not nothing:
            coming = thread.submit(next, following, nothing)
            yield item  # type: ignore[misc]
