"""The audit: the column map, what its readings promise, and noticing whatever has changed."""

from __future__ import annotations

import csv
import json
import math
import unittest
from typing import Any

import numpy as np
from jsonschema import Draft202012Validator

import facturum as fa
from facturum.audit.entries import ColumnMap
from facturum.audit.readings import sentence
from facturum.data.table import Table
from facturum.files.build_folder import neutral
from facturum.language.parser import parse
from facturum.language.reading import Holds, Logged, Unit
from tests.support import MIXED_TERMS, ROOT, SAMPLE, Folder, huts, plan


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
            self.assertEqual(rows.reasons[cause], ("no value", f"terms.{places[first]}"))

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
        self.assertEqual([check.ok for check in made.checks], [True] * len(made.checks))
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

    def test_warnings(self) -> None:
        table = huts(100, seed=31, missing=0)
        made = plan({"all": "category(valley, coding='every')", "one": "price > 0"}).build(table)
        told = "\n".join(made.columns.warnings)
        self.assertIn("one is 1 in every row", told)
        self.assertIn("the columns of all add up to the intercept", told)
        few = plan({"a": "access", "b": "category(valley)"}).build(huts(6, seed=33, missing=0))
        self.assertIn("columns for 6 rows", "\n".join(few.columns.warnings))
        self.assertEqual(self.design.columns.warnings, [])


class Readings(unittest.TestCase):
    """Each sentence makes a promise; the promise is computed on a made-up regression."""

    def read(self, text: str, response: str, b: dict[str, float], **new: Any) -> tuple[str, float, float]:
        """Return a column's reading, and the response predicted for two rows that differ in `new`."""
        table = huts(300, seed=32, missing=0)
        design = plan({"t": text}, response=response).build(table)
        row = {name: values[:1] for name, values in table.items() if name != "stays"}
        low = design.plan.build({**row, **{k: [v[0]] for k, v in new.items()}}).X[0]
        high = design.plan.build({**row, **{k: [v[1]] for k, v in new.items()}}).X[0]
        weights = np.array([b.get(name, 0.0) for name in design.names])
        self.assertLessEqual(set(b), set(design.names))
        return design.columns[next(iter(b))].reading, float(low @ weights), float(high @ weights)

    def test_unit_on_level_and_on_log(self) -> None:
        said, low, high = self.read("price", "stays", {"t": 3.0}, price=(10.0, 11.0))
        self.assertEqual(said, "One more of price: stays changes by b.")
        self.assertAlmostEqual(high - low, 3.0)
        said, low, high = self.read("price", "log(stays)", {"t": 0.2}, price=(10.0, 11.0))
        self.assertIn("stays changes by exactly 100·(exp(b) − 1) percent", said)
        self.assertAlmostEqual(100 * (math.exp(high) / math.exp(low) - 1), 100 * (math.exp(0.2) - 1))

    def test_logs(self) -> None:
        said, low, high = self.read("log(price)", "log(stays)", {"t": -0.7}, price=(20.0, 20.2))
        self.assertIn("by about b percent (exactly 100·(1.01^b − 1))", said)
        self.assertAlmostEqual(100 * (math.exp(high - low) - 1), 100 * (1.01**-0.7 - 1))
        said, low, high = self.read("log(price)", "stays", {"t": 50.0}, price=(20.0, 20.2))
        self.assertIn("by about b / 100", said)
        self.assertAlmostEqual(high - low, 50 / 100, delta=0.005)
        said, *_ = self.read("log(price, shift=2)", "stays", {"t": 50.0}, price=(20.0, 20.2))
        self.assertTrue(said.startswith("One percent more price + 2:"))

    def test_indicators_and_contrasts(self) -> None:
        said, low, high = self.read(
            "category(access, reference='trail')", "stays", {"t_road": 4.0}, access=("trail", "road")
        )
        self.assertEqual(said, "access = road compared with access = trail (the reference): stays differs by b.")
        self.assertEqual(high - low, 4.0)
        said, low, high = self.read(
            "category(comfort, coding='difference')", "stays", {"t_good": 4.0}, comfort=("fair", "good")
        )
        self.assertIn("compared with the category before, fair", said)
        self.assertAlmostEqual(high - low, 4.0)
        said, *_ = self.read("category(comfort, coding='effect')", "stays", {"t_good": 4.0}, comfort=("fair", "good"))
        self.assertIn("compared with the mean of all categories", said)
        said, *_ = self.read("category(comfort, coding='helmert')", "stays", {"t_good": 4.0}, comfort=("fair", "good"))
        self.assertIn("the mean of the categories before it (poor, fair)", said)
        said, low, high = self.read("open", "stays", {"t": 4.0}, open=(False, True))
        self.assertTrue(said.startswith("Rows where open holds compared with the others: stays differs by b"))
        self.assertEqual(high - low, 4.0)

    def test_scaled_and_bent(self) -> None:
        table = huts(300, seed=32, missing=0)
        sd = float(np.std(table["change"], ddof=1))
        said, low, high = self.read("standardize(change)", "stays", {"t": 4.0}, change=(1.0, 1.0 + sd))
        self.assertIn(f"One standard deviation ({sd:.6g}) more of change", said)
        self.assertAlmostEqual(high - low, 4.0)
        said, low, high = self.read("polynomial(price, 2)", "stays", {"t": 4.0, "t_2": 0.5}, price=(0.0, 1e-6))
        self.assertIn("The slope of stays in price where price is 0", said)
        self.assertAlmostEqual((high - low) / 1e-6, 4.0, places=4)
        said, *_ = self.read("polynomial(price, 2)", "stays", {"t_2": 0.5}, price=(0.0, 1.0))
        self.assertIn("changes: by 2·b for one more of price", said)
        slopes = [self.read("polynomial(price, 2)", "stays", {"t_2": 0.5}, price=(x, x + 1e-6)) for x in (3.0, 4.0)]
        self.assertAlmostEqual(
            sum((s[2] - s[1]) / 1e-6 * sign for s, sign in zip(slopes, (-1, 1), strict=True)), 1.0, 3
        )

    def test_interactions(self) -> None:
        text = "category(access, reference='trail') * log(price)"
        effects = {}
        for way in ("trail", "road"):
            said, low, high = self.read(text, "stays", {"t_road": 4.0}, price=(1.0, math.e), access=(way, way))
            effects[way] = high - low
        self.assertIn(
            "The effect of log(price) on stays in rows with access = road differs by b from that in rows with trail",
            said,
        )
        self.assertAlmostEqual(effects["road"] - effects["trail"], 4.0)
        said, *_ = self.read("price * open", "stays", {"t": 1.0}, price=(1.0, 2.0))
        self.assertIn(
            "The effect of price on stays in rows where open holds differs by b from that in the others", said
        )
        said, *_ = self.read("price * beds", "stays", {"t": 1.0}, price=(1.0, 2.0))
        self.assertIn("The effect of beds on stays changes by b with a unit of price", said)

    def test_a_factor_of_an_interaction_says_where_its_reading_holds(self) -> None:
        terms = {
            "a": "category(access, reference='trail')",
            "p": "log(price)",
            "v": "category(valley, coding='effect')",
        }
        terms |= {"c": "center(change)", "o": "open", "ap": f"{terms['a']} * log(price)"}
        terms |= {"vp": f"{terms['v']} * log(price)", "aco": f"{terms['a']} * center(change) * open"}
        table = huts(300, seed=32, missing=0)
        design = plan(terms).build(table)
        b = dict(zip(design.names, np.random.default_rng(32).normal(size=len(design.names)), strict=True))
        middle = float(np.mean(table["change"]))
        base = {"access": "trail", "price": 20.0, "change": 3.0, "open": True}
        cases: list[tuple[str, str, dict[str, Any], dict[str, Any]]] = [
            ("p", "in rows with access = trail and on average over valley", {}, {"price": 20 * math.e}),
            (
                "a_road",
                "where log(price) is 0 and where change is",
                {"price": 1.0, "change": middle},
                {"access": "road"},
            ),
            ("c", "in rows with access = trail", {}, {"change": 4.0}),
            ("o", "in rows with access = trail", {"open": False}, {"open": True}),
        ]
        for name, condition, where, change in cases:
            said = design.columns[name].reading
            self.assertIn(f", {condition}", said)
            made = [
                design.plan.build({k: [v] for k, v in {**base, **where, **new, "valley": valley}.items()}).X[0]
                for valley in ("Far", "Lower", "Upper")
                for new in ({}, change)
            ]
            differences = [(high - low) @ list(b.values()) for low, high in zip(made[::2], made[1::2], strict=True)]
            self.assertAlmostEqual(float(np.mean(differences)), b[name], places=9, msg=said)
        self.assertTrue(design.columns["ap_road"].reading.endswith("from that in rows with trail (the reference)."))

    def test_the_effect_that_an_interaction_changes_is_named_by_its_kind(self) -> None:
        access, rows = "category(access, reference='trail')", "in rows"
        cases = {
            f"{access} * category(valley, reference='Far')": (
                "valley = Lower (against Far)",
                f"{rows} with access =",
            ),
            f"{access} * category(valley, coding='effect')": (
                "valley = Lower",
                f"{rows} with access = boat differs by b from that in",
            ),
            "category(access, coding='every') * log(price)": ("log(price)", "in rows with access = boat is b."),
            f"open * {access}": (
                "access = boat (against trail)",
                f"{rows} where open holds differs by b from that in the others.",
            ),
            f"is_missing(price) * {access}": (
                "access = boat (against trail)",
                f"{rows} where price has no value differs by b from",
            ),
            "standardize(beds) * open": ("one standard deviation of beds", f"{rows} where open holds"),
            "polynomial(beds, 2, center=True) * open": ("beds (where it is 47.", f"{rows} where open holds"),
            "open * polynomial(beds, 2, orthogonal=True)": ("the linear part of beds", f"{rows} where open holds"),
            f"{access} * price * open": ("access = boat (against trail) times price", f"{rows} where open holds"),
            "beds * price": ("price", "changes by b with a unit of beds."),
            "category(comfort, coding='difference') * price": (
                "price",
                "differs by b for comfort = fair compared with",
            ),
        }
        table = huts(300, seed=32, missing=0.1)
        for text, (effect, end) in cases.items():
            design = plan({"t": text}).build(table)
            said = next(column.reading for column in design.columns.columns if column.term == "t")
            self.assertTrue(said.startswith(f"The effect of {effect}"), said)
            self.assertIn(f" on stays {end}", said)
        square = plan({"t": "open * polynomial(beds, 2)"}).build(table).columns["t_2"].reading
        self.assertTrue(square.startswith("The effect of beds to the power 2 on stays"), square)

    def test_an_effect_on_average_is_the_mean_over_all_categories_or_rows(self) -> None:
        table = huts(300, seed=34, missing=0)
        codings = ("effect", "difference", "helmert", "polynomial")
        factors = {f"category(comfort, coding='{coding}')": ["poor", "fair", "good"] for coding in codings}
        for factor, values in {**factors, "polynomial(beds, 3, orthogonal=True)": table["beds"]}.items():
            design = plan({"p": "log(price)", "f": factor, "pf": f"log(price) * {factor}"}).build(table)
            subject = "beds" if "beds" in factor else "comfort"
            self.assertIn(f", on average over {subject}.", design.columns["p"].reading)
            b = np.random.default_rng(35).normal(size=len(design.names))
            both = [{subject: values, "price": [price] * len(values)} for price in (7.0, 7 * math.e)]
            low, high = (design.plan.build(rows).X for rows in both)
            found = float(np.mean((high - low) @ b))
            self.assertAlmostEqual(found, b[design.names.index("p")], places=9, msg=factor)

    def test_responses_of_other_kinds(self) -> None:
        self.assertIn("share of rows with stays > 9", sentence(Unit("x"), Holds("stays > 9")))
        self.assertIn("percentage points", sentence(Logged("x"), Holds("stays > 9")))
        self.assertEqual(sentence(Unit("x"), None), "One more of x: the response changes by b.")
        self.assertIn("where all other columns are 0 (as a logarithm)", sentence(None, Logged("stays")))


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
