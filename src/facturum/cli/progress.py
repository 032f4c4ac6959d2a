"""Progress of long work: shown on a terminal, and nothing in a pipe."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import timedelta


@contextmanager
def leaves_progress(quiet: bool) -> Iterator[Callable[[int, int], None] | None]:
    """Show how many blocks of a build in memory are done."""
    if quiet or not sys.stderr.isatty():
        yield None
        return
    from rich.progress import Progress

    from facturum.show.terminal.views import console

    with Progress(console=console(stderr=True), transient=True) as bar:
        task = bar.add_task("building", total=None)
        yield lambda done, total: bar.update(task, completed=done, total=total)


@contextmanager
def rows_progress(quiet: bool) -> Iterator[Callable[[str, int, int], None] | None]:
    """Show what is being done in parts: rows, how many a second, and the time left."""
    if quiet or not sys.stderr.isatty():
        yield None
        return
    from rich.progress import BarColumn, Progress, ProgressColumn, Task, TextColumn
    from rich.text import Text

    from facturum.show.terminal.views import console

    class Rows(ProgressColumn):
        """Rows done, rows a second, and the time left."""

        def render(self, task: Task) -> Text:
            """Return the text for the state of a task."""
            if not task.total:
                return Text("")
            rate = f", {task.speed:,.0f} a second" if task.speed else ""
            left = f", {timedelta(seconds=round(task.time_remaining))} left" if task.time_remaining is not None else ""
            return Text(f"{int(task.completed):,} of {int(task.total):,} rows{rate}{left}")

    columns = (TextColumn("{task.description}"), BarColumn(20), Rows())
    with Progress(*columns, console=console(stderr=True), transient=True) as bar:
        tasks: dict[str, int] = {}

        def show(what: str, done: int, total: int) -> None:
            if what not in tasks:
                for task in tasks.values():
                    bar.remove_task(task)  # type: ignore[arg-type]
                tasks.clear()
                tasks[what] = bar.add_task(f"in parts: {what}", total=total or None)
            bar.update(tasks[what], completed=done, total=total or None)  # type: ignore[arg-type]

        yield show
