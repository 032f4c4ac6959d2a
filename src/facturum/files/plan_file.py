"""The plan file: TOML, read with its errors placed, and written for people."""

from __future__ import annotations

import codecs
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomlkit

from facturum.engine.planning.sections.spec import FORMAT, PlanSpec, spec_from
from facturum.errors import PlanError
from facturum.files.folder import write_file
from facturum.files.learned_files import learned_tables, named_in, with_tables
from facturum.files.scans.file_scans import ARROW, PARQUET
from facturum.files.scans.sheets import SHEETS
from facturum.language.tree.stored import found

TABLES = (".csv", ".tsv", *PARQUET, *ARROW, *SHEETS)  # endings of files that are not plans
LARGEST = 2**28  # bytes of a plan file
FLAT = ("data", "variables", "derived", "rows", "terms", "checks", "columns")  # sections with one line an entry
SECTIONS = ("data", "variables", "stack", "convert", "series", "derived", "rows", "terms", "checks", "columns")


def load_plan(path: str | Path) -> PlanSpec:
    """Read a plan file.

    Raises:
        PlanError: where the file is not found, is not valid TOML, or holds what a plan may not hold.
    """
    path = Path(path)
    if path.suffix.lower() in TABLES:
        raise PlanError(f"{path.name} is a table, and the plan is wanted here", remedy="Write PLAN first, then DATA.")
    try:
        if not path.is_file():
            what = "it is not a regular file" if path.exists() else "there is no such file"
            raise PlanError(f"the plan {path} cannot be read: {what}", remedy="Check the path.")
        if path.stat().st_size > LARGEST:
            raise PlanError(f"the plan {path} has more than {LARGEST >> 20} MB", remedy="Check the path: is it a plan?")
        data = path.read_bytes()
    except OSError as problem:
        raise PlanError(f"the plan {path} cannot be read: {problem.strerror}", remedy="Check the path.") from None
    spec = parse_plan(_decoded(data, path), path.name)
    return with_tables(spec, lambda name: (path.parent / name).read_bytes())


def _decoded(data: bytes, path: Path) -> str:
    """Return the text of a plan file, in UTF-8 or UTF-16, with a byte-order mark or without."""
    encoding = "utf-16" if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)) else "utf-8-sig"
    try:
        return data.decode(encoding)
    except UnicodeDecodeError as problem:
        raise PlanError(
            f"the plan {path} is not text in UTF-8: byte {problem.start + 1:,} cannot be read",
            remedy="Save it as UTF-8. Is it the plan, and not the data?",
        ) from None


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
    return _holding_known(spec_from(content))


def _holding_known(spec: PlanSpec) -> PlanSpec:
    """Return a plan with those of its long learned tables that are at hand."""
    known = [found(digest) for digest in named_in([spec.response, *spec.terms.values(), *spec.derived.values()])]
    return spec.holding([literal for literal in known if literal is not None]) if known else spec


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
    top = [("facturum", FORMAT), ("response", spec.response), ("intercept", spec.intercept)]
    parts = ["\n".join(_line(key, value) for key, value in top if value is not None) + "\n"]
    for section in SECTIONS:
        if section in content:
            parts.append(_section(section, content[section]))
    return "\n".join(parts)


def amended(text: str, edits: Mapping[str, str | None]) -> str:
    """Return the text of a plan file with other terms, everything else as it was.

    Args:
        text: of the plan file.
        edits: the new text of each term; None where it is left out.

    Example:
        >>> print(amended('[terms]\\nx = "x"  # metres\\ny = "y"', {"x": "center(x)", "y": None}))
        [terms]
        x = "center(x)"  # metres
        <BLANKLINE>
    """
    document = tomlkit.parse(text)
    terms: Any = document["terms"]
    for key, value in edits.items():
        if value is None:
            del terms[key]
        else:
            terms[key] = value
    made = tomlkit.dumps(document)
    parse_plan(made)
    return made


def written_plan(text: str, path: Path) -> None:
    """Write the text of a plan file, whole or not at all."""
    write_file(path, text)


def save_plan(spec: PlanSpec, path: str | Path) -> None:
    """Write a plan file, and its long learned tables beside it."""
    for name, data in learned_tables(spec):
        write_file(Path(path).parent / name, data)
    write_file(Path(path), plan_text(spec))


def _section(name: str, content: Mapping[str, Any]) -> str:
    """Return a section: a line for each entry, or tables within it where entries have entries of their own."""
    if name in FLAT:
        return "\n".join([f"[{name}]", *[_line(key, value) for key, value in content.items()]]) + "\n"
    document = tomlkit.document()
    document.add(name, tomlkit.item(content))
    return tomlkit.dumps(document)


def _line(key: str, value: Any) -> str:
    return f"{tomlkit.key(key).as_string()} = {_text(value)}"


def _text(value: Any) -> str:
    if isinstance(value, list):  # one by one, since an array of the library takes as long as the square of its length
        return "[" + ", ".join(map(_text, value)) + "]"
    item = tomlkit.item(value)
    if isinstance(value, Mapping):
        item = tomlkit.inline_table()
        item.update(value)
    return str(item.as_string())
