"""A variable of a table: its values as stored, its kind, and its values for some rows."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from facturum.data.values import Array, Kind, Labels, Mask, Values, label_text
from facturum.errors import DataError, counted

EXACT = 2**53
TOO_LONG = "holds whole numbers beyond 2**53, which lose digits as numbers"


class Infinite(Exception):
    """A variable is infinite in some of the rows asked for; `rows` is their mask."""

    def __init__(self, rows: Mask) -> None:
        super().__init__("infinite")
        self.rows = rows


@dataclass(frozen=True, eq=False)
class Variable:
    """A named column of a table.

    Args:
        name: as the table has it.
        kind: number, truth, category, ordered or time.
        data: the stored values in their own type; codes for categories, microseconds since 1970 for times.
        valid: True where there is a value, or None where all rows have one; NaN among numbers is missing too, and so is
            a negative code.
        labels: of categories, the label of each code.
        storage: how the table stored it, for messages.
        identity: whether it names units (an id), so that it is never a predictor.
        declared: whether the plan declares its kind.

    What lies beneath a missing cell is 0, or -1 among codes, whatever the table held there.
    """

    name: str
    kind: Kind
    data: Array
    valid: Mask | None = None
    labels: Labels | None = None
    storage: str = ""
    identity: bool = False
    declared: bool = False

    def __post_init__(self) -> None:
        if not isinstance(self.valid, np.ndarray):  # one on disk is written as it should be
            return
        if self.valid.all():
            object.__setattr__(self, "valid", None)
            return
        missing = ~self.valid
        nothing = -1 if self.kind.categorical else 0
        if (self.data[missing] != nothing).any():
            data = self.data.copy()
            data[missing] = nothing
            object.__setattr__(self, "data", data)

    def __len__(self) -> int:
        return len(self.data)

    def __repr__(self) -> str:
        return f"<{self.summary()}>"

    def summary(self) -> str:
        """Return in a line what the variable is.

        Example:
            >>> Variable("way", Kind.CATEGORY, np.array([0, 1, -1]), labels=("road", "trail")).summary()
            'way: category of 2, 1 row missing'
        """
        kind = "id" if self.identity else str(self.kind)
        of = f" of {len(self.labels):,}" if self.labels is not None else ""
        missing = int(self.missing_rows().sum())
        return f"{self.name}: {kind}{of}" + (f", {counted(missing, 'row')} missing" if missing else "")

    def text_of(self, stored: float) -> str:
        """Return a value that is there as text, from how it is stored: its label, true or false, or its number.

        Example:
            >>> Variable("open", Kind.TRUTH, np.array([True])).text_of(True)
            'true'
        """
        if self.labels is not None:
            return label_text(self.labels[int(stored)])
        return label_text(bool(stored) if self.kind is Kind.TRUTH else stored)

    def is_text(self, text: str) -> Mask:
        """Return in which rows its value, written as `text_of` writes it, is a text.

        Example:
            >>> Variable("beds", Kind.NUMBER, np.array([4.0, 7.0, 4.0])).is_text("4").tolist()
            [True, False, True]
        """
        if self.labels is not None:
            codes = [code for code, label in enumerate(self.labels) if label_text(label) == text]
            return np.isin(self.data, codes)
        distinct, place = np.unique(self.data, return_inverse=True)
        same: Mask = np.array([self.text_of(value) == text for value in distinct], dtype=bool)[place]
        return same & ~self.missing_rows()

    @cached_property
    def exact_as_double(self) -> bool:
        """Whether every stored number is a double, to the last digit."""
        if self.data.dtype.kind not in "iu" or self.data.dtype.itemsize < 8 or not len(self.data):
            return True
        return int(self.data.min()) >= -EXACT and int(self.data.max()) <= EXACT

    @cached_property
    def _has_missing(self) -> bool:
        return bool(len(self.data)) and self.kind.categorical and int(self.data.min()) < 0

    def at(self, start: int, stop: int, rows: Array | None = None) -> Values:
        """Return the values of a range of rows, or of some rows within it (positions counted from ``start``).

        Raises:
            DataError: where a whole number used as a number would lose digits.
            Infinite: where a value is infinite.
        """
        data = self.data[start:stop]
        valid = None if self.valid is None else self.valid[start:stop]
        if rows is not None:
            data = data.take(rows, mode="clip")  # all are in range; taking their word for it is twice as fast
            valid = None if valid is None else valid.take(rows)
        if self.kind is Kind.NUMBER:
            return self._numbers(data, valid)
        if self.kind.categorical and self._has_missing:
            present = data >= 0
            valid = present if valid is None else present & valid
        return Values(data, valid, self.labels)

    def _numbers(self, data: Array, valid: Mask | None) -> Values:
        if not self.exact_as_double:
            raise DataError(f"'{self.name}' {TOO_LONG}")
        if data.dtype.kind == "f":
            with np.errstate(all="ignore"):
                surely_finite = np.isfinite(np.add.reduce(data, dtype=np.float64))  # which one bad value would spoil
            if not surely_finite and not (finite := np.isfinite(data)).all():
                missing = np.isnan(data)
                if np.count_nonzero(missing) + np.count_nonzero(finite) < len(data):
                    raise Infinite(~missing & ~finite)
                valid = finite if valid is None else finite & valid
        return Values(np.ascontiguousarray(data, dtype=np.float64), valid)

    def part(self, start: int, stop: int) -> Variable:
        """Return the variable for a range of rows."""
        valid = None if self.valid is None else self.valid[start:stop]
        return replace(self, data=self.data[start:stop], valid=valid)

    def take(self, rows: Array) -> Variable:
        """Return the variable for some rows, counted from 0, in their order."""
        return replace(self, data=self.data[rows], valid=None if self.valid is None else self.valid[rows])

    def taken(self, rows: Array) -> Variable:
        """Return the variable for some rows, counted from 0, in their order; -1 is missing."""
        taken_rows = self.take(np.maximum(rows, 0))
        return replace(taken_rows, valid=~(taken_rows.missing_rows() | (rows < 0)))

    def missing_rows(self) -> Mask:
        """Return a mask of all rows that are missing."""
        missing = np.zeros(len(self), dtype=bool) if self.valid is None else ~self.valid
        if self.kind.categorical:
            missing |= self.data < 0
        elif self.data.dtype.kind == "f":
            missing |= np.isnan(self.data)
        return missing
