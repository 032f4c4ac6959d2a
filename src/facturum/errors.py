"""The one family of errors: what is wrong, where, in which rows, and what to write instead."""

from __future__ import annotations

import json
import shlex
from collections.abc import Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from contextvars import ContextVar
from typing import Any

ROWS_SHOWN = 5
NAMED = 12  # words in a row
PROMPT_WIDTH = 100  # of a line shown at the Python prompt
LONGEST_LINE = 110  # of the text that an error marks
LONGEST_TEXT = 4_000  # characters of what an error says


class FacturumError(Exception):
    """Input that Facturum refuses, with its place, its rows and the remedy.

    Args:
        what: one sentence saying what is wrong.
        place: where it stands, such as ``terms.price``.
        text: the expression at that place.
        span: start and end of the offending part within ``text``, in characters.
        rows: source row numbers, counted from 1; the first few are shown.
        count: how many rows there are in all, where ``rows`` holds only the first.
        remedy: what to write instead.

    Example:
        >>> print(FacturumError("variable not found", place="terms.a", text="log(x)", span=(4, 5), remedy="Write y."))
        terms.a: variable not found
            log(x)
                ^
        Write y.
    """

    found = False  # whether it is what a check found, and not a fault of the input

    def __init__(
        self,
        what: str,
        *,
        place: str | None = None,
        text: str | None = None,
        span: tuple[int, int] | None = None,
        rows: Sequence[int] = (),
        count: int | None = None,
        remedy: str | None = None,
    ) -> None:
        super().__init__(what)
        self.what = what if len(what) <= LONGEST_TEXT else f"{what[:LONGEST_TEXT]} .."
        self.place = place
        self.text = text
        self.span = span
        self.rows = tuple(int(row) for row in rows[: ROWS_SHOWN + 1])
        self.count = len(rows) if count is None else count
        self.remedy = remedy

    def at(self, place: str, text: str | None = None) -> FacturumError:
        """Return the error itself, with its place filled in where it had none."""
        if self.place is None:
            self.place = place
            if self.text is None:
                self.text = text
        return self

    def __str__(self) -> str:
        lines = [self.what if self.place is None else f"{self.place}: {self.what}"]
        lines += self._marked_text()
        if self.rows:
            lines.append(rows_in_words(self.rows, self.count))
        if self.remedy:
            lines.append(self.remedy)
        return "\n".join(lines)

    def _marked_text(self) -> list[str]:
        if self.text is None:
            return []
        if self.span is None:
            return [
                "    " + (line if len(line) <= LONGEST_LINE else line[:LONGEST_LINE] + " ..") for line in self._lines()
            ]
        before = self.text.rfind("\n", 0, self.span[0]) + 1  # of several lines, the one with the mark is shown
        line = self.text[before:].partition("\n")[0]
        start, end = self.span[0] - before, min(self.span[1] - before, len(line))
        shown_from = max(0, start - 60)
        shown = "".join(char if char.isprintable() else " " for char in line[shown_from : shown_from + LONGEST_LINE])
        width = max(1, min(end, shown_from + LONGEST_LINE) - start)
        return ["    " + shown, "    " + " " * (start - shown_from) + "^" * width]

    def _lines(self) -> list[str]:
        return [] if self.text is None else self.text.strip().splitlines()[:8]


class PlanError(FacturumError):
    """The plan is not valid, whatever the data are."""


class DataError(FacturumError):
    """The data do not allow the plan."""


class FailedRows(DataError):
    """The rows in which an operation fails, all of their numbers.

    Args:
        what: what is wrong, without the number of rows.
        operation: that fails, as text.
        numbers: of the rows, whole numbers in an array.
        rest: as of any error.
    """

    def __init__(self, what: str, *, operation: str = "", numbers: Any = (), **rest: Any) -> None:
        self.numbers, self.operation, self.alone, self.rest = numbers, operation, what, rest
        count = len(numbers)
        told = f"{what} in {counted(count, 'row')}" if count else what
        super().__init__(told, rows=list(numbers[: ROWS_SHOWN + 1]), count=count, **rest)


class AuditError(FacturumError):
    """A build folder is not what it should be, or a check could not be run."""


class ChecksFailed(AuditError):
    """A check found something in a build that its plan does not allow."""

    found = True


class FacturumWarning(UserWarning):
    """What a build warns of; the column map lists the same."""


_ON_COMMAND_LINE: ContextVar[bool] = ContextVar("on_command_line", default=False)
_IN_PLAN: ContextVar[bool] = ContextVar("in_plan", default=False)


@contextmanager
def _held(setting: ContextVar[bool]) -> Iterator[None]:
    before = setting.set(True)
    try:
        yield
    finally:
        setting.reset(before)


def on_command_line() -> AbstractContextManager[None]:
    """Give options in remedies as they are typed on the command line."""
    return _held(_ON_COMMAND_LINE)


def plan_says() -> AbstractContextManager[None]:
    """Give in remedies how a file is read as a plan says it, which has no options for it."""
    return _held(_IN_PLAN)


def option(typed: str, given: str) -> str:
    """Return an option of a remedy as it is typed on the command line, or as it is given in Python.

    Example:
        >>> with on_command_line():
        ...     print(option("--data FILE", "table=.."))
        --data FILE
        >>> option("--data FILE", "table=..")
        'table=..'
    """
    return typed if _ON_COMMAND_LINE.get() else given


def reading_option(**said: str | int) -> str:
    """Return in a remedy how a file is read: as a plan, the command line or Python says it.

    Example:
        >>> reading_option(header_line=3)
        "reading={'header_line': 3}"
        >>> with plan_says():
        ...     print(reading_option(delimiter=";"))
        delimiter = ";" under [data]
    """
    if _IN_PLAN.get():
        return (
            named([f"{key} = {json.dumps(value, ensure_ascii=False)}" for key, value in said.items()]) + " under [data]"
        )
    typed = " ".join(f"--{key.replace('_', '-')} {_as_typed(value)}" for key, value in said.items())
    return option(typed, f"reading={said}")


def _as_typed(value: str | int) -> str:
    quoted = shlex.quote(str(value))
    return quoted if quoted[0] == "'" or str(value).isalnum() else f"'{value}'"


def series_remedy(name: str) -> str:
    """Return what to do about a series whose table is not given.

    Example:
        >>> series_remedy("energy")
        "Add series={'energy': table}."
    """
    return f"Add {option(f'--series {name}=FILE', f'series={{{name!r}: table}}')}."


@contextmanager
def bounded() -> Iterator[None]:
    """Turn a lack of memory or disk into errors of the package.

    Raises:
        DataError: where no memory is left.
        PlanError: where expressions are nested more deeply than they can be followed.
    """
    try:
        yield
    except MemoryError:
        raise DataError(
            "not enough memory", remedy="Take fewer columns or rows, or pool or regroup the categories."
        ) from None
    except RecursionError:
        raise PlanError("the plan is nested too deeply", remedy="Take parts of it out.") from None
    except RuntimeError as problem:
        if "can't start new thread" not in str(problem):
            raise
        raise DataError("no more threads can be started", remedy="Set FACTURUM_THREADS=1, or close programs.") from None


def counted(count: int, noun: str) -> str:
    """Return how many of something there are.

    Example:
        >>> counted(1, "row"), counted(2400, "row")
        ('1 row', '2,400 rows')
    """
    return f"{count:,} {noun}{'' if count == 1 else 's'}"


def toml_key(name: str) -> str:
    """Return a name as a key of a plan file, in quotes where it needs them.

    Example:
        >>> toml_key("price"), toml_key("net income")
        ('price', '"net income"')
    """
    if name and all(char.isascii() and (char.isalnum() or char in "_-") for char in name):
        return name
    escaped = name.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def listed(head: str, lines: Iterable[str], most: int = 30) -> str:
    """Return a short text for the Python prompt: what something is, and its parts, a line each.

    Example:
        >>> print(listed("table of 2 variables", ["beds: number", "access: category"], most=1))
        <table of 2 variables>
          beds: number
          .. and 1 more
    """
    lines = [" ".join(line.split()) for line in lines]
    shown = [line if len(line) <= PROMPT_WIDTH else line[: PROMPT_WIDTH - 3] + " .." for line in lines[:most]]
    more = [f".. and {len(lines) - most:,} more"] if len(lines) > most else []
    return "\n  ".join([f"<{head}>", *shown, *more])


def named(words: Sequence[str], most: int = NAMED) -> str:
    """Return words in a row, the first of many.

    Example:
        >>> named(["a", "b", "c"]), named(["a", "b", "c"], 2)
        ('a, b and c', 'a, b and 1 more')
    """
    if len(words) > most:
        return f"{', '.join(words[:most])} and {len(words) - most:,} more"
    return " and ".join(filter(None, [", ".join(words[:-1]), *words[-1:]]))


def rows_in_words(rows: Sequence[int], count: int) -> str:
    """Say which rows, the first few by number.

    Example:
        >>> rows_in_words([3, 7], 2)
        'Rows 3, 7.'
        >>> rows_in_words([3, 7, 9, 11, 12, 15], 40)
        'Rows 3, 7, 9, 11, 12 and 35 more.'
    """
    shown = [_row_text(row) for row in rows[:ROWS_SHOWN]]
    if count == 1:
        return f"Row {shown[0]}."
    more = count - len(shown)
    return f"Rows {', '.join(shown)}" + (f" and {more:,} more." if more > 0 else ".")


def _row_text(row: int) -> str:
    """Return a row number; rows of history, before the first, are counted from its end."""
    return str(row) if row > 0 else f"{1 - row} from the end of the history"


def nearest(word: str, choices: Sequence[str], alike: float = 0.6) -> str:
    """Return ``"; did you mean 'x'?"`` for the nearest of the choices, or nothing.

    Args:
        word: what was written.
        choices: what there is.
        alike: how alike the two must be, from 0 to 1.

    Example:
        >>> nearest("prise", ["price", "beds"])
        "; did you mean 'price'?"
    """
    from difflib import get_close_matches

    folded = {choice.casefold(): choice for choice in choices}
    matches = get_close_matches(word.casefold(), list(folded), n=1, cutoff=alike)
    return f"; did you mean '{folded[matches[0]]}'?" if matches else ""
