"""Along time: every operation against a slow dictionary of periods, on unbalanced panels in random order."""

from __future__ import annotations

import datetime
import datetime as dt
import math
import unittest
from collections import defaultdict
from collections.abc import Callable
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum.data.time.calendar import PARTS, part_codes, period_text
from facturum.data.time.periods import period_numbers
from tests.support import PANEL_DATA, Folder, command, panel

Cells = dict[str, dict[int, float | None]]


class Slow:
    """The same operations by looking up periods in a dictionary for each unit."""

    def __init__(self, table: dict[str, Any], name: str) -> None:
        self.rows = list(zip(table["hut"], table["period"], strict=True))
        self.cells: Cells = defaultdict(dict)
        for (hut, period), value in zip(self.rows, table[name], strict=True):
            self.cells[hut][period] = value

    def get(self, hut: str, period: int) -> float | None:
        return self.cells[hut].get(period)

    def each(self, work: Callable[[str, int], float | None]) -> list[float | None]:
        return [work(hut, period) for hut, period in self.rows]

    def then(self, work: Callable[[str, int], float | None]) -> Slow:
        """Return the operations on what a first one made."""
        made = Slow.__new__(Slow)
        made.rows = self.rows
        made.cells = defaultdict(dict)
        for hut, period in self.rows:
            made.cells[hut][period] = work(hut, period)
        return made

    def shift(self, offset: int) -> Callable[[str, int], float | None]:
        return lambda hut, period: self.get(hut, period + offset)

    def difference(self, order: int, step: int) -> Callable[[str, int], float | None]:
        def work(hut: str, period: int) -> float | None:
            total = 0.0
            for at in range(order + 1):
                value = self.get(hut, period - at * step)
                if value is None or period - at * step not in self.cells[hut]:
                    return None
                total += (-1) ** at * math.comb(order, at) * value
            return total

        return work

    def window(self, weights: dict[int, float], at_least: int, mean: bool) -> Callable[[str, int], float | None]:
        def work(hut: str, period: int) -> float | None:
            there = [(w, v) for o, w in weights.items() if (v := self.get(hut, period + o)) is not None]
            if len(there) < at_least:
                return None
            total = sum(w * v for w, v in there)
            return total / sum(w for w, _ in there) if mean else total

        return work


def column(text: str, table: Any, **sections: Any) -> list[float | None]:
    sections.setdefault("data", PANEL_DATA)
    made = fa.Plan(None, {"x": text}, intercept=False, rows={"missing": "keep"}, **sections).build(table)
    return [None if np.isnan(v) else v for v in made.X[:, 0]]


class Operations(unittest.TestCase):
    def agree(self, found: list[float | None], wanted: list[float | None], exact: bool = True) -> None:
        self.assertEqual([v is None for v in found], [v is None for v in wanted])
        for a, b in zip(found, wanted, strict=True):
            if a is not None and b is not None:
                self.assertAlmostEqual(a, b, delta=0 if exact else 1e-9 * (1 + abs(b)))

    @given(st.integers(0, 10**6), st.integers(1, 14))
    @settings(max_examples=40, deadline=None)
    def test_lags_and_leads(self, seed: int, k: int) -> None:
        table = panel(seed, units=3, periods=16, gaps=0.3)
        slow = Slow(table, "snow")
        self.agree(column(f"lag(snow, {k})", table), slow.each(slow.shift(-k)))
        self.agree(column(f"lead(snow, {k})", table), slow.each(slow.shift(k)))

    @given(st.integers(0, 10**6), st.integers(1, 3), st.integers(1, 3))
    @settings(max_examples=25, deadline=None)
    def test_nested_operations_read_values_and_the_calendar_also_where_a_row_is_absent(
        self, seed: int, a: int, b: int
    ) -> None:
        table = panel(seed, units=3, periods=16, gaps=0.35)
        same = {
            f"lag(lag(snow, {a}), {b})": f"lag(snow, {a + b})",
            f"lead(lag(snow, {a}), {a})": "snow",
            f"lag(lead(snow, {a}), {a})": "snow",
            f"moving_average(lag(snow, {a}), 3, at_least=1)": f"lag(moving_average(snow, 3, at_least=1), {a})",
            f"percent_change(lag(price, {a}), step={b})": f"lag(percent_change(price, step={b}), {a})",
            f"lag(periods_since('2020-03'), {a})": f"periods_since('2020-03') - {a}",
        }
        for nested, plain in same.items():
            self.agree(column(nested, table), column(plain, table), False)
        hut = table["hut"][0]
        self.agree(column(f"lag(hut, {b}) == '{hut}'", table), [float(other == hut) for other in table["hut"]])
        months = [(int(text[5:7]) - 1 + a) % 12 + 1 for text in table["month"]]
        self.agree(column(f"lead(part(month, 'month') == 'may', {a})", table), [float(month == 5) for month in months])
        # what is filled in a row is not known without the row
        rows = Slow(table, "snow").rows
        there = [(unit, period - a) in set(rows) for unit, period in rows]
        filled = column(f"lag(impute(snow, value=0), {a})", table)
        self.assertEqual([value is not None for value in filled], there)

    @given(st.lists(st.sampled_from("abc"), min_size=1, max_size=20), st.integers(1, 3))
    @settings(max_examples=40, deadline=None)
    def test_rows_that_follow_one_another_do_so_within_their_unit(self, units: list[str], k: int) -> None:
        table = {"u": units, "x": [float(at) for at in range(len(units))]}
        own = {unit: [at for at, other in enumerate(units) if other == unit] for unit in "abc"}
        wanted = [dict(zip(own[u][k:], own[u], strict=False)).get(at) for at, u in enumerate(units)]
        plan = fa.Plan(None, {"x": f"lag(x, {k})"}, data={"every": "row", "panel": ["u"]}, rows={"missing": "keep"})
        found = plan.build(table).X[:, 1]
        self.assertEqual([None if np.isnan(value) else int(value) for value in found], wanted)

    @given(st.integers(0, 10**6), st.integers(1, 3), st.integers(1, 4))
    @settings(max_examples=30, deadline=None)
    def test_differences_and_percent_changes(self, seed: int, order: int, step: int) -> None:
        table = panel(seed, units=3, periods=16, gaps=0.15)
        slow = Slow(table, "price")
        self.agree(
            column(f"difference(price, order={order}, step={step})", table),
            slow.each(slow.difference(order, step)),
            False,
        )

        def percent(hut: str, period: int) -> float | None:
            now, then = slow.get(hut, period), slow.get(hut, period - step)
            return None if now is None or then is None else 100 * (now - then) / then

        self.agree(column(f"percent_change(price, step={step})", table), slow.each(percent), False)

    @given(st.integers(0, 10**6), st.integers(1, 6), st.booleans(), st.booleans(), st.integers(1, 6))
    @settings(max_examples=50, deadline=None)
    def test_windows(self, seed: int, window: int, centre: bool, mean: bool, at_least: int) -> None:
        table = panel(seed, units=3, periods=16, gaps=0.2, missing=0.2)
        half = window // 2
        weights = dict.fromkeys(range(1 - window, 1), 1.0)
        if centre:
            weights = dict.fromkeys(range(-half, half + 1), 1.0)
            if window % 2 == 0:
                weights[-half] = weights[half] = 0.5
        at_least = min(at_least, len(weights))
        slow = Slow(table, "snow")
        name = "moving_average" if mean else "moving_sum"
        options = ", align='centre'" if centre else ""
        found = column(f"{name}(snow, {window}{options}, at_least={at_least})", table)
        self.agree(found, slow.each(slow.window(weights, at_least, mean)), False)
        whole = column(f"{name}(snow, {window}{options})", table)
        self.agree(whole, slow.each(slow.window(weights, len(weights), mean)), False)

    def test_a_window_may_be_long(self) -> None:
        table = {"x": [float(at) for at in range(60)]}
        found = fa.Plan(None, {"s": "moving_sum(x, 40)"}, intercept=False, data={"every": "row"}).build(table).X[:, 0]
        self.assertEqual(found.tolist(), [sum(range(at - 39, at + 1)) for at in range(39, 60)])

    def test_they_nest(self) -> None:
        table = panel(4, gaps=0.1)
        slow = Slow(table, "price")
        changes = slow.then(slow.difference(1, 1))
        self.agree(
            column("moving_average(difference(price), 3)", table),
            changes.each(changes.window(dict.fromkeys((-2, -1, 0), 1.0), 3, True)),
            False,
        )
        logs = slow.then(lambda hut, period: None if (v := slow.get(hut, period)) is None else math.log(v))
        self.agree(column("lag(log(price), 12)", table), logs.each(logs.shift(-12)), False)
        self.agree(column("lag(l, 12)", table, derived={"l": "log(price)"}), logs.each(logs.shift(-12)), False)

    def test_several_lags_make_a_block(self) -> None:
        table = panel(5)
        made = fa.Plan(None, {"p": "lag(price, range(1, 4))"}, data=PANEL_DATA, intercept=False).build(table)
        self.assertEqual(made.names, ["p_lag1", "p_lag2", "p_lag3"])
        self.assertEqual(made.columns["p_lag2"].formula, "lag(price, 2)")
        self.assertTrue(made.verify(table).ok)
        crossed = fa.Plan(None, {"p": "lag(price, [1, 12]) * comfort"}, data=PANEL_DATA).build(table)
        self.assertEqual(crossed.names[1:], ["p_lag1_good", "p_lag12_good"])

    def test_a_lag_of_a_category_is_a_category(self) -> None:
        table = {"hut": ["a"] * 4, "month": ["2023-01", "2023-02", "2023-03", "2023-05"], "c": ["x", "y", "x", "y"]}
        made = fa.Plan(None, {"c": "lag(c, 1)"}, data=PANEL_DATA, intercept=False).build(table)
        self.assertEqual((made.names, made.X[:, 0].tolist(), made.rows.kept.tolist()), (["c_y"], [0, 1], [2, 3]))

    def test_trend_and_season_follow_the_calendar(self) -> None:
        table = panel(6)
        made = fa.Plan(
            None, {"t": "trend(degree=2)", "s": "season('month', reference='feb')"}, data=PANEL_DATA, intercept=False
        ).build(table)
        first = min(table["period"])
        np.testing.assert_array_equal(made.X[:, 0], np.array(table["period"]) - first)
        np.testing.assert_array_equal(made.X[:, 1], (np.array(table["period"]) - first) ** 2)
        self.assertEqual(made.names[2:5], ["s_jan", "s_mar", "s_apr"])
        line = fa.Plan(None, {"t": "trend()"}, data=PANEL_DATA).build(table).columns
        self.assertEqual([made.columns["t"].measure, line["t"].measure], ["power", "number"])
        for name, values in zip(made.names[2:], made.X[:, 2:].T, strict=True):
            number = PARTS["month"].index(name[2:])
            np.testing.assert_array_equal(values, [float(t % 12 == number) for t in table["period"]])
        one = made.plan.build({"hut": ["new"], "month": ["2031-08"]})
        self.assertEqual((one.X[0, 0], one.X[0, made.names.index("s_aug")], one.X[0, 2:].sum()), (139 - first, 1, 1))

    def test_periods_since_a_time_of_each_row(self) -> None:
        table = panel(7, units=3, periods=12)
        opened = [None if at % 5 == 0 else f"{2018 + at % 3}-{at % 12 + 1:02d}-17" for at in range(len(table["hut"]))]
        sections = {"data": PANEL_DATA, "rows": {"missing": "keep"}, "variables": {"opened": {"kind": "time"}}}
        plan = fa.Plan(None, {"t": "periods_since(opened)"}, intercept=False, **sections)
        found = plan.build(table | {"opened": opened}).X[:, 0]
        for value, text, month in zip(found, opened, table["month"], strict=True):
            if text is None:
                self.assertTrue(np.isnan(value))
            else:
                self.assertEqual(value, 12 * (int(month[:4]) - int(text[:4])) + int(month[5:7]) - int(text[5:7]))

    def test_times_are_compared_to_the_microsecond(self) -> None:
        late = np.datetime64("9999-12-30T23:59:59.999998", "us")
        table = {"a": np.array([late, late + 1, late]), "b": np.array([late + 1, late, late])}
        for operator, wanted in (("<", [1, 0, 0]), (">", [0, 1, 0]), ("==", [0, 0, 1]), ("<=", [1, 0, 1])):
            made = fa.Plan(None, {"t": f"a {operator} b"}, intercept=False).build(table)
            self.assertEqual(made.X[:, 0].tolist(), wanted)

    def test_there_are_at_most_as_many_waves_as_half_the_parts(self) -> None:
        days = [f"{at}" for at in np.arange("2020-01-06", "2022-01-03", 7, dtype="datetime64[D]")]
        data = {"time": "day", "every": "week"}
        made = fa.Plan(None, {"s": "season('week', coding='waves', pairs=26)"}, data=data).build({"day": days})
        self.assertEqual(made.X.shape, (104, 53))
        with self.assertRaises(fa.PlanError):
            fa.Plan(None, {"s": "season('week', coding='waves', pairs=27)"}, data=data).build({"day": days})

    def test_waves_go_round_once_and_twice(self) -> None:
        table = {"month": [f"2023-{m:02d}" for m in range(1, 13)]}
        data = {"time": "month", "every": "month"}
        made = fa.Plan(None, {"s": "season('month', coding='waves', pairs=6)"}, data=data, intercept=False).build(table)
        self.assertEqual(made.names[-3:], ["s_sin5", "s_cos5", "s_cos6"])
        for name, values in zip(made.names, made.X.T, strict=True):
            wave = np.sin if "sin" in name else np.cos
            np.testing.assert_allclose(values, wave(2 * np.pi * int(name[5:]) * np.arange(12) / 12), atol=1e-14)
        np.testing.assert_allclose(made.X.T @ made.X, np.diag(np.diag(made.X.T @ made.X)), atol=1e-12)

    def test_threads_do_not_matter(self) -> None:
        table = panel(7, units=40, periods=60)
        plan = fa.Plan("stays", {"a": "lag(price, [1, 2])", "b": "moving_average(snow, 4, at_least=2)", "c": "trend()"},
                       data=PANEL_DATA)  # fmt: skip
        self.assertEqual(plan.build(table, threads=1).X.tobytes(), plan.build(table, threads=4).X.tobytes())


class Periods(unittest.TestCase):
    @given(st.dates(datetime.date(1900, 1, 1), datetime.date(2100, 12, 31)), st.integers(0, 23))
    @settings(max_examples=140, deadline=None)
    def test_parts_and_numbers_agree_with_the_standard_library(self, day: datetime.date, hour: int) -> None:
        moment = datetime.datetime.combine(day, datetime.time(hour))
        at = np.array([(moment - datetime.datetime(1970, 1, 1)) // datetime.timedelta(microseconds=1)])
        found = {
            part: int(part_codes(at, part)[0])
            for part in ("year", "quarter", "month", "week", "weekday", "day", "hour")
        }
        wanted = {
            "year": day.year,
            "quarter": (day.month - 1) // 3,
            "month": day.month - 1,
            "week": day.isocalendar().week - 1,
            "weekday": day.weekday(),
            "day": day.day,
            "hour": hour,
        }
        self.assertEqual(found, wanted)
        numbers = {
            step: int(period_numbers(at, step)[0]) for step in ("year", "quarter", "month", "week", "day", "hour")
        }
        texts = {step: period_text(number, step) for step, number in numbers.items()}
        self.assertEqual(texts["month"], f"{day:%Y-%m}")
        self.assertEqual(texts["week"], f"{day.isocalendar().year:04d}-W{day.isocalendar().week:02d}")
        self.assertEqual((texts["day"], texts["hour"]), (day.isoformat(), f"{moment:%Y-%m-%dT%H}"))
        sunday = period_text(int(period_numbers(at, "week_sun")[0]), "week_sun")
        self.assertEqual(sunday, (day - datetime.timedelta(days=(day.weekday() + 1) % 7)).isoformat())

    def test_every_way_of_writing_a_time(self) -> None:
        y = [1.0, 2.0, 4.0, 8.0]
        cases: list[tuple[Any, str, dict[str, Any]]] = [
            (["2023", "2024", "2025", "2026"], "year", {}),
            (["2023Q1", "2023Q2", "2023Q3", "2023Q4"], "quarter", {}),
            (["2023-W01", "2023-W02", "2023-W03", "2023-W04"], "week", {}),
            ([2001, 2002, 2003, 2004], "year", {"kind": "time"}),
            (["03.02.2023", "04.02.2023", "05.02.2023", "06.02.2023"], "day", {"pattern": "%d.%m.%Y"}),
            ([datetime.date(2023, 2, 27) + datetime.timedelta(days=at) for at in range(4)], "day", {}),
            (["2023-02-01T10:00+02:00", "2023-02-01T11:00+02:00", "2023-02-01T12:00+02:00", "2023-02-01T13:00+02:00"],
             "hour", {"kind": "time"}),
        ]  # fmt: skip
        for times, every, declared in cases:
            variables = {"t": declared} if declared else {}
            plan = fa.Plan("y", {"l": "lag(y, 1)"}, data={"time": "t", "every": every}, variables=variables)
            made = plan.build({"t": times, "y": y})
            self.assertEqual(made.X[:, 1].tolist(), [1, 2, 4], every)
            self.assertEqual(made.plan.build({"t": times, "y": y}).X.tobytes(), made.X.tobytes())

    def test_weeks_may_begin_on_any_day(self) -> None:
        days = [f"2023-01-{day:02d}" for day in (1, 7, 8)]
        for starts, twice in (("sunday", True), ("monday", False)):
            data = {"time": "t", "every": "week", "week_starts": starts}
            plan = fa.Plan("y", {"l": "lag(y, 1)"}, data=data)
            if twice:  # the 1st and the 7th are one week
                with self.assertRaisesRegex(fa.DataError, "a week occurs more than once"):
                    plan.build({"t": days, "y": [1.0, 2.0, 3.0]})
            else:
                with self.assertRaisesRegex(fa.DataError, "Rows 2, 3."):
                    plan.build({"t": days, "y": [1.0, 2.0, 3.0]})

    def test_times_that_are_not_clear(self) -> None:
        def build(times: Any, every: str = "day", **declared: Any) -> None:
            plan = fa.Plan("y", {"l": "lag(y, 1)"}, data={"time": "t", "every": every}, variables={"t": declared})
            plan.build({"t": times, "y": [1.0, 2.0, 3.0]})

        cases = [
            (lambda: build(["03/04/2023", "04/04/2023", "05/04/2023"], kind="time"), "The day or the month may stand"),
            (lambda: build(["3.4.2023", "x", "4.4.2023"], pattern="%d.%m.%Y"), 'The pattern "%d.%m.%Y" does not fit'),
            (lambda: build(["2023-01-01T00:00+01:00", "2023-01-02T00:00+02:00", None], "hour", kind="time"),
             "times of several offsets from UTC"),
            (lambda: build(["2023-01-01", "2023-01-02", "2023-01-01"], kind="time"), "Rows 1, 3."),
            (lambda: build(["2023-01-01", "2023-13-02", "soon"], kind="time"), "'2023-13-02', 'soon'"),
        ]  # fmt: skip
        for work, said in cases:
            with self.assertRaises(fa.DataError) as caught:
                work()
            self.assertIn(said, str(caught.exception))

    def test_an_hour_that_occurs_twice_when_clocks_are_put_back(self) -> None:
        utc = [datetime.datetime(2023, 10, 29, hour, tzinfo=datetime.UTC) for hour in range(4)]
        times = pa.array(utc, pa.timestamp("us", "Europe/Berlin"))
        plan = fa.Plan("y", {"l": "lag(y, 1)"}, data={"time": "t", "every": "hour"})
        with self.assertRaisesRegex(fa.DataError, "local time of Europe/Berlin, where clocks change"):
            plan.build(pa.table({"t": times, "y": [1.0, 2.0, 3.0, 4.0]}))
        plan.build(pa.table({"t": times.cast(pa.timestamp("us", "UTC")), "y": [1.0, 2.0, 3.0, 4.0]}))

    def test_gaps_are_counted_in_the_map(self) -> None:
        table = panel(9)
        clock = fa.Plan("stays", {"l": "lag(price, 1)"}, data=PANEL_DATA).build(table).columns.clock
        assert clock is not None
        own: dict[str, list[int]] = defaultdict(list)
        for hut, period in zip(table["hut"], table["period"], strict=True):
            own[hut].append(period)
        self.assertEqual(clock.gaps, sum(max(p) - min(p) + 1 - len(p) for p in own.values()))
        self.assertEqual((clock.units, clock.every, clock.history), (4, "month", 0))


class Forms(Folder):
    def clock(self, times: list[Any], every: str = "month", **declared: str) -> tuple[str | None, str | None]:
        table = {"t": times, "x": [float(at) for at in range(len(times))]}
        variables = {"t": {"kind": "time", **declared}}
        spec: Any = {"data": {"time": "t", "every": every}, "variables": variables, "rows": {"missing": "keep"}}
        made = fa.Plan(None, {"l": "lag(x, 1)"}, **spec).build(table)
        assert made.columns.clock is not None
        return made.columns.clock.first, made.columns.clock.last

    def test_time_in_the_forms_that_tables_hold(self) -> None:
        for times in ([199301, 199302], ["Jan-93", "Feb-93"], ["1993 Jan", "February 1993"], ["jan'93", "feb'93"]):
            self.assertEqual(self.clock(times), ("1993-01", "1993-02"))
        self.assertEqual(self.clock([1993.0, 1993.08, 1993.167], pattern="decimal year"), ("1993-01", "1993-03"))
        self.assertEqual(self.clock([1993.0, 1993.75], "quarter", pattern="decimal year"), ("1993Q1", "1993Q4"))
        self.assertEqual(self.clock([44197, 44198.5], "day", pattern="serial 1900"), ("2021-01-01", "2021-01-02"))
        self.assertEqual(self.clock([42735, 42736], "day", pattern="serial 1904"), ("2021-01-01", "2021-01-02"))
        self.assertEqual(self.clock([19930417, 19930418], "day"), ("1993-04-17", "1993-04-18"))
        for times in (["Foo-93"], [199313], ["Ju-93"]):
            with self.assertRaisesRegex(fa.DataError, "cannot be read as a time"):
                self.clock(times)

    def test_a_time_may_stand_in_several_variables(self) -> None:
        table = {
            "yr": [2020, 2020, 2021, 2021, 2021],
            "mon": ["Jan", "Dec", "Jan", "Feb", None],
            "x": [1.0, 2, 3, 4, 5],
        }
        parts = {"year": "yr", "month": "mon"}
        data = {"time": "date", "every": "month"}

        def plan(parts: dict[str, str]) -> fa.Plan:
            variables = {"date": {"kind": "time", "parts": parts}}
            return fa.Plan(None, {"l": "lag(x, 1)"}, data=data, variables=variables, rows={"missing": "keep"})

        made = plan(parts).build(table)
        np.testing.assert_array_equal(made.X[:, 1], [np.nan, np.nan, 2, 3, np.nan])
        self.assertTrue(made.verify(table).ok)
        np.testing.assert_array_equal(made.plan.build(table).X, made.X)
        numbers = {**table, "mon": [1, 12, 1, 2, None]}
        derived: Any = {"derived": {"date": "date_of(yr, mon)"}, "data": data, "rows": {"missing": "keep"}}
        dated = fa.Plan(None, {"l": "lag(x, 1)"}, **derived).build(numbers)  # the same as a derived variable
        np.testing.assert_array_equal(dated.X, made.X)
        np.testing.assert_array_equal(dated.plan.build(numbers).X, made.X)
        self.assertEqual((dated.verify(numbers).ok, dated.columns.warnings), (True, []))
        with self.assertRaisesRegex(fa.PlanError, "derived.date: 'date' is a variable of the table already"):
            fa.Plan(None, {"l": "lag(x, 1)"}, **derived).build({**numbers, "date": table["mon"]})
        for text, said in (
            ("date_of(yr, mon * 10)", "is not a date(.|\n)*Rows 2, 4"),
            ("yr", "is the time of the rows"),
        ):
            with self.assertRaisesRegex(fa.FacturumError, said):
                fa.Plan(None, {"l": "lag(x, 1)"}, **{**derived, "derived": {"date": text}}).build(numbers)
        whole = {**table, "day": [31, 31, 31, 28, 1], "hour": [0, 23, 5, 6, 7]}
        hourly = {"variables": {"date": {"kind": "time", "parts": {**parts, "day": "day", "hour": "hour"}}}}
        since = fa.Plan(None, {"h": "periods_since('2021-02-28T00')"}, data={**data, "every": "hour"}, **hourly)
        self.assertEqual(since.build(whole).X[-1, 1], 6.0)
        for wrong, said in (
            ({"year": "yr", "day": "mon"}, "do not make a time"),
            ({"year": "mon"}, "not a year of 'date'(.|\n)*Rows 1, 2, 3, 4"),
            ({"year": "yr", "month": "yr"}, "not a month"),
            ({"year": "yr", "month": "mon", "day": "days"}, "'days' not found"),
        ):
            with self.assertRaisesRegex(fa.DataError, said):
                plan(wrong).build(table)
        with self.assertRaisesRegex(fa.DataError, "not a day of 'date'(.|\n)*Row 4"):
            since.build({**whole, "day": [31, 31, 31, 29, 1]})

    @given(
        st.lists(st.datetimes(dt.datetime(1900, 1, 1), dt.datetime(2100, 1, 1)), min_size=2, max_size=9, unique=True)
    )
    @settings(max_examples=20, deadline=None)
    def test_weeks_dates_clocks_and_settlement_periods_make_times(self, moments: list[dt.datetime]) -> None:
        def composed(every: str, parts: dict[str, Any]) -> list[Any]:
            table = {f"{part}_": values for part, values in parts.items()} | {"x": list(range(len(moments)))}
            variables = {"t": {"kind": "time", "parts": {part: f"{part}_" for part in parts}}}
            plan = fa.Plan(None, {"x": "x"}, data={"time": "t", "every": every, "carry": ["t"]}, variables=variables)
            return plan.build(table)._side.column("t").to_pylist()

        iso = [moment.isocalendar() for moment in moments]
        weeks = composed("row", {"year": [each.year for each in iso], "week": [f"W{each.week}" for each in iso]})
        self.assertEqual([each.date() for each in weeks], [dt.date.fromisocalendar(*each[:2], 1) for each in iso])
        dates, clocks = [f"{moment:%Y-%m-%d}" for moment in moments], [f"{moment:%H:%M:%S}" for moment in moments]
        whole = [moment.replace(microsecond=0) for moment in moments]
        self.assertEqual(composed("row", {"date": dates, "clock": clocks}), whole)
        minutes = {"date": dates, "hour": [m.hour for m in moments], "minute": [m.minute for m in moments]}
        self.assertEqual(composed("row", minutes), [moment.replace(second=0) for moment in whole])
        halves = [2 * moment.hour + moment.minute // 30 + 1 for moment in moments]
        wanted = [moment.replace(minute=moment.minute // 30 * 30, second=0) for moment in whole]
        self.assertEqual(composed("row", {"date": dates, "half_hour": halves}), wanted)

    def test_parts_that_make_no_time_are_told(self) -> None:
        rows: dict[str, Any] = {
            "y": [2021, 2021],
            "w": [52, 53],
            "d": ["2021-03-01", "2021-03-02"],
            "c": ["9:30", "24:00"],
        }
        for parts, said in (
            ({"year": "y", "week": "w"}, "not a week of 't'(.|\n)*Row 2"),
            ({"date": "d", "clock": "c"}, "not a clock time of 't'(.|\n)*Row 2(.|\n)*such as 09:30"),
            ({"year": "y", "date": "d"}, "do not make a time"),
            ({"date": "d", "minute": "w"}, "do not make a time"),
            ({"year": "y", "hour": "w"}, "do not make a time"),
            ({"date": "d", "hour": "w", "clock": "c"}, "do not make a time"),
            ({"date": "d", "half_hour": "w"}, "A half hour runs from 1 to 48"),
        ):
            variables = {"t": {"kind": "time", "parts": parts}}
            plan = fa.Plan(None, {"x": "w"}, data={"time": "t", "every": "row"}, variables=variables)
            with self.subTest(parts=parts), self.assertRaisesRegex(fa.DataError, said):
                plan.build(rows)

    def test_a_wrong_step_and_mixed_forms_are_refused(self) -> None:
        months = [f"{2020 + at // 4}-{3 * (at % 4) + 1:02d}" for at in range(7)]
        for times, every, said in (
            (months, "month", 'all 3 months apart(.|\n)*Write every = "quarter"'),
            ([f"{year}-06" for year in range(2000, 2008)], "month", 'Write every = "year"'),
            ([f"2021-01-{day:02d}" for day in (1, 8, 15, 22, 29)] + ["2021-02-12"], "day", 'Write every = "week"'),
            (["2020-01", "2020Q2", "2020-07"], "month", "mixes months .2020-01. and quarters .2020Q2.(.|\n)*Row 2"),
        ):
            with self.assertRaisesRegex(fa.DataError, said):
                self.clock(times, every)
        self.assertEqual(self.clock([*months, "2021-09"])[1], "2021-09")  # one row between them: a series with gaps

    def test_a_step_is_known_where_its_length_in_days_changes(self) -> None:
        def build(times: Any, every: str, stream: bool) -> None:
            units = {"u": ["a"] * len(times), "t": times, "x": np.arange(len(times)) * 1.0}
            plan = fa.Plan(
                None, {"l": "lag(x, 1)"}, data={"time": "t", "every": every, "panel": ["u"]}, rows={"missing": "keep"}
            )
            order = np.random.default_rng(3).permutation(len(times))
            table = pa.table(units).take(order)
            _ = plan.build_into(self.folder / "out", table, replace=True) if stream else plan.build(table)

        cases = [
            (pd.date_range(start, periods=9, freq=freq), every, said)
            for start, freq, longer in (
                ("2020-01-01", "MS", "month"), ("2020-01-31", "ME", "month"), ("2019-12-31", "QE", "quarter"),
                ("2019-02-28", "YE", "year"), ("2020-01-17", pd.DateOffset(months=1), "month"),
            )
            for every, said in (
                ("day", f'Write every = "{longer}"'), ("week", f'Write every = "{longer}"'),
            )
        ]  # fmt: skip
        cases += [
            (pd.date_range("2020-01-01", periods=9, freq="MS"), "quarter", 'write every = "month"'),
            (pd.date_range("2020-01-01", periods=9, freq="6h"), "day", 'write every = "hour"'),
            (pd.date_range("2020-01-01", periods=9, freq="30min"), "hour", 'write every = "30 minutes"'),
        ]
        zoned = pd.date_range("2024-03-30T20:00", periods=24, freq="30min", tz="Europe/London")
        cases += [
            (zoned, step, "local time of Europe/London, where clocks change") for step in ("30 minutes", "15 minutes")
        ]
        for times, every, said in cases:
            for stream in (False, True):
                with self.subTest(times=str(times[:2]), every=every), self.assertRaisesRegex(fa.DataError, said):
                    build(times, every, stream)
        for times, every in (
            (zoned.tz_convert("UTC"), "30 minutes"), (zoned[:8], "30 minutes"),
            (pd.date_range("2024-03-28", periods=9, tz="Europe/London"), "day"),
            (pd.DatetimeIndex(["2020-01-01", "2020-02-01", "2020-03-01", "2020-03-02", "2020-05-01"]), "day"),
            (pd.DatetimeIndex([f"2020-{m:02d}-{3 * m:02d}" for m in range(1, 9)]), "day"),  # irregular: policy dates
        ):  # fmt: skip
            for stream in (False, True):
                build(times, every, stream)

    def test_times_are_periods_where_categories_are_wanted(self) -> None:
        table = panel(3, gaps=0, missing=0)
        table["day"] = [f"{month}-{at % 27 + 1:02d}" for at, month in enumerate(table["month"])]
        variables = {"day": {"kind": "time"}}
        first = table["day"][0]
        terms = {
            "holiday": f"lookup(day, {{'{first}': 1}}, 0)",
            "year": "lookup(day, {'2020': 1}, 0)",
            "month": "price - mean(price, by=[month])",
            "calendar": "category(period_of(month, 'year'))",
            "early": "category(regroup(month, {'early': ['2020-01', '2020-02']}, rest='late'))",
            "price": "price",
        }
        made = fa.Plan("stays", terms, data=PANEL_DATA, variables=variables).build(table)
        columns = dict(zip(made.names, made.X.T, strict=True))
        self.assertEqual(columns["holiday"].tolist(), [float(day == first) for day in table["day"]])
        self.assertEqual(columns["year"].tolist(), [float(day[:4] == "2020") for day in table["day"]])
        self.assertEqual(columns["early_late"].tolist(), [float(month > "2020-02") for month in table["month"]])
        for month in set(table["month"]):
            own = columns["month"][np.array(table["month"]) == month]
            self.assertAlmostEqual(float(own.mean()), 0.0, places=9)
        self.assertIn("'2020-01': ", "".join(each.formula for each in made.columns.definitions))
        self.assertEqual(made.columns["calendar_2021"].reading[:35], "month = 2021 rather than 2020: a di")
        self.assertTrue(made.verify(table).ok)
        self.assertEqual(made.plan.build(table).X.tolist(), made.X.tolist())

    def test_parts_of_fiscal_and_iso_years_and_of_weeks_by_their_first_day(self) -> None:
        days = [dt.date(2019, 12, 20) + dt.timedelta(days=at) for at in range(0, 800, 3)]
        for at, start in enumerate(("jan", "apr", "jul", "oct"), 0):
            terms = {
                "fiscal": f"part(d, 'fiscal_year', starts='{start}')",
                "quarter": f"score(part(d, 'fiscal_quarter', starts='{start}'))",
                "iso": "part(d, 'iso_year')",
                "weekday": "score(part(d, 'weekday'))",
                "monday": "score(part(d, 'weekday', starts='mon'))",
            }
            data = {"week_starts": "sunday"}
            made = fa.Plan(None, terms, data=data, intercept=False).build({"d": days, "x": [0.0] * len(days)})
            first = 3 * at + 1  # the month in which the year starts
            wanted = [
                (d.year + (d.month >= first and first > 1), (d.month - first) % 12 // 3 + 1, d.isocalendar()[0],
                 d.isoweekday() % 7 + 1, d.isoweekday()) for d in days
            ]  # fmt: skip
            self.assertEqual(made.X.tolist(), [list(map(float, row)) for row in wanted])
        season = fa.Plan(None, {"s": "season('fiscal_quarter', starts='apr')"}, data={"time": "d", "every": "day"})
        made = season.build({"d": days, "x": [0.0] * len(days)})
        self.assertEqual(made.names, ["intercept", "s_q2", "s_q3", "s_q4"])
        self.assertEqual(made.X[:, 1].tolist(), [float(d.month in (7, 8, 9)) for d in days])
        for text, said in (
            ("part(d, 'fiscal_year')", "needs the month in which a fiscal year starts"),
            ("part(d, 'weekday', starts='jul')", "weekday does not start with 'jul'"),
            ("part(d, 'month', starts='feb')", "month does not start with 'feb'"),
        ):
            with self.assertRaisesRegex(fa.PlanError, said):
                fa.Plan(None, {"x": text}).build({"d": days})

    def test_workdays_and_parts_of_hours(self) -> None:
        days = [np.datetime64("2021-01-01") + at for at in range(60)]
        work = [str(day) for day in days if np.is_busday(day)]
        table = {"d": work, "x": [float(at * at % 17) for at in range(len(work))]}
        terms = {"l": "lag(x, 1)", "w": "difference(x, step=5)", "t": "trend()", "s": "periods_since('2021-01-15')"}
        plan = fa.Plan(None, terms, data={"time": "d", "every": "workday"}, intercept=False)
        made = plan.build(table)
        self.assertEqual(made.rows.kept.tolist(), list(range(6, len(work) + 1)))
        x = np.array(table["x"])
        np.testing.assert_array_equal(made.X[:, 0], x[4:-1])
        np.testing.assert_array_equal(made.X[:, 1], x[5:] - x[:-5])
        np.testing.assert_array_equal(made.X[:, 2], np.arange(len(work) - 5))
        since = [int(np.busday_count("2021-01-15", day)) for day in work[5:]]
        self.assertEqual(made.X[:, 3].tolist(), since)
        assert made.columns.clock is not None
        self.assertEqual(
            (made.columns.clock.first, made.columns.clock.last, made.columns.clock.gaps), (work[0], work[-1], 0)
        )
        with self.assertRaisesRegex(fa.DataError, "Saturdays or Sundays(.|\n)*Row 2"):
            plan.build({**table, "d": [work[0], "2021-01-03", *work[2:]]})
        self.assertIn('every = "workday"', str(fa.draft(table, "x")))
        for minutes in (15, 30):
            moments = [str(np.datetime64("2021-01-01T23:00") + at * minutes) for at in range(40)]
            quick = {"d": moments, "x": [float(at * at % 17) for at in range(40)]}
            made = fa.Plan(None, {"l": "lag(x, 4)", "g": "x - mean(x, by=[d])"},
                           data={"time": "d", "every": f"{minutes} minutes"}, intercept=False).build(quick)  # fmt: skip
            np.testing.assert_array_equal(made.X[:, 0], np.array(quick["x"])[:-4])
            self.assertEqual(np.abs(made.X[:, 1]).max(), 0.0)  # each moment is a group of its own
            wanted = f"x 4 {'quarter' if minutes == 15 else 'half'} hours before"
            self.assertIn(wanted, made.columns["l"].reading)
            self.assertIn(f'every = "{minutes} minutes"', str(fa.draft(quick, "x")))

    def test_gaps_are_listed_with_their_unit(self) -> None:
        table = {"t": ["2020-01", "2020-04", "2020-01", "2020-02", "2020-04"], "u": list("aabbb"), "x": [1.0] * 5}
        data = {"time": "t", "every": "month", "panel": ["u"]}
        made = fa.Plan(None, {"l": "lag(x, 1)"}, data=data).build(table)
        assert made.columns.clock is not None
        found = [(gap.unit, gap.first, gap.last, gap.periods) for gap in made.columns.clock.gap_list]
        self.assertEqual(found, [("a", "2020-02", "2020-03", 2), ("b", "2020-03", "2020-03", 1)])


class Leaks(unittest.TestCase):
    def test_the_response_at_its_own_period_later_and_earlier(self) -> None:
        table = panel(10, gaps=0)
        fine = [
            "lag(stays, 1)",
            "lag(moving_average(stays, 3), 1)",
            "lag(difference(stays), 1)",
            "lag(lead(stays, 1), 2)",
            "lag(impute(stays, 'next'), 2)",
            "lag(impute(stays, 'previous'), 1)",
        ]
        errors = ["stays", "difference(stays)", "moving_average(stays, 3)", "lag(lead(stays, 1), 1)",
                  "moving_average(stays, 3, align='centre')", "impute(stays, 'previous')", "double",
                  "lag(impute(stays, 'next'), 1)", "lead(impute(stays, 'previous'), 1)",
                  "lag(impute(stays, 'linear'), 1)"]  # fmt: skip
        later = ["lead(stays, 1)", "lead(difference(stays), 2)", "lag(lead(stays, 3), 1)"]
        for text in fine + errors + later:
            plan = fa.Plan("log(stays)", {"x": text}, derived={"double": "2 * stays"}, data=PANEL_DATA)
            if text in errors:
                with self.assertRaisesRegex(fa.PlanError, "it would explain itself"):
                    plan.build(table)
                continue
            warned = "not known in time" in "\n".join(plan.build(table).columns.warnings)
            self.assertEqual(warned, text in later, text)

    def test_what_is_learned_within_groups_reads_their_other_periods(self) -> None:
        table = panel(10, gaps=0)
        own = [
            "mean(lag(stays, 1), by=[hut])",
            "sd(stays, by=[hut])",
            "level",
        ]
        biased = [
            "lag(stays - mean(stays, by=[hut]), 1)",
            "lag(within(stays, by=[hut]), 2)",
            "within(lag(stays, 1), by=[month], and_by=[hut])",
        ]
        fine = [
            "mean(lag(price, 1), by=[hut])",
            "lag(within(snow, by=[hut]), 1)",
            "lag(stays, 1) - mean(lag(stays, 1))",
            "mean(lag(stays, 1), by=[month])",
        ]
        for text in own + biased + fine:
            derived = {"level": "price / mean(lag(stays, 1), by=[hut])"}
            plan = fa.Plan("log(stays)", {"x": text, "b": "price"}, derived=derived, data=PANEL_DATA)
            if text in own:
                with self.assertRaisesRegex(
                    fa.PlanError, "learned from all periods of each group, and so from the resp"
                ):
                    plan.build(table)
            else:
                said = "\n".join(plan.build(table).columns.warnings)
                self.assertNotIn("not known in time", said)
                self.assertEqual("its coefficient is biased" in said, text in biased, text)
        demeaned = fa.Plan("within(stays, by=[hut])", {"x": "within(price, by=[hut])"}, data=PANEL_DATA)
        self.assertEqual(demeaned.build(table).columns.warnings, [])

    def test_a_direct_forecast_may_read_all_up_to_the_rows_own_period(self) -> None:
        table = panel(10, gaps=0)
        for text, error, warned in (
            ("stays", False, False), ("moving_average(stays, 3)", False, False), ("lead(stays, 2)", False, True),
            ("lead(stays, 3)", True, False), ("moving_average(lead(stays, 3), 2)", True, False),
            ("lead(stays, 4)", False, True), ("lead(price, 3)", False, False),
        ):  # fmt: skip
            plan = fa.Plan("lead(stays, 3)", {"x": text}, data=PANEL_DATA)
            with self.subTest(text):
                if error:
                    self.assertRaisesRegex(fa.PlanError, "explain itself", plan.build, table)
                else:
                    said = "\n".join(plan.build(table).columns.warnings)
                    self.assertEqual("not known in time" in said, warned)

    def test_the_time_of_the_row_may_be_carried_and_counted(self) -> None:
        table, data = panel(5), PANEL_DATA | {"carry": ["month"]}
        terms = {"t": "log(periods_since('2019-12'))", "s": "seasonal * 2"}
        made = fa.Plan("stays", terms, data=data, derived={"seasonal": "-periods_since('2019-12')"}).build(table)
        self.assertEqual(made.X[:, 2].tolist(), [-2.0 * (at + 1) for at in table["period"]])
        step = fa.Plan("stays", {"y": "part(month, 'year')", "s": "month >= '2020-03'"}, data=data).build(table)
        self.assertEqual(step._side.column("month").to_pylist()[0].year, step.column("y")[0])

    def test_rows_that_a_lag_leaves_are_dropped_with_that_reason(self) -> None:
        made = fa.Plan("stays", {"l": "lag(price, 1)", "s": "snow"}, data=PANEL_DATA).build(panel(11))
        reasons = {(part.reason, part.place) for part in made.columns.rows.dropped}
        self.assertEqual(reasons, {("a value is missing", "terms.l"), ("a value is missing", "terms.s")})

    def test_a_row_left_out_may_fail_where_nobody_looks_at_it(self) -> None:
        table = {
            "t": ["2023-01", "2023-02", "2023-03", "2023-04"],
            "x": [0.0, 1.0, 2.0, 3.0],
            "y": [1.0, 2.0, 3.0, 5.0],
        }
        data = {"time": "t", "every": "month"}
        texts = {
            "lag(log(x), 1)": [0.0, math.log(2)],
            "lag(log(x) + lag(log(x), 1), 1)": [math.log(2)],
            "difference(log(x))": [math.log(2), math.log(3 / 2)],
            "percent_change(1 / x)": [-50.0, -100 / 3],
            "moving_average(log(x), 2)": [math.log(2) / 2, math.log(6) / 2],
            "moving_sum(log(x), 3, align='centre', at_least=2)": [math.log(6), math.log(6)],
        }
        for text, expected in texts.items():
            first = "2023-03" if len(expected) == 2 else "2023-04"
            made = fa.Plan("y", {"l": text}, data=data, rows={"keep": f"t >= '{first}'"}).build(table)
            np.testing.assert_allclose(made.X[:, 1], expected, rtol=1e-14)
            with self.assertRaisesRegex(fa.DataError, "(is not defined|is infinite)(.|\\n)*Row 1."):
                fa.Plan("y", {"l": text}, data=data).build(table)
        nested = fa.Plan("y", {"l": "lag(lag(log(x), 1), 1)"}, data=data, rows={"keep": "t > '2023-02'"})
        with self.assertRaisesRegex(fa.DataError, "'log\\(x\\)' is not defined(.|\\n)*Row 1."):
            nested.build(table)

    def test_a_row_that_fails_is_not_stepped_over_for_a_value(self) -> None:
        months = [f"2023-{at:02d}" for at in range(1, 8)]
        x = [2.0, 4.0, 0.0, None, 8.0, None, 9.0]
        table = {"t": months, "x": x, "y": [float(at) for at in range(7)]}
        data = {"time": "t", "every": "month"}
        for how in ("previous", "linear", "next"):
            fill = fa.Plan("y", f"impute(log(x), '{how}')", data=data, rows={"keep": "t >= '2023-05'"}).build(table)
            between = {"previous": 8.0, "linear": math.sqrt(72), "next": 9.0}[how]
            np.testing.assert_allclose(fill.X[:, 1], np.log([8, between, 9]), rtol=1e-14)
            fill = fa.Plan("y", f"impute(log(x), '{how}')", data=data, rows={"keep": "t >= '2023-04'"})
            if how == "next":
                np.testing.assert_allclose(fill.build(table).X[:2, 1], np.log([8, 8]), rtol=1e-14)  # type: ignore[attr-defined]
                continue
            with self.assertRaisesRegex(fa.DataError, "in 1 row\\n(.|\\n)*Row 3."):
                fill.build(table)  # type: ignore[attr-defined]

    def test_failing_rows_of_several_leaves_are_all_told_once(self) -> None:
        x = np.ones(140_000)
        x[[10, 70_000, 139_999]] = 0.0
        plan = fa.Plan("y", "moving_sum(log(x), 3)", data={"every": "row"})
        with self.assertRaisesRegex(fa.DataError, "in 3 rows\\n(.|\\n)*Rows 11, 70001, 140000."):
            plan.build({"x": x, "y": np.arange(140_000.0)})


class History(Folder):
    PLAN = fa.Plan(
        "log(stays)",
        {"l": "lag(stays, [1, 3])", "m": "moving_average(price, 3)", "z": "center(lag(price, 1))", "t": "trend()"},
        data={**PANEL_DATA, "carry": ["month"]},
        rows={"keep": "comfort == 'good'"},
    )

    def split(self, seed: int) -> tuple[dict[str, Any], dict[str, Any], dict[str, Any], list[int]]:
        table = panel(seed, gaps=0.1)
        late = [at for at, period in enumerate(table["period"]) if period >= 22]
        early = [at for at, period in enumerate(table["period"]) if period < 22]
        part = lambda rows: {name: [values[at] for at in rows] for name, values in table.items()}  # noqa: E731
        return table, part(early), part(late), late

    def test_a_row_left_out_may_fail_in_what_decides_on_values_too(self) -> None:
        table = {
            "x": [0.0, 1.0, 2.0, 3.0],
            "z": [None, 4.0, 5.0, 6.0],
            "w": [4.0, 5.0, 6.0, 7.0],
            "y": [1.0, 2.0, 3.0, 5.0],
        }
        wrong, whole = "missing_if(w, log(x) > 9)", [2.0, 3.0, 5.0]
        for terms in (
            {"a": f"z * {wrong}"}, {"a": f"{wrong} * z"}, {"a": wrong, "b": "z"}, {"b": "z", "a": f"log({wrong})"},
            {"a": f"{wrong} + d"}, {"a": f"[z, {wrong}]"}, {"a": "missing_if(z, log(x) > 9)"},
        ):  # fmt: skip
            with self.subTest(terms):
                made = fa.Plan("y", terms, derived={"d": "z + 1"}).build(table)
                self.assertEqual(made.y.tolist() if made.y is not None else None, whole)
                self.assertTrue(made.verify(table).ok)
                made.save(self.folder / "kept", replace=True)  # with the map, which counts the rows left out
                fa.Plan("y", terms, derived={"d": "z + 1"}).build_into(self.folder / "parts", table, replace=True)
                self.assertTrue(fa.open_design(self.folder / "parts").verify(table).ok)
        for terms in ({"a": wrong}, {"a": f"{wrong} + 1"}, {"a": "is_missing(missing_if(z, log(x) > 9))"}):
            with self.subTest(terms), self.assertRaisesRegex(fa.DataError, "'log\\(x\\)' is not defined(.|\n)*Row 1."):
                fa.Plan("y", terms).build(table)

    @given(st.integers(0, 10**6))
    @settings(max_examples=20, deadline=None)
    def test_new_rows_with_history_are_as_in_the_whole(self, seed: int) -> None:
        table, early, late, rows = self.split(seed)
        plan = self.PLAN.resolve(table)
        whole = plan.build(table)
        new = plan.build(late, history=early)
        place = {row: at for at, row in enumerate(whole.rows.kept.tolist())}
        same = [place[rows[kept - 1] + 1] for kept in new.rows.kept.tolist()]
        self.assertEqual(new.X.tobytes(), np.asfortranarray(whole.X[same]).tobytes())
        self.assertEqual(new.columns.rows.given, len(rows))
        self.assertEqual(len(new.rows.kept) + len(new.rows.dropped), len(rows))
        self.assertTrue(new.verify(late, history=early).ok)
        carried = [f"{moment:%Y-%m}" for moment in new.to_arrow()["month"].to_pylist()]
        self.assertEqual(carried, [late["month"][kept - 1] for kept in new.rows.kept.tolist()])

    def test_the_response_may_be_absent_and_overlap_must_agree(self) -> None:
        table, early, late, _ = self.split(5)
        plan = self.PLAN.resolve(table)
        without = {name: values for name, values in late.items() if name != "stays"}
        made = plan.build(without, history=early)
        self.assertIsNone(made.y)
        overlap = {name: early[name][-5:] + values for name, values in late.items()}
        again = plan.build(overlap, history=early)
        self.assertEqual(again.columns.rows.given, len(late["hut"]) + 5)
        changed = {**overlap, "price": [v + 1 if at == 2 else v for at, v in enumerate(overlap["price"])]}
        with self.assertRaisesRegex(fa.DataError, "'price' differs between history(.|\\n)*Row 3."):
            plan.build(changed, history=early)

    def test_a_period_may_lie_half_in_the_history_and_half_in_the_new_rows(self) -> None:
        months = [f"{2020 + at // 12}-{at % 12 + 1:02d}" for at in range(24)]
        table: dict[str, list[Any]] = {
            "u": ["b"] * 24 + ["a"] * 24,
            "m": months * 2,
            "x": [float(at) for at in range(48)],
        }
        convert = {"every": "month", "take": {"x": {"how": "sum", "partial": "missing"}}}
        data = {"time": "m", "every": "quarter", "panel": ["u"]}
        whole = fa.Plan(None, {"x": "x", "l": "lag(x, 1)"}, data=data, convert=convert).build(table)
        for cut in (12, 16, 17, 18):
            old, new = ({k: [v for at, v in enumerate(table[k]) if (at % 24 < cut) == early] for k in table}
                        for early in (True, False))  # fmt: skip
            made = whole.plan.build(new, history=old)
            quarters = 8 - cut // 3
            wanted = np.concatenate([whole.X[7 - quarters : 7], whole.X[14 - quarters :]])
            np.testing.assert_array_equal(made.X, wanted)
            self.assertTrue(made.verify(new, history=old).ok)

    def test_a_changed_cell_of_the_history_is_noticed(self) -> None:
        table, early, late, _ = self.split(6)
        made = self.PLAN.resolve(table).build(late, history=early)
        early["price"][0] += 1
        told = str(made.verify(late, history=early))
        self.assertIn("The cell of price in row 1 of the history has changed", told)

    def test_categories_of_both_tables_are_brought_together(self) -> None:
        old = {"m": ["2023-01", "2023-02"], "c": ["x", "y"], "y": [1.0, 2.0], "only": [1, 2]}
        new = {"m": ["2023-03", "2023-04"], "c": ["z", "x"], "y": [3.0, 4.0]}
        data = {"time": "m", "every": "month"}
        plan = fa.Plan("y", {"c": "lag(c, 1)", "o": "lag(only, 2)"}, data=data, rows={"missing": "keep"})
        made = plan.build(new, history=old)
        self.assertEqual(made.names, ["intercept", "c_z", "o"])  # y, of history, is the reference
        self.assertEqual(made.X[:, 1:].tolist(), [[0.0, 1.0], [1.0, 2.0]])
        with self.assertRaisesRegex(fa.DataError, "'c' is a category and a number in history and new rows"):
            plan.build({**new, "c": [1, 2]}, history=old)
        with self.assertRaisesRegex(fa.DataError, "history needs a time"):
            fa.Plan("y", {"c": "c"}).build(new, history=old)
        with self.assertRaisesRegex(fa.DataError, "has no rows"):
            plan.build(new, history={"m": [], "c": [], "y": []})

    def test_a_failure_in_history_tells_its_row(self) -> None:
        old = {"m": ["2023-01", "2023-02"], "x": [1.0, 0.0], "y": [1.0, 2.0]}
        new = {"m": ["2023-03", "2023-04"], "x": [3.0, 4.0], "y": [3.0, 4.0]}
        plan = fa.Plan("y", {"l": "lag(log(x), 1)"}, data={"time": "m", "every": "month"})
        with self.assertRaisesRegex(fa.DataError, "in 1 row(.|\\n)*Row 1 from the end of the history."):
            plan.build(new, history=old)
        fine = fa.Plan(
            "y", {"l": "lag(log(x), 1)"}, data={"time": "m", "every": "month"}, rows={"keep": "m > '2023-03'"}
        )
        self.assertEqual(fine.build(new, history=old).X[:, 1].tolist(), [math.log(3.0)])


class Figures(Folder):
    def test_units_and_columns_are_drawn_as_asked_for(self) -> None:
        table = {name: values for name, values in panel(3).items() if name != "period"}
        terms = {"lags": "lag(price, [1, 2])", "change": "percent_change(price)"}
        made = fa.Plan(None, terms, data=PANEL_DATA).build(table)
        self.assertEqual({path.unit for path in made.columns.paths}, set(table["hut"]))
        for path in made.columns.paths:  # each value stands at its period
            rows = {
                m: p for h, m, p in zip(table["hut"], table["month"], table["price"], strict=True) if h == path.unit
            }
            self.assertEqual(dict(zip(path.lines[1].periods, path.lines[1].values, strict=True)), rows)
            self.assertEqual(path.lines[1].periods, sorted(rows))
        made.save(self.folder / "b")
        first = sizes = None
        for words in (["change"], ["change", "--unit", "hut 2"], ["lags", "--unit", "hut 1", "--unit", "hut 3"]):
            out = self.folder / f"{len(words)}.png"
            self.assertEqual(command("explain", self.folder / "b", *words, "--figure", out).returncode, 0)
            drawn = out.read_bytes()
            self.assertNotEqual(first, drawn)
            first, sizes = drawn, (sizes or []) + [int.from_bytes(drawn[20:24], "big")]
        self.assertEqual([size // sizes[0] for size in sizes], [1, 1, 4])  # two columns of two units are four panels
        picture = ["--figure", self.folder / "x.png"]
        for words, said in ((picture, "unit 'hut 9' not found"), ([], "--unit is valid only with --figure")):
            wrong = command("explain", self.folder / "b", *words, "--unit", "hut 9")
            self.assertEqual((wrong.returncode, said in wrong.stderr), (2, True))
