"""Cases of hostile input, one function a kind: given random numbers, each ends in a result or an error of our own."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import os
import random
import shutil
import tempfile
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
from pyarrow import feather, parquet

import facturum as fa
from facturum.data.table import Table
from facturum.show.drawn.report import report_page
from tests.grammar import DERIVED, LITERALS, Grammar, table
from tests.promises import watched
from tests.support import SAMPLE, command, huts, plan, stands_where_it_says


@cache
def _tables() -> list[Table]:
    return [Table.of(table(seed=seed)) for seed in range(4)]


def expressions(dice: random.Random) -> bool:
    """One expression as a term of its own."""
    grammar = Grammar(dice, dice.choice((0.0, 0.05, 0.3)))
    data = dice.choice(({"every": "row"}, {"time": "day", "every": "day"}, {}))
    sections: dict[str, Any] = {
        "derived": DERIVED,
        "data": data,
        "variables": {"comfort": {"kind": "ordered", "order": ["poor", "fair", "good"]}},
        "rows": {"missing": dice.choice(("drop", "keep"))},
    }
    return _built(None, {"x": grammar.expression(dice.randrange(1, 5))}, dice, sections)


def plans(dice: random.Random) -> bool:
    """A plan with several terms, conditions and derived variables."""
    content = Grammar(dice, dice.choice((0.0, 0.0, 0.1))).plan()
    return _built(content.pop("response", None), content.pop("terms"), dice, content)


def promises(dice: random.Random) -> bool:
    """An expression or a plan whose expressions are all watched."""
    with watched():
        return dice.choice((expressions, plans))(dice)


def _built(response: str | None, terms: dict[str, str], dice: random.Random, sections: dict[str, Any]) -> bool:
    try:
        given = dice.choice(_tables())
        made = fa.Plan(response, terms, **sections).build(given, threads=1)
        assert made.columns.rows.kept == len(made.X)
    except fa.FacturumError as error:
        stands_where_it_says(error, response, terms, sections)
        return not str(error)
    if dice.random() < 0.1:
        again = fa.Plan.from_text(str(made.plan)).build(given, threads=1)
        assert again.X.tobytes() == made.X.tobytes(), "a resolved plan gives another matrix"
    if dice.random() < 0.05:
        outcome = made.verify(given)
        assert outcome.ok, str(outcome)
    return True


@contextlib.contextmanager
def _folder() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="facturum-fuzz-") as name:
        yield Path(name)


def _damaged(dice: random.Random, data: bytes, times: int = 6) -> bytes:
    """Return bytes with some changed, put in, taken out, repeated or cut off."""
    found = bytearray(data)
    for _ in range(dice.randrange(1, times)):
        at = dice.randrange(len(found) + 1)
        kind = dice.randrange(6)
        if kind == 0:
            del found[at:]
        elif kind == 1:
            found[at : at + 1] = bytes([dice.randrange(256)])
        elif kind == 2:
            found[at:at] = dice.choice((b'"', b",", b"\n", b"\r", b"\0", b"[", b"{", b"'", b"\xff", b"=", b"\\", b"#"))
        elif kind == 3:
            del found[at : at + dice.randrange(1, 30)]
        elif kind == 4:
            found[at:at] = found[at : at + dice.randrange(1, 60)]
        elif found:
            found[dice.randrange(len(found))] ^= 1 << dice.randrange(8)
    return bytes(found)


def plan_files(dice: random.Random) -> bool:
    """A plan file with some of its bytes damaged."""
    text = (SAMPLE / dice.choice(("huts.toml", "clean.toml", "survey.toml", "time.toml"))).read_bytes()
    if dice.random() < 0.4:
        text = str(_plan_of(dice)).encode()
    with _folder() as folder:
        path = folder / "plan.toml"
        path.write_bytes(_damaged(dice, text))
        try:
            made = fa.Plan.load(path)
            assert fa.Plan.from_text(str(made)) == made
            if dice.random() < 0.3:
                made.build(dice.choice(_tables()), threads=1)
        except fa.FacturumError:
            return False
    return True


def _plan_of(dice: random.Random) -> fa.Plan:
    while True:
        content = Grammar(dice, 0.0).plan()
        with contextlib.suppress(fa.FacturumError):
            return fa.Plan(content.pop("response", None), content.pop("terms"), **content)


@cache
def _files() -> dict[str, bytes]:
    """Return a small table in every format."""
    cells = {name: values for name, values in table(30).items() if name not in ("nothing",)}
    arrow = pa.table({name: pa.array(values) for name, values in cells.items()})
    arrow = arrow.set_column(3, "access", arrow["access"].combine_chunks().dictionary_encode())
    text = io.StringIO()
    rows = zip(*cells.values(), strict=True)
    csv.writer(text).writerows([list(cells), *[["" if v is None else v for v in row] for row in rows]])
    found = {
        "t.csv": text.getvalue().encode(),
        "one.csv": b"x\n1\n\n3\n",
        "q.csv": b'a,b\n"x ""y""",1\n"two\nlines",2\n',
    }
    with _folder() as folder:
        parquet.write_table(arrow, folder / "t.parquet", compression="none")
        feather.write_feather(arrow, str(folder / "t.feather"), compression="lz4")
        feather.write_feather(arrow, str(folder / "u.arrow"), compression="uncompressed")
        for path in folder.iterdir():
            found[path.name] = path.read_bytes()
    return found


def data_files(dice: random.Random) -> bool:
    """A data file with some of its bytes damaged."""
    name = dice.choice(list(_files()))
    with _folder() as folder:
        path = folder / name
        path.write_bytes(_damaged(dice, _files()[name]))
        try:
            found = fa.read(path)
            fa.profile(found)
            fa.Plan(None, {"x": "every_number()"}, rows={"missing": "keep"}).build(found, threads=1)
        except fa.FacturumError:
            return False
    return True


@cache
def _build() -> tuple[Path, Any]:
    """Return a build folder to be tampered with, and its source."""
    terms = {
        "access": "access",
        "price": "log(impute(price, 'median', by=[valley]))",
        "bins": "bins(beds, quantiles=3)",
        "dear": "change > mean(change, by=[valley])",
        "lagged": "lag(floor, 1)",
    }
    rows = {"learn": "beds < 40", "keep": "open"}
    source = Table.of(huts(300, seed=9, missing=0.05))
    made = plan(terms, response="log(stays)", data={"every": "row", "carry": ["month", "comfort"]}, rows=rows)
    folder = Path(tempfile.mkdtemp(prefix="facturum-fuzz-build-")) / "build"
    made.build(source).save(folder)
    return folder, source


def tamperings(dice: random.Random) -> bool:
    """A build folder with something changed: noticed in any case, also where it is no valid file any more."""
    original, source = _build()
    with _folder() as folder:
        target = folder / "build"
        shutil.copytree(original, target)
        what = dice.choice((_tamper_bytes, _tamper_map, _tamper_table, _tamper_files, _tamper_marker))(dice, target)
        if all((target / path.name).is_file() and (target / path.name).read_bytes() == path.read_bytes()
               for path in original.iterdir()) and len(os.listdir(target)) == len(os.listdir(original)):  # fmt: skip
            return False
        try:
            outcome = fa.open_design(target, check=False).verify(source)
        except fa.AuditError:
            return True
        assert not outcome.ok, f"not noticed: {what}"
        with contextlib.suppress(fa.AuditError):
            fa.open_design(target)
            raise AssertionError(f"opened: {what}")
    return True


def _tamper_bytes(dice: random.Random, target: Path) -> str:
    path = dice.choice(sorted(target.iterdir()))
    path.write_bytes(_damaged(dice, path.read_bytes(), 3))
    return path.name


def _tamper_map(dice: random.Random, target: Path) -> str:
    path = target / dice.choice(("columns.json", "facturum-build.json"))
    content = json.loads(path.read_text("utf-8"))
    place: Any = content
    trail = []
    while isinstance(place, dict | list) and place:
        key: Any = dice.choice(list(place)) if isinstance(place, dict) else dice.randrange(len(place))
        trail.append(key)
        if not isinstance(place[key], dict | list) or dice.random() < 0.2 or not place[key]:
            break
        place = place[key]
    if isinstance(place, list) and dice.random() < 0.4:
        dice.shuffle(place)
    elif dice.random() < 0.3:
        del place[trail[-1]]
    else:
        odd = ("x", -1, 0, 1e99, None, [], {}, True, "log(", "a" * 70_000, [[[]]], "(x" * 300)
        place[trail[-1]] = dice.choice(odd) if dice.random() < 0.7 else {trail[-1]: place[trail[-1]]}
    path.write_text(json.dumps(content, indent=1, ensure_ascii=False) + "\n", "utf-8")
    return f"{path.name} {trail}"


def _tamper_table(dice: random.Random, target: Path) -> str:
    path = target / dice.choice(("design.parquet", "rows.parquet", "imputed.parquet"))
    found = parquet.read_table(path)
    column = dice.randrange(found.num_columns)
    name, values = found.column_names[column], found.column(column).to_pylist()
    kind = dice.randrange(6)
    if kind == 0 and values:
        at = dice.randrange(len(values))
        values[at] = None if values[at] is not None else "x" if isinstance(values[at], str) else None
        found = found.set_column(column, name, pa.array(values, found.schema.field(column).type))
    elif kind == 1:
        found = found.slice(1)
    elif kind == 2:
        found = found.remove_column(column)
    elif kind == 3:
        found = found.rename_columns([*found.column_names[:column], "other", *found.column_names[column + 1 :]])
    elif kind == 4:
        found = pa.concat_tables([found, found.slice(0, 1)])
    else:
        found = found.set_column(column, name, pa.array([str(value) for value in values]))
    parquet.write_table(found, path)
    return f"{path.name} {name} {kind}"


def _tamper_files(dice: random.Random, target: Path) -> str:
    path = dice.choice(sorted(target.iterdir()))
    if dice.random() < 0.5:
        path.unlink()
    elif dice.random() < 0.5:
        path.unlink()
        path.mkdir()
    else:
        (target / "more.bin").write_bytes(b"x")
    return path.name


def _tamper_marker(dice: random.Random, target: Path) -> str:
    path = target / "facturum-build.json"
    content = json.loads(path.read_text())
    content[dice.choice(list(content))] = dice.choice((2, None, [], {}, "design.npy", "../x", "[" * 3000))
    path.write_text(json.dumps(content))
    return "marker"


def drafts(dice: random.Random) -> bool:
    """The draft of a random table, for a random response, builds as it is."""
    cells = table(dice.randrange(6, 120) * 2, seed=dice.randrange(10**6))
    names = dice.sample(list(cells), dice.randrange(2, 14))
    given = Table.of({name: cells[name] for name in names})
    try:
        text = fa.draft(given, dice.choice(names))
    except fa.DataError:
        return False
    fa.Plan.from_text(text).build(given, threads=1)
    return True


def changed_cells(dice: random.Random) -> bool:
    """One cell of a source is changed: found, with its row, where it matters."""
    cells = huts(dice.randrange(5, 200), seed=dice.randrange(10**6), missing=0.1)
    known = ("price", "access", "log(beds)", "change > 0", "valley * price", "floor", "is_missing(beds)",
             "bins(price, edges=[30])", "mean_of(price, beds, at_least=1)")  # fmt: skip
    terms = {f"t{at}": text for at, text in enumerate(dice.sample(known, 4))}
    try:
        made = plan(terms, rows={"missing": dice.choice(("keep", "drop"))}).build(cells, threads=1)
    except fa.DataError:
        return False
    name = dice.choice(list(cells))
    at = dice.randrange(len(cells[name]))
    old = cells[name][at]
    others = [value for value in cells[name] if value != old]
    new = dice.choice([None, *others]) if not isinstance(old, float) or dice.random() < 0.5 else old * (1 + 2**-50)
    if new == old:
        return False
    outcome = made.verify({**cells, name: [*cells[name][:at], new, *cells[name][at + 1 :]]})
    matters = name in {source for entry in made.columns.columns for source in entry.sources}
    assert outcome.ok != matters, f"{name} {old!r} -> {new!r}: {outcome}"
    if matters:
        assert f"The cell of {name} in row {at + 1} has changed" in str(outcome), str(outcome)
    return True


def commands(dice: random.Random) -> bool:
    """A command with random words: it ends with 0, 1 or 2."""
    with _folder() as folder:
        for name, data in _files().items():
            (folder / name).write_bytes(data)
        for name in ("huts.toml", "time.toml"):
            shutil.copy(SAMPLE / name, folder / name)
        (folder / "a.toml").write_text('response = "stays"\n[terms]\nx = "log(price)"\ny = "access"\n')
        paths = [
            *sorted(os.listdir(folder)),
            "nowhere",
            "a/b",
            ".",
            "/proc",
            "nul\0",
            "x" * 300,
            "-",
            "",
            "b",
            "b",
            "é\udc80",
        ]
        reading = ["--delimiter", ";;", "--decimal", ",", "--encoding", "{p}", "--missing-value", "x"]
        words = {
            "build": ["{p}", "{p}", "--out", "{p}", "--replace", "--json", "--history", "{p}", "--series", "a={p}"],
            "explain": ["{p}", "x", "y", "--imputed", "--figure", "{p}", "--json"],
            "verify": ["{p}", "{p}", "--json", "--seal", "--expect", "1-2"],
            "profile": ["{p}", "price", "--quantiles", "{n}", "--figure", "{p}.png", *reading],
            "draft": ["{p}", "--response", "stays", "--out", "{p}", *reading],
            "demo": ["--out", "{p}", "--plan", "{p}"],
            "completion": ["bash", "fish"],
            "operations": ["lag", "{p}"],
            "sample": ["{p}", "--size", "{n}", "--size", "a=0.5", "--seed", "1", "--by", "access", "--out", "{p}.csv"],
            "stack": [
                "{p}",
                "--into",
                "a={p},beds",
                "--which",
                "{p}",
                "--labels",
                "x,y",
                "--out",
                "{p}.arrow",
                *reading,
            ],
            "unstack": ["{p}", "--value", "{p}", "--which", "access", "--by", "beds", "--out", "{p}.parquet"],
            "convert": [
                "{p}",
                "--time",
                "month",
                "--every",
                "month",
                "--to",
                "year",
                "--panel",
                "{p}",
                "--take",
                "price=mean,partial=keep",
                "--take",
                "a={n}",
                "--out",
                "{p}",
            ],
        }
        for _ in range(2):
            name = dice.choice(list(words))
            given = [w for w in words[name] if dice.random() < 0.7]
            filled = [w.replace("{p}", dice.choice(paths)).replace("{n}", str(dice.choice(LITERALS))) for w in given]
            if dice.random() < 0.4:
                name, filled = "build", ["a.toml", "t.parquet", "--out", "b", "--replace"]
            found = command(name, *filled, cwd=folder)
            assert found.returncode in (0, 1, 2), (name, filled, found.stderr)
            assert "Traceback" not in found.stderr + found.stdout
            assert "defect" not in found.stderr, (name, filled, found.stderr)
    return True


@cache
def _junk() -> list[Any]:
    """Return arguments of every type."""
    return [
        None, 3, -1, 2.5, "x", "price", b"ab", [], ["price"], [3], {}, {"a": 1}, {"a": "b"}, {"a": ["b"]}, object(),
        True, float("nan"), Path("/dev/null/x"), len, np.zeros(3), np.array("x"), pd.DataFrame({"a": [1]}),
        _tables()[0], 1j, int, ("price", "beds"), {1, 2}, range(3), 10**400, "\udc80", "a\0b", [[1]], [{}],
        {"a": {"how": "sum"}}, {"price": {"kind": "id"}}, fa.terms.log("price"), pa.table({"a": [1]}),
    ]  # fmt: skip


def calls(dice: random.Random) -> bool:
    """A public function with arguments of any type."""
    given, made = _tables()[0], fa.Plan("stays", {"a": "price"})

    def any_() -> Any:
        return dice.choice(_junk())

    sections = ("data", "variables", "stack", "convert", "series", "derived", "rows", "intercept")
    reading = ("missing_values", "delimiter", "decimal", "encoding", "thousands")
    operations = ("log", "category", "lookup", "lag", "bins", "impute", "mean", "mean_of", "regroup", "variable")
    known: list[Callable[[], Any]] = [
        lambda: fa.Plan(any_(), any_()),
        lambda: fa.Plan("y", "x", **{dice.choice(sections): any_()}),
        lambda: dice.choice((fa.Plan.from_text, fa.Plan.load, fa.read, fa.Table.of, fa.open_design))(any_()),
        lambda: fa.read(SAMPLE / "huts.csv", **{dice.choice(reading): any_()}),
        lambda: made.build(given, **{dice.choice(("history", "series", "threads")): any_()}),
        lambda: made.resolve(any_(), threads=any_()),
        lambda: fa.profile(given, any_(), any_(), dice.choice((None, any_()))),
        lambda: fa.profile(given)[any_()],
        lambda: fa.draft(given, any_(), dice.choice((None, any_()))),
        lambda: fa.stack(given, any_(), any_(), any_()),
        lambda: fa.unstack(given, "price", "access", any_()),
        lambda: fa.sample(given, any_(), dice.choice((None, any_())), any_(), seed=dice.choice((1, any_()))),
        lambda: fa.convert(given, "month", "month", any_(), any_(), any_()),
        lambda: made.build(given, threads=1).columns.find(any_()),
        lambda: made.build(given, threads=1).verify(any_(), history=any_()),
        lambda: given.take(any_()),
        lambda: getattr(fa.terms, dice.choice(operations))(*[any_() for _ in range(dice.randrange(3))]),
        lambda: fa.terms.log("price") + any_(),
        lambda: fa.terms.log("price") < any_(),
    ]
    try:
        dice.choice(known)()
    except fa.FacturumError as error:
        return not str(error)
    return True


def inspections(dice: random.Random) -> bool:
    """A build that is fitted, traced, compared with another and reported."""
    content = Grammar(dice, 0.0).plan()
    response, terms, given = content.pop("response", None), content.pop("terms"), dice.choice(_tables())
    try:
        plan = fa.Plan(response, terms, **content)
        made = plan.build(given, threads=1)
    except fa.FacturumError:
        return False
    row = int(dice.choice(made.rows.kept.tolist()))
    traced = made.trace(given, row)
    assert traced.agrees, str(traced)
    assert fa.compare(made, made).same
    model = dice.choice(("linear", "linear", "logistic", "poisson"))
    errors = dice.choice(("ordinary", "hc1", "hc3", "clustered", "autocorrelation"))
    by = dice.choice((None, *given.variables)) if errors in ("clustered", "autocorrelation") else None
    works: list[Callable[[], Any]] = [lambda: made.trial(model, errors=errors, by=by)]
    if dice.random() < 0.1:
        works += [lambda: fa.validate(plan, given, folds=3), lambda: fa.forecast(made, given, 2)]
    if dice.random() < 0.05:
        works.append(lambda: report_page(made))
    for work in works:
        with contextlib.suppress(fa.FacturumError):
            assert repr(work())
    return True


KINDS: dict[str, Callable[[random.Random], bool]] = {
    "expressions": expressions,
    "plans": plans,
    "promises": promises,
    "plan_files": plan_files,
    "data_files": data_files,
    "tamperings": tamperings,
    "drafts": drafts,
    "changed_cells": changed_cells,
    "commands": commands,
    "calls": calls,
    "inspections": inspections,
}
