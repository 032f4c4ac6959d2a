"""Series brought to longer or shorter periods, each variable in its own way."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from facturum.data.conversion.aggregate import aggregated, shared_days
from facturum.data.conversion.disaggregate import refined
from facturum.data.conversion.ways import LONGER, MEANINGS, READS_LATER, SAME_KIND, SHORTER
from facturum.data.table import Table
from facturum.data.time.ordering import runs_of
from facturum.data.time.periods import Timing, period_numbers, period_starts, step_noun
from facturum.data.time.series import series_of
from facturum.data.time.spans import Observed, Periods, Runs, begins, nests, period_ends, periods_of
from facturum.data.time.steps import BELOW_A_DAY
from facturum.data.values import Array, Kind, Mask
from facturum.data.variable import Variable
from facturum.errors import DataError, PlanError, nearest


@dataclass(frozen=True)
class Take:
    """How one variable is converted.

    Args:
        how: one of `MEANINGS`.
        of: the variable of the source; its own name where none is given.
        at: where in its period a dated value lies: start, middle or end.
        partial: what becomes of a longer period that is not fully covered: missing, keep or drop; or the least share
            that must be covered, below which it is missing.
        order: of the differences that a smooth path keeps small, 1 or 2.
    """

    how: str
    of: str | None = None
    at: str = "middle"
    partial: str | float | None = None
    order: int = 2


@dataclass(frozen=True)
class Converted:
    """What a conversion did to one variable.

    Args:
        variable, source: its new name, and that of the source.
        from_every, to_every: the step that it came in, and the plan's.
        how, at: as in the plan.
        values: how many source values stand behind it.
        periods: how many periods it has a value in.
        partial: how many periods were not fully covered, and what became of them.
        least_cover: the smallest share of a period that was covered, of those not fully covered.
        reads_later: whether a value reads a later period of the source.
    """

    variable: str
    source: str
    from_every: str
    to_every: str
    how: str
    at: str | None
    values: int
    periods: int
    partial: int
    partial_as: str | None
    least_cover: float | None
    reads_later: bool


def convert(
    table: Table, timing: Timing, to: str, takes: Mapping[str, Take], place: str
) -> tuple[Table, list[Converted]]:
    """Return a table at another step, and what was done to each variable.

    Args:
        table: the source, with its time variable.
        timing: its time, its step, and what a series runs within.
        to: the step wanted.
        takes: for each variable of the result, how it is made.
        place: the section of the plan, for messages.

    Raises:
        PlanError: for a way that does not go in that direction.
        DataError: for a variable that is not there or of the wrong kind, and a period that occurs twice.

    Example:
        >>> days = Table.of({"month": ["2023-01", "2023-02", "2023-03"], "stays": [4.0, 5.0, 6.0]})
        >>> from facturum.data.declared import declare
        >>> made, _ = convert(declare(days, {}, "month"), Timing("month", "month"), "quarter", {"stays": Take("sum",
        ...     partial="missing")}, "convert")
        >>> made["stays"].data.tolist()
        [15.0]
    """
    if timing.time is None or "row" in (timing.every, to):
        raise PlanError(
            "rows without a time have no periods to convert", place=place,
            remedy="Name a time variable and its step.",
        )  # fmt: skip
    below = [step for step in (timing.every, to) if step in BELOW_A_DAY]
    if "workday" in (timing.every, to) and below:
        raise PlanError(
            f"{step_noun(below[0])}s of weekends lie in no workday: neither is converted to the other", place=place,
            remedy="Bring them to days first.",
        )  # fmt: skip
    for name, take in takes.items():
        _check_take(name, take, table, timing, to, place)
    _refuse_unknown_units(table, timing.panel, place)
    periods, order, first = _ordered(table, timing)
    wanted = _wanted(periods, to)
    converted: dict[str, Variable] = {}
    reports: list[Converted] = []
    dropped = np.zeros(len(wanted.unit), dtype=bool)
    for name, take in takes.items():
        source = table[take.of or name] if order is None else table[take.of or name].take(order)
        converted[name], report, out = _taken(name, source, take, periods, wanted, place)
        reports.append(report)
        dropped |= out
    return _assembled(table, timing.time, timing.panel, first, wanted, converted, dropped), reports


def _ordered(table: Table, timing: Timing) -> tuple[Periods | Runs, Array | None, Array]:
    """Return the periods by unit and number, their rows (None for all in order), and the first row of each unit."""
    if (runs := runs_of(table, timing)) is not None:
        return runs, None, runs.starts
    series = series_of(table, timing)
    order = series.order
    first = np.full(int(series.unit.max(initial=0)) + 1, table.length)
    np.minimum.at(first, series.unit, np.arange(table.length))
    return Periods(series.unit[order], series.period[order], timing.every), order, first


def _wanted(source: Periods | Runs, to: str) -> Periods:
    """Return all periods of a step between the first and the last that each unit has."""
    if isinstance(source, Runs):
        units, first, last = np.arange(len(source.starts)), source.firsts, source.firsts + source.sizes - 1
    else:
        firsts = begins(source.unit)
        units, first = source.unit[firsts], source.number[firsts]
        last = source.number[np.append(firsts[1:], len(source.unit)) - 1]
    low = periods_of(first, source.step, to)
    high = period_numbers(period_ends(last, source.step) - 1, to)
    sizes = high - low + 1
    inside = np.arange(int(sizes.sum())) - np.repeat(np.cumsum(sizes) - sizes, sizes)
    return Periods(np.repeat(units, sizes), np.repeat(low, sizes) + inside, to)


def _check_take(name: str, take: Take, table: Table, timing: Timing, to: str, place: str) -> None:
    where = f"{place}.take.{name}"
    source = take.of or name
    if source not in table:
        raise DataError(
            f"variable '{source}' not found in the source{nearest(source, list(table.variables))}",
            place=where,
            remedy='Correct the name, or name it with of = "..".',
        )
    if timing.every == to:
        return
    longer, shorter = nests(timing.every, to), nests(to, timing.every)
    fitting = LONGER if longer else SHORTER if shorter else ("sum", "mean")
    if take.how not in fitting:
        way = "longer" if longer else "shorter" if shorter else "overlapping"
        hint = {"sum": "spread or smooth_total", "mean": "repeat or smooth_mean"}.get(take.how, "")
        raise PlanError(
            f"'{take.how}' does not bring {timing.every}s to {way} periods ({to}s)"
            + (f": write {hint}" if shorter and hint else ""),
            place=where,
            remedy="There are " + "; ".join(f"{how} ({MEANINGS[how]})" for how in fitting) + ".",
        )
    if not shorter and take.partial is None and take.how != "count":
        raise PlanError(
            f"partial is not given, and a {to} may not be fully covered",
            place=where,
            remedy='Write partial = "missing" (set to missing), "keep" (from the values present), "drop" (left out), '
            "or the share that must be covered, such as 0.8.",
        )
    kind = table[source].kind
    if take.how not in (*SAME_KIND, "count") and not kind.numeric:
        raise DataError(
            f"'{source}' is {kind.with_article}, and '{take.how}' needs a number",
            place=where,
            remedy="Write " + ", ".join(how for how in fitting if how in (*SAME_KIND, "count")) + ".",
        )


def _taken(
    name: str, source: Variable, take: Take, source_periods: Periods | Runs, wanted: Periods, place: str
) -> tuple[Variable, Converted, Mask]:
    """Return a converted variable, what was done to it, and which of the periods wanted are left out."""
    every, to = source_periods.step, wanted.step
    present = ~source.missing_rows()
    numeric = take.how not in SAME_KIND and take.how != "count"
    data = source.data.astype(np.float64, copy=False) if numeric else source.data
    scale = _scale(data, present) if numeric else 0
    observed = Observed(source_periods, np.ldexp(data, -scale) if scale else data, present)
    cover: Array | None = None
    with np.errstate(all="ignore"):  # what is not finite is refused here, or where it is read
        if nests(every, to):
            result, there, cover = aggregated(observed, wanted, take.how)
        elif nests(to, every):
            result, there = refined(observed, wanted, take.how, take.at, take.order)
        else:
            result, there, cover = shared_days(observed, wanted, take.how)
        result = np.ldexp(result, scale) if scale else result
    if scale and not np.isfinite(result[there]).all():
        raise DataError(
            f"'{source.name}' converted to {to}s by '{take.how}' exceeds the largest double",
            place=f"{place}.take.{name}",
            remedy="Correct its values; numbers this large are usually errors.",
        )
    dropped = np.zeros(len(there), dtype=bool)
    partial, least = 0, None
    if cover is not None and every != to:
        incomplete = there & (cover < 1)
        partial = int(incomplete.sum())
        least = float(cover[incomplete].min()) if partial else None
        if take.partial == "missing":
            there = there & ~incomplete
        elif take.partial == "drop":
            dropped = ~there | (cover < 1)  # those that hold nothing too
        elif isinstance(take.partial, float | int):
            there = there & (cover >= take.partial)
    kind = Kind.NUMBER if numeric or take.how == "count" else source.kind
    if kind.categorical:
        result = np.where(there, result, -1)
    variable = Variable(
        name, kind, result, None if there.all() else there, source.labels if kind.categorical else None,
        f"{source.name}, {take.how} of {every}s",
    )  # fmt: skip
    report = Converted(
        name, source.name, every, to, take.how, take.at if take.how in ("linear", "cubic") else None,
        int(present.sum()), int(there.sum()), partial, None if cover is None else _partial_text(take.partial), least,
        take.how in READS_LATER,
    )  # fmt: skip
    return variable, report, dropped


def _partial_text(partial: str | float | None) -> str | None:
    """Return the treatment of periods that are not fully covered, in the words of the map."""
    return f"at least {100 * partial:.6g} %" if isinstance(partial, float | int) else partial


def _scale(data: Array, present: Mask) -> int:
    """Return by which power of two values are made smaller, so that nothing overflows on the way; 0 as a rule."""
    data = data if present.all() else data[present]
    largest = max(-float(np.min(data, initial=0.0)), float(np.max(data, initial=0.0)))
    return 64 if 2.0**900 < largest < np.inf else 0


def _refuse_unknown_units(table: Table, panel: Sequence[str], place: str) -> None:
    """Refuse rows that lack a variable of their unit: they belong to no series that could be converted."""
    for name in panel:
        rows = np.flatnonzero(table[name].missing_rows()) + 1
        if len(rows):
            raise DataError(
                f"'{name}' is missing, so that these rows belong to no series",
                place=place,
                rows=rows[:10].tolist(),
                count=len(rows),
                remedy="Fill it, or leave the rows out beforehand.",
            )


def _assembled(
    table: Table,
    time: str,
    panel: Sequence[str],
    first: Array,
    wanted: Periods,
    converted: Mapping[str, Variable],
    dropped: Mask,
) -> Table:
    """Return the table of converted variables beside their time and panel; units in the order of the source."""
    order = np.lexsort((wanted.number, first[wanted.unit]))
    order = order[~dropped[order]]
    rows = first[wanted.unit[order]]
    moments = period_starts(wanted.number[order], wanted.step)
    assembled: dict[str, Variable] = {time: Variable(time, Kind.TIME, moments, storage=f"{wanted.step}s")}
    for name in panel:
        assembled[name] = table[name].take(rows)
    for name, variable in converted.items():
        assembled[name] = variable.take(order)
    return Table(assembled, len(order), f"{table.source}, by {wanted.step}")
