"""The shape of a text file before it is parsed: quotes, lines and the number of cells, each problem with its line."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from facturum.data.values import Array, Mask
from facturum.errors import DataError, counted

_BLOCK = 1 << 20
_NEWLINE, _QUOTE = ord("\n"), ord('"')
_DOUBLE = 'Close it, double it ("") inside a quoted cell, or take it out.'


@dataclass
class _State:
    """What a scan carries from one block of the file to the next."""

    inside: bool = False
    before: int = _NEWLINE
    line: int = 1
    opened: int = 1
    cells: int = 1
    started: int = 1
    records: int = 0
    long: int = 0
    first_long: int = 0


@dataclass(frozen=True)
class TextShape:
    """What a scan has found.

    Args:
        records: how many records there are, the header and empty lines included.
        long: how many records run over several lines.
        first_long: the line in which the first of these begins.
    """

    records: int
    long: int
    first_long: int


class TextScanner:
    """Looks through a text file that comes block by block.

    Args:
        delimiter: one ASCII character.
        width: how many cells each record must have.
        name: of the file, for messages.
        line: in which the file begins that is looked through.

    Example:
        >>> scanner = TextScanner(",", 2, "t.csv")
        >>> scanner.add(b'a,b\\n1,')
        >>> scanner.add(b'"x\\ny"\\n', last=True)
        >>> scanner.finish()
        TextShape(records=2, long=1, first_long=2)
    """

    def __init__(self, delimiter: str, width: int, name: str, line: int = 1) -> None:
        self._delimiter, self._width, self._name = ord(delimiter), width, name
        self._state = _State(line=line, opened=line, started=line)
        self._held = b""  # the last byte so far, whose meaning depends on the next one

    def add(self, block: bytes, last: bool = False) -> None:
        """Look through the next bytes, in UTF-8, lines ended by line feeds.

        Args:
            block: the bytes.
            last: whether they end the file.

        Raises:
            DataError: for quotes within a cell, and for records of too many or too few cells; each with its line.
        """
        block = self._held + block
        whole = np.frombuffer(block, dtype=np.uint8)
        end = len(whole) if last else len(whole) - 1
        for start in range(0, end, _BLOCK):
            stop = min(start + _BLOCK, end)
            following = int(whole[stop]) if stop < len(whole) else _NEWLINE
            _block(whole[start:stop], following, self._delimiter, self._width, self._name, self._state)
        self._held = block[-1:]

    def finish(self) -> TextShape:
        """Return what has been found.

        Raises:
            DataError: as `add` does, and for a quote that is never closed.
        """
        state = self._state
        if state.inside:
            raise DataError(
                f"{self._name}, line {state.opened}: a quote is opened here and never closed", remedy=_DOUBLE
            )
        if self._held and self._held != b"\n":
            _check_width(np.array([state.cells]), np.array([state.line]), self._width, self._name)
            state.records += 1
        return TextShape(state.records, state.long, state.first_long)


def scan(data: bytes, delimiter: str, width: int, name: str, line: int = 1) -> TextShape:
    """Look through a text file, in blocks of 1 MiB.

    Args:
        data: the file in UTF-8, its lines ended by line feeds.
        delimiter: one ASCII character.
        width: how many cells each record must have.
        name: of the file, for messages.
        line: in which these bytes begin.

    Raises:
        DataError: for quotes that are not closed or stand within a cell, and for records of too many or too few cells;
            each with its line.

    Example:
        >>> scan(b'a,b\\n1,"x\\ny"\\n', ",", 2, "t.csv")
        TextShape(records=2, long=1, first_long=2)
    """
    scanner = TextScanner(delimiter, width, name, line)
    scanner.add(data, last=True)
    return scanner.finish()


def _block(block: Array, following: int, delimiter: int, width: int, name: str, state: _State) -> None:
    quotes = block == _QUOTE
    newlines = block == _NEWLINE
    outside: Mask | None = None
    if state.inside or quotes.any():
        inside = (np.cumsum(quotes) + state.inside) % 2 == 1  # after each character
        _check_quotes(block, quotes, inside, following, delimiter, name, newlines, state)
        outside = ~inside
    ends = np.flatnonzero(newlines if outside is None else newlines & outside)
    marks = block == delimiter
    counts = np.cumsum(marks if outside is None else marks & outside)
    lines = np.flatnonzero(newlines)
    _records(block, ends, counts, lines, width, name, state)
    state.line += len(lines)
    state.before = int(block[-1])
    if outside is not None:
        state.inside = not bool(outside[-1])


def _check_quotes(
    block: Array, quotes: Mask, inside: Mask, following: int, delimiter: int, name: str, newlines: Mask, state: _State
) -> None:
    """Refuse quotes that open within a cell, or close before its end."""
    at = np.flatnonzero(quotes)
    opens = inside[at]
    before = np.concatenate([[state.before], block[:-1]])[at]
    after = np.concatenate([block[1:], [following]])[at]
    edges = (_NEWLINE, delimiter, _QUOTE)
    wrong = np.where(opens, ~np.isin(before, edges), ~np.isin(after, edges))
    opened_at = at[opens]
    if wrong.any():
        place = int(at[np.argmax(wrong)])
        line = state.line + int(np.count_nonzero(newlines[:place]))
        earlier = opened_at[opened_at < place]
        if opens[np.argmax(wrong)]:
            raise DataError(f"{name}, line {line}: a quote stands within a cell", remedy=_DOUBLE)
        start = state.opened if not len(earlier) else state.line + int(np.count_nonzero(newlines[: earlier[-1]]))
        since = "" if start == line else f", which the quote in line {start} has opened"
        raise DataError(f"{name}, line {line}: a quote stands within a cell{since}", remedy=_DOUBLE)
    if len(opened_at):
        state.opened = state.line + int(np.count_nonzero(newlines[: opened_at[-1]]))


def _records(block: Array, ends: Array, counts: Array, lines: Array, width: int, name: str, state: _State) -> None:
    """Count the cells of each record that ends in this block, and the records that run over several lines."""
    if not len(ends):
        state.cells += int(counts[-1]) if len(counts) else 0
        return
    cells = np.diff(counts[ends], prepend=0) + 1
    cells[0] += state.cells - 1
    line_of = state.line + np.searchsorted(lines, ends)  # the line in which each record ends
    began = np.concatenate([[state.started], line_of[:-1] + 1])
    empty = np.concatenate([[state.before == _NEWLINE and ends[0] == 0], block[ends[1:] - 1] == _NEWLINE])
    checked = ~empty
    _check_width(cells[checked], began[checked], width, name)
    long = np.flatnonzero(line_of > began)
    if len(long) and not state.long:
        state.first_long = int(began[long[0]])
    state.long += len(long)
    state.records += len(ends)
    state.started = int(line_of[-1]) + 1
    state.cells = 1 + int(counts[-1] - counts[ends[-1]])


def _check_width(cells: Array, lines: Array, width: int, name: str) -> None:
    wrong = np.flatnonzero(cells != width)
    if len(wrong):
        at = wrong[0]
        others = len(wrong) - 1
        more = f"; {counted(others, 'further line')} {'differs' if others == 1 else 'differ'} too" if others else ""
        held = counted(int(cells[at]), "cell")
        raise DataError(
            f"{name}, line {lines[at]} has {held}, and the line of the names has {width}{more}",
            remedy="Quote cells that hold the delimiter, or correct these lines.",
        )
