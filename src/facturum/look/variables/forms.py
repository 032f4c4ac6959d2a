"""Texts that are numbers with a unit, or dates, in one way of reading alone."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from itertools import product

from facturum.data.declared import Declaration
from facturum.data.number_text import FORMS, NumberForm, a_few, form_of
from facturum.data.table import Table
from facturum.data.time.calendar import moment_of, period_of
from facturum.data.values import Kind
from facturum.data.variable import Variable

_DATE = re.compile(r"\d{1,4}([./-])\d{1,2}\1\d{1,4}(?:[ T]\d{1,2}:\d{2}(:\d{2})?)?")


def found_declarations(table: Table, day_first: bool | None = None) -> dict[str, Declaration]:
    """Return the declarations of a table's texts that are numbers with a unit, or dates.

    Args:
        table: the table.
        day_first: whether the day or the month stands first where nothing tells; None where that is not known.

    Example:
        >>> table = Table.of({"rate": ["9,5 %", "12,0 %"], "day": ["13.02.2022", "02.03.2022"], "way": ["a", "b"]})
        >>> {name: (each.kind, each.pattern or each.form.unit) for name, each in found_declarations(table).items()}
        {'rate': ('number', '%'), 'day': ('time', '%d.%m.%Y')}
    """
    found: dict[str, Declaration] = {}
    for variable in table:
        texts = texts_of(variable)
        if not texts:
            continue
        if (form := form_of(texts)) is not None and form.unit and _is_only(form, texts):
            found[variable.name] = Declaration("number", form=form)
        elif (pattern := date_pattern(texts, day_first)) is not None:
            found[variable.name] = Declaration("time", pattern=pattern)
    return found


def date_pattern(texts: Sequence[str], day_first: bool | None = None) -> str | None:
    """Return the pattern in which texts are dates; None where they are none, or where day and month may be exchanged.

    With points between its parts, a date begins with the day.

    Example:
        >>> date_pattern(["13/02/2022", "01/03/2022"]), date_pattern(["01/02/2022"]), date_pattern(["2022-02-13"])
        ('%d/%m/%Y', None, None)
        >>> date_pattern(["01.02.2022"]), date_pattern(["01/02/2022"], day_first=False)
        ('%d.%m.%Y', '%m/%d/%Y')
    """
    first = _DATE.fullmatch(texts[0].strip())
    if first is None or all(period_of(text) is not None for text in a_few(texts)):
        return None
    mark, clock = first[1], "" if ":" not in first[0] else " %H:%M:%S" if first[2] else " %H:%M"
    fitting = _fitting(texts, mark, clock)
    if len(fitting) > 1 and day_first is not None:
        fitting = [pattern for pattern in fitting if pattern.startswith("%d") is day_first] or fitting
    return fitting[0] if len(fitting) == 1 else None


def two_orders(texts: Sequence[str]) -> list[str]:
    """Return the two patterns of dates of which nothing tells whether the day or the month stands first; or nothing.

    Example:
        >>> two_orders(["01/02/2022"]), two_orders(["13/02/2022"])
        (['%d/%m/%Y', '%m/%d/%Y'], [])
    """
    if not texts or date_pattern(texts) is not None:
        return []
    ways = [date_pattern(texts, day_first) for day_first in (True, False)]
    return [way for way in ways if way is not None]


def _fitting(texts: Sequence[str], mark: str, clock: str) -> list[str]:
    """Return the patterns that read all texts, one for each way to read them."""
    fitting: dict[tuple[int, ...], str] = {}
    for order, year in (*product(("dmy", "mdy"), ("%Y", "%y")), ("ymd", "%Y")):
        if order == "mdy" and mark == ".":
            continue
        pattern = mark.join({"d": "%d", "m": "%m", "y": year}[part] for part in order) + clock
        moments = [moment_of(text, pattern) for text in a_few(texts)]
        if None not in moments and all(moment_of(text, pattern) is not None for text in texts):
            fitting.setdefault(tuple(moment.start for moment in moments if moment is not None), pattern)
    return list(fitting.values())


def declaration_text(form: Declaration) -> str:
    """Return the declaration of a number with a unit, or of a date, as TOML writes it."""
    said = {"kind": form.kind, "pattern": form.pattern}
    if form.kind == "number":
        said |= {"unit": form.form.unit, "decimal": form.form.decimal if form.form.decimal != "." else None}
        said |= {"thousands": form.form.thousands or None}
    return (
        "{ "
        + ", ".join(f"{key} = {json.dumps(value, ensure_ascii=False)}" for key, value in said.items() if value)
        + " }"
    )


def texts_of(variable: Variable) -> list[str]:
    """Return the categories of a variable that is text and not declared; none of others."""
    labels = variable.labels or ()
    texts = [label for label in labels if isinstance(label, str)]
    whole = variable.kind is Kind.CATEGORY and not variable.declared and len(texts) == len(labels)
    return texts if whole else []


def _is_only(form: NumberForm, texts: Sequence[str]) -> bool:
    """Return whether no other marks make other numbers of texts."""
    others = [NumberForm(each.decimal, each.thousands, form.unit) for each in FORMS]
    read = {tuple(each.number(text) for text in texts) for each in others if each.reads(texts)}
    return len(read) == 1
