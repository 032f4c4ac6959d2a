"""Standard errors against regressions with indicators and against direct formulas; and where there are none."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from tests.support import Folder, command


def random_panel(seed: int) -> dict[str, Any]:
    """Return an unbalanced panel with units of one row too, gaps, and a cluster variable that is missing at times."""
    dice = np.random.default_rng(seed)
    units, periods = int(dice.integers(3, 14)), int(dice.integers(2, 7))
    if seed % 5 == 0:
        periods = 2  # two periods a unit, where absorbed degrees matter most
    rows = [(u, t) for u in range(units) for t in range(periods) if seed % 3 == 0 or dice.random() < 0.8]
    rows += [(units, 0)] if dice.random() < 0.4 else []
    n = len(rows)
    unit, period = (np.array(column) for column in zip(*rows, strict=True))
    region = dice.integers(0, max(2, units // 2), units + 1)[unit]
    x, w = dice.normal(size=n) + unit, dice.normal(size=n) * (1 + period)
    y = x + 0.5 * w + dice.normal(size=n) * (1 + np.abs(x)) + dice.normal(size=units + 1)[unit]
    code = [None if dice.random() < 0.1 else f"c{c}" for c in dice.integers(0, max(2, n // 4), n)]
    return {
        "u": [f"u{v:02d}" for v in unit], "t": (2001 + period).tolist(), "region": [f"r{v}" for v in region],
        "code": code, "x": x.tolist(), "w": w.tolist(), "y": y.tolist(),
    }  # fmt: skip


def codes(values: Any) -> np.ndarray:
    """Return the number of each row's cluster; a missing value is one of its own."""
    seen: dict[Any, int] = {}
    return np.array([seen.setdefault(at if v is None else f"{v}", len(seen)) for at, v in enumerate(values)])


def dummies(values: Any) -> np.ndarray:
    labels = sorted(set(values))
    return np.array([[value == label for label in labels] for value in values], dtype=float)


class Direct:
    """A regression by the formulas of textbooks, with a full matrix of indicators."""

    def __init__(self, y: np.ndarray, X: np.ndarray) -> None:  # noqa: N803
        keep: list[int] = []
        for at in range(X.shape[1]):
            if np.linalg.matrix_rank(X[:, [*keep, at]], tol=1e-8) > len(keep):
                keep.append(at)
        self.X, self.y = X[:, keep], y
        self.n, self.k = self.X.shape
        q, r = np.linalg.qr(self.X, mode="complete")  # the inverse of X'X would lose half of the digits
        root = np.linalg.inv(r[: self.k])
        self.bread = root @ root.T
        self.b = self.bread @ self.X.T @ y
        self.e = y - self.X @ self.b
        self.free = np.square(q[:, self.k :]).sum(axis=1)  # one less the leverage, without cancellation

    def ordinary(self) -> np.ndarray:
        return self.bread * (self.e @ self.e) / (self.n - self.k)

    def sandwich(self, e: np.ndarray) -> np.ndarray:
        scores = self.X * e[:, None]
        return self.bread @ scores.T @ scores @ self.bread

    def hc1(self) -> np.ndarray:
        return self.sandwich(self.e) * self.n / (self.n - self.k)

    def hc3(self) -> np.ndarray:
        certain = self.free < 1e-9
        return self.sandwich(np.where(certain, 0, self.e / np.where(certain, 1, self.free)))

    def clustered(self, units: np.ndarray, k: int) -> np.ndarray:
        groups = int(units.max()) + 1
        sums = np.zeros((groups, self.k))
        np.add.at(sums, units, self.X * self.e[:, None])
        scale = groups / (groups - 1) * (self.n - 1) / (self.n - k)
        return scale * self.bread @ sums.T @ sums @ self.bread


class Absorbed(unittest.TestCase):
    """Baltagi, "Econometric Analysis of Panel Data": within estimates are those of regressions with indicators."""

    @given(st.integers(0, 10**6))
    @settings(max_examples=40)
    def test_errors_within_groups_are_those_beside_indicators(self, seed: int) -> None:
        self.check(seed)

    def check(self, seed: int) -> bool:
        """Compare one random panel; return whether there was something to compare."""
        table = random_panel(seed)
        two_way = seed % 2 == 1
        more = ", and_by=[t]" if two_way else ""
        names = ("x", "w")
        terms = {name: f"within({name}, by=[u]{more})" for name in names}
        data = {"carry": ["unit", "year", "region", "code"]}
        given_table = {**table, "unit": table["u"], "year": table["t"]}
        plan = fa.Plan(f"within(y, by=[u]{more})", terms, data=data, intercept=seed % 4 > 1)
        made = plan.build(given_table)
        groups = np.hstack(
            [np.ones((len(table["y"]), 1)), dummies(table["u"]), *([dummies(table["t"])] if two_way else [])]
        )
        X = np.column_stack([table["x"], table["w"], groups])  # noqa: N806
        direct = Direct(np.array(table["y"]), X)
        within_rank = np.linalg.matrix_rank(made.X[:, -2:], tol=1e-8)
        if within_rank < 2 or direct.n <= direct.k:
            with self.assertRaises(fa.DataError):
                made.trial()
                raise fa.DataError("one of the columns has no coefficient")
            return False
        free = direct.n - direct.k
        u = codes(table["u"])
        clusters = {key: codes(table[key]) for key in ("u", "region", "code")}
        # units that lie each within one cluster are not counted among the coefficients
        nested = {key: direct.k - int(u.max()) if _nested(u, by) else direct.k for key, by in clusters.items()}
        wanted: dict[tuple[str, Any], tuple[np.ndarray, int]] = {
            ("ordinary", None): (direct.ordinary(), free),
            ("hc1", None): (direct.hc1(), free),
            ("hc3", None): (direct.hc3(), free),
        }
        for name, key in (("unit", "u"), ("region", "region"), ("code", "code")):
            by = codes(table[key])
            if by.max() > 0:
                wanted["clustered", name] = (direct.clustered(by, nested[key]), int(by.max()))
        if codes(table["region"]).max() > 0 and codes(table["code"]).max() > 0:
            a, b = codes(table["region"]), codes(table["code"])
            both = codes([f"{p} {q}" for p, q in zip(a, b, strict=True)])
            ab = direct.k - int(u.max()) if _nested(u, both) else direct.k
            matrix = (
                direct.clustered(a, nested["region"]) + direct.clustered(b, nested["code"]) - direct.clustered(both, ab)
            )
            wanted["clustered", ("region", "code")] = (matrix, min(int(a.max()), int(b.max())))
        for (kind, by_name), (covariance, degrees) in wanted.items():
            trial = made.trial(errors=kind, by=by_name)
            self.assertEqual(trial.degrees_of_freedom, degrees, (seed, kind, by_name))
            self.assertEqual(trial.absorbed, direct.k - 3)
            for at, name in enumerate(names):
                found = trial[name]
                self.assertAlmostEqual(found.estimate, direct.b[at], delta=1e-8 * (1 + abs(direct.b[at])))
                variance = covariance[at, at]
                if found.error is None:  # one row or one unit alone determines it, or the variance is not positive
                    self.assertTrue(
                        variance <= 1e-13 * direct.ordinary()[at, at]
                        or self.determined(direct, at, kind, by_name, table),
                        (seed, kind, by_name),
                    )
                else:
                    self.assertGreater(variance, 0)
                    self.assertAlmostEqual(
                        found.error, np.sqrt(variance), delta=1e-8 * np.sqrt(variance), msg=(seed, kind, by_name)
                    )
        return True

    @staticmethod
    def determined(direct: Direct, at: int, kind: str, by: Any, table: dict[str, Any]) -> bool:
        """Return whether leaving out one row, or one cluster, leaves a coefficient without an estimate."""
        if kind in ("hc1", "hc3"):
            groups = [np.array([row]) for row in range(direct.n)]
        else:
            keys = {"unit": "u"}
            names = [by] if isinstance(by, str) else by
            each = [codes(table[keys.get(name, name)]) for name in names]
            groups = [np.flatnonzero(units == one) for units in each for one in range(units.max() + 1)]
        for group in groups:
            X = np.delete(direct.X, group, axis=0)  # noqa: N806
            others = np.delete(X, at, axis=1)
            if np.linalg.matrix_rank(X, tol=1e-7) == np.linalg.matrix_rank(others, tol=1e-7):
                return True
        return False


def _nested(inner: np.ndarray, outer: np.ndarray) -> bool:
    return all(len(set(outer[inner == one])) == 1 for one in set(inner))


class NotDefined(Folder):
    def test_a_row_that_alone_determines_a_coefficient_leaves_it_without_robust_errors(self) -> None:
        dice = np.random.default_rng(1)
        table: dict[str, Any] = {"g": ["a"] * 30 + ["b"] * 29 + ["solo"], "x": dice.normal(size=60)}
        table["y"] = table["x"] + dice.normal(size=60)
        made = fa.Plan("y", {"g": "g", "x": "x"}).build(table)
        for kind in ("hc1", "hc3"):
            trial = made.trial(errors=kind)
            self.assertEqual((trial["g_solo"].error, trial["g_solo"].p, trial["g_solo"].low), (None, None, None))
            self.assertIsNotNone(trial["g_b"].error)
            self.assertIn("No standard error is defined for g_solo: row 60 alone determines them.", trial.cautions)
            joint = next(each for each in trial.terms if each.term == "g")
            self.assertEqual((joint.statistic, joint.p), (None, None))
            self.assertFalse([effect for effect in trial.effects if "solo" in effect.text])
        self.assertIsNotNone(made.trial()["g_solo"].error)

    def test_more_coefficients_than_units_cannot_be_tested_jointly(self) -> None:
        dice = np.random.default_rng(2)
        table: dict[str, Any] = {"c": [f"c{at % 5}" for at in range(90)], "u": [f"u{at % 3}" for at in range(90)]}
        table |= {"y": dice.normal(size=90), "x": dice.normal(size=90)}
        trial = fa.Plan("y", {"c": "c", "x": "x"}, data={"carry": ["u"]}).build(table).trial(errors="clustered", by="u")
        joint = {each.term: each for each in trial.terms}
        self.assertEqual((joint["c"].statistic, joint["c"].p), (None, None))
        self.assertIn("4 coefficients cannot be tested jointly with 3 units", joint["c"].note)
        self.assertIsNotNone(joint["x"].p)
        self.assertTrue(any("3 units of u are few" in text for text in trial.cautions))

    def test_groups_of_two_variables_are_those_of_their_combinations(self) -> None:
        dice = np.random.default_rng(6)
        a, b = dice.integers(0, 4, 90), dice.integers(0, 3, 90)
        table = {"a": a, "b": [f"b{at}" for at in b], "ab": [f"{x} {y}" for x, y in zip(a, b, strict=True)]}
        table |= {"x": dice.normal(size=90) + a * b, "y": dice.normal(size=90) + a}
        trials = []
        for by in ("a, b", "ab"):
            plan = fa.Plan(f"within(y, by=[{by}])", {"x": f"within(x, by=[{by}])"}, data={"carry": ["a", "b", "ab"]})
            trials.append([plan.build(table).trial(errors=errors) for errors in ("ordinary", "hc3")])
        for one, other in zip(*trials, strict=True):
            np.testing.assert_allclose(
                [c.error for c in one.coefficients], [c.error for c in other.coefficients], rtol=1e-12
            )

    def test_indicators_of_the_clusters_themselves_have_no_errors(self) -> None:
        table = random_panel(12)
        made = fa.Plan("y", {"u": "u", "x": "x"}, data={"carry": ["unit"]}).build({**table, "unit": table["u"]})
        trial = made.trial(errors="clustered", by="unit")
        self.assertEqual({c.error for c in trial.coefficients if c.term in ("u", "intercept")}, {None})
        self.assertIsNotNone(trial["x"].error)
        self.assertIsNone(next(each for each in trial.terms if each.term == "u").p)

    def test_rows_without_a_unit_are_units_of_their_own_and_counted(self) -> None:
        dice = np.random.default_rng(4)
        table: dict[str, Any] = {"s": ["f", "m", None] * 20, "x": dice.normal(size=60), "y": dice.normal(size=60)}
        made = fa.Plan("y", {"x": "x"}, data={"carry": ["s"]}).build(table)
        trial = made.trial(errors="clustered", by="s")
        self.assertEqual(trial.degrees_of_freedom, 21)
        self.assertIn("20 rows in which s is missing: each is a unit of its own.", trial.cautions)
        direct = Direct(np.asarray(table["y"]), np.column_stack([table["x"], np.ones(60)]))
        wanted = direct.clustered(codes(table["s"]), 2)[0, 0]
        self.assertAlmostEqual(trial["x"].error or 0.0, np.sqrt(wanted), places=10)

    def test_effects_and_tests_that_are_not_identified_are_not_reported(self) -> None:
        dice = np.random.default_rng(5)
        n = 200
        table: dict[str, Any] = {"a": [*"xyz"] * 66 + ["x", "y"], "b": ["p" if at % 7 else "q" for at in range(n)]}
        table["b"] = ["p" if a == "z" else b for a, b in zip(table["a"], table["b"], strict=True)]  # no row is z and q
        table |= {"m": dice.normal(size=n), "n": dice.normal(size=n), "y": dice.normal(size=n)}
        table["total"] = table["m"] + table["n"]
        trial = fa.Plan("y", {"a": "a", "b": "b", "ab": "a * b"}).build(table).trial()
        self.assertEqual(trial.left_out, {"ab_z_q": "0 in every row fitted"})
        said = [effect.text for effect in trial.effects]
        self.assertFalse([text for text in said if "b = q" in text and "a = z" in text])
        self.assertTrue([text for text in said if "b = q" in text and "a = y" in text])
        trial = fa.Plan("y", {"m": "m", "n": "n", "total": "total"}).build(table).trial()
        self.assertEqual(trial.effects, ())
        self.assertEqual(set(trial.not_identified), {"m", "n", "total"})
        self.assertIn("not identified: total", next(each for each in trial.terms if each.term == "m").note)

    def test_all_that_is_made_of_a_variable_moves_with_it(self) -> None:
        dice = np.random.default_rng(8)
        table = {"age": dice.uniform(18, 65, 200), "x": dice.normal(size=200), "y": dice.normal(size=200)}
        twice = {"wide": "bins(age, width=20)", "parts": "bins(age, quantiles=3)", "x": "x"}
        trial = fa.Plan("y", twice).build(table).trial()
        self.assertEqual([effect.subject for effect in trial.effects], ["age", "age", "x"])
        self.assertEqual(trial.not_identified, ())
        bent = {"age": "age", "over": "(age - 40) * (age > 40)", "x": "x"}
        trial = fa.Plan("y", bent).build(table).trial()
        self.assertEqual({effect.subject for effect in trial.effects}, {"age", "x"})
        self.assertEqual(trial.not_identified, ())
        once = {"parts": "bins(age, quantiles=3)", "px": "bins(age, quantiles=3) * x", "x": "x"}
        self.assertEqual(fa.Plan("y", once).build(table).trial().not_identified, ())

    def test_likelihoods_clustered_have_as_many_degrees_as_units_less_one(self) -> None:
        dice = np.random.default_rng(6)
        table: dict[str, Any] = {"x": dice.normal(size=120), "u": [f"u{at % 4}" for at in range(120)]}
        table["y"] = (table["x"] + dice.normal(size=120) > 0).astype(int)
        trial = (
            fa.Plan("y == 1", {"x": "x"}, data={"carry": ["u"]})
            .build(table)
            .trial("logistic", errors="clustered", by="u")
        )
        x = trial["x"]
        assert x.t is not None
        assert x.p is not None
        from scipy import stats

        self.assertAlmostEqual(x.p, float(2 * stats.t.sf(abs(x.t), 3)), places=12)
        self.assertEqual(trial.statistic_name, "t")

    def test_autocorrelated_residuals_are_told_with_the_statistic(self) -> None:
        dice = np.random.default_rng(7)
        noise = np.zeros(240)
        for at in range(1, 240):
            noise[at] = 0.9 * noise[at - 1] + dice.normal()
        months = [f"{2000 + at // 12}-{at % 12 + 1:02d}" for at in range(240)]
        x = np.cumsum(dice.normal(size=240))
        table = {"m": months, "x": x, "y": x + noise}
        data = {"time": "m", "every": "month"}
        trial = fa.Plan("y", {"x": "x"}, data=data).build(table).trial()
        found = trial.autocorrelation
        assert found is not None
        X = np.column_stack([np.ones(240), x])  # noqa: N806
        e = table["y"] - X @ np.linalg.lstsq(X, table["y"], rcond=None)[0]
        self.assertAlmostEqual(found.durbin_watson, float(np.square(np.diff(e)).sum() / (e @ e)), places=9)
        wanted = e[1:] @ e[:-1] / np.sqrt((e[1:] @ e[1:]) * (e[:-1] @ e[:-1]))
        self.assertAlmostEqual(found.r, wanted, places=9)
        self.assertTrue(any('errors="autocorrelation"' in text for text in trial.cautions))
        still = fa.Plan("y", {"x": "x"}, data=data).build({**table, "y": x + dice.normal(size=240)}).trial()
        self.assertFalse(any("correlated" in text for text in still.cautions))

    def test_the_command_line_clusters_by_two_variables(self) -> None:
        table = random_panel(21)
        plan = fa.Plan("y", {"x": "x"}, data={"carry": ["region", "code"]})
        plan.build(table).save(self.folder / "b")
        done = command("trial", self.folder / "b", "--errors", "clustered", "--by", "region", "--by", "code")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("clustered by region", done.stdout)
        refused = command("trial", self.folder / "b", "--errors", "clustered")
        self.assertIn("--by VARIABLE", refused.stderr)


if __name__ == "__main__":
    unittest.main()
