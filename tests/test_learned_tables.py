"""What was learned has no size that building allows and using refuses: long tables lie beside the plan."""

from __future__ import annotations

import subprocess
import sys
import unittest
from typing import Any, ClassVar

import numpy as np

import facturum as fa
from facturum.language.syntax.parser import parse
from facturum.language.tree.stored import read_literal, stored_literal
from tests.support import ROOT, Folder

GROUPS = 1_560


def grouped(seed: int) -> dict[str, Any]:
    dice = np.random.default_rng(seed)
    rows = 2 * GROUPS
    code = np.arange(rows) % GROUPS
    return {
        "g": [f"a group with the long number {v}" for v in code], "k": code.tolist(),
        "x": dice.normal(size=rows).tolist(), "y": dice.normal(size=rows).tolist(),
        "c": [f"kind {v}" if v % 3 else "common" for v in code],
    }  # fmt: skip


class Beside(Folder):
    TERMS: ClassVar = {
        "w": "within(x, by=[g])", "two": "mean(x, by=[g, k])",
        "i": "impute(missing_if(x, x > 100), 'median', by=[k])",
        "c": "category(c, pool=4, limit=9000)", "o": "codes(g, limit=10000)",
    }  # fmt: skip

    def setUp(self) -> None:
        super().setUp()
        self.table = grouped(1)
        self.made = fa.Plan("y", self.TERMS).build(self.table)
        self.made.save(self.folder / "b")

    def test_builds_are_verified_opened_and_applied_from_another_process(self) -> None:
        plan = (self.folder / "b/plan.resolved.toml").read_text()
        self.assertLess(len(plan), 3_000)
        self.assertEqual(len(list((self.folder / "b").glob("learned-*.parquet"))), 5)
        np.save(self.folder / "x.npy", self.made.X)
        program = (
            "import sys, pickle, numpy as np, facturum as fa\n"
            "from tests.test_learned_tables import grouped\n"
            "folder = sys.argv[1]\n"
            "d = fa.open_design(folder + '/b')\n"
            "new = {k: v[:50] for k, v in grouped(1).items()}\n"
            "X = np.load(folder + '/x.npy')[:50]\n"
            "assert d.verify(grouped(1)).ok\n"
            "assert (d.plan.build(new).X == X).all()\n"
            "assert (fa.Plan.load(folder + '/b/plan.resolved.toml').build(new).X == X).all()\n"
            "d.plan.save(folder + '/copy.toml')\n"
            "assert (pickle.loads(pickle.dumps(d.plan)).build(new).X == X).all()\n"
            "print('fine')\n"
        )
        done = subprocess.run(
            [sys.executable, "-W", "ignore", "-c", program, str(self.folder)],
            capture_output=True, text=True, cwd=ROOT, check=False,
        )  # fmt: skip
        self.assertEqual(done.stdout, "fine\n", done.stderr)
        again = fa.Plan.load(self.folder / "copy.toml")
        self.assertEqual(again, fa.open_design(self.folder / "b").plan)
        streamed = fa.Plan("y", self.TERMS).build_into(self.folder / "s", self.table)
        self.assertTrue(streamed.verify(self.table).ok)
        names = sorted(path.name for path in (self.folder / "s").iterdir())
        self.assertEqual(names, sorted(path.name for path in (self.folder / "b").iterdir()))

    def test_a_table_that_is_gone_or_another_is_refused(self) -> None:
        first, second, *_ = sorted((self.folder / "b").glob("learned-*.parquet"))
        whole = first.read_bytes()
        first.write_bytes(second.read_bytes())
        with self.assertRaisesRegex(fa.AuditError, first.name):
            fa.open_design(self.folder / "b")
        verification = fa.open_design(self.folder / "b", check=False)
        self.assertIn(first.name, str(verification.verify(self.table)))
        # a process that has not learned the tables reads them from their files alone
        program = "import sys, facturum as fa; fa.Plan.load(sys.argv[1])"
        for content, said in ((second.read_bytes(), "not the one that was learned"), (None, "cannot be read")):
            first.unlink() if content is None else first.write_bytes(content)
            done = subprocess.run(
                [sys.executable, "-c", program, str(self.folder / "b/plan.resolved.toml")],
                capture_output=True, text=True, cwd=ROOT, check=False,
            )  # fmt: skip
            self.assertIn(said, done.stderr)
        first.write_bytes(whole)
        self.assertTrue(fa.open_design(self.folder / "b").verify(self.table).ok)

    def test_a_replaced_build_leaves_no_tables_behind(self) -> None:
        fa.Plan("y", {"x": "x"}).build(self.table).save(self.folder / "b", replace=True)
        self.assertEqual(list((self.folder / "b").glob("learned-*")), [])

    def test_literals_of_all_kinds_come_back_from_their_tables(self) -> None:
        from facturum.language.tree.options import MISSING

        literals = [
            (tuple((f"k{at}", float(at) / 3) for at in range(2000)), True),
            (tuple(((f"k{at}", at), MISSING if at % 7 else 0.1 * at) for at in range(2000)), True),
            (tuple(((at if at % 2 else f"{at}"), at) for at in range(2000)), True),
            (tuple(at if at % 5 else MISSING for at in range(2000)), False),
            (tuple(bool(at % 2) for at in range(2000)), False),
            (tuple(2**60 + at for at in range(2000)), False),
        ]
        for value, mapping in literals:
            made = stored_literal(value, mapping)
            again = read_literal(made.table)
            self.assertEqual((again.value, again.digest), (value, made.digest))
            self.assertEqual([type(v) for v in again.value], [type(v) for v in value])
        with self.assertRaisesRegex(fa.PlanError, "not at hand"):
            parse("within(x, by=[g], effects=stored('000000000000000000000000'))", True)


if __name__ == "__main__":
    unittest.main()
