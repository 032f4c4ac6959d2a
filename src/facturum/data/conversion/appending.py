"""Rows of history placed before new ones."""

from __future__ import annotations

import numpy as np

from facturum.data.table import Table
from facturum.data.time.periods import Timing
from facturum.data.time.series import series_of
from facturum.data.values import Array, Kind, Labels, label_text
from facturum.data.variable import Variable
from facturum.errors import DataError


def append(history: Table, new: Table) -> Table:
    """Return the rows of two tables under one another; a variable that one of them lacks is missing there.

    Raises:
        DataError: where a variable is of different kinds in the two.

    Example:
        >>> made = append(Table.of({"x": [1], "y": [5]}), Table.of({"x": [2]}))
        >>> made["x"].data.tolist(), made["y"].missing_rows().tolist()
        ([1.0, 2.0], [False, True])
    """
    names = [*new.variables, *[name for name in history.variables if name not in new]]
    appended = {}
    for name in names:
        parts = [table.variables.get(name) for table in (history, new)]
        appended[name] = _appended(name, parts, (history.length, new.length))
    return Table(appended, history.length + new.length, new.source)


def _appended(name: str, parts: list[Variable | None], lengths: tuple[int, int]) -> Variable:
    known = [part for part in parts if part is not None]
    kinds = {part.kind for part in known if not part.missing_rows().all()} or {known[-1].kind}
    if len(kinds) > 1:
        told = " and ".join(sorted(kind.with_article for kind in kinds))
        raise DataError(
            f"'{name}' is {told} in history and new rows",
            place=f"variables.{name}",
            remedy="Declare its kind in [variables].",
        )
    kind = next(iter(kinds))
    labels: Labels | None = None
    if kind.categorical:
        labels = tuple(dict.fromkeys(label for part in known for label in part.labels or ()))
    data, valid = [], []
    for part, length in zip(parts, lengths, strict=True):
        present = np.zeros(length, dtype=bool) if part is None else ~part.missing_rows()
        valid.append(present)
        data.append(_recoded(part, present, labels, length))
    whole = np.concatenate(valid)
    storage = known[-1].storage
    identity = any(part.identity for part in known)
    return Variable(name, kind, np.concatenate(data), None if whole.all() else whole, labels, storage, identity)


def _recoded(part: Variable | None, there: Array, labels: Labels | None, length: int) -> Array:
    if labels is None:
        if part is None or part.labels is not None:
            return np.zeros(length)
        if part.kind is Kind.TIME:
            return part.data
        return part.data.astype(np.float64) if part.data.dtype.kind == "f" or part.exact_as_double else part.data
    place = {label: at for at, label in enumerate(labels)}
    if part is None or part.labels is None:
        return np.full(length, -1)
    recode = np.array([place[label] for label in part.labels] + [-1])
    return np.where(there, recode[part.data], -1)


def without_overlap(history: Table, new: Table, timing: Timing) -> Table:
    """Return the rows of history that are not among the new ones; where both have a row, they must agree.

    Raises:
        DataError: naming the new rows whose cells differ from those of history.
    """
    both = append(history, new)
    unit_of = series_of(both, timing, np.arange(both.length) < history.length)
    old = series_of(both, Timing(timing.time, timing.every, timing.panel), np.arange(both.length) >= history.length)
    at = unit_of.lookup(old.unit, old.period, old.known)[history.length :]
    overlapping = np.flatnonzero(at >= 0)
    for name, variable in new.variables.items():
        if name not in history or not len(overlapping):
            continue
        a, b = history[name].take(at[overlapping]), variable.take(overlapping)
        wrong = overlapping[_differ(a, b)]
        if len(wrong):
            raise DataError(
                f"'{name}' differs between history and the new rows, for the same {timing.every}",
                rows=(wrong + 1).tolist(),
                remedy="Correct one of the two, or give history that ends before the new rows begin.",
            )
    rest = np.ones(history.length, dtype=bool)
    rest[at[overlapping]] = False
    return history if rest.all() else history.take(np.flatnonzero(rest))


def _differ(a: Variable, b: Variable) -> Array:
    gone_a, gone_b = a.missing_rows(), b.missing_rows()
    if a.labels is not None or b.labels is not None:
        texts_a, texts_b = _texts(a), _texts(b)
        same = np.array([x == y for x, y in zip(texts_a, texts_b, strict=True)], dtype=bool)
    else:
        same = a.data == b.data
    return np.where(gone_a | gone_b, gone_a != gone_b, ~same)


def _texts(variable: Variable) -> list[str]:
    if variable.labels is None:
        return [label_text(value) for value in variable.data.tolist()]
    return ["" if code < 0 else label_text(variable.labels[code]) for code in variable.data.tolist()]
