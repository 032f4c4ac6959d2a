"""The parts that rows are held out in: at random, each row by itself, or stretches along time."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from facturum.data.time.calendar import period_text
from facturum.data.time.periods import period_numbers
from facturum.data.values import Array, FloatArray
from facturum.engine.planning.expressions.leaks import looks
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.engine.planning.shaping import DATA, Given, declared_tables
from facturum.errors import DataError, counted
from facturum.language.syntax.parser import parse
from facturum.validation.forecast_level import Level
from facturum.validation.forecast_path import looks_of

FOLD = "fold_of_validation"  # a variable that is added to the table
LEFT_OUT = -2.0  # in place of a part, for rows that cannot be predicted
MAX_REFITS = 2_000


@dataclass(frozen=True)
class HeldOutParts:
    """The parts that rows are held out in.

    Args:
        of_row: the part of each row of the table; below 0 for none.
        trained_with: along time, the part that the response of each row lies in; otherwise as `of_row`.
        names: of the parts, "" for what is predicted by none.
        scheme: in words.
        along_time: whether each part is predicted from those before.
        periods: along time, how many each part has.
        starts: along time, the number of the first period of each.
    """

    of_row: FloatArray
    trained_with: FloatArray
    names: list[str]
    scheme: str
    along_time: bool = False
    periods: int = 0
    starts: tuple[int, ...] = ()


def parts_of(
    spec: PlanSpec, given: Given, learning: Array, folds: int | None, origin_folds: int | None, seed: int
) -> HeldOutParts:
    """Return the parts that rows are held out in."""
    if FOLD in given.table:
        raise DataError(f"'{FOLD}' is a variable of the table", remedy="Give it another name: folds are held in it.")
    part = np.full(given.table.length, -1.0)
    if origin_folds is not None:
        return _along_time(spec, given, learning, origin_folds)
    count = len(learning) if folds is None else folds
    if not 2 <= count <= min(len(learning), MAX_REFITS):
        raise DataError(
            f"{count:,} parts of {counted(len(learning), 'learning row')} are not possible",
            remedy=f"Write folds from 2 to {min(len(learning), MAX_REFITS):,}.",
        )
    order = np.random.default_rng(seed).permutation(learning)
    part[order] = np.arange(len(order)) % count
    if folds is None:
        names = [f"row {row + 1}" for row in order]
        return HeldOutParts(part, part, names, "leaving out each row, the plan resolved anew for each")
    names = [f"part {at + 1}" for at in range(count)]
    return HeldOutParts(part, part, names, f"{count} parts at random (seed {seed}), the plan resolved anew for each")


def _along_time(spec: PlanSpec, given: Given, learning: Array, count: int) -> HeldOutParts:
    timing = spec.data.timing
    if timing is None or timing.time is None or timing.every == "row":
        raise DataError("folds along time need a time", remedy="Write [data] time and every, or use folds.")
    time = declared_tables(spec, given)[DATA][timing.time]
    numbers = period_numbers(time.data, timing.every)
    periods = np.unique(numbers[learning])
    size = len(periods) // (count + 1)
    if count < 1 or size < 1:
        raise DataError(
            f"{count:,} stretches of {counted(len(periods), 'period')} are not possible",
            remedy=f"Write origin_folds from 1 to {max(len(periods) - 1, 1):,}.",
        )
    starts = periods[[len(periods) - size * (count - at) for at in range(count)]]
    of_row = np.searchsorted(starts, numbers, side="right").astype(np.float64)
    later = _latest(spec)
    trained_with = np.searchsorted(starts, numbers + later, side="right").astype(np.float64)
    names = [f"from {period_text(int(start), timing.every)}" for start in starts]
    what = (
        f"{counted(count, 'stretch').replace('stretchs', 'stretches')} of {counted(int(size), timing.every)} along time"
    )
    before = "all rows whose response lies before it" if later else "all rows before it"
    reads = reads_response(spec)
    steps = f", one {timing.every} ahead (lags of the response are those seen)" if reads else ""
    scheme = f"{what}, each predicted from {before}{steps}"
    return HeldOutParts(of_row, trained_with, ["", *names], scheme, True, int(size), tuple(starts.tolist()))


def _latest(spec: PlanSpec) -> int:
    """Return how many periods after its row a response is known."""
    if spec.response is None:
        return 0
    derived = {name: parse(text, True) for name, text in spec.derived.items()}
    return max([look.offset for look in looks(parse(spec.response, True), derived) if look.pooled is None], default=0)


def reads_response(spec: PlanSpec) -> bool:
    """Return whether a term reads the variable that levels of the response follow from."""
    level = None if spec.response is None else Level.of(spec.response)
    return level is not None and any(look.variable == level.units.source for _, look in looks_of(spec))
