"""The command line, the sample, the examples, the documentation: as a new user meets them."""

from __future__ import annotations

import csv
import doctest
import importlib
import json
import pkgutil
import re
import subprocess
import sys
import tomllib
import unittest
from typing import Any
from unittest.mock import patch

import numpy as np

import facturum
import facturum as fa
from facturum.data.values import Values
from facturum.demo.generate import write_samples
from facturum.files.scans.tables import write_table
from facturum.language.families import REGISTRY
from facturum.language.operations.numbers.transforms import Elementwise
from facturum.language.operations.times.along import Carried
from facturum.language.reference import reference
from facturum.language.tree.nodes import Node
from facturum.language.tree.options import argument
from facturum.language.tree.registry import operation
from facturum.show.terminal import views
from tests.support import PANEL_DATA, ROOT, SAMPLE, Folder, built, column_by_formula, command, panel, process
from tools.interface import interface

# runs a script as where pandas, which the package itself does not need, is not installed
WITHOUT_PANDAS = """
import runpy, sys
class Absent:
    def find_spec(name, path=None, target=None):
        if name == "pandas":
            raise ModuleNotFoundError(name)
sys.meta_path.insert(0, Absent)
runpy.run_path(sys.argv[1], run_name="__main__")
"""


class Commands(Folder):
    def setUp(self) -> None:
        super().setUp()
        self.plan = SAMPLE / "huts.toml"
        self.data = SAMPLE / "huts.csv"
        self.out = self.folder / "build"

    def test_the_whole_way(self) -> None:
        built = command("build", self.plan, self.data, "--out", self.out)
        self.assertEqual((built.returncode, built.stderr), (0, ""))
        for said in (
            "1,886 of 2,400 rows kept",
            "295 left out: [rows] keep is false",
            "access_cable_car",
            "log(price)",
        ):
            self.assertIn(said, built.stdout)
        explained = command("explain", self.out, "slope", "beds")
        for said in (
            "slope_road",
            "(access == 'road') * log(price)",
            "reference category: slope trail",
            "With beds 1 % higher",
        ):
            self.assertIn(said, explained.stdout)
        self.assertEqual(command("verify", self.out, self.data).returncode, 0)
        cells = self.data.read_text("utf-8").splitlines()
        changed = cells[5].replace(",2250,", ",2251,")
        self.assertNotEqual(changed, cells[5])
        (self.folder / "changed.csv").write_text("\n".join([*cells[:5], changed, *cells[6:], ""]), "utf-8")
        failed = command("verify", self.out, self.folder / "changed.csv")
        self.assertEqual((failed.returncode, failed.stderr), (1, ""))
        self.assertIn("The cell of altitude in row 5 has changed since the build.", failed.stdout)
        again = command(
            "build", self.out / "plan.resolved.toml", self.data, "--out", self.folder / "again", "--threads", "1"
        )
        self.assertEqual(again.returncode, 0)
        one, two = fa.open_design(self.out), fa.open_design(self.folder / "again")
        self.assertEqual(one.X.tobytes("F"), two.X.tobytes("F"))

    def test_output_for_programs(self) -> None:
        built = json.loads(
            command("build", self.plan, self.data, "--out", self.out, "--json", "--format", "csv").stdout
        )
        self.assertEqual(built["rows"]["kept"], 1886)
        self.assertEqual(built["columns"][:2], ["intercept", "access_cable_car"])
        explained = json.loads(command("explain", self.out, "price", "--json").stdout)
        self.assertEqual([entry["formula"] for entry in explained], ["log(price)"])
        everything = json.loads(command("explain", self.out, "--json").stdout)
        self.assertEqual(len(everything["columns"]), 20)
        self.assertGreaterEqual(set(everything["fingerprints"]["data"]), {"price", "open", "month", "hut_code"})
        outcome = json.loads(command("verify", self.out, self.data, "--json").stdout)
        self.assertEqual(outcome, {"ok": True, "exact": True, "steps": 0, "failures": [], "seal": outcome["seal"]})

    def test_a_term_of_many_columns_is_shown_in_brief_and_explained_in_full(self) -> None:
        plan = self.folder / "many.toml"
        plan.write_text('response = "stays"\n[terms]\nhut = "category(hut)"\nbeds = "beds"\n', "utf-8")
        brief = command("build", plan, self.data, "--out", self.out).stdout
        full = command("explain", self.out).stdout
        names = fa.open_design(self.out).names
        huts = [entry.formula.split("'")[1] for entry in fa.open_design(self.out).columns.find("hut")]
        for shown in (brief, full):
            self.assertIn(f"1–39   {names[1]} .. {names[39]} (39 columns)   hut == '..'", shown)
        self.assertIn("and 27 more (each)", " ".join(brief.split()))
        listed = " ".join("".join(line[90:] for line in full.splitlines()).split())
        self.assertEqual([hut for hut in huts if hut not in listed.replace(" ", "")], [])
        self.assertIn(f"{names[20]} ─", command("explain", self.out, names[20]).stdout)
        self.assertLess(len(command("explain", self.out, "hut").stdout.splitlines()), 40)

    def test_mistakes_exit_with_two_and_leave_no_folder(self) -> None:
        broken = self.folder / "broken.toml"
        text = self.plan.read_text("utf-8")
        for change, said in (
            (("log(beds)", "log(bads)"), "terms.beds: variable 'bads' not found; did you mean 'beds'?"),
            (("reference='trail')\"\n", "reference='tral')\"\n"), "did you mean 'trail'?"),
            (("learn ", "lern "), "did you mean 'learn'?"),
            (("[rows]", "[rows"), "is not valid TOML"),
            (("open == 'yes'", "price > 9000"), "no row is left"),
        ):
            broken.write_text(text.replace(*change, 1), "utf-8")
            found = command("build", broken, self.data, "--out", self.out)
            with self.subTest(said):
                self.assertEqual((found.returncode, found.stdout), (2, ""))
                self.assertTrue(found.stderr.startswith("error: "), found.stderr)
                self.assertIn(said, found.stderr)
                self.assertNotIn("Traceback", found.stderr)
                self.assertEqual([path.name for path in self.folder.iterdir()], ["broken.toml"])
        for words, said in (
            (("build", self.plan, "none.csv", "--out", self.out), "the file none.csv is not found"),
            (("build", self.plan, self.data), "Missing option '--out'"),
            (("build", self.plan, self.data, "--out", self.folder), "already exists"),
            (("explain", self.folder), "not a Facturum build"),
            (("bild",), "No such command"),
        ):
            found = command(*words)
            self.assertEqual(found.returncode, 2)
            self.assertIn(said, found.stderr)
        self.assertFalse(self.out.exists())

    def test_an_unknown_column_is_answered_with_the_nearest(self) -> None:
        command("build", self.plan, self.data, "--out", self.out)
        found = command("explain", self.out, "slope_rod")
        self.assertEqual(found.returncode, 2)
        self.assertIn("did you mean 'slope_road'?", found.stderr)

    def test_the_demo_lays_out_builds_and_keeps_what_is_the_users(self) -> None:
        found = command("demo", "--out", "d", cwd=self.folder)
        self.assertEqual((found.returncode, found.stderr), (0, ""))
        self.assertIn("What explains the overnight stays", found.stdout)
        self.assertIn("facturum verify d/build d/huts.csv", found.stdout)
        path = self.folder / "d/huts.csv"
        lines = path.read_text("utf-8").splitlines()
        lines[1] = lines[1].replace(",62", ",63")
        path.write_text("\n".join(lines) + "\n", "utf-8")
        verified = command("verify", "d/build", "d/huts.csv", cwd=self.folder)
        self.assertEqual(verified.returncode, 1)
        self.assertIn("The cell of stays in row 1 has changed", verified.stdout)
        again = command("demo", "--out", "d", cwd=self.folder)
        self.assertIn("huts.csv in d differ from the sample and were left as they are", again.stdout)
        self.assertEqual(path.read_text("utf-8").splitlines(), lines)

    def test_help_is_worth_reading_and_quick(self) -> None:
        program = "import sys\nsys.argv = ['facturum', '--help']\nfrom facturum.cli.main import run\nrun()"
        found = subprocess.run(
            [sys.executable, "-X", "importtime", "-c", program], capture_output=True, text=True, check=True
        )
        self.assertIn("facturum build plan.toml data.csv", found.stdout)
        modules = {line.rpartition("|")[2].strip().partition(".")[0] for line in found.stderr.splitlines()}
        self.assertIn("click", modules)
        self.assertEqual(modules & {"pandas", "scipy", "matplotlib", "numpy", "pyarrow", "pydantic"}, set())
        for name in ("build", "explain", "verify", "demo", "completion"):
            self.assertIn(name, found.stdout)
            self.assertGreater(len(command(name, "--help").stdout.splitlines()), 5)

    def test_the_operations_are_listed_and_told(self) -> None:
        shown = command("operations", COLUMNS="70").stdout
        self.assertLessEqual(max(map(len, shown.splitlines())), 70)
        self.assertLessEqual(set(REGISTRY), set(shown.split()))
        one = command("operations", "lag", "impute").stdout
        for text in ("lag(x, k)", "how many periods before", "the longest run that is imputed"):
            self.assertIn(text, one)
        unknown = command("operations", "lagg")
        self.assertEqual((unknown.returncode, "did you mean 'lag'" in unknown.stderr), (2, True))

    def test_a_table_is_sampled_stacked_and_converted_into_a_file(self) -> None:
        def read(name: str) -> dict[str, list[Any]]:
            found: dict[str, list[Any]] = fa.read(self.folder / name).to_arrow().to_pydict()
            return found

        place, huts_csv = self.folder / "t.csv", SAMPLE / "huts.csv"
        sizes = ("--size", "learn=0.7", "--size", "check=600", "--seed", 3)
        self.assertEqual(command("sample", huts_csv, *sizes, "--out", place).returncode, 0)
        drawn = fa.sample(huts_csv, {"learn": 0.7, "check": 600}, seed=3)
        for name, part in drawn.items():
            self.assertEqual(read(f"t-{name}.csv"), part.to_arrow().to_pydict())
        wide = {"g": ["a", "b"], "q_1": [1, None], "q_2": [5, 2], "day": ["2023-01-01", "2023-02-01"]}
        write_table(fa.Table.of(wide), place)
        for form in (".csv", ".tsv", ".parquet", ".arrow"):
            long, back = self.folder / f"long{form}", self.folder / f"back{form}"
            told = command("stack", place, "--into", "a=q_1,q_2", "--which", "item", "--out", long)
            self.assertEqual(told.stdout, f"written to {long}: 4 rows and 5 variables\n", told.stderr)
            self.assertEqual(read(long.name)["a"], [1, 5, None, 2])
            words = ("--value", "a", "--which", "item", "--by", "g", "--by", "day")
            self.assertEqual(command("unstack", long, *words, "--out", back).returncode, 0)
            self.assertEqual({name: read(back.name)[name] for name in wide}, read("t.csv"))
        clock = ("--time", "month", "--every", "month", "--to", "year", "--panel", "hut")
        take = ("--take", "s=sum,of=stays,partial=keep")
        self.assertEqual(command("convert", huts_csv, *clock, *take, "--out", self.folder / "y.csv").returncode, 0)
        sums: dict[Any, float] = {}
        for row in fa.read(huts_csv).to_arrow().to_pylist():
            key = (row["hut"], row["month"][:4])
            sums[key] = sums.get(key, 0) + (row["stays"] or 0)
        found = read("y.csv")
        keys = zip(found["hut"], (f"{day:%Y}" for day in found["month"]), strict=True)
        self.assertEqual(dict(zip(keys, found["s"], strict=True)), sums)
        for wrong, said in (
            (("sample", huts_csv, "--size", "x", "--seed", 1, "--out", self.folder / "z.csv"), "not a number of rows"),
            (("sample", huts_csv, "--size", "../a=1", "--seed", 1, "--out", self.folder / "z.csv"), "a valid name"),
            (
                ("sample", huts_csv, "--size", "9", "--seed", 1, "--out", self.folder / "z.xls"),
                "its ending is not supported",
            ),
            (
                ("stack", place, "--into", "a", "--which", "w", "--out", self.folder / "z.csv"),
                "not of the form NAME=VALUE",
            ),
            (("stack", place, "--into", "a=q_1", "--which", "w", "--out", place), "already exists"),
            (
                ("convert", huts_csv, *clock, *take[:1], "stays=sum,partal=keep", "--out", self.folder / "z.csv"),
                "convert.take.stays.partal: [convert.take.stays] does not have this key; did you mean 'partial'?",
            ),
        ):
            outcome = command(*wrong)  # type: ignore[arg-type]
            self.assertEqual(outcome.returncode, 2)
            self.assertIn(said, " ".join(outcome.stderr.split()))
        self.assertFalse(list(self.folder.glob("z*")))

    def test_completion_offers_commands_and_options(self) -> None:
        script = command("completion", "bash").stdout
        self.assertIn("_FACTURUM_COMPLETE", script)
        offered = process(_FACTURUM_COMPLETE="bash_complete", COMP_WORDS="facturum ve", COMP_CWORD="1").stdout
        self.assertIn("verify", offered)

    def test_a_hostile_name_does_not_reach_the_terminal(self) -> None:
        table = self.folder / "t.csv"
        with table.open("w", newline="") as handle:
            csv.writer(handle).writerows([["w", "y"], *[[label, 1] for label in ("a\x1b[31m", "b[bold]") * 3]])
        (self.folder / "p.toml").write_text('response = "y"\n[terms]\nw = "category(w, coding=\'every\')"\n')
        found = command("build", self.folder / "p.toml", table, "--out", self.out)
        self.assertEqual(found.returncode, 0, found.stderr)
        self.assertNotIn("\x1b[31m", found.stdout)
        self.assertIn("b[bold]", found.stdout)
        self.assertEqual(views.safe("a\x1b[2J\x07").plain, "a\\x1b[2J\\x07")


class Sample(Folder):
    def test_the_generator_makes_the_files_that_ship(self) -> None:
        write_samples(self.folder)
        for name in ("huts.csv", "survey.csv", "energy.csv", "weather.csv"):
            self.assertEqual((self.folder / name).read_bytes(), (SAMPLE / name).read_bytes(), name)

    def test_the_sample_is_what_later_work_needs(self) -> None:
        tables = {name: fa.read(SAMPLE / f"{name}.csv") for name in ("huts", "survey", "energy", "weather")}
        self.assertEqual(len(tables["huts"]), 2400)
        self.assertEqual(tables["huts"]["hut_code"].labels[:2], ("00100", "00101"))
        self.assertGreater(tables["huts"]["snow_depth"].missing_rows().mean(), 0.05)
        self.assertEqual((len(tables["energy"]), len(tables["weather"])), (20, 4 * 1826))
        answers = {item: tables["survey"][f"q_{item}"].at(0, 1200) for item in range(1, 6)}
        both = answers[1].valid & answers[3].valid
        self.assertLess(np.corrcoef(answers[1].data[both], answers[3].data[both])[0, 1], -0.3)

    def test_the_plan_finds_the_effects_that_were_put_in(self) -> None:
        plan = fa.Plan.load(SAMPLE / "huts.toml").spec
        terms = {
            "hut": "hut",
            "month": "regroup(month_text, {'summer': ['07', '08', '09']}, rest='other')",
            "price": "log(price)",
        }
        with (SAMPLE / "huts.csv").open(newline="") as handle:
            rows = [
                row for row in csv.DictReader(handle) if row["open"] == "yes" and row["stays"] and row["price"] != "NA"
            ]
        table = {
            "hut": [row["hut"] for row in rows],
            "month_text": [row["month"][5:] for row in rows],
            "price": [float(row["price"]) for row in rows],
            "stays": [float(row["stays"]) for row in rows],
        }
        made = fa.Plan(plan.response, terms).build(table)
        b = dict(zip(made.names, np.linalg.lstsq(made.X, made.y, rcond=None)[0], strict=True))
        self.assertLess(b["price"], -0.3)
        self.assertGreater(b["month_summer"], 0.3)


class Examples(Folder):
    def test_every_example_runs(self) -> None:
        examples = sorted((ROOT / "examples").glob("*.py"))
        self.assertGreaterEqual(len(examples), 2)
        for path in examples:
            found = subprocess.run(
                [sys.executable, "-c", WITHOUT_PANDAS, str(path)],
                capture_output=True,
                text=True,
                cwd=self.folder,
                check=False,
            )
            said = [line for line in found.stderr.splitlines() if line[0] != " " and "FacturumWarning" not in line]
            self.assertEqual((found.returncode, said), (0, []), path)
        self.assertIn("columns as before: True - y: None", found.stdout)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_the_commands_of_the_readme_work(self) -> None:
        text = (ROOT / "README.md").read_text("utf-8")
        self.assertEqual(command("demo", "--out", self.folder).returncode, 0)
        for name, block in re.findall(r"```\w+ ([\w.]+)\n(.*?)```", text, re.S):
            (self.folder / name).write_text(block, "utf-8")
        lines = [line for block in re.findall(r"```console\n(.*?)```", text, re.S) for line in block.splitlines()]
        ran = [line.removeprefix("$ facturum ").split() for line in lines if line.startswith("$ facturum ")]
        self.assertGreaterEqual(len(ran), 3)
        for words in ran:
            self.assertEqual(command(*words, cwd=self.folder).returncode, 0, words)
        for block in re.findall(r"```python\n(.*?)```", text, re.S):
            subprocess.run([sys.executable, "-c", block], cwd=self.folder, check=True, capture_output=True)
        shown = text[text.index("| source_row |") :].partition("\n\n")[0].splitlines()
        cells = [[cell.strip() for cell in line.strip("|").split("|")] for line in (shown[0], *shown[2:])]
        with (self.folder / "small/design.csv").open(newline="") as handle:
            self.assertEqual(cells, list(csv.reader(handle)))
        for block in re.findall(r"```toml\n(.*?)```", text, re.S):
            tomllib.loads(block)
        for link in re.findall(r"\]\(((?:docs|examples|src)[^)#]*)", text):
            self.assertTrue((ROOT / link).exists(), link)

    def test_what_is_generated_is_up_to_date(self) -> None:
        found = subprocess.run(
            [sys.executable, "tools/generate.py", "--check"], cwd=ROOT, capture_output=True, text=True, check=False
        )
        self.assertEqual((found.returncode, found.stdout), (0, ""))
        self.assertEqual((ROOT / "docs/language.md").read_text("utf-8"), reference())


class Amending(Folder):
    def test_a_remedy_is_taken_and_comments_are_kept(self) -> None:
        plan, data, out = (self.folder / name for name in ("p.toml", "d.csv", "better.toml"))
        plan.write_text("response = 'y'\n[terms]\nx = 'x'  # metres\nsq = 'x ** 2'\n", encoding="utf-8")
        rows = [f"{at + 50},{at * 3 % 7}" for at in range(60)]
        data.write_text("x,y\n" + "\n".join(rows), encoding="utf-8")
        self.assertIn("1  variances", command("amend", plan, data).stdout)
        command("amend", plan, data, "--take", "1", "--out", out)
        self.assertEqual(
            out.read_text(encoding="utf-8"),
            "response = 'y'\n[terms]\nx = \"polynomial(x, 2, center=True)\"  # metres\n",
        )
        before, after = (fa.Plan.load(path).build(data) for path in (plan, out))
        self.assertEqual([f.check for f in after.columns.findings], [])
        self.assertAlmostEqual(before.trial().sigma, after.trial().sigma, places=9)
        for take, said in (("2", "proposes 1 remedy"), ("x", "names no remedy x")):
            ended = command("amend", plan, data, "--take", take, "--out", self.folder / "other.toml")
            self.assertEqual(ended.returncode, 2)
            self.assertIn(said, ended.stderr)
            self.assertFalse((self.folder / "other.toml").exists())


class Documentation(unittest.TestCase):
    def test_every_example_in_a_docstring_is_true(self) -> None:
        tried = 0
        for module in pkgutil.walk_packages(facturum.__path__, "facturum."):
            found = importlib.import_module(module.name)
            outcome = doctest.testmod(found, optionflags=doctest.ELLIPSIS, extraglobs={"np": np})
            self.assertEqual(outcome.failed, 0, module.name)
            tried += outcome.attempted
        self.assertEqual(doctest.testmod(facturum).failed, 0)
        self.assertGreater(tried, 60)

    def test_the_public_interface_is_the_one_that_is_listed(self) -> None:
        listed = (ROOT / "tests/interface.txt").read_text("utf-8").splitlines()
        self.assertEqual(interface(), listed, "tell of it in CHANGELOG.md, then run python tools/interface.py --write")

    def test_the_map_of_the_code_shows_every_room_and_no_file_that_is_not_there(self) -> None:
        page, package = (ROOT / "docs/architecture.md").read_text("utf-8"), ROOT / "src/facturum"
        rooms = {str(path.parent.relative_to(package)) for path in package.rglob("__init__.py")} - {"."}
        self.assertEqual(set(re.findall(r"^\| `([\w/]+)/` \|", page, re.MULTILINE)), rooms)
        for name in set(re.findall(r"`((?:[a-z_]+/)+[a-z_]+\.py)`", page)):
            self.assertTrue(any(path.exists() for path in (package / name, ROOT / name)), name)

    def test_public_things_are_documented(self) -> None:
        for name in facturum.__all__:
            self.assertGreater(len((getattr(facturum, name).__doc__ or "").strip()), 20, name)
        for made in REGISTRY.values():
            self.assertIn("Example:", made.__doc__ or "", made.name)


class AddingAnOperation(unittest.TestCase):
    def test_a_state_is_carried_over_leaves_gaps_and_shuffled_rows_and_a_failing_row_is_told(self) -> None:
        @operation
        class SumSoFar(Carried):
            """The sum of the values of the unit up to the row's own.

            Example: `sum_so_far(x)`.
            """

            x: Node = argument("a number")

            def carry(self, values: Values, state: Any) -> tuple[Values, Any]:
                sums = np.add.accumulate(np.append(0.0 if state is None else state, values.numbers()))
                return Values(sums[1:], values.valid), sums[-1]

        self.addCleanup(REGISTRY.pop, "sum_so_far")
        table = panel(seed=5, units=5, periods=20, missing=0.0)
        order = sorted(range(len(table["hut"])), key=lambda at: (table["hut"][at], table["month"][at]))
        wanted, sums = [0.0] * len(order), dict.fromkeys(table["hut"], 0.0)
        for at in order:
            wanted[at] = sums[table["hut"][at]] = sums[table["hut"][at]] + table["price"][at]
        plan = fa.Plan("stays", {"s": "sum_so_far(price)"}, data=PANEL_DATA)
        for leaf in (1, 3, 65_536):
            with self.subTest(leaf), patch("facturum.engine.blocks.carrying.LEAF", leaf):
                design = plan.build(table)
                self.assertEqual(design.column("s").tolist(), [wanted[row - 1] for row in design.rows.kept])
                self.assertTrue(design.verify(table).exact)
        first = next(at for at in order if table["hut"][at] == "hut 1")
        table["price"][first] = 0.0
        failing = fa.Plan("stays", {"s": "sum_so_far(log(price))"}, data=PANEL_DATA)
        for leaf in (3, 65_536):
            with (
                patch("facturum.engine.blocks.carrying.LEAF", leaf),
                self.assertRaisesRegex(fa.DataError, "log") as told,
            ):
                failing.build(table)
            self.assertEqual(told.exception.rows[:1], (first + 1,))

    def test_one_short_class_is_all_it_takes(self) -> None:
        @operation
        class CubeRoot(Elementwise):
            """The cube root, of either sign.

            Example: `cube_root(x)`.
            """

            x: object = argument("a number")

            def compute(self, x: np.ndarray) -> np.ndarray:
                return np.cbrt(x)

        self.addCleanup(REGISTRY.pop, "cube_root")
        table = {"x": [8.0, -27.0, 1.0, 64.0], "way": ["a", "b", "a", "b"]}
        made = fa.Plan(None, {"r": "cube_root([x, x * 8])", "s": "way * cube_root(x)"}).build(table)
        np.testing.assert_allclose(made.X[:, 1:3], [[2, 4], [-3, -6], [1, 2], [4, 8]])
        self.assertEqual(made.columns["s_b"].formula, "(way == 'b') * cube_root(x)")
        self.assertTrue(made.verify(table).exact)
        self.assertEqual(str(fa.terms.cube_root("x")), "cube_root(x)")  # type: ignore[attr-defined]
        self.assertIn("### `cube_root(x)`", reference())
        again = built(fa.Plan(None, {"r": "cube_root(x)"}), table)
        self.assertEqual(column_by_formula(again, "cube_root(x)").tolist(), made.X[:, 1].tolist())
        with self.assertRaisesRegex(fa.PlanError, "cube_root needs a number"):
            fa.Plan(None, {"r": "cube_root(way)"}).build(table)
