"""Tables in another shape: columns stacked into one and back, and samples of rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from facturum.data.grouping import group_numbers
from facturum.data.table import Table
from facturum.data.values import Array, Kind, Labels, label_text
from facturum.data.variable import Variable
from facturum.errors import DataError, counted, named, nearest

ORIGIN = "origin_row"


def stack(table: Table, into: Mapping[str, Sequence[str]], which: str, labels: Sequence[str] | None = None) -> Table:
    """Return a table with several columns stacked into one, beside a category that names the column.

    Each row becomes as many as there are columns in the longest group; where a group has fewer, its new variable is
    missing. The variable ``origin_row`` holds the row that each came from, counted from 1.

    Args:
        table: the table.
        into: for each new variable, the columns stacked into it, all of one kind.
        which: the name of the category: the column that a value came from.
        labels: its categories; the names of the longest group's columns where none are given.

    Raises:
        DataError: for columns that are not there, of different kinds, or in two groups; and for names already taken.

    Example:
        >>> table = Table.of({"guest": ["a", "b"], "q_1": [1, 4], "q_2": [5, None]})
        >>> made = stack(table, {"answer": ["q_1", "q_2"]}, "item")
        >>> [v.name for v in made], len(made), made["item"].labels
        (['guest', 'origin_row', 'item', 'answer'], 4, ('q_1', 'q_2'))
    """
    longest = max(into.values(), key=len, default=())
    if not longest:
        raise DataError(
            "into names no columns to stack", place="stack", remedy='Write into = { answer = ["q_1", "q_2"] }.'
        )
    names = list(longest) if labels is None else list(labels)
    if len(names) != len(longest) or len(set(names)) < len(names):
        raise DataError(
            f"there are {len(names)} labels for {len(longest)} columns, or two are equal", place="stack.labels",
            remedy="Write one label for each column of the longest group.",
        )  # fmt: skip
    taken = [name for group in into.values() for name in group]
    _check_stack(table, into, taken, which)
    times = len(longest)
    rows = np.repeat(np.arange(table.length), times)
    stacked = {v.name: v.take(rows) for v in table if v.name not in taken}
    stacked[ORIGIN] = Variable(ORIGIN, Kind.NUMBER, rows + 1, storage="row numbers", identity=True)
    codes = np.tile(np.arange(times), table.length)
    stacked[which] = Variable(which, Kind.CATEGORY, codes, None, tuple(names), "stacked columns")
    for name, group in into.items():
        stacked[name] = _interleaved(name, [table[column] for column in group], times, table.length)
    return Table(stacked, len(rows), f"{table.source}, stacked", _shorter(into, names))


def _shorter(into: Mapping[str, Sequence[str]], names: Sequence[str]) -> tuple[str, ...]:
    """Say which new variables have no column for some of the categories."""
    return tuple(
        f"{name} is stacked of {counted(len(group), 'column')}, and others of {len(names)}: it is missing in rows of "
        f"{named(list(names[len(group) :]))}."
        for name, group in into.items()
        if len(group) < len(names)
    )


def _check_stack(table: Table, into: Mapping[str, Sequence[str]], taken: list[str], which: str) -> None:
    for name, group in into.items():
        if not group:
            raise DataError(f"no columns are stacked into '{name}'", place=f"stack.into.{name}", remedy="Name some.")
        for column in group:
            if column not in table:
                raise DataError(
                    f"variable '{column}' not found in the table{nearest(column, list(table.variables))}",
                    place=f"stack.into.{name}",
                    remedy="Correct the name, or take it out.",
                )
        kinds = {column: table[column].kind for column in group}
        if len(set(kinds.values())) > 1:
            told = ", ".join(f"{column} is {kind.with_article}" for column, kind in kinds.items())
            raise DataError(
                f"columns of different kinds cannot be stacked into one: {told}",
                place=f"stack.into.{name}",
                remedy="Declare them of one kind in [variables], or stack them apart.",
            )
    twice = sorted({name for name in taken if taken.count(name) > 1})
    if twice:
        raise DataError(f"'{twice[0]}' is stacked twice", place="stack.into", remedy="Name each column once.")
    kept = [v.name for v in table if v.name not in taken]
    new = [*into, which, ORIGIN]
    for name in new:
        if name in kept or new.count(name) > 1:
            raise DataError(
                f"there is a variable called '{name}' already", place="stack", remedy="Choose another name."
            )


def _interleaved(name: str, group: Sequence[Variable], times: int, length: int) -> Variable:
    """Return a variable with the first row's values, then the second's, ..; missing where the group is short."""
    first = group[0]
    unified, labels = _unified(group)
    kinds = [data.dtype for data in unified]
    data: Array = np.zeros((length, times), dtype=np.result_type(*kinds))
    valid = np.zeros((length, times), dtype=bool)
    for at, (variable, values) in enumerate(zip(group, unified, strict=True)):
        data[:, at] = values
        valid[:, at] = ~variable.missing_rows()
    whole = valid.ravel()
    if labels is not None:
        data = np.where(valid, data, -1)
    return Variable(name, first.kind, data.ravel(), None if whole.all() else whole, labels, first.storage)


def _unified(group: Sequence[Variable]) -> tuple[list[Array], Labels | None]:
    """Return the data of variables with one set of labels."""
    if group[0].labels is None:
        return [variable.data for variable in group], None
    labels: Labels = tuple(dict.fromkeys(label for variable in group for label in variable.labels or ()))
    place = {label: at for at, label in enumerate(labels)}
    recoded = []
    for variable in group:
        recode = np.array([place[label] for label in variable.labels or ()] + [-1])
        recoded.append(recode[variable.data])
    return recoded, labels


def unstack(table: Table, value: str, which: str, by: Sequence[str]) -> Table:
    """Return a table with a column for each category of one variable: what `stack` does, turned back.

    Args:
        table: the table.
        value: the variable whose values are spread over columns.
        which: the category whose values name the columns.
        by: the variables that identify the rows of a group; those that are constant within groups are kept too.

    Raises:
        DataError: where a category occurs twice within a group, naming both rows, or a variable is not there.

    Example:
        >>> long = Table.of({"guest": ["a", "a", "b"], "item": ["q_1", "q_2", "q_1"], "answer": [1, 5, 4]})
        >>> wide = unstack(long, "answer", "item", ["guest"])
        >>> [v.name for v in wide], wide["q_2"].missing_rows().tolist()
        (['guest', 'q_1', 'q_2'], [False, True])
    """
    label = table[which]
    if not label.kind.categorical or label.missing_rows().any():
        raise DataError(
            f"'{which}' is {label.kind.with_article}, or has missing values", remedy="Name a category without gaps."
        )
    if not by:
        raise DataError("by names no variable that identifies the rows of a group", remedy="Name variables in by.")
    group = group_numbers([table[name] for name in by], table.length)
    count = int(group.max()) + 1
    key = group * len(label.labels or ()) + label.data
    order = np.argsort(key, kind="stable")
    same = np.flatnonzero(np.diff(key[order]) == 0)
    if len(same):
        pair = [int(order[same[0]]) + 1, int(order[same[0] + 1]) + 1]
        raise DataError(
            f"a category of '{which}' occurs more than once in one {' and '.join(by)}",
            rows=pair,
            count=2 * len(same),
            remedy="Name more variables in by, so that each category occurs once.",
        )
    first = np.full(count, table.length)
    np.minimum.at(first, group, np.arange(table.length))
    rank = np.argsort(first, kind="stable")
    place = np.empty(count, dtype=np.int64)
    place[rank] = np.arange(count)
    rows = first[rank]
    constant = {v.name: v.take(rows) for v in table if v.name not in (value, which) and _constant(v, group, first)}
    for name in by:
        constant.setdefault(name, table[name].take(rows))
    source = table[value]
    for code, text in enumerate(map(label_text, label.labels or ())):
        if text in constant:
            raise DataError(f"there is a variable called '{text}' already", remedy="Rename it, or the category.")
        at = np.full(count, -1)
        inside = np.flatnonzero(label.data == code)
        at[place[group[inside]]] = inside
        constant[text] = replace(source.taken(at), name=text)
    return Table(constant, count, f"{table.source}, unstacked")


def _constant(variable: Variable, group: Array, first: Array) -> bool:
    missing = variable.missing_rows()
    data = np.where(missing, 0, variable.data)
    reference = first[group]
    return bool((data == data[reference]).all() and (missing == missing[reference]).all())
