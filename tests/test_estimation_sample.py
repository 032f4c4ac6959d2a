"""The estimation sample: what is learned is learned from the learning rows that remain in the matrix."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

import facturum as fa
from tests.support import Folder, command, huts, panel


def slopes(y: np.ndarray, x: np.ndarray) -> np.ndarray:
    found: np.ndarray = np.linalg.lstsq(x, y, rcond=None)[0]
    return found


class Remaining(Folder):
    def test_what_is_said_of_scales_and_bins_holds_over_the_learning_rows_of_the_matrix(self) -> None:
        table = huts(600, seed=90, missing=0.15)
        terms = {
            "c": "center(price)",
            "s": "standardize(change)",
            "p": "polynomial(beds, 3, orthogonal=True)",
            "b": "category(bins(change, quantiles=4), coding='every')",
            "d": "price > median(price)",
            "a": "access",
            "e": "bins(beds, edges=[30])",  # whose labels are learned of no row
        }
        rows = {"learn": "month < '2023-01'", "keep": "floor > -1"}
        made = fa.Plan("stays", terms, data={"time": "month", "every": "month"}, rows=rows).build(table)
        x = dict(zip(made.names, made.X[made.rows.learning].T, strict=True))
        count = len(x["c"])
        self.assertEqual((made.columns.rows.learned, {each.rows for each in made.columns.learned}), (count, {count}))
        self.assertTrue(0 < count < len(made.X))
        self.assertAlmostEqual(x["c"].mean(), 0, places=12)
        self.assertAlmostEqual(x["s"].mean(), 0, places=12)
        self.assertAlmostEqual(x["s"].std(ddof=1), 1, places=12)
        basis = np.stack([np.ones(count), *[x[name] for name in ("p", "p_2", "p_3")]], axis=1)
        np.testing.assert_allclose(basis.T @ basis / count, np.eye(4), atol=1e-12)
        sizes = [values.sum() for name, values in x.items() if name.startswith("b_")]
        self.assertLessEqual(max(sizes) - min(sizes), 1)
        self.assertLessEqual(abs(x["d"].sum() - count / 2), 1)
        again = made.plan.build(table).columns
        self.assertEqual((again.learned, again.rows.learned), ([], 0))  # a resolved plan learns nothing

    def test_learned_numbers_beside_lags_and_random_masks_follow_from_the_learning_rows_of_the_matrix(self) -> None:
        """Each number is worked out by hand from the plain columns of the same matrix."""
        for seed in range(6):
            table = panel(seed, units=4, periods=40, gaps=0.2, missing=0.1)
            dice = np.random.default_rng(seed)
            table["drawn"] = (dice.random(len(table["hut"])) < 0.6).tolist()
            plain = {
                "p": "price",
                "s": "impute(snow, 'next')",
                "g": "lag(price, 2)",
                "m": "moving_average(snow, 3, at_least=1)",
            }
            learned = {
                "c": "center(price)",
                "z": "standardize(impute(snow, 'next'))",
                "w": "winsorize(lag(price, 2), shares=[0.1, 0.9])",
                "o": "lag(center(price), 2)",
                "q": "moving_average(snow, 3, at_least=1) > median(moving_average(snow, 3, at_least=1))",
            }
            data = {"time": "month", "every": "month", "panel": ["hut"]}
            plan = fa.Plan(
                "stays", {**plain, "far": "lag(price, [4, 5])", **learned}, data=data, rows={"learn": "drawn"}
            )
            made = plan.build(table)
            rows = made.rows.learning
            x = dict(zip(made.names, made.X.T, strict=True))
            mean, low, high = x["p"][rows].mean(), *np.quantile(x["g"][rows], [0.1, 0.9])
            by_hand = {
                "c": x["p"] - mean,  # type: ignore[has-type]
                "z": (x["s"] - x["s"][rows].mean()) / x["s"][rows].std(ddof=1),
                "w": np.clip(x["g"], low, high),  # type: ignore[has-type]
                "o": x["g"] - mean,  # type: ignore[has-type]
                "q": x["m"] > np.median(x["m"][rows]),
            }
            for key, column in by_hand.items():
                np.testing.assert_allclose(x[key], column, rtol=1e-12, atol=1e-12, err_msg=key)
            self.assertEqual({(each.rows, each.remaining) for each in made.columns.learned}, {(rows.sum(), True)})
            self.assertFalse([text for text in made.columns.warnings if "terms.m reads later rows" in text])

    def test_the_warning_of_later_rows_counts_the_learning_rows_that_read_them(self) -> None:
        table = {"t": list(range(2001, 2009)), "x": [1.0, 2, None, 4, 5, None, 7, 8], "k": [1, 1, 1, 0, 1, 1, 1, 0]}
        table["u"] = [float(value) for value in range(8)]
        terms = {"l": "lead(lag(u, 1), 2)", "f": "impute(x, 'next')"}
        made = fa.Plan(None, terms, data={"time": "t", "every": "year"}, rows={"learn": "k == 1"}).build(table)
        # rows 1 to 7 remain; row 3 reads row 4, and row 7 row 8; row 3 is filled from row 4
        said = "\n".join(made.columns.warnings)
        self.assertIn("terms.l reads later rows that are not learned from in 2 of 6 learning rows", said)
        self.assertIn("terms.f reads later rows that are not learned from in 1 of 6 learning rows", said)

    def test_rows_of_a_group_without_a_value_are_not_learned_from(self) -> None:
        table: dict[str, Any] = {
            "g": list("aabbccdd"),
            "h": list("xxyyxyzz"),
            "x": [1.0, 2.0, None, None, 4.0, 6.0, 7.0, 8.0],
            "z": [1.0, 3.0, 50.0, 90.0, 4.0, 8.0, None, None],
        }
        terms = {"m": "mean(x, by=[g])", "n": "mean(z, by=[h])", "c": "center(z)", "g": "category(g)"}
        made = fa.Plan(None, terms).build(table)
        self.assertEqual(made.rows.kept.tolist(), [1, 2, 5, 6])
        columns = dict(zip(made.names, made.X.T.tolist(), strict=True))
        self.assertEqual(columns["m"], [1.5, 1.5, 5, 5])
        self.assertEqual(columns["n"], [8 / 3, 8 / 3, 8 / 3, 8])  # y without the rows of group b
        self.assertEqual(columns["c"], [-3, -1, 0, 4])
        self.assertEqual([name for name in made.names if name.startswith("g")], ["g_c"])
        self.assertTrue(made.verify(table).ok)

    def test_what_decides_which_rows_remain_is_learned_before(self) -> None:
        table = {"x": [1.0, 2.0, 3.0, 10.0, None], "w": [None, 1.0, 2.0, 3.0, 4.0]}
        terms = {"u": "missing_if(x, x > mean(x))", "c": "center(w)"}
        made = fa.Plan(None, terms).build(table)
        self.assertEqual(made.rows.kept.tolist(), [2, 3])
        self.assertEqual(
            [(each.expression, each.terms, each.rows, each.remaining) for each in made.columns.learned],
            [("mean(x)", ["u"], 4, False), ("center(w)", ["c"], 2, True)],
        )
        made.save(self.folder / "b")
        for column, said in (
            ("u", "mean(x), estimated from 4 learning rows that [rows] keep selects, because it decides which"),
            ("c", "center(w), estimated from 2 rows of the estimation sample"),
        ):
            shown = command("explain", self.folder / "b", column, COLUMNS="160").stdout
            self.assertIn(said, " ".join(shown.split()))


class Within(unittest.TestCase):
    def test_slopes_within_units_are_those_beside_indicators(self) -> None:
        """Frisch, R. & Waugh, F., "Partial time regressions as compared with individual trends" (1933)."""
        for seed in range(5):
            table = panel(seed, units=7, periods=20, gaps=0.25, missing=0.2)
            dice = np.random.default_rng(seed)
            table["wide"] = [None if dice.random() < 0.2 else float(v) for v in dice.normal(size=len(table["hut"]))]
            data = {"time": "month", "every": "month", "panel": ["hut"]}
            plain = {"p": "price", "w": "wide", "l": "lag(snow, 1)"}
            own = {key: f"{text} - mean({text}, by=[hut])" for key, text in plain.items()}
            made = fa.Plan("stays - mean(stays, by=[hut])", own, data=data, intercept=False).build(table)
            beside = fa.Plan("stays", {**plain, "h": "category(hut, coding='every')"}, data=data, intercept=False)
            whole = beside.build(table)
            self.assertEqual(made.rows.kept.tolist(), whole.rows.kept.tolist())
            np.testing.assert_allclose(slopes(made.y, made.X), slopes(whole.y, whole.X)[:3], rtol=1e-9, atol=1e-9)
            self.assertEqual(made.columns.warnings, [])

    def test_two_way_effects_are_those_of_both_sets_of_indicators(self) -> None:
        """Baltagi, B., "Econometric Analysis of Panel Data", chapter 3: the same slopes, with fewer columns."""
        for seed in range(5):
            table = panel(seed, units=7, periods=20, gaps=0.3, missing=0.2)
            table["season"] = [str(month)[-2:] for month in table["month"]]
            plain = {"p": "price", "l": "lag(snow, 1)"}
            data = {"time": "month", "every": "month", "panel": ["hut"]}
            own = {key: f"within({text}, by=[hut], and_by=[season])" for key, text in plain.items()}
            made = fa.Plan("within(stays, by=[hut], and_by=[season])", own, data=data, intercept=False).build(table)
            beside = {**plain, "h": "category(hut)", "s": "category(season)"}
            whole = fa.Plan("stays", beside, data=data).build(table)
            self.assertEqual(made.rows.kept.tolist(), whole.rows.kept.tolist())
            np.testing.assert_allclose(slopes(made.y, made.X), slopes(whole.y, whole.X)[1:3], rtol=1e-9, atol=1e-9)
            rank = np.linalg.matrix_rank(whole.X[:, 3:] - whole.X[:, 3:].mean(axis=0))
            self.assertEqual({each.absorbed for each in made.columns.learned}, {rank})
            for key in ("hut", "season"):  # a projection once more finds nothing, and new rows of new groups none
                groups = np.array(table[key])[made.rows.kept - 1]
                means = [made.X[groups == group].mean(axis=0) for group in set(groups)]
                self.assertLess(np.abs(means).max(), 1e-12 * max(1.0, float(np.abs(made.X).max())) * 10)
            other = {name: [*column, column[-1]] for name, column in table.items()}
            other["hut"][-1] = "elsewhere"
            self.assertEqual(made.plan.build(other).rows.kept.tolist(), made.rows.kept.tolist())

    def test_effects_of_groups_that_few_rows_connect_converge(self) -> None:
        units = np.repeat(np.arange(300), 2)  # each unit is seen in two periods, the next in one of them
        periods = units + np.tile([0, 1], 300)
        x = np.random.default_rng(3).normal(size=600)
        table = {"u": [f"u{at}" for at in units], "t": [f"t{at}" for at in periods], "x": x}
        found = fa.Plan(None, {"x": "within(x, by=[u], and_by=[t])"}, intercept=False).build(table).X[:, 0]
        for codes in (units, periods):
            self.assertLess(np.abs(np.bincount(codes, found)).max(), 1e-12)


class LeftOut(unittest.TestCase):
    def test_rows_left_out_are_told_by_variable(self) -> None:
        table = {
            "month": [f"2020-{at:02d}" for at in (1, 2, 3, 4, 6, 7, 8, 9, 10, 11)],
            "x": [1.0, None, 3.0, 4.0, 5.0, 6.0, None, 8.0, 9.0, 10.0],
            "z": [5.0, 5.0, 15.0, 5.0, 5.0, 25.0, 5.0, 0.0, 25.0, 5.0],
            "kind": ["a", "b", "a", "a", "b", None, "a", "b", "a", "b"],
            "y": [1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0, 9.0, 10.0],
        }
        terms = {"x": "lag(x, 1)", "two": "[x, z]", "zone": "bins(z, edges=[[0, 10], [20, 30]])", "kind": "kind == 'a'",
                 "log": "log(z, nonpositive='missing')"}  # fmt: skip
        data = {"time": "month", "every": "month"}
        made = fa.Plan("y", terms, data=data, rows={"keep": "y > 1"}).build(table)
        self.assertEqual(made.rows.kept.tolist(), [4, 9, 10])
        found = {each.why: (each.rows, each.alone) for each in made.columns.rows.absences}
        self.assertEqual(
            found,
            {
                "x is missing": (2, 2),
                "x is missing 1 month before": (2, 0),
                "x needs the value 1 month before, and that month is not in the table": (1, 1),
                "z lies in no bin": (1, 0),
                "kind is missing": (1, 1),
                "z is 0 or less, and has no logarithm": (1, 0),
            },
        )
        # of a block each column has its own count, over the rows that keep selects
        self.assertEqual([made.columns[name].missing for name in ("two_x", "two_z", "x", "log")], [2, 0, 3, 1])
