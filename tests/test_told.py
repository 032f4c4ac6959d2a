"""What is told of a build: readings of every kind of operation, maps that fit their schema, bytes that stay."""

from __future__ import annotations

import hashlib
import json
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from jsonschema import Draft202012Validator
from scipy import stats

import facturum as fa
from facturum.demo.sample import PLANS
from facturum.engine.planning.sections.spec import spec_from
from facturum.files.plan_file import parse_plan, plan_text
from facturum.numerics.exact.moments import Moments
from facturum.numerics.shapes.group_comparisons import Covariances, correlation, scale_figures, welch
from tests.support import PANEL_DATA, ROOT, SAMPLE, Folder, command, panel

READINGS = [
    ("bins(price, edges=[30, 40])", "x_30_to_40", "price 30 to 40 rather than under 30: a difference of b in stays"),
    ("impute(snow, 'median')", "x", "Each additional unit of snow (imputed) is associated with a difference of b in"),
    ("log(impute(snow, value=1), shift=1)", "x", "With (snow (imputed) + 1) 1 % higher: a difference of"),
    ("is_missing(snow)", "x", "Rows in which snow is missing, compared with all others: a difference of b in stays."),
    ("is_missing(missing_if(snow, snow > 80))", "x", "snow is missing, or was set to missing (snow > 80), compared w"),
    ("is_missing(snow) * price", "x", "differs by b between rows in which snow is missing and the others; the plan h"),
    ("winsorize(price, at=[25, 55])", "x", "Each additional unit of price winsorized at 25 and 55 is associated with"),
    ("mean_of(price, period, at_least=1)", "x", "Each additional unit of the mean of price, period is associated wit"),
    ("count_of(price > 30, period > 3)", "x", "Each additional unit of the count of price > 30, period > 3 is"),
    ("reverse(period, 0, 30)", "x", "Each additional unit of period (reversed) is associated with a difference of b"),
    ("regroup(comfort, {'well': ['good']}, rest='else')", "x_well", "comfort (regrouped) = well rather than else: a"),
    ("lag(price, 1)", "x", "Each additional unit of price 1 month before is associated with a difference of b in sta"),
    ("lag(log(price), 12)", "x", "With price 12 months before 1 % higher: a difference of about b / 1"),
    ("lead(price, 2)", "x", "Each additional unit of price 2 months later is associated with"),
    ("lag(comfort, 1)", "x_good", "comfort 1 month before = good rather than fair: a difference of b in stays."),
    ("difference(price)", "x", "Each additional unit of the monthly change of price is associated with"),
    ("difference(difference(price, step=12))", "x", "Each additional unit of the monthly change of the 12-month chan"),
    ("percent_change(price)", "x", "Each additional unit of the monthly percent change of price is associated with"),
    ("moving_average(price, 3)", "x", "unit of the 3-month average of price (this month and the 2 before) is associa"),
    ("moving_sum(price, 2)", "x", "unit of the 2-month sum of price (this month and the month before) is associated"),
    ("trend()", "x", "Each additional month since 2020-01 is associated with a difference of b in stays."),
    ("trend(degree=2)", "x_2", "The slope of stays in months since 2020-01 changes by 2·b with each additional"),
    ("season('month')", "x_mar", "month = mar rather than jan: a difference of b in stays."),
    ("season('quarter', coding='waves')", "x_cos1", "A cycle of 4 quarters in stays with amplitude √(b² + b[x_sin1]²)"),
    ("part(month, 'year')", "x", "Each additional unit of year of month is associated with a difference of b in stay"),
    ("standardize(lag(price, 1))", "x", "An increase of one standard deviation (11.32) in price 1 month before is"),
    ("within(log(price), by=[hut])", "x", "With price within hut 1 % higher: a difference of"),
    ("price - mean(price, by=[period])", "x", "Each additional unit of price - mean(price, by=[period]) is"),
    ("price * 5", "x", "Each additional 0.2 units of price is associated with"),
    ("lag(price, [1, 2])", "x_lag2", "price 2 months before is associated with a difference of b in stays, with pric"),
]  # fmt: skip


def digests(folder: Path) -> dict[str, str]:
    return {path.name: hashlib.sha256(path.read_bytes()).hexdigest() for path in folder.iterdir()}


class Readings(unittest.TestCase):
    def test_every_operation_has_a_sentence(self) -> None:
        table = panel(12, gaps=0.1)
        table["stays"] = [each + 0.5 for each in table["stays"]]
        for text, name, said in READINGS:
            with self.subTest(text):
                made = fa.Plan("stays", {"x": text}, data=PANEL_DATA).build(table)
                self.assertIn(said, made.columns[name].reading)

    def test_the_effect_of_a_lag_is_what_the_sentence_says(self) -> None:
        table = panel(12, gaps=0.0, missing=0.0)
        design = fa.Plan(None, {"x": "lag(price, 1)"}, data=PANEL_DATA, rows={"missing": "keep"}).resolve(table)
        before = design.build(table).X[:, 1]
        raised = {**table, "price": [v + (t == 7) for v, t in zip(table["price"], table["period"], strict=True)]}
        change = design.build(raised).X[:, 1] - before
        later = np.array(table["period"]) == 8
        np.testing.assert_allclose(change[later], 1.0)
        self.assertEqual(np.nansum(np.abs(change[~later])), 0.0)


class Maps(Folder):
    def test_the_maps_of_all_sample_plans_fit_their_schema(self) -> None:
        schemas = ROOT / "src/facturum/files/schemas"
        columns = Draft202012Validator(json.loads((schemas / "columns.schema.json").read_text("utf-8")))
        plans = Draft202012Validator(json.loads((schemas / "plan.schema.json").read_text("utf-8")))
        for name, data in PLANS.items():
            plan = fa.Plan.load(SAMPLE / f"{name}.toml")
            plan.build(SAMPLE / data).save(self.folder / name)
            columns.validate(json.loads((self.folder / name / "columns.json").read_text("utf-8")))
            plans.validate(plan.spec.model_dump(mode="json", exclude_none=True))
            opened = fa.open_design(self.folder / name)
            self.assertEqual(opened.plan, fa.Plan.load(self.folder / name / "plan.resolved.toml"))
            told = command("explain", self.folder / name).stdout
            for entry in opened.columns.columns:
                self.assertIn(entry.name, told)
            each = command("explain", self.folder / name, *plan.spec.terms).stdout
            shown = {
                "bins of": len(opened.columns.bins),
                "imputed: ": len(opened.columns.imputations),
                "missing in the table in": len(opened.columns.flags),
                "values needed": len(opened.columns.scores),
            }
            self.assertEqual({said: each.count(said) for said in shown}, shown)
            listed = json.loads(command("explain", self.folder / name, "--imputed", "--json").stdout)
            self.assertEqual(len(listed), sum(entry.cells for entry in opened.columns.imputations))

    def test_the_same_bytes_for_each_sample_plan_on_any_threads(self) -> None:
        for name, data in PLANS.items():
            plan = fa.Plan.load(SAMPLE / f"{name}.toml")
            found = []
            for threads in (1, 3):
                folder = self.folder / f"{name}{threads}"
                plan.build(SAMPLE / data, threads=threads).save(folder)
                found.append(digests(folder))
            self.assertEqual(found[0], found[1])

    def test_every_row_given_is_accounted_for(self) -> None:
        for name, data in PLANS.items():
            counts = fa.Plan.load(SAMPLE / f"{name}.toml").build(SAMPLE / data).columns.rows
            self.assertEqual(counts.kept + sum(part.rows for part in counts.dropped), counts.given)

    def test_a_changed_cell_of_any_source_is_noticed(self) -> None:
        table = fa.read(SAMPLE / "huts.csv").to_pandas()
        for name in ("clean", "time"):
            design = fa.Plan.load(SAMPLE / f"{name}.toml").build(table)
            for variable in ("stays", "price", "snow_depth"):
                changed = table.copy()
                row = int(np.flatnonzero(changed[variable].notna() & (changed.open == "yes"))[700])
                changed.loc[row, variable] += 1
                outcome = design.verify(changed)
                self.assertIn(f"The cell of {variable} in row {row + 1} has changed", str(outcome), (name, variable))

    def test_hostile_names_and_labels_are_shown_not_obeyed(self) -> None:
        table = {
            "=cmd|x": [1.0, None, 3.0, 4.0] * 5,
            "é\n'\"": ["a", "-1+1", "\x1b[31m", "b"] * 5,
            "y": np.arange(20.0),
        }
        terms = {
            "n": "impute(variable('=cmd|x'), 'median')",
            "c": "category(variable('é\\n\\'\"'), coding='every')",
            "b": "bins(variable('=cmd|x'), edges=[2], labels=['=1+1', '@x'])",
        }
        design = fa.Plan("y", terms).build(table)
        design.save(self.folder / "b")
        lines = (self.folder / "b/columns.csv").read_text("utf-8").splitlines()
        self.assertFalse(any(cell.startswith(("=", "@", "+")) for line in lines for cell in line.split(",")))
        told = command("explain", self.folder / "b", "b", "n", "c").stdout
        self.assertNotIn("\x1b[31m", told)
        self.assertIn("=1+1", told)
        self.assertTrue(fa.open_design(self.folder / "b").verify(table).ok)
        self.assertIn("&lt;b&gt;", fa.profile({"<b>": [1.0, 2.0]})._repr_html_())


class Plans(unittest.TestCase):
    NAMES = st.text(st.characters(codec="utf-8", exclude_categories=["Cs", "Cc"]), min_size=1, max_size=8)

    @given(st.data())
    @settings(max_examples=60, deadline=None)
    def test_a_plan_with_every_section_survives_its_file(self, data: st.DataObject) -> None:
        how = st.sampled_from(["mean", "sum", "linear", "smooth_total", "repeat"])
        take = st.dictionaries(
            self.NAMES,
            st.fixed_dictionaries({"how": how}, optional={"of": self.NAMES, "partial": st.just("keep")}),
            min_size=1,
            max_size=2,
        )
        content = {
            "response": "log(y)",
            "data": {"time": data.draw(self.NAMES), "every": "month", "week_starts": "sunday", "panel": ["hut"]},
            "variables": {data.draw(self.NAMES): {"kind": "time", "pattern": "%d.%m.%Y"}},
            "stack": {"into": {data.draw(self.NAMES): ["a", "b"]}, "which": data.draw(self.NAMES)},
            "convert": {"every": "day", "take": data.draw(take)},
            "series": {"energy": {"time": "q", "every": "quarter", "match": ["hut"], "take": data.draw(take)}},
            "terms": {"x": "lag(y, [1, 2]) * category(bins(z, edges=[[1, 2], [3, 4.5]]))"},
        }
        spec = spec_from(content)
        self.assertEqual(parse_plan(plan_text(spec)), spec)

    def test_builders_make_the_same_nodes_as_the_text(self) -> None:
        t = fa.terms
        pairs: list[tuple[Any, str]] = [
            (t.lag("stays", range(1, 4)), "lag(stays, [1, 2, 3])"),
            (t.lag(t.log("stays"), 12), "lag(log(stays), 12)"),
            (t.mean_of("q_1", "q_2", at_least=1), "mean_of(q_1, q_2, at_least=1)"),
            (t.mean_of(["q_1", "q_2"]), "mean_of(q_1, q_2)"),
            (t.impute("x", "median", by=["g"]), "impute(x, how='median', by=[g])"),
            (t.bins("x", edges=[1, 2.5]), "bins(x, edges=[1, 2.5])"),
            (t.bins("x", edges=[[1, 2], [3, 4]]), "bins(x, edges=[[1, 2], [3, 4]])"),
            (t.missing_if("x", t.variable("x") > 5), "missing_if(x, x > 5)"),
            (t.season("month", reference="jan"), "season('month', reference='jan')"),
            (t.variable("sex") == "f", "sex == 'f'"),
            (t.variable("sex") != "f", "sex != 'f'"),
            ("f" == t.variable("sex"), "sex == 'f'"),  # noqa: SIM300
            (1 < t.variable("x"), "x > 1"),  # noqa: SIM300
            (t.variable("x").is_in([1, 2.5]) & True, "x in [1, 2.5] and True"),
            (False | ~t.variable("w").is_in(("a", "b")), "False or not w in ['a', 'b']"),
            (2 ** t.variable("x"), "2 ** x"),
            (t.variable("x") * np.float64(0.5) > np.int64(3), "x * 0.5 > 3"),
            (t.moving_average("x", 3, align="centre"), "moving_average(x, 3, align='centre')"),
        ]
        for built, text in pairs:
            self.assertEqual(str(built), text)
            self.assertEqual(str(fa.Plan(None, {"x": built}).spec.terms["x"]), text)
        with self.assertRaisesRegex(fa.PlanError, "mean_of needs its argument 'items'"):
            t.mean_of(at_least=1)

    def test_what_python_would_answer_itself_is_refused(self) -> None:
        x, y = fa.terms.variable("x"), fa.terms.variable("y")
        for answer in (
            lambda: 1 < x < 3,
            lambda: x in [y, 2],
            lambda: x and y,
            lambda: x or y,
            lambda: not x,
            lambda: "a" if x == "f" else "b",
            lambda: 3 in x,
            lambda: x.is_in("road"),
            lambda: x.is_in(3),
            lambda: x == object(),
        ):
            with self.assertRaisesRegex(fa.PlanError, "Write|Give"):
                answer()
        with self.assertRaises(TypeError):
            hash(x)
        self.assertLessEqual({"Plan", "read", "profile", "terms", "Table"}, set(dir(fa)))

    def test_what_the_prompt_shows_is_short(self) -> None:
        table = fa.Table.of({"way": ["road", None, "trail", "road"], "x": [1.0, 2.0, 3.0, None], "y": range(4)})
        self.assertEqual(
            repr(table),
            "<table of 4 rows and 3 variables>\n"
            "  way: category of 2, 1 row missing\n  x: number, 1 row missing\n  y: number",
        )
        made = fa.Plan("y", {"w": "category(way)", "x": "log(x)"}).build(table)
        self.assertEqual(
            str(made.rows),
            "<2 rows kept, 2 left out>\n"
            "  1 left out: a value is missing (terms.x)\n  1 left out: a value is missing (terms.w)",
        )
        self.assertEqual([entry.name for entry in made.columns], ["y", "intercept", "w_trail", "x"])
        self.assertEqual(len(made.columns), 4)
        for shown in (str(made.columns), repr(made.columns)):
            self.assertTrue(shown.endswith("  w_trail = way == 'trail'\n  x = log(x)"), shown)
        many = fa.Table.of({f"v{at}": [0.0] for at in range(500)})
        for shown in (many, fa.profile(many)):
            self.assertLess(len(repr(shown)), 3000)

    def test_ranges_are_short_lists_of_whole_numbers(self) -> None:
        for text, said in (
            ("lag(x, range(1, 5000))", "the range has 4,999 numbers"),
            ("lag(x, range(y))", "a range has whole numbers for its ends"),
            ("lag(x, list(1))", "an option is a number"),
            ("lag(x, range(1, 3, 1))", "a range has whole numbers for its ends"),
            ("lag(x, [])", "k of lag must be a number of periods, or a list of them"),
        ):
            with self.assertRaises(fa.PlanError) as caught:
                fa.Plan("y", {"t": text}, data={"every": "row"}).build({"x": [1.0, 2.0], "y": [1.0, 2.0]})
            self.assertIn(said, str(caught.exception))


def _groups(a: np.ndarray, b: np.ndarray) -> Moments:
    """Return the moments of two groups, the second one merged of two parts."""
    parts = [Moments.of(2), Moments.of(2)]
    parts[0].put_dense(0, a)
    parts[0].put_dense(1, b[:1])
    parts[1].put_dense(1, b[1:])
    return Moments.merged(parts)


class Comparisons(unittest.TestCase):
    @given(st.integers(0, 10**6), st.sampled_from([1.0, 1e-200, 1e200, 1e15]))
    @settings(max_examples=60, deadline=None)
    def test_correlations_and_t_values_agree_with_published_code(self, seed: int, size: float) -> None:
        dice = np.random.default_rng(seed)
        x = dice.normal(3, 1, 50)
        y = 0.4 * x + dice.normal(size=50)
        self.assertAlmostEqual(correlation(x * size, y) or 0, np.corrcoef(x, y)[0, 1], places=10)
        t = stats.ttest_ind(x[:20], y, equal_var=False).statistic
        self.assertAlmostEqual(welch(_groups(x[:20], y))[1] or 0, t, places=10)

    def test_what_has_no_spread_has_no_correlation(self) -> None:
        self.assertIsNone(correlation(np.ones(5), np.arange(5.0)))
        self.assertIsNone(correlation(np.array([1.0]), np.array([2.0])))
        self.assertEqual(welch(_groups(np.array([1.0]), np.array([3.0, 5.0]))), (-3.0, None))
        self.assertEqual(welch(_groups(np.array([]), np.array([3.0]))), (None, None))
        self.assertEqual(scale_figures(Covariances.of(np.ones((3, 4)))), (None, [None] * 3))

    def test_alpha_does_not_depend_on_the_scale(self) -> None:
        items = np.random.default_rng(3).normal(size=(4, 50)) + np.arange(50) / 10
        alpha, rest = scale_figures(Covariances.of(items))
        for scale in (1e-300, 1e300):
            halves = [Covariances.of(half) for half in np.split(items * scale, [20], axis=1)]
            found, others = scale_figures(halves[0].merge(halves[1]))
            np.testing.assert_allclose([found, *others], [alpha, *rest], rtol=1e-12)  # type: ignore[list-item]

    def test_alpha_of_parallel_items_is_the_spearman_brown_value(self) -> None:
        # with equal variances and correlations r, alpha is k r / (1 + (k - 1) r): Lord & Novick (1968), section 4.4
        trait = stats.norm.ppf((np.arange(400) + 0.5) / 400)
        dice = np.random.default_rng(1)
        noise, _ = np.linalg.qr(np.column_stack([np.ones(400), trait, dice.normal(size=(400, 3))]))
        unit = trait / np.linalg.norm(trait)
        items = np.array([0.8 * unit + 0.6 * noise[:, 2 + at] for at in range(3)])
        r = 0.64
        alpha, rest = scale_figures(Covariances.of(items))
        self.assertAlmostEqual(alpha or 0, 3 * r / (1 + 2 * r), places=10)
        np.testing.assert_allclose(rest, 2 * r / np.sqrt(2 + 2 * r))  # type: ignore[arg-type]
