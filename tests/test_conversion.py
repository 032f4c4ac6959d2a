"""Frequency conversion and joined series: against sums by hand, exact totals, straight lines and calendar days."""

from __future__ import annotations

import calendar
import datetime
import math
import statistics
import unittest
import warnings
from collections import Counter, defaultdict
from operator import itemgetter
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum.numerics.shapes.smooth_paths import cubic_values, smoothest_path
from tests.support import SAMPLE, Folder, command, panel

DAYS = [datetime.date(2022, 11, 20) + datetime.timedelta(days=at) for at in range(150)]


def numbers(table: fa.Table, name: str) -> list[float | None]:
    variable = table[name]
    return [None if gone else float(v) for v, gone in zip(variable.data, variable.missing_rows(), strict=True)]


def quarters(values: list[float | None], first: int = 2019) -> dict[str, Any]:
    return {"q": [f"{first + at // 4}Q{at % 4 + 1}" for at in range(len(values))], "x": values}


def to_months(values: list[float | None], **take: Any) -> list[float | None]:
    return numbers(fa.convert(quarters(values), "q", "quarter", "month", {"x": take}), "x")


class Longer(unittest.TestCase):
    @given(st.integers(0, 10**6))
    @settings(max_examples=25, deadline=None)
    def test_each_way_agrees_with_the_standard_library(self, seed: int) -> None:
        dice = np.random.default_rng(seed)
        keep = [at for at in range(150) if dice.random() > 0.1]
        order = dice.permutation(keep).tolist()
        rain = {at: None if dice.random() < 0.1 else round(float(dice.uniform(0, 9)), 1) for at in keep}
        kind = {at: str(dice.choice(["wet", "dry", "snow"])) for at in keep}
        table = {
            "day": [DAYS[at] for at in order],
            "rain": [rain[at] for at in order],
            "kind": [kind[at] for at in order],
        }
        ways = ("mean", "sum", "first", "last", "smallest", "largest", "median", "count")
        take = {way: {"how": way, "of": "rain", "partial": "keep"} for way in ways}
        take["kind"] = {"how": "mode", "partial": "keep"}
        made = fa.convert(table, "day", "day", "month", take)
        months: dict[tuple[int, int], list[int]] = defaultdict(list)
        for at in sorted(keep):
            months[DAYS[at].year, DAYS[at].month].append(at)
        for row, key in enumerate(sorted(months)):
            values = [v for at in months[key] if (v := rain[at]) is not None]
            wanted = {
                "mean": statistics.fmean(values), "sum": sum(values), "first": values[0], "last": values[-1],
                "smallest": min(values), "largest": max(values), "median": statistics.median(values),
                "count": len(values),
            }  # fmt: skip
            for way in ways:
                self.assertAlmostEqual(numbers(made, way)[row] or 0, wanted[way], places=9)
            counts = Counter(kind[at] for at in months[key])
            label = (made["kind"].labels or ())[made["kind"].data[row]]
            self.assertEqual(counts[str(label)], max(counts.values()))

    def test_periods_not_fully_covered_are_as_told(self) -> None:
        table = {"m": ["2023-01", "2023-02", "2023-03", "2023-04"], "x": [1.0, 2.0, 3.0, 4.0]}
        for partial, wanted in (
            ("missing", [6, None]), ("keep", [6, 4]), ("drop", [6]), (0.3, [6, 4]), (1 / 3, [6, 4]), (0.4, [6, None])
        ):  # fmt: skip
            made = fa.convert(table, "m", "month", "quarter", {"x": {"how": "sum", "partial": partial}})
            self.assertEqual(numbers(made, "x"), wanted)
        gap = {"m": ["2023-01", "2023-02", "2023-03"], "x": [1.0, None, 3.0]}
        made = fa.convert(gap, "m", "month", "quarter", {"x": {"how": "mean", "partial": "missing"}})
        self.assertEqual(numbers(made, "x"), [None])

    def test_month_to_quarter_to_year_is_month_to_year(self) -> None:
        x = np.random.default_rng(3).integers(0, 10**6, 48) / 64
        months = {"m": [f"{2019 + at // 12}-{at % 12 + 1:02d}" for at in range(48)], "x": x}
        take = {"x": {"how": "sum", "partial": "keep"}}
        direct = fa.convert(months, "m", "month", "year", take)
        through = fa.convert(fa.convert(months, "m", "month", "quarter", take), "m", "quarter", "year", take)
        self.assertEqual(numbers(direct, "x"), numbers(through, "x"))

    def test_units_are_kept_apart_and_in_their_order(self) -> None:
        table = {
            "hut": ["b", "a", "b", "a", "b"],
            "m": ["2023-02", "2023-01", "2023-01", "2023-05", "2023-03"],
            "x": [1.0, 10.0, 2.0, 30.0, 4.0],
        }
        made = fa.convert(table, "m", "month", "quarter", {"x": {"how": "sum", "partial": "keep"}}, ["hut"])
        self.assertEqual(made.to_pandas()["hut"].tolist(), ["b", "a", "a"])
        self.assertEqual(numbers(made, "x"), [7, 10, 30])

    def test_hours_days_and_weeks_that_begin_on_sundays(self) -> None:
        start = datetime.datetime(2023, 1, 1)
        hours = [start + datetime.timedelta(hours=at) for at in range(24 * 8)]
        table = {"t": hours, "x": np.arange(24.0 * 8)}
        days = fa.convert(table, "t", "hour", "day", {"x": {"how": "sum", "partial": "missing"}})
        self.assertEqual(numbers(days, "x"), [sum(range(24 * at, 24 * at + 24)) for at in range(8)])
        back = fa.convert(days, "t", "day", "hour", {"x": {"how": "spread"}})
        np.testing.assert_allclose(numbers(back, "x")[:24], sum(range(24)) / 24)  # type: ignore[arg-type]
        plan = fa.Plan(
            "x",
            {"l": "lag(x, 1)"},
            data={"time": "t", "every": "week", "week_starts": "sunday"},
            convert={"every": "hour", "take": {"x": {"how": "mean", "partial": "keep"}}},
        )
        made = plan.build(table)  # the first of January was a Sunday
        self.assertEqual((made.X[:, 1].tolist(), made.y.tolist()), ([83.5], [179.5]))  # type: ignore[union-attr]

    @given(st.integers(0, 10**6))
    @settings(max_examples=10, deadline=None)
    def test_half_hours_and_workdays_are_brought_to_longer_periods(self, seed: int) -> None:
        dice = np.random.default_rng(seed)
        halves = [datetime.datetime(2021, 12, 30) + datetime.timedelta(minutes=30 * at) for at in range(200)]
        days = [datetime.date(2021, 12, 20) + datetime.timedelta(days=at) for at in range(60)]
        workdays = [day for day in days if day.weekday() < 5]
        for every, moments, to, name in (
            ("30 minutes", halves, "hour", "%Y-%m-%d %H"), ("30 minutes", halves, "day", "%Y-%m-%d"),
            ("30 minutes", halves, "month", "%Y-%m"), ("workday", workdays, "month", "%Y-%m"),
            ("workday", workdays, "week", "%G-%V"),
        ):  # fmt: skip
            chosen = [moments[at] for at in sorted(dice.choice(len(moments), 30, replace=False))]
            values = dice.uniform(0, 9, len(chosen)).round(3).tolist()
            order = dice.permutation(len(chosen))
            own: dict[str, list[float]] = defaultdict(list)
            for moment, value in zip(chosen, values, strict=True):
                own[f"{moment:{name}}"].append(value)
            table = {"t": [chosen[at] for at in order], "x": [values[at] for at in order]}
            take = {"x": {"how": "sum", "partial": "keep"}, "n": {"how": "count", "of": "x"}, "whole": {"how": "sum",
                    "of": "x", "partial": "missing"}}  # fmt: skip
            made = fa.convert(table, "t", every, to, take)
            starts = made["t"].data.astype("datetime64[us]").tolist()
            for start, total, count, whole in zip(starts, *(numbers(made, n) for n in take), strict=True):
                there = own.pop(f"{start:{name}}", [])
                self.assertEqual((None if total is None else round(total, 6), count), (
                    round(sum(there), 6) if there else None, len(there)))  # fmt: skip
                inside = sum(f"{moment:{name}}" == f"{start:{name}}" for moment in moments)
                first, last = f"{moments[0]:{name}}", f"{moments[-1]:{name}}"
                if f"{start:{name}}" not in (first, last):  # whose beginning or end is not among the moments
                    self.assertEqual(whole is not None, len(there) == inside)
            self.assertEqual(own, {})

    def test_days_and_months_are_joined_to_workdays_and_half_hours(self) -> None:
        days = [datetime.date(2021, 10, 1) + datetime.timedelta(days=at) for at in range(70)]
        work = [day for day in days if day.weekday() < 5]
        rates = {"m": ["2021-09", "2021-10", "2021-11", "2021-12"], "r": [1.0, 2.0, 3.0, 4.0]}
        warm = {"day": days, "w": [float(at) for at in range(70)]}
        series: dict[str, Any] = {
            "b": {"time": "m", "every": "month", "take": {"r": {"how": "repeat"}}},
            "a": {"time": "day", "every": "day", "take": {"w": {"how": "repeat"}}},
        }
        plan = fa.Plan(None, {"r": "b_r", "w": "a_w"}, data={"time": "day", "every": "workday"}, series=series)
        made = plan.build({"day": work}, series={"b": rates, "a": warm})
        wanted = [[1.0, float(day.month - 8), float((day - days[0]).days)] for day in work]
        self.assertEqual(made.X.tolist(), wanted)
        halves = [datetime.datetime(2021, 10, 31) + datetime.timedelta(minutes=30 * at) for at in range(96)]
        plan = fa.Plan(None, {"r": "b_r", "w": "a_w"}, data={"time": "t", "every": "30 minutes"}, series=series)
        made = plan.build({"t": halves}, series={"b": rates, "a": warm})
        self.assertEqual(made.X[:, 1:].tolist(), [[2.0, 30.0]] * 48 + [[3.0, 31.0]] * 48)
        spread = fa.convert(
            {"day": days[:2], "kwh": [48.0, 96.0]}, "day", "day", "30 minutes", {"kwh": {"how": "spread"}}
        )
        self.assertEqual(numbers(spread, "kwh"), [1.0] * 48 + [2.0] * 48)
        with self.assertRaisesRegex(fa.PlanError, "hours of weekends lie in no workday"):
            take = {"x": {"how": "mean", "partial": "keep"}}
            fa.convert({"t": halves[::2], "x": [1.0] * 48}, "t", "hour", "workday", take)

    def test_categories_are_taken_first_last_and_again(self) -> None:
        months = {"m": ["2023-01", "2023-02", "2023-03", "2023-05"], "c": ["a", None, "b", "c"]}
        take = {name: {"how": name, "of": "c", "partial": "keep"} for name in ("first", "last", "mode")}
        made = fa.convert(months, "m", "month", "quarter", take).to_pandas()
        self.assertEqual(made["first"].tolist(), ["a", "c"])
        self.assertEqual(made["last"].tolist(), ["b", "c"])
        self.assertEqual(made["mode"].tolist(), ["a", "c"])
        quarter = {"q": ["2023Q1", "2023Q2"], "c": ["x", None]}
        again = fa.convert(quarter, "q", "quarter", "month", {"c": {"how": "repeat"}}).to_pandas()
        self.assertEqual([None if v is None or v != v else v for v in again["c"]], ["x"] * 3 + [None] * 3)

    def test_weeks_and_months_share_days(self) -> None:
        weeks = {"w": ["2023-W05", "2023-W06", "2023-W07", "2023-W08", "2023-W09"], "x": [7.0, 15.0, 20.5, 28.0, 36.0]}
        made = fa.convert(weeks, "w", "week", "month", {"x": {"how": "sum", "partial": "keep"}})
        rate = {}
        for week, x in zip(range(5, 10), weeks["x"], strict=True):
            for day in range(1, 8):
                rate[datetime.date.fromisocalendar(2023, week, day)] = float(x) / 7
        wanted: dict[int, float] = defaultdict(float)
        for day_, value in rate.items():
            wanted[day_.month] += value
        np.testing.assert_allclose(numbers(made, "x"), [wanted[month] for month in (1, 2, 3)])  # type: ignore[arg-type]
        full = fa.convert(weeks, "w", "week", "month", {"x": {"how": "mean", "partial": "missing"}})
        self.assertEqual([v is None for v in numbers(full, "x")], [True, False, True])
        months = {"m": ["2023-01", "2023-02"], "x": [31.0, 56.0]}
        back = numbers(fa.convert(months, "m", "month", "week", {"x": {"how": "sum", "partial": "keep"}}), "x")
        self.assertAlmostEqual(sum(v or 0 for v in back), 87, places=12)
        self.assertAlmostEqual(back[5] or 0, 2 * 1 + 5 * 2, places=12)  # 30 January to 5 February


class Shorter(unittest.TestCase):
    @given(st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=24), st.sampled_from([1, 2]))
    @settings(max_examples=100, deadline=None)
    def test_smooth_paths_keep_totals_and_means(self, values: list[float], order: int) -> None:
        size = max(abs(v) for v in values) + 1e-300
        path = np.array(to_months(values, how="smooth_total", order=order), dtype=float).reshape(-1, 3)  # type: ignore[arg-type]
        self.assertLessEqual(np.abs(path.sum(axis=1) - values).max(), 1e-12 * 3 * size)
        path = np.array(to_months(values, how="smooth_mean", order=order), dtype=float).reshape(-1, 3)  # type: ignore[arg-type]
        self.assertLessEqual(np.abs(path.mean(axis=1) - values).max(), 1e-12 * 3 * size)

    @given(st.integers(0, 10**6), st.sampled_from([1, 2]), st.integers(2, 7))
    @settings(max_examples=40, deadline=None)
    def test_a_smooth_path_is_the_least_squares_one(self, seed: int, order: int, parts: int) -> None:
        dice = np.random.default_rng(seed)
        sizes = dice.integers(1, 6, parts)
        totals = dice.normal(0, 100, parts)
        count = int(sizes.sum())
        if count <= order:
            return
        order = min(order, parts)
        summing = np.zeros((parts, count))
        summing[np.repeat(np.arange(parts), sizes), np.arange(count)] = 1
        differences = np.diff(np.eye(count), order, axis=0)
        whole = np.block([[differences.T @ differences, summing.T], [summing, np.zeros((parts, parts))]])
        dense = np.linalg.lstsq(whole, np.concatenate([np.zeros(count), totals]), rcond=None)[0][:count]
        np.testing.assert_allclose(smoothest_path(totals, sizes, order), dense, atol=1e-6 * np.abs(totals).max())

    def test_constants_and_straight_lines_stay(self) -> None:
        line = [3.0 * at + 1 for at in range(24)]
        means = [statistics.fmean(line[at : at + 3]) for at in range(0, 24, 3)]
        for how in ("linear", "cubic", "smooth_mean"):
            found = to_months(means, how=how)  # type: ignore[arg-type]
            for a, b in zip(found, line, strict=True):
                if a is not None:
                    self.assertAlmostEqual(a, b, places=9)
            constant = [v for v in to_months([5.0] * 6, how=how) if v is not None]
            np.testing.assert_allclose(constant, 5.0, rtol=1e-12)
        found = to_months([sum(line[at : at + 3]) for at in range(0, 24, 3)], how="smooth_total")
        np.testing.assert_allclose(found, line, rtol=1e-10)  # type: ignore[arg-type]
        self.assertEqual(to_months([5.0, 7.0], how="repeat"), [5, 5, 5, 7, 7, 7])

    def test_dated_values_lie_where_told(self) -> None:
        self.assertEqual(to_months([1.0, 4.0], how="linear", at="start"), [1, 2, 3, 4, None, None])
        self.assertEqual(to_months([1.0, 4.0], how="linear", at="middle"), [None, 1, 2, 3, 4, None])
        self.assertEqual(to_months([1.0, 4.0], how="linear", at="end"), [None, None, 1, 2, 3, 4])
        self.assertEqual(to_months([1.0, 4.0, 1.0], how="linear", at="end"), [None, None, 1, 2, 3, 4, 3, 2, 1])

    def test_a_total_is_spread_by_days(self) -> None:
        months = {"m": ["2023-02", "2023-03"], "x": [28.0, 62.0]}
        days = numbers(fa.convert(months, "m", "month", "day", {"x": {"how": "spread"}}), "x")
        self.assertEqual(days, [1.0] * 28 + [2.0] * 31)
        quarters_ = to_months([90.0, 91.0], how="spread")
        lengths = [calendar.monthrange(2019, month)[1] for month in range(1, 7)]
        np.testing.assert_allclose(quarters_, lengths)  # type: ignore[arg-type]

    def test_a_missing_period_parts_the_path(self) -> None:
        found = to_months([1.0, 1.0, None, 9.0], how="smooth_mean")
        np.testing.assert_allclose([v for v in found if v is not None], [1.0] * 6 + [9.0] * 3)
        self.assertEqual([v is None for v in found], [False] * 6 + [True] * 3 + [False] * 3)

    def test_units_are_parted_though_one_begins_where_the_other_ends(self) -> None:
        table = {"q": ["2019Q1", "2019Q2", "2019Q3", "2019Q4"], "u": list("aabb"), "x": [1.0, 1.0, 9.0, 9.0]}
        made = fa.convert(table, "q", "quarter", "month", {"x": {"how": "smooth_mean"}}, panel=["u"])
        np.testing.assert_allclose(numbers(made, "x"), [1.0] * 6 + [9.0] * 6)  # type: ignore[arg-type]

    def test_a_cubic_goes_through_its_points_with_no_bend_at_the_ends(self) -> None:
        from scipy.interpolate import CubicSpline

        dice = np.random.default_rng(2)
        at = np.sort(dice.uniform(0, 9, 12))
        values = dice.normal(size=12)
        wanted = np.linspace(at[0], at[-1], 50)
        theirs = CubicSpline(at, values, bc_type="natural")(wanted)
        np.testing.assert_allclose(cubic_values(at, values, wanted), theirs, atol=1e-9)

    def test_long_paths_take_time_in_proportion(self) -> None:
        path = smoothest_path(np.ones(30_000), np.full(30_000, 3))  # a dense system would need 115 GB
        np.testing.assert_allclose(path, 1 / 3, rtol=1e-9)


class Panels(unittest.TestCase):
    @given(st.integers(0, 10**6))
    @settings(max_examples=25, deadline=None)
    def test_a_panel_is_converted_as_each_unit_alone(self, seed: int) -> None:
        dice = np.random.default_rng(seed)
        cells = [
            (f"{1968 + at // 4}Q{at % 4 + 1}", unit, None if dice.random() < 0.1 else float(dice.normal()))
            for unit in "cab"
            for at in range(int(dice.integers(0, 9)), int(dice.integers(9, 20)))
            if dice.random() > 0.1
        ]
        cells = [cells[at] for at in dice.permutation(len(cells))]
        ways = {
            "month": ("linear", "cubic", "repeat", "smooth_mean", "smooth_total", "spread"),
            "year": ("sum", "last"),
        }
        for step, hows in ways.items():
            take = {how: {"how": how, "of": "x", **({} if step == "month" else {"partial": "keep"})} for how in hows}
            each = [[cell for cell in cells if cell[1] == unit] for unit in sorted({cell[1] for cell in cells})]
            apart = [row for own in each for row in self.converted(own, step, take)]
            self.assertEqual(self.converted(cells, step, take), apart)

    def converted(self, cells: list[Any], step: str, take: dict[str, Any]) -> list[tuple[Any, ...]]:
        """Return the rows of a converted panel by unit and period."""
        table = dict(zip(("q", "u", "x"), map(list, zip(*cells, strict=True)), strict=True))
        made = fa.convert(table, "q", "quarter", step, take, panel=["u"])
        units = [(made["u"].labels or ())[code] for code in made["u"].data]
        columns = [numbers(made, name) for name in take]
        return sorted(zip(units, made["q"].data.tolist(), *columns, strict=True), key=itemgetter(0, 1))


class Paths(unittest.TestCase):
    def test_a_joined_path_goes_through_its_points_where_they_are_drawn(self) -> None:
        quarters_of = {"q": [f"20{20 + at // 4}Q{at % 4 + 1}" for at in range(8)], "e": [3.0, 1, 4, 1, 5, 9, 2, 6]}
        table = {"month": [f"20{20 + at // 12}-{at % 12 + 1:02d}" for at in range(24)], "y": list(range(24))}
        for place, first in (("start", "2020-01"), ("middle", "2020-02"), ("end", "2020-03")):
            series = {"s": {"time": "q", "every": "quarter", "take": {"e": {"how": "linear", "at": place}}}}
            data = {"time": "month", "every": "month"}
            made = fa.Plan("y", {"e": "s_e"}, data=data, series=series).build(table, series={"s": quarters_of})
            (path,) = made.columns.paths
            ours, theirs = path.lines
            drawn = dict(zip(ours.periods, ours.values, strict=True))
            self.assertEqual([drawn[period] for period in theirs.periods], theirs.values)
            self.assertEqual((theirs.periods[0], theirs.values), (first, quarters_of["e"]))


class Limits(unittest.TestCase):
    @given(st.lists(st.sampled_from([1.7e308, -1.7e308, 1.0, 5e-324, None]), min_size=6, max_size=6))
    @settings(max_examples=60, deadline=None)
    def test_values_near_the_largest_double_are_converted_or_refused(self, values: list[float | None]) -> None:
        """All but counting is linear: smaller values give a result that is smaller by as much."""
        hows = {"year": ("mean", "sum", "median", "largest"), "month": ("linear", "cubic", "smooth_mean", "spread")}
        small = [None if value is None else math.ldexp(value, -100) for value in values]
        for (to, how), smoothed in [((to, how), how == "smooth_mean") for to, each in hows.items() for how in each]:
            take = {"x": {"how": how, **({"partial": "keep"} if to == "year" else {})}}
            with warnings.catch_warnings(action="error"):
                wanted = fa.convert(quarters(small), "q", "quarter", to, take)["x"]
                try:
                    found = fa.convert(quarters(values), "q", "quarter", to, take)["x"]
                except fa.DataError as error:
                    self.assertIn("exceeds the largest double", str(error))
                    self.assertGreater(np.abs(wanted.data).max(), 2.0**920)
                    continue
            np.testing.assert_array_equal(found.missing_rows(), wanted.missing_rows())
            scale = np.abs(wanted.data).max(initial=0.0) * (1e-9 if smoothed else 1e-14)
            np.testing.assert_allclose(np.ldexp(found.data, -100), wanted.data, rtol=1e-13, atol=scale)


class Refusals(unittest.TestCase):
    def test_each_mistake_says_what_to_write(self) -> None:
        months = {"m": ["2023-01", "2023-02", "2023-03"], "x": [1.0, 2.0, 3.0], "c": ["a", "b", "a"]}
        cases: list[tuple[str, str, dict[str, Any], str]] = [
            ("month", "day", {"how": "sum"}, "write spread or smooth_total"),
            ("month", "day", {"how": "mean"}, "write repeat or smooth_mean"),
            ("month", "quarter", {"how": "linear"}, "'linear' does not bring months to longer periods"),
            ("month", "week", {"how": "repeat"}, "to overlapping periods"),
            ("month", "quarter", {"how": "sum"}, 'Write partial = "missing"'),
            ("month", "quarter", {}, "how is not given for this variable"),
            ("month", "quarter", {"how": "avg"}, "'avg' is not one of the choices"),
            ("month", "quarter", {"how": "sum", "partal": "keep"}, "did you mean 'partial'"),
            ("month", "quarter", {"how": "sum", "of": "y", "partial": "keep"}, "variable 'y' not found"),
            ("month", "quarter", {"how": "sum", "of": "c", "partial": "keep"}, "'sum' needs a number"),
            ("month", "fortnight", {"how": "sum"}, "'fortnight' is not a valid step"),
            ("quarter", "year", {"how": "sum", "partial": "keep"}, "a quarter occurs more than once"),
        ]
        for every, to, take, said in cases:
            with self.assertRaises(fa.FacturumError, msg=said) as caught:
                fa.convert(months, "m", every, to, {"x": take})
            self.assertIn(said, str(caught.exception))


class Joined(Folder):
    SERIES: dict[str, Any] = {  # noqa: RUF012
        "s": {"time": "q", "every": "quarter", "take": {"x": {"how": "repeat"}}},
    }

    def table(self) -> dict[str, Any]:
        return {"m": [f"2020-{month:02d}" for month in range(1, 7)], "y": [1.0, 3.0, 2.0, 5.0, 4.0, 6.0]}

    def build(
        self, text: str, table: Any, series: Any, spec: Any = None, learn: str | None = None, **sections: Any
    ) -> fa.Design:
        rows = {"missing": "keep"} | ({} if learn is None else {"learn": learn})
        data = {"time": "m", "every": "month"}
        plan = fa.Plan("y", {"v": text}, data=data, series=spec or self.SERIES, rows=rows, **sections)
        return plan.build(table, series=series)

    def test_a_lag_looks_at_the_series_own_periods(self) -> None:
        long = quarters([10.0, 20.0, 30.0, 40.0, 50.0, 60.0])  # from 2019, a year before the table
        made = self.build("lag(s_x, 4)", self.table(), {"s": long})
        self.assertEqual(made.X[:, 1].tolist(), [30, 40, 40, 40, 50, 50])
        made = self.build("lag(log(s_x), 14)", self.table(), {"s": long})
        np.testing.assert_array_equal(np.isnan(made.X[:, 1]), [True, True, False, False, False, False])
        made = self.build("moving_average(s_x, 12)", self.table(), {"s": long})
        self.assertEqual(made.X[0, 1], (2 * 10 + 3 * (20 + 30 + 40) + 50) / 12)
        made = self.build("lag(d, 1)", self.table(), {"s": long}, derived={"d": "s_x + 1"})
        self.assertEqual(made.X[0, 1], 41)
        self.assertTrue(made.verify(self.table()).ok)

    def test_rows_are_matched_by_period_and_variables(self) -> None:
        table = panel(3)
        days = [datetime.date(2020, 11, 25) + datetime.timedelta(days=at) for at in range(12)]
        weather = {"day": days * 2, "hut": ["hut 0"] * 12 + ["hut 2"] * 12, "warm": [float(at) for at in range(24)]}
        take = {"warm": {"how": "mean", "partial": "keep"}}
        spec = {"w": {"time": "day", "every": "day", "match": ["hut"], "take": take}}
        data = {"time": "month", "every": "month", "panel": ["hut"]}
        made = fa.Plan("stays", {"w": "w_warm"}, data=data, series=spec, rows={"missing": "keep"}).build(
            table, series={"w": weather}
        )
        own: dict[tuple[str, str], list[float]] = defaultdict(list)
        for day, hut, warm in zip(*weather.values(), strict=True):
            own[hut, f"{day:%Y-%m}"].append(warm)
        self.assertEqual(len(own), 4)
        for hut, month, found in zip(table["hut"], table["month"], made.X[:, 1], strict=True):
            wanted = statistics.fmean(own[hut, month]) if (hut, month) in own else None
            self.assertEqual(None if np.isnan(found) else found, wanted)
        (entry,) = made.columns.conversions
        self.assertEqual((entry.variable, entry.source, entry.how, entry.values), ("w_warm", "warm", "mean", 24))
        self.assertIn("months are not fully covered", "\n".join(made.columns.warnings))

    def test_later_periods_are_marked_and_warned_of(self) -> None:
        spec = {"s": {"time": "q", "every": "quarter", "take": {"x": {"how": "linear"}}}}
        long = quarters([10.0, 20.0, 30.0, 40.0, 50.0, 60.0, 70.0])
        for rows in ({"learn": "m < '2020-04'"}, {}):
            plan = fa.Plan("y", {"v": "s_x"}, data={"time": "m", "every": "month"}, series=spec, rows=rows)
            made = plan.build(self.table(), series={"s": long}).columns
            self.assertTrue(made.conversions[0].reads_later)
            warned = "the future would not have been known" in "\n".join(made.warnings)
            self.assertEqual(warned, bool(rows))  # all rows are learned from: none is forecast

    def test_series_that_do_not_fit(self) -> None:
        spec = {"s": {"time": "q", "every": "quarter", "match": ["hut"], "take": {"x": {"how": "repeat"}}}}
        cases: list[tuple[Any, Any, str]] = [
            ({"s": quarters([1.0], first=1999)}, None, "has no month in common with the table"),
            ({"s": {"q": ["2020Q1", "2020Q1"], "x": [1.0, 2.0]}}, None, "a quarter occurs more than once"),
            ({"s": quarters([1.0, 2.0])}, spec, "series.s.match: variable 'hut' to match by not found in its table"),
            ({}, None, "the table of the series 's' is not given"),
            ({"s": quarters([1.0]), "t": quarters([1.0])}, None, "series 't' not found in the plan"),
            ({"s": {"t": ["2020Q1"], "x": [1.0]}}, None, "variable 'q' not found"),
        ]
        for series, own, said in cases:
            with self.assertRaises(fa.FacturumError, msg=said) as caught:
                self.build("s_x", self.table(), series, own)
            self.assertIn(said, str(caught.exception))

    def test_a_series_needs_a_time_and_names_of_its_own(self) -> None:
        plan = fa.Plan("y", {"v": "s_x"}, series=self.SERIES)
        with self.assertRaisesRegex(fa.DataError, "series.s: a series is joined by period, and the plan names no time"):
            plan.build(self.table(), series={"s": quarters([1.0])})
        with self.assertRaisesRegex(fa.DataError, "the table has a variable 's_x' already"):
            self.build("s_x", {**self.table(), "s_x": [1.0] * 6}, {"s": quarters([1.0] * 8)})
        spec = {"s": {"time": "q", "every": "quarter", "match": ["zone"], "take": {"x": {"how": "repeat"}}}}
        with self.assertRaisesRegex(fa.DataError, "series.s.match: variable 'zone' to match by not found in the table"):
            self.build("s_x", self.table(), {"s": {**quarters([1.0]), "zone": ["a"]}}, spec)

    def test_matching_knows_numbers_from_texts_and_passes_over_what_is_missing(self) -> None:
        spec = {"s": {"time": "q", "every": "quarter", "match": ["zone"], "take": {"x": {"how": "repeat"}}}}
        rows = {"q": ["2020Q1", "2020Q1", "2020Q2"], "zone": [1, 2, 1], "x": [5.0, 7.0, 9.0]}
        table = {**self.table(), "zone": [1.0, 2.0, None, 1.0, 2.0, 1.0]}
        made = self.build("s_x", table, {"s": rows}, spec, variables={"zone": {"kind": "id"}})
        found = [None if np.isnan(v) else v for v in made.X[:, 1]]
        self.assertEqual(found, [5.0, 7.0, None, 9.0, None, 9.0])
        texts = {**table, "zone": ["1", "2", None, "1", "2", "1"]}
        made = self.build("s_x", texts, {"s": {**rows, "zone": ["1", "2", "1"]}}, spec)
        self.assertEqual([None if np.isnan(v) else v for v in made.X[:, 1]], found)

    def test_the_table_itself_may_be_converted(self) -> None:
        table = {"day": DAYS, "rain": [float(at) for at in range(150)], "y": [float(at % 7) for at in range(150)]}
        take = {"rain": {"how": "sum", "partial": "missing"}, "y": {"how": "mean", "partial": "keep"}}
        terms = {"rain": "rain", "before": "lag(rain, 1)"}
        data = {"time": "day", "every": "month"}
        plan = fa.Plan("y", terms, data=data, convert={"every": "day", "take": take})
        made = plan.build(table)
        self.assertEqual(made.rows.kept.tolist(), [3, 4, 5])  # November and April are not fully covered
        wanted = [sum(at for at in range(150) if DAYS[at].month == month) for month in (1, 2, 3)]
        self.assertEqual(made.X[:, 1].tolist(), wanted)
        self.assertTrue(made.verify(table).ok)
        self.assertEqual(made.plan.build(table).X.tobytes(), made.X.tobytes())
        self.assertEqual({e.place for e in made.columns.conversions}, {"convert"})

    def test_the_sample_on_the_command_line(self) -> None:
        out = self.folder / "demo"
        told = command("demo", "--plan", "time", "--out", out)
        self.assertEqual(told.returncode, 0, told.stderr)
        build = out / "build-time"
        series = ["--series", f"energy={out / 'energy.csv'}", "--series", f"weather={out / 'weather.csv'}"]
        self.assertEqual(command("verify", build, out / "huts.csv", *series).returncode, 0)
        shown = command("explain", build, "energy", "warm").stdout
        self.assertIn("converted: energy_index  linear", shown)
        self.assertIn("58 months from 20 values by quarter of index, dated at the middle", shown)
        self.assertIn("reads later quarters", shown)
        self.assertIn("17 months not fully covered, the least to 97 %; partial = keep", shown)
        self.assertIn("in time by month from 2019-01 to 2023-12, within 40 units of hut, without gaps", told.stdout)
        refused = command("verify", build, out / "huts.csv")
        self.assertEqual((refused.returncode, "Add --series energy=FILE" in refused.stderr), (2, True), refused.stderr)
        changed = (out / "energy.csv").read_text().replace("2020Q1,", "2020Q1,9")
        (self.folder / "other.csv").write_text(changed)
        other = ["--series", f"energy={self.folder / 'other.csv'}", *series[2:]]
        wrong = command("verify", build, out / "huts.csv", *other)
        self.assertEqual((wrong.returncode, "energy" in wrong.stdout), (1, True))
        figure = self.folder / "time.png"
        self.assertEqual(command("explain", build, "snow", "energy", "--figure", figure).returncode, 0)
        self.assertEqual(figure.read_bytes()[:4], b"\x89PNG")
        rows = (SAMPLE / "huts.csv").read_text("utf-8").splitlines()
        (self.folder / "old.csv").write_text("\n".join([rows[0], *[r for r in rows[1:] if ",2023-" not in r]]))
        new = "\n".join([rows[0].replace(",stays", ""), *[r.rpartition(",")[0] for r in rows[1:] if ",2023-" in r]])
        (self.folder / "new.csv").write_text(new)
        words = ["build", build / "plan.resolved.toml", self.folder / "new.csv", "--history", self.folder / "old.csv"]
        made = command(*words, "--out", self.folder / "forecast", *series)
        self.assertEqual(made.returncode, 0, made.stderr)
        forecast, whole = fa.open_design(self.folder / "forecast"), fa.open_design(build)
        self.assertIsNone(forecast.y)

        def key(row: str) -> tuple[str, str]:
            return (row.split(",")[1], row.split(",")[3])

        known = {key(rows[row]): at for at, row in enumerate(whole.rows.kept.tolist())}
        later = [(at, key(new.splitlines()[row])) for at, row in enumerate(forecast.rows.kept.tolist())]
        same = [(at, known[name]) for at, name in later if name in known]
        self.assertGreater(len(same), 300)
        places = [whole.names.index(name) for name in forecast.names]
        old_rows, new_rows = [at for _, at in same], [at for at, _ in same]
        np.testing.assert_array_equal(forecast.X[new_rows], whole.X[np.ix_(old_rows, places)])
