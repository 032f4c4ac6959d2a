"""The sections of a plan, as its file and Python give them: validated, not yet parsed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Annotated, Any, Literal, Self, TypeAlias, get_args

from pydantic import BaseModel, ConfigDict, Field, PrivateAttr, ValidationError, create_model

from facturum.data.conversion.converting import Take
from facturum.data.conversion.ways import MEANINGS, How
from facturum.data.declared import Declaration
from facturum.data.number_text import NumberForm
from facturum.data.time.periods import Timing
from facturum.data.time.steps import ROW_STEPS
from facturum.data.values import Label, label_text
from facturum.engine.planning.sections.check_list import CHECKS
from facturum.errors import PlanError, nearest
from facturum.language.tree.stored import StoredLiteral

FORMAT = 1
Step: TypeAlias = Literal["year", "quarter", "month", "week", "day", "workday", "hour", "30 minutes", "15 minutes"]
assert get_args(Step) == ROW_STEPS  # which a type cannot be made of


class _Section(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class DataSpec(_Section):
    """How the data are to be read."""

    time: str | None = Field(None, description="the time variable")
    every: Step | Literal["row"] | None = Field(None, description="the step of the time variable")
    week_starts: Literal["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"] = Field(
        "monday", description="the first day of a week"
    )
    panel: list[str] = Field([], description="the variables within which a series runs")
    carry: list[str] = Field([], description="variables, of the table or derived, taken along beside the matrix")
    missing_values: list[str | int | float] = Field(
        ["", "NA"],
        description="values that mean a missing one: those of the default in text files, others in every table",
    )
    delimiter: str = Field(",", description="between the cells of a text file", min_length=1, max_length=1)
    decimal: Literal[".", ","] = Field(".", description="the decimal mark of a text file")
    thousands: Literal["", ",", ".", " ", "'"] = Field("", description="between groups of three digits, in text files")
    encoding: str = Field("utf-8", description="the encoding of a text file")
    header_line: int = Field(1, ge=1, description="the line with the names; what is above is not read")
    sheet: str | None = Field(None, description="of a workbook, the sheet to read")

    @property
    def missing_words(self) -> tuple[str, ...]:
        """The same as texts, for text files."""
        return tuple(label_text(value) for value in self.missing_values)

    @property
    def missing_codes(self) -> tuple[Label, ...]:
        """Those that hold for every table: all, where the plan names its own."""
        return () if self.missing_values == ["", "NA"] else tuple(self.missing_values)

    @property
    def step(self) -> str | None:
        """The step from one period to the next, where the plan defines how rows follow one another."""
        return None if self.timing is None else self.timing.every

    @property
    def timing(self) -> Timing | None:
        """How rows follow one another, where the plan defines it."""
        if self.every is None or (self.time is None and self.every != "row"):
            return None
        return Timing(self.time, self.token(self.every), tuple(self.panel))

    @property
    def clock(self) -> list[str]:
        """The variables that tell the unit and the period of a row."""
        return [*self.panel, *([] if self.time is None else [self.time])]

    def token(self, every: str) -> str:
        """Return a step as the package `data` takes it, with the first day of its weeks."""
        return every if every != "week" or self.week_starts == "monday" else f"week_{self.week_starts[:3]}"


READING = ("encoding", "delimiter", "header_line", "decimal", "thousands", "sheet")  # how a file is written


class VariableSpec(_Section):
    """The declaration of a variable, which the file itself does not hold."""

    kind: Literal["number", "truth", "category", "ordered", "time", "id"] | None = None
    labels: dict[str, str] | None = Field(None, description="a name for each code")
    order: list[str | int | float | bool] | None = Field(None, description="categories from the lowest to the highest")
    pattern: str | None = Field(None, description="how a time is written as text, in the form of strptime")
    parts: (
        dict[
            Literal["year", "quarter", "month", "week", "day", "date", "hour", "half_hour", "clock", "minute"],
            str,
        ]
        | None
    ) = Field(None, description="of a time held in several variables, the variable of each part")
    unit: str | None = Field(None, description="a sign or word beside each number that is written as text")
    decimal: Literal[".", ","] | None = Field(None, description="the decimal mark of a number that is written as text")
    thousands: Literal["", ",", ".", " ", "'"] | None = Field(None, description="between groups of its digits")
    missing: list[str | int | float] = Field([], description="its values that mean a missing one, such as 98 and 99")
    reference: str | int | float | bool | None = Field(
        None, description="the category that others are compared with, in all terms that name none"
    )

    def declaration(self, data: DataSpec) -> Declaration:
        """Return the same as the package `data` takes it; how numbers are written holds for all variables otherwise."""
        form = NumberForm(self.decimal or data.decimal, self.thousands or data.thousands, self.unit or "")
        said = self.decimal is not None or bool(form.thousands) or form.decimal != "."
        parts = None if self.parts is None else {str(part): name for part, name in self.parts.items()}
        return Declaration(self.kind, self.labels, self.order, self.pattern, form, parts, tuple(self.missing), said)


class RowsSpec(_Section):
    """Which rows become rows of the matrix."""

    keep: str | None = Field(None, description="the condition for a row to be kept")
    learn: str | None = Field(None, description="the condition for a kept row to answer open questions")
    missing: Literal["drop", "fail", "keep"] = Field("drop", description="what becomes of rows in which it is missing")


Level = Literal["off", "warn", "strict", "error"]


class _Checks(_Section):
    def of(self, check: str) -> str:
        """Return what a check does."""
        return str(getattr(self, check))

    def runs(self, *checks: str) -> bool:
        """Return whether any of some checks is made."""
        return any(self.of(check) != "off" for check in checks)

    @property
    def refuses(self) -> bool:
        """Whether any check may refuse a build."""
        return any(self.of(key) in ("strict", "error") for key in type(self).model_fields)

    def all(self, level: str) -> Self:
        """Return the same with all checks that are made at one level; "off" makes none."""
        return type(self).model_validate(
            {key: "off" if self.of(key) == "off" else level for key in type(self).model_fields}
        )


_LEVELS: dict[str, Any] = {each.key: (Level, Field("warn", description=each.looks_for)) for each in CHECKS}
if TYPE_CHECKING:
    ChecksSpec = _Checks
else:
    ChecksSpec = create_model("ChecksSpec", __base__=_Checks, __module__=__name__, **_LEVELS)
    ChecksSpec.__doc__ = """What each check of a build does with what it finds.

    "off" does not look, "warn" tells, "strict" refuses a build that it would warn of, "error" one that it would note
    something of as well.
    """


class StackSpec(_Section):
    """Columns stacked under one another before anything else."""

    into: dict[str, list[str]] = Field(description="for each new variable, the columns stacked into it")
    which: str = Field(description="the name of the category: the column that a value came from")
    labels: list[str] | None = Field(None, description="the categories; the names of the columns where none are given")


class TakeSpec(_Section):
    """How one variable is brought to another step."""

    how: How = Field(description="how its values are made")
    of: str | None = Field(None, description="the variable of the source; the same name where none is given")
    at: Literal["start", "middle", "end"] = Field("middle", description="where in its period a dated value lies")
    partial: Literal["missing", "keep", "drop"] | Annotated[float, Field(gt=0, le=1)] | None = Field(
        None, description="what becomes of a longer period that is not fully covered, or the least share to be covered"
    )
    order: Literal[1, 2] = Field(2, description="of the differences that a smooth path keeps small")

    def take(self, name: str | None = None) -> Take:
        """Return the same as the package `data` takes it."""
        return Take(self.how, self.of or name, self.at, self.partial, self.order)


class ConvertSpec(_Section):
    """The table itself brought to the plan's step."""

    every: Step = Field(description="the step it comes in")
    take: dict[str, TakeSpec] = Field(description="for each variable, how it is made")


class SeriesSpec(_Section):
    """Another table, brought to the plan's step and joined by period."""

    file: str | None = Field(None, description="where it is, relative to the plan")
    time: str = Field(description="its time variable")
    every: Step = Field(description="its step")
    match: list[str] | dict[str, str] = Field(
        [],
        description="the variables to join by, beside the period; {own = other} where its table names them so",
    )
    variables: dict[str, VariableSpec] = Field({}, description="declarations of the variables of its table")
    take: dict[str, TakeSpec] = Field(description="for each variable, how it is made")
    delimiter: str | None = Field(None, description="as in [data], where it is another one", max_length=1)
    decimal: Literal[".", ","] | None = Field(None, description="as in [data], where it is another one")
    thousands: Literal["", ",", ".", " ", "'"] | None = Field(None, description="as in [data]")
    encoding: str | None = Field(None, description="as in [data], where it is another one")
    header_line: int | None = Field(None, ge=1, description="as in [data], where it is another one")
    sheet: str | None = Field(None, description="as in [data], where it is another one")

    def written(self, data: DataSpec) -> DataSpec:
        """Return how its table is written: as the plan's own, but for what it says itself."""
        said = {key: getattr(self, key) for key in READING if getattr(self, key) is not None}
        return data.model_copy(update=said)

    @property
    def matches(self) -> dict[str, str]:
        """The variables to join by as the plan's table calls them, and as its own does."""
        return self.match if isinstance(self.match, dict) else {name: name for name in self.match}


class PlanSpec(_Section):
    """A plan: how each term of a regression is made from the variables of a table."""

    facturum: Literal[1] = Field(1, description="the format of this file")
    response: str | None = Field(None, description="the response: an expression")
    intercept: bool = Field(True, description="whether there is a column of ones")
    data: DataSpec = DataSpec()
    variables: dict[str, VariableSpec] = Field({}, description="declarations of variables")
    stack: StackSpec | None = Field(None, description="columns stacked under one another before anything else")
    convert: ConvertSpec | None = Field(None, description="the table itself brought to the plan's step")
    series: dict[str, SeriesSpec] = Field({}, description="other tables, joined by period under NAME_variable")
    derived: dict[str, str] = Field({}, description="new variables, one column each, in any order")
    rows: RowsSpec = RowsSpec()
    terms: dict[str, str] = Field({}, description="the terms; the key names the columns")
    checks: ChecksSpec = ChecksSpec()
    columns: dict[str, list[str]] | None = Field(
        None, description="of a resolved plan: the names of the columns of each term and of the response"
    )

    _held: tuple[StoredLiteral, ...] = PrivateAttr(default=())
    _known_responses: tuple[str, ...] = PrivateAttr(default=())

    @property
    def resolved(self) -> bool:
        """Whether nothing is left to learn."""
        return self.columns is not None

    @property
    def held(self) -> tuple[StoredLiteral, ...]:
        """The long learned tables that its expressions name."""
        return self._held

    @property
    def known_responses(self) -> tuple[str, ...]:
        """The names of the response's columns in an earlier build, where this is the plan of one."""
        return self._known_responses if self.columns is None else tuple(self.columns.get("response", ()))

    def of_build(self, columns: Mapping[str, list[str]] | None) -> PlanSpec:
        """Return the same as the plan of an earlier build, with the names that its columns have."""
        new = self.model_copy()
        new._known_responses = tuple((columns or {}).get("response", ()))
        return new

    def holding(self, literals: Iterable[StoredLiteral]) -> PlanSpec:
        """Return the same with the long learned tables that its expressions name."""
        new = self.model_copy()
        new._held = tuple(sorted(set(literals), key=lambda literal: literal.digest))
        return new


_MISPLACED = ("response", "intercept")
_SECTIONS: dict[str, type[BaseModel]] = {
    "": PlanSpec,
    "data": DataSpec,
    "rows": RowsSpec,
    "checks": ChecksSpec,
    "stack": StackSpec,
    "convert": ConvertSpec,
    "series": SeriesSpec,
    "take": TakeSpec,
    "variables": VariableSpec,
}

_SECTION = "Write a section of keys and values (in Python, a dict)."
_REMEDIES = {
    "bool_parsing": "Write true or false.",
    "bool_type": "Write true or false.",
    "dict_type": _SECTION,
    "list_type": 'Write a list, such as ["hut"].',
    "model_type": _SECTION,
    "string_type": 'Write it in quotes, such as "price > 0".',
}


def spec_from(content: Mapping[str, Any]) -> PlanSpec:
    """Return a plan from the content of its sections.

    Raises:
        PlanError: for unknown keys (with the nearest right one), values of a wrong type, and keys in a wrong section.

    Example:
        >>> spec_from({"terms": {"price": "log(price)"}}).intercept
        True
        >>> spec_from({"termz": {}})  # doctest: +ELLIPSIS
        Traceback (most recent call last):
        facturum.errors.PlanError: termz: not a valid key of a plan; did you mean 'terms'?
        It may have facturum, response, intercept, data, ...
    """
    terms = content.get("terms")
    if isinstance(terms, Mapping):
        for key in _MISPLACED:
            if key in terms:
                raise PlanError(
                    f"'{key}' is not a term",
                    place=f"terms.{key}",
                    remedy=f"Write {key} = .. at the top of the plan, before the first [section].",
                )
    version = content.get("facturum", FORMAT)
    if version != FORMAT:
        raise PlanError(
            f"the plan is of format {version!r}, and this version reads format {FORMAT}",
            place="facturum",
            remedy="Use a newer version of Facturum, or write facturum = 1.",
        )
    try:
        return PlanSpec.model_validate(dict(content))
    except ValidationError as problem:
        raise _plan_error(problem) from None


def _plan_error(problem: ValidationError) -> PlanError:
    errors = problem.errors()
    first = next((error for error in errors if error["type"] == "extra_forbidden"), errors[0])
    where = [str(part) for part in first["loc"] if "literal[" not in str(part)]  # which of several types is meant
    place = ".".join(where)
    if first["type"] == "extra_forbidden":
        inner = "take" if "take" in where[:-1] else where[0]
        section = _SECTIONS["" if len(where) == 1 else inner]
        known = list(section.model_fields)
        what = "not a valid key of a plan" if len(where) == 1 else f"[{'.'.join(where[:-1])}] does not have this key"
        return PlanError(what + nearest(where[-1], known), place=place, remedy="It may have " + ", ".join(known) + ".")
    if first["type"] == "missing":
        inside = ".".join(where[:-1])
        if where[-1] == "how":
            ways = "; ".join(f"{how} ({meaning})" for how, meaning in MEANINGS.items())
            what = "how is not given for this variable"
            return PlanError(what, place=inside, remedy=f"Write how = one of: {ways}.")
        return PlanError(f"[{inside}] needs '{where[-1]}'", place=place, remedy="Write it, or take the section out.")
    remedy = _REMEDIES.get(first["type"], first["msg"].replace("Input should be", "Write") + ".")
    if where[-1] == "partial":
        remedy = 'Write "missing", "keep" or "drop", or the share that must be covered, such as 0.8.'
    if first["type"] == "literal_error":
        return PlanError(f"{first['input']!r} is not one of the choices", place=place, remedy=remedy)
    return PlanError(f"{first['input']!r} is not valid here", place=place, remedy=remedy)
