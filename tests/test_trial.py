"""The trial regression against exact arithmetic, published figures, and its own definitions written out."""

from __future__ import annotations

import itertools
import re
import tempfile
import unittest
from decimal import Decimal, getcontext
from typing import Any

import numpy as np

import facturum as fa
from facturum.trial.fit.regression import t_quantile
from facturum.trial.fit.trial import Trial
from tests import reference_problems as problems
from tests.support import Folder, command, huts

DICE = np.random.default_rng(11)
ROWS = 90


def table(rows: int = ROWS, seed: int = 3) -> dict[str, Any]:
    """Return a clean table with a response."""
    dice = np.random.default_rng(seed)
    price, beds = dice.uniform(5, 60, rows), dice.uniform(4, 90, rows)
    access = dice.choice(["trail", "road", "boat"], rows)
    effect = {"trail": 0.0, "road": 0.4, "boat": -0.2}
    stays = np.exp(3 - 0.5 * np.log(price) + 0.01 * beds + [effect[a] for a in access] + dice.normal(0, 0.3, rows))
    return {
        "price": price,
        "beds": beds,
        "access": access,
        "stays": stays,
        "hut": np.arange(rows) % 9,
        "open": stays > 9,
    }


TERMS = {"price": "log(price)", "beds": "beds", "access": "category(access, reference='trail')"}


def plain(design: fa.Design) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return coefficients, X'X inverted and residuals, by another routine."""
    b, *_ = np.linalg.lstsq(design.X, design.y, rcond=None)
    return b, np.linalg.inv(design.X.T @ design.X), design.y - design.X @ b


class Certified(unittest.TestCase):
    """Reference problems, to the digits that exact arithmetic on the stored doubles gives."""

    def fitted(self, columns: list[np.ndarray], y: np.ndarray) -> Trial:
        named = {f"x{at}": column for at, column in enumerate(columns)}
        plan = fa.Plan("y", {name: name for name in named}, rows={"missing": "fail"}).with_checks("off")
        return plan.build({**named, "y": y}).trial()

    def agree(self, columns: list[np.ndarray], y: np.ndarray, certified: list[float]) -> None:
        found = [each.estimate for each in self.fitted(columns, y).coefficients]
        wanted = [float(each) for each in problems.exact(columns, y)]
        self.assertGreaterEqual(problems.digits(found, wanted), 14)
        self.assertGreaterEqual(problems.digits(found, certified), problems.digits(wanted, certified) - 1)

    def test_the_16_macroeconomic_observations(self) -> None:
        X, y = problems.longley()  # noqa: N806
        self.agree(list(X.T), y, problems.LONGLEY_COEFFICIENTS)
        trial = self.fitted(list(X.T), y)
        errors = [each.error for each in trial.coefficients]
        self.assertGreaterEqual(problems.digits(errors, problems.LONGLEY_ERRORS), 12)
        self.assertAlmostEqual(trial.sigma or 0, 304.854073561965, 9)

    def test_a_curve_of_degree_10(self) -> None:
        x, y = problems.degree_10()
        powers = [x]
        for _ in range(9):
            powers.append(powers[-1] * x)
        self.agree(powers, y, problems.DEGREE_10_COEFFICIENTS)

    def test_curves_of_degree_5_with_residuals_of_any_size(self) -> None:
        for scale in (0.0, 1.0, 100.0, 10_000.0):
            x, y = problems.degree_5(scale)
            self.agree([x**power for power in range(1, 6)], y, [1.0] * 6)

    def test_one_way_layouts_with_13_leading_digits(self) -> None:
        for leading, replicates in ((1.0, 21), (1e6, 201), (1e12, 21)):
            group, y = problems.one_way(leading, replicates)
            columns = [(group == at).astype(float) for at in range(1, 9)]
            wanted = [float(each) for each in problems.exact(columns, y)]
            found = [each.estimate for each in self.fitted(columns, y).coefficients]
            self.assertGreaterEqual(problems.digits(found[:1], wanted[:1]), 15)
            np.testing.assert_allclose(found[1:], wanted[1:], rtol=1e-13, atol=1e-16)

    def test_blocks_give_what_the_whole_gives(self) -> None:
        design = fa.Plan("log(stays)", TERMS).build(table(5000))
        b, _, _ = plain(design)
        rows = design._fit()[1]
        cut = type(rows)(rows.names, rows.intercept, rows.columns, lambda: iter(list(self.cut(design))), rows.carried)
        from facturum.trial.fit.solving import solve

        np.testing.assert_allclose(solve(cut).coefficients, b, rtol=1e-10)

    @staticmethod
    def cut(design: fa.Design) -> Any:
        from facturum.trial.fit.rows import Block

        for X, y, numbers in design.blocks(7):  # noqa: N806
            yield Block(X[:, 1:], y, numbers, np.ones(len(y), dtype=bool))


class Errors(unittest.TestCase):
    """Standard errors against their definitions, evaluated directly."""

    def setUp(self) -> None:
        plan = fa.Plan("log(stays)", TERMS, data={"carry": ["hut"]})
        self.design = plan.build(table())
        self.b, self.inverse, self.e = plain(self.design)
        self.X, (self.n, self.k) = self.design.X, self.design.X.shape

    def agree(self, trial: Trial, middle: np.ndarray, free: int | None = None) -> None:
        wanted = self.inverse @ middle @ self.inverse
        np.testing.assert_allclose(trial.covariance, wanted, rtol=1e-9, atol=1e-13)
        quantile = t_quantile(free or self.n - self.k)
        first = trial.coefficients[1]
        self.assertAlmostEqual(first.high, first.estimate + quantile * np.sqrt(wanted[1, 1]), 9)

    def test_ordinary(self) -> None:
        trial = self.design.trial()
        np.testing.assert_allclose([c.estimate for c in trial.coefficients], self.b, rtol=1e-10)
        self.agree(trial, self.X.T @ self.X * (self.e @ self.e) / (self.n - self.k))
        total = ((self.design.y - self.design.y.mean()) ** 2).sum()
        self.assertAlmostEqual(trial.r2 or 0, 1 - self.e @ self.e / total, 12)

    def test_robust(self) -> None:
        square = (self.X * (self.e**2)[:, None]).T @ self.X
        self.agree(self.design.trial(errors="hc1"), square * self.n / (self.n - self.k))
        h = np.einsum("ij,jk,ik->i", self.X, self.inverse, self.X)
        self.agree(self.design.trial(errors="hc3"), (self.X * ((self.e / (1 - h)) ** 2)[:, None]).T @ self.X)

    def test_clustered(self) -> None:
        units = table()["hut"]
        middle = np.zeros((self.k, self.k))
        for unit in range(9):
            score = self.X[units == unit].T @ self.e[units == unit]
            middle += np.outer(score, score)
        scale = 9 / 8 * (self.n - 1) / (self.n - self.k)
        self.agree(self.design.trial(errors="clustered", by="hut"), scale * middle, 8)

    def test_along_time(self) -> None:
        lags = 3
        scores = self.X * self.e[:, None]
        middle = scores.T @ scores
        for lag in range(1, lags + 1):
            part = scores[lag:].T @ scores[:-lag]
            middle += (1 - lag / (lags + 1)) * (part + part.T)
        scale = self.n / (self.n - self.k)
        self.agree(self.design.trial(errors="autocorrelation", lags=lags), scale * middle)
        chosen = self.design.trial(errors="autocorrelation")
        self.assertIn("up to 3 lags", chosen.errors)  # 4 (90 / 100)^(2/9), rounded down

    def test_along_time_rows_are_neighbours_by_their_period(self) -> None:
        rng = np.random.default_rng(8)
        month, hut = (each.ravel() for each in np.meshgrid(np.arange(30), np.arange(4)))
        chosen = rng.permutation(len(month))[:90]  # gaps, in no order
        month, hut = month[chosen], hut[chosen]
        x = rng.normal(size=90)
        data = {"month": [f"{1 + m % 12}/{2015 + m // 12}" for m in month], "hut": [f"h{h}" for h in hut], "x": x}
        data |= {"y": x + np.sin(month) + rng.normal(size=90), "valley": [f"v{h // 2}" for h in hut]}
        spec = {"time": "month", "every": "month", "panel": ["hut"], "carry": ["month", "hut", "valley"]}
        kinds = {"month": {"kind": "time", "pattern": "%m/%Y"}}
        design = fa.Plan("y", {"x": "x"}, data=spec, variables=kinds).build(data)
        _, inverse, e = plain(design)
        score = design.X * e[:, None]
        for by, unit in ((None, hut), ("valley", hut // 2)):
            middle = np.zeros((2, 2))
            for i, j in itertools.product(range(90), repeat=2):
                weight = 1 - abs(int(month[i]) - int(month[j])) / 4
                if unit[i] == unit[j] and weight > 0:
                    middle += weight * np.outer(score[i], score[j])
            wanted = inverse @ middle @ inverse * 90 / 88
            with tempfile.TemporaryDirectory() as folder:
                for kind in ("parquet", "csv"):
                    design.save(f"{folder}/{kind}", format=kind)
                    for each in (design, fa.open_design(f"{folder}/{kind}")):
                        found = each.trial(errors="autocorrelation", by=by, lags=3).covariance
                        np.testing.assert_allclose(found, wanted, rtol=1e-9, atol=1e-13)
        bare = fa.Plan("y", {"x": "x"}, data=spec | {"carry": []}, variables=kinds).build(data)
        wanted = design.trial(errors="autocorrelation")
        with tempfile.TemporaryDirectory() as folder:
            for kind in ("parquet", "npy", "npz"):
                made = bare if kind != "npz" else fa.Plan._of(bare.plan.spec).build(data, sparse=True)
                made.save(f"{folder}/{kind}", format=kind)
                stored = fa.open_design(f"{folder}/{kind}")
                found = stored.trial(errors="autocorrelation", table=data)
                np.testing.assert_allclose(found.covariance, wanted.covariance, rtol=1e-12)  # type: ignore[attr-defined]
            with self.assertRaisesRegex(fa.DataError, r"'hut' is not carried along with the matrix\nGive the source"):
                stored.trial(errors="autocorrelation")
            with self.assertRaisesRegex(fa.DataError, "the table has 89 rows, and the build was made of 90"):
                stored.trial(errors="autocorrelation", table={key: values[1:] for key, values in data.items()})
        self.assertEqual(bare.trial(errors="autocorrelation"), wanted)

    def test_joint_tests_are_those_of_nested_fits(self) -> None:
        trial = self.design.trial()
        reduced = fa.Plan("log(stays)", {"price": "log(price)", "beds": "beds"}).build(table())
        _, _, e = plain(reduced)
        wanted = (e @ e - self.e @ self.e) / 2 / ((self.e @ self.e) / (self.n - self.k))
        self.assertAlmostEqual(next(t for t in trial.terms if t.term == "access").statistic, wanted, 8)

    def test_what_is_not_known_is_refused(self) -> None:
        cases: list[tuple[dict[str, Any], str]] = [
            ({"errors": "clustered", "by": "prise"}, "is not carried along"),
            ({"errors": "clustered"}, "need a unit"),
            ({"errors": "white"}, "not a kind of standard errors"),
            ({"lags": 2}, "lags belong to autocorrelation"),
            ({"model": "probit"}, "is not a model"),
        ]
        for options, said in cases:
            with self.subTest(options), self.assertRaisesRegex(fa.DataError, said):
                self.design.trial(**options)

    def test_values_of_any_size_are_fitted_or_refused(self) -> None:
        given = {"y": table()["stays"]}
        given["x"] = np.log(given["y"])
        b = fa.Plan("y", {"x": "x"}).build(given).trial()["x"].estimate
        for power in (-300, -160, -90, -70, 0, 70, 90, 160, 300):
            data = {"y": given["y"], "x": given["x"] * 10.0**power}
            for intercept in (True, False):
                design = fa.Plan("y", {"x": "x", "none": "3"}, intercept=intercept).build(data)
                self.assertIn("checks", repr(design.checks))
                try:
                    trial = design.trial()
                except fa.DataError as error:
                    self.assertGreater(abs(power), 72)
                    self.assertIn("too large or too small", str(error))
                    self.assertIn("values are too large or too small", str(design.checks.made))
                else:
                    self.assertLess(abs(power), 75)
                    self.assertAlmostEqual(trial["x"].estimate / b * 10.0**power, 1, 9)

    def test_a_column_that_varies_in_incomplete_rows_alone_has_no_coefficient(self) -> None:
        given = table()
        missing = np.arange(ROWS) % 7 == 3
        given["beds"] = [None if gone else beds for gone, beds in zip(missing, given["beds"], strict=True)]
        terms = {"beds": "beds", "gone": "is_missing(beds)", "price": "log(price)"}
        for intercept in (True, False):
            without = {key: text for key, text in terms.items() if key != "gone"}
            plans = [fa.Plan("stays", t, rows={"missing": "keep"}, intercept=intercept) for t in (terms, without)]
            found, wanted = (plan.build(given).trial() for plan in plans)
            np.testing.assert_allclose(
                [c.estimate for c in found.coefficients], [c.estimate for c in wanted.coefficients], rtol=1e-12
            )
            self.assertTrue(any("gone is 0 in every row" in each.text for each in plans[0].build(given).checks))


def newton(X: np.ndarray, y: np.ndarray, logistic: bool) -> list[Decimal]:  # noqa: N803
    """Return the coefficients of the largest likelihood, by Newton's method with 50 digits."""
    getcontext().prec = 50
    rows = [[Decimal(float(x)) for x in row] for row in X]
    b = [Decimal(0)] * X.shape[1]
    for _ in range(60):
        eta = [sum((x * c for x, c in zip(row, b, strict=True)), Decimal(0)) for row in rows]
        mean = [1 / (1 + (-e).exp()) if logistic else e.exp() for e in eta]
        weight = [m * (1 - m) if logistic else m for m in mean]
        rest = [Decimal(float(v)) - m for v, m in zip(y, mean, strict=True)]
        width = range(len(b))
        system = [
            [sum((w * r[i] * r[j] for w, r in zip(weight, rows, strict=True)), Decimal(0)) for j in width]
            + [sum((d * r[i] for d, r in zip(rest, rows, strict=True)), Decimal(0))]
            for i in width
        ]
        for i in width:
            for j in width:
                if i != j:
                    times = system[j][i] / system[i][i]
                    system[j] = [p - times * q for p, q in zip(system[j], system[i], strict=True)]
        step = [system[i][-1] / system[i][i] for i in width]
        b = [c + s for c, s in zip(b, step, strict=True)]
        if max(map(abs, step)) < Decimal("1e-40"):
            break
    return b


class Likelihoods(unittest.TestCase):
    def test_they_agree_with_50_digits(self) -> None:
        small = {key: values[:40] for key, values in table().items()}
        for model, response in (("logistic", "open"), ("poisson", "counts")):
            small["counts"] = np.round(small["stays"]).astype(int)
            design = fa.Plan(response, {"price": "log(price)", "beds": "beds / 10"}).build(small)
            trial = design.trial(model)
            wanted = [float(each) for each in newton(design.X, design.y, model == "logistic")]
            np.testing.assert_allclose([c.estimate for c in trial.coefficients], wanted, rtol=1e-11)
            mean = design.X @ wanted
            mean = 1 / (1 + np.exp(-mean)) if model == "logistic" else np.exp(mean)
            weight = mean * (1 - mean) if model == "logistic" else mean
            np.testing.assert_allclose(
                trial.covariance, np.linalg.inv((design.X * weight[:, None]).T @ design.X), rtol=1e-9
            )
            self.assertIn("odds" if model == "logistic" else "%", trial.effects[0].text)

    def test_separation_is_said_with_its_columns(self) -> None:
        rows = 60
        x = np.linspace(-3, 3, rows)
        noise = np.random.default_rng(0).normal(size=rows)
        for name, y, terms in (
            ("whole", x > 0, {"x": "x", "noise": "noise"}),
            ("in part", np.where(x > 1, True, noise > 0), {"far": "x > 1", "noise2": "noise ** 2"}),
        ):
            design = fa.Plan("y", terms).build({"x": x, "noise": noise, "y": y})
            with self.subTest(name), self.assertRaisesRegex(fa.DataError, "no finite coefficients.*(x|far)"):
                design.trial("logistic")
            self.assertTrue(any(f.check == "separation" for f in design.checks.findings), name)

    def test_a_response_of_another_kind_is_refused(self) -> None:
        with self.assertRaisesRegex(fa.DataError, "0 or 1") as caught:
            fa.Plan("stays", TERMS).build(table()).trial("logistic")
        self.assertEqual(caught.exception.count, ROWS)


class Meanings(unittest.TestCase):
    """Effects in words against predictions computed from changed source tables."""

    def predicted(self, plan: fa.Plan, given: dict[str, Any], trial: Trial) -> np.ndarray:
        design = plan.build(given)
        names = [c.name for c in trial.coefficients]
        return np.asarray(
            design.X[:, [design.names.index(n) for n in names]] @ [c.estimate for c in trial.coefficients]
        )

    def test_each_effect_is_a_difference_of_predictions(self) -> None:
        given = {**table(), "level": np.round(DICE.normal(0, 1, ROWS), 3)}
        terms = {
            "price": "log(price)", "beds": "beds", "access": "category(access, reference='trail')",
            "curve": "polynomial(level, 2)", "slope": "category(access, reference='trail') * log(price)",
            "big": "beds2 > 40",
        }  # fmt: skip
        given["beds2"] = DICE.uniform(0, 90, ROWS)
        design = fa.Plan("log(stays)", terms).build(given)
        trial = design.trial()

        def change(effect: Any) -> tuple[dict[str, Any], dict[str, Any]]:
            before, after = dict(given), dict(given)
            if effect.subject == "beds":
                after["beds"] = given["beds"] + 1
            elif effect.subject == "price":
                after["price"] = given["price"] * 1.1
                where = effect.at.rpartition(" = ")[2]
                before["access"] = after["access"] = np.full(ROWS, where)
            elif effect.subject == "access":
                before["access"] = np.full(ROWS, "trail")
                after["access"] = np.full(ROWS, effect.change.split(" ")[2])
                quartile = {"lower": 0.25, "its m": 0.5, "upper": 0.75}[
                    effect.at.split("its ")[1][:5].replace("media", "its m")
                ]
                before["price"] = after["price"] = np.full(ROWS, np.quantile(given["price"], quartile))
            elif effect.subject == "level":
                low, middle, high = np.quantile(given["level"], [0.25, 0.5, 0.75])
                first = "lower" in effect.change
                before["level"] = np.full(ROWS, low if first else middle)
                after["level"] = np.full(ROWS, middle if first else high)
            else:
                points = np.quantile(given["beds2"], [0.25, 0.5, 0.75])
                first = 0 if "lower" in effect.change else 1
                before["beds2"], after["beds2"] = (np.full(ROWS, points[at]) for at in (first, first + 1))
            return before, after

        self.assertEqual({e.subject for e in trial.effects}, {"price", "beds", "access", "level", "beds2"})
        for effect in trial.effects:
            before, after = change(effect)
            apart = self.predicted(design.plan, after, trial) - self.predicted(design.plan, before, trial)
            np.testing.assert_allclose(apart, effect.estimate, rtol=1e-9, atol=1e-12, err_msg=effect.text)
            percent = abs(100 * np.expm1(effect.estimate))
            self.assertIn(f"{percent:,.1f} %" if percent >= 0.95 else f"{percent:.2g} %", effect.text)

    def test_curves_are_told_between_quartiles(self) -> None:
        given = table(89)  # so that quartiles are values of rows
        low, middle, high = np.quantile(given["price"], [0.25, 0.5, 0.75])
        for terms in (
            {"c": "sqrt(price)"}, {"c": "asinh(price)"}, {"c": "exp(price / 50)"}, {"c": "1 / sqrt(price)"},
            {"c": "polynomial(price, 3, orthogonal=True)"}, {"c": "price", "d": "sqrt(price)"},
            {"c": "price", "d": "price ** 2"}, {"c": "category(access, coding='every')", "d": "sqrt(price)"},
            {"a": "category(access, reference='trail')", "c": "sqrt(price)", "d": "access * sqrt(price)"},
        ):  # fmt: skip
            with self.subTest(terms):
                design = fa.Plan("log(stays)", {"beds": "beds", **terms}).build(given)
                trial = design.trial()
                told = [each for each in trial.effects if each.subject == "price"]
                self.assertEqual(len(told), 6 if "a" in terms else 2)
                for each in told:
                    first = "lower quartile to median" in each.change
                    rows = dict(given)
                    if "a" in terms:
                        rows["access"] = np.full(89, each.at.rpartition(" = ")[2])
                    ends = (low, middle) if first else (middle, high)
                    before, after = (
                        self.predicted(design.plan, {**rows, "price": np.full(89, at)}, trial) for at in ends
                    )
                    np.testing.assert_allclose(after - before, each.estimate, rtol=1e-8, atol=1e-12, err_msg=each.text)
                accesses = [each for each in trial.effects if each.subject == "access"]
                if "every" in terms["c"]:
                    self.assertEqual(len(accesses), 2)
                    for each in accesses:
                        new, old = each.change.removeprefix("access = ").split(" rather than ")
                        before, after = (
                            self.predicted(design.plan, {**given, "access": np.full(89, a)}, trial) for a in (old, new)
                        )
                        np.testing.assert_allclose(after - before, each.estimate, rtol=1e-9)

    def test_effects_of_random_plans_are_differences_of_predictions(self) -> None:
        pool = [
            "price", "log(price)", "sqrt(price)", "polynomial(price, 2, orthogonal=True)", "standardize(price)",
            "polynomial(price / 10, 2)", "1 / price", "price * beds", "log(price) * log(beds)", "access * price",
            "beds", "access * log(price)", "category(access, coding='every')", "open", "open * access",
            "log(price + 3)", "polynomial(level, 3)", "access * polynomial(price, 2)", "price / 10",
            "winsorize(price, shares=[0.1, 0.9])", "price > 20", "price / beds",
        ]  # fmt: skip
        told = 0
        for seed in range(24):
            dice = np.random.default_rng(seed)
            given = table(89, seed) | {"level": dice.normal(0, 1, 89)}
            terms = {f"t{at}": pool[term] for at, term in enumerate(dice.choice(len(pool), 3, replace=False))}
            design = fa.Plan("log(stays)", terms).build(given)
            trial = design.trial()
            quartiles = {key: np.quantile(given[key], [0.25, 0.5, 0.75]) for key in ("price", "beds", "level")}
            for effect in trial.effects:
                before = dict(given)
                for name, word in re.findall(r"where (\w+) is [^(]*\(its (\w+)", effect.at):
                    before[name] = np.full(89, quartiles[name][("lower", "median", "upper").index(word)])
                for name, setting in re.findall(r"(\w+) = (\w+)", effect.at):
                    before[name] = np.full(89, setting)
                for name, setting in re.findall(r"in rows in which (\w+) (holds|does not hold)", effect.at):
                    before[name] = np.full(89, setting == "holds")
                after, name = dict(before), effect.subject
                if "quartile" in effect.change:
                    first = 0 if "lower quartile to median" in effect.change else 1
                    before[name], after[name] = (np.full(89, quartiles[name][at]) for at in (first, first + 1))
                elif effect.change.endswith("true rather than false"):
                    before[name], after[name] = np.zeros(89, dtype=bool), np.ones(89, dtype=bool)
                elif " rather than " in effect.change:
                    new, old = effect.change.removeprefix(f"{name} = ").split(" rather than ")
                    before[name], after[name] = np.full(89, old), np.full(89, new)
                elif effect.change.endswith("10 % higher"):
                    after[name] = before[name] * 1.1
                else:
                    units = re.search(r"([\d.]+) units higher", effect.change)
                    size = float(units[1]) if units else 1.0
                    after[name] = before[name] + (np.std(given[name], ddof=1) if "standard" in effect.change else size)
                apart = self.predicted(design.plan, after, trial) - self.predicted(design.plan, before, trial)
                apart = np.mean(apart) if "on average" in effect.at else apart
                np.testing.assert_allclose(
                    apart, effect.estimate, rtol=1e-6, atol=1e-8, err_msg=f"{terms} {effect.text}"
                )
                told += 1
        self.assertGreater(told, 50)

    def test_seasons_are_told_by_their_parts(self) -> None:
        given = table() | {"unit": np.arange(ROWS)}
        given["month"] = [f"2021-{1 + at * 5 % 12:02d}" for at in range(ROWS)]
        data = {"time": "month", "every": "month", "panel": ["unit"]}
        names = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
        for season, subject, several in (
            ("season('month', coding='waves', pairs=6)", "month", 11),
            ("season('month', coding='waves', pairs=2)", "month", 11),
            ("season('quarter', coding='helmert')", "quarter of month", 3),
            ("season('quarter', coding='difference')", "quarter of month", 3),
            ("season('quarter', coding='effect')", "quarter of month", 3),
        ):
            plan = fa.Plan("log(stays)", {"beds": "beds", "s": season, "both": f"{season} * beds"}, data=data)
            design = plan.build(given)
            trial = design.trial()
            told = [each for each in trial.effects if each.subject == subject and "median" in each.at]
            self.assertEqual(len(told), several + 1, season)  # and from the trough to the peak
            self.assertGreaterEqual(told[-1].estimate, max(abs(each.estimate) for each in told))
            beds = np.full(ROWS, np.quantile(given["beds"], 0.5))
            for each in told:
                said = each.change.replace(" (the peak)", "").replace(" (the trough)", "")
                new, old = said.removeprefix(f"{subject} = ").split(" rather than ")
                ends = []
                for part in (old, new):
                    number = 1 + names.index(part) if part in names else 3 * int(part[1])
                    changed = {**given, "beds": beds, "month": [f"2021-{number:02d}"] * ROWS}
                    ends.append(self.predicted(design.plan, changed, trial))
                np.testing.assert_allclose(ends[1] - ends[0], each.estimate, rtol=1e-8, atol=1e-10, err_msg=each.text)

    def test_models_with_a_link_compare_mean_predictions_of_the_rows_told_of(self) -> None:
        dice = np.random.default_rng(21)
        given = table(400, 8) | {name: dice.normal(3, 1, 400) for name in "uvw"}
        given |= {"count": dice.poisson(np.exp(given["u"] / 4)), "open": dice.random(400) < 0.4}
        terms = {
            "a": TERMS["access"], "b": "beds / 10", "ab": f"{TERMS['access']} * beds", "p": "price", "l": "[u, v, w]",
            "pl": "price * [u, v, w]",
        }  # fmt: skip
        for response, model in (("open", "logistic"), ("count", "poisson")):
            design = fa.Plan(response, terms).build(given)
            with tempfile.TemporaryDirectory() as folder:
                design.save(f"{folder}/out")
                trial = fa.open_design(f"{folder}/out").trial(model)
            found = set()
            for each in trial.effects:
                rows, chosen = dict(given), np.ones(400, dtype=bool)
                if words := re.fullmatch(r"in rows with access = (\w+)", each.at):
                    chosen = given["access"] == words[1]
                elif words := re.fullmatch(r"where (\w+) is \S+ \(its (lower q|m|upper q).*\)", each.at):
                    share = {"lower q": 0.25, "m": 0.5, "upper q": 0.75}[words[2]]
                    rows[words[1]] = np.full(400, np.quantile(given[words[1]], share))
                else:
                    self.assertEqual(each.at, "on average over the rows")
                found.add(each.at.split(" ")[0])
                ends = [dict(rows), dict(rows)]
                if words := re.fullmatch(r"access = (\w+) rather than (\w+)", each.change):
                    for end, access in zip(ends, (words[2], words[1]), strict=True):
                        end["access"] = np.full(400, access)
                else:
                    size = 10 if each.subject == "beds" else 1
                    ends[1][each.subject] = rows[each.subject] + size
                before, after = (self.predicted(design.plan, end, trial)[chosen] for end in ends)
                if model == "logistic":
                    apart = np.mean(1 / (1 + np.exp(-after)) - 1 / (1 + np.exp(-before)))
                    self.assertRegex(each.text, f"{abs(100 * apart):.1f} percentage points|{abs(100 * apart):.2g} perc")
                else:
                    apart = np.log(np.exp(after).mean() / np.exp(before).mean())
                np.testing.assert_allclose(each.estimate, apart, rtol=1e-8, atol=1e-12, err_msg=each.text)
            self.assertEqual(found, {"in", "where", "on"})

    def test_a_link_needs_the_relations_to_hold_in_each_row_and_not_on_average(self) -> None:
        dice = np.random.default_rng(22)
        given: dict[str, Any] = {"u": np.tile([1.0, -1.0], 200), "x": dice.normal(size=400), "v": dice.normal(size=400)}
        given |= {"q": dice.normal(size=400), "open": dice.random(400) < 0.4, "copy": given["x"] * given["u"]}
        terms = {"x": "x", "l": "[u, v, q]", "xl": "x * [u, v, q]", "copy": "copy"}  # copy is x * u in every row
        design = fa.Plan("open", terms).build(given)
        self.assertIn("x", {each.subject for each in design.trial().effects})  # the mean of u is 0
        trial = design.trial("logistic")
        self.assertNotIn("x", {each.subject for each in trial.effects})
        self.assertIn("x", trial.not_identified)
        with self.assertRaisesRegex(fa.DataError, "the effect of x is not identified"):
            design.effects("x", by=1, model="logistic")

    def test_what_only_forms_groups_has_no_effect(self) -> None:
        given = table() | {"group": [f"g{at % 9}" for at in range(ROWS)]}
        terms = {"beds": "within(beds, by=[group])", "price": "log(price) - mean(log(price), by=[group])"}
        trial = fa.Plan("within(stays, by=[group])", terms).build(given).trial()
        self.assertEqual({each.subject for each in trial.effects}, {"beds", "price"})

    def test_contrasts_and_their_interactions_are_told_too(self) -> None:
        given = table()
        coded = "category(access, coding='effect')"
        design = fa.Plan("log(stays)", {"access": coded, "beds": "beds", "both": f"{coded} * beds"}).build(given)
        trial = design.trial()
        beds = [each for each in trial.effects if each.subject == "beds"]
        self.assertEqual({each.at.rpartition(" = ")[2] for each in beds}, {"boat", "road", "trail"})
        for each in beds:
            rows = {**given, "access": np.full(ROWS, each.at.rpartition(" = ")[2])}
            more = {**rows, "beds": given["beds"] + 1}
            apart = self.predicted(design.plan, more, trial) - self.predicted(design.plan, rows, trial)
            np.testing.assert_allclose(apart, each.estimate, rtol=1e-9)

    def test_each_kind_of_response_is_told_in_its_own_units(self) -> None:
        given = {**table(), "fees": np.where(table()["price"] > 40, np.nan, 1.0)}
        for response, model, said in (
            ("stays", "linear", r": stays [\d.]+ higher \(95 %: [\d.]+ to [\d.]+ higher\)"),
            ("open", "linear", "the share of rows in which open holds [\\d.]+ percentage points"),
            ("is_missing(fees)", "linear", "the share of rows in which fees is missing [\\d.]+ percentage points"),
            ("access == 'road'", "linear", "the share of rows with access = road [\\d.]+ percentage points"),
            ("access == 'road'", "logistic", "the odds that access = road [\\d.]+ % (?:higher|lower) \\(95 %"),
            ("log(stays, shift=-1)", "linear", r"\(stays - 1\) [\d.]+ % higher"),
            ("sqrt(stays)", "linear", r"sqrt\(stays\) [\d.]+ higher"),
        ):
            trial = fa.Plan(response, {"beds": "beds"}).build(given).trial(model)
            self.assertRegex(trial.effects[0].text, said)
        trial = fa.Plan("open", {"k": "category(access, reference='trail')"}).build(given).trial("logistic")
        self.assertRegex(trial.effects[0].text, "the odds that open holds [\\d.]+ times as large")
        spread = given | {name: DICE.uniform(1, 2, ROWS) for name in ("u", "v", "w")}
        trial = fa.Plan("open", {"many": "beds * u * v * w"}).build(spread).trial("logistic")
        self.assertRegex(
            trial.effects[0].text, "on average over the rows: the log odds that open holds [\\d.]+ (?:higher|lower)"
        )


class Requested(unittest.TestCase):
    """`Design.effects`: changes that a user requests, against predictions from changed tables."""

    def setUp(self) -> None:
        self.table = table(240, 5) | {"count": np.random.default_rng(6).poisson(3, 240)}
        terms = {"p": "log(price)", "b": "beds", "b2": "beds ** 2", "o": "price * open", "a": TERMS["access"]}
        self.designs = {
            model: fa.Plan(response, terms).build(self.table)
            for model, response in (("linear", "stays"), ("logistic", "hut > 4"), ("poisson", "count"))
        }
        self.changes: list[tuple[dict[str, Any], Any, Any]] = [
            ({"variable": "price", "by": 2.0}, {}, {"price": lambda v: v + 2.0}),
            ({"variable": "price", "ratio": 0.9, "within": "open"}, {}, {"price": lambda v: v * 0.9}),
            (
                {"variable": "beds", "to": 50, "at": {"access": "road"}},
                {"access": "road"},
                {"access": "road", "beds": 50},
            ),
            ({"variable": "access", "to": ("trail", "boat")}, {"access": "trail"}, {"access": "boat"}),
        ]

    def changed(self, changes: dict[str, Any]) -> dict[str, Any]:
        new = dict(self.table)
        for name, value in changes.items():
            new[name] = value(new[name]) if callable(value) else np.full(len(new["price"]), value)
        return new

    def means(self, model: str, b: np.ndarray, before: np.ndarray, after: np.ndarray) -> float:
        low, high = before @ b, after @ b
        if model == "linear":
            return float(np.mean(high - low))
        if model == "logistic":
            return float(np.mean(1 / (1 + np.exp(-high)) - 1 / (1 + np.exp(-low))))
        return float(np.log(np.mean(np.exp(high)) / np.mean(np.exp(low))))

    def test_they_are_differences_of_predictions_and_their_errors_those_of_drawn_coefficients(self) -> None:
        """Errors against a bootstrap: coefficients drawn from their distribution, and the effect worked out anew."""
        dice = np.random.default_rng(7)
        for model, design in self.designs.items():
            fitted = design.trial(model, errors="hc1")
            b = np.array([each.estimate for each in fitted.coefficients])
            drawn = dice.multivariate_normal(b, fitted.covariance, 4000)
            for asked, before, after in self.changes:
                effect = design.effects(**asked, model=model, errors="hc1")
                rows = self.table["open"] if asked.get("within") else np.ones(240, dtype=bool)
                sides = [design.plan.build(self.changed(side)).X[rows] for side in (before, after)]
                self.assertAlmostEqual(effect.estimate, self.means(model, b, *sides), places=9, msg=str(asked))
                spread = np.std([self.means(model, each, *sides) for each in drawn], ddof=1)
                error = (
                    (effect.high - effect.low)
                    / 2
                    / t_quantile(fitted.degrees_of_freedom if model == "linear" else None)
                )
                self.assertAlmostEqual(error / spread, 1.0, delta=0.08, msg=f"{model} {asked}")

    def test_a_small_change_has_the_closed_form_of_a_derivative(self) -> None:
        """Of a number that enters once: its coefficient, times the mean of p (1 - p) in a logit (Greene, ch. 17)."""
        for model, response in (("linear", "stays"), ("logistic", "hut > 4")):
            design = fa.Plan(response, {"b": "beds", "p": "log(price)"}).build(self.table)
            fitted = design.trial(model)
            p = 1 / (1 + np.exp(-(design.X @ np.array([each.estimate for each in fitted.coefficients]))))
            share = 1.0 if model == "linear" else float(np.mean(p * (1 - p)))
            effect = design.effects("beds", by=1e-5, model=model)
            self.assertAlmostEqual(effect.estimate / 1e-5 / share / fitted["b"].estimate, 1.0, places=4)
        self.assertAlmostEqual(
            (effect.high - effect.low) / (fitted["b"].high - fitted["b"].low) / 1e-5 / share, 1.0, delta=0.05
        )

    def test_what_cannot_be_asked_is_refused_with_a_remedy(self) -> None:
        design = self.designs["linear"]
        wrong: list[tuple[dict[str, Any], str]] = [
            ({"variable": "prise", "by": 1}, "did you mean 'price'"),
            ({"variable": "price"}, "needs one of by, ratio and to, and 0 are given"),
            ({"variable": "price", "by": 1, "ratio": 2}, "and 2 are given"),
            ({"variable": "access", "by": 1}, "Write to="),
            ({"variable": "access", "to": "boot"}, "'boot' is not a category of access"),
            ({"variable": "price", "by": 1, "within": "price > 1e9"}, "no row of the matrix"),
            ({"variable": "price", "by": 1, "within": "prise > 1"}, "did you mean 'price'"),
        ]
        for asked, said in wrong:
            with self.assertRaisesRegex(fa.FacturumError, said):
                design.effects(**asked)
        doubled = (
            fa.Plan("stays", {"a": "beds", "b": "beds / 2 + price", "c": "price"}).with_checks("off").build(self.table)
        )
        self.assertIn("beds", doubled.effects("beds", by=1).text)
        with self.assertRaisesRegex(fa.DataError, "not identified"):
            fa.Plan("stays", {"a": "beds", "c": "beds + price", "d": "price", "e": "beds * (hut > 90)"}).with_checks(
                "off"
            ).build(self.table).effects("beds", to=(1.0, 2.0), at={"hut": 91})


class Accuracy(unittest.TestCase):
    def test_raw_units_on_rows_fitted_and_held_out(self) -> None:
        given = table(200)
        given["year"] = np.arange(200) % 5
        design = fa.Plan("log(stays)", TERMS, rows={"learn": "year < 4"}).build(given)
        trial = design.trial()
        learning = given["year"] < 4
        self.assertEqual(trial.rows, learning.sum())
        b = np.linalg.lstsq(design.X[learning], design.y[learning], rcond=None)[0]
        fitted, raw = design.X @ b, np.exp(design.y)
        smear = np.exp((design.y - fitted)[learning]).mean()
        for each in trial.accuracy:
            chosen = learning if each.sample == "fitted" else ~learning
            out = np.exp(fitted[chosen]) * (smear if each.kind == "smeared" else 1)
            self.assertAlmostEqual(each.rmse, np.sqrt(((raw[chosen] - out) ** 2).mean()), 9)
            self.assertAlmostEqual(each.mae, np.abs(raw[chosen] - out).mean(), 9)
            self.assertAlmostEqual(each.mape or 0, 100 * np.abs(1 - out / raw[chosen]).mean(), 9)
            rest = ((raw[chosen] - out) ** 2).sum() / ((raw[chosen] - raw[chosen].mean()) ** 2).sum()
            self.assertAlmostEqual(each.r2 or 0, 1 - rest, 9)

    def test_leaving_one_out_is_what_brute_force_gives(self) -> None:
        given = {key: values[:30] for key, values in table().items()}
        plan = fa.Plan("log(stays)", {"price": "log(price)", "beds": "beds"})
        learns = fa.Plan("log(stays)", {"price": "log(price)", "beds": "standardize(beds)"})
        X, y = (design := plan.build(given)).X, np.asarray(design.y)  # noqa: N806
        out = []
        for row in range(30):
            others = np.arange(30) != row
            out.append(X[row] @ np.linalg.lstsq(X[others], y[others], rcond=None)[0])
        wanted = np.sqrt(((np.exp(y) - np.exp(out)) ** 2).mean())
        for each in (plan, learns):
            found = fa.validate(each, given, leave_one_out=True)
            self.assertAlmostEqual(found.accuracy[0].rmse, wanted, 8)
        self.assertIn("one factorisation", fa.validate(plan, given, leave_one_out=True).scheme)

    def test_the_plan_is_resolved_anew_in_each_fold(self) -> None:
        given = table(60)
        given["far"] = np.where(np.arange(60) == 7, 1000.0, given["beds"])
        found = fa.validate(fa.Plan("log(stays)", {"far": "winsorize(far, shares=[0, 0.9])"}), given, folds=3, seed=5)
        part = np.full(60, -1)
        part[np.random.default_rng(5).permutation(60)] = np.arange(60) % 3
        errors = []
        y = np.log(given["stays"])
        for fold in range(3):
            inside = part != fold
            x = np.clip(given["far"], given["far"][inside].min(), np.quantile(given["far"][inside], 0.9))
            b = np.polyfit(x[inside], y[inside], 1)
            errors += (np.exp(y[~inside]) - np.exp(np.polyval(b, x[~inside]))).tolist()
        self.assertAlmostEqual(found.accuracy[0].rmse, np.sqrt(np.mean(np.square(errors))), 8)

    def test_what_folds_are_held_in_is_no_predictor(self) -> None:
        given = {key: values for key, values in table(60).items() if key not in ("access", "open")}
        every = fa.Plan("log(stays)", {"all": "every_number()"})
        by_name = fa.Plan("log(stays)", {"price": "price", "beds": "beds", "hut": "hut"})
        found = [fa.validate(plan, given, folds=3).accuracy[0].rmse for plan in (every, by_name)]
        self.assertAlmostEqual(found[0], found[1], 9)
        with self.assertRaisesRegex(fa.DataError, "is a variable of the table"):
            fa.validate(by_name, {**given, "fold_of_validation": given["beds"]}, folds=3)

    def test_parts_that_cannot_be_are_refused(self) -> None:
        given = {key: values[:12] for key, values in table().items()}
        plan = fa.Plan("log(stays)", {"beds": "beds"})
        for options, said in (
            ({"folds": 13}, "13 parts of 12 learning rows"),
            ({"folds": 1}, "1 parts"),
            ({"origin_folds": 2}, "need a time"),
            ({}, "one way to hold rows out"),
            ({"folds": 2, "leave_one_out": True}, "one way"),
        ):
            with self.subTest(options), self.assertRaisesRegex(fa.DataError, said):
                fa.validate(plan, given, **options)
        rare = {**given, "k": ["odd", *["a", "b"] * 5, "a"]}
        found = fa.validate(fa.Plan("log(stays)", {"k": "k"}), rare, folds=4)
        self.assertEqual(found.accuracy[0].rows, 11)
        self.assertIn("Not predicted: 1 row (1)", " ".join(found.notes))

    def test_intervals_over_resampled_tables_hold_the_estimate(self) -> None:
        found = {each.name: each for each in fa.resample(fa.Plan("log(stays)", {"beds": "center(beds)"}), table(), 60)}
        error = fa.Plan("log(stays)", {"beds": "beds"}).build(table()).trial()["beds"].error
        self.assertTrue(found["beds"].low < found["beds"].estimate < found["beds"].high)
        self.assertAlmostEqual((found["beds"].high - found["beds"].low) / (4 * error), 1, delta=0.4)


def series(periods: int = 40, units: int = 2) -> dict[str, Any]:
    """Return a panel whose response depends on the one before."""
    dice = np.random.default_rng(8)
    rows: dict[str, list[Any]] = {"hut": [], "month": [], "y": [], "beds": []}
    for unit in range(units):
        y = 10.0
        for at in range(periods):
            y = 4 + 0.6 * y + float(dice.normal(0, 1))
            rows["hut"].append(f"hut {unit}")
            rows["month"].append(f"{2020 + at // 12}-{at % 12 + 1:02d}")
            rows["y"].append(y)
            rows["beds"].append(20 + unit)
    return rows


class Ahead(Folder):
    PLAN = fa.Plan("y", {"before": "lag(y, 1)"}, data={"time": "month", "every": "month", "panel": ["hut"]})

    def told(self, found: Any, unit: str, design: fa.Design, path: Any, raw: Any) -> None:
        """Compare forecasts with a path of levels, its errors to first order, and what is expected of the levels."""
        trial = design.trial()
        b, horizon, free = np.array([c.estimate for c in trial.coefficients]), 4, trial.degrees_of_freedom
        none, small, s = np.zeros(horizon), 1e-6, trial.sigma or 0
        slopes = np.array([(path(b + e, none) - path(b - e, none)) / (2 * small) for e in small * np.eye(len(b))])
        answers = np.array([(path(b, e) - path(b, -e)) / (2 * small) for e in small * np.eye(horizon)])
        errors = s**2 * np.square(answers).sum(axis=0)
        spread = np.sqrt(errors + np.einsum("ih,ij,jh->h", slopes, trial.covariance, slopes))
        own = [each for each in found.of if each.unit == unit]
        self.assertEqual([each.period for each in own], ["2023-05", "2023-06", "2023-07", "2023-08"])
        residuals = np.asarray(design.y) - design.X @ b
        growth = np.sqrt(errors) / s
        for level, wide, grown, each in zip(path(b, none), t_quantile(free) * spread, growth, own, strict=True):
            self.assertAlmostEqual(each.forecast / raw(level), 1, 8)
            smeared = np.exp(level) * np.exp(grown * residuals).mean() if raw is np.exp else level
            self.assertAlmostEqual(each.expected / smeared, 1, 4)
            np.testing.assert_allclose([each.low, each.high], [raw(level - wide), raw(level + wide)], rtol=1e-5)

    def test_forecasts_follow_from_one_another(self) -> None:
        given = series()
        design = self.PLAN.build(given)
        found = fa.forecast(design, given, 4)
        self.assertEqual(len(found), 8)
        self.assertTrue(found.recursive)
        for unit in ("hut 0", "hut 1"):
            last = [v for v, hut in zip(given["y"], given["hut"], strict=True) if hut == unit][-1]

            def path(b: np.ndarray, shocks: np.ndarray, last: float = last) -> np.ndarray:
                levels = [last]
                for shock in shocks:
                    levels.append(b[0] + b[1] * levels[-1] + shock)
                return np.array(levels[1:])

            self.told(found, unit, design, path, float)

    def test_changes_are_added_up_to_levels(self) -> None:
        given = series()
        last = [v for v, hut in zip(given["y"], given["hut"], strict=True) if hut == "hut 1"]
        for response, raw, step in (
            ("difference(log(y))", np.exp, 1), ("difference(y, step=12)", float, 12), ("percent_change(y)", float, 1),
        ):  # fmt: skip
            data = self.PLAN.spec.data.model_dump(exclude_defaults=True)
            design = fa.Plan(response, {"before": f"lag({response}, 1)", "level": "lag(y, 2)"}, data=data).build(given)

            def path(
                b: np.ndarray, shocks: np.ndarray, raw: Any = raw, step: int = step, response: str = response
            ) -> np.ndarray:
                level = [np.log(v) if raw is np.exp else v for v in last]

                share = response.startswith("percent")

                def change(at: int) -> float:
                    return 100 * (level[at] / level[at - step] - 1) if share else level[at] - level[at - step]

                for shock in shocks:
                    new = b[0] + b[1] * change(-1) + b[2] * raw(level[-2]) + shock
                    base = level[-step]
                    level.append(base * (1 + new / 100) if share else base + new)
                return np.array(level[len(last) :])

            with self.subTest(response):
                found = fa.forecast(design, given, 4)
                self.told(found, "hut 1", design, path, raw)
                self.assertEqual(found.response, "y")

    def test_rows_ahead_have_what_is_known_beforehand(self) -> None:
        terms = {"season": "season('month')", "beds": "beds", "before": "lag(y, 12)"}
        plan = fa.Plan("y", terms, data={"time": "month", "every": "month", "panel": ["hut"], "carry": ["month"]})
        given = series()
        design = fa.build_ahead(plan, given, 3)
        self.assertEqual(design.X.shape[0], 6)
        beds = design.X[:, design.names.index("beds")]
        np.testing.assert_array_equal(np.sort(beds), [20, 20, 20, 21, 21, 21])
        lagged = design.X[:, design.names.index("before")]
        np.testing.assert_allclose(lagged[0], given["y"][40 - 12])
        self.assertIsNone(design.y)

    def test_what_is_not_known_is_named_and_may_be_given(self) -> None:
        given = series()
        given["snow"] = np.arange(80.0).tolist()
        plan = fa.Plan("y", {"snow": "snow"}, data={"time": "month", "every": "month", "panel": ["hut"]})
        with self.assertRaisesRegex(fa.DataError, r"not known: snow \(in snow\)"):
            fa.build_ahead(plan, given, 2)
        future = {"hut": ["hut 0", "hut 1"], "month": ["2023-05"] * 2, "snow": [7.0, 8.0]}
        self.assertEqual(fa.build_ahead(plan, given, 1, future=future).X[:, 1].tolist(), [7.0, 8.0])
        with self.assertRaisesRegex(fa.DataError, "needs? a plan with a time|need a plan with a time"):
            fa.build_ahead(fa.Plan("y", {"beds": "beds"}), given, 2)

    def test_forecasts_put_into_the_table_are_what_it_predicts(self) -> None:
        texts = [
            "lag(y, 1)", "lag(log(y), 2)", "moving_average(lag(y, 1), 3)", "impute(lag(y, 1), 'previous')", "gain",
            "standardize(lag(y, 1))", "season('quarter')", "trend()", "lag(x, 1)", "lag(y, 12)", "lag(y, 1) * trend()",
        ]  # fmt: skip
        responses = ["y", "log(y)", "sqrt(y)", "difference(log(y))", "percent_change(y)", "difference(y, step=2)"]
        for seed in range(18):
            dice = np.random.default_rng(seed)
            given = series(36, units=3)
            given["x"] = dice.uniform(1, 9, 108).tolist()
            given["y"] = [None if dice.random() < 0.04 else y for y in given["y"]]
            order = [at for at in dice.permutation(108) if dice.random() > 0.04]  # gaps, in no order
            given = {key: [values[at] for at in order] for key, values in given.items()}
            terms = {f"t{at}": texts[term] for at, term in enumerate(dice.choice(len(texts), 3, replace=False))}
            plan = fa.Plan(
                responses[seed % 6], terms, data=self.PLAN.spec.data.model_dump(exclude_defaults=True),
                derived={"gain": "lag(log(y), 1) - lag(log(y), 2)"},
            )  # fmt: skip
            design = plan.build(given)
            with self.subTest(seed=seed, response=responses[seed % 6], terms=terms):
                found = fa.forecast(design, given, 3)
                rows, _ = fa.rows_ahead(design.plan, given, 3)
                known = {(each.unit, each.period): each.forecast for each in found.of}
                cells = [
                    (rows["hut"].text_of(hut), str(np.datetime64(int(time), "us").astype("M8[M]")))
                    for hut, time in zip(rows["hut"].data, rows["month"].data, strict=True)
                ]
                added = {"hut": [hut for hut, _ in cells], "month": [month for _, month in cells]}
                added |= {"y": [known.get(cell) for cell in cells], "x": [None] * len(cells)}
                whole = design.plan.build({key: values + added[key] for key, values in given.items() if key in added})
                trial, first = design.trial(), len(given["y"])
                columns = [whole.names.index(each.name) for each in trial.coefficients]
                ahead = whole.rows.kept > first
                predicted = whole.X[:, columns] @ [each.estimate for each in trial.coefficients]
                np.testing.assert_allclose(predicted[ahead], np.asarray(whole.y)[ahead], rtol=1e-7, atol=1e-9)
                self.assertEqual(
                    [cells[row - first - 1] in known for row in whole.rows.kept[ahead]], [True] * len(known)
                )

    def test_rows_without_a_forecast_are_told_and_no_other_row_stands_in(self) -> None:
        given = series() | {"snow": np.arange(80.0).tolist()}
        plan = fa.Plan("y", {"before": "lag(y, 1)", "snow": "snow"}, data=self.PLAN.spec.data.model_dump())
        months = [(hut, month) for hut in ("hut 0", "hut 1") for month in ("2023-05", "2023-06", "2023-07")]
        known = [None if cell == ("hut 0", "2023-05") else 50.0 + at for at, cell in enumerate(months)]
        future = {"hut": [hut for hut, _ in months], "month": [month for _, month in months], "snow": known}
        design = plan.build(given)
        partly = fa.forecast(design, given, 3, future=future)
        self.assertEqual(
            {(each.unit, each.period) for each in partly.of}, {cell for cell in months if cell[0] == "hut 1"}
        )
        self.assertIn("snow is not known in 1 row ahead: hut 0 2023-05", partly.without)
        lagged = fa.Plan("y", {"before": "lag(y, 1)", "snow": "lag(snow, 1)"}, data=self.PLAN.spec.data.model_dump())
        found = fa.forecast(lagged.build(given), given, 3, future=future)
        trial = lagged.build(given).trial()
        a, b, c = (each.estimate for each in trial.coefficients)
        wanted = {}
        for unit, snow in (("hut 0", [39.0, None]), ("hut 1", [79.0, 53.0, 54.0])):
            y = [v for v, hut in zip(given["y"], given["hut"], strict=True) if hut == unit][-1]
            for at, own in enumerate(snow):
                if own is None:
                    break  # what comes after would read a forecast that there is not
                wanted[unit, months[at][1]] = y = a + b * y + c * own
        self.assertEqual({(each.unit, each.period) for each in found.of}, set(wanted))
        for each in found.of:
            self.assertAlmostEqual(each.forecast, wanted[each.unit, each.period], 6)
        self.assertRegex(
            " ".join(found.without), r"1 row ahead, from 2023-06 on, has no forecast: a value is missing .terms.snow"
        )
        self.assertRegex(
            " ".join(found.without), r"1 row ahead, from 2023-07 on, has no forecast: a value is missing .terms.before"
        )

    def test_a_response_that_is_not_known_at_the_end_is_told(self) -> None:
        given = series(units=2)
        for gone, said in (((39,), None), ((39, 79), "'y' is missing in the last row of each unit")):
            cut = {**given, "y": [None if at in gone else y for at, y in enumerate(given["y"])]}
            design = self.PLAN.build(cut)
            if said is None:
                found = fa.forecast(design, cut, 2)
                self.assertEqual({each.unit for each in found.of}, {"hut 1"})
                self.assertIn("2 rows ahead, from 2023-05 on, have no forecast", found.without[0])
                continue
            with self.assertRaisesRegex(fa.DataError, said) as caught:
                fa.forecast(design, cut, 2)
            self.assertEqual(caught.exception.rows, (40, 80))

    def test_rows_ahead_are_verified_and_traced(self) -> None:
        given = series()
        design = fa.build_ahead(self.PLAN, given, 2)
        rows, before = fa.rows_ahead(design.plan, given, 2)
        self.assertTrue(design.verify(rows, history=before).ok)
        self.assertTrue(design.trace(rows, 1, "before", history=before).agrees)
        given["y"][39] += 1
        rows, before = fa.rows_ahead(design.plan, given, 2)
        self.assertIn("before", str(design.verify(rows, history=before)))
        self.assertEqual(len(design.checks), 0)  # nothing fits rows without a response

    def test_without_lags_forecasts_are_plain_predictions_in_raw_units(self) -> None:
        given = series()
        plan = fa.Plan(
            "log(y)",
            {"beds": "beds", "trend": "trend()"},
            data=dict(self.PLAN.spec.data.model_dump(exclude_defaults=True)),
        )
        design = plan.build(given)
        found = fa.forecast(design, given, 2)
        self.assertFalse(found.recursive)
        ahead = fa.build_ahead(design.plan, given, 2)
        b = [c.estimate for c in design.trial().coefficients]
        np.testing.assert_allclose([f.forecast for f in found.of], np.exp(ahead.X @ b), rtol=1e-10)
        smear = np.exp(np.asarray(design.y) - design.X @ b).mean()
        np.testing.assert_allclose([f.expected for f in found.of], np.exp(ahead.X @ b) * smear, rtol=1e-10)


class Shaped(unittest.TestCase):
    """Folds, draws and forecasts of tables that a plan stacks, converts, or reads the history of."""

    def test_a_table_converted_by_the_plan_gives_what_one_converted_before_gives(self) -> None:
        dice = np.random.default_rng(2)
        days = np.arange(np.datetime64("2021-01-01"), np.datetime64("2024-01-01"))
        daily = {"day": days.astype(str).tolist(), "snow": dice.uniform(0, 9, len(days)), "hut": ["a"] * len(days)}
        daily["stays"] = 20 + daily["snow"] + np.sin(np.arange(len(days)) / 58) * 5 + dice.normal(size=len(days))
        takes = {"stays": {"how": "sum", "partial": "keep"}, "snow": {"how": "mean", "partial": "keep"}}
        terms = {"snow": "standardize(lag(snow, 1))", "before": "lag(stays, [1, 2])"}
        time = {"time": "day", "every": "month", "panel": ["hut"]}
        plan = fa.Plan("stays", terms, data=time, convert={"every": "day", "take": takes})
        monthly = fa.convert(daily, "day", "day", "month", takes, ["hut"])
        bare = fa.Plan("stays", terms, data=time)
        for options in ({"folds": 4, "seed": 3}, {"origin_folds": 3}, {"leave_one_out": True}):
            found, wanted = fa.validate(plan, daily, **options), fa.validate(bare, monthly, **options)
            self.assertEqual(found, wanted)
            self.assertGreater(found.accuracy[0].rows, 8)
        future = {"day": ["2024-01", "2024-02"], "hut": ["a", "a"], "snow": [3.0, 4.0]}
        forecasts = [fa.forecast(p.build(data), data, 3, future=future) for p, data in ((plan, daily), (bare, monthly))]
        self.assertEqual(*forecasts)
        self.assertEqual([each.period for each in forecasts[0].of], ["2024-01", "2024-02", "2024-03"])

    def test_answers_are_drawn_and_parted_as_the_plan_stacks_them(self) -> None:
        dice = np.random.default_rng(5)
        wide = {"age": dice.uniform(20, 70, 40)} | {f"q_{at}": dice.integers(1, 6, 40).astype(float) for at in (1, 2)}
        stack = {"into": {"answer": ["q_1", "q_2"]}, "which": "item"}
        terms = {"age": "center(age)", "item": "category(item, reference='q_1')"}
        long = fa.stack(wide, stack["into"], "item")
        found = fa.validate(fa.Plan("answer", terms, stack=stack), wide, folds=5)
        self.assertEqual(found, fa.validate(fa.Plan("answer", terms), long, folds=5))
        drawn = {each.name: each for each in fa.resample(fa.Plan("answer", terms, stack=stack), wide, 50)}
        self.assertEqual([name for name in drawn if drawn[name].samples == 50], ["intercept", "age", "item_q_2"])
        apart, draws = wide["q_2"] - wide["q_1"], np.random.default_rng(0)  # of a guest who is drawn, both answers are
        wanted = [apart[draws.integers(0, 40, 40)].mean() for _ in range(50)]
        np.testing.assert_allclose(
            [drawn["item_q_2"].low, drawn["item_q_2"].high], np.quantile(wanted, [0.025, 0.975]), atol=1e-12
        )

    def test_of_a_panel_whole_units_are_drawn(self) -> None:
        given = series(12, units=9) | {"snow": np.random.default_rng(1).uniform(0, 9, 108)}
        data = {"time": "month", "every": "month", "panel": ["hut"], "carry": ["hut"]}
        plan = fa.Plan("y", {"before": "lag(y, 1)", "snow": "snow"}, data=data)
        found = fa.resample(plan, given, 40, seed=7)
        design, dice, wanted = plan.build(given), np.random.default_rng(7), []
        unit = np.array([int(hut.removeprefix("hut ")) for hut in design._side.column("hut").to_pylist()])
        for _ in range(40):
            rows = np.concatenate([np.flatnonzero(unit == each) for each in dice.integers(0, 9, 9)])
            wanted.append(np.linalg.lstsq(design.X[rows], np.asarray(design.y)[rows], rcond=None)[0])
        np.testing.assert_allclose(
            [(each.low, each.high) for each in found], np.quantile(wanted, [0.025, 0.975], axis=0).T, rtol=1e-9
        )
        self.assertEqual([each.samples for each in found], [40] * 3)
        alone = {key: values[:12] for key, values in given.items()}
        with self.assertRaisesRegex(fa.DataError, "cannot be drawn from a single series over time"):
            fa.resample(plan, alone, 5)

    def test_history_is_read_and_neither_fitted_nor_parted(self) -> None:
        given = series()
        late = [month >= "2022-07" for month in given["month"]]
        old, new = (
            {key: [v for v, own in zip(values, late, strict=True) if own == part] for key, values in given.items()}
            for part in (False, True)
        )
        data = {"time": "month", "every": "month", "panel": ["hut"]}
        terms = {"before": "lag(y, 1)", "year": "standardize(lag(y, 12))"}
        plan = fa.Plan("y", terms, data=data)
        design = plan.build(new, history=old)
        kept = fa.Plan("y", terms, data=data, rows={"keep": "month >= '2022-07'"})
        self.assertEqual(fa.forecast(design, new, 4, history=old), fa.forecast(design, given, 4))
        for options in ({"folds": 3}, {"origin_folds": 2}):
            self.assertEqual(
                fa.validate(plan, new, history=old, **options).accuracy, fa.validate(kept, given, **options).accuracy
            )


class OnTheCommandLine(Folder):
    def setUp(self) -> None:
        super().setUp()
        given = huts(300, missing=0.0)
        fa.Plan("log(stays)", {"price": "log(price)", "access": "access", "open": "open"}).build(given).save(
            self.folder / "b"
        )
        fa.Table.of({key: given[key] for key in ("price", "stays", "access", "open")})

    def test_the_screen_and_the_json_say_the_same(self) -> None:
        import json

        done = command("trial", str(self.folder / "b"), "--errors", "hc3")
        status, out = done.returncode, done.stdout
        self.assertEqual(status, 0)
        for part in ("standard errors robust", "joint tests", "effects", "accuracy in units of stays", "access_road"):
            self.assertIn(part, out)
        done = command("trial", str(self.folder / "b"), "--errors", "hc3", "--json")
        status, out = done.returncode, done.stdout
        content = json.loads(out)
        direct = fa.open_design(self.folder / "b").trial(errors="hc3")
        self.assertEqual(content["coefficients"][1]["estimate"], direct.coefficients[1].estimate)

    def test_figures_are_drawn(self) -> None:
        for name in ("f.png", "f.svg"):
            done = command("trial", str(self.folder / "b"), "--figure", str(self.folder / name))
            status, err = done.returncode, done.stderr
            self.assertEqual(status, 0, err)
            self.assertGreater((self.folder / name).stat().st_size, 5_000)

    def test_rows_ahead_are_built_verified_traced_and_forecast(self) -> None:
        source, folder = self.folder / "hut.csv", self.folder
        cells = zip(*(series()[key] for key in ("hut", "month", "y")), strict=True)
        rows = [f"{hut},{month},{y:.3f}" for hut, month, y in cells]
        source.write_text("\n".join(["hut,month,y", *rows]) + "\n")
        (folder / "p.toml").write_text(
            'response = "y"\n[data]\ntime = "month"\nevery = "month"\npanel = ["hut"]\n[terms]\nbefore = "lag(y, 1)"\n'
        )
        for words in (
            ("build", folder / "p.toml", source, "--out", folder / "made"),
            ("build", folder / "made/plan.resolved.toml", source, "--ahead", "2", "--out", folder / "ahead"),
            ("verify", folder / "ahead", source, "--ahead", "2"),
            ("trial", folder / "made", "--data", source, "--ahead", "2"),
        ):
            done = command(*words)
            self.assertEqual(done.returncode, 0, done.stderr + done.stdout)
        self.assertIn("4 forecasts of y", done.stdout)
        for ending in ("csv", "parquet"):
            self.assertEqual(command(*words, "--out", folder / f"next.{ending}").returncode, 0)
            written = fa.read(folder / f"next.{ending}").to_pandas()
            forecasts = fa.forecast(fa.open_design(folder / "made"), source, 2)
            told = {(f.unit, f.period[:7]): f.forecast for f in forecasts.of}
            self.assertEqual(written.unit.tolist(), ["hut 0", "hut 0", "hut 1", "hut 1"])
            for unit, period, forecast in zip(written.unit, written.period, written.forecast, strict=True):
                self.assertAlmostEqual(told[unit, str(period)[:7]], forecast, places=9)
        refused = command(*words, "--out", folder / "next.csv")
        self.assertEqual((refused.returncode, "already exists" in refused.stderr), (2, True))
        traced = command("trace", folder / "ahead", source, "--row", "1", "--ahead", "2", "--column", "before")
        self.assertIn("hut hut 0, month 2023-04", traced.stdout)
        source.write_text(source.read_text().replace(rows[39], rows[39][:-1] + ("1" if rows[39][-1] != "1" else "2")))
        changed = command("verify", folder / "ahead", source, "--ahead", "2")
        self.assertEqual(changed.returncode, 1)
        self.assertIn("before no longer agrees", changed.stdout)

    def test_what_needs_the_source_says_so(self) -> None:
        for option in (("--folds", "3"), ("--ahead", "2"), ("--resample", "9")):
            done = command("trial", str(self.folder / "b"), *option)
            status, err = done.returncode, done.stderr
            self.assertEqual(status, 2)
            self.assertIn("Add --data FILE", err)

    def test_builds_that_cannot_be_fitted_say_why(self) -> None:
        given = huts(30, missing=0.0)
        cases = [
            (fa.Plan(None, {"x": "price"}), given, "no response to fit"),
            (fa.Plan("access", {"x": "price"}), given, "columns, one for each category"),
            (
                fa.Plan("stays", {"x": "price", "z": "beds"}),
                {k: v[:3] for k, v in given.items()},
                "needs more than 3 rows",
            ),
        ]
        for plan, rows, said in cases:
            with self.subTest(said), self.assertRaisesRegex(fa.DataError, said):
                plan.build(rows).trial()


if __name__ == "__main__":
    unittest.main()
