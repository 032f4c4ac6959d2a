"""Fingerprints of source variables: they show that a cell has changed, and which one."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, ConfigDict, model_validator

from facturum.data.values import Array, Kind, label_text
from facturum.data.variable import Variable
from facturum.engine.blocks.leaves import leaves_of, on_threads
from facturum.numerics.sparse import SparseColumns

Words = npt.NDArray[np.uint64]
_MISSING = np.uint64(0x9E3779B97F4A7C15)
_ONE, _TWO = np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)
_LEAF_BITS = 16


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
    """Cells that differ from those a fingerprint was taken of; ``row`` where there is one in a leaf, from 1."""

    first: int
    last: int
    row: int | None


def fingerprint_of(variable: Variable) -> Fingerprint:
    """Return the fingerprint of a variable.

    Example:
        >>> a = fingerprint_of(Variable("x", Kind.NUMBER, np.array([1.0, 2.0, 3.0])))
        >>> b = Variable("x", Kind.NUMBER, np.array([1.0, 2.5, 3.0]))
        >>> changed_cells(b, a)
        [ChangedCells(first=1, last=3, row=2)]
    """
    digest = hashlib.sha256()
    locators, sums = [], []
    for words in _words_by_leaf(variable):
        digest.update(words.astype("<u8").tobytes())
        locators.append(_locator(words))
        sums.append(np.add.reduce(_mixed(words + _ONE)))
    return Fingerprint(
        kind=str(variable.kind),
        rows=len(variable),
        digest=digest.hexdigest(),
        locators=["".join(f"{int(word):016x}" for word in locator) for locator in locators],
        unordered=f"{int(np.add.reduce(np.array(sums, dtype=np.uint64))):016x}",
    )


def changed_cells(variable: Variable, before: Fingerprint) -> list[ChangedCells]:
    """Return where a variable of as many rows differs from the one that a fingerprint was taken of."""
    changes = []
    leaves = leaves_of(len(variable))
    for (start, stop), words, text in zip(leaves, _words_by_leaf(variable), before.locators, strict=True):
        old = np.array([int(text[at : at + 16], 16) for at in range(0, len(text), 16)], dtype=np.uint64)
        apart = _locator(words) - old
        if apart.any():
            changes.append(ChangedCells(start + 1, stop, _spelled(apart, start, stop)))
    return changes


def column_digests(columns: Sequence[Array]) -> list[str]:
    """Return the digest of each matrix column: its doubles, little end first."""

    def digest(column: Array) -> str:
        return hashlib.sha256(np.ascontiguousarray(column, dtype="<f8").data).hexdigest()

    return on_threads(digest, columns)


def sparse_digests(matrix: SparseColumns) -> list[str]:
    """Return the digest of each column of a sparse matrix: its rows that are not zero, and their doubles."""

    def digest(column: int) -> str:
        part = matrix.part(column)
        state = hashlib.sha256(np.ascontiguousarray(matrix.rows[part], dtype="<i8").data)
        state.update(np.ascontiguousarray(matrix.data[part], dtype="<f8").data)
        return state.hexdigest()

    return on_threads(digest, range(matrix.shape[1]))


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


def _words_by_leaf(variable: Variable) -> Iterator[Words]:
    """Yield 64 bits for each cell, the same for the same value however it is stored."""
    missing = variable.missing_rows()
    table: Words | None = None
    if variable.labels is not None:
        hashes = [hashlib.sha256(label_text(label).encode()).digest()[:8] for label in variable.labels]
        table = np.array([int.from_bytes(part, "little") for part in hashes] + [0], dtype=np.uint64)
    for start, stop in leaves_of(len(variable)):
        data = variable.data[start:stop]
        if table is not None:
            words: Words = table[data]
        elif variable.kind is Kind.NUMBER and variable.exact_as_double:
            words = (data.astype(np.float64) + 0.0).view(np.uint64)
        else:
            words = data.astype(np.int64).view(np.uint64)
        yield np.where(missing[start:stop], _MISSING, words)
