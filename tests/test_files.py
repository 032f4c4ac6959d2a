"""The build folder: the same bytes, whole or not at all, and never another's files."""

from __future__ import annotations

import hashlib
import json
import os
import resource
import signal
import subprocess
import sys
import textwrap
import time
from pathlib import Path

import numpy as np
import pyarrow as pa
from pyarrow import parquet

import facturum as fa
from tests.support import ROOT, Folder, huts, plan

TERMS = {"access": "access", "price": "log(price)", "curve": "polynomial(beds, 2)", "slope": "valley * change"}
FILES = {
    "columns.csv",
    "columns.json",
    "design.parquet",
    "facturum-build.json",
    "plan.resolved.toml",
    "imputed.parquet",
    "rows.parquet",
}


def digests(folder: Path) -> dict[str, str]:
    return {path.name: hashlib.sha256(path.read_bytes()).hexdigest() for path in folder.iterdir()}


class Contents(Folder):
    def setUp(self) -> None:
        super().setUp()
        self.table = huts(250, seed=50)
        made = plan(
            TERMS,
            response="log(stays)",
            data={"time": "month", "carry": ["month", "floor", "comfort", "open"]},
            rows={"learn": "month < '2022-06'"},
        )
        self.design = made.build(self.table)
        self.target = self.folder / "build"

    def test_the_same_input_gives_the_same_bytes(self) -> None:
        self.design.save(self.target)
        self.assertEqual({path.name for path in self.target.iterdir()}, FILES)
        first = digests(self.target)
        program = textwrap.dedent(
            """
            import sys, facturum as fa
            from tests.support import huts, plan
            from tests.test_files import TERMS
            data = {"time": "month", "carry": ["month", "floor", "comfort", "open"]}
            made = plan(TERMS, response="log(stays)", data=data, rows={"learn": "month < '2022-06'"})
            made.build(huts(250, seed=50), threads=int(sys.argv[2])).save(sys.argv[1])
            """
        )
        for threads, hash_seed in (("1", "0"), ("4", "77")):
            other = self.folder / f"other{threads}"
            subprocess.run(
                [sys.executable, "-W", "ignore", "-c", program, str(other), threads],
                check=True,
                cwd=ROOT,
                env={**os.environ, "PYTHONHASHSEED": hash_seed, "TZ": "Asia/Tokyo", "LANG": "C"},
            )
            self.assertEqual(digests(other), first)

    def test_the_design_file_has_rows_carried_variables_response_and_columns(self) -> None:
        self.design.save(self.target)
        found = parquet.read_table(self.target / "design.parquet")
        head = ["source_row", "month", "floor", "comfort", "open", "learning_row", "log_stays"]
        self.assertEqual(found.column_names, head + self.design.names)
        kept = found["source_row"].to_pylist()
        for name in ("floor", "comfort", "open"):
            self.assertEqual(found[name].to_pylist(), [self.table[name][row - 1] for row in kept])
        months = [self.table["month"][row - 1] for row in kept]
        self.assertEqual([str(value)[:7] for value in found["month"].to_pylist()], months)
        self.assertEqual(found["learning_row"].to_pylist(), [month < "2022-06" for month in months])
        self.assertEqual(found["log_stays"].to_numpy().tobytes(), self.design.y.tobytes())
        dropped = parquet.read_table(self.target / "rows.parquet").to_pydict()
        self.assertEqual(sorted(kept + dropped["row"]), list(range(1, 251)))
        self.assertEqual(set(dropped["reason"]), {"no value"})

    def test_every_form_opens_as_it_was_saved(self) -> None:
        for form in ("parquet", "csv", "npy"):
            self.design.save(self.target, format=form, replace=True)
            opened = fa.open_design(self.target)
            self.assertEqual(opened.X.tobytes("F"), self.design.X.tobytes("F"))
            self.assertEqual(opened.y.tobytes(), self.design.y.tobytes())
            self.assertEqual((opened.names, opened.response_names), (self.design.names, ["log_stays"]))
            np.testing.assert_array_equal(opened.rows.kept, self.design.rows.kept)
            np.testing.assert_array_equal(opened.rows.learning, self.design.rows.learning)
            reasons = [opened.rows.reasons[cause] for cause in opened.rows.causes]
            self.assertEqual(reasons, [self.design.rows.reasons[cause] for cause in self.design.rows.causes])
            self.assertEqual(opened.plan, self.design.plan)
            self.assertTrue(opened.verify(self.table).exact)
        self.assertTrue(opened.X.flags.f_contiguous)

    def test_missing_values_kept_survive_every_form(self) -> None:
        design = plan({"p": "price", "w": "access * beds"}, rows={"missing": "keep"}).build(self.table)
        self.assertTrue(np.isnan(design.X).any())
        for form in ("parquet", "csv", "npy"):
            design.save(self.target, format=form, replace=True)
            np.testing.assert_array_equal(fa.open_design(self.target).X, design.X)
        design.save(self.target, replace=True)
        nulls = parquet.read_table(self.target / "design.parquet")["p"].null_count
        self.assertEqual(nulls, int(np.isnan(design.X[:, 1]).sum()))
        self.assertEqual(design.columns["p"].missing, nulls)

    def test_other_forms_in_memory(self) -> None:
        frame = self.design.to_pandas()
        self.assertEqual(list(frame.columns), ["log_stays", *self.design.names])
        self.assertEqual(frame.index.tolist(), self.design.rows.kept.tolist())
        np.testing.assert_array_equal(frame[self.design.names].to_numpy(), self.design.X)
        sparse = self.design.to_sparse()
        np.testing.assert_array_equal(sparse.toarray(), self.design.X)
        self.assertIsInstance(self.design.to_arrow(), pa.Table)

    def test_names_that_the_output_needs_are_refused(self) -> None:
        design = plan({"source row": "price"}).build(self.table)
        with self.assertRaisesRegex(fa.PlanError, "two columns of the output are called 'source_row'"):
            design.save(self.target)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_new_build_replaces_an_old_one_only_when_told(self) -> None:
        self.design.save(self.target)
        before = digests(self.target)
        with self.assertRaisesRegex(fa.DataError, "is there already"):
            self.design.save(self.target)
        self.assertEqual(digests(self.target), before)
        other = plan({"p": "price"}).build(self.table)
        other.save(self.target, replace=True)
        self.assertEqual(fa.open_design(self.target).names, ["intercept", "p"])
        self.assertEqual([path.name for path in self.folder.iterdir()], ["build"])

    def test_folders_of_others_are_left_alone(self) -> None:
        self.target.mkdir()
        (self.target / "thesis.txt").write_text("mine")
        with self.assertRaisesRegex(fa.DataError, "no build of Facturum, and is left alone"):
            self.design.save(self.target, replace=True)
        self.assertEqual((self.target / "thesis.txt").read_text(), "mine")
        self.design.save(self.folder / "real")
        (self.folder / "link").symlink_to(self.folder / "real")
        with self.assertRaisesRegex(fa.DataError, "left alone"):
            self.design.save(self.folder / "link", replace=True)
        with self.assertRaisesRegex(fa.DataError, "no format"):
            self.design.save(self.folder / "x", format="xlsx")


class Damage(Folder):
    def setUp(self) -> None:
        super().setUp()
        self.design = plan(TERMS).build(huts(250, seed=51))
        self.target = self.folder / "build"
        self.design.save(self.target)

    def test_damaged_folders_are_refused(self) -> None:
        with self.assertRaisesRegex(fa.AuditError, "no build of Facturum"):
            fa.open_design(self.folder)
        for name, content in (
            ("columns.json", "{}"),
            ("columns.json", "not json"),
            ("plan.resolved.toml", "terms = 3"),
            ("rows.parquet", "PAR1"),
            ("design.parquet", "PAR1"),
            ("facturum-build.json", "[]"),
        ):
            with self.subTest(name, content=content):
                path = self.target / name
                before = path.read_bytes()
                path.write_text(content)
                with self.assertRaisesRegex(fa.AuditError, "damaged|own"):
                    fa.open_design(self.target)
                path.write_bytes(before)
        self.assertEqual(fa.open_design(self.target).names, self.design.names)

    def test_paths_written_in_a_folder_are_not_followed(self) -> None:
        secret = self.folder / "secret.parquet"
        (self.target / "design.parquet").rename(secret)
        (self.target / "facturum-build.json").write_text(json.dumps({"facturum": 1, "design": str(secret)}))
        with self.assertRaisesRegex(fa.AuditError, "no file design.parquet of its own"):
            fa.open_design(self.target)
        (self.target / "design.parquet").symlink_to(secret)
        with self.assertRaisesRegex(fa.AuditError, "no file design.parquet of its own"):
            fa.open_design(self.target)


class Interrupted(Folder):
    """A kill or a full disk in the middle of writing leaves the old state."""

    PROGRAM = textwrap.dedent(
        """
        import sys, pathlib
        import facturum.files.build_folder as build_folder
        from tests.support import huts, plan
        from tests.test_files import TERMS
        stage, target = sys.argv[1], sys.argv[2]
        rename = pathlib.Path.rename
        def stopping(self, other):
            done = rename(self, other)
            if str(other).endswith("facturum-old") and stage == "moved":
                print("ready", flush=True); sys.stdin.read()
            return done
        pathlib.Path.rename = stopping
        settle = build_folder._settle
        def waiting(file):
            settle(file)
            if stage == "written" and file.name == "rows.parquet":
                print("ready", flush=True); sys.stdin.read()
        build_folder._settle = waiting
        plan({"p": "price"}).build(huts(250, seed=52)).save(target, replace=True)
        """
    )

    def setUp(self) -> None:
        super().setUp()
        self.target = self.folder / "build"
        self.old = plan(TERMS).build(huts(250, seed=51))
        self.old.save(self.target)
        self.before = digests(self.target)

    def kill_at(self, stage: str) -> None:
        process = subprocess.Popen(
            [sys.executable, "-W", "ignore", "-c", self.PROGRAM, stage, str(self.target)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            cwd=ROOT,
        )
        assert process.stdout is not None
        self.assertEqual(process.stdout.readline(), b"ready\n")
        process.send_signal(signal.SIGKILL)
        process.wait()
        process.stdout.close()
        assert process.stdin is not None
        process.stdin.close()

    def test_a_kill_while_writing_leaves_the_old_build(self) -> None:
        self.kill_at("written")
        self.assertEqual(digests(self.target), self.before)
        self.assertEqual(len(list(self.folder.iterdir())), 2)
        self.old.save(self.target, replace=True)
        self.assertEqual([path.name for path in self.folder.iterdir()], ["build"])

    def test_a_kill_between_the_moves_is_put_right_by_the_next_build(self) -> None:
        self.kill_at("moved")
        self.assertFalse(self.target.exists())
        with self.assertRaisesRegex(fa.DataError, "is there already"):
            self.old.save(self.target)
        self.assertEqual(digests(self.target), self.before)
        self.assertEqual([path.name for path in self.folder.iterdir()], ["build"])

    def test_a_full_disk_leaves_the_old_build_and_says_so(self) -> None:
        design = plan({"p": "price"}).build(huts(20_000, seed=53))
        limit = resource.getrlimit(resource.RLIMIT_FSIZE)
        handler = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        try:
            resource.setrlimit(resource.RLIMIT_FSIZE, (20_000, limit[1]))
            with self.assertRaisesRegex(fa.DataError, "could not be written(.|\n)*Nothing was changed"):
                design.save(self.target, replace=True)
            with self.assertRaisesRegex(fa.DataError, "could not be written"):
                design.save(self.folder / "new")
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, limit)
            signal.signal(signal.SIGXFSZ, handler)
        self.assertEqual(digests(self.target), self.before)
        self.assertEqual([path.name for path in self.folder.iterdir()], ["build"])

    def test_a_place_that_cannot_be_written(self) -> None:
        (self.folder / "file").write_text("x")
        start = time.monotonic()
        with self.assertRaisesRegex(fa.DataError, "could not be written"):
            self.old.save(self.folder / "file" / "build")
        self.assertLess(time.monotonic() - start, 30)
        self.assertEqual((self.folder / "file").read_text(), "x")
