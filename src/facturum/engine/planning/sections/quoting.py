"""Names that an expression cannot have as they stand, and texts that are written without quotes."""

from __future__ import annotations

import json
import keyword
import re
from collections.abc import Collection, Mapping

from facturum.data.table import Table
from facturum.engine.planning.sections.column_names import slug
from facturum.engine.planning.sections.plain_names import is_expression
from facturum.errors import PlanError, nearest

SHOWN = 20  # variables of a table that an error lists


def needs_quotes(name: str) -> bool:
    """Return whether an expression must have a name in quotes.

    Example:
        >>> needs_quotes("price"), needs_quotes("price net"), needs_quotes("class")
        (False, True, True)
    """
    return not name.isidentifier() or keyword.iskeyword(name)


def in_quotes(name: str) -> str:
    """Return a variable as an expression has it whose name must be in quotes.

    Example:
        >>> print(in_quotes("Preis netto"))
        variable('Preis netto')
    """
    plain = name.isprintable() and not any(char in name for char in "'\\\"")
    return f"variable('{name}')" if plain else f"variable({json.dumps(name)})"


def quoting_error(text: str, variables: Collection[str]) -> PlanError | None:
    """Return the error for an expression that has the name of a variable without the quotes that it needs.

    Example:
        >>> print(quoting_error("log(Preis netto)", ["Preis netto"]))
        'Preis netto' is the name of a variable, and needs quotes
            log(Preis netto)
                ^^^^^^^^^^^
        Write variable('Preis netto'), or give it a short name: [derived] preis_netto = "variable('Preis netto')".
    """
    odd = sorted((name for name in variables if name.strip() and needs_quotes(name)), key=len, reverse=True)
    for name in odd:
        if re.fullmatch(r"[\d\s+*/<>=!-]*", name) and text.strip() != name and is_expression(name):
            continue  # which numbers and signs look like
        edge = [r"\b" if name[at].isalnum() else "" for at in (0, -1)]
        quoted = r"[\"']"
        found = re.search(f"(?<!{quoted}){edge[0]}{re.escape(name)}{edge[1]}(?!{quoted})", text)
        if found:
            what = f"{name!r} is the name of a variable, and needs quotes"
            return PlanError(what, text=text, span=found.span(), remedy=quotes_remedy(name))
    return None


def quotes_remedy(name: str) -> str:
    """Return how a variable is written whose name needs quotes, and how it gets a short one."""
    written, short = in_quotes(name), slug(name)
    short = f"{short}_value" if needs_quotes(short) else short
    derived = "" if '"' in written else f', or give it a short name: [derived] {short} = "{written}"'
    return f"Write {written}{derived}."


def not_found(name: str, table: Table, derived: Mapping[str, object]) -> tuple[str, str]:
    """Return what is wrong with a name that no variable has, and the remedy.

    A part of a name that needs quotes and a category without quotes are told as such.
    """
    whole = [each for each in table.variables if needs_quotes(each) and name in re.split(r"\W+", each)]
    if whole:
        return f"variable '{name}' not found; the table has '{whole[0]}'", quotes_remedy(whole[0])
    of = [each.name for each in table if each.labels is not None and name in each.labels]
    if of:
        return f"variable '{name}' not found; it is a category of {of[0]}", f"Put texts in quotes: '{name}'."
    hint = nearest(name, [*table.variables, *derived])
    return f"variable '{name}' not found{hint}", "The table has " + ", ".join(list(table.variables)[:SHOWN]) + "."
