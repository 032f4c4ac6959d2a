"""Compares a build with the same build made anew: the maps, the rows left out, the cells beside the columns."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import pyarrow as pa

from facturum.audit.map.entries import ColumnMap
from facturum.audit.proof.verify import Failure

CLOSE = 1e-9  # how far figures may be apart, relative to their size, between versions of NumPy and kinds of processor
_LONGEST = 80
WORDS = frozenset(  # what versions reword
    {"warnings", "checks", "findings", "terms", "leverages", "learned", "paths", "changes"}
)
COLUMN_WORDS = frozenset({"reading", "structure", "proved", "measure", "inflation", "drift"})


def content_failures(stored: ColumnMap, anew: ColumnMap, exact: bool) -> Iterator[Failure]:
    """Yield how a column map differs from that of the same build made anew.

    Args:
        stored: the map of the build.
        anew: the map made anew.
        exact: whether figures agree to the bit, as they do for the same NumPy and kind of processor.
    """
    close = 0.0 if exact and stored.made_with == anew.made_with else CLOSE
    old, new = (each.model_dump(mode="json", exclude={"made_with", "source"}) for each in (stored, anew))
    if not same_words(stored, anew):
        old, new = (_without_words(each, stored) for each in (old, new))
    for key in old:
        if key == "columns":
            yield from _column_failures(old[key], new[key], close)
        elif (told := difference(old[key], new[key], close, key)) is not None:
            yield Failure("map", key, f"The column map is not the one that the plan gives: {told}.")


def same_words(stored: ColumnMap, anew: ColumnMap) -> bool:
    """Return whether two maps were made by one version, whose sentences and checks are the same."""
    return stored.made_with.get("facturum") == anew.made_with.get("facturum")


def words_note(stored: ColumnMap, anew: ColumnMap) -> tuple[str, ...]:
    """Return that words were not compared, where another version made the build."""
    if same_words(stored, anew):
        return ()
    then, now = (each.made_with.get("facturum", "an unknown version") for each in (stored, anew))
    return (
        f"Values, formulas and digests agree; sentences, findings and checks were not compared, since Facturum {then} "
        f"made the build and this is {now}.",
    )


def _without_words(content: dict[str, Any], stored: ColumnMap) -> dict[str, Any]:
    """Return the contents of a map that another version gives as well: values, formulas, names, digests.

    Sentences and checks may have changed, and what a version does not write is not there.
    """
    plain = {key: value for key, value in content.items() if key not in WORDS and key in stored.model_fields_set}
    written = [entry.model_fields_set for entry in stored.columns]
    plain["columns"] = [
        {
            key: value
            for key, value in entry.items()
            if key not in COLUMN_WORDS and (at >= len(written) or key in written[at])
        }
        for at, entry in enumerate(content["columns"])
    ]
    for entry in plain["columns"]:
        if "by_source" in entry:
            entry["by_source"] = sorted(entry["by_source"], key=lambda each: str(each["source"]))
    return plain


def _column_failures(old: list[dict[str, Any]], new: list[dict[str, Any]], close: float) -> Iterator[Failure]:
    for before, after in zip(old, new, strict=False):
        if (
            close and before["digest"]
        ):  # which depends on the last digits; against the stored column it has been checked
            before, after = ({**entry, "digest": ""} for entry in (before, after))
        told = difference(before, after, close, before["name"])
        if told is not None:
            yield Failure("map", before["name"], f"The column map is not the one that the plan gives: {told}.")
    if len(old) != len(new):
        yield Failure("map", "", f"The column map has {len(old)} columns, and the plan gives {len(new)}.")


def difference(old: Any, new: Any, close: float, path: str) -> str | None:
    """Return in words where two contents first differ, or None where they do not.

    Example:
        >>> difference({"rows": {"kept": 5}}, {"rows": {"kept": 6}}, 0.0, "map")
        'map.rows.kept is 5, not 6'
    """
    if isinstance(old, Mapping) and isinstance(new, Mapping):
        for key in [*old, *[key for key in new if key not in old]]:
            told = difference(old.get(key), new.get(key), close, f"{path}.{key}")
            if told is not None:
                return told
        return None if list(old) == list(new) else f"{path} has its parts in another order"
    if isinstance(old, list) and isinstance(new, list) and len(old) == len(new):
        for at, (a, b) in enumerate(zip(old, new, strict=True)):
            told = difference(a, b, close, f"{path}.{at}")
            if told is not None:
                return told
        return None
    if old == new and type(old) is type(new):
        return None
    if isinstance(old, float) and isinstance(new, float) and abs(old - new) <= close * max(abs(old), abs(new)):
        return None
    return f"{path} is {_short(old)}, not {_short(new)}"


def _short(value: Any) -> str:
    text = repr(value)
    return text if len(text) <= _LONGEST else text[:_LONGEST] + " .."


def numbers_only(schema: pa.Schema) -> bool:
    """Return whether a design file holds numbers only, and so no carried variables."""
    return all(pa.types.is_floating(field.type) for field in schema)


def table_failures(
    stored: pa.Table, anew: pa.Table, name: str, checked: set[str] | frozenset[str] = frozenset()
) -> Iterator[Failure]:
    """Yield which columns of a stored table are not those made anew.

    Args:
        stored: the table.
        anew: the table made anew.
        name: what the table is called.
        checked: columns that have been looked at before.
    """
    wanted = anew.column_names
    if stored.column_names != wanted:
        odd = [a for a, b in zip(stored.column_names, wanted, strict=False) if a != b]
        yield Failure(
            "file", name, f"The columns of {name} are not those of the build, or in another order: {odd[:3]}."
        )
        return
    for column in wanted:
        if column not in checked and not _same(stored.column(column), anew.column(column)):
            yield Failure("file", column, f"The values of {column} in {name} are not those of the source.")


def _same(stored: pa.ChunkedArray, anew: pa.ChunkedArray) -> bool:
    try:
        return bool(stored.cast(anew.type).equals(anew))
    except pa.ArrowException:
        return False
