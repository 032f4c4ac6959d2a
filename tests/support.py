"""What several tests share: tables, a slow evaluator that knows nothing of the package, and running commands."""

from __future__ import annotations

import contextlib
import io
import os
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

import facturum as fa
from facturum.cli.main import run
from facturum.data.table import Table
from facturum.engine.passes.build import Built, build
from facturum.language.syntax.parser import parse

ROOT = Path(__file__).resolve().parent.parent
SAMPLE = ROOT / "src/facturum/demo/data"
Row = Mapping[str, Any]


def huts(rows: int = 400, seed: int = 0, missing: float = 0.1) -> dict[str, list[Any]]:
    """Return a small table with every kind of variable, and missing values in each."""
    dice = np.random.default_rng(seed)
    absent = dice.random((rows, 8)) < missing

    def gaps(values: Sequence[Any], at: int) -> list[Any]:
        return [None if absent[i, at] else value for i, value in enumerate(values)]

    return {
        "price": gaps(np.round(dice.uniform(5, 95, rows), 2).tolist(), 0),
        "beds": gaps(dice.integers(4, 90, rows).tolist(), 1),
        "change": gaps(np.round(dice.normal(0, 20, rows), 3).tolist(), 2),
        "access": gaps(dice.choice(["trail", "road", "cable car", "boat"], rows, p=[0.4, 0.3, 0.25, 0.05]).tolist(), 3),
        "valley": gaps(dice.choice(["Upper", "Lower", "Far"], rows).tolist(), 4),
        "open": gaps([bool(value) for value in dice.integers(0, 2, rows)], 5),
        "comfort": gaps(dice.choice(["poor", "fair", "good"], rows).tolist(), 6),
        "floor": gaps(dice.integers(-1, 4, rows).tolist(), 7),
        "month": [f"{2020 + i % 4}-{i % 12 + 1:02d}" for i in dice.integers(0, 48, rows).tolist()],
        "stays": np.round(dice.uniform(1, 500, rows)).tolist(),
    }


def panel(seed: int = 3, units: int = 4, periods: int = 30, gaps: float = 0.2, missing: float = 0.15) -> dict[str, Any]:
    """Return an unbalanced panel in random order of rows: units with gaps in time, and missing values."""
    dice = np.random.default_rng(seed)
    cells = [(u, t) for u in range(units) for t in range(periods) if dice.random() >= gaps]
    order = dice.permutation(len(cells)).tolist()
    rows = [cells[at] for at in order]
    snow = [None if dice.random() < missing else round(float(dice.uniform(0, 90)), 1) for _ in rows]
    return {
        "hut": [f"hut {u}" for u, _ in rows],
        "month": [f"{2020 + t // 12}-{t % 12 + 1:02d}" for _, t in rows],
        "period": [t for _, t in rows],
        "snow": snow,
        "price": [round(float(dice.uniform(20, 60)), 2) for _ in rows],
        "stays": [float(dice.integers(1, 500)) for _ in rows],
        "comfort": ["fair" if dice.random() < 0.5 else "good" for _ in rows],
    }


PANEL_DATA = {"time": "month", "every": "month", "panel": ["hut"]}
VARIABLES = {"comfort": {"kind": "ordered", "order": ["poor", "fair", "good"]}}
DATA = {"time": "month"}
MIXED_TERMS = {
    "access": "category(access, reference='road')",
    "price": "log(price)",
    "curve": "polynomial(beds, 2, center=True)",
    "slope": "access * price",
    "valley": "category(valley, coding='helmert')",
    "dear": "price > median(price, by=[valley])",
    "open": "open",
    "z": "standardize(change)",
}


def plan(terms: Mapping[str, str] | Sequence[str], response: str | None = "stays", **sections: Any) -> fa.Plan:
    """Return a plan over the table that `huts` makes."""
    return fa.Plan(response, terms, variables=VARIABLES, data=sections.pop("data", DATA), **sections)


def built(made: fa.Plan, table: Any, **options: Any) -> Built:
    """Return a build with its insides."""
    return build(made.spec, Table.of(table), **options)


def column_by_formula(made: Built, formula: str | Any, rows: Sequence[int] | None = None) -> np.ndarray:
    """Return a formula's values on the rows of a build, computed as expressions are, NaN where missing."""
    source = made.prepared.source()
    chosen = made.selection.positions() if rows is None else source.positions_of(np.array(rows) + 1)
    found = source.rows(0, made.prepared.table.length, chosen)
    values = found.evaluate(parse(formula) if isinstance(formula, str) else formula).full(len(chosen))
    data = values.numbers() + 0.0
    return data if values.valid is None else np.where(values.valid, data, np.nan)


def stands_where_it_says(
    error: fa.FacturumError, response: str | None, terms: Mapping[str, str], sections: Mapping[str, Any]
) -> None:
    """Hold an error to what it shows: the text is the one written at its place, and the mark lies within it."""
    if error.text is None:
        return
    written = {"response": response, **{f"terms.{key}": text for key, text in terms.items()}}
    for section in ("derived", "rows"):
        written |= {f"{section}.{key}": text for key, text in sections.get(section, {}).items()}
    assert error.text == written[error.place or ""], f"{error.place}: {error.text}"
    start, end = error.span or (0, len(error.text))
    assert 0 <= start <= end <= len(error.text), f"{error.text}: {error.span}"


def rows_of(table: Mapping[str, Sequence[Any]]) -> list[Row]:
    """Return a table row by row; None is a missing value."""
    names = list(table)
    return [dict(zip(names, values, strict=True)) for values in zip(*table.values(), strict=True)]


class Folder(unittest.TestCase):
    """A test case with a folder of its own."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)


def command(*words: str | Path, cwd: Path | None = None, **environment: str) -> subprocess.CompletedProcess[str]:
    """Run the command line as a person would; within this process, since starting one takes a second."""
    out, err = io.StringIO(), io.StringIO()
    before = (sys.argv, dict(os.environ), Path.cwd())
    status: Any = 0
    try:
        sys.argv = ["facturum", *map(str, words)]
        os.environ.update({"COLUMNS": "160", **environment})
        os.chdir(cwd or before[2])
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            run()
    except SystemExit as ended:
        status = ended.code
    finally:
        sys.argv = before[0]
        os.environ.clear()
        os.environ.update(before[1])
        os.chdir(before[2])
    return subprocess.CompletedProcess([*map(str, words)], int(status or 0), out.getvalue(), err.getvalue())


def process(*words: str | Path, **environment: str) -> subprocess.CompletedProcess[str]:
    """Run the command line in a process of its own."""
    return subprocess.run(
        [sys.executable, "-c", "from facturum.cli.main import run; run()", *map(str, words)],
        capture_output=True,
        text=True,
        env={**os.environ, **environment},
        check=False,
    )
