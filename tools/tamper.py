"""Tampers with builds at random, mends the digests of half of them, and asks verify, in memory and in parts.

    python tools/tamper.py --count 2000 --seed 1

Each change must be found with the source at hand. What only the seal can tell is left alone: which version made the
build, and changes of bytes that change no content.
"""

from __future__ import annotations

import argparse
import copy
import hashlib
import io
import json
import random
import shutil
import sys
import tempfile
import warnings
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any
from unittest.mock import patch

import numpy as np
import pyarrow as pa
from pyarrow import csv as arrow_csv
from pyarrow import parquet

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

import facturum as fa  # noqa: E402
from facturum.audit.source.fingerprints import column_digests  # noqa: E402
from facturum.engine.planning.sections.spec import spec_from  # noqa: E402
from facturum.files.builds.build_writer import csv_of_entries, map_digest  # noqa: E402
from facturum.files.plan_file import plan_text  # noqa: E402
from tests.support import panel  # noqa: E402

FORMS = ("parquet", "csv", "npy", "npz", "parts")
TERMS = {
    "hut": "category(hut)", "price": "log(impute(price, 'median', by=[hut]))", "bins": "bins(wide, quantiles=3)",
    "before": "lag(snow, 1)", "dear": "wide > median(wide)", "own": "wide - mean(wide, by=[group])",
}  # fmt: skip


def source() -> dict[str, list[Any]]:
    """Return the table of the builds, of which some cells are imputed, some rows left out, and groups many."""
    table: dict[str, list[Any]] = panel(3, units=12, periods=200, gaps=0.1, missing=0.1)
    rows = len(table["hut"])
    dice = random.Random(1)
    table["wide"] = [dice.gauss(0, 1) for _ in range(rows)]
    table["group"] = [f"group {at % 1100}" for at in range(rows)]
    return {key: table[key] for key in ("hut", "month", "price", "snow", "wide", "group", "stays")}


def made(folder: Path) -> None:
    """Write a build in each form."""
    table = source()
    data = {"time": "month", "every": "month", "panel": ["hut"], "carry": ["month"]}
    plan = fa.Plan("stays", TERMS, data=data, rows={"learn": "month < '2034-01'"})
    for form in ("parquet", "csv", "npy"):
        plan.build(table).save(folder / form, format=form)
    plan.build(table, sparse=True).save(folder / "npz", format="npz")
    plan.build_into(folder / "parts", table)


class Tampering:
    """One change of a copied build."""

    def __init__(self, folder: Path, dice: random.Random) -> None:
        self.folder, self.dice = folder, dice
        self.map = json.loads((folder / "columns.json").read_text())

    def change(self) -> str:
        """Change something, and return what."""
        ways = [self.map_leaf, self.map_leaf, self.cell, self.cell, self.layout, self.plan, self.beside, self.flip]
        return self.dice.choice(ways)()

    def flip(self) -> str:
        path = self.dice.choice(sorted(path for path in self.folder.iterdir() if path.stat().st_size))
        data = bytearray(path.read_bytes())
        at = self.dice.randrange(len(data))
        data[at] ^= 1 << self.dice.randrange(8)
        path.write_bytes(bytes(data))
        return f"flip {path.name} {at}"

    def map_leaf(self) -> str:
        path: list[Any] = []
        place: Any = self.map
        while isinstance(place, dict | list) and place:
            keys = list(place) if isinstance(place, dict) else list(range(len(place)))
            keys = [key for key in keys if key not in ("made_with", "facturum")]
            keys = [key for key in keys if path or key != "source"]  # what a table was called may change
            key = self.dice.choice(keys)
            path.append(key)
            parent, place = place, place[key]
        new = other(place, self.dice)
        parent[path[-1]] = new
        self.write_map()
        return f"map {path} {place!r} -> {new!r}"[:160]

    def cell(self) -> str:
        design = self.design()
        if isinstance(design, dict):  # of a sparse design
            key = self.dice.choice([key for key in design if design[key].size and key != "format"])
            flat = design[key].copy().reshape(-1)
            at = self.dice.randrange(len(flat))
            flat[at] = (not flat[at]) if flat.dtype == bool else flat[at] + 1
            design[key] = flat.reshape(design[key].shape)
            self.write_design(design)
            return f"npz {key} {at}"
        name = self.dice.choice(design.column_names)
        values = design[name].to_pylist()
        at = self.dice.randrange(len(values))
        values[at] = other(values[at], self.dice)
        self.write_design(replaced(design, name, values))
        return f"design {name} row {at}"

    def layout(self) -> str:
        design = self.design()
        if isinstance(design, dict):
            way = self.dice.choice(["format", "extra", "gone"])
            if way == "format":
                design["format"] = np.array(b"csr")
            elif way == "extra":
                design["more"] = np.zeros(3)
            else:
                del design[self.dice.choice(sorted(design))]
            self.write_design(design)
            return f"npz {way}"
        names = design.column_names
        way = self.dice.choice(["extra", "order", "gone", "renamed", "rows gone", "row twice", "rows in another order"])
        a, b = self.dice.sample(names, 2)
        if way == "extra":
            design = design.append_column("more", pa.array(np.zeros(design.num_rows)))
        elif way == "order":
            places = {a: b, b: a}
            design = design.select([places.get(name, name) for name in names])
        elif way == "gone":
            design = design.drop_columns([a])
        elif way == "renamed":
            design = design.rename_columns([f"{name}2" if name == a else name for name in names])
        elif way == "rows gone":
            design = design.slice(0, self.dice.randrange(design.num_rows))
        elif way == "row twice":
            at = self.dice.randrange(design.num_rows)
            design = pa.concat_tables([design.slice(0, at + 1), design.slice(at)])
        else:
            at = self.dice.randrange(1, design.num_rows - 1)
            design = pa.concat_tables([design.slice(at), design.slice(0, at)])
        self.write_design(design)
        return f"{way} {a}"

    def plan(self) -> str:
        resolved = self.map["resolved"]
        key = self.dice.choice(sorted(resolved["terms"]))
        text = resolved["terms"][key]
        digits = [at for at, char in enumerate(text) if char.isdigit()]
        if not digits:
            return self.map_leaf()
        at = self.dice.choice(digits)
        resolved["terms"][key] = text[:at] + str((int(text[at]) + 1) % 10) + text[at + 1 :]
        try:
            (self.folder / "plan.resolved.toml").write_text(plan_text(spec_from(resolved)))
        except fa.FacturumError:
            return self.map_leaf()
        self.write_map()
        return f"plan {key} {at}"

    def beside(self) -> str:
        names = [*("rows.parquet", "imputed.parquet"), *[path.name for path in self.folder.glob("learned-*")]]
        path = self.folder / self.dice.choice(names)
        table = parquet.read_table(path)
        if not table.num_rows:
            return self.map_leaf()
        if self.dice.random() < 0.2:
            table, what = table.slice(0, table.num_rows - 1), "row gone"
        else:
            name, at = self.dice.choice(table.column_names), self.dice.randrange(table.num_rows)
            values = table[name].to_pylist()
            values[at] = other(values[at], self.dice)
            table, what = replaced(table, name, values), f"{name} row {at}"
        parquet.write_table(table, path)
        return f"{path.name} {what}"

    def design(self) -> Any:
        """Return the design file as a table, or the arrays of a sparse one."""
        path = next(self.folder.glob("design.*"))
        if path.suffix == ".parquet":
            return parquet.read_table(path)
        if path.suffix == ".csv":
            return arrow_csv.read_csv(path)
        if path.suffix == ".npz":
            with np.load(path) as arrays:
                return {key: arrays[key] for key in arrays.files}
        matrix = np.load(path)
        names = ["source_row", "learning_row", *[entry["name"] for entry in self.map["columns"]]]
        return pa.table({name: matrix[:, at] for at, name in enumerate(names)})

    def write_design(self, design: Any) -> None:
        path = next(self.folder.glob("design.*"))
        buffer = io.BytesIO()
        if isinstance(design, dict):
            np.savez(buffer, **design)
        elif path.suffix == ".parquet":
            parquet.write_table(design, buffer)
        elif path.suffix == ".csv":
            arrow_csv.write_csv(design, buffer)
        else:
            np.save(buffer, np.column_stack([design[name].to_numpy() for name in design.column_names]))
        path.write_bytes(buffer.getvalue())
        if isinstance(design, pa.Table):
            for entry in self.map["columns"]:  # a tamperer who knows the map mends what it says of columns, too
                if entry["name"] in design.column_names:
                    values = design[entry["name"]]
                    if pa.types.is_floating(values.type) or pa.types.is_integer(values.type):
                        numbers = values.cast(pa.float64()).to_numpy()
                        entry["digest"] = column_digests([numbers])[0]
        self.write_map()

    def write_map(self) -> None:
        (self.folder / "columns.json").write_text(json.dumps(self.map, indent=1, ensure_ascii=False) + "\n")
        with suppress(TypeError, KeyError, AttributeError, IndexError):
            (self.folder / "columns.csv").write_text(csv_of_entries(self.map["columns"]))

    def mend(self) -> None:
        """Make the digests of the marker those of the files as they are now."""
        path = self.folder / "facturum-build.json"
        marker = json.loads(path.read_text())
        marker["map"] = map_digest(json.loads((self.folder / "columns.json").read_text()))
        files = [each for each in self.folder.iterdir() if each.name != path.name]
        marker["files"] = {each.name: hashlib.sha256(each.read_bytes()).hexdigest() for each in sorted(files)}
        path.write_text(json.dumps(marker, indent=1) + "\n")


def replaced(table: pa.Table, name: str, values: list[Any]) -> pa.Table:
    field = table.schema.field(name)
    return table.set_column(table.column_names.index(name), field, pa.array(values, field.type))


def other(value: Any, dice: random.Random) -> Any:
    """Return something else of the same type."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, int):
        return value + dice.choice([-1, 1])
    if isinstance(value, float):
        return value + dice.choice([1.0, -0.5, 1e-6 * (abs(value) + 1)])
    if isinstance(value, str):
        return value + dice.choice(["x", " ", "1"])
    if value is None:
        return dice.choice([1, "x"])
    if hasattr(value, "replace") and hasattr(value, "year"):
        return value.replace(year=value.year + 1)
    return dice.choice([["x"], {"x": 1}, 5])


def batch(folder: str, seed: int, count: int) -> tuple[Counter[str], list[str]]:
    """Tamper with so many copies; return what became of them, and those that were not noticed."""
    warnings.simplefilter("ignore")
    table, outcomes, unseen = source(), Counter(), []
    for number in range(seed, seed + count):
        dice = random.Random(number)
        form, mended, in_parts = dice.choice(FORMS), dice.random() < 0.6, dice.random() < 0.5
        with tempfile.TemporaryDirectory() as place:
            copied = Path(place) / "b"
            shutil.copytree(Path(folder) / form, copied)
            before = {path.name: path.read_bytes() for path in copied.iterdir()}
            tampering = Tampering(copied, dice)
            try:
                what = tampering.change()
                if mended:
                    tampering.mend()
            except (pa.ArrowException, ValueError, TypeError, OverflowError):
                outcomes["not possible"] += 1
                continue
            if {path.name: path.read_bytes() for path in copied.iterdir()} == before:
                outcomes["not possible"] += 1
                continue
            told = f"{number} {form} {'mended' if mended else 'plain'} {'parts' if in_parts else 'memory'}: {what}"
            with patch("facturum.api.verifying._is_large", _parts(in_parts)):
                try:
                    outcome = fa.open_design(copied, check=False).verify(copy.deepcopy(table))
                    if outcome.ok and mended and same_content(copied, before):
                        outcomes["only bytes, which the seal tells"] += 1
                        continue
                    if outcome.ok:
                        unseen.append(told)
                    outcomes["unseen" if outcome.ok else f"found {'mended' if mended else 'plain'}"] += 1
                except fa.AuditError:
                    outcomes["refused when opened"] += 1
                except BaseException as problem:
                    unseen.append(f"{told} {type(problem).__name__}: {problem}")
                    outcomes["crashed"] += 1
    return outcomes, unseen


def same_content(folder: Path, before: dict[str, bytes]) -> bool:
    """Return whether files hold what they held before, in other bytes."""
    for path in folder.iterdir():
        data, old = path.read_bytes(), before.get(path.name, b"")
        if data == old or path.name == "facturum-build.json":
            continue
        if path.suffix == ".parquet":
            if not parquet.read_table(io.BytesIO(data)).equals(parquet.read_table(io.BytesIO(old))):
                return False
        elif b"".join(data.split()) != b"".join(old.split()):  # spaces in the plan as it was written
            return False
    return True


def _parts(wanted: bool) -> Any:
    def chosen(origin: Any, inputs: Any, table: Any) -> bool:
        return wanted and origin.design.endswith((".parquet", ".csv"))

    return chosen


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--count", type=int, default=2000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=2)
    given = parser.parse_args()
    total: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as folder, ProcessPoolExecutor(given.jobs) as pool:
        warnings.simplefilter("ignore")
        made(Path(folder))
        size = 50
        starts = range(given.seed, given.seed + given.count, size)
        for outcomes, unseen in pool.map(batch, [folder] * len(starts), starts, [size] * len(starts)):
            total += outcomes
            for each in unseen:
                print(each, flush=True)
    print(f"seed {given.seed}: " + ", ".join(f"{n:,} {what}" for what, n in sorted(total.items())))
    return 1 if total["unseen"] or total["crashed"] else 0


if __name__ == "__main__":
    sys.exit(main())
