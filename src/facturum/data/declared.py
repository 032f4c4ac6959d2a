"""Declarations of variables that the file itself does not hold: kinds, labels, orders."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from facturum.data.missing_codes import without_codes
from facturum.data.number_text import PLAIN, NumberForm, form_of, in_two_ways
from facturum.data.table import Table
from facturum.data.time.calendar import AMBIGUOUS, CLOCK, FORMS, moment_of, pattern_problem, period_of
from facturum.data.time.composing import composed_time
from facturum.data.values import Array, Kind, Label, Labels, Mask, label_text, plain_number
from facturum.data.variable import Variable
from facturum.errors import DataError, counted, nearest, toml_key

_DECIMAL_YEAR = re.compile(r"[12]\d{3}\.\d+")
TRUE_WORDS = ("1", "true", "yes")
FALSE_WORDS = ("0", "false", "no")


@dataclass(frozen=True)
class Declaration:
    """The declaration of one variable.

    Args:
        kind: number, truth, category, ordered, time or id; None leaves it as found.
        labels: a name for each code, such as ``{"0": "no", "1": "yes"}``.
        order: of an ordered variable, its categories from the lowest to the highest.
        pattern: of a time written as text, how it is written, in the form of strptime.
        form: of a number written as text, how it is written.
        parts: of a time held in several variables, the variable of each part, as `composed_time` takes them.
        missing: the values that mean a missing one, texts and numbers.
        said: whether the form of numbers is declared, and so what a point before three digits is.
    """

    kind: str | None = None
    labels: Mapping[str, str] | None = None
    order: Sequence[Label] | None = None
    pattern: str | None = None
    form: NumberForm = PLAIN
    parts: Mapping[str, str] | None = None
    missing: tuple[Label, ...] = ()
    said: bool = True

    @property
    def declares(self) -> bool:
        """Whether it declares more than which values are missing."""
        return any(value is not None for value in (self.kind, self.labels, self.order, self.pattern, self.parts))


def declare(
    table: Table, declarations: Mapping[str, Declaration], time: str | None = None, missing: Sequence[Label] = ()
) -> Table:
    """Return the table with its variables as declared; the time variable is made a time if it is text.

    Args:
        table: the table.
        declarations: by variable.
        time: the time variable.
        missing: the values that mean a missing one in all variables, texts and numbers.

    Raises:
        DataError: for a variable that is not there, or values that do not fit the declaration (with their rows).

    Example:
        >>> table = Table.of({"pass": [0, 1, 1]})
        >>> declare(table, {"pass": Declaration(labels={"0": "no", "1": "yes"})})["pass"].labels
        ('no', 'yes')
    """
    variables = dict(table.variables)
    if missing:
        variables = {name: without_codes(variable, missing) for name, variable in variables.items()}
    for name, declaration in declarations.items():
        if name in variables:
            variable = without_codes(variables[name], declaration.missing)
            variables[name] = replace(_declared(variable, declaration), declared=declaration.declares)
    for name, declaration in declarations.items():
        if declaration.parts is not None:
            variables[name] = _composed(replace(table, variables=variables), name, declaration.parts)
    if time in variables and variables[time].kind is not Kind.TIME:
        variables[time] = as_time(variables[time])
    return replace(table, variables=variables)


def _composed(table: Table, name: str, parts: Mapping[str, str]) -> Variable:
    if name in table:
        raise DataError(
            f"'{name}' has parts, and is a variable of the table already",
            place=f"variables.{name}",
            remedy="Give the time a name of its own.",
        )
    if (date := parts.get("date")) is not None:
        table = replace(table, variables={**table.variables, date: as_time(table[date])})
    return replace(composed_time(table, name, parts), declared=True)


def unknown_declarations(table: Table, declarations: Mapping[str, Declaration], place: str = "") -> None:
    """Refuse declarations of variables that the table does not have.

    Args:
        table: the table.
        declarations: of its variables.
        place: of their section in the plan, where that is not the first one.

    Raises:
        DataError: naming the nearest variable.
    """
    for name in declarations:
        if name not in table:
            raise DataError(
                f"variable '{name}' not found in the table{nearest(name, list(table.variables))}",
                place=f"{place}variables.{name}",
                remedy="Correct the name, or take the line out.",
            )


def _declared(variable: Variable, declaration: Declaration) -> Variable:
    if declaration.labels is not None:
        variable = _labelled(variable, declaration.labels)
    if declaration.order is not None:
        return _ordered(variable, tuple(declaration.order))
    kind = "time" if declaration.pattern is not None else declaration.kind
    if kind is None or kind == variable.kind:
        return variable
    if kind == "id":
        return replace(variable, identity=True)
    if kind == "category":
        return _as_category(variable)
    if kind == "number":
        return _as_number(variable, declaration.form, declaration.said)
    if kind == "truth":
        return _as_truth(variable)
    if kind == "time":
        return as_time(variable, declaration.pattern)
    if kind == "ordered" and variable.kind is Kind.CATEGORY:
        raise DataError(
            f"the ordered variable '{variable.name}' needs its order",
            place=f"variables.{variable.name}",
            remedy='Write order = ["lowest", .., "highest"].',
        )
    return variable


def _as_category(variable: Variable) -> Variable:
    if variable.kind.categorical:
        return replace(variable, kind=Kind.CATEGORY)
    if variable.kind is Kind.TIME:
        raise _unfit(variable, "category", np.arange(0), 'Use part(.., "month") or season("month").')
    codes, labels = codes_of_numbers(variable.data, variable.valid)
    return Variable(variable.name, Kind.CATEGORY, codes, None, labels, variable.storage)


def _labelled(variable: Variable, labels: Mapping[str, str]) -> Variable:
    coded = _as_category(variable)
    known = coded.labels or ()
    unnamed = [label for label in known if label_text(label) not in labels]
    if unnamed:
        named = np.array([label_text(label) in labels for label in known] + [True])
        rows = np.flatnonzero(~named[coded.data]) + 1
        raise DataError(
            f"'{variable.name}' has values without a label: " + ", ".join(map(label_text, unnamed[:5])),
            place=f"variables.{variable.name}",
            rows=rows.tolist(),
            remedy="Give each value a label, or name it among missing_values.",
        )
    names = [labels[label_text(label)] for label in known]
    used = set(names)
    distinct = {text: at for at, text in enumerate(dict.fromkeys(t for t in labels.values() if t in used))}
    recode = np.array([distinct[name] for name in names] + [-1])
    return replace(coded, data=recode[coded.data], labels=tuple(distinct))


def _ordered(variable: Variable, order: Labels) -> Variable:
    coded = _as_category(variable)
    place = {label_text(label): at for at, label in enumerate(order)}
    known = coded.labels or ()
    recode = np.array([place.get(label_text(label), -2) for label in known] + [-1])
    data = recode[coded.data]
    if (data == -2).any():
        outside = [label_text(label) for label in known if label_text(label) not in place]
        raise DataError(
            f"'{variable.name}' has values outside its order: " + ", ".join(outside[:5]),
            place=f"variables.{variable.name}",
            rows=(np.flatnonzero(data == -2) + 1).tolist(),
            remedy="Add them to the order, or name them among missing_values.",
        )
    return replace(coded, kind=Kind.ORDERED, data=data, labels=order)


def _as_number(variable: Variable, form: NumberForm, said: bool) -> Variable:
    if variable.kind is Kind.TRUTH:
        return replace(variable, kind=Kind.NUMBER, data=variable.data.astype(np.float64))
    if not variable.kind.categorical:
        raise _unfit(variable, "number", np.arange(0), "Use trend() or periods_since() for a time.")
    if not said:
        _refuse_two_ways(variable)
    read = [form.number(label) if isinstance(label, str) else float(label) for label in variable.labels or ()]
    numbers = np.array([np.nan if number is None else number for number in read] + [np.nan])
    data = numbers[variable.data]
    wrong = np.flatnonzero(np.isnan(data) & (variable.data >= 0))
    if len(wrong):
        raise _unfit(variable, "number", wrong, _number_remedy(variable))
    return Variable(variable.name, Kind.NUMBER, data, variable.data >= 0, None, variable.storage)


def _refuse_two_ways(variable: Variable) -> None:
    """Refuse texts such as 1.065 beside 950, which are one number or a thousand times as much, until it is said."""
    texts = [label for label in variable.labels or () if isinstance(label, str)]
    if (shown := in_two_ways(texts)) is None:
        return
    other = "," if shown.mark == "." else "."
    rows = np.flatnonzero(np.array([label == shown.text for label in variable.labels or ()] + [False])[variable.data])
    raise DataError(
        f"'{variable.name}' can be read in two ways: {shown.text!r} as {shown.small} or as {shown.large}",
        place=f"variables.{variable.name}",
        rows=(rows + 1).tolist(),
        remedy=f'Write decimal = "{shown.mark}" for it under [variables], or thousands = "{shown.mark}" with '
        f'decimal = "{other}".',
    )


def _number_remedy(variable: Variable) -> str:
    form = form_of([label_text(label) for label in variable.labels or ()])
    if form is None:
        return "Correct these cells, or name them among missing_values."
    remedy = form.remedy.replace("NAME", toml_key(variable.name))
    return f"They are numbers with {form}: {remedy}."


def codes_of_numbers(data: Array, valid: Mask | None) -> tuple[Array, Labels]:
    """Return category codes and labels for stored numbers; missing ones get -1.

    Example:
        >>> codes_of_numbers(np.array([3, 1, 3]), None)
        (array([1, 0, 1]), (1, 3))
    """
    present = np.ones(len(data), dtype=bool) if valid is None else valid.copy()
    if data.dtype.kind == "f":
        present &= ~np.isnan(data)
    distinct, inverse = np.unique(data[present], return_inverse=True)
    codes = np.full(len(data), -1, dtype=np.int64)
    codes[present] = inverse
    return codes, tuple(plain_number(v) if isinstance(v, float) else v for v in distinct.tolist())


def _as_truth(variable: Variable) -> Variable:
    coded = _as_category(variable)
    known = [label_text(label).strip().casefold() for label in coded.labels or ()]
    meaning: Array = np.array([1 if w in TRUE_WORDS else 0 if w in FALSE_WORDS else -2 for w in known] + [-1])
    data = meaning[coded.data]
    wrong = np.flatnonzero(data == -2)
    if len(wrong):
        raise _unfit(variable, "truth", wrong, "A truth value is 1 or 0, true or false, yes or no.")
    valid = data >= 0
    return Variable(variable.name, Kind.TRUTH, data == 1, None if valid.all() else valid, None, variable.storage)


def as_time(variable: Variable, pattern: str | None = None) -> Variable:
    """Return a variable of texts or year numbers as times, each the start of the period that it names.

    Args:
        variable: the variable.
        pattern: how its texts are written, as `moment_of` takes it; None for the forms of ISO 8601, quarters, 199301
            and Jan-93.

    Raises:
        DataError: for texts that are not periods or can be read in two ways, and for mixed offsets from UTC.
    """
    if variable.kind is Kind.TIME:
        return variable
    if pattern is not None and (problem := pattern_problem(pattern)):
        raise DataError(
            f"{pattern!r} is not a valid pattern: {problem}",
            place=f"variables.{variable.name}",
            remedy='Write it in the form of strptime: "%d.%m.%Y" reads 17.04.2023.',
        )
    if variable.kind is Kind.TRUTH:
        raise _unfit(variable, "time", np.arange(0), f"A time is a date, or a text such as {FORMS}.")
    coded = _as_category(variable)
    texts = [label_text(label) for label in coded.labels or ()]
    read = [moment_of(text, pattern) for text in texts]
    starts = np.array([0 if moment is None else moment.start for moment in read] + [0], dtype=np.int64)
    known = np.array([moment is not None for moment in read] + [True])
    wrong = np.flatnonzero(~known[coded.data])
    if len(wrong):
        raise _unfit(coded, "time", wrong, _time_remedy(coded, texts, pattern))
    if pattern is None:
        _refuse_several_forms(coded, texts)
    _refuse_mixed(coded, [moment.offset if moment is not None else None for moment in read])
    valid = coded.data >= 0
    return Variable(
        variable.name, Kind.TIME, starts[coded.data], None if valid.all() else valid, None, variable.storage
    )


def _time_remedy(variable: Variable, texts: Sequence[str], pattern: str | None) -> str:
    name = toml_key(variable.name)
    if pattern is not None:
        return f'The pattern "{pattern}" does not fit these texts; "%d.%m.%Y" reads 17.04.2023.'
    dated = next((text.strip() for text in texts if AMBIGUOUS.fullmatch(text.strip())), None)
    if dated is not None:
        first, second = [char for char in dated if not char.isdigit()]
        year = "%Y" if dated[-4:].isdigit() else "%y"
        if first == second == ".":
            return f'Write [variables] {name} = {{ kind = "time", pattern = "%d.%m.{year}" }} for dates with points.'
        ways = [f"{a}{first}{b}{second}{year}" for a, b in (("%d", "%m"), ("%m", "%d"))]
        return (
            "The day or the month may stand first: write [variables] "
            f'{name} = {{ kind = "time", pattern = "{ways[0]}" }}, or "{ways[1]}", as it is meant.'
        )
    if all(_DECIMAL_YEAR.fullmatch(text.strip()) for text in texts):
        return f'Write [variables] {name} = {{ kind = "time", pattern = "decimal year" }} for years with decimals.'
    if any("q" in text.casefold() for text in texts):
        return (
            "Write quarters as 2023Q2, or hold the year and the quarter in two variables: "
            '[variables] NEW = { kind = "time", parts = { year = "..", quarter = ".." } }.'
        )
    return f'A time is a date, or a text such as {FORMS}; for other forms write pattern = "..".'


def _refuse_several_forms(variable: Variable, texts: Sequence[str]) -> None:
    """Refuse periods of several steps in one variable, such as a month among quarters."""
    periods = [period_of(text) for text in texts]
    steps = ["day" if p is None or p.step in CLOCK else p.step for p in periods]
    if len(set(steps)) < 2:
        return
    counts = np.bincount(variable.data[variable.data >= 0], minlength=len(texts))
    sizes = Counter(
        {step: sum(int(n) for n, step_of in zip(counts, steps, strict=True) if step_of == step) for step in steps}
    )
    common, *_, rare = [step for step, _ in sizes.most_common()]
    shown = {step: texts[steps.index(step)] for step in (common, rare)}
    odd = np.array([step != common for step in steps] + [False])
    raise DataError(
        f"'{variable.name}' mixes {common}s ({shown[common]}) and {rare}s ({shown[rare]})",
        place=f"variables.{variable.name}",
        rows=(np.flatnonzero(odd[variable.data]) + 1).tolist(),
        remedy="Write all its values in one form, or bring those of another step to it first with [convert].",
    )


def _refuse_mixed(variable: Variable, offsets: Sequence[int | None]) -> None:
    """Refuse times of several offsets from UTC; those of one keep their wall-clock time."""
    codes = np.array([0 if offset is None else 1_000_000 + offset for offset in offsets] + [-1])[variable.data]
    if len(present := codes[codes >= 0]) and (present != present[0]).any():
        rows = np.flatnonzero((codes >= 0) & (codes != present[0])) + 1
        raise DataError(
            f"'{variable.name}' has times of several offsets from UTC",
            place=f"variables.{variable.name}",
            rows=rows.tolist(),
            remedy="Give all times in one offset, UTC say; where clocks are put back, an hour occurs twice.",
        )


def _unfit(variable: Variable, kind: str, rows: Array, remedy: str) -> DataError:
    shown = ""
    if len(rows) and variable.labels is not None:
        words = dict.fromkeys(label_text(variable.labels[code]) for code in variable.data[rows[:50]])
        shown = " (" + ", ".join(repr(word) for word in list(words)[:3]) + ")"
    return DataError(
        f"'{variable.name}' holds {counted(len(rows), 'value')}{shown} that cannot be read as a {kind}"
        if len(rows)
        else f"'{variable.name}' is {variable.kind.with_article} and cannot be a {kind}",
        place=f"variables.{variable.name}",
        rows=(rows + 1).tolist(),
        remedy=remedy,
    )
