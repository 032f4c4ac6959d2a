"""A plan that says how the files are written that it is built of, where that is found in the files themselves."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from pathlib import Path
from typing import Any

from facturum.data.declared import Declaration
from facturum.data.number_text import NumberForm
from facturum.data.table import Table
from facturum.engine.planning.sections.plain_names import with_names
from facturum.engine.planning.sections.projection import variables_needed
from facturum.engine.planning.sections.spec import READING, DataSpec, PlanSpec, SeriesSpec, VariableSpec
from facturum.errors import DataError, named, plan_says, toml_key
from facturum.files.scans.sniffing import first_rows, found_notes, found_reading
from facturum.files.scans.tables import usual_delimiter
from facturum.files.scans.text_tables import TextForm
from facturum.look.variables.forms import found_declarations, texts_of, two_orders


def form_of(spec: PlanSpec, path: Path, series: str | None = None) -> TextForm:
    """Return how a plan says that a file is written: its data, or the table of one of its series."""
    data = spec.data if series is None else spec.series[series].written(spec.data)
    mark = data.delimiter if "delimiter" in data.model_fields_set else usual_delimiter(path)
    numbers = NumberForm(data.decimal, data.thousands)
    return TextForm(data.missing_words, mark, numbers, data.encoding, data.header_line, data.sheet)


def _said(section: DataSpec | SeriesSpec) -> dict[str, Any]:
    said = {key: getattr(section, key) for key in READING if key in section.model_fields_set}
    return {key: value for key, value in said.items() if value is not None}


def with_keys(spec: PlanSpec) -> PlanSpec:
    """Return an open plan that carries along the unit and the period of each row, by which builds are compared."""
    data = spec.data
    if data.time is None or data.every in (None, "row"):
        return spec
    carry = list(dict.fromkeys([*data.carry, *data.clock]))
    return spec.model_copy(update={"data": data.model_copy(update={"carry": carry})})


def series_files(spec: PlanSpec, folder: Path | None, tables: Mapping[str, Any]) -> dict[str, Path]:
    """Return the files of a plan's series: those given, or those that it names, looked for in its folder."""
    own = {name: folder / each.file for name, each in spec.series.items() if each.file and folder is not None}
    known = {**own, **{name: table for name, table in tables.items() if name in spec.series}}
    return {name: Path(table) for name, table in known.items() if isinstance(table, str | Path)}


def as_found(spec: PlanSpec, path: Path | None, series: Mapping[str, Path]) -> PlanSpec:
    """Return an open plan that says how its files are written, and what is a number or a date among their texts.

    What the plan says holds.

    Args:
        spec: the plan.
        path: of its data, where they are a file.
        series: the files of its series.

    Raises:
        DataError: where a file can be read in two ways.
    """
    own = _said(spec.data)
    with plan_says():
        found = {} if path is None else found_reading(path, own)
        spec = spec.model_copy(update={"data": spec.data.model_copy(update=found)}) if found else spec
        spec = spec.model_copy(update={"series": dict(_series_as_found(spec, own, series))}) if series else spec
    if path is None or spec.stack is not None:
        return spec
    head = first_rows(path, form_of(spec, path))
    spec = spec if head is None else with_names(spec, lambda: head.variables)
    declared = _declared(spec, head)
    return spec.model_copy(update={"variables": {**spec.variables, **declared}}) if declared else spec


def found_in_files(source: str, written: PlanSpec, built: PlanSpec) -> Iterator[str]:
    """Say what a plan was built with that its file does not say, since it was found in the files of its data.

    Args:
        source: the name of its data.
        written: the plan as its file has it.
        built: the plan as it was built.
    """
    own = _said(written.data)
    found = {key: value for key, value in _said(built.data).items() if key not in own}
    yield from found_notes(source, found, "; plan.resolved.toml holds it")
    numbers, dates = [], []
    for name, variable in built.variables.items():
        before = written.variables.get(name, VariableSpec())
        if variable.unit != before.unit:
            numbers.append(f"{name} in {variable.unit}")
        if variable.pattern != before.pattern:
            dates.append(f"{name} by {variable.pattern}")
    told = [f"numbers ({', '.join(numbers)})"] * bool(numbers) + [f"dates ({', '.join(dates)})"] * bool(dates)
    if told:
        yield f"Texts of {source} were read as {named(told)}."


def _series_as_found(
    spec: PlanSpec, own: Mapping[str, Any], paths: Mapping[str, Path]
) -> Iterator[tuple[str, SeriesSpec]]:
    """Return the series of a plan, each of which says what differs from how its data are written."""
    defaults = {key: DataSpec.model_fields[key].default for key in READING}
    of_data = defaults | _said(spec.data)
    for name, section in spec.series.items():
        path = paths.get(name)
        if path is None:
            yield name, section
            continue
        said = {**own, **_said(section)}
        written = defaults | {"delimiter": usual_delimiter(path)} | said | found_reading(path, said)
        differs = {key: value for key, value in written.items() if value != of_data[key] and value is not None}
        yield name, section.model_copy(update=differs)


def _declared(spec: PlanSpec, head: Table | None) -> dict[str, VariableSpec]:
    """Return the declarations of texts that are numbers with a unit, or dates, as far as the plan reads them.

    Texts that the plan itself names are left as they are.
    """
    if head is None:
        return {}
    needed = variables_needed(spec)
    _refuse_two_orders(spec, head, needed)
    texts = [spec.response, spec.rows.keep, spec.rows.learn, *spec.derived.values(), *spec.terms.values()]
    written = " ".join(text for text in texts if text is not None)
    made = {}
    for name, found in found_declarations(head).items():
        section = spec.variables.get(name, VariableSpec())
        free = not {"kind", "labels", "order", "pattern", "reference"} & section.model_fields_set
        as_text = any(f"{quote}{label}{quote}" in written for label in head[name].labels or () for quote in "'\"")
        if free and not as_text and (needed is None or name in needed):
            made[name] = section.model_copy(update=_fields(found))
    return made


def _refuse_two_orders(spec: PlanSpec, head: Table, needed: Collection[str] | None) -> None:
    """Refuse dates of which nothing tells whether the day or the month stands first, until the plan says it.

    Raises:
        DataError: with both ways.
    """
    for variable in head:
        name = variable.name
        said = spec.variables.get(name, VariableSpec()).model_fields_set
        if said or (needed is not None and name not in needed):
            continue
        patterns = two_orders(texts_of(variable))
        if patterns:
            written = f'[variables] {toml_key(name)} = {{ kind = "time", pattern = "{patterns[0]}" }}'
            raise DataError(
                f"'{name}' has dates such as {texts_of(variable)[0]}, in which day and month cannot be told apart",
                place=f"variables.{name}",
                remedy=f'Write {written}, or pattern = "{patterns[-1]}", or kind = "category".',
            )


def _fields(found: Declaration) -> dict[str, Any]:
    if found.kind == "time":
        return {"kind": "time", "pattern": found.pattern}
    form = {"unit": found.form.unit, "decimal": found.form.decimal, "thousands": found.form.thousands}
    return {"kind": "number"} | {key: value for key, value in form.items() if value not in ("", ".")}
