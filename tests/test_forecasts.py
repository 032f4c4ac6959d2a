"""Direct forecasts, changes, counts, what cannot be forecast, and origins that know no later response."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

import facturum as fa
from facturum.validation.forecast_level import Level
from facturum.validation.forecast_path import count_interval
from tests.support import Folder, command

MONTHLY = {"time": "m", "every": "month", "panel": ["u"]}


def months(count: int, start: int = 2015) -> list[str]:
    return [f"{start + at // 12}-{at % 12 + 1:02d}" for at in range(count)]


def walk(seed: int, count: int = 72, units: int = 2) -> dict[str, Any]:
    dice = np.random.default_rng(seed)
    y = [np.exp(3 + np.cumsum(dice.normal(scale=0.1, size=count))) for _ in range(units)]
    return {
        "m": months(count) * units, "u": [f"u{at}" for at in range(units) for _ in range(count)],
        "y": np.concatenate(y).tolist(), "x": dice.normal(size=count * units).tolist(),
    }  # fmt: skip


class Direct(Folder):
    def test_a_response_that_lies_later_is_forecast_from_the_last_rows(self) -> None:
        table = walk(1)
        design = fa.Plan("log(lead(y, 3))", {"now": "log(y)", "x": "x"}, data=MONTHLY).build(table)
        found = fa.forecast(design, table, 3)
        self.assertFalse(found.recursive)
        self.assertEqual(found.response, "y")
        a, b, c = (each.estimate for each in design.trial().coefficients)
        for unit in range(2):
            own = [each for each in found.of if each.unit == f"u{unit}"]
            self.assertEqual([each.period for each in own], ["2021-01", "2021-02", "2021-03"])
            for at, each in zip(range(72 * unit + 69, 72 * unit + 72), own, strict=True):
                self.assertAlmostEqual(each.forecast, np.exp(a + b * np.log(table["y"][at]) + c * table["x"][at]), 8)
        with self.assertRaisesRegex(fa.DataError, "3 periods later forecasts 3 at most, and 4 are asked for"):
            fa.forecast(design, table, 4)

    def test_new_rows_whose_response_is_missing_throughout_are_built_without_it(self) -> None:
        table = walk(2, units=1)
        design = fa.Plan("log(lead(y, 3))", {"now": "lag(log(y), 1)"}, data=MONTHLY).build(table)
        old, new = ({key: values[part] for key, values in table.items()} for part in (slice(0, 69), slice(69, 72)))
        made = design.plan.build(new, history=old)
        self.assertIsNone(made.y)
        self.assertEqual(len(made.X), 3)
        np.testing.assert_allclose(made.X[:, 1], np.log(table["y"][68:71]))
        self.assertTrue(made.verify(new, history=old).ok)
        made.save(self.folder / "b")
        self.assertTrue(fa.open_design(self.folder / "b").verify(new, history=old).ok)

    def test_origins_know_no_response_that_lies_after_them(self) -> None:
        table = walk(3, units=1)
        plan = fa.Plan("lead(y, 3)", {"now": "y"}, data=MONTHLY)
        found = fa.validate(plan, table, origin_folds=2)
        y = np.array(table["y"])
        apart = []
        size = 69 // 3
        starts = [69 - 2 * size, 69 - size]
        for start in starts:
            train = np.arange(0, start - 3)  # the response of a later row is not known at the origin
            X = np.column_stack([np.ones(len(train)), y[train]])  # noqa: N806
            b = np.linalg.lstsq(X, y[train + 3], rcond=None)[0]
            test = np.arange(start, start + size)
            apart.append(y[test + 3] - b[0] - b[1] * y[test])
        self.assertAlmostEqual(found.accuracy[0].rmse, float(np.sqrt(np.square(np.concatenate(apart)).mean())), 9)
        self.assertIn("whose response lies before it", found.scheme)

    def test_the_accuracy_of_the_recursion_is_given_beside_that_of_one_step(self) -> None:
        table = walk(4, units=1)
        plan = fa.Plan("log(y)", {"before": "lag(log(y), 1)"}, data=MONTHLY)
        found = fa.validate(plan, table, origin_folds=2)
        self.assertIn("one month ahead", found.scheme)
        one_step, _, recursive = found.accuracy
        y = np.array(table["y"])
        size, apart, steps = 71 // 3, [], []
        for start in (72 - 2 * size, 72 - size):
            train = np.arange(1, start)
            X = np.column_stack([np.ones(len(train)), np.log(y[train - 1])])  # noqa: N806
            a, b = np.linalg.lstsq(X, np.log(y[train]), rcond=None)[0]
            level = np.log(y[start - 1])
            for at in range(start, start + size):
                level = a + b * level
                apart.append(y[at] - np.exp(level))
                steps.append(y[at] - np.exp(a + b * np.log(y[at - 1])))
        self.assertAlmostEqual(recursive.rmse, float(np.sqrt(np.square(apart).mean())), 8)
        self.assertAlmostEqual(one_step.rmse, float(np.sqrt(np.square(steps).mean())), 8)
        self.assertEqual((recursive.kind, recursive.units), ("one from another", "y"))

    def test_levels_follow_from_differences_of_any_order_and_multiples(self) -> None:
        table = walk(5, units=1)
        plain = fa.Plan("difference(log(y))", {"x": "lag(x, 3)"}, data=MONTHLY)
        hundred = fa.Plan("100 * difference(log(y))", {"x": "lag(x, 3)"}, data=MONTHLY)
        found = [fa.forecast(plan.build(table), table, 3) for plan in (plain, hundred)]
        for a, b in zip(*(each.of for each in found), strict=True):
            np.testing.assert_allclose((a.forecast, a.low, a.high), (b.forecast, b.low, b.high), rtol=1e-9)
        thousands = fa.Plan("y / 1000", {"before": "lag(y, 1)"}, data=MONTHLY)
        units = fa.Plan("y", {"before": "lag(y, 1)"}, data=MONTHLY)
        a, b = (fa.forecast(plan.build(table), table, 2).of for plan in (thousands, units))
        np.testing.assert_allclose([each.forecast for each in a], [each.forecast for each in b], rtol=1e-9)
        twice = fa.Plan("difference(difference(log(y)), step=12)", {"x": "lag(x, 3)"}, data=MONTHLY).build(table)
        b0, b1 = (each.estimate for each in twice.trial().coefficients)
        levels = np.log(table["y"]).tolist()
        for at in range(72, 75):
            change = b0 + b1 * table["x"][at - 3]
            levels.append(change + levels[at - 1] + levels[at - 12] - levels[at - 13])
        made = fa.forecast(twice, table, 3)
        np.testing.assert_allclose([each.forecast for each in made.of], np.exp(levels[72:]), rtol=1e-9)
        self.assertIsNone(Level.of("y / x"))

    def test_changes_written_by_hand_are_forecast_like_their_operations(self) -> None:
        table = walk(8, units=1)
        for by_hand, operation in (
            ("y - lag(y, 1)", "difference(y)"),
            ("log(y) - lag(log(y), 12)", "difference(log(y), step=12)"),
            ("100 * (y / lag(y, 1) - 1)", "percent_change(y)"),
        ):
            plans = [fa.Plan(text, {"x": "lag(x, 3)"}, data=MONTHLY) for text in (by_hand, operation)]
            one, other = (fa.forecast(plan.build(table), table, 3) for plan in plans)
            self.assertEqual((one.response, other.response), ("y", "y"))
            for a, b in zip(one.of, other.of, strict=True):
                np.testing.assert_allclose((a.forecast, a.low, a.high), (b.forecast, b.low, b.high), rtol=1e-9)
        self.assertIsNone(Level.of("y - lag(x, 1)"))  # whose later values are not forecast

    def test_without_an_intercept_a_recursion_is_its_coefficients_alone(self) -> None:
        table = walk(10, units=1)
        design = fa.Plan("y", {"before": "lag(y, 1)", "x": "lag(x, 3)"}, data=MONTHLY, intercept=False).build(table)
        a, b = (each.estimate for each in design.trial().coefficients)
        level, wanted = table["y"][-1], []
        for at in range(72, 75):
            level = a * level + b * table["x"][at - 3]
            wanted.append(level)
        found = fa.forecast(design, table, 3)
        np.testing.assert_allclose([each.forecast for each in found.of], wanted, rtol=1e-9)

    def test_a_response_that_falls_with_its_variable_forecasts_the_same_levels(self) -> None:
        """Least squares is equivariant: of c - k y, and of y, forecasts are the same, and the intervals too."""
        table = walk(9, units=1)
        plain = fa.Plan("y", {"before": "lag(y, 1)", "x": "lag(x, 3)"}, data=MONTHLY)
        wanted = fa.forecast(plain.build(table), table, 3).of
        for response in ("-y", "7 - y", "y * (-3)", "-(y / 4) + 2", "-(2 - y)", "3 + (1 - 5 * y)"):
            found = fa.forecast(fa.Plan(response, plain.spec.terms, data=MONTHLY).build(table), table, 3).of
            for a, b in zip(found, wanted, strict=True):
                self.assertAlmostEqual(a.forecast / b.forecast, 1, 9, response)
                np.testing.assert_allclose(sorted((a.low, a.high)), sorted((b.low, b.high)), rtol=1e-8)


class Told(Folder):
    def test_units_and_periods_that_do_not_fit_are_named_and_the_others_forecast(self) -> None:
        table = walk(6)
        design = fa.Plan("y", {"x": "x"}, data=MONTHLY).build(table)
        future = {"m": ["2021-01", "2021-02", "2021-01", "2021-01", "2030-01"], "u": ["u0", "u0", "u1", "D", "u0"]}
        future["x"] = [1.0, 2.0, 3.0, 4.0, 5.0]  # type: ignore[list-item]
        found = fa.forecast(design, table, 2, future=future)
        self.assertEqual(
            [(each.unit, each.period) for each in found.of], [("u0", "2021-01"), ("u1", "2021-01"), ("u0", "2021-02")]
        )
        told = " ".join(found.without)
        self.assertIn("D of the values to come: no such unit in the table", told)
        self.assertIn("1 row of the values to come outside the periods ahead: u0 2030-01", told)
        self.assertIn("x is not known in 1 row ahead: u1 2021-02", told)

    def test_a_series_that_ends_early_is_named(self) -> None:
        table = walk(7, units=1)
        series = {"t": {"m": months(72), "v": list(np.random.default_rng(0).normal(size=72))}}
        spec = {"t": {"file": "t.csv", "time": "m", "every": "month", "take": {"v": {"how": "mean"}}}}
        plan = fa.Plan("y", {"v": "t_v"}, data=MONTHLY, series=spec)
        design = plan.build(table, series=series)
        with self.assertRaisesRegex(fa.DataError, "The series t ends in 2020-12, and the periods ahead in 2021-02"):
            fa.forecast(design, table, 2, series=series)
        longer = {"t": {"m": months(73), "v": [0.0] * 73}}
        found = fa.forecast(design, table, 2, series=longer)
        self.assertEqual([each.period for each in found.of], ["2021-01"])
        self.assertTrue(any("the series t ends in 2021-01" in text for text in found.without))

    def test_a_recursion_that_grows_without_end_is_told(self) -> None:
        table = walk(8, units=1)
        design = fa.Plan(
            "log(y)", {"a": "lag(y, 1) ** 2", "b": "lag(y, 1) ** 3", "c": "lag(y, 1) ** 4"}, data=MONTHLY
        ).build(table)
        found = fa.forecast(design, table, 60)
        self.assertTrue(
            all(np.isfinite([each.forecast, each.low, each.high, each.expected]).all() for each in found.of)
        )
        if len(found.of) < 60:
            self.assertTrue(any("beyond what a double holds" in text or "missing" in text for text in found.without))

    def test_options_that_make_one_another_void_are_refused(self) -> None:
        table = walk(9, units=1)
        fa.Plan("y", {"b": "lag(y, 1)"}, data=MONTHLY).build(table).save(self.folder / "b")
        path = self.folder / "t.csv"
        path.write_text(
            "\n".join([",".join(table)] + [",".join(map(str, row)) for row in zip(*table.values(), strict=True)])
        )
        for words in (
            ("--ahead", "2", "--errors", "hc3"), ("--ahead", "2", "--folds", "3"),
            ("--folds", "3", "--origin-folds", "2"),
            ("--unit", "u0"), ("--future", path), ("--folds", "3", "--by", "u"), ("--lags", "3"),
            ("--leave-one-out", "--errors", "hc3"), ("--resample", "5", "--ahead", "2"),
            ("--folds", "3", "--figure", "f.png"),
        ):  # fmt: skip
            done = command("trial", self.folder / "b", "--data", path, *words)
            self.assertEqual(done.returncode, 2, (words, done.stdout))
            self.assertRegex(done.stderr, "valid only|one of|makes|void|belong", str(words))


class Counts(unittest.TestCase):
    def test_intervals_of_counts_cover_what_is_seen(self) -> None:
        dice = np.random.default_rng(11)
        inside = total = 0
        for _ in range(60):
            n, ahead = 96, 12
            x = dice.normal(size=n + ahead)
            y = dice.poisson(np.exp(3.6 + 0.4 * x))
            table = {"m": months(n), "x": x[:n].tolist(), "y": y[:n].tolist()}
            future = {"m": months(n + ahead)[n:], "x": x[n:].tolist()}
            design = fa.Plan("y", {"x": "x"}, data={"time": "m", "every": "month"}).build(table)
            found = fa.forecast(design, table, ahead, model="poisson", future=future)
            self.assertEqual(found.interval, "count")
            for seen, each in zip(y[n:], found.of, strict=True):
                inside += each.low <= seen <= each.high
                assert each.mean_low is not None
                assert each.mean_high is not None
                self.assertTrue(each.low <= each.mean_low < each.forecast < each.mean_high <= each.high)
            total += ahead
        self.assertTrue(0.93 <= inside / total <= 0.97, inside / total)

    def test_intervals_are_the_quantiles_of_the_distribution(self) -> None:
        from scipy import stats

        for mean in (0.3, 4.0, 250.0):
            low, high = count_interval(np.log([mean]), np.zeros(1))
            self.assertEqual((low[0], high[0]), tuple(stats.poisson(mean).ppf([0.025, 0.975])))
            low, high = count_interval(np.log([mean]), np.zeros(1), 3.0)
            self.assertEqual((low[0], high[0]), tuple(stats.nbinom(mean / 2, 1 / 3).ppf([0.025, 0.975])))
        dice = np.random.default_rng(0)
        draws = dice.poisson(np.exp(2 + 0.5 * dice.normal(size=400_000)))
        low, high = count_interval(np.array([2.0]), np.array([0.5]))
        self.assertLessEqual(np.abs(np.array([low[0], high[0]]) - np.quantile(draws, [0.025, 0.975])).max(), 1)


class Truth(Folder):
    def table(self, seed: int, n: int = 90) -> dict[str, Any]:
        dice = np.random.default_rng(seed)
        x, g = dice.normal(size=n).round(1), dice.integers(0, 3, n)
        return {
            "x": x,
            "g": [f"g{v}" for v in g],
            "y": (dice.random(n) < 1 / (1 + np.exp(0.5 - x - 0.3 * g))).astype(int),
        }

    def check(self, found: Any, y: np.ndarray, p: np.ndarray, base: float | np.ndarray) -> None:
        """Compare with the definitions, worked out pair by pair and row by row."""
        ones, zeros = p[y == 1], p[y == 0]
        auc = np.mean([(a > b) + 0.5 * (a == b) for a in ones for b in zeros])
        self.assertAlmostEqual(found.auc, auc, 10)
        self.assertAlmostEqual(found.brier, np.mean((y - p) ** 2), 10)
        if ((p > 0) & (p < 1)).all():
            self.assertAlmostEqual(found.log_loss, -np.mean(np.log(np.where(y == 1, p, 1 - p))), 10)
        else:
            self.assertIsNone(found.log_loss)
        for threshold, each in ((0.5, found.at_half), (base, found.at_base)):
            called = p >= threshold
            counts = [int(np.sum((called == c) & (y == t))) for c, t in ((0, 0), (1, 0), (0, 1), (1, 1))]
            self.assertEqual([each.true_zeros, each.false_ones, each.false_zeros, each.true_ones], counts)
            self.assertAlmostEqual(each.error_rate, np.mean(called != y))
        self.assertEqual(sum(tenth.rows for tenth in found.calibration), len(y))
        self.assertAlmostEqual(sum(t.rows * t.observed for t in found.calibration), y.sum(), 8)
        self.assertAlmostEqual(sum(t.rows * t.predicted for t in found.calibration), p.sum(), 8)

    def test_accuracy_fitted_held_out_in_folds_and_leaving_one_out(self) -> None:
        for model in ("linear", "logistic"):
            table = self.table(1)
            learn = {"learn": "x < 0.8"}
            plan = fa.Plan("y == 1", {"x": "x", "g": "g"}, rows=learn)
            made = plan.build(table)
            fit, _ = made._fit(model)
            trial = made.trial(model)
            y, p = np.asarray(made.y), fit.predicted(np.asarray(made.X)[:, 1:])
            base = float(y[made.rows.learning].mean())
            self.check(trial.truth[0], y[made.rows.learning], p[made.rows.learning], base)
            self.check(trial.truth[1], y[~made.rows.learning], p[~made.rows.learning], base)
            whole = fa.Plan("y == 1", {"x": "x", "g": "g"})
            alone = [({"leave_one_out": True}, 90)] if model == "linear" else []
            for options, parts in (({"folds": 4, "seed": 3}, 4), *alone):
                found = fa.validate(whole, table, model=model, **options)  # type: ignore[arg-type]
                order = np.random.default_rng(options.get("seed", 0)).permutation(90)  # type: ignore[attr-defined]
                part = np.empty(90, dtype=int)
                part[order] = np.arange(90) % parts
                out, bases = np.empty(90), np.empty(90)
                X, truth = np.asarray(whole.build(table).X), np.asarray(whole.build(table).y)  # noqa: N806
                for at in range(parts):
                    chosen = part != at
                    one = fa.Plan("y == 1", {"x": "x", "g": "g"}).build(
                        {k: np.asarray(v)[chosen] for k, v in table.items()}
                    )
                    b = one._fit(model)[0]
                    out[~chosen], bases[~chosen] = b.predicted(X[~chosen, 1:]), truth[chosen].mean()
                self.check(found.truth[0], truth, out, bases)
                self.assertEqual(found.accuracy, ())

    def test_odds_of_one_number_are_those_of_its_coefficient(self) -> None:
        dice = np.random.default_rng(1)
        x = dice.normal(size=300)
        made = fa.Plan("y", {"x": "x"}).build({"x": x, "y": dice.random(300) < 1 / (1 + np.exp(-0.5 - x))})
        trial = made.trial("logistic")
        each = trial.coefficients[1]
        odds, low, high = (f"{np.exp(v):.2f}" for v in (each.estimate, each.low or 0.0, each.high or 0.0))
        self.assertIn(f"the odds that y holds {odds} times as large (95 %: {low} to {high}).", trial.effects[0].text)

    def test_likelihood_figures_are_their_definitions(self) -> None:
        table = self.table(2)
        for model, response in (("logistic", "y == 1"), ("poisson", "k")):
            strong = 0.3 if model == "logistic" else 1.1  # a ratio beyond the deviance that is left, too
            table["k"] = np.random.default_rng(3).poisson(np.exp(0.2 + strong * table["x"]))
            for intercept in (True, False):
                made = fa.Plan(response, {"x": "x", "g": "g"}, intercept=intercept).build(table)
                trial = made.trial(model)
                found = trial.likelihood
                assert found is not None
                b = np.array([each.estimate for each in trial.coefficients])
                y, eta = np.asarray(made.y), np.asarray(made.X) @ b
                from scipy import stats

                def logs(eta: np.ndarray, y: np.ndarray = y, model: str = model) -> float:
                    if model == "poisson":
                        return float(stats.poisson.logpmf(y, np.exp(eta)).sum())
                    return float(stats.bernoulli.logpmf(y, 1 / (1 + np.exp(-eta))).sum())

                mean = float(y.mean())
                null = (np.log(mean) if model == "poisson" else np.log(mean / (1 - mean))) if intercept else 0.0
                self.assertAlmostEqual(found.log_likelihood, logs(eta), 7)
                self.assertAlmostEqual(found.null, logs(np.full(len(y), null)), 7)
                self.assertAlmostEqual(found.mcfadden or 0, 1 - logs(eta) / logs(np.full(len(y), null)), 8)
                free = len(b) - intercept
                self.assertAlmostEqual(found.ratio, 2 * (logs(eta) - logs(np.full(len(y), null))), 6)
                self.assertAlmostEqual(found.ratio_p, float(stats.chi2.sf(found.ratio, free)), 10)
                self.assertAlmostEqual(found.aic, 2 * len(b) - 2 * logs(eta), 6)
                self.assertAlmostEqual(found.bic, np.log(len(y)) * len(b) - 2 * logs(eta), 6)
                self.assertEqual((trial.statistic_name, trial.r2), ("z", None))

    def test_the_report_fits_what_the_response_asks_for(self) -> None:
        table = self.table(7)
        table["k"] = np.random.default_rng(3).poisson(np.exp(1 + 0.3 * table["x"]))
        for response, model, said in (
            ("y == 1", "logistic regression", "Accuracy of predicted probabilities"),
            ("k", "Poisson regression", "McFadden"),
            ("x", "least squares", "Accuracy in units of x"),
        ):
            fa.Plan(response, {"g": "g"}).build(table).save(self.folder / "b", replace=True)
            done = command("report", self.folder / "b", "--out", self.folder / "r.html", "--replace")
            self.assertEqual(done.returncode, 0, done.stderr)
            page = (self.folder / "r.html").read_text()
            self.assertIn(f"by {model} on 90 rows", page)
            self.assertIn(said, page)

    def test_out_of_draw_accuracy_and_names_of_r2(self) -> None:
        table = self.table(4)
        found = fa.resample(fa.Plan("y == 1", {"x": "x"}), table, 20, model="logistic")
        self.assertEqual((len(found), found.truth[0].sample), (2, "not drawn"))
        self.assertTrue(0.5 < (found.truth[0].auc or 0) < 1)
        self.assertEqual(
            fa.Plan("x", {"g": "category(g, coding='every')"}, intercept=False).build(table).trial().r2_name,
            "R² about zero",
        )

    def test_a_row_that_cannot_be_predicted_is_named_and_the_others_are(self) -> None:
        dice = np.random.default_rng(5)
        table = {"g": ["a", "b"] * 20 + ["solo"], "x": dice.normal(size=41), "y": dice.normal(size=41)}
        plan = fa.Plan("y", {"g": "g", "x": "standardize(x)"})
        for options in ({"leave_one_out": True}, {"folds": 5}):
            found = fa.validate(plan, table, **options)  # type: ignore[arg-type]
            self.assertEqual(found.accuracy[0].rows, 40)
            self.assertRegex(
                " ".join(found.notes),
                r"Not predicted: 1 row \(41\): 'g' has a category that is not in the plan: 'solo'",
            )
        at_once = fa.validate(
            fa.Plan("y", {"g": "category(g, order=['a', 'b', 'solo'], reference='a')"}), table, leave_one_out=True
        )
        self.assertRegex(" ".join(at_once.notes), r"1 row \(41\): a column has no coefficient without them")
        fixed = fa.Plan("y", {"g": "g == 'solo'"})
        left_out = fa.validate(fixed, table, leave_one_out=True)
        self.assertIn("(41), which alone determine a coefficient", " ".join(left_out.notes))

    def test_validation_that_predicts_nothing_says_so(self) -> None:
        dice = np.random.default_rng(6)
        table = {"year": sorted([2001 + at for at in range(9)] * 5), "u": list("abcde") * 9}
        table |= {"x": dice.normal(size=45).tolist(), "y": dice.normal(size=45).tolist()}
        plan = fa.Plan("within(y, by=[u], and_by=[year])", {"x": "within(x, by=[u], and_by=[year])"}, intercept=False,
                       data={"time": "year", "every": "year", "panel": ["u"]})  # fmt: skip
        with self.assertRaisesRegex(fa.DataError, "no row is predicted(.|\n)*Not predicted: [0-9]+ rows"):
            fa.validate(plan, table, origin_folds=2)


if __name__ == "__main__":
    unittest.main()
