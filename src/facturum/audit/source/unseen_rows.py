"""What is new in rows that a resolved plan is built on, beside the rows that it was learned from."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress

from facturum.audit.map.entries import ColumnEntry, ColumnMap
from facturum.errors import AuditError, counted


def news(before: Callable[[], ColumnMap], after: ColumnMap) -> list[str]:
    """Return what is new in rows, nothing where the map of the earlier build cannot be read any more.

    Args:
        before: returns the map of the build that the plan was resolved for.
        after: the map of the new rows.
    """
    with suppress(AuditError):
        return list(novelties(before(), after))
    return []


def novelties(before: ColumnMap, after: ColumnMap) -> Iterator[str]:
    """Yield what new rows have that those of an earlier build had not: values out of range, missing ones, categories.

    Args:
        before: the map of the build that the plan was resolved for.
        after: the map of the new rows.

    Example:
        >>> from facturum.api.plan import Plan
        >>> old = Plan(None, {"x": "log(x)"}).build({"x": [1.0, 2.0]})
        >>> next(novelties(old.columns, old.plan.build({"x": [1.0, 9.0]}).columns))
        'new in these rows: x reaches 2.19722, beyond the range of the earlier rows, 0 to 0.693147.'
    """
    known = {entry.name: entry for entry in before.columns}
    later = list(_later(before, after))
    yield from later
    times = {before.resolved.get("data", {}).get("time")} if later else set()
    for entry in after.columns:
        if entry.name in known and not (times and set(entry.sources) == times):
            yield from _beyond(known[entry.name], entry)
            if entry.missing and not known[entry.name].missing:
                yield f"new in these rows: {entry.name} is missing in {counted(entry.missing, 'row')}, and never was."
    reasons = {each.why for each in before.rows.absences}
    for each in after.rows.absences:
        if each.why not in reasons and each.rows:
            yield f"new in these rows: {counted(each.rows, 'row')} left out because {each.why}."
    for filled in after.imputations:
        if filled.groups_not_seen:
            cells = counted(filled.groups_not_seen, "cell")
            yield f"new in these rows: {cells} of {filled.variable} filled in groups that were not seen."


def _later(before: ColumnMap, after: ColumnMap) -> Iterator[str]:
    """Yield that rows lie after the last period of the earlier ones."""
    first, second = before.last_period, after.last_period
    if first is not None and second is not None and second > first:
        yield f"new in these rows: they reach {second}, and the earlier rows end in {first}."


def _beyond(before: ColumnEntry, after: ColumnEntry) -> Iterator[str]:
    if None in (before.min, before.max, after.min, after.max) or before.measure == "indicator":
        return
    least, most = float(before.min or 0.0), float(before.max or 0.0)
    for value, wrong in ((after.min, float(after.min or 0.0) < least), (after.max, float(after.max or 0.0) > most)):
        if wrong:
            yield (
                f"new in these rows: {after.name} reaches {value:.6g}, beyond the range of the earlier rows, "
                f"{least:.6g} to {most:.6g}."
            )
