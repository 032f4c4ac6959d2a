"""What a trial regression is given: the rows of a design, block by block, and its column map."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from facturum.audit.map.change_entries import ChangeEntry
from facturum.audit.map.entries import ColumnMap
from facturum.data.time.calendar import moment_of
from facturum.data.values import Array, FloatArray, Mask
from facturum.numerics.linear.triangular import Factor
from facturum.support.threads import one_blas_thread
from facturum.trial.told.units import RawUnits


@dataclass(frozen=True)
class Block:
    """Some rows of a design.

    Args:
        X: the predictors without the intercept, doubles (rows, columns).
        y: the response, doubles (rows,).
        numbers: source row numbers.
        learning: whether each is a learning row.
    """

    X: FloatArray
    y: FloatArray
    numbers: Array
    learning: Mask

    def of(self, rows: Mask) -> Block:
        """Return some of the rows."""
        return self if rows.all() else Block(self.X[rows], self.y[rows], self.numbers[rows], self.learning[rows])


@dataclass(frozen=True)
class Rows:
    """The rows of a design that a trial regression is made on.

    Args:
        names: of the predictors, without the intercept.
        intercept: whether there is one.
        columns: the column map.
        read: yields the rows in blocks, as often as it is called.
        carried: the variables taken along, one for each row in the order of the blocks: numbers, moments, or texts.
        known: the factor of the rows fitted, where it has been computed: the predictors, then the response.
        changes: returns the changes of the source that effects are told of.
    """

    names: list[str]
    intercept: bool
    columns: ColumnMap
    read: Callable[[], Iterator[Block]]
    carried: Mapping[str, Array]
    known: Factor | None = None
    changes: Callable[[], Sequence[ChangeEntry]] = tuple

    @property
    def units(self) -> RawUnits:
        """How the response is brought back into the units of its source."""
        return RawUnits.of(str(self.columns.resolved.get("response")))

    @property
    def fits_all(self) -> bool:
        """Whether all rows are fitted: where the plan tells no learning rows from others."""
        return self.columns.resolved.get("rows", {}).get("learn") is None

    def fitted(self, block: Block) -> Mask:
        """Return which rows of a block are fitted: complete ones that are learned from."""
        complete = self.complete(block)
        return complete if self.fits_all else complete & block.learning

    def complete(self, block: Block) -> Mask:
        """Return which rows of a block have all their values: all, unless the plan keeps rows with missing ones."""
        known: Mask = ~np.isnan(block.y)
        if self.columns.resolved.get("rows", {}).get("missing") == "keep":
            known &= ~np.isnan(block.X).any(axis=1)
        return known

    def blocks(self) -> Iterator[Block]:
        """Yield the rows that are fitted."""
        for block in self.read():
            yield block.of(self.fitted(block))

    def factor(self) -> Factor:
        """Return the triangular factor of the rows fitted: the predictors, then the response."""
        if self.known is not None:
            return self.known
        total: Factor | None = None
        with one_blas_thread():
            for block in self.blocks():
                if not len(block.y):
                    continue
                parts = [block.X, block.y[:, None]]
                with np.errstate(over="ignore", invalid="ignore"):  # which the factor tells of
                    shift = np.append(block.X.mean(axis=0), block.y.mean()) if total is None else total.shift
                part = Factor.of(parts, shift)
                total = part if total is None else Factor.merged([total, part])
        return (
            Factor(0, np.zeros(len(self.names) + 1), np.zeros((len(self.names) + 2,) * 2)) if total is None else total
        )


def moments_of(values: Array) -> tuple[Array, Mask]:
    """Return moments, or the texts of some, as microseconds since 1970, and which of them are any.

    Example:
        >>> moments_of(np.array(["1970-01-01 00:00:00", "1970-01", ""]))[1].tolist()
        [True, True, False]
    """
    values = np.ma.getdata(values)
    if values.dtype.kind == "M":
        known = ~np.isnat(values)
        return np.where(known, values.astype("datetime64[us]").astype(np.int64), 0), known
    texts, place = np.unique(values, return_inverse=True)
    read = [moment_of(str(text)) for text in texts]
    moments = np.array([0 if moment is None else moment.start for moment in read], dtype=np.int64)
    return moments[place], np.array([moment is not None for moment in read], dtype=bool)[place]
