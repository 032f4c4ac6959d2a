"""How a command ends: errors of the input, a closed pipe, signals, and a last net for defects of our own."""

from __future__ import annotations

import atexit
import os
import signal
import sys
import tempfile
import threading
import traceback
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from types import FrameType
from typing import Any, NoReturn

import click

from facturum.cli.other_words import told
from facturum.errors import FacturumError, FacturumWarning, on_command_line

FOUND_SOMETHING, INPUT_WRONG, DEFECT = 1, 2, 70
_PIPE, _INTERRUPT = 141, 130  # 128 and the number of the signal, as shells count
_DEBUG = "FACTURUM_DEBUG"
_ENDING = [getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name)]


class Stopped(BaseException):
    """The process was asked to end; the number of the signal."""


def run_guarded(command: Callable[[], Any]) -> None:
    """Run a command and leave the process with its exit status.

    0 fine, 1 a check found something, 2 the input is wrong, 70 a defect of our own; 128 and the signal's number where
    a signal ended it.
    """
    _open_standard_streams()
    _never_fail_to_print()
    warnings.simplefilter("ignore", FacturumWarning)  # commands print them in their own way
    atexit.register(_ignore_signals)
    with _signals():
        try:
            with on_command_line():
                status = command()
            sys.stdout.flush()
            code = status if isinstance(status, int) else 0
        except BaseException as problem:
            code = _ended(problem)
    sys.exit(code)


def _ended(problem: BaseException) -> int:
    """Say in a line why a command ended, and return the exit status."""
    if isinstance(problem, BrokenPipeError):
        with suppress(OSError, ValueError):  # nothing more can be written there, at the end of the process either
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return _PIPE
    if isinstance(problem, SystemExit):
        return problem.code if isinstance(problem.code, int) else 0
    if isinstance(problem, click.Abort | KeyboardInterrupt):
        _say("stopped: nothing is left half written")
        return _INTERRUPT
    if isinstance(problem, Stopped):
        _say("stopped by a signal: nothing is left half written")
        return 128 + int(problem.args[0])
    if isinstance(problem, click.ClickException):
        told(problem).show()
        return INPUT_WRONG
    if isinstance(problem, FacturumError):
        _show(problem)
        return FOUND_SOMETHING if problem.found else INPUT_WRONG
    if isinstance(problem, OSError | MemoryError):
        words = getattr(problem, "strerror", None) or str(problem) or "no memory is left"
        place = getattr(problem, "filename", None)
        _say(f"error: {words}" if place is None else f"error: {place}: {words}")
        return INPUT_WRONG
    return _defect(problem)


def _defect(problem: BaseException) -> int:
    """Report a defect in one line, and write the details needed to mend it into a file."""
    if os.environ.get(_DEBUG):
        traceback.print_exception(problem)
        return DEFECT
    details = "".join(traceback.format_exception(problem))
    where = "the details could not be written"
    with suppress(OSError):
        handle, name = tempfile.mkstemp(prefix="facturum-defect-", suffix=".txt")
        with os.fdopen(handle, "w", encoding="utf-8", errors="backslashreplace") as file:
            file.write(f"facturum {' '.join(sys.argv[1:])}\n\n{details}")
        where = f"report {name}, where the details were written"
    first = (str(problem).strip().splitlines() or [""])[0][:200]
    what = f"{type(problem).__name__}: {first}" if first else type(problem).__name__
    _say(f"error: This is a defect of Facturum, not of your data: {what}. Please {where}; {_DEBUG}=1 shows them.")
    return DEFECT


def _show(error: FacturumError) -> None:
    from facturum.show.terminal import views

    screen = views.console(stderr=True)
    screen.print(views.error_view(error), soft_wrap=not screen.is_terminal)


def _say(line: str) -> None:
    with suppress(OSError, ValueError):
        click.echo("".join(c if c.isprintable() else " " for c in line), err=True)


def leave(command: Callable[[], Any]) -> NoReturn:
    """Run what ends by an exit status, and end the process by it without taking the interpreter down.

    What has been asked for at exit is done, and all is flushed. Threads of Arrow that come late with a buffer of Python
    would end a process whose interpreter is being taken down ("terminate called without an active exception").
    """
    code = DEFECT
    try:
        command()
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else 0
    with suppress(BaseException):
        threading._shutdown()  # type: ignore[attr-defined] # waits for threads, as the interpreter does
    with suppress(BaseException):
        atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        with suppress(OSError, ValueError):
            stream.flush()
    os._exit(code)


def _open_standard_streams() -> None:
    """Let what a program that was started without an output prints go nowhere, and no file take its place."""
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)  # takes the lowest number that is free, which is this one
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115 - for as long as the process


def _never_fail_to_print() -> None:
    """Let characters that the terminal's encoding lacks be written as escapes."""
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")


@contextmanager
def _signals() -> Iterator[None]:
    """Turn the signals that end a process into an exception, so that half-written files are removed."""

    before: dict[int, Any] = {}

    def stop(number: int, frame: FrameType | None) -> None:
        for other in before:  # the clean-up must not be interrupted again
            signal.signal(other, signal.SIG_IGN)
        raise Stopped(number)

    for number in _ENDING:
        with suppress(ValueError, OSError):  # handlers belong to the main thread
            if signal.getsignal(number) in (signal.SIG_DFL, signal.default_int_handler):
                before[number] = signal.signal(number, stop)
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def _ignore_signals() -> None:
    """Ignore signals while the interpreter is taken down: the work is done, and its exit status stands."""
    for number in _ENDING:
        with suppress(ValueError, OSError):
            signal.signal(number, signal.SIG_IGN)
