"""The profile of a table: what each variable is, what its values are, and what to notice."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np

from facturum.data.table import Table
from facturum.data.time.calendar import period_text
from facturum.data.time.periods import period_numbers, step_noun
from facturum.data.values import Array, FloatArray, Kind, Label, label_text, plain_number
from facturum.data.variable import Variable
from facturum.errors import DataError, counted, listed, nearest
from facturum.look.variables.clock import step_of
from facturum.look.variables.remarks import label_notes, number_notes
from facturum.numerics.exact.order_statistics import quantile_between
from facturum.numerics.shapes.group_comparisons import correlation, product_of_units, unit_length
from facturum.numerics.shapes.histogram import all_whole, whole_cells
from facturum.support.arguments import checked
from facturum.support.threads import thread_count

COMMONEST = 8
FEW_VALUES = 20
QUARTILES = (0.25, 0.5, 0.75)
CELLS = 40
MAX_CORRELATED = 12
LONGEST = 200  # characters of a category that are shown


@dataclass(frozen=True)
class VariableProfile:
    """What is to be seen of one variable.

    Args:
        name, storage: as the table has them.
        kind: what it is taken for.
        why: why.
        rows, missing, distinct: counts; missing values are not among the distinct ones.
        smallest, largest: of numbers and times (as text).
        quartiles: of numbers, the three of them; empty otherwise.
        mean: of numbers.
        quantiles: pairs of a share and its quantile, as asked for.
        values: the values with their counts: all of a category or of few-valued numbers (in their order), else none.
        cells: of numbers, counts over cells of equal width from the smallest; of whole numbers they begin at such.
        cell_width: how wide each of them is.
        notes: what an analyst should notice.
    """

    name: str
    storage: str
    kind: str
    why: str
    rows: int
    missing: int
    distinct: int
    smallest: float | str | None = None
    largest: float | str | None = None
    quartiles: tuple[float, ...] = ()
    mean: float | None = None
    quantiles: tuple[tuple[float, float], ...] = ()
    values: tuple[tuple[str, int], ...] = ()
    cells: tuple[int, ...] = ()
    cell_width: float | None = None
    notes: tuple[str, ...] = ()

    @property
    def missing_share(self) -> float:
        """The share of rows without a value."""
        return self.missing / self.rows if self.rows else 0.0

    @property
    def most_frequent(self) -> tuple[tuple[str, int], ...]:
        """The most frequent values with their counts."""
        return tuple(sorted(self.values, key=lambda pair: -pair[1])[:COMMONEST])


@dataclass(frozen=True)
class Profile:
    """The profile of a table.

    Args:
        source: where the table came from.
        rows: how many there are.
        variables: their profiles, in the order of the table.
        correlations: of each pair of numbers, over the rows in which both have a value.
        notes: what to notice of the file.

    Example:
        >>> made = profile_of(Table.of({"beds": [8, 40, 8, None], "access": ["trail", "road", "road", "road"]}))
        >>> made["beds"].missing, made["access"].most_frequent
        (1, (('road', 3), ('trail', 1)))
    """

    source: str
    rows: int
    variables: tuple[VariableProfile, ...]
    correlations: tuple[tuple[str, str, float], ...] = ()
    notes: tuple[str, ...] = ()

    @checked
    def __getitem__(self, name: str) -> VariableProfile:
        for variable in self.variables:
            if variable.name == name:
                return variable
        names = [variable.name for variable in self.variables]
        raise DataError(
            f"variable '{name}' not found in the profile{nearest(name, names)}", remedy=", ".join(names[:30])
        )

    def __repr__(self) -> str:
        head = f"profile of {counted(self.rows, 'row')} and {counted(len(self.variables), 'variable')}"
        return listed(head, (f"{v.name}: {v.kind}, {'; '.join(v.notes) or v.why}" for v in self.variables))

    def __iter__(self) -> Iterator[VariableProfile]:
        return iter(self.variables)

    def to_dict(self) -> dict[str, Any]:
        """Return all figures, for programs."""
        from dataclasses import asdict

        return asdict(self)

    def __str__(self) -> str:
        from facturum.look.profile_text import profile_text

        return profile_text(self)

    def _repr_html_(self) -> str:
        from facturum.look.profile_text import profile_html

        return profile_html(self)


TOGETHER = 16  # variables of a wide table that one thread is given at a time


def profile_of(
    table: Table, names: Sequence[str] = (), quantiles: Sequence[float] = QUARTILES, threads: int | None = None
) -> Profile:
    """Return the profile of a table, or of some of its variables.

    Args:
        table: the table.
        names: the variables; none for all.
        quantiles: the shares whose quantiles are wanted of numbers.
        threads: how many threads; the result does not depend on it.

    Raises:
        DataError: for a variable that is not there, or a table without rows.
    """
    if not table.length or not table.variables:
        raise DataError(f"{table.source} has no rows", remedy="Check the file, its delimiter and its first line.")
    for share in quantiles:
        if not 0 <= share <= 1:
            raise DataError(
                f"{share} is not a valid share of rows", remedy="Write shares between 0 and 1, or how many parts."
            )
    chosen = [table[name] for name in names] or list(table)
    with ThreadPoolExecutor(thread_count(threads)) as pool:
        size = max(min(TOGETHER, len(chosen) // 64), 1)
        groups = [chosen[at : at + size] for at in range(0, len(chosen), size)]
        parts = pool.map(lambda group: [_profile(variable, quantiles) for variable in group], groups)
        profiles = [profile for part in parts for profile in part]
        numbers = [v for v, p in zip(chosen, profiles, strict=True) if v.kind is Kind.NUMBER and p.distinct > 1]
        correlated = [v for v in numbers if not v.identity and v.exact_as_double][:MAX_CORRELATED]
        return Profile(table.source, table.length, tuple(profiles), _correlations(correlated, pool), table.notes)


def _profile(variable: Variable, quantiles: Sequence[float]) -> VariableProfile:
    if variable.kind is Kind.TIME:
        return _time(variable)
    if variable.kind.categorical or variable.kind is Kind.TRUTH:
        return _category(variable)
    if not variable.exact_as_double:
        return _codes(variable)
    return _number(variable, quantiles)


def _present(variable: Variable) -> Array:
    missing = variable.missing_rows()
    return variable.data[~missing] if missing.any() else variable.data


def _number(variable: Variable, quantiles: Sequence[float]) -> VariableProfile:
    x = np.sort(_present(variable).astype(np.float64))
    finite = x[np.isfinite(x)] if len(x) and not np.isfinite(x[[0, -1]]).all() else x
    if not len(finite):
        why = "missing in every row" if not len(x) else "all its values are infinite"
        return VariableProfile(
            variable.name, variable.storage, "number", why, len(variable), len(variable) - len(x), 0, notes=(why,)
        )
    finite = finite + 0.0 if finite[0] <= 0 <= finite[-1] else finite
    edges = np.flatnonzero(np.concatenate([[True], finite[1:] != finite[:-1]]))
    sizes = np.diff(np.append(edges, len(finite)))
    cells, width = _cells(finite, finite[edges])
    return VariableProfile(
        name=variable.name,
        storage=variable.storage,
        kind="id" if variable.identity else "number",
        why="declared so" if variable.identity else f"stored as {variable.storage or 'numbers'}",
        rows=len(variable),
        missing=len(variable) - len(x),
        distinct=len(edges),
        smallest=float(finite[0]),
        largest=float(finite[-1]),
        quartiles=tuple(quantile_between(finite, share, len(finite)) for share in QUARTILES),
        mean=_mean(finite),
        quantiles=tuple((share, quantile_between(finite, share, len(finite))) for share in quantiles),
        values=_few(finite[edges], sizes) if len(edges) <= FEW_VALUES else (),
        cells=cells,
        cell_width=width,
        notes=tuple(number_notes(finite, finite[edges], sizes, len(x) - len(finite))),
    )


def _mean(x: FloatArray) -> float:
    scale = max(abs(float(x[0])), abs(float(x[-1])), 1.0)  # so that the sum does not overflow
    return float(np.add.reduce(x / scale) / len(x) * scale) if scale > 1e290 else float(np.add.reduce(x) / len(x))


def _few(distinct: FloatArray, sizes: Array) -> tuple[tuple[str, int], ...]:
    labels = [label_text(plain_number(value)) for value in distinct.tolist()]
    return tuple(zip(labels, sizes.tolist(), strict=True))


def _cells(x: FloatArray, distinct: FloatArray) -> tuple[tuple[int, ...], float | None]:
    """Return counts over cells of equal width, of sorted values, and the width."""
    if not x[0] < x[-1]:
        return (), None
    if all_whole(distinct) and (whole := whole_cells(float(distinct[0]), float(distinct[-1]), CELLS)) is not None:
        width, count = whole
        edges = x[0] + width * np.arange(1, count)
        return tuple(np.diff(np.concatenate([[0], np.searchsorted(x, edges), [len(x)]])).tolist()), float(width)
    shares = np.arange(1, CELLS) / CELLS
    edges = x[0] * (1 - shares) + x[-1] * shares
    counts = tuple(np.diff(np.concatenate([[0], np.searchsorted(x, edges), [len(x)]])).tolist())
    return counts, float(x[-1] / CELLS - x[0] / CELLS)


def _category(variable: Variable) -> VariableProfile:
    data = _present(variable)
    truth = variable.kind is Kind.TRUTH
    labels: Sequence[Label] = (False, True) if truth else variable.labels or ()
    counts = np.bincount(data.astype(np.int64), minlength=len(labels)) if len(data) else np.zeros(len(labels), int)
    used = np.flatnonzero(counts)
    ordered = used.tolist()
    if variable.kind is Kind.CATEGORY and len(used) <= 5000:
        ordered = sorted(ordered, key=lambda at: (isinstance(labels[at], str), labels[at]))
    return VariableProfile(
        name=variable.name,
        storage=variable.storage,
        kind="id" if variable.identity else str(variable.kind),
        why=_why(variable),
        rows=len(variable),
        missing=len(variable) - len(data),
        distinct=len(used),
        values=tuple((_shortened(labels[at]), int(counts[at])) for at in ordered[:5000]),
        notes=tuple(label_notes(variable.name, [_short_label(labels[at]) for at in ordered], counts[ordered], truth)),
    )


def _short_label(label: Label) -> Label:
    """Return a label; of a text that is too long to be one, its beginning."""
    return f"{label[:LONGEST]}.." if isinstance(label, str) and len(label) > LONGEST else label


def _shortened(label: Label) -> str:
    return label_text(_short_label(label))


def _why(variable: Variable) -> str:
    if variable.identity:
        return "declared so"
    if variable.kind is Kind.ORDERED:
        return "it has an order"
    return f"stored as {variable.storage}" if variable.storage else "it has labels"


def _codes(variable: Variable) -> VariableProfile:
    """Return the profile of whole numbers too long for a double."""
    distinct, sizes = np.unique(_present(variable), return_counts=True)
    note = "whole numbers too long for a number: an id, or a category"
    return VariableProfile(
        variable.name, variable.storage, "id" if variable.identity else "number",
        "declared so" if variable.identity else f"stored as {variable.storage}",
        len(variable), int(variable.missing_rows().sum()), len(distinct),
        smallest=str(distinct[0]), largest=str(distinct[-1]),
        values=tuple(zip(map(str, distinct.tolist()), sizes.tolist(), strict=True)) if len(distinct) <= 20 else (),
        notes=() if variable.identity else (note,),
    )  # fmt: skip


def _time(variable: Variable) -> VariableProfile:
    data = _present(variable)
    distinct, sizes = np.unique(data, return_counts=True)
    ends = [_moment_text(int(value)) for value in (distinct[0], distinct[-1])] if len(distinct) else [None, None]
    notes = ["one moment in every row: a constant"] if len(distinct) == 1 else []
    return VariableProfile(
        variable.name,
        variable.storage,
        "time",
        f"stored as {variable.storage or 'times'}{_steps_text(distinct, sizes)}",
        len(variable),
        len(variable) - len(data),
        len(distinct),
        smallest=ends[0],
        largest=ends[1],
        notes=tuple(notes),
    )


def _steps_text(distinct: Array, sizes: Array) -> str:
    """Return in words at what step moments follow one another, which periods are absent, and how many share one."""
    every = step_of(distinct)
    if every is None:
        return ""
    numbers = period_numbers(distinct, every)
    noun, absent = step_noun(every), int(numbers[-1] - numbers[0]) + 1 - len(numbers)
    gaps = f"{counted(absent, noun)} without a row" if absent else f"no {noun} without a row"
    most = int(sizes.max())
    shared = f", up to {most:,} rows in one {noun}" if most > 1 else ""
    first, last = (period_text(int(number), every) for number in numbers[[0, -1]])
    return f", by {noun} from {first} to {last}, {gaps}{shared}"


def _moment_text(moment: int) -> str:
    text = str(np.datetime64(moment, "us").astype("datetime64[s]"))
    return text.removesuffix("T00:00:00")


def _correlations(numbers: Sequence[Variable], pool: ThreadPoolExecutor) -> tuple[tuple[str, str, float], ...]:
    """Return the correlation of each pair, over the rows in which both have a finite value."""

    def whole(variable: Variable) -> FloatArray | None:
        """Return a variable without missing values about its mean and of length one, for use in many pairs."""
        if variable.valid is not None or not np.isfinite(x := variable.data.astype(np.float64)).all():
            return None
        return unit_length(x)

    units = list(pool.map(whole, numbers))

    def pair(at: tuple[int, int]) -> float | None:
        x, y = units[at[0]], units[at[1]]
        if x is not None and y is not None:
            return product_of_units(x, y)
        a, b = (np.where(v.missing_rows(), np.nan, v.data.astype(np.float64)) for v in (numbers[k] for k in at))
        both = np.isfinite(a) & np.isfinite(b)
        return correlation(a[both], b[both])

    pairs = [(a, b) for a in range(len(numbers)) for b in range(a + 1, len(numbers))]
    correlated = zip(pairs, pool.map(pair, pairs), strict=True)
    return tuple((numbers[a].name, numbers[b].name, r) for (a, b), r in correlated if r is not None)
