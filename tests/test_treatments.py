"""Values put in, taken out and brought together: against slow truth, and what the map and the warnings say of them."""

from __future__ import annotations

import statistics
import unittest
from collections import defaultdict
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from tests.promises import watched
from tests.support import PANEL_DATA, SAMPLE, Folder, command, huts, panel


def values(text: str, table: Any, **sections: Any) -> list[float | None]:
    """Return a scalar term over all rows, None where it is missing."""
    made = fa.Plan(None, {"x": text}, intercept=False, rows={"missing": "keep"}, **sections).build(table)
    return [None if np.isnan(v) else v for v in made.X[:, 0]]


def slow_neighbours(table: dict[str, Any], how: str, limit: int | None) -> list[float | None]:
    """Return snow with its gaps filled, by a dictionary of periods for each unit."""
    series: dict[str, dict[int, float | None]] = defaultdict(dict)
    for hut, period, snow in zip(table["hut"], table["period"], table["snow"], strict=True):
        series[hut][period] = snow
    filled = []
    for hut, period, snow in zip(table["hut"], table["period"], table["snow"], strict=True):
        own = series[hut]
        before = max((p for p, v in own.items() if p < period and v is not None), default=None)
        after = min((p for p, v in own.items() if p > period and v is not None), default=None)
        start = min(own) - 1 if before is None else before
        end = max(own) + 1 if after is None else after
        if snow is not None or (limit is not None and end - start - 1 > limit):
            filled.append(snow)
        elif how == "linear":
            line = None
            if before is not None and after is not None:
                a, b = own[before], own[after]
                assert a is not None
                assert b is not None
                line = a + (b - a) * ((period - before) / (after - before))
            filled.append(line)
        else:
            near = before if how == "previous" else after
            filled.append(None if near is None else own[near])
    return filled


class Neighbours(unittest.TestCase):
    @given(st.integers(0, 10**6), st.sampled_from(["previous", "next", "linear"]), st.sampled_from([None, 1, 2, 5]))
    @settings(max_examples=60, deadline=None)
    def test_gaps_are_filled_by_the_period_within_the_unit(self, seed: int, how: str, limit: int | None) -> None:
        table = panel(seed, units=3, periods=14, gaps=0.3, missing=0.4)
        told = "" if limit is None else f", limit={limit}"
        found = values(f"impute(snow, {how!r}{told})", table, data=PANEL_DATA)
        self.assertEqual(found, slow_neighbours(table, how, limit))

    def test_rows_may_follow_one_another_as_they_stand(self) -> None:
        table = {"x": [1.0, None, 3.0, None], "u": ["a", "a", "a", "b"]}
        data = {"every": "row", "panel": ["u"]}
        self.assertEqual(values("impute(x, 'previous')", table, data=data), [1, 1, 3, None])

    def test_rows_that_no_filling_looks_at_may_fail(self) -> None:
        table = {"x": [0.0, 1.0, None, 100.0], "z": [0.0, 1.0, 1.0, 1.0]}
        rows = {"keep": "z > 0", "missing": "keep"}
        for how, filled in (("linear", 10), ("previous", 1), ("next", 100)):
            plan = fa.Plan(None, {"l": f"impute(log(x), '{how}')"}, intercept=False, data={"every": "row"}, rows=rows)
            np.testing.assert_allclose(plan.build(table).X[:, 0], np.log([1, filled, 100]))
        table |= {"m": ["2020-01", "2020-02", "2020-03", "2020-04"]}
        dated = fa.Plan(None, {"l": "impute(log(x), 'linear')"}, data={"time": "m", "every": "month"}, rows=rows)
        after, before = (line.values for line in dated.build(table).columns.paths[0].lines)
        as_they_stand = fa.Plan(None, {"l": "impute(x, 'linear')"}, data={"time": "m", "every": "row"})
        self.assertEqual(as_they_stand.build(table).columns.paths, [])  # there is no axis to draw them along
        self.assertEqual((before[:3:2], after[0]), ([None, None], None))  # what fails has no value in the figure
        np.testing.assert_allclose(after[1:], np.log([1, 10, 100]))  # type: ignore[arg-type]

    def test_what_is_filled_from_earlier_rows_is_learned_without_later_ones(self) -> None:
        table = panel(8)
        plan = fa.Plan(
            None, {"x": "center(impute(snow, 'previous'))"}, data=PANEL_DATA, rows={"learn": "month < '2021-06'"}
        )
        changed = {
            **table,
            "snow": [s if t < 17 else (s or 0) + 1000 for s, t in zip(table["snow"], table["period"], strict=True)],
        }
        self.assertEqual(plan.resolve(table), plan.resolve(changed))
        alone = [at for at, t in enumerate(table["period"]) if t < 17]
        part = {name: [column[at] for at in alone] for name, column in table.items()}
        self.assertEqual(plan.resolve(part).spec.terms, plan.resolve(table).spec.terms)


class Learned(unittest.TestCase):
    @given(st.integers(0, 10**6), st.sampled_from(["median", "mean", "mode"]), st.booleans())
    @settings(max_examples=40, deadline=None)
    def test_fills_agree_with_the_standard_library(self, seed: int, how: str, grouped: bool) -> None:
        table = huts(80, seed=seed, missing=0.3)
        groups: dict[Any, list[Any]] = defaultdict(list)
        name = "floor" if how == "mode" else "price"
        for valley, value in zip(table["valley"], table[name], strict=True):
            if value is not None:
                groups[None].append(value)
                if valley is not None:
                    groups[valley].append(value)

        def fill(key: Any) -> float:
            own = groups.get(key) or groups[None]
            if how == "mode":
                return max(sorted(set(own)), key=own.count)
            return statistics.median(own) if how == "median" else statistics.fmean(own)

        found = values(f"impute({name}, {how!r}{', by=[valley]' if grouped else ''})", table)
        for at, value in enumerate(table[name]):
            wanted = value if value is not None else fill(table["valley"][at] if grouped else None)
            self.assertAlmostEqual(found[at], wanted, delta=1e-12 * abs(wanted))  # type: ignore[arg-type]

    def test_categories_take_the_commonest_or_a_new_one(self) -> None:
        table = {"c": ["b", "a", None, "a", "b", None], "o": [1, 1, 1, 2, 2, 2]}
        made = fa.Plan(None, {"c": "category(impute(c, 'mode', by=[o]), coding='every')"}).build(table)
        self.assertEqual(made.X[:, 1].tolist(), [0, 1, 1, 1, 0, 1])  # in each group a tie, and a comes first
        self.assertEqual(made.imputed["source_row"].to_pylist(), [3, 6])
        self.assertEqual(made.imputed["fill_text"].to_pylist(), ["a", "a"])
        made = fa.Plan(None, {"c": "impute(c, value='none')"}).build(table)
        self.assertEqual(made.names, ["intercept", "c_b", "c_none"])
        order = {"c": {"kind": "ordered", "order": ["b", "a"]}}
        for how, fill in (("'mode'", 0), ("value='a'", 1)):  # of a tie, b comes first here
            made = fa.Plan(None, {"t": f"impute(c, {how}) >= 'a'"}, variables=order).build(table)
            self.assertEqual(made.X[:, 1].tolist(), [0, 1, fill, 1, 0, fill])
        with self.assertRaisesRegex(fa.PlanError, "order"):  # what is put in has no place in it
            fa.Plan(None, {"t": "impute(c, value='none') >= 'a'"}, variables=order).build(table)

    def test_truth_values_stay_truth_values(self) -> None:
        table = {"t": [True, None, False, True], "y": [1.0, 2.0, 3.0, 4.0]}
        made = fa.Plan("y", {"t": "category(impute(t, 'mode'))"}).build(table)
        self.assertEqual((made.names[1:], made.X[:, 1].tolist()), (["t_true"], [1, 1, 0, 1]))
        self.assertEqual(values("impute(t, 'mean')", table), [1, 2 / 3, 0, 1])
        for options in (
            "'mean'",
            "'median'",
            "'median', value=0",
            "'mean', value=True",
            "value=0.5",
            "'mode'",
            "value=1",
        ):
            for cells in (table["t"], [True, True, False, True]):
                with watched():
                    self.assertEqual(values(f"impute(t, {options}) + 0", {**table, "t": cells})[0], 1)

    def test_only_learning_rows_answer(self) -> None:
        table = huts(120, seed=4, missing=0.2)
        terms = {
            "a": "impute(price, 'median', by=[valley])",
            "b": "bins(beds, quantiles=3)",
            "c": "winsorize(change)",
            "d": "impute(access, 'mode')",
            "e": "missing_if(stays, stays > mean(stays) + 2 * sd(stays))",
        }
        rows = {"learn": "month < '2022-01'"}
        plan = fa.Plan(None, terms, data={"time": "month"}, rows=rows)
        wild = [
            {**row, "price": 9999.0, "beds": 77, "change": -5e5, "access": "boat"} if row["month"] >= "2022-01" else row
            for row in (dict(zip(table, cells, strict=True)) for cells in zip(*table.values(), strict=True))
        ]
        changed = {name: [row[name] for row in wild] for name in table}
        self.assertEqual(plan.resolve(table), plan.resolve(changed))

    def test_a_group_not_seen_takes_the_fill_of_all_and_is_counted(self) -> None:
        table = {"x": [1.0, 3.0, 10.0, None], "g": ["a", "a", "b", "b"]}
        plan = fa.Plan(None, {"x": "impute(x, 'median', by=[g])"}, intercept=False).resolve(table)
        made = plan.build({"x": [None, None, 5.0, None], "g": ["a", "z", "z", "a"]})
        self.assertEqual(made.X[:, 0].tolist(), [2.0, 3.0, 5.0, 2.0])
        self.assertEqual(made.columns.imputations[0].groups_not_seen, 1)
        self.assertIn("x in x: 1 cell in groups outside the estimation sample", "\n".join(made.columns.warnings))

    def test_winsorizing_keeps_to_the_quantiles(self) -> None:
        x = np.random.default_rng(2).normal(size=301)
        found = values("winsorize(x, shares=[0.1, 0.75])", {"x": x})
        np.testing.assert_array_equal(found, np.clip(x, *np.quantile(x, [0.1, 0.75])))
        np.testing.assert_array_equal(values("winsorize(x, shares=[0, 1])", {"x": x}), x)
        for low, high in ((1, 1), (-1, 2.5)):
            np.testing.assert_array_equal(values(f"clip(x, {low}, {high})", {"x": x}), np.clip(x, low, high))

    def test_a_condition_that_is_missing_takes_nothing_out(self) -> None:
        table = {"x": [1.0, 2.0, 3.0], "y": [5.0, None, 0.0]}
        self.assertEqual(values("missing_if(x, y > 1)", table), [None, 2.0, 3.0])


class Scores(unittest.TestCase):
    def test_alpha_and_item_rest_by_their_definitions(self) -> None:
        dice = np.random.default_rng(5)
        trait = dice.normal(size=200)
        items = np.round(np.array([trait, trait, -trait, trait]) + dice.normal(0, 0.6, (4, 200)), 1)
        table = {"a": items[0], "b": items[1], "c": items[2], "d": items[3], "y": trait}
        terms = {"s": "mean_of(a, b, c, d)", "t": "mean_of(a, b, reverse(clip(c, low=-9, high=9), -9, 9), d)"}
        made = fa.Plan("y", terms).build(table)
        wrong, right = made.columns.scores
        total = items.sum(axis=0)
        own = items.var(axis=1, ddof=1).sum()
        self.assertAlmostEqual(wrong.alpha or 0, 4 / 3 * (1 - own / total.var(ddof=1)), places=12)
        rest = [np.corrcoef(item, total - item)[0, 1] for item in items]
        np.testing.assert_allclose([item.item_rest or 0 for item in wrong.items], rest, atol=1e-12)
        self.assertGreater(right.alpha or 0, 0.8)
        warnings = made.columns.warnings
        self.assertEqual([w.split()[0] for w in warnings if "is negatively correlated" in w], ["c"])
        self.assertIn("write reverse(c, low, high)", "\n".join(warnings))

    def test_rows_with_too_few_values_are_counted(self) -> None:
        table = {"a": [1.0, None, 3.0, None], "b": [2.0, 2.0, None, None], "y": [1.0, 2.0, 3.0, 4.0]}
        (entry,) = fa.Plan("y", {"s": "sum_of(a, b, at_least=1)"}).build(table).columns.scores
        self.assertEqual((entry.needed, entry.too_few), (1, 1))


class TheMap(Folder):
    def setUp(self) -> None:
        super().setUp()
        dice = np.random.default_rng(6)
        x = dice.normal(10, 2, 200)
        y = x + dice.normal(size=200)
        gone = np.zeros(200, dtype=bool)
        gone[:90] = True
        y[gone] += 5
        self.table: dict[str, Any] = {
            "x": [None if g else v for v, g in zip(x.tolist(), gone, strict=True)],
            "w": [-1.0 if at % 10 == 0 else None if at % 10 == 1 else 2.0 + at for at in range(200)],
            "y": y.tolist(),
        }
        terms = {"x": "impute(x, 'median')", "raw": "is_missing(w)", "wrong": "is_missing(missing_if(w, w < 0))"}
        self.plan = fa.Plan("y", terms)
        self.design = self.plan.build(self.table)

    def test_what_was_filled_and_whether_it_goes_with_the_response(self) -> None:
        (entry,) = self.design.columns.imputations
        self.assertEqual((entry.cells, entry.rows, entry.still_missing), (90, 200, 0))
        self.assertEqual(self.design.columns["x"].imputed, 90)
        y = np.array(self.table["y"])
        a, b = y[:90], y[90:]
        error = np.sqrt(a.var(ddof=1) / 90 + b.var(ddof=1) / 110)
        self.assertAlmostEqual(entry.t or 0, (a.mean() - b.mean()) / error, places=10)
        warnings = "\n".join(self.design.columns.warnings)
        self.assertIn("45 % of the values are imputed. Consider leaving it out.", warnings)
        self.assertIn("the mean response is 4.908 higher", warnings)

    def test_a_flag_says_which_rows_it_marks(self) -> None:
        raw, wrong = self.design.columns.flags
        self.assertEqual((raw.missing_in_source, raw.made_missing), (20, 0))
        self.assertEqual((wrong.missing_in_source, wrong.made_missing, wrong.conditions), (20, 20, ["w < 0"]))
        self.assertIn("was set to missing (w < 0)", self.design.columns["wrong"].reading)
        self.assertNotIn("taken out", self.design.columns["raw"].reading)
        terms = {"flag": "is_missing(fair)", "inside": "is_missing(missing_if(fair, w > 150))"}
        through = fa.Plan("y", terms, derived={"fair": "missing_if(w, w < 0)"}).build(self.table).columns
        self.assertEqual([(f.missing_in_source, f.made_missing) for f in through.flags], [(20, 20), (20, 61)])
        said = [each.reading.partition(", apart")[0] for each in (through["flag"], self.design.columns["wrong"])]
        self.assertEqual(said[0], said[1])
        self.assertIn("(w < 0; w > 150)", through["inside"].reading)

    def test_each_filled_cell_is_listed_from_the_folder(self) -> None:
        self.design.save(self.folder / "build")
        opened = fa.open_design(self.folder / "build")
        self.assertEqual(opened.imputed["source_row"].to_pylist(), list(range(1, 91)))
        self.assertEqual(opened.columns, fa.open_design(self.folder / "build").columns)
        outcome = command("explain", self.folder / "build", "x", "--imputed")
        self.assertEqual(outcome.returncode, 0, outcome.stderr)
        self.assertEqual(sum(line.split()[:1] == ["x"] for line in outcome.stdout.splitlines()), 90)
        whole = command("explain", self.folder / "build", "wrong").stdout
        self.assertIn("set to missing in 20 rows: w < 0", whole)

    def test_the_survey_plan_shows_the_item_that_runs_against_the_others(self) -> None:
        text = (SAMPLE / "survey.toml").read_text("utf-8").replace("reverse(q_3, 1, 5)", "q_3")
        warnings = "\n".join(fa.Plan.from_text(text).build(SAMPLE / "survey.csv").columns.warnings)
        self.assertIn("q_3 is negatively correlated with the other items", warnings)
        told = fa.Plan.load(SAMPLE / "survey.toml").build(SAMPLE / "survey.csv").columns
        self.assertNotIn("is negatively correlated", "\n".join(told.warnings))
        self.assertGreater(told.scores[0].alpha or 0, 0.7)
