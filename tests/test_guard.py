"""How commands end: whatever happens, with a status that says what it was, and without a traceback."""

from __future__ import annotations

import codecs
import json
import os
import resource
import signal
import subprocess
import sys
import unittest.mock
import warnings
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import polars as pl

import facturum as fa
from facturum.cli import main as cli
from tests.support import ROOT, SAMPLE, Folder, command, huts

START = "from facturum.cli.main import start; start()"
PROGRAM = [sys.executable, "-c", "from facturum.cli.main import run; run()"]


class Ends(Folder):
    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(os.chdir, ROOT)

    def child(self, *words: str | Path, **options: Any) -> subprocess.Popen[str]:
        streams = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE} | options
        return subprocess.Popen([*PROGRAM, *map(str, words)], text=True, cwd=ROOT, **streams)

    def test_a_defect_is_told_in_a_line_and_its_details_are_written(self) -> None:
        def broken(*_: Any) -> None:
            raise ZeroDivisionError("unforeseen\nsecond line")

        with unittest.mock.patch("facturum.api.tables.profile", broken):
            found = command("profile", SAMPLE / "huts.csv", TMPDIR=str(self.folder))
            with unittest.mock.patch.dict("os.environ", FACTURUM_DEBUG="1"):
                shown = command("profile", SAMPLE / "huts.csv")
        self.assertEqual((found.returncode, shown.returncode), (70, 70))
        self.assertEqual(len(found.stderr.splitlines()), 1)
        self.assertIn("This is a defect of Facturum, not of your data: ZeroDivisionError: unforeseen.", found.stderr)
        self.assertNotIn("Traceback", found.stderr + found.stdout)
        details = Path(found.stderr.partition("report ")[2].partition(",")[0])
        self.addCleanup(details.unlink)
        self.assertIn("Traceback", details.read_text())
        self.assertIn("profile", details.read_text())
        self.assertIn("Traceback", shown.stderr)

    def test_what_the_machine_has_no_room_for_is_no_defect(self) -> None:
        for problem, said in (
            (MemoryError(), "not enough memory"),
            (OSError(28, "No space left on device"), "No space"),
        ):
            with unittest.mock.patch("facturum.api.tables.profile_of", side_effect=problem):
                found = command("profile", SAMPLE / "huts.csv")
            self.assertEqual(found.returncode, 2, found.stderr)
            self.assertIn(said, found.stderr)
        with (
            unittest.mock.patch("facturum.api.building.build", side_effect=RecursionError),
            self.assertRaises(fa.PlanError),
        ):
            fa.Plan("y", "x").build({"y": [1, 2], "x": [2, 1]})

    def test_too_little_memory_is_told(self) -> None:
        limit = 2 * 2**30
        program = (
            "import facturum as fa, numpy as np\n"
            "x = np.arange(3_000_000) % 197.0\n"
            "try: fa.Plan(None, {'x': 'category(x, limit=2000)'}).build({'x': x})\n"
            "except fa.DataError as error: print('told', error)"
        )
        found = subprocess.run(
            [sys.executable, "-c", program],
            capture_output=True,
            text=True,
            cwd=ROOT,
            check=False,
            preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_AS, (limit, limit)),
        )
        self.assertEqual((found.returncode, found.stdout[:4]), (0, "told"), found.stderr)

    def test_a_closed_pipe_ends_as_other_programs_do(self) -> None:
        for words in (
            ("profile", SAMPLE / "huts.csv"),
            ("profile", SAMPLE / "huts.csv", "--json"),
            ("completion", "zsh"),
        ):
            reading, writing = os.pipe()
            os.close(reading)
            child = self.child(*words, stdout=writing)
            os.close(writing)
            _, err = child.communicate()
            self.assertEqual((child.returncode, err), (141, ""))

    def shell(self, line: str) -> subprocess.CompletedProcess[str]:
        words = ["bash", "-c", line.replace("facturum", f'"{sys.executable}" -c "{START}"')]
        return subprocess.run(words, text=True, capture_output=True, cwd=self.folder, check=False)

    def test_a_program_that_was_started_without_outputs_does_its_work(self) -> None:
        (self.folder / "d.csv").write_text("y,x\n1,2\n2,4\n3,7\n")
        (self.folder / "p.toml").write_text('response = "y"\n[terms]\nx = "x"\n')
        for at, closed in enumerate((">&-", ">&- 2>&- <&-")):
            done = self.shell(f"facturum build p.toml d.csv --out o{at} {closed}")
            self.assertEqual((done.returncode, done.stdout, done.stderr), (0, "", ""), closed)
            self.assertTrue(fa.open_design(self.folder / f"o{at}").verify(self.folder / "d.csv").ok)
        for n in (11,):
            done = self.shell(f"ulimit -n {n}; facturum build p.toml d.csv --out few --replace --stream")
            if done.returncode:
                self.assertIn("oo many open files", done.stderr)
            self.assertEqual([p.name for p in self.folder.glob(".few*")], [])

    def test_a_line_is_as_wide_as_is_sensible(self) -> None:
        for columns in ("0", "1", "100000000"):
            done = command("operations", COLUMNS=columns)
            self.assertIn("category", done.stdout)
            self.assertLessEqual(max(map(len, done.stdout.splitlines())), 1_000)
            self.assertIn("not found", " ".join(command("profile", "nothere.csv", COLUMNS=columns).stderr.split()))

    def test_an_output_is_a_regular_file_or_what_a_link_leads_to(self) -> None:
        build, link = self.folder / "build", self.folder / "link.html"
        with warnings.catch_warnings(action="ignore"):
            fa.Plan("y", {"x": "x"}).build({"y": [1.0, 2, 4], "x": [2.0, 4, 7]}).save(build)
        link.symlink_to("real.html")
        self.assertEqual(command("report", build, "--out", link).returncode, 0)
        self.assertTrue(link.is_symlink())
        self.assertGreater((self.folder / "real.html").stat().st_size, 10_000)
        os.mkfifo(self.folder / "pipe")
        for place in (self.folder / "pipe", "/dev/null", self.folder):
            done = command("report", build, "--out", place, "--replace")
            self.assertEqual(done.returncode, 2)
            self.assertIn("it is not a regular file", done.stderr)
        self.assertTrue((self.folder / "pipe").is_fifo() and Path("/dev/null").is_char_device())

    def test_a_plan_is_read_as_any_editor_saves_it(self) -> None:
        text = 'response = "y"\n[terms]\nx = "x"  # größer\n'
        for encoding in ("utf-8", "utf-8-sig", "utf-16", "utf-16-be"):
            path = self.folder / "plan.toml"
            path.write_bytes((codecs.BOM_UTF16_BE if encoding == "utf-16-be" else b"") + text.encode(encoding))
            self.assertEqual(fa.Plan.load(path).spec.terms, {"x": "x"}, encoding)
        os.mkfifo(self.folder / "fifo.toml")
        for place, said in (("fifo.toml", "not a regular file"), ("none.toml", "no such file")):
            with self.assertRaisesRegex(fa.PlanError, said):
                fa.Plan.load(self.folder / place)
        for device in ("/dev/zero", "/dev/null"):
            self.assertRaisesRegex(fa.PlanError, "not a regular file", fa.Plan.load, device)
        path.write_bytes(text.encode("latin-1"))
        self.assertRaisesRegex(fa.PlanError, "not text in UTF-8: byte 37", fa.Plan.load, path)

    def test_one_huge_cell_floods_nothing(self) -> None:
        path = self.folder / "huge.csv"
        path.write_text("y,t\n1," + "x" * 3_000_000 + "\n2,b\n3,b\n4,c\n")
        for words in (["profile", path], ["profile", path, "t"], ["profile", path, "--json"]):
            self.assertLess(len(command(*words).stdout), 10_000)
        with self.assertRaisesRegex(fa.DataError, "'t' has a text of 3,000,000 characters") as caught:
            fa.Plan("y", {"t": "t"}).build(path)
        self.assertLess(len(str(caught.exception)), 1_000)

    def test_one_column_is_no_table(self) -> None:
        for given in (pd.Series([1.0, 2.0], name="y"), pl.Series("y", [1.0, 2.0]), np.zeros(3)):
            self.assertRaisesRegex(fa.DataError, "is one column, not a table", fa.Plan("y", {"x": "x"}).build, given)
        codes = pl.Series(["a", "b", "a", "b"], dtype=pl.Categorical)
        with warnings.catch_warnings(action="ignore"):
            self.assertEqual(fa.Plan("y", {"c": "c"}).build({"y": [1.0, 2, 3, 5], "c": codes}).names[1:], ["c_b"])

    def test_signals_leave_nothing_behind_and_say_so(self) -> None:
        (self.folder / "p.toml").write_text('response = "stays"\n[terms]\nprice = "log(price)"\n')
        program = (
            "import signal, sys, time, facturum.files.folder as folder\n"
            "signal.signal(signal.SIGHUP, signal.SIG_DFL)\n"  # which nohup has the tests ignore
            "settle = folder._settle\n"
            "def waiting(file):\n"
            "    settle(file); print('ready', flush=True); time.sleep(36000)\n"
            "folder._settle = waiting\n"
            "from facturum.cli.main import run; run()"
        )
        for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
            words = ["build", self.folder / "p.toml", SAMPLE / "huts.csv", "--out", self.folder / "out"]
            child = subprocess.Popen(
                [sys.executable, "-c", program, *map(str, words)], stdout=-1, stderr=-1, text=True, cwd=ROOT
            )
            assert child.stdout is not None
            self.assertEqual(child.stdout.readline(), "ready\n")
            child.send_signal(number)
            _, err = child.communicate()
            self.assertEqual(child.returncode, 128 + number)
            self.assertRegex(err, r"\Astopped[^\n]*: nothing is left half written\n\Z")
            self.assertEqual([path.name for path in self.folder.iterdir()], ["p.toml"])

    def test_a_signal_after_the_work_is_done_changes_nothing(self) -> None:
        for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
            program = (
                "import os, signal\n"
                "signal.signal(signal.SIGHUP, signal.SIG_DFL)\n"
                "class Last:\n"
                f"    def __del__(self, kill=os.kill, own=os.getpid()): kill(own, {int(number)})\n"
                "last = Last()\n"
                "from facturum.cli.main import run; run()"
            )
            done = subprocess.run(
                [sys.executable, "-c", program, "--version"], capture_output=True, text=True, cwd=ROOT
            )
            self.assertEqual((done.returncode, done.stderr), (0, ""))

    def test_a_terminal_that_lacks_characters_shows_escapes(self) -> None:
        table = self.folder / "t.csv"
        table.write_text("café,y\nnaïve,1\n\x1b[31mred,2\n", encoding="utf-8")
        child = self.child("profile", table, env={**os.environ, "PYTHONIOENCODING": "ascii"})
        out, err = child.communicate()
        self.assertEqual((child.returncode, err), (0, ""))
        self.assertIn("caf\\xe9", out)
        self.assertNotIn("\x1b", out)

    def test_json_holds_no_control_characters(self) -> None:
        table = self.folder / "t.csv"
        names = ["a\x7fb", "c\x9bd", "\u202eabc"]
        table.write_text("\n".join(["v,y", *[f"{name},{at}" for at, name in enumerate(names)]]), encoding="utf-8")
        found = command("profile", table, "--json")
        self.assertTrue(all(char.isprintable() or char == "\n" for char in found.stdout))
        values = json.loads(found.stdout)["variables"][0]["values"]
        self.assertEqual(sorted(value for value, _ in values), sorted(names))

    def test_a_working_folder_that_was_deleted(self) -> None:
        gone = self.folder / "gone"
        for words in (("build", "p.toml", "t.csv", "--out", "out"), ("demo",), ("draft", "t.csv", "--response", "y")):
            gone.mkdir()
            (gone / "p.toml").write_text('response = "y"\n[terms]\nx = "x"\n')
            program = f"import os; os.chdir({str(gone)!r}); os.rmdir({str(gone)!r})\n" + PROGRAM[2]
            (gone / "p.toml").unlink()
            found = subprocess.run([sys.executable, "-c", program, *words], capture_output=True, text=True, check=False)
            self.assertEqual(found.returncode, 2, found.stderr)
            self.assertNotIn("Traceback", found.stderr)

    def test_many_threads_and_processes_give_the_same(self) -> None:
        program = (
            "import sys, multiprocessing as mp\n"
            "from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor\n"
            "from tests.test_guard import digest\n"
            "if __name__ == '__main__':\n"
            "    found = set(ThreadPoolExecutor(6).map(digest, range(12)))\n"
            "    for method in ('fork', 'spawn'):\n"
            "        with ProcessPoolExecutor(2, mp_context=mp.get_context(method)) as pool:\n"
            "            found |= set(pool.map(digest, range(4)))\n"
            "    print(len(found))"
        )
        found = subprocess.run(
            [sys.executable, "-W", "ignore", "-c", program], capture_output=True, text=True, cwd=ROOT, check=False
        )
        self.assertEqual(found.stdout, "1\n", found.stderr)


def digest(number: int) -> bytes:
    """Return the matrix of one plan; the number says how many threads make it."""
    made = fa.Plan(
        "stays", {"a": "access * log(price)", "b": "mean(beds, by=[valley])", "c": "bins(change, quantiles=4)"}
    )
    return made.build(huts(200, seed=4, missing=0), threads=1 + number % 3).X.tobytes()


class Names(unittest.TestCase):
    def test_every_command_has_a_help(self) -> None:
        for name in cli.main.commands:
            found = command(name, "--help")
            self.assertEqual((found.returncode, found.stderr), (0, ""))
            self.assertIn("Usage: facturum", found.stdout)
