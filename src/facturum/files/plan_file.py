"""The plan file: TOML, read with its errors placed, and written for people."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomlkit

from facturum.engine.spec import FORMAT, PlanSpec, spec_from
from facturum.errors import PlanError
from facturum.files.folder import write_file

TOP = ("facturum", "response", "intercept")
SECTIONS = ("data", "variables", "stack", "convert", "series", "derived", "rows", "terms", "columns")


def load_plan(path: str | Path) -> PlanSpec:
    """Read a plan file.

    Raises:
        PlanError: where the file is not there, is no TOML, or says something that a plan cannot say.
    """
    path = Path(path)
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, ValueError) as problem:
        raise PlanError(f"the plan {path} cannot be read: {problem}", remedy="Check the path.") from None
    return parse_plan(text, path.name)


def parse_plan(text: str, name: str = "the plan") -> PlanSpec:
    """Read a plan from the text of a plan file.

    Example:
        >>> parse_plan('response = "stays"\\n[terms]\\nprice = "log(price)"').terms
        {'price': 'log(price)'}
    """
    try:
        content = tomllib.loads(text)
    except (ValueError, RecursionError) as problem:
        what = "it is nested too deeply" if isinstance(problem, RecursionError) else str(problem)
        raise PlanError(
            f"{name} is not valid TOML: {what}",
            remedy="Put expressions in double quotes, and texts inside them in single ones.",
        ) from None
    return spec_from(content)


def plan_text(spec: PlanSpec) -> str:
    """Return a plan as the text of a plan file; reading it gives the same plan back.

    Example:
        >>> print(plan_text(parse_plan('response = "stays"\\n[terms]\\nprice = "log(price)"')))
        facturum = 1
        response = "stays"
        intercept = true
        <BLANKLINE>
        [terms]
        price = "log(price)"
        <BLANKLINE>
    """
    content = spec.model_dump(exclude_defaults=True, exclude_none=True)
    document = tomlkit.document()
    document.add("facturum", tomlkit.item(FORMAT))
    if spec.response is not None:
        document.add("response", _text(spec.response))
    document.add("intercept", tomlkit.item(spec.intercept))
    for section in SECTIONS:
        if section in content:
            document.add(tomlkit.nl())
            document.add(section, _section(content[section], inline=section == "variables"))
    return tomlkit.dumps(document)


def save_plan(spec: PlanSpec, path: str | Path) -> None:
    """Write a plan file."""
    write_file(Path(path), plan_text(spec))


def _section(content: Mapping[str, Any], inline: bool) -> Any:
    table = tomlkit.table()
    for key, value in content.items():
        if inline:
            made = tomlkit.inline_table()
            made.update(value)
            table.add(key, made)
        else:
            table.add(key, _text(value) if isinstance(value, str) else tomlkit.item(value))
    return table


def _text(value: str) -> Any:
    # an expression holds texts of its own in single quotes, so that double quotes read best around it
    return tomlkit.string(value)
