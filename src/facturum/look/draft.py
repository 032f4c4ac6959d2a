"""A first plan for a table, commented line by line, to be edited by hand."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from facturum.data.declared import as_time, declare
from facturum.data.id_variables import MANY_ROWS, looks_like_id
from facturum.data.table import Table
from facturum.data.time.calendar import PARTS, part_codes
from facturum.data.time.periods import step_noun
from facturum.data.time.steps import SEASONS
from facturum.data.values import Array, FloatArray, Kind, label_text, plain_number
from facturum.data.variable import Variable
from facturum.data.yes_and_no import said_no
from facturum.engine.planning.sections.column_names import slug
from facturum.errors import DataError, nearest
from facturum.language.core.literals import Name
from facturum.look.profile import VariableProfile, profile_of
from facturum.look.variables.clock import are_dates, find_clock, one_to_one
from facturum.look.variables.forms import declaration_text, found_declarations, texts_of, two_orders
from facturum.look.variables.numbers import found_years, with_truths
from facturum.look.variables.remarks import FEW, are_numbers, long_tail, odd_codes
from facturum.look.variables.short_names import as_derived, short_names

MAX_CATEGORIES = 30
FEW_UNITS = 12
MOSTLY = 0.5  # missing, beyond which a variable is left out


@dataclass(frozen=True)
class Line:
    """A line of the plan, and the reason for it."""

    key: str
    text: str
    why: str


class Draft:
    """Writes a first plan.

    Args:
        table: the table.
        response: the variable to explain.
        reading: how the table's file is read, which the plan repeats.
        without: terms to leave out, each with the reason.
        day_first: of dates of which nothing tells, whether the day or the month stands first.

    Raises:
        DataError: where the response is not found, cannot be one, or is constant.
    """

    def __init__(
        self,
        table: Table,
        response: str,
        reading: Mapping[str, Any] | None = None,
        without: Mapping[str, str] | None = None,
        day_first: bool | None = None,
    ) -> None:
        if response not in table:
            raise DataError(
                f"variable '{response}' not found in {table.source}{nearest(response, list(table.variables))}",
                remedy="It has " + ", ".join(list(table.variables)[:20]) + ".",
            )
        self._forms = found_years(table) | found_declarations(table, day_first)
        table, self._truths = with_truths(declare(table, self._forms), response)
        self._table = table
        self._reading = reading or {}
        self._without = without or {}
        self._response = table[response]
        there = ~self._response.missing_rows()
        if not there.any():
            raise DataError(f"'{response}' is missing in every row", remedy="Name another response.")
        # a variable that is constant where the response is present cannot explain it
        self._rows = np.flatnonzero(there)
        self._profiles = {profile.name: profile for profile in profile_of(_part(table, self._rows))}
        self._clock = find_clock(table)
        self._keys: set[str] = set()
        self._short = short_names(list(table.variables))

    def text(self) -> str:
        """Return the plan as the text of a plan file."""
        profile = self._profiles[self._response.name]
        response, why = self._response_text(profile)
        terms = [line for variable in self._table for line in self._lines(variable)]
        terms += list(self._time_lines())
        gone = self._without
        terms = [Line("", f"{each.text} left out", gone[each.key]) if each.key in gone else each for each in terms]
        if not any(line.key for line in terms):
            raise DataError(
                f"{self._table.source} has no predictor for '{self._response.name}'",
                remedy="All others are ids, constants or missing; declare kinds in [variables], or add variables.",
            )
        head = f"# A first plan for {self._table.source}, drafted from its profile: read each line, and change it."
        lines = [
            *(head, "", "facturum = 1"),
            f"response = {_quoted(response)}  # {why}",
            "intercept = true",
            "",
            *self._data_lines(),
            *self._variable_lines(),
            *self._short_lines(" ".join([response, *[line.text for line in terms if line.key]])),
            "[rows]",
            'missing = "drop"  # rows without a value in the response or a term; build lists each of them',
            "",
            "[terms]",
        ]
        width = max(len(line.key) for line in terms)
        for line in terms:
            if line.key:
                lines.append(f"{line.key.ljust(width)} = {_quoted(line.text)}  # {line.why}")
            else:
                lines.append(f"# {line.text}: {line.why}")
        return "\n".join(lines) + "\n"

    def _response_text(self, profile: VariableProfile) -> tuple[str, str]:
        name = self._short.get(profile.name, profile.name)
        unfit = self._unfit_response(profile)
        if unfit is not None:
            raise DataError(f"'{profile.name}' cannot be a response: {unfit}", remedy="Name another response.")
        if profile.distinct < 2:
            raise DataError(f"'{profile.name}' has the same value in every row", remedy="Name another response.")
        if self._response.kind is Kind.NUMBER and _positive(profile) and self._tail(self._response):
            return f"log({name})", "positive with a long tail, so as a logarithm: effects are percent"
        if self._response.kind.categorical and profile.distinct == 2:
            label = next((k for k in ("yes", "Yes", "1") if k in dict(profile.values)), profile.values[-1][0])
            literal = next(k for k in self._response.labels or () if label_text(k) == label)
            return f"{name} == {literal!r}", "one of two categories: effects are percentage points"
        return name, f"a {profile.kind} with {profile.distinct:,} different values"

    def _unfit_response(self, profile: VariableProfile) -> str | None:
        """Return why a variable cannot be the response, or None."""
        response = self._response
        if response.kind is Kind.TIME or (response.kind.categorical and are_dates(response)):
            return "it is a time"
        if response.kind is Kind.NUMBER and not response.exact_as_double:
            return "its whole numbers are too long for a number"
        if response.kind is Kind.NUMBER and np.isinf(response.data[self._rows].astype(np.float64)).any():
            return "it has infinite values, which count as wrong: correct them first"
        many = profile.distinct == len(self._rows) or profile.distinct > MAX_CATEGORIES
        if response.kind.categorical and profile.distinct > 2 and many:
            return f"it has {profile.distinct:,} categories in {len(self._rows):,} rows"
        return None

    def _tail(self, variable: Variable) -> bool:
        values = self._present(variable)
        return long_tail(np.sort(values[np.isfinite(values)]))

    def _present(self, variable: Variable) -> FloatArray:
        """Return the numbers that are there, in the rows in which the response is."""
        part = variable.take(self._rows)
        values: FloatArray = part.data[~part.missing_rows()].astype(np.float64)
        return values

    def _data_lines(self) -> list[str]:
        lines = []
        if self._clock is not None:
            lines += [f"time  = {_quoted(self._clock.time)}", f'every = "{self._clock.every}"']
            if self._clock.panel is not None:
                why = f"each of them has one row in a {step_noun(self._clock.every)}"
                lines.append(f"panel = [{_quoted(self._clock.panel)}]  # {why}")
        lines += [f"{key} = {_quoted(value)}" for key, value in self._reading.items()]
        return ["[data]", *lines, ""] if lines else []

    def _variable_lines(self) -> list[str]:
        lines = []
        for variable in self._table:
            why = self._identity(variable)
            if why and variable.name != self._response.name:
                lines.append(f'{_key(variable.name)} = {{ kind = "id" }}  # {why}')
            elif variable.name in self._forms:
                lines.append(f"{_key(variable.name)} = {declaration_text(self._forms[variable.name])}")
            elif variable.name in self._truths:
                lines.append(f'{_key(variable.name)} = {{ kind = "truth" }}  # 0 and 1')
            elif variable.kind.categorical and are_dates(variable) and not self._is_clock(variable):
                lines.append(f'{_key(variable.name)} = {{ kind = "time" }}  # dates stored as text')
            elif ways := two_orders(texts_of(variable)):
                why = f'where they are dates, write pattern = "{ways[0]}" or "{ways[-1]}" instead'
                lines.append(f'{_key(variable.name)} = {{ kind = "category" }}  # {why}')
        return ["[variables]", *lines, ""] if lines else []

    def _short_lines(self, written: str) -> list[str]:
        used = {name: short for name, short in self._short.items() if re.search(rf"\b{short}\b", written)}
        lines = [f"{short} = {_quoted(as_derived(name))}" for name, short in used.items()]
        return ["[derived]", *lines, ""] if lines else []

    def _is_clock(self, variable: Variable) -> bool:
        return self._clock is not None and variable.name == self._clock.time

    def _identity(self, variable: Variable) -> str | None:
        """Return why a variable only identifies rows or units, or None."""
        if self._clock is not None and variable.name in (self._clock.time, self._clock.panel):
            return None
        profile = self._profiles[variable.name]
        if variable.identity:
            return "declared so"
        if variable.kind is Kind.NUMBER:
            if not variable.exact_as_double:
                return "whole numbers too long for a number"
            x = np.sort(self._present(variable))
            x = x[np.isfinite(x)]
            return "it counts the rows" if looks_like_id(x, np.unique(x)) else None
        if not variable.kind.categorical or are_dates(variable):
            return None
        texts = [label for label in variable.labels or () if isinstance(label, str)]
        if profile.distinct == profile.rows - profile.missing and profile.distinct > 2:
            return "every row has another one"
        panel = None if self._clock is None else self._clock.panel
        if panel is not None and profile.distinct > 2 and one_to_one(variable, self._table[panel]):
            return f"it identifies the same units as {panel}"
        if texts and are_numbers(texts) and any(text.startswith("0") and len(text) > 1 for text in texts):
            return "codes with leading zeros"
        return None

    def _lines(self, variable: Variable) -> Iterator[Line]:
        name, profile = variable.name, self._profiles[variable.name]
        if name == self._response.name:
            return
        left_out = self._left_out(variable, profile)
        if left_out:
            yield Line("", f"{name} left out", left_out)
        elif variable.kind is Kind.TRUTH or variable.kind.categorical:
            yield self._category_line(variable, profile)
        else:
            yield from self._number_lines(variable, profile)

    def _left_out(self, variable: Variable, profile: VariableProfile) -> str | None:
        if self._identity(variable):
            return "an id, " + str(self._identity(variable))
        if self._is_clock(variable):
            return "the time; see trend and season below"
        if self._clock is not None and variable.name == self._clock.panel and profile.distinct > FEW_UNITS:
            return "the units of the panel; one category for each would explain all that does not change in time"
        if variable.kind is Kind.TIME or (variable.kind.categorical and are_dates(variable)):
            return 'a date; part(.., "month") or periods_since(..) would make a term of it'
        if profile.distinct == 0:
            return "missing wherever the response is there"
        if profile.missing > MOSTLY * profile.rows:
            return f"missing in {100 * profile.missing / profile.rows:.0f} % of the rows"
        if profile.distinct == 1 and not profile.missing:
            return "the same in every row in which the response has a value"
        if variable.kind is Kind.CATEGORY and profile.distinct > 1000:
            return f"{profile.distinct:,} categories; regroup them first"
        if profile.distinct == 1:
            return "it has one value, where it has any"
        return None

    def _category_line(self, variable: Variable, profile: VariableProfile) -> Line:
        x = self._short.get(variable.name, variable.name)
        if variable.kind is Kind.TRUTH and not profile.missing:
            return Line(self._key(variable.name), x, "1 where it is true")
        options, why, which = "", [], "most frequent"
        if variable.kind is Kind.TRUTH:
            most = max(profile.values, key=lambda pair: pair[1])[0]
            reference = "True" if most == "true" else "False"
        else:
            counts = dict(profile.values)
            often = max(variable.labels or (), key=lambda label: counts.get(label_text(label), 0))
            no = said_no(variable.labels or ())
            reference = repr(no or often)
            which = which if no is None else "no"
        why.append(f"{profile.distinct} categories, against the {which}")
        if profile.distinct > MAX_CATEGORIES:
            options += ", pool=0.01, unseen='pool'"
            why.append("those with under 1 % of the rows together")
        if profile.missing:
            options += ", missing='category'"
            why.append(f"{profile.missing:,} missing as a category of their own")
        return Line(self._key(variable.name), f"category({x}, reference={reference}{options})", "; ".join(why))

    def _number_lines(self, variable: Variable, profile: VariableProfile) -> Iterator[Line]:
        x = self._short.get(variable.name, variable.name)
        key = self._key(variable.name)
        why = []
        values = self._present(variable)
        if np.isinf(values).any():
            yield Line("", f"{variable.name} left out", "it has infinite values, which count as wrong: correct them")
            return
        if self._is_coded(profile, values):
            yield self._code_line(key, x, profile)
            return
        if codes := odd_codes(np.unique(values[~np.isnan(values)])):
            listed = [str(plain_number(code)) for code in codes]
            which = f"== {listed[0]}" if len(listed) == 1 else f"in [{', '.join(listed)}]"
            coded = f"missing_if({x}, {x} {which}) if a code for missing"
            why.append(f"{' and '.join(listed)} far from the others: {coded}")
        if profile.missing:
            filled = f"impute({x}, 'median')"
            why.append(f"{profile.missing:,} missing filled with the median, and flagged")
        else:
            filled = x
        if _positive(profile) and self._tail(variable):
            yield Line(key, f"log({filled})", "; ".join(["positive with a long tail", *why]))
        else:
            spread = f"from {_figure(profile.smallest)} to {_figure(profile.largest)}"
            yield Line(key, filled, "; ".join(why or [spread]))
        if profile.missing:
            yield Line(self._key(f"{variable.name}_missing"), f"is_missing({x})", "marks the rows filled above")

    def _is_coded(self, profile: VariableProfile, values: FloatArray) -> bool:
        """Return whether a number has few whole values, as codes of categories do."""
        there = values[~np.isnan(values)]
        whole = bool(len(there)) and bool((there == np.floor(there)).all())
        return whole and 2 < profile.distinct <= FEW and len(there) >= MANY_ROWS

    def _code_line(self, key: str, x: str, profile: VariableProfile) -> Line:
        most = max(profile.values, key=lambda pair: pair[1])[0]
        missing = ", missing='category'" if profile.missing else ""
        why = f"{profile.distinct} whole numbers, taken for codes; where their size counts, write {x} or score({x})"
        return Line(key, f"category({x}, reference={most}{missing})", why)

    def _time_lines(self) -> Iterator[Line]:
        if self._clock is None:
            return
        moments = as_time(self._table[self._clock.time]).data[self._rows]
        if len(np.unique(moments)) > 1:
            yield Line(self._key("trend"), "trend()", f"one more for each {step_noun(self._clock.every)}")
        for part in SEASONS.get(self._clock.every, ()):
            seen = len(np.unique(part_codes(moments, part)))
            if seen == len(PARTS[part]):
                yield Line(self._key("season"), f"season('{part}')", f"each {part} against the first")
            elif seen > 1:
                text = f"category(part({Name(self._clock.time)}, '{part}'))"
                yield Line(self._key("season"), text, f"each {part} against the first; {seen} of them occur")

    def _key(self, name: str) -> str:
        stem = slug(name)
        stem = f"x_{stem}" if stem in ("response", "intercept") else stem
        key, number = stem, 2
        while key in self._keys:
            key, number = f"{stem}_{number}", number + 1
        self._keys.add(key)
        return key


def draft_of(
    table: Table,
    response: str,
    reading: Mapping[str, Any] | None = None,
    without: Mapping[str, str] | None = None,
    day_first: bool | None = None,
) -> str:
    """Return a first plan for a table as the text of a plan file.

    Args:
        table: the table.
        response: the variable to explain.
        reading: how the table's file is read, which the plan repeats.
        without: terms to leave out, each with the reason.
        day_first: of dates of which nothing tells, whether the day or the month stands first.

    Raises:
        DataError: where the response is not there or does not vary, or nothing is left to explain it.

    Example:
        >>> table = Table.of({"stays": [1, 5, 3, 9], "beds": [8, 40, 8, 60], "open": ["yes", "no", "yes", "yes"]})
        >>> print(draft_of(table, "stays").partition("[terms]")[2].strip())
        beds = "beds"  # from 8 to 60
        open = "category(open, reference='no')"  # 2 categories, against the no
    """
    return Draft(table, response, reading, without, day_first).text()


def _part(table: Table, rows: Array) -> Table:
    return table if len(rows) == table.length else table.take(rows)


def _positive(profile: VariableProfile) -> bool:
    return isinstance(profile.smallest, float) and profile.smallest > 0


def _figure(value: Any) -> str:
    return f"{value:.6g}" if isinstance(value, float) else str(value)


def _key(name: str) -> str:
    return name if name.replace("_", "").replace("-", "").isalnum() and name.isascii() else _quoted(name)


def _quoted(value: str | Sequence[str]) -> str:
    """Return a text, or a list of texts, as TOML writes it."""
    return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")
