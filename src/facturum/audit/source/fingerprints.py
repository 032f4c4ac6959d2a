"""Fingerprints of source variables: they show that a cell has changed, and which one."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, ConfigDict, model_validator

from facturum.data.values import Array, Kind, Labels, label_text
from facturum.data.variable import Variable
from facturum.numerics.linear.sparse import SparseColumns
from facturum.support.threads import on_threads

Words = npt.NDArray[np.uint64]
_MISSING = np.uint64(0x9E3779B97F4A7C15)
_ONE, _TWO = np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)
_LEAF_BITS = 16
LEAF = 1 << _LEAF_BITS  # rows of a locator


class Fingerprint(BaseModel):
    """What is kept of a variable, to notice and to find a changed cell.

    `locators` has, for each leaf of 65,536 rows, the sum of its cells' hashes and the sums over the rows whose number
    has each bit set: one changed cell changes just the sums of its own bits, so that they spell its row. `unordered` is
    a sum that does not depend on the order of the rows.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: str
    rows: int
    digest: str
    locators: list[str]
    unordered: str

    @model_validator(mode="after")
    def _whole(self) -> Fingerprint:
        size = 16 * (_LEAF_BITS + 1)
        if self.rows < 0 or len(self.locators) != -(-self.rows // (1 << _LEAF_BITS)):
            raise ValueError("a fingerprint has as many locators as leaves")
        if any(len(text) != size or set(text) - set("0123456789abcdef") for text in self.locators):
            raise ValueError(f"a locator has {size} hexadecimal digits")
        return self


@dataclass(frozen=True)
class ChangedCells:
    """Cells that differ from those a fingerprint was taken of; ``row`` where there is one in a leaf, from 1.

    `apart` is by how much the hash of that cell exceeds the one before, modulo 2 to the 64.
    """

    first: int
    last: int
    row: int | None
    apart: np.uint64


class FingerprintTaker:
    """Takes the fingerprint of a variable whose rows come block by block.

    Whole numbers of 64 bits are taken as doubles where all of them are doubles to the last digit, which shows at the
    end; until then both ways are followed.

    Args:
        kind: of the variable.
        both: whether both ways are followed.
        first: how many of the first rows are compared with an earlier fingerprint of so many.
    """

    def __init__(self, kind: Kind, both: bool, first: int = 0) -> None:
        self._kind = kind
        self._label_words = _LabelWords()
        self._ways = {exact: _Words(first) for exact in ((True, False) if both else (True,))}

    def add(self, variable: Variable) -> None:
        """Take the next rows, as a variable of their own."""
        for exact, words in list(self._ways.items()):
            if exact and not variable.exact_as_double and len(self._ways) > 1:
                del self._ways[exact]
            else:
                words.add(_words(variable, exact, self._label_words))

    def taken(self) -> Fingerprint:
        """Return the fingerprint."""
        return self._ways[True in self._ways].taken(str(self._kind))

    def first_locators(self) -> list[str]:
        """Return the locators of the first rows alone; none where there are fewer rows."""
        return self._ways[True in self._ways].first_locators


class _Words:
    """Words on their way into a fingerprint: cut into leaves, whatever blocks they come in."""

    def __init__(self, first: int = 0) -> None:
        self._first, self.first_locators = first, list[str]()
        self._digest = hashlib.sha256()
        self._rest: list[Words] = []
        self._waiting = self._rows = 0
        self._unordered = np.uint64(0)
        self._locators: list[str] = []

    def add(self, words: Words) -> None:
        missing = self._first - self._rows - self._waiting
        if 0 < missing <= len(words):
            self._add(words[:missing])
            rest = [_written(_locator(np.concatenate(self._rest)))] if self._waiting else []
            self.first_locators = [*self._locators, *rest]
            words = words[missing:]
        self._add(words)

    def _add(self, words: Words) -> None:
        while self._waiting + len(words) >= LEAF:
            part, words = words[: LEAF - self._waiting], words[LEAF - self._waiting :]
            self._take(np.concatenate([*self._rest, part]) if self._rest else part)
            self._rest, self._waiting = [], 0
        if len(words):
            self._rest.append(words)
            self._waiting += len(words)

    def _take(self, words: Words) -> None:
        self._digest.update(words.astype("<u8").tobytes())
        self._locators.append(_written(_locator(words)))
        with np.errstate(over="ignore"):
            self._unordered += np.add.reduce(_mixed(words + _ONE))
        self._rows += len(words)

    def taken(self, kind: str) -> Fingerprint:
        if self._waiting:
            self._take(np.concatenate(self._rest))
        return Fingerprint(
            kind=kind,
            rows=self._rows,
            digest=self._digest.hexdigest(),
            locators=self._locators,
            unordered=f"{int(self._unordered):016x}",
        )


def fingerprint_of(variable: Variable) -> Fingerprint:
    """Return the fingerprint of a variable.

    Example:
        >>> a = fingerprint_of(Variable("x", Kind.NUMBER, np.array([1.0, 2.0, 3.0])))
        >>> b = Variable("x", Kind.NUMBER, np.array([1.0, 2.5, 3.0]))
        >>> changed_cells(b, a)[0].row
        2
    """
    words = _Words()
    for part in _words_by_leaf(variable):
        words.add(part)
    return words.taken(str(variable.kind))


def changed_cells(variable: Variable, before: Fingerprint) -> list[ChangedCells]:
    """Return where a variable of as many rows differs from the one that a fingerprint was taken of."""
    locators = [_written(_locator(words)) for words in _words_by_leaf(variable)]
    return _changes(locators, before, len(variable))


def changes_between(now: Fingerprint, before: Fingerprint) -> list[ChangedCells]:
    """Return where a variable differs from one of as many rows, by the fingerprints of both."""
    return _changes(now.locators, before, now.rows)


def _changes(locators: Sequence[str], before: Fingerprint, rows: int) -> list[ChangedCells]:
    changes = []
    for (start, stop), now, text in zip(_leaves(rows), locators, before.locators, strict=True):
        if now != text:
            apart = _sums(now) - _sums(text)
            changes.append(ChangedCells(start + 1, stop, _spelled(apart, start, stop), apart[0]))
    return changes


def value_before(variable: Variable, changed: ChangedCells, at: int) -> float | int | str | None:
    """Return what a cell was that alone of its leaf has changed; None where that cannot be told.

    The hash before is the one now less the difference of the sums. Hashes can be turned back, so that numbers and times
    are given to the bit; a category is told where the variable still has it.

    Args:
        variable: the cell as it is now, and others.
        changed: what is known of the change.
        at: where the cell is in the variable, from 0.

    Example:
        >>> a = fingerprint_of(Variable("x", Kind.NUMBER, np.array([1.0, 2.25, 3.0])))
        >>> now = Variable("x", Kind.NUMBER, np.array([1.0, 2.5, 3.0]))
        >>> value_before(now, changed_cells(now, a)[0], 1)
        2.25
    """
    if changed.row is None:
        return None
    exact, labels = variable.exact_as_double, _LabelWords()
    place = _mixed(np.array([changed.row - changed.first + 1], dtype=np.uint64))
    with np.errstate(over="ignore"):
        now = _mixed(_words(variable.part(at, at + 1), exact, labels) ^ place)
        word = _unmixed(now - changed.apart) ^ place
    if word[0] == _MISSING:
        return "missing"
    if variable.labels is not None:
        found = np.flatnonzero(labels.of(variable.labels)[:-1] == word[0])
        return label_text(variable.labels[int(found[0])]) if len(found) else None
    as_double = variable.kind is Kind.NUMBER and exact
    return float(word.view(np.float64)[0]) if as_double else int(word.view(np.int64)[0])


def _written(sums: Words) -> str:
    return "".join(f"{int(word):016x}" for word in sums)


def _sums(text: str) -> Words:
    return np.array([int(text[at : at + 16], 16) for at in range(0, len(text), 16)], dtype=np.uint64)


class ColumnDigest:
    """The digest of a matrix column whose rows come block by block.

    The BLAKE2b of two digests: of a bit for each row, set where its double is not +0 (the first row's is the lowest of
    its byte), and of the doubles of these rows, little end first. So a column of indicators costs little.

    Example:
        >>> whole, parts = ColumnDigest(), ColumnDigest()
        >>> whole.add(np.arange(20.0))
        >>> parts.add(np.arange(3.0)), parts.add(np.arange(3.0, 20.0))
        (None, None)
        >>> whole.hexdigest() == parts.hexdigest()
        True
    """

    def __init__(self) -> None:
        self._bits, self._values = _blake2(), _blake2()
        self._rest = np.zeros(0, dtype=bool)  # rows that do not fill a byte yet

    def add(self, column: Array) -> None:
        """Take in further rows."""
        words = np.ascontiguousarray(column, dtype="<f8").view("<u8")
        rows = words != 0
        values = words if rows.all() else words[rows]
        if len(self._rest):
            rows = np.concatenate([self._rest, rows])
        whole = len(rows) // 8 * 8
        self._bits.update(np.packbits(rows[:whole], bitorder="little").data)
        self._values.update(values.data)
        self._rest = rows[whole:].copy()

    def hexdigest(self) -> str:
        """Return the digest of all rows so far."""
        bits = self._bits.copy()
        bits.update(np.packbits(self._rest, bitorder="little").data)
        return str(_blake2(bits.digest() + self._values.digest()).hexdigest())


def _blake2(data: Any = b"") -> Any:
    """Return a BLAKE2b of 256 bits (RFC 7693), which is faster than SHA-256 where processors do not help with that."""
    return hashlib.blake2b(data, digest_size=32)


def column_digests(columns: Sequence[Array]) -> list[str]:
    """Return the digest of each matrix column."""

    def digest(column: Array) -> str:
        state = ColumnDigest()
        for start, stop in _leaves(len(column)):
            state.add(column[start:stop])
        return str(state.hexdigest())

    return on_threads(digest, columns)


def sparse_digests(matrix: SparseColumns) -> list[str]:
    """Return the digest of each column of a sparse matrix: its rows that are not zero, and their doubles."""

    def digest(column: int) -> str:
        part = matrix.part(column)
        state: Any = _blake2(np.ascontiguousarray(matrix.rows[part], dtype="<i8").data)
        state.update(np.ascontiguousarray(matrix.data[part], dtype="<f8").data)
        return str(state.hexdigest())

    return on_threads(digest, range(matrix.shape[1]))


def _leaves(length: int) -> Iterator[tuple[int, int]]:
    """Yield where each leaf begins and ends."""
    return ((start, min(start + LEAF, length)) for start in range(0, length, LEAF))


def _spelled(apart: Words, start: int, stop: int) -> int | None:
    whole, bits = apart[0], apart[1:]
    row = 0
    for bit, part in enumerate(bits):
        if part == whole:
            row |= 1 << bit
        elif part:
            return None
    return start + row + 1 if whole and start + row < stop else None


def _locator(words: Words) -> Words:
    """Return the sum of the cells' hashes, and the sums over the rows with each bit set."""
    places = np.arange(1, len(words) + 1, dtype=np.uint64)
    bits = max(len(words) - 1, 0).bit_length()  # of the row numbers within this leaf
    cells: Words = np.zeros(1 << bits, dtype=np.uint64)
    cells[: len(words)] = _mixed(words ^ _mixed(places))
    sums: Words = np.zeros(_LEAF_BITS + 1, dtype=np.uint64)
    sums[0] = np.add.reduce(cells)
    for bit in range(bits):
        sums[bit + 1] = np.add.reduce(cells.reshape(-1, 2, 1 << bit)[:, 1].ravel())
    return sums


def _mixed(words: Words) -> Words:
    """Return well-mixed 64-bit words (the finaliser of Steele, Lea & Flood, "Fast splittable ...", 2014)."""
    words = (words ^ (words >> np.uint64(30))) * _ONE
    words = (words ^ (words >> np.uint64(27))) * _TWO
    mixed: Words = words ^ (words >> np.uint64(31))
    return mixed


def _unmixed(words: Words) -> Words:
    """Return the words that `_mixed` makes these of."""
    words = (words ^ (words >> np.uint64(31)) ^ (words >> np.uint64(62))) * np.uint64(pow(int(_TWO), -1, 1 << 64))
    words = (words ^ (words >> np.uint64(27)) ^ (words >> np.uint64(54))) * np.uint64(pow(int(_ONE), -1, 1 << 64))
    plain: Words = words ^ (words >> np.uint64(30)) ^ (words >> np.uint64(60))
    return plain


def _words_by_leaf(variable: Variable) -> Iterator[Words]:
    exact, label_words = variable.exact_as_double, _LabelWords()
    for start, stop in _leaves(len(variable)):
        yield _words(variable.part(start, stop), exact, label_words)


def _words(variable: Variable, exact: bool, label_words: _LabelWords) -> Words:
    """Return 64 bits for each cell, the same for the same value however it is stored.

    Args:
        variable: the cells.
        exact: whether all numbers of the whole variable are doubles.
        label_words: of its categories.
    """
    data = variable.data
    if variable.labels is not None:
        words: Words = label_words.of(variable.labels)[data]
    elif variable.kind is Kind.NUMBER and exact:
        words = (data.astype(np.float64) + 0.0).view(np.uint64)
    else:
        words = data.astype(np.int64).view(np.uint64)
    missing = variable.missing_rows()
    return np.where(missing, _MISSING, words) if missing.any() else words


class _LabelWords:
    """The words of categories, kept while the next rows have the same."""

    def __init__(self) -> None:
        self._labels: Labels | None = None
        self._words: Words = np.zeros(1, dtype=np.uint64)

    def of(self, labels: Labels) -> Words:
        """Return a word for each label, and one for none."""
        if labels is not self._labels:
            hashes = [hashlib.sha256(label_text(label).encode()).digest()[:8] for label in labels]
            words = [int.from_bytes(part, "little") for part in hashes]
            self._labels, self._words = labels, np.array([*words, 0], dtype=np.uint64)
        return self._words
