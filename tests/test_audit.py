"""The audit: the column map, what its readings promise, and noticing whatever has changed."""

from __future__ import annotations

import csv
import json
import unittest

import numpy as np
from jsonschema import Draft202012Validator

import facturum as fa
from facturum.audit.map.entries import ColumnMap
from facturum.data.table import Table
from facturum.files.builds.csv_files import neutral
from facturum.language.syntax.parser import parse
from tests.support import MIXED_TERMS, ROOT, SAMPLE, VARIABLES, Folder, huts, plan


class Maps(unittest.TestCase):
    def setUp(self) -> None:
        self.table = huts(300, seed=30)
        self.design = plan(MIXED_TERMS, response="log(stays)", data={"time": "month", "carry": ["month"]}).build(
            self.table
        )

    def test_what_the_map_says_of_values_is_so(self) -> None:
        for at, name in enumerate(self.design.names):
            entry, column = self.design.columns[name], self.design.X[:, at]
            self.assertEqual(entry.position, at)
            self.assertEqual((entry.min, entry.max), (column.min(), column.max()), name)
            self.assertAlmostEqual(entry.mean or 0, column.mean(), places=11)
            self.assertAlmostEqual(entry.sd or 0, column.std(ddof=1), places=11)
            self.assertEqual(entry.nonzero, np.count_nonzero(column))
        response = self.design.columns["log_stays"]
        self.assertEqual((response.role, response.position), ("response", None))
        self.assertAlmostEqual(response.mean or 0, self.design.y.mean(), places=11)

    def test_sources_references_and_missing_counts(self) -> None:
        columns = self.design.columns
        self.assertEqual(columns["slope_road"].sources, ["access", "price"])
        self.assertEqual(columns["slope_road"].reference, "boat")
        self.assertEqual(columns["access_boat"].reference, "road")
        self.assertEqual(columns["dear"].sources, ["price", "valley"])
        gaps = {name: [value is None for value in values] for name, values in self.table.items()}
        self.assertEqual(columns["price"].missing, sum(gaps["price"]))
        both = sum(a or b for a, b in zip(gaps["access"], gaps["price"], strict=True))
        self.assertEqual(columns["slope_road"].missing, both)
        self.assertEqual(columns["open"].measure, "indicator")
        self.assertEqual(columns["intercept"].formula, "1")

    def test_rows_are_accounted_for(self) -> None:
        rows, counts = self.design.rows, self.design.columns.rows
        self.assertEqual(sorted([*rows.kept, *rows.dropped]), list(range(1, 301)))
        self.assertEqual(counts.kept, len(rows.kept))
        self.assertEqual(counts.given, 300)
        self.assertEqual(sum(part.rows for part in counts.dropped), len(rows.dropped))
        order = ["access", "price", "beds", "valley", "open", "change"]
        places = ["access", "price", "curve", "valley", "open", "z"]
        for row, cause in zip(rows.dropped, rows.causes, strict=True):
            first = next(at for at, name in enumerate(order) if self.table[name][row - 1] is None)
            self.assertEqual(rows.reasons[cause], ("a value is missing", f"terms.{places[first]}"))

    def test_the_map_fits_its_schema_and_so_does_the_plan(self) -> None:
        schemas = ROOT / "src/facturum/files/schemas"
        for name, content in (
            ("columns.schema.json", self.design._origin.audited.model_dump(mode="json")),
            ("plan.schema.json", self.design.plan.spec.model_dump(mode="json")),
        ):
            schema = json.loads((schemas / name).read_text("utf-8"))
            Draft202012Validator.check_schema(schema)
            validator = Draft202012Validator(schema)
            validator.validate(content)
            self.assertTrue(list(validator.iter_errors({**content, "surplus": 1})))

    def test_formulas_stay_short_however_many_categories_there_are(self) -> None:
        dice = np.random.default_rng(1)
        for count in (5, 300):
            labels = [f"place {at}" for at in range(count)]
            table = {"w": [labels[at] for at in dice.integers(0, count, 5000)], "x": dice.normal(size=5000)}
            made = fa.Plan(
                None,
                {"a": "category(w, coding='helmert')", "b": "x - mean(x, by=[w])", "c": "category(w, pool=2)"},
            ).build(table)
            self.assertLess(max(len(entry.formula) for entry in made.columns.columns), 120)
            known = set(table)
            for definition in made.columns.definitions:
                self.assertNotIn(definition.name, known)
                known.add(definition.name)
            self.assertTrue(made.verify(table).ok)

    def test_rows_groups_and_periods_are_counted(self) -> None:
        table = {
            "x": [1.0, 2.0, 3.0, 4.0, 5.0, None, None],
            "g": ["a", None, "b", "a", "b", "b", "a"],
            "y": [1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0],
            "m": [f"2020-0{at}" for at in range(1, 8)],
        }
        terms = {"x": "impute(x, 'mean', by=[g])", "z": "lag(y, 1)", "w": "log(x)"}
        rows = {"keep": "y != 5"}
        made = fa.Plan("y", terms, data={"time": "m", "every": "month"}, rows=rows).build(table).columns
        self.assertEqual([check.ok for check in made.checks[:2]], [True, True])
        told = [(part.place, part.rows) for part in made.rows.dropped]  # most rows first
        self.assertEqual(told, [("terms.w", 2), ("rows.keep", 1), ("terms.z", 1)])
        self.assertEqual([fill.group for fill in made.imputations[0].fills], ["a", "b", None])
        self.assertEqual([made[name].imputed for name in ("x", "z")], [0, 0])  # all are filled in rows left out
        self.assertNotIn("better left out", " ".join(made.warnings))
        assert made.clock is not None
        self.assertEqual((made.clock.first, made.clock.last, made.clock.gaps), ("2020-01", "2020-07", 0))
        stands = fa.Plan("y", {"z": "lag(y, 1)"}, data={"time": "m", "every": "row"}).build(table).columns.clock
        assert stands is not None
        self.assertEqual((stands.first, stands.last, stands.every), (None, None, "row"))
        plain = fa.Plan(None, {"z": "log(y)"}).build(table).columns
        self.assertEqual((plain.rows.dropped, [check.ok for check in plain.checks]), ([], [True] * len(plain.checks)))

    def test_definitions_of_one_variable_have_names_of_their_own(self) -> None:
        table = {"w": list("abcabc"), "x": [1.0, 2.0, 3.0, 5.0, 8.0, 4.0]}
        orders = (list("abc"), list("bca"), list("cab"), list("acb"))
        terms = {f"t{at}": f"codes(w, order={order})" for at, order in enumerate(orders)}
        made = fa.Plan(None, terms).build(table)
        self.assertEqual([d.name for d in made.columns.definitions], ["w_codes", "w_codes_2", "w_codes_3", "w_codes_4"])
        self.assertTrue(made.verify(table).ok)

    def test_columns_of_one_variable_are_tabled_beside_its_values(self) -> None:
        table = huts(200, seed=6, missing=0.1)
        terms = {
            "a": "category(access, reference='trail', missing='category')",
            "c": "category(comfort, coding='helmert')",
            "f": "impute(floor, value=9) ** 2",
            "o": "open * 2",
            "b": "log(impute(beds, value=1))",
            "two": "access == 'road' and open",
        }
        made = fa.Plan(None, terms, variables=VARIABLES, intercept=False).build(table)
        for entry in made.columns:
            name = entry.sources[0]
            if entry.term in ("b", "two"):  # of many values, and of two variables
                self.assertEqual(entry.by_source, [])
                continue
            wanted: dict[str, tuple[set[float], int]] = {}
            for row, x in zip(made.rows.kept.tolist(), made.X[:, entry.position].tolist(), strict=True):
                key = (
                    "missing"
                    if table[name][row - 1] is None
                    else str(table[name][row - 1]).replace("T", "t").replace("F", "f")
                )
                seen, count = wanted.get(key, (set(), 0))
                wanted[key] = (seen | {x}, count + 1)
            found = {each.source: ({each.value}, each.rows) for each in entry.by_source}
            self.assertEqual(found, wanted, entry.name)

    def test_warnings(self) -> None:
        table = huts(100, seed=31, missing=0)
        made = plan({"all": "category(valley, coding='every')", "one": "price > 0"}).build(table)
        told = "\n".join(made.columns.warnings)
        self.assertIn("one is 1 in every row", told)
        self.assertIn("the columns of all add up to the intercept", told)
        few = plan({"a": "access", "b": "category(valley)"}).build(huts(6, seed=33, missing=0))
        self.assertIn("columns for 6 rows", "\n".join(few.columns.warnings))
        self.assertEqual(
            [w[:47] for w in self.design.columns.warnings],
            ["access is compared with road in access and boat", "slope is an interaction of price, whose main ef"],
        )


class Spreadsheets(Folder):
    def test_cells_that_a_spreadsheet_would_run_are_neutralised(self) -> None:
        table = {"=cmd()": ["=1+1", "-x", "+y", "@z", "plain"] * 3, "y": range(15)}
        table = {name: list(values) for name, values in table.items()}
        design = fa.Plan("y", {"t": "category(variable('=cmd()'), reference='=1+1')"}).build(table)
        design.save(self.folder / "b")
        with (self.folder / "b/columns.csv").open(newline="", encoding="utf-8") as handle:
            rows = list(csv.DictReader(handle))
        self.assertEqual([row["reference"] for row in rows if row["role"] == "predictor"], ["'=1+1"] * 4)
        self.assertEqual(rows[2]["sources"], "'=cmd()")
        for row in rows:
            for cell in row.values():
                number = cell.replace(".", "").replace("-", "").replace("e", "").isdigit()
                self.assertTrue(number or not cell.startswith(("=", "+", "-", "@")), cell)
        self.assertEqual(
            ColumnMap.model_validate_json((self.folder / "b/columns.json").read_text()).columns[2].reference, "=1+1"
        )
        self.assertEqual(neutral(-2.5), -2.5)

    def test_every_formula_in_the_map_is_in_the_language(self) -> None:
        design = fa.Plan.load(SAMPLE / "huts.toml").build(SAMPLE / "huts.csv")
        for entry in design.columns.columns:
            self.assertEqual(str(parse(entry.formula)), entry.formula)
        self.assertIn("hut_code", Table.of(design.to_arrow()).variables)
