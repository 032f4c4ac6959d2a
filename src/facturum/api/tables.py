"""What a Python user does with tables before and beside a plan: look, draft, stack, unstack, sample."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from facturum.data.conversion import converting
from facturum.data.declared import declare
from facturum.data.shape import reshaping
from facturum.data.shape.sampling import named_sizes, sample_rows
from facturum.data.table import Table, TableLike
from facturum.data.time.periods import Timing
from facturum.data.time.steps import OWN_STEPS, STEPS
from facturum.engine.passes.build import build
from facturum.engine.planning.sections.plain_names import with_names
from facturum.engine.planning.sections.spec import spec_from
from facturum.errors import DataError, FacturumError, PlanError, bounded, counted, nearest
from facturum.files.plan_file import parse_plan
from facturum.files.scans.sniffing import found_notes, found_reading
from facturum.files.scans.tables import read
from facturum.look.crossing import CrossTable, cross_table
from facturum.look.draft import draft_of
from facturum.look.grouped import GroupedNumber, grouped_number
from facturum.look.profile import QUARTILES, Profile, profile_of
from facturum.look.variables.forms import found_declarations
from facturum.support.arguments import checked
from facturum.support.issued_warnings import issue


def taken_in(table: TableLike, reading: Mapping[str, Any] | None = None) -> Table:
    """Return a table from a path, a DataFrame, anything with ``__arrow_c_stream__``, a dict of arrays, or a Table.

    Raises:
        DataError: where it is not a table, or where `reading` is given for something other than a file.
    """
    return _read_as_found(table, reading)[0]


def with_forms(table: TableLike, reading: Mapping[str, Any] | None = None) -> Table:
    """Return a table; texts of a file that are numbers with a unit, or dates, as such."""
    made, _, day_first = _read_as_found(table, reading)
    return declare(made, found_declarations(made, day_first)) if isinstance(table, str | Path) else made


def _read_as_found(table: TableLike, reading: Mapping[str, Any] | None) -> tuple[Table, dict[str, Any], bool | None]:
    """Return a table, how its file was read, as said or found in it, and whether days stand first in its dates."""
    if isinstance(table, str | Path):
        said = dict(reading or {})
        day_first = said.pop("day_first", None)
        found = found_reading(Path(table), said)
        made = read(table, **found, **said)
        return replace(made, notes=(*made.notes, *found_notes(made.source, found))), found | said, day_first
    if reading:
        raise DataError("reading is given, and the table is not a file", remedy="Leave out reading.")
    return Table.of(table), {}, None


@checked
def profile(
    table: TableLike,
    variables: Sequence[str] = (),
    quantiles: Sequence[float] = QUARTILES,
    reading: Mapping[str, Any] | None = None,
) -> Profile:
    """Return the profile of a table: what each variable is, its values, and what to notice.

    Args:
        table: a path, a DataFrame, anything with ``__arrow_c_stream__``, a dict of arrays, or a Table.
        variables: those to profile; none for all.
        quantiles: the shares whose quantiles are wanted of numbers.
        reading: how a text file is read, as `fa.read` takes it: delimiter, decimal, encoding, missing_values; what is
            not given of them is found in the file. And day_first, of dates of which nothing tells.

    Raises:
        DataError: for a variable that is not there, a table without rows, or a file that can be read in two ways.

    Example:
        >>> profile({"beds": [8, 40, 8, 60]})["beds"].quartiles
        (8.0, 24.0, 45.0)
    """
    with bounded():
        return profile_of(with_forms(table, reading), variables, quantiles)


@checked
def cross(table: TableLike, rows: str, columns: str, reading: Mapping[str, Any] | None = None) -> CrossTable:
    """Return how often the values of two variables go together, missing ones included.

    Args:
        table: a path, a DataFrame, anything with ``__arrow_c_stream__``, a dict of arrays, or a Table.
        rows, columns: the two variables.
        reading: how a text file is read, as `fa.read` takes it.

    Raises:
        DataError: for a variable that is not there, is a time, or has more than 40 different values.

    Example:
        >>> cross({"way": ["road", "trail", "road"], "open": [1, 1, 0]}, "way", "open").percents("row")
        [[50.0, 50.0], [0.0, 100.0]]
    """
    with bounded():
        return cross_table(with_forms(table, reading), rows, columns)


@checked
def by_group(
    table: TableLike,
    variable: str,
    by: str,
    quantiles: Sequence[float] = QUARTILES,
    reading: Mapping[str, Any] | None = None,
) -> GroupedNumber:
    """Return a number by the groups of another variable: rows, missing ones, mean, sd, quantiles.

    Args:
        table: a path, a DataFrame, anything with ``__arrow_c_stream__``, a dict of arrays, or a Table.
        variable: the number.
        by: what forms the groups, of at most 40 values.
        quantiles: the shares whose quantiles are wanted.
        reading: how a text file is read, as for `profile`.

    Raises:
        DataError: for a variable that is not there or no number, and for too many groups.

    Example:
        >>> found = by_group({"beds": [8, 40, 60], "way": ["trail", "road", "road"]}, "beds", "way")
        >>> [(each.group, each.mean) for each in found.groups]
        [('road', 50.0), ('trail', 8.0), ('all', 36.0)]
    """
    with bounded():
        return grouped_number(with_forms(table, reading), variable, by, quantiles)


@checked
def draft(table: TableLike, response: str, reading: Mapping[str, Any] | None = None) -> str:
    """Return a first plan for a table, commented line by line, as the text of a plan file; it builds as it is.

    Args:
        table: as for `profile`.
        response: the variable to explain.
        reading: as for `profile`; the plan repeats it.

    Raises:
        DataError: where the response is not there or does not vary, or nothing is left to explain it.

    Example:
        >>> print(draft({"stays": [1, 5, 3], "beds": [8, 40, 60]}, "stays").splitlines()[-1])
        beds = "beds"  # from 8 to 60
    """
    given, said, day_first = _read_as_found(table, reading)
    without: dict[str, str] = {}
    while True:
        text = draft_of(given, response, said, without, day_first)
        try:
            build(with_names(parse_plan(text), lambda: given.variables), given)
            return text
        except FacturumError as error:
            section, _, key = (error.place or "").partition(".")
            if section != "terms" or key in without:
                raise DataError(
                    f"no plan for '{response}' can be drafted that builds: {error.what}", rows=error.rows,
                    count=error.count, remedy=error.remedy,
                ) from None  # fmt: skip
            without[key] = error.what


@checked
def stack(
    table: TableLike,
    into: Mapping[str, Sequence[str]],
    which: str,
    labels: Sequence[str] | None = None,
    reading: Mapping[str, Any] | None = None,
) -> Table:
    """Return a table with several columns stacked into one, beside a category that names the column.

    Args:
        table: as for `profile`.
        into: for each new variable, the columns stacked into it.
        which: the name of the category: the column that a value came from.
        labels: its categories; the names of the columns where none are given.
        reading: how a text file is read, as for `profile`.

    Warns:
        FacturumWarning: where one list of columns is shorter than another.

    Raises:
        DataError: for columns that are not there, of different kinds, or stacked twice.

    Example:
        >>> stack({"q_1": [1, 4], "q_2": [5, 2]}, {"answer": ["q_1", "q_2"]}, "item").to_pandas().answer.tolist()
        [1, 5, 4, 2]
    """
    made = reshaping.stack(taken_in(table, reading), into, which, labels)
    issue(made.notes, stacklevel=4)
    return made


@checked
def unstack(
    table: TableLike, value: str, which: str, by: Sequence[str], reading: Mapping[str, Any] | None = None
) -> Table:
    """Return a table with a column for each category of one variable: what `stack` does, turned back.

    Raises:
        DataError: where a category occurs twice within a group, naming both rows.

    Example:
        >>> long = {"guest": ["a", "a"], "item": ["q_1", "q_2"], "answer": [1, 5]}
        >>> list(unstack(long, "answer", "item", ["guest"]).variables)
        ['guest', 'q_1', 'q_2']
    """
    return reshaping.unstack(taken_in(table, reading), value, which, by)


@checked
def sample(
    table: TableLike,
    n: Any,
    by: str | None = None,
    replace: bool = False,
    *,
    seed: int,
    reading: Mapping[str, Any] | None = None,
) -> Any:
    """Return a random sample of rows, or several that share no row.

    Args:
        table: as for `profile`.
        n: how many rows (a whole number) or which share of them (a number from 0 to 1); a list or a dict of these gives
            several samples.
        by: a category; then ``n`` counts in each of its categories.
        replace: whether a row may be drawn more than once.
        seed: of the random numbers; the same seed gives the same rows.
        reading: how a text file is read, as for `profile`.

    Returns:
        A Table; a list of them, or a dict, where ``n`` is one.

    Raises:
        DataError: for more rows than there are, without replacement.

    Example:
        >>> parts = sample({"x": list(range(10))}, {"learn": 0.7, "check": 0.3}, seed=1)
        >>> {name: len(part) for name, part in parts.items()}
        {'learn': 7, 'check': 3}
    """
    whole = taken_in(table, reading)
    samples = [whole.take(rows) for rows in sample_rows(whole, named_sizes(n), by, replace, seed)]
    if isinstance(n, Mapping):
        return dict(zip(n, samples, strict=True))
    return samples if isinstance(n, Sequence) else samples[0]


@checked
def convert(
    table: TableLike,
    time: str,
    every: str,
    to: str,
    take: Mapping[str, Mapping[str, Any]],
    panel: Sequence[str] = (),
    *,
    pattern: str | None = None,
    parts: Mapping[str, str] | None = None,
    reading: Mapping[str, Any] | None = None,
) -> Table:
    """Return a table at another step: days brought to months, quarters to months, and so on.

    Args:
        table: as for `profile`.
        time: its time variable.
        every: its step: year, quarter, month, week, day or hour.
        to: the step wanted.
        take: for each variable how it is made, as in a plan: ``{"rain": {"how": "sum", "partial": "keep"}}``.
        panel: the variables within which a series runs.
        pattern: how the time is written, as in [variables] of a plan.
        parts: of a time held in several variables, the variable of each part: ``{"year": "y", "month": "m"}``.
        reading: how a text file is read, as for `profile`.

    Raises:
        PlanError: for a method that is missing, not found, or of the other direction.
        DataError: for a variable that is not there or of the wrong kind, and a period that occurs twice.

    Example:
        >>> quarters = {"quarter": ["2023Q1", "2023Q2"], "stays": [6.0, 15.0]}
        >>> made = convert(quarters, "quarter", "quarter", "month", {"stays": {"how": "smooth_total"}})
        >>> made["stays"].data.round(6).tolist()
        [1.0, 2.0, 3.0, 4.0, 5.0, 6.0]
    """
    known = (*STEPS[:-1], *OWN_STEPS)
    for step in (every, to):
        if step not in known:
            raise PlanError(
                f"'{step}' is not a valid step{nearest(step, known)}",
                remedy="Write one of " + ", ".join(known) + ".",
            )
    ways = {name: dict(how) for name, how in take.items()}
    section = spec_from({"convert": {"every": every, "take": ways}}).convert
    takes = {} if section is None else {name: each.take() for name, each in section.take.items()}
    declared: dict[str, Any] = {"kind": "time", "pattern": pattern, "parts": None if parts is None else dict(parts)}
    said = {key: value for key, value in declared.items() if value is not None}
    spec = spec_from({"variables": {time: said} if len(said) > 1 else {}})
    own = {name: variable.declaration(spec.data) for name, variable in spec.variables.items()}
    given = declare(with_forms(table, reading), own, time)
    converted, reports = converting.convert(given, Timing(time, every, tuple(panel)), to, takes, "convert")
    notes = [
        f"{counted(each.partial, to)} of {each.variable} {'is' if each.partial == 1 else 'are'} not fully covered "
        f"(partial = {each.partial_as})"
        for each in reports
        if each.partial and each.partial_as != "keep"
    ]
    made = replace(converted, notes=(*converted.notes, *notes))
    issue(notes, stacklevel=4)
    return made
