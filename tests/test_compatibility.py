"""Builds of every version before this one open, verify, compare and apply; and this one's will by the next."""

from __future__ import annotations

import copy
import json
import os
import pickle
import shutil
import subprocess
import sys
import unittest
from concurrent.futures import ProcessPoolExecutor
from unittest.mock import patch

import numpy as np

import facturum as fa
from facturum.errors import FailedRows
from facturum.version import VERSION
from tests.support import ROOT, Folder

FIXTURES = ROOT / "tests" / "fixtures"
FORMS = ("parquet", "csv", "npy", "npz", "parts")


class OlderBuilds(Folder):
    def test_builds_of_every_version_open_verify_compare_and_apply(self) -> None:
        versions = sorted(path.name for path in FIXTURES.iterdir())
        self.assertIn("0.1.0", versions)
        for version in versions:
            source = FIXTURES / version / "huts.csv"
            fresh = fa.Plan.load(FIXTURES / version / "plan.toml").build(source)
            for form in FORMS:
                with self.subTest(version=version, form=form):
                    design = fa.open_design(FIXTURES / version / form)
                    outcome = design.verify(source)
                    self.assertTrue(outcome.ok, str(outcome))
                    self.assertEqual(bool(outcome.notes), version != VERSION)
                    if version != VERSION:
                        self.assertIn(f"Facturum {version} made the build and this is {VERSION}", str(outcome))
                    again = fa.Plan.load(FIXTURES / version / form / "plan.resolved.toml").build(source)
                    X = design.to_sparse().toarray()  # noqa: N806 - the field's standard name
                    np.testing.assert_array_equal(again.X, X)
                    if form != "npy":
                        self.assertNotIn("cells differ", str(fa.compare(design, fresh)))
                    design.trial()

    def test_the_names_of_responses_with_spaces_are_kept(self) -> None:
        """Version 0.1 had `variable_` in the name of a response `variable('..')`."""
        table = {"Umsatz netto": np.arange(9.0) ** 1.5, "x": np.arange(9.0) % 4}
        plan = fa.Plan("variable('Umsatz netto')", {"x": "x"})
        with patch("facturum.engine.passes.build.in_words", str):
            plan.build(table).save(self.folder / "b")
            plan.build_into(self.folder / "parts", table)
        for name in ("b", "parts"):
            old = fa.open_design(self.folder / name)
            self.assertEqual(old.response_names, ["variable_umsatz_netto"])
            self.assertTrue(old.verify(table).ok, str(old.verify(table)))
            with patch("facturum.api.verifying._is_large", lambda *_: True):
                self.assertTrue(old.verify(table).ok)
            self.assertEqual(old.plan.build(table).response_names, old.response_names)
        self.assertEqual(plan.build(table).response_names, ["umsatz_netto"])

    def test_changes_of_older_builds_are_found_all_the_same(self) -> None:
        old = FIXTURES / "0.1.0"
        table = (old / "huts.csv").read_text().splitlines()
        cells = table[40].split(",")
        table[40] = ",".join([*cells[:2], str(int(cells[2]) + 1), *cells[3:]])
        (self.folder / "t.csv").write_text("\n".join(table) + "\n")
        self.assertIn("The cell of stays in row 40", str(fa.open_design(old / "parquet").verify(self.folder / "t.csv")))
        shutil.copytree(old / "parquet", self.folder / "b")
        content = json.loads((self.folder / "b/columns.json").read_text())
        content["columns"][1]["formula"] += " + 0"
        (self.folder / "b/columns.json").write_text(json.dumps(content))
        with self.assertRaisesRegex(fa.AuditError, "columns.json"):
            fa.open_design(self.folder / "b")

    def test_a_version_with_one_field_one_check_and_one_sentence_more_reads_all_fixtures(self) -> None:
        """A copy of the code is changed as the next release may be, and looks at builds of all versions."""
        shutil.copytree(
            ROOT / "src/facturum", self.folder / "src/facturum", ignore=shutil.ignore_patterns("__pycache__")
        )
        changes = {
            "version.py": (f'"{VERSION}"', '"9.9.9"'),
            "audit/map/entries.py": (
                "    role: ",
                '    sensitivity: str | None = Field(None, description="a field of a later version")\n    role: ',
            ),
            "engine/planning/sections/check_list.py": (
                "CHECKS = (\n",
                'CHECKS = (\n    Check("freshness", "old sources", "the source is new"),\n',
            ),
            "audit/map/column_map.py": ('"Response."', '"The response of the regression."'),
        }  # fmt: skip
        for name, (old, new) in changes.items():
            path = self.folder / "src/facturum" / name
            text = path.read_text()
            self.assertIn(old, text, name)
            path.write_text(text.replace(old, new, 1))
        fa.Plan.load(FIXTURES / "0.1.0/plan.toml").build(FIXTURES / "0.1.0/huts.csv").save(self.folder / "now")
        program = (
            "import sys, facturum as fa\n"
            "from pathlib import Path\n"
            "from facturum.version import VERSION\n"
            "assert VERSION == '9.9.9', VERSION\n"
            "fixtures, now = Path(sys.argv[1]), Path(sys.argv[2])\n"
            "builds = [(v / form, v / 'huts.csv') for v in fixtures.iterdir() for form in sys.argv[3:]]\n"
            "for folder, source in [*builds, (now, fixtures / '0.1.0/huts.csv')]:\n"
            "    outcome = fa.open_design(folder).verify(source)\n"
            "    assert outcome.ok and outcome.notes, (folder, str(outcome))\n"
            "print(len(builds))\n"
        )
        done = subprocess.run(
            [sys.executable, "-W", "ignore", "-c", program, str(FIXTURES), str(self.folder / "now"), *FORMS],
            capture_output=True, text=True, check=False, cwd=self.folder,
            env={**os.environ, "PYTHONPATH": str(self.folder / "src")},
        )  # fmt: skip
        self.assertEqual(done.stdout.strip(), str(5 * len(list(FIXTURES.iterdir()))), done.stderr)

    def test_the_fixtures_of_a_release_are_there_once_it_is_made(self) -> None:
        notes = (ROOT / "CHANGELOG.md").read_text()
        for line in notes.splitlines():
            if line.startswith("## ") and line.split()[1][0].isdigit():
                self.assertTrue((FIXTURES / line.split()[1]).is_dir(), line)


def failing(number: int) -> int:
    """Build a plan that fails, as work of a process pool does."""
    fa.Plan("y", {"x": "log(x)"}).build({"y": [1.0, 2, 3], "x": [1.0, -1, float(number)]})
    return number


class Errors(unittest.TestCase):
    def test_errors_are_pickled_copied_and_come_back_from_a_process_pool(self) -> None:
        caught: list[fa.FacturumError] = []
        for work in (
            lambda: failing(-3),
            lambda: fa.Plan("y", {"x": "lg(x)"}).build({"y": [1], "x": [1]}),
            lambda: fa.open_design("nowhere"),
            lambda: (
                fa.Plan("y", {"x": "x", "z": "x"}, checks={"duplicate": "error"})
                .build({"y": [1, 2, 3], "x": [1, 5, 3]})
                .columns
            ),
        ):
            with self.assertRaises(fa.FacturumError) as one:
                work()
            caught.append(one.exception)
        self.assertEqual({type(error) for error in caught}, {FailedRows, fa.PlanError, fa.AuditError, fa.ChecksFailed})
        for error in caught:
            for again in (pickle.loads(pickle.dumps(error)), copy.copy(error), copy.deepcopy(error)):
                self.assertEqual((str(again), type(again), again.rows, again.count),
                                 (str(error), type(error), error.rows, error.count))  # fmt: skip
            self.assertNotIn("Prepared", repr(list(vars(error).values())))
        with ProcessPoolExecutor(1) as pool:
            futures = [pool.submit(failing, number) for number in (-1, 5)]
            for future in futures:
                with self.assertRaisesRegex(fa.DataError, "Row"):
                    future.result()


class Documentation(unittest.TestCase):
    def test_the_public_interface_that_the_page_lists_is_what_there_is(self) -> None:
        page = (ROOT / "docs/compatibility.md").read_text()
        for name in fa.__all__:
            self.assertIn(f"`{name}`", page)


if __name__ == "__main__":
    unittest.main()
