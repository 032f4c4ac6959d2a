"""Everyday expressions, each against what one works out by hand on a table small enough to see."""

from __future__ import annotations

import datetime
import unittest
from typing import Any

import numpy as np
from scipy.interpolate import BSpline, CubicSpline

import facturum as fa
from tests.support import panel, rows_of

TABLE: dict[str, Any] = {
    "x": [2.5, -2.5, 0.15, 7.0, None, 100.0],
    "z": [1.0, 2.0, None, 4.0, 5.0, 6.0],
    "open": [True, False, True, False, True, None],
    "way": ["Trail A", " road  12.5 m", "road 7", None, "Boat-x", "trail B"],
    "kind": ["a", "b", "a", "b", "a", "b"],
}
NUMBERS: dict[str, list[float | None]] = {
    "rounded(x)": [3, -3, 0, 7, None, 100],
    "rounded(x, to=0.1)": [2.5, -2.5, 0.2, 7, None, 100],
    "rounded(x, to=20)": [0, 0, 0, 0, None, 100],
    "floor_to(x)": [2, -3, 0, 7, None, 100],
    "floor_to(x, to=10)": [0, -10, 0, 0, None, 100],
    "remainder(x, 2)": [0.5, 1.5, 0.15, 1, None, 0],
    "sign(x)": [1, -1, 1, 1, None, 1],
    "log(abs(x) * 8, base=2)": [np.log2(20), np.log2(20), np.log2(1.2), np.log2(56), None, np.log2(800)],
    "log(z * 1000, base=10) - log(z, base=10)": [3, 3, None, 3, 3, 3],
    "product_of(x, z)": [2.5, -5, None, 28, None, 600],
    "product_of(x, z, at_least=1)": [2.5, -5, 0.15, 28, 5, 600],
    "first_present(x, z)": [2.5, -2.5, 0.15, 7, 5, 100],
    "between(x, 0.15, 7)": [1, 0, 1, 1, None, 0],
    "any_of(x > 50, open)": [1, 0, 1, 0, 1, 1],
    "all_of(x > 0, open)": [1, 0, 1, 0, None, None],
    "cases({x > 50: 1, z > 3: 2}, 3)": [3, 3, None, 2, None, 1],
    "contains(way, 'trail', case=False)": [1, 0, 0, None, 0, 1],
    "contains(way, 'trail')": [0, 0, 0, None, 0, 1],
    "starts_with(way, 'r')": [0, 0, 1, None, 0, 0],
    "ends_with(way, ' m')": [0, 1, 0, None, 0, 0],
    "matches_pattern(way, '[a-z]+ [0-9]+')": [0, 0, 1, None, 0, 0],
    "matches_pattern(way, 'trail .', case=False)": [1, 0, 0, None, 0, 1],
    "length_of(way)": [7, 13, 6, None, 6, 7],
    "number_in(way)": [None, 12.5, 7, None, None, None],
    "hinge(z, at=[2, 5])": [1, 2, None, 4, 5, 6],
    "waves(z, period=4)": [1, 0, None, 0, 1, 0],
    "total(z)": [18] * 6,
    "total(z, by=[kind])": [6, 12, 6, 12, 6, 12],
    "count(z, by=[kind])": [2, 3, 2, 3, 2, 3],
    "distinct(way)": [5] * 6,
    "distinct(kind, by=[open])": [1, 1, 1, 1, 1, None],
    "distinct(open, by=[kind])": [1, 1, 1, 1, 1, 1],
    "share_of_group(z, by=[kind])": [1 / 6, 1 / 6, None, 1 / 3, 5 / 6, 1 / 2],
    "frequency_of(kind)": [3] * 6,
    "frequency_of(open, share=True)": [0.6, 0.4, 0.6, 0.4, 0.6, None],
    "standardize(z, by=[kind])": [-(0.5**0.5), -1, None, 0, 0.5**0.5, 1],
}
TEXTS: dict[str, list[str | None]] = {
    "lower(way)": ["trail a", " road  12.5 m", "road 7", None, "boat-x", "trail b"],
    "trim(way)": ["Trail A", "road 12.5 m", "road 7", None, "Boat-x", "trail B"],
    "replaced(way, '-', ' ')": ["Trail A", " road  12.5 m", "road 7", None, "Boat x", "trail B"],
    "text_part(trim(way), ' ', 1)": ["Trail", "road", "road", None, "Boat-x", "trail"],
    "text_part(trim(way), ' ', -1)": ["A", "m", "7", None, "Boat-x", "B"],
    "text_part(way, '-', 2)": [None, None, None, None, "x", None],
    "piece(way, 1, 2)": ["Tr", " r", "ro", None, "Bo", "tr"],
    "piece(way, -2)": [" A", " m", " 7", None, "-x", " B"],
    "piece(way, 7, 7)": ["A", " ", None, None, None, "B"],
    "joined(kind, open, by='/')": ["a/true", "b/false", "a/true", "b/false", "a/true", None],
    "crossed(kind, open)": ["a & true", "b & false", "a & true", "b & false", "a & true", None],
    "cases({x > 50: 'much', z > 3: kind}, 'none')": ["none", "none", None, "b", None, "much"],
    "first_present(way, 'unknown')": ["Trail A", " road  12.5 m", "road 7", "unknown", "Boat-x", "trail B"],
}


class ByHand(unittest.TestCase):
    def column(self, text: str) -> list[float | None]:
        made = fa.Plan(None, {"t": text}, rows={"missing": "keep"}, intercept=False).build(TABLE)
        self.assertTrue(made.verify(TABLE).exact, text)
        return [None if np.isnan(value) else float(value) for value in made.X[:, 0].tolist()]

    def test_numbers_and_conditions(self) -> None:
        for text, wanted in NUMBERS.items():
            with self.subTest(text):
                found = self.column(text)
                self.assertEqual([v is None for v in found], [v is None for v in wanted])
                for a, b in zip(found, wanted, strict=True):
                    self.assertAlmostEqual(a or 0.0, b or 0.0, 12)

    def test_texts(self) -> None:
        for text, wanted in TEXTS.items():
            for label in {*wanted} - {None}:
                with self.subTest(text, label=label):
                    found = self.column(f"{text} == {label!r}")
                    self.assertEqual(found, [None if each is None else float(each == label) for each in wanted])

    def test_lists_and_selectors(self) -> None:
        table = {"has_a": [1, 0, 1, 0], "has_b": [0, 0, 1, 1], "x": [1.0, 2, 3, 4], "z": [4.0, 3, 2, 1]}
        for text, wanted in (
            ("between([x, z], 2, 3)", [[0, 1, 1, 0], [0, 1, 1, 0]]),
            ("between([x, has_a], 1, 3)", [[1, 1, 1, 0], [1, 0, 1, 0]]),
            ("any_of(matching('has_*'))", [[1, 0, 1, 1]]),
            ("all_of([has_a, has_b], x > 1)", [[0, 0, 1, 0]]),
            ("share_of_group([x, z], by=[has_a])", [[1 / 4, 1 / 3, 3 / 4, 2 / 3], [2 / 3, 3 / 4, 1 / 3, 1 / 4]]),
        ):
            with self.subTest(text):
                found = fa.Plan(None, {"t": text}, intercept=False).build(table).X.T
                np.testing.assert_allclose(found, wanted, rtol=1e-15)

    def test_what_is_wrong_is_said(self) -> None:
        for text, said in (
            ("contains(x, '1')", "contains works on text, and 'x' is a number"),
            ("matches_pattern(way, '(a')", "the pattern '\\(a' cannot be read: missing \\)"),
            ("crossed(kind)", "crossed needs two categories"),
            ("cases(x, 1)", "conditions and values are written in braces"),
            ("any_of([])", "the list is empty"),
            ("first_present(every_truth(but=[open]))", "matches no variable"),
            ("cases({}, 1)", "conditions and values are written in braces"),
            ("cases({x > 1: 'a'}, 2)", "the branches are"),
            ("between(kind, 1, 2)", "needs an order"),
            ("hinge(x, at=[3, 1])", "must be in increasing order"),
            ("spline(x, knots=[3, 1])", "knots must be two numbers or more, in increasing order"),
            ("spline(sign(x), pieces=3)", "too few distinct values"),
            (f"spline(x, knots={[*range(102)]})", "spline has 101 pieces, more than the 100 allowed"),
            ("matches_pattern(way, 'a)(b')", "cannot be read"),
            ("spline(z, knots=[2, 4], beyond='fail')", "is not defined for these values"),
            ("spline(z, natural=True, degree=2)", "a natural spline is cubic"),
            ("log(z, base=1)", "a number above 0 other than 1"),
            ("rounded(x, to=0)", "a number above 0"),
            ("rounded(x, to=5e-324)", "is infinite or not a number"),
            ("standardize(x, by=[kind], at=3)", "at and scale are those of all rows"),
            ("first_present(x, kind)", "the branches are"),
            ("cumulative_sum(x)", "works along time"),
        ):
            with self.subTest(text), self.assertRaisesRegex(fa.FacturumError, said):
                fa.Plan(None, {"t": text}).build(TABLE)

    def test_builders_write_the_same(self) -> None:
        price = fa.terms.variable("price")
        pairs = fa.terms.cases([(price > 60, "dear"), (price > 30, "fair")], "'cheap'")
        self.assertEqual(str(pairs), "cases({price > 60: 'dear', price > 30: 'fair'}, 'cheap')")
        self.assertEqual(str(fa.terms.cases({"price > 60": 1}, 0)), "cases({price > 60: 1}, 0)")
        with self.assertRaisesRegex(fa.PlanError, "is not a dict of values by condition"):
            fa.terms.cases([], 0)


class Dates(unittest.TestCase):
    def test_days_and_ages_are_those_of_the_calendar(self) -> None:
        dice, start = np.random.default_rng(7), datetime.date(1890, 1, 1)
        days = [[start + datetime.timedelta(days=at) for at in dice.integers(0, 80_000, 400).tolist()] for _ in "ab"]
        table = {"a": [*days[0], datetime.date(2020, 2, 29)], "b": [*days[1], datetime.date(2021, 2, 28)]}
        texts = ["days_between(a, b)", "periods_between(a, b, 'month')", "age_in_years(a, b)"]
        texts += ["age_in_years('1999-12-31', b)"]
        made = fa.Plan(None, {f"t{at}": text for at, text in enumerate(texts)}, intercept=False).build(table).X
        for row, first, second in zip(made.tolist(), table["a"], table["b"], strict=True):
            months = 12 * (second.year - first.year) + second.month - first.month
            ages = [
                second.year - year - ((second.month, second.day) < later)
                for year, later in ((first.year, (first.month, first.day)), (1999, (12, 31)))
            ]
            self.assertEqual(row, [(second - first).days, months, *ages])

    def test_times_are_not_subtracted_without_a_unit(self) -> None:
        table = {
            "a": [datetime.date(2020, 1, 1)] * 3,
            "b": [datetime.date(2020, 1, at) for at in (2, 3, 5)],
            "x": [1, 2, 3],
        }
        for text, said in (
            ("b - a", r"a difference of times such as 'b - a' needs a unit(.|\n)*Write days_between\(a, b\)"),
            ("b - '2020-01-01'", r"needs a unit(.|\n)*Write days_between\('2020-01-01', b\)"),
            ("x - '2020-01-01'", "- needs a number"),
            ("days_between(x, b)", "days_between works on times, and 'x' is a number"),
            ("days_between('soon', b)", "'soon' is not a valid period"),
            ("age_in_years('2020', '2021')", "both are dates in quotes"),
        ):
            with self.subTest(text), self.assertRaisesRegex(fa.PlanError, said):
                fa.Plan(None, {"t": text}).build(table)


class Splines(unittest.TestCase):
    def setUp(self) -> None:
        self.x = np.sort(np.random.default_rng(5).uniform(-3, 9, 60))

    def built(self, text: str) -> np.ndarray:
        made = fa.Plan(None, {"t": text}, intercept=False).build({"x": self.x})
        self.assertTrue(made.verify({"x": self.x}).exact)
        return np.asarray(made.X)

    def test_they_are_those_of_another_library(self) -> None:
        knots = [-1.0, 0.5, 4.0, 6.0]
        inside = np.clip(self.x, -1, 6)
        for degree in (1, 2, 3, 5):
            places = [knots[0]] * degree + knots + [knots[-1]] * degree
            wanted = BSpline.design_matrix(inside, places, degree).toarray()[:, 1:]
            constant = self.built(f"spline(x, knots={knots}, degree={degree}, beyond='constant')")
            np.testing.assert_allclose(constant, wanted, atol=1e-14)
            linear = self.built(f"spline(x, knots={knots}, degree={degree})")
            for at in range(1, len(places) - degree - 1):
                one = BSpline(places, np.eye(len(places) - degree - 1)[at], degree)
                ends = [(self.x < -1, -1.0), (self.x > 6, 6.0)]
                for beyond, end in ends:
                    step = 1e-6 if end < 0 else -1e-6  # inwards, of a spline of degree 1
                    small = (float(one(end + step)) - float(one(end))) / step
                    slope = float(one.derivative()(end)) if degree > 1 else small
                    line = float(one(end)) + slope * (self.x[beyond] - end)
                    np.testing.assert_allclose(linear[beyond, at - 1], line, atol=1e-7)

    def test_all_of_a_degree_add_up_to_one_everywhere(self) -> None:
        for degree in (1, 3):
            each = [f"basis_spline(x, {n}, [-1, 0.5, 4], degree={degree})" for n in range(1, 3 + degree)]
            np.testing.assert_allclose(self.built(" + ".join(each)), 1, atol=1e-13)

    def test_a_natural_one_holds_every_natural_cubic_spline_with_its_knots(self) -> None:
        knots = np.array([-1.0, 1.0, 2.5, 6.0])
        columns = np.column_stack([np.ones(60), self.built(f"spline(x, knots={knots.tolist()}, natural=True)")])
        curve = CubicSpline(knots, [2.0, -1.0, 3.0, 0.5], bc_type="natural")
        slopes = curve.derivative()([-1.0, 6.0])
        values = np.where(
            self.x < -1,
            2.0 + slopes[0] * (self.x + 1),
            np.where(self.x > 6, 0.5 + slopes[1] * (self.x - 6), curve(self.x)),
        )
        fitted = columns @ np.linalg.lstsq(columns, values, rcond=None)[0]
        np.testing.assert_allclose(fitted, values, atol=1e-10)
        self.assertEqual(np.linalg.matrix_rank(columns), 4)

    def test_knots_lie_at_quantiles(self) -> None:
        made = fa.Plan(None, {"t": "spline(x, pieces=5)"}).build({"x": self.x})
        knots = np.quantile(self.x, np.linspace(0, 1, 6))
        np.testing.assert_allclose([float(k) for k in made.plan.spec.terms["t"].split("[")[1][:-2].split(",")], knots)


class SoFar(unittest.TestCase):
    def test_it_begins_anew_at_one_condition_or_step_of_time(self) -> None:
        table, data = panel(seed=5, units=2, periods=9), {"time": "month", "every": "month", "panel": ["hut"]}
        for name in ("sum", "mean", "count", "largest", "smallest"):
            for since, said in (
                ("[snow > 3, price > 50]", "since is one condition"),
                ("'row'", "'row' is not a valid step of time"),
                ("'decade'", "'decade' is not a valid step of time"),
                ("comfort", "needs a number, and 'comfort' is a category"),
            ):
                with self.subTest(name, since=since), self.assertRaisesRegex(fa.PlanError, said):
                    fa.Plan(None, {"t": f"cumulative_{name}(price, since={since})"}, data=data).build(table)
        rows = {"time": None, "every": "row"}
        with self.assertRaisesRegex(fa.PlanError, "the rows have no time, and so no periods"):
            fa.Plan(None, {"t": "cumulative_sum(price, since='year')"}, data=rows).build(table)

    def test_they_are_what_all_rows_before_come_to(self) -> None:
        table = panel(seed=5, units=3, periods=40)
        terms = {"s": "cumulative_sum(price, since='year')", "e": "exponential_average(stays, half_life=4)",
                 "p": "place_in_unit()", "l": "periods_since_last(comfort == 'good')"}  # fmt: skip
        data = {"time": "month", "every": "month", "panel": ["hut"]}
        made = fa.Plan(None, terms, data=data, rows={"missing": "keep"}, intercept=False).build(table)
        rows = rows_of(table)
        for at, row in enumerate(rows):
            before = sorted(
                (r for r in rows if r["hut"] == row["hut"] and r["period"] <= row["period"]), key=lambda r: r["period"]
            )
            year = [r["price"] for r in before if r["month"][:4] == row["month"][:4]]
            good = [r["period"] for r in before if r["comfort"] == "good"]
            weights = [0.5 ** ((len(before) - 1 - k) / 4) for k in range(len(before))]
            mean = sum(w * r["stays"] for w, r in zip(weights, before, strict=True)) / sum(weights)
            wanted = [sum(year), mean, len(before), row["period"] - good[-1] if good else np.nan]
            np.testing.assert_allclose(made.X[at], wanted, rtol=1e-12)
