"""What several tests share: tables, a slow evaluator that knows nothing of the package, and running commands."""

from __future__ import annotations

import ast
import contextlib
import io
import math
import operator
import os
import statistics
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
from facturum.engine.build import Built, build
from facturum.language.parser import parse

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
    chosen = made.selection.source_rows() - 1 if rows is None else np.array(rows)
    found = source.rows(0, made.prepared.table.length, chosen)
    values = found.of(parse(formula) if isinstance(formula, str) else formula).full(len(chosen))
    data = values.numbers() + 0.0
    return data if values.valid is None else np.where(values.valid, data, np.nan)


def rows_of(table: Mapping[str, Sequence[Any]]) -> list[Row]:
    """Return a table row by row; None is a missing value."""
    names = list(table)
    return [dict(zip(names, values, strict=True)) for values in zip(*table.values(), strict=True)]


ACROSS: dict[str, Any] = {
    "mean_of": statistics.fmean,
    "sum_of": sum,
    "smallest_of": min,
    "largest_of": max,
    "spread_of": statistics.stdev,
    "count_of": lambda items: sum(item != 0 for item in items),
}


class Slow:
    """Evaluates an expression for one row with Python's own numbers; None is missing. Independent of the package.

    Categories are texts; ordered ones are compared by their place in `orders`.
    """

    def __init__(self, orders: Mapping[str, Sequence[str]] | None = None) -> None:
        self._orders = dict(orders or {})

    def value(self, text: str, row: Row) -> Any:
        return self._value(ast.parse(text, mode="eval").body, row)

    def _value(self, tree: ast.expr, row: Row) -> Any:
        return getattr(self, "_" + type(tree).__name__.lower())(tree, row)

    def _constant(self, tree: ast.Constant, row: Row) -> Any:
        return tree.value

    def _name(self, tree: ast.Name, row: Row) -> Any:
        return None if tree.id == "missing" else row[tree.id]

    def _binop(self, tree: ast.BinOp, row: Row) -> Any:
        a, b = self._value(tree.left, row), self._value(tree.right, row)
        if a is None or b is None:
            return None
        works = {
            ast.Add: operator.add,
            ast.Sub: operator.sub,
            ast.Mult: operator.mul,
            ast.Div: operator.truediv,
            ast.Pow: operator.pow,
        }
        return works[type(tree.op)](float(a), float(b))

    def _unaryop(self, tree: ast.UnaryOp, row: Row) -> Any:
        a = self._value(tree.operand, row)
        if a is None:
            return None
        return (not a) if isinstance(tree.op, ast.Not) else -a

    def _boolop(self, tree: ast.BoolOp, row: Row) -> Any:
        values = [self._value(value, row) for value in tree.values]
        settles = isinstance(tree.op, ast.Or)
        if any(value is not None and bool(value) == settles for value in values):
            return settles
        return None if any(value is None for value in values) else not settles

    def _ifexp(self, tree: ast.IfExp, row: Row) -> Any:
        condition = self._value(tree.test, row)
        return None if condition is None else self._value(tree.body if condition else tree.orelse, row)

    def _compare(self, tree: ast.Compare, row: Row) -> Any:
        if isinstance(tree.ops[0], ast.In | ast.NotIn):
            a = self._value(tree.left, row)
            among = [ast.literal_eval(member) for member in tree.comparators[0].elts]  # type: ignore[attr-defined]
            return None if a is None else (a in among) == isinstance(tree.ops[0], ast.In)
        sides = [tree.left, *tree.comparators]
        pairs = [self._pair(a, op, b, row) for a, op, b in zip(sides, tree.ops, sides[1:], strict=False)]
        if any(pair is False for pair in pairs):
            return False
        return None if any(pair is None for pair in pairs) else True

    def _pair(self, left: ast.expr, op: ast.cmpop, right: ast.expr, row: Row) -> Any:
        a, b = self._value(left, row), self._value(right, row)
        if a is None or b is None:
            return None
        for side in (left, right):
            if isinstance(side, ast.Name) and side.id in self._orders:
                order = list(self._orders[side.id])
                a, b = order.index(a), order.index(b)
                break
        return {
            ast.Lt: lambda: a < b,
            ast.LtE: lambda: a <= b,
            ast.Gt: lambda: a > b,
            ast.GtE: lambda: a >= b,
            ast.Eq: lambda: a == b,
            ast.NotEq: lambda: a != b,
        }[type(op)]()

    def _call(self, tree: ast.Call, row: Row) -> Any:
        assert isinstance(tree.func, ast.Name)
        options = {word.arg: ast.literal_eval(word.value) for word in tree.keywords}
        if tree.func.id == "lookup":
            table = {ast.literal_eval(k): v for k, v in zip(tree.args[1].keys, tree.args[1].values, strict=True)}  # type: ignore[attr-defined]
            keys = tree.args[0].elts if isinstance(tree.args[0], ast.List) else [tree.args[0]]
            found = tuple(self._value(key, row) for key in keys)
            if any(part is None for part in found):
                return self._value(tree.args[2], row) if len(tree.args) > 2 else None
            chosen = table.get(found if len(found) > 1 else found[0])
            otherwise = tree.args[2] if len(tree.args) > 2 else ast.Name("missing")
            return self._value(chosen if chosen is not None else otherwise, row)
        if tree.func.id in ACROSS:
            items = [value for arg in tree.args if (value := self._value(arg, row)) is not None]
            least = max(options.get("at_least", len(tree.args)), 2 if tree.func.id == "spread_of" else 1)
            return ACROSS[tree.func.id]([float(item) for item in items]) if len(items) >= least else None
        x = self._value(tree.args[0], row)
        if tree.func.id == "is_missing":
            return x is None
        if tree.func.id == "missing_if":
            return None if self._value(tree.args[1], row) else x
        if tree.func.id == "impute":
            return options["value"] if x is None else x
        if tree.func.id == "regroup":
            groups = ast.literal_eval(tree.args[1])
            known = {old: new for new, olds in groups.items() for old in olds}
            return None if x is None else known.get(x, options.get("rest", x))
        if x is None:
            return None
        if tree.func.id == "log":
            x = x + options.get("shift", 0)
            return math.log(x) if x > 0 else None
        if tree.func.id == "clip":
            return min(max(x, options.get("low", -math.inf)), options.get("high", math.inf))
        if tree.func.id == "winsorize":
            return min(max(x, options["at"][0]), options["at"][1])
        if tree.func.id == "reverse":
            return ast.literal_eval(tree.args[1]) + ast.literal_eval(tree.args[2]) - x
        if tree.func.id in ("center", "standardize"):
            return (x - options["at"]) / options.get("scale", 1)
        simple = {"abs": abs, "square": lambda v: v * v, "reciprocal": lambda v: 1 / v}
        return simple.get(tree.func.id, getattr(math, tree.func.id, None))(x)  # type: ignore[misc]


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
        os.environ.update(environment)
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
        timeout=120,
        check=False,
    )
