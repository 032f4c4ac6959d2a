"""The column map in an open standard: metadata of tabular data (CSV on the Web, W3C 2015), with provenance (PROV-O).

The standard describes the columns of a table in JSON-LD. What it has no words for, the formula and the reading, is
written with terms of Dublin Core and PROV-O, which it allows for.
"""

from __future__ import annotations

from typing import Any

from facturum.audit.map.entries import ColumnEntry, ColumnMap
from facturum.audit.map.row_map import LEARNING_ROW, SOURCE_ROW, carried_names

CONTEXT = "http://www.w3.org/ns/csvw"


def csvw(columns: ColumnMap, design: str = "design.csv") -> dict[str, Any]:
    """Return a column map as metadata of a table on the web.

    Args:
        columns: the map.
        design: the name of the design file; the standard speaks of text files, readers of others take the same.

    Example:
        >>> from facturum.api.plan import Plan
        >>> made = csvw(Plan(None, {"p": "log(price)"}).build({"price": [20.0, 30.0]}).columns)
        >>> [column["name"] for column in made["tableSchema"]["columns"]]
        ['source_row', 'learning_row', 'intercept', 'p']
    """
    taken = [column.name for column in columns.columns]
    carried = carried_names(columns.resolved.get("data", {}).get("carry", []), taken).values()
    sides = [{"name": SOURCE_ROW, "titles": SOURCE_ROW, "datatype": "integer", "required": True}]
    sides += [{"name": name, "titles": name, "datatype": "string"} for name in carried]
    sides.append({"name": LEARNING_ROW, "titles": LEARNING_ROW, "datatype": "boolean"})
    response = columns.resolved.get("response")
    return {
        "@context": [CONTEXT, {"@language": "en"}],
        "url": design,
        "dc:title": f"Design matrix of {response}" if response else "Design matrix",
        "dc:description": f"{columns.rows.kept} rows of {columns.rows.given}",
        "prov:wasGeneratedBy": {"@type": "prov:Activity", "dc:description": _versions(columns)},
        "tableSchema": {"primaryKey": SOURCE_ROW, "columns": [*sides, *map(_column, columns.columns)]},
    }


def _versions(columns: ColumnMap) -> str:
    return ", ".join(f"{name} {version}" for name, version in columns.made_with.items())


def _column(entry: ColumnEntry) -> dict[str, Any]:
    datatype: dict[str, Any] = {"base": "double"}
    if entry.min is not None and entry.max is not None:
        datatype |= {"minimum": entry.min, "maximum": entry.max}
    told: dict[str, Any] = {
        "name": entry.name,
        "titles": entry.name,
        "datatype": datatype,
        "required": entry.missing == 0,
        "dc:description": entry.reading,
        "dc:source": entry.formula,
    }
    if entry.sources:
        told["prov:wasDerivedFrom"] = [{"@value": name} for name in entry.sources]
    if entry.digest:
        told["dc:identifier"] = f"blake2b:{entry.digest}"
    return told
