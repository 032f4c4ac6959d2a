"""The build folder: the same bytes, whole or not at all, and never another's files."""

from __future__ import annotations

import hashlib
import json
import os
import resource
import shutil
import signal
import subprocess
import sys
import textwrap
import threading
import time
import warnings
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from types import FrameType
from typing import Any
from unittest import mock
from unittest.mock import patch

import numpy as np
import pyarrow as pa
from pyarrow import parquet

import facturum as fa
from facturum.audit.map.entries import DefinitionEntry
from facturum.files import folder
from facturum.files.builds.build_folder import read_build
from facturum.files.builds.build_writer import write_build
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
        self.assertEqual(set(dropped["reason"]), {"a value is missing"})

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
        self.assertEqual(
            list(frame.columns),
            ["source_row", "month", "floor", "comfort", "open", "learning_row", "log_stays", *self.design.names],
        )
        self.assertEqual((frame.index + 1).tolist(), self.design.rows.kept.tolist())
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
        with self.assertRaisesRegex(fa.DataError, "already exists"):
            self.design.save(self.target)
        self.assertEqual(digests(self.target), before)
        other = plan({"p": "price"}).build(self.table)
        other.save(self.target, replace=True)
        self.assertEqual(fa.open_design(self.target).names, ["intercept", "p"])
        self.assertEqual([path.name for path in self.folder.iterdir()], ["build"])

    def test_folders_of_others_are_left_alone(self) -> None:
        self.target.mkdir()
        (self.target / "thesis.txt").write_text("mine")
        with self.assertRaisesRegex(fa.DataError, "not a Facturum build, and is not changed"):
            self.design.save(self.target, replace=True)
        self.assertEqual((self.target / "thesis.txt").read_text(), "mine")
        self.design.save(self.folder / "real")
        (self.folder / "link").symlink_to(self.folder / "real")
        with self.assertRaisesRegex(fa.DataError, "not changed"):
            self.design.save(self.folder / "link", replace=True)
        with self.assertRaisesRegex(fa.DataError, "is not a valid format"):
            self.design.save(self.folder / "x", format="xlsx")


class Damage(Folder):
    def setUp(self) -> None:
        super().setUp()
        self.table = huts(250, seed=51)
        data, rows = {"time": "month", "carry": ["month"]}, {"learn": "month < '2022-06'"}
        self.design = plan(TERMS | {"i": "impute(floor, 'mean')"}, data=data, rows=rows).build(self.table)
        self.target = self.folder / "build"
        self.design.save(self.target)

    def test_what_is_not_a_build_is_refused(self) -> None:
        with self.assertRaisesRegex(fa.AuditError, "not a Facturum build"):
            fa.open_design(self.folder)
        marker = self.target / "facturum-build.json"
        content = json.loads(marker.read_text())
        for text in ("[]", "{", "[" * 100_000, json.dumps(content | {"files": []}), '{"facturum": 1}', "\udc80"):
            with self.subTest(text[:20]), self.assertRaisesRegex(fa.AuditError, "facturum-build.json cannot be read"):
                marker.write_text(text, errors="surrogateescape")
                fa.open_design(self.target)
        marker.write_text(json.dumps(content | {"facturum": 2}))
        with self.assertRaisesRegex(fa.AuditError, "of format 2, and this version reads format 1"):
            fa.open_design(self.target)

    def test_every_file_that_was_changed_is_missing_or_was_added_is_told(self) -> None:
        for path in sorted(self.target.iterdir()):
            if path.name == "facturum-build.json":
                continue
            before = path.read_bytes()
            for content in (b"", b"PAR1", before[:-3], before + b" ", bytes([before[0] ^ 1]) + before[1:]):
                path.write_bytes(content)
                with self.subTest(path.name), self.assertRaisesRegex(fa.AuditError, f"{path.name} is not as it was"):
                    fa.open_design(self.target)
                try:
                    outcome = fa.open_design(self.target, check=False).verify(self.table)
                    self.assertIn(path.name, [failure.name for failure in outcome.failures])
                except fa.AuditError as error:
                    self.assertIn("is damaged", str(error))
            path.unlink()
            with self.assertRaisesRegex(fa.AuditError, f"{path.name} is missing"):
                fa.open_design(self.target)
            path.write_bytes(before)
        (self.target / "more.txt").write_text("x")
        with self.assertRaisesRegex(fa.AuditError, "more.txt was added"):
            fa.open_design(self.target)
        (self.target / "more.txt").unlink()
        self.assertEqual(fa.open_design(self.target).names, self.design.names)

    def test_paths_written_in_a_folder_are_not_followed(self) -> None:
        secret = self.folder / "secret.parquet"
        (self.target / "design.parquet").rename(secret)
        marker = self.target / "facturum-build.json"
        content = json.loads(marker.read_text())
        for name in (str(secret), "../secret.parquet"):
            marker.write_text(json.dumps(content | {"design": name, "files": content["files"] | {name: "0"}}))
            with self.assertRaisesRegex(fa.AuditError, "is missing"):
                fa.open_design(self.target)
        (self.target / "design.parquet").symlink_to(secret)
        with self.assertRaisesRegex(fa.AuditError, "is missing"):
            fa.open_design(self.target)

    def test_an_edit_that_hides_its_tracks_is_noticed_all_the_same(self) -> None:
        """Every claim of a build follows from its source; digests made anew after an edit do not hide it."""
        stored = read_build(self.target)
        design = stored.table
        flags = pa.array([not flag for flag in stored.rows.learning])
        entry = stored.columns.columns[2]
        places = {"rows": replace(stored.rows, kept=stored.rows.kept, causes=stored.rows.causes[::-1])}
        circle = [DefinitionEntry(name="a", formula="b + 1"), DefinitionEntry(name="b", formula="a + 1")]
        edits: list[tuple[str, dict[str, Any]]] = [
            (
                "carried",
                {"design": design.set_column(1, "month", design["month"].take([1, 0, *range(2, len(design))]))},
            ),
            ("learning", {"design": design.set_column(2, "learning_row", flags)}),
            ("column order", {"design": design.select([*design.column_names[:-2], *design.column_names[:-3:-1]])}),
            ("reasons", places),
            (
                "a row less",
                {"rows": replace(stored.rows, dropped=stored.rows.dropped[1:], causes=stored.rows.causes[1:])},
            ),
            ("imputed", {"imputed": stored.imputed.slice(1)}),
            ("rows turned", {"design": design.take([1, 0, *range(2, len(design))])}),
            ("definitions", {"columns": stored.columns.model_copy(update={"definitions": circle})}),
            ("rows counted", {"columns": stored.columns.model_copy(update={"warnings": ["all is well"]})}),
        ]
        told: dict[str, Any] = {
            "reading": "b.", "role": "intercept", "mean": 7.0, "nonzero": 3, "position": 5, "digest": None,
            "missing": 1, "imputed": 1, "reference": "x", "measure": "number", "sources": ["beds"], "term": "p",
            "max": 1e9,
        }  # fmt: skip
        for key, value in told.items():
            columns = [*stored.columns.columns]
            columns[2] = entry.model_copy(update={key: value})
            edits.append((key, {"columns": stored.columns.model_copy(update={"columns": columns})}))
        for change in (lambda c: c[:-1], lambda c: [c[0], c[2], c[1], *c[3:]]):
            changed = stored.columns.model_copy(update={"columns": change(stored.columns.columns)})
            edits.append(("entries", {"columns": changed}))
        for name, edit in edits:
            parts = {"design": design, "columns": stored.columns, "rows": stored.rows, "imputed": stored.imputed} | edit
            folder = self.folder / "edited"
            folder.mkdir()
            write_build(
                folder,
                parts["design"],
                [],
                parts["columns"],
                parts["rows"],
                stored.resolved,
                "parquet",
                parts["imputed"],
            )
            with self.subTest(name):
                outcome = fa.open_design(folder, check=False).verify(self.table)
                self.assertFalse(outcome.ok)
                self.assertGreaterEqual(outcome.steps, 0)
                self.assertLessEqual(max(len(failure.rows) for failure in outcome.failures), 5)
                if name == "a row less":
                    self.assertIn((int(stored.rows.dropped[0]),), [failure.rows for failure in outcome.failures])
                self.assertNotEqual(fa.open_design(folder).seal, fa.open_design(self.target).seal)
            shutil.rmtree(folder)


def _interrupt(number: int, done: list[int]) -> Callable[..., Any]:
    """Return a trace that interrupts the writing of a folder at its n-th line."""
    countdown = iter(range(number))

    def line(frame: FrameType, event: str, value: Any) -> Any:
        if event == "line" and not done and next(countdown, None) is None:
            done.append(frame.f_lineno)
            raise KeyboardInterrupt
        return line

    def call(frame: FrameType, event: str, value: Any) -> Any:
        return line if frame.f_code.co_filename.endswith(("facturum/files/folder.py", "/shutil.py")) else None

    return call


class Interrupted(Folder):
    """Whatever happens while a build is replaced, the old one or the new one is there, whole."""

    PROGRAM = textwrap.dedent(
        """
        import os, sys
        import facturum.files.folder as folder
        from tests.support import huts, plan
        stage, target = sys.argv[1], sys.argv[2]
        def wait(name):
            if stage == name:
                print("ready", flush=True); sys.stdin.read()
        settle, put, exchange = folder._settle, folder._put, folder._exchange
        def settling(file):
            settle(file)
            if file.name == "rows.parquet":
                wait("written")
        def putting(part, place):
            put(part, place)
            wait("exchanged")
        if stage == "aside":
            folder._exchange = lambda a, b: False
            rename = os.rename
            def aside(a, b, **rest):
                rename(a, b, **rest)
                if str(b).endswith("facturum-old"):
                    wait("aside")
            os.rename = aside
        folder._settle, folder._put = settling, putting
        plan({"p": "price"}).build(huts(250, seed=52)).save(target, replace=True)
        """
    )

    def setUp(self) -> None:
        super().setUp()
        self.target = self.folder / "build"
        self.old = plan(TERMS).build(huts(250, seed=51))
        self.old.save(self.target)
        self.before = digests(self.target)

    def process(self, stage: str) -> subprocess.Popen[bytes]:
        """Start a build that replaces the old one, and return when it has come to a stage."""
        process = subprocess.Popen(
            [sys.executable, "-W", "ignore", "-c", self.PROGRAM, stage, str(self.target)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            cwd=ROOT,
        )
        assert process.stdout is not None
        self.assertEqual(process.stdout.readline(), b"ready\n")
        return process

    def kill_at(self, stage: str) -> None:
        process = self.process(stage)
        process.kill()
        process.communicate()

    def left(self) -> list[str]:
        return [path.name for path in self.folder.iterdir()]

    def test_a_kill_leaves_the_old_build_or_the_new_one_and_the_next_build_cleans_up(self) -> None:
        self.kill_at("written")
        self.assertEqual(digests(self.target), self.before)
        self.kill_at("exchanged")
        self.assertEqual(fa.open_design(self.target).names, ["intercept", "p"])
        self.old.save(self.target, replace=True)
        self.assertEqual(self.left(), ["build"])

    def test_where_folders_cannot_be_exchanged_the_old_build_is_found_aside(self) -> None:
        self.kill_at("aside")
        self.assertFalse(self.target.exists())
        self.assertEqual(fa.open_design(self.target).names, self.old.names)
        with self.assertRaisesRegex(fa.DataError, "already exists"):
            self.old.save(self.target)
        self.assertEqual(digests(self.target), self.before)
        self.assertEqual(self.left(), ["build"])

    def test_a_second_build_to_the_same_place_is_refused(self) -> None:
        process = self.process("written")
        with self.assertRaisesRegex(fa.DataError, "another build is being written to"):
            self.old.save(self.target, replace=True)
        process.communicate()
        self.assertEqual(fa.open_design(self.target).names, ["intercept", "p"])
        self.assertEqual(self.left(), ["build"])

    def test_a_build_removed_while_it_is_opened_is_read_in_its_new_form(self) -> None:
        new = plan({"p": "price"}).build(huts(250, seed=52))
        read = folder._Handles.read
        puts = iter([lambda: new.save(self.target, replace=True)])

        def reading(handles: Any, name: str) -> Any:
            next(puts, lambda: None)()  # before the first file is read
            return read(handles, name)

        self.old.save(self.target, replace=True)
        with mock.patch.object(folder._Handles, "read", reading):
            self.assertEqual(fa.open_design(self.target).X.tobytes(), new.X.tobytes())

    def test_many_threads_writing_and_reading_one_place_see_whole_builds_only(self) -> None:
        designs = [self.old, plan({"p": "price"}).build(huts(250, seed=52))]
        wanted = {tuple(design.names): design.X.tobytes("F") for design in designs}
        failures: list[str] = []
        writing = [15, 15]  # how many times each has still to write

        def write(at: int) -> None:
            while writing[at]:
                try:
                    designs[at].save(self.target, replace=True, wait=3600)
                except fa.FacturumError as error:
                    failures.append(str(error))
                writing[at] -= 1

        def read(at: int) -> None:
            while any(writing):
                try:
                    found = fa.open_design(self.target)
                    if wanted[tuple(found.names)] != found.X.tobytes("F"):
                        failures.append("a mixture")
                except fa.FacturumError as error:
                    failures.append(str(error))

        with ThreadPoolExecutor(4) as pool:
            list(pool.map(lambda work: work[0](work[1]), [(write, 0), (write, 1), (read, 0), (read, 1)]))
        self.assertEqual(failures, [])
        self.assertEqual(self.left(), ["build"])

    def test_who_waits_comes_before_who_returns(self) -> None:
        """A writer that comes again at once is refused while another waits, which then has its turn."""
        turns: list[str] = []
        going, waiting = threading.Event(), threading.Event()
        settle = folder._settle
        sleep = time.sleep

        def held(path: Path) -> None:
            if not going.is_set():
                going.set()
                waiting.wait()
            settle(path)

        def noticed(seconds: float) -> None:
            waiting.set()  # the second writer stands in the queue
            sleep(seconds)

        def save(name: str, wait: float) -> None:
            try:
                self.old.save(self.target, replace=True, wait=wait)
                turns.append(f"{name} wrote")
            except fa.DataError as error:
                turns.append(f"{name}: {error.what}")

        with mock.patch.object(folder, "_settle", held), mock.patch.object(folder.time, "sleep", noticed):  # type: ignore[attr-defined]
            first = threading.Thread(target=save, args=("first", 0))
            first.start()
            going.wait()
            with self.assertRaisesRegex(fa.DataError, "another build is being written"):
                self.old.save(self.target, replace=True)
            second = threading.Thread(target=save, args=("second", 3600))
            second.start()
            first.join()
            second.join()
        self.assertEqual(turns, ["first wrote", "second wrote"])
        self.assertEqual(self.left(), ["build"])

    def test_a_full_disk_at_any_write_leaves_the_old_build_and_says_so(self) -> None:
        design = plan({"p": "price"}).build(huts(20_000, seed=53))
        limit = resource.getrlimit(resource.RLIMIT_FSIZE)
        # or compiled modules would be cut off as well
        self.enterContext(patch.object(sys, "dont_write_bytecode", True))
        handler = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        try:
            for size in (0, 1, 100, 400, 1_000, 3_000, 8_000, 30_000):
                resource.setrlimit(resource.RLIMIT_FSIZE, (size, limit[1]))
                with self.assertRaisesRegex(fa.DataError, "cannot be written(.|\n)*Nothing was changed"):
                    design.save(self.target, replace=True)
                with self.assertRaisesRegex(fa.DataError, "cannot be written"):
                    design.save(self.folder / "new")
            resource.setrlimit(resource.RLIMIT_FSIZE, (10, limit[1]))
            with self.assertRaisesRegex(fa.FacturumError, "cannot be written"):
                design.plan.save(self.folder / "plan.toml")
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, limit)
            signal.signal(signal.SIGXFSZ, handler)
        self.assertEqual(digests(self.target), self.before)
        self.assertEqual(self.left(), ["build"])

    def test_a_signal_at_any_line_of_writing_leaves_one_whole_build_and_nothing_else(self) -> None:
        designs = [self.old, plan({"p": "price"}).build(huts(40, seed=53))]
        for design in designs:
            design.save(self.target, replace=True)
        whole = {tuple(design.names) for design in designs}
        warnings.simplefilter("ignore", ResourceWarning)  # an interrupted lock is closed when it is forgotten
        for number in range(0, 10_000, 2):  # each second line; tools/kills.py ends saves anywhere
            done: list[int] = []
            sys.settrace(_interrupt(number, done))
            try:
                designs[number // 2 % 2].save(self.target, replace=True)
            except KeyboardInterrupt:
                pass
            except fa.DataError as error:  # what the library that removes folders makes of it, between two lines
                self.assertIn("Bad file descriptor", str(error))
            finally:
                sys.settrace(None)
            if not done:
                break
            self.assertIn(tuple(fa.open_design(self.target).names), whole, done)
            self.assertEqual([name for name in self.left() if not name.endswith("lock")], ["build"], done)
        self.assertGreater(number, 150)
        self.assertEqual(self.left(), ["build"])

    def test_places_that_cannot_be_written(self) -> None:
        (self.folder / "file").write_text("x")
        for place in (self.folder / "file" / "build", Path("/"), self.folder / "nul\0", self.folder / ("x" * 300)):
            with self.assertRaisesRegex(fa.DataError, "cannot be written|not a place for a build"):
                self.old.save(place)
            with self.assertRaisesRegex(fa.DataError, "cannot be written"):
                self.old.plan.save(place)
        self.assertEqual((self.folder / "file").read_text(), "x")

    def test_files_of_others_in_a_build_folder_are_not_deleted(self) -> None:
        (self.target / "notes.txt").write_text("mine")
        with self.assertRaisesRegex(fa.DataError, "holds files that are not of the build: notes.txt"):
            self.old.save(self.target, replace=True)
        self.assertEqual((self.target / "notes.txt").read_text(), "mine")

    def test_a_write_protected_build_is_replaced(self) -> None:
        for path in self.target.iterdir():
            path.chmod(0o444)
        self.target.chmod(0o555)
        plan({"p": "price"}).build(huts(250, seed=52)).save(self.target, replace=True)
        self.assertEqual(fa.open_design(self.target).names, ["intercept", "p"])
        self.assertEqual(self.left(), ["build"])
