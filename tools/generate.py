"""Writes what is made from the code: the language reference, all messages, the JSON Schemas; --check only compares."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from facturum.audit.map.entries import ColumnMap
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.language.reference import reference

sys.path.insert(0, str(Path(__file__).resolve().parent))

from commands import command_reference
from messages import message_list
from stubs import stubs

ROOT = Path(__file__).resolve().parent.parent
SCHEMAS = ROOT / "src/facturum/files/schemas"


def made() -> dict[Path, str]:
    """Return each generated file's content."""
    schemas = {"plan.schema.json": PlanSpec, "columns.schema.json": ColumnMap}
    found = {ROOT / "docs/language.md": reference(), ROOT / "docs/errors.md": message_list()}
    found[ROOT / "src/facturum/terms.pyi"] = stubs()
    found[ROOT / "docs/commands.md"] = command_reference()
    for name, model in schemas.items():
        schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", **model.model_json_schema()}  # type: ignore[attr-defined]
        found[SCHEMAS / name] = json.dumps(schema, indent=1) + "\n"
    return found


def main(arguments: list[str]) -> int:
    stale = 0
    for path, content in made().items():
        if "--check" in arguments:
            if not path.is_file() or path.read_text("utf-8") != content:
                print(f"{path.relative_to(ROOT)} is not up to date: run make docs")
                stale = 1
        else:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(content, "utf-8")
    return stale


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
