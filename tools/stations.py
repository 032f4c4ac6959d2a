"""Follows a table through `Plan.build`, and counts what each command does more than once.

    python tools/stations.py

A station is a function that takes the table, or what holds its rows, and hands on the one or the other; those that only
ask something of it are none. A climb is a call of one room by another that lies below it in the layers of
pyproject.toml. Ends with 1 where there are more than 30 stations or 3 climbs, or a command parses a text, prepares a
plan or declares its tables twice.
"""

from __future__ import annotations

import contextlib
import dataclasses
import io
import sys
import tempfile
import tomllib
import warnings
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from types import FrameType
from typing import Any
from unittest import mock

import facturum as fa
from facturum.api.design import Design
from facturum.cli.main import main as command_line
from facturum.data.table import Table
from facturum.engine.passes.build import Built
from facturum.engine.planning import shaping
from facturum.engine.planning.expressions import prepare
from facturum.files.verifying import sources
from facturum.language.syntax import parser

ROOT = Path(__file__).resolve().parent.parent
PACKAGE = ROOT / "src/facturum"
SAMPLE = PACKAGE / "demo/data"
MOST_STATIONS, MOST_CLIMBS = 30, 3


def holds_rows(value: object, depth: int = 2) -> bool:
    """Return whether a value is a table, or holds one."""
    if isinstance(value, Table | Built | Design):
        return True
    if isinstance(value, dict):
        value = tuple(value.values())
    if isinstance(value, tuple):
        return any(holds_rows(each, depth) for each in value)
    if not depth or isinstance(value, type):
        return False
    names = [field.name for field in dataclasses.fields(value)] if dataclasses.is_dataclass(value) else []
    inner = [getattr(value, name, None) for name in names] or list(getattr(value, "__dict__", {}).values())
    return any(holds_rows(each, depth - 1) for each in inner if not isinstance(each, tuple))


def floor_of(path: str) -> tuple[int, int]:
    """Return how high a file lies in the layers, the highest first."""
    contracts = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["tool"]["importlinter"]["contracts"]
    layers = {contract["containers"][0]: contract["layers"] for contract in contracts if contract["type"] == "layers"}
    room, *inner = Path(path).relative_to(PACKAGE).with_suffix("").parts
    within = layers.get(f"facturum.{room}", [])
    return layers["facturum"].index(room), within.index(inner[0]) if inner and inner[0] in within else 0


class Way:
    """The stations of a call, in the order in which they are left, and the climbs on it."""

    def __init__(self) -> None:
        self.stations: dict[tuple[str, str], int] = {}
        self.climbs: set[tuple[str, str]] = set()
        self._open: dict[FrameType, int] = {}

    def __call__(self, frame: FrameType, event: str, result: Any) -> None:
        code = frame.f_code
        if not code.co_filename.startswith(str(PACKAGE)):
            return
        if event == "call":
            names = code.co_varnames[: code.co_argcount + code.co_kwonlyargcount]
            if any(holds_rows(frame.f_locals.get(name)) for name in names):
                self._open[frame] = len(self._open)
        elif event == "return" and frame in self._open:
            depth = self._open.pop(frame)
            if holds_rows(result):
                self.stations.setdefault((code.co_filename, code.co_qualname), depth)
                caller = next((each for each in reversed(self._open)), None)
                if caller is not None and floor_of(caller.f_code.co_filename) > floor_of(code.co_filename):
                    self.climbs.add((caller.f_code.co_qualname, code.co_qualname))


def way_of_a_table() -> Way:
    """Return the way of the sample table through the build of the sample plan."""
    plan, table, way = fa.Plan.load(SAMPLE / "huts.toml"), fa.read(SAMPLE / "huts.csv"), Way()
    plan.build(table)
    sys.setprofile(way)
    try:
        plan.build(table)
    finally:
        sys.setprofile(None)
    return way


def repeated(*words: str) -> Iterator[str]:
    """Yield what a command does twice: texts parsed, plans prepared, tables declared by one plan."""
    done: Counter[str] = Counter()

    def counted(module: Any, name: str, told: Any) -> Any:
        inner = getattr(module, name)

        def wrapper(*given: Any, **named: Any) -> Any:
            done[f"{name} {told(*given)}"] += 1
            return inner(*given, **named)

        return mock.patch.object(module, name, wrapper)

    parser._known.cache_clear()
    with (
        counted(parser, "_parsed", lambda text, learned: text),
        counted(prepare, "_check_names", lambda spec, *others: spec.model_dump_json()),
        counted(shaping, "declared_tables", lambda spec, given: f"{spec.model_dump_json()} {id(given.table)}"),
        counted(sources, "declared_tables", lambda spec, given: f"{spec.model_dump_json()} {id(given.table)}"),
        contextlib.redirect_stdout(io.StringIO()),
    ):
        command_line.main(list(words), standalone_mode=False)
    yield from (f"{words[0]}: {count} times {what[:90]}" for what, count in done.items() if count > 1)


def main() -> int:
    warnings.simplefilter("ignore")
    way = way_of_a_table()
    for (path, name), depth in way.stations.items():
        print(f"{'  ' * depth}{name} ({Path(path).relative_to(PACKAGE)})")
    files = len({path for path, _ in way.stations})
    print(f"{len(way.stations)} stations in {files} files, {len(way.climbs)} climbs {sorted(way.climbs) or ''}")
    plan, data = str(SAMPLE / "huts.toml"), str(SAMPLE / "huts.csv")
    with tempfile.TemporaryDirectory() as folder:
        commands = (
            ("build", plan, data, "--out", f"{folder}/a"),
            ("build", plan, data, "--stream", "--out", f"{folder}/b"),
            ("verify", f"{folder}/a", data),
        )
        twice = [each for words in commands for each in repeated(*words)]
    print("\n".join(twice) or "each text parsed, each plan prepared and its tables declared once a command")
    return int(len(way.stations) > MOST_STATIONS or len(way.climbs) > MOST_CLIMBS or bool(twice))


if __name__ == "__main__":
    sys.exit(main())
