"""How commands end: whatever happens, with a status that says what it was, and without a traceback."""

from __future__ import annotations

import json
import os
import resource
import signal
import subprocess
import sys
import unittest.mock
from pathlib import Path
from typing import Any

import facturum as fa
from facturum.cli import main as cli
from tests.support import ROOT, SAMPLE, Folder, command, huts

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

        with unittest.mock.patch("facturum.tables.profile", broken):
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
            with unittest.mock.patch("facturum.tables.profile_of", side_effect=problem):
                found = command("profile", SAMPLE / "huts.csv")
            self.assertEqual(found.returncode, 2, found.stderr)
            self.assertIn(said, found.stderr)
        with unittest.mock.patch("facturum.plan.build", side_effect=RecursionError), self.assertRaises(fa.PlanError):
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
