"""Builds of tables that are read in parts against the same builds in memory: the files of the folder, byte by byte."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import unittest
import warnings
from pathlib import Path
from typing import Any
from unittest.mock import patch

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st
from pyarrow import parquet

import facturum as fa
from facturum.api.design import Design
from facturum.data.number_text import NumberForm
from facturum.engine.passes.build import build
from facturum.files.builds.build_folder import read_build
from facturum.files.parts.choosing import free_memory
from facturum.files.parts.portions import Portions
from facturum.files.parts.spooling import needs_order_of_time
from facturum.files.parts.streaming import build_into
from facturum.files.scans.scans import TableScan
from facturum.files.scans.tables import write_table
from facturum.files.scans.text_tables import TextForm, TextScan
from facturum.files.verifying.sources import source_in_parts
from facturum.files.verifying.verifying import verify
from tests.support import PANEL_DATA, SAMPLE, VARIABLES, Folder, command, huts
from tests.test_interpreter import ALONG, ANY, CONDITIONS, DERIVED, PRODUCTS, cells

BINS = st.sampled_from(
    [
        "bins(price, quantiles=4)",
        "bins(snow, edges=[(0, 20), (20, 50), (60, 90)], missing='category')",
        "impute(snow, 'median', by=[valley])",
        "impute(snow, 'linear', limit=2)",
        "impute(access, 'mode')",
        "mean_of(price, snow, beds, at_least=2)",
        "is_missing(missing_if(snow, snow > 60))",
    ]
)


def saved(plan: fa.Plan, table: Any, folder: Path, leaf: int) -> None:
    """Build in memory, in leaves of so many rows, and save."""
    made = build(plan.spec, plan._inputs.given(table), leaf=leaf)
    Design._of(made, plan.spec, fa.Plan).save(folder)


def streamed(plan: fa.Plan, table: Any, folder: Path, portions: Portions) -> None:
    """Build in parts."""
    given_tables = plan._inputs.given(table)
    build_into(plan.spec, TableScan(given_tables.table), given_tables.series, folder, portions=portions)


def without_digests(folder: Path) -> Any:
    """Return the column map without what depends on the order of rows."""
    columns = json.loads((folder / "columns.json").read_text())
    return columns | {"columns": [{**entry, "digest": None} for entry in columns["columns"]]}


def by_row(path: Path, *keys: str) -> pa.Table:
    """Return a table with its rows in the order of their numbers."""
    return parquet.read_table(path).sort_by([(key, "ascending") for key in keys])


class Streams(unittest.TestCase):
    def agree(self, plan: fa.Plan, table: Any, portions: Portions, ordered: bool) -> None:
        """Compare all files of both builds; rows that were brought into order by their numbers."""
        with tempfile.TemporaryDirectory() as holder:
            one, other = Path(holder) / "memory", Path(holder) / "parts"
            try:
                saved(plan, table, one, portions.leaf)
            except fa.FacturumError as error:
                with self.assertRaises(fa.FacturumError) as caught:
                    streamed(plan, table, other, portions)
                self.assertEqual(str(caught.exception), str(error))
                self.assertFalse(other.exists())
                return
            streamed(plan, table, other, portions)
            self.assertEqual(*(sorted(path.name for path in folder.iterdir()) for folder in (one, other)))
            if ordered:
                for path in sorted(one.iterdir()):
                    self.assertEqual(path.read_bytes(), (other / path.name).read_bytes(), path.name)
                return
            self.assertEqual(without_digests(one), without_digests(other))
            self.assertEqual((one / "plan.resolved.toml").read_text(), (other / "plan.resolved.toml").read_text())
            keys_of = {"design": ["source_row"], "rows": ["row"], "imputed": ["imputation", "source_row"]}
            for stem, keys in keys_of.items():
                name = f"{stem}.parquet"
                self.assertTrue(by_row(one / name, *keys).equals(by_row(other / name, *keys)), name)

    @given(
        st.lists(st.one_of(ANY, ANY, ALONG, PRODUCTS, BINS), min_size=1, max_size=3),
        st.one_of(st.just("open"), CONDITIONS, st.none()),
        st.one_of(CONDITIONS, st.none(), st.none()),
        st.sampled_from(["drop", "keep", "fail"]),
        st.sampled_from([None, "hidden", "hidden > 0", "valley"]),
        st.tuples(st.integers(1, 9), st.integers(1, 4), st.integers(1, 30)),
        st.booleans(),
        st.integers(0, 10**6),
    )
    @settings(max_examples=25, deadline=None)
    def test_parts_give_the_files_of_memory(
        self, terms: list[str], keep: str | None, learn: str | None, missing: str, response: str | None,
        portions: tuple[int, int, int], in_order: bool, seed: int,
    ) -> None:  # fmt: skip
        warnings.simplefilter("ignore", fa.FacturumWarning)
        table = {name: values for name, values in cells(seed).items() if name != "period"}
        if in_order:
            order = sorted(range(len(table["hut"])), key=lambda at: (table["hut"][at], table["month"][at]))
            table = {name: [values[at] for at in order] for name, values in table.items()}
        rows = {"missing": missing} | ({"keep": keep} if keep else {}) | ({"learn": learn} if learn else {})
        named = {f"t{at}": text for at, text in enumerate(terms)}
        data = PANEL_DATA | {"carry": ["valley", "beds"]}
        plan = fa.Plan(response, named, data=data, derived=DERIVED, variables=VARIABLES, rows=rows)
        leaf, leaves, block = portions
        ordered = in_order or not needs_order_of_time(plan.spec)
        self.agree(plan, table, Portions(leaf=leaf, leaves=leaves, block=block), ordered)


def shuffled_panel(seed: int = 5) -> dict[str, Any]:
    """Return a panel whose rows are not in order."""
    return {name: values for name, values in cells(seed).items() if name != "period"}


ALONG_PLAN = fa.Plan(
    "price",
    {"before": "lag(snow, 1)", "way": "access", "filled": "impute(snow, 'previous')", "cut": "bins(beds, count=3)"},
    data=PANEL_DATA | {"carry": ["valley"]},
    variables=VARIABLES,
)
SMALL = Portions(leaf=7, leaves=2, block=5)


class Files(Folder):
    """Tables in files of every kind, read in parts."""

    def test_every_kind_of_file_gives_the_build_of_its_table(self) -> None:
        whole = pa.table(shuffled_panel())
        for name in ("t.parquet", "t.arrow", "t.csv"):
            path = self.folder / name
            write_table(fa.Table.of(whole), path)
            wanted = ALONG_PLAN.build(path)
            given_tables = ALONG_PLAN._inputs.scan(path)
            build_into(ALONG_PLAN.spec, given_tables, {}, self.folder / f"{name}.build", portions=Portions(block=5))
            found = fa.open_design(self.folder / f"{name}.build")
            order = np.argsort(found.rows.kept)
            np.testing.assert_array_equal(found.X[order], wanted.X, name)
            self.assertEqual(found.columns.warnings, wanted.columns.warnings)
            self.assertTrue(found.verify(path).ok, name)

    def test_a_folder_of_parquet_files_is_one_table_with_the_variables_of_its_folders(self) -> None:
        table = pa.table({"year": [2021, 2021, 2022, 2022], "hut": ["a", "b", "a", "b"], "y": [1.0, 2, 3, 5]})
        parquet.write_to_dataset(table, self.folder / "t", partition_cols=["year", "hut"])
        (self.folder / "t/_note.parquet").write_bytes(b"not looked at")
        plan = fa.Plan("y", {"year": "year", "hut": "hut"})
        with warnings.catch_warnings(action="ignore"):
            wanted, inner = plan.build(table), plan.build(self.folder / "t")
            parts = plan.build_into(self.folder / "out", self.folder / "t")
        for found in (inner, parts):
            np.testing.assert_array_equal(found.X, wanted.X)
            self.assertEqual(found.names, ["intercept", "year", "hut_b"])
        self.assertTrue(parts.verify(self.folder / "t").ok)
        parquet.write_table(table.drop_columns(["y"]), self.folder / "t/year=2021/hut=a/other.parquet")
        for read in (fa.read, lambda path: plan.build_into(self.folder / "out", path, replace=True)):
            with self.assertRaisesRegex(fa.DataError, "other.parquet does not have the variables of year=2021"):
                read(self.folder / "t")
        with self.assertRaisesRegex(fa.DataError, "holds no Parquet files"):
            fa.read(SAMPLE)

    def test_text_is_typed_by_all_its_pieces(self) -> None:
        """Pieces end within records, quotes, characters and line ends; what the last says counts for the first."""
        texts = {
            "late": "a,b\r\n" + "1,x\r\n" * 30 + '2.5,"y, é\n""z"""\r\n' + "3,\r\n",
            "text": "a,b\n" + "01,2020-01-31\n" * 20 + "7,2020-02-30\n",
            "bom": "\ufeffa,b\n" + "1,true\n" * 9 + ",FALSE\n",
            "one": "a\n" + "1\n\n" * 9,
        }
        form = TextForm(("", "NA"), ",", NumberForm(), "utf-8")
        for name, text in texts.items():
            path = self.folder / f"{name}.csv"
            path.write_bytes(text.encode())
            wanted = fa.read(path)
            for size in (3, 7, 40):
                with patch("facturum.files.scans.text_tables._BLOCK", size):
                    blocks = list(TextScan(path, form).blocks(None, 4))
                for variable in wanted:
                    parts = [block[variable.name] for block in blocks]
                    self.assertEqual({part.kind for part in parts}, {variable.kind}, f"{name} {size}")
                    found = [
                        None if gone else part.text_of(value)
                        for part in parts
                        for value, gone in zip(part.data.tolist(), part.missing_rows(), strict=True)
                    ]
                    told = [
                        None if gone else variable.text_of(value)
                        for value, gone in zip(variable.data.tolist(), variable.missing_rows(), strict=True)
                    ]
                    self.assertEqual(found, told, f"{name} {size}")

    def test_faults_are_told_as_in_memory(self) -> None:
        """Rows of all stretches are added up, and no folder is left."""
        table = huts(400, seed=3)
        table["price"][7] = table["price"][300] = -1.0
        twice = shuffled_panel() | {"month": ["2020-01"] * len(shuffled_panel()["hut"])}
        cases: list[tuple[fa.Plan, Any, str]] = [
            (fa.Plan("beds", {"p": "log(price)"}), table, "in 2 rows.*Rows 8, 301"),
            (fa.Plan("beds", {"p": "price"}, rows={"keep": "price > 1e9"}), table, "no row is left of 400"),
            (fa.Plan("beds", {"p": "price"}, rows={"missing": "fail"}), huts(400, missing=0.2), "with missing values"),
            (ALONG_PLAN, twice, "occurs more than once"),
            (fa.Plan("beds", {"p": "pric"}), table, "did you mean 'price'"),
            (fa.Plan("beds", {"p": "price"}, variables={"access": {"kind": "number"}}), table, "cannot be read as"),
        ]
        for plan, given_table, said in cases:
            with self.assertRaises(fa.FacturumError) as wanted:
                plan.build(given_table)
            with self.assertRaises(fa.FacturumError) as caught:
                build_into(plan.spec, plan._inputs.scan(given_table), {}, self.folder / "out", portions=SMALL)
            self.assertRegex(str(caught.exception).replace("\n", " "), said)
            if "cannot be read as" in said:  # whose rows are those of the first block that has some
                continue
            lines = [str(error.exception).splitlines() for error in (caught, wanted)]
            if "more than once" in said:  # whose pairs are met in another order of units
                lines = [each[:1] for each in lines]
            self.assertEqual(*lines)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_what_cannot_be_done_in_parts_is_refused_with_the_way_round(self) -> None:
        stacked = fa.Plan("y", {"x": "x"}, stack={"into": {"x": ["a", "b"]}, "which": "w"})
        for plan, form, said in (
            (stacked, "parquet", "Run facturum stack"),
            (ALONG_PLAN, "npy", "cannot be written as npy"),
        ):
            with self.assertRaisesRegex(fa.FacturumError, said):
                plan.build_into(self.folder / "out", shuffled_panel(), format=form)
        told = command("build", SAMPLE / "huts.toml", SAMPLE / "huts.csv", "--out", self.folder / "o", "--stream",
                       "--history", SAMPLE / "huts.csv")  # fmt: skip
        self.assertEqual(told.returncode, 2)
        self.assertIn("--stream cannot read --history", told.stderr)

    def test_the_command_chooses_by_the_memory_there_is(self) -> None:
        words = ["build", SAMPLE / "huts.toml", SAMPLE / "huts.csv", "--replace", "--out", self.folder / "out"]
        self.assertNotIn("in parts", command(*words).stdout)
        marker = (self.folder / "out/facturum-build.json").read_bytes()
        with patch("facturum.files.given.inputs.free_memory", return_value=300_000.0):
            told = " ".join(command(*words).stdout.split())
            self.assertIn("the rows were read and written in parts", told)
        self.assertEqual((self.folder / "out/facturum-build.json").read_bytes(), marker)
        told = " ".join(command(*words, "--stream", "--memory", "16").stdout.split())
        self.assertIn("read and written in parts", told)
        self.assertEqual((self.folder / "out/facturum-build.json").read_bytes(), marker)

    def test_the_memory_left_is_that_of_the_control_group_where_it_has_a_limit(self) -> None:
        most, used = self.folder / "most", self.folder / "used"
        used.write_text("300\n")
        for limit, wanted in (("1000\n", 700.0), ("max\n", None)):
            most.write_text(limit)
            with patch("facturum.files.parts.choosing._GROUPS", ((str(most), str(used)),)):
                found = free_memory()
            self.assertTrue(found == wanted if wanted else found > 10**6, found)


class Folders(Folder):
    """Folders written in parts: replaced whole or not at all, and read in parts."""

    def setUp(self) -> None:
        super().setUp()
        warnings.simplefilter("ignore", fa.FacturumWarning)
        self.table = shuffled_panel()
        self.target = self.folder / "build"
        ALONG_PLAN.build_into(self.target, self.table)
        self.before = {path.name: path.read_bytes() for path in self.target.iterdir()}

    def test_a_kill_and_a_full_disk_leave_the_old_build_and_no_temporary_files(self) -> None:
        write_table(fa.Table.of(pa.table(self.table)), self.folder / "t.parquet")
        ALONG_PLAN.save(self.folder / "plan.toml")
        program = (
            "import os, signal; from facturum.files.parts import streaming as s; from facturum.cli.main import run\n"
            "old = s.BuildWriter.finish\n"
            "def finish(*a): os.kill(os.getpid(), signal.SIGKILL)\n"
            "s.BuildWriter.finish = finish; run()"
        )
        words = ["build", "plan.toml", "t.parquet", "--out", "build", "--replace", "--stream"]
        subprocess.run([sys.executable, "-c", program, *words], cwd=self.folder, capture_output=True, check=False)
        self.assertEqual({path.name: path.read_bytes() for path in self.target.iterdir()}, self.before)
        left = {path.name for path in self.folder.rglob("*")} - self.before.keys()
        self.assertEqual([name for name in left if "parquet" in name and name != "t.parquet"], [])
        limit = "import resource; resource.setrlimit(resource.RLIMIT_FSIZE, (2000, 2000))"
        full = f"{limit}; from facturum.cli.main import run; run()"
        told = subprocess.run(
            [sys.executable, "-B", "-c", full, *words],  # or its compiled modules would be cut off as well
            cwd=self.folder,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(told.returncode, 2, told.stderr)
        self.assertIn("cannot be written", told.stderr)
        self.assertEqual({path.name: path.read_bytes() for path in self.target.iterdir()}, self.before)
        self.assertEqual({path.name for path in self.folder.iterdir()}, {"build", "plan.toml", "t.parquet"})

    def test_a_large_matrix_is_read_where_it_is_asked_for_and_checked_then(self) -> None:
        wanted = fa.open_design(self.target)
        with patch("facturum.files.builds.build_folder.LARGE", 100):
            design = fa.open_design(self.target)
            self.assertEqual(repr(design), repr(wanted))
            blocks = list(design.blocks(11))
            self.assertNotIn("X", design.__dict__)
            np.testing.assert_array_equal(np.vstack([X for X, _, _ in blocks]), wanted.X)
            np.testing.assert_array_equal(np.concatenate([y for _, y, _ in blocks if y is not None]), wanted.y)
            np.testing.assert_array_equal(np.concatenate([rows for _, _, rows in blocks]), wanted.rows.kept)
            np.testing.assert_array_equal(design.to_sparse().toarray(), wanted.X)
            self.assertTrue(design.verify(self.table).ok)
            path = self.target / "design.parquet"
            path.write_bytes(path.read_bytes()[:-8] + b"12345678")
            damaged = fa.open_design(self.target)
            with self.assertRaisesRegex(fa.AuditError, "design.parquet is not as it was written"):
                damaged.X  # noqa: B018 - reading it raises
            told = str(fa.open_design(self.target, check=False).verify(self.table))
        self.assertIn("The file design.parquet is not as it was written.", told)

    @given(st.sampled_from(["snow", "price", "access", "beds"]), st.integers(0, 20), st.integers(0, 3))
    @settings(max_examples=10, deadline=None)
    def test_what_no_longer_agrees_is_told_as_in_memory(self, name: str, at: int, way: int) -> None:
        """A changed cell, a row less, rows turned: the findings of both ways of verifying are the same."""
        order = sorted(
            range(len(self.table["hut"])), key=lambda row: (self.table["hut"][row], self.table["month"][row])
        )
        table = {key: [values[row] for row in order] for key, values in self.table.items()}
        changed = {key: list(values) for key, values in table.items()}
        cell = changed[name][at]
        if way == 0:
            other = "trail" if cell == "road" else "road"
            changed[name][at] = other if name == "access" else 3.0 if cell is None else cell + 1
        elif way == 1:
            changed = {key: values[:at] + values[at + 1 :] for key, values in changed.items()}
        elif way == 2:
            changed = {key: values + values[-1:] for key, values in changed.items()}
            changed["month"][-1] = "2031-01"
        with tempfile.TemporaryDirectory() as holder:
            ALONG_PLAN.build_into(Path(holder) / "b", table)
            design, stored = fa.open_design(Path(holder) / "b"), read_build(Path(holder) / "b")
            scan = TableScan(fa.Table.of(changed))
            parts = verify(stored, source_in_parts(stored.audited, scan, {}, Path(holder), SMALL))
            wanted = design.verify(changed)
        self.assertEqual(parts.ok, way == 3)
        self.assertEqual({str(failure) for failure in parts.failures}, {str(failure) for failure in wanted.failures})


class Units(unittest.TestCase):
    def test_units_of_several_variables_are_kept_apart(self) -> None:
        """Of two and three variables, whose numbers could be taken for one another's."""
        dice = np.random.default_rng(8)
        cells = [(a, b, c, t) for a in range(5) for b in range(4) for c in (0, 1) for t in range(6)]
        cells = [cells[at] for at in dice.permutation(len(cells)).tolist()][:200]
        table = {
            "a": [f"a{cell[0]}" for cell in cells], "b": [cell[1] for cell in cells], "c": [f"c{c[2]}" for c in cells],
            "t": [f"{2000 + cell[3]}-01" for cell in cells], "x": dice.normal(size=200),
        }  # fmt: skip
        known = dict(zip(cells, table["x"], strict=True))
        wanted = [known.get((a, b, c, t - 1), np.nan) for a, b, c, t in cells]
        data = {"time": "t", "every": "year", "panel": ["a", "b", "c"]}
        plan = fa.Plan(None, {"before": "lag(x, 1)"}, data=data, rows={"missing": "keep"})
        np.testing.assert_array_equal(plan.build(table).X[:, 1], wanted)
        with tempfile.TemporaryDirectory() as holder:
            streamed(plan, table, Path(holder) / "b", Portions(leaf=7, leaves=2, memory=4096))
            found = fa.open_design(Path(holder) / "b")
            np.testing.assert_array_equal(found.X[np.argsort(found.rows.kept), 1], wanted)


class Sizes(unittest.TestCase):
    def test_panels_of_several_leaves_agree_in_order_and_shuffled(self) -> None:
        """At the usual sizes: runs that are merged, margins beyond a stretch, groups of a Parquet file."""
        rows, dice = 300_000, np.random.default_rng(3)
        unit, day = np.arange(rows) // 500, np.arange(rows) % 500
        table = {"unit": unit.astype(np.int32), "day": (day * 86_400_000_000).astype("datetime64[us]"),
                 "x": dice.normal(size=rows)}  # fmt: skip
        plan = fa.Plan(None, {"b": "lag(x, [1, 30])", "m": "moving_average(x, 5)"}, rows={"missing": "keep"},
                       data={"time": "day", "every": "day", "panel": ["unit"]})  # fmt: skip
        for order in (None, dice.permutation(rows)):
            given_table = table if order is None else {name: values[order] for name, values in table.items()}
            with tempfile.TemporaryDirectory() as holder:
                portions = Portions(leaves=1, memory=2**20)
                build_into(plan.spec, TableScan(fa.Table.of(given_table)), {}, Path(holder) / "b", portions=portions)
                found = fa.open_design(Path(holder) / "b")
                back = np.argsort(found.rows.kept)
                np.testing.assert_array_equal(found.X[back], plan.build(given_table).X)
