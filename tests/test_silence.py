"""Nothing is passed over in silence: keys that match nothing, groups of a constant, leaks, labels of rows."""

from __future__ import annotations

import unittest
import warnings
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import pandas as pd

import facturum as fa
from tests.support import Folder, command

RNG = np.random.default_rng(19)
LAKES = {
    "lake": np.array(["Upper", "Lower", "Far"])[RNG.integers(0, 3, 90)].tolist(),
    "year": RNG.integers(2007, 2010, 90),
    "y": RNG.normal(size=90),
    "x": RNG.normal(size=90),
}
PANEL: dict[str, Any] = {
    "u": np.repeat(["a", "b", "c", "d"], 6).tolist(),
    "m": [f"2020-{month:02d}" for month in range(1, 7)] * 4,
    "z": RNG.normal(size=24) + 10,
    "w": RNG.normal(size=24) + 10,
}
CLOCK = {"time": "m", "every": "month", "panel": ["u"]}


def told(plan: fa.Plan, table: Any) -> str:
    """Return the warnings of a build, one a line."""
    with warnings.catch_warnings(action="ignore"):
        return "\n".join(plan.build(table).columns.warnings)


class Keys(unittest.TestCase):
    def test_keys_that_match_no_row_are_told_with_the_near_name_and_the_rows_left_to_otherwise(self) -> None:
        said = told(fa.Plan("y", {"a": "lookup(lake, {'Upper': 1, 'Lover': 2}, 0)"}), LAKES)
        others = sum(lake != "Upper" for lake in LAKES["lake"])
        self.assertIn("no row has the key 'Lover' of the table for lake; did you mean 'Lower'?", said)
        self.assertIn(f"{others} rows of 90 have another value and get 0.", said)
        by_two = told(fa.Plan("y", {"a": "lookup([lake, year], {('Upper', 2007): 1, ('Far', 1999): 2}, 0)"}), LAKES)
        self.assertIn("no row has the key ('Far', 1999)", by_two)
        self.assertEqual(told(fa.Plan("y", {"a": "lookup(lake, {'Upper': 1, 'Far': 2}, 0)"}), LAKES), "")
        learned = fa.Plan("y", {"a": "mean(x, by=[lake])"}, rows={"keep": "lake != 'Far'"})
        self.assertNotIn("no row has the key", told(learned, LAKES))

    def test_codes_written_in_quotes_are_refused(self) -> None:
        for text, words in {
            "lookup(year, {'2007': 1, '2008': 2}, 0)": "'year' is a number, and the key '2007' is a text",
            "lookup(lake, {1: 1}, 0)": "'lake' is a category, and the key 1 is a number",
            "regroup(year, {'early': ['2007', '2008']})": "'2007' is a text, which it never is",
            "category(year, order=['2007', '2008', '2009'])": "Write the numbers of the order without quotes",
        }.items():
            with self.subTest(text), self.assertRaisesRegex(fa.FacturumError, words):
                fa.Plan("y", {"a": text}).build(LAKES)

    def test_a_constant_forms_no_groups(self) -> None:
        for text in ("impute(x, 'median', by='lake')", "mean(x, by=['lake'])", "within(x, by='lake')"):
            named, bare = (fa.Plan("y", {"a": each}).build(LAKES) for each in (text, text.replace("'lake'", "lake")))
            np.testing.assert_array_equal(named.X, bare.X)
        for text in ("mean(x, by='lakes')", "mean(x, by=1)"):
            with self.subTest(text), self.assertRaisesRegex(fa.PlanError, r"the same in every row(.|\n)* by=\["):
                fa.Plan("y", {"a": text}).build(LAKES)


class Leaks(unittest.TestCase):
    def test_only_what_reads_all_of_the_response_is_refused(self) -> None:
        for response, text, outcome in (
            ("z / w", "log(w)", "both read w"),
            ("z / w", "w * z", None),
            ("z", "lag(z, 1) - mean(z)", ""),
            ("z", "w / quantile(z, 0.5)", ""),
            ("z", "mean(z, by=[u])", None),
            ("z", "[lag(z, 1), mean(z, by=[u])]", None),
            ("z", "lag(z, 1) * mean(z, by=[u])", None),
            ("z", "lag(z, 1) + mean(z, by=[u])", None),
            ("z", "lag(z, 1) - mean(z, by=[u])", None),
            ("z", "lag(z, 1) - mean(lag(z, 1), by=[u])", ""),
            ("z", "mean(z, by=[m])", None),
            ("z", "lag(w, 1) + sd(z, by=[u, m])", None),
            ("z", "mean(lag(z, 1), by=[m])", ""),
            ("z", "mean(lag(z, 1), by=[period_of(m, 'month')])", ""),
            ("z", "mean(lag(z, 1), by=[period_of(m, 'quarter')])", None),
            ("z", "mean(lag(z, 1), by=[part(m, 'month')])", None),
            ("z", "mean(w, by=[m])", ""),
        ):
            plan = fa.Plan(response, {"a": text}, data=CLOCK)
            with self.subTest(text):
                if outcome is None:
                    self.assertRaisesRegex(fa.PlanError, "response", plan.build, PANEL)
                    off = fa.Plan(response, {"a": text}, data=CLOCK, checks={"leak": "off"})
                    self.assertNotIn("both read", told(off, PANEL))
                else:
                    said = told(plan, PANEL)
                    self.assertIn(outcome, said)
                    self.assertEqual("both read" in said, bool(outcome))

    def test_advice_fits_the_table(self) -> None:
        with self.assertRaises(fa.PlanError) as caught:
            fa.Plan("y", {"a": "exp(y)"}).build(LAKES)
        self.assertNotIn("lag", str(caught.exception))

    def test_a_near_copy_is_a_warning_and_a_lag_of_the_response_is_none(self) -> None:
        y = np.cumsum(RNG.normal(size=300))
        copy = np.round(y + RNG.normal(size=300) * 0.02, 3)
        share = np.corrcoef(copy, y)[0, 1] ** 2
        self.assertGreater(share, 0.999)
        self.assertIn(f"c alone explains {100 * share:.5g} % of", told(fa.Plan("y", {"c": "c"}), {"y": y, "c": copy}))
        smooth = np.linspace(0, 100, 300) + RNG.normal(size=300) * 0.1
        plan = fa.Plan("y", {"l": "lag(y, 1)"}, data={"every": "row"})
        self.assertEqual(told(plan, {"y": smooth}), "")

    def test_a_lagged_response_beside_effects_of_short_units_is_told_in_every_form(self) -> None:
        forms = [
            fa.Plan("z", {"u": "u", "l": "lag(z, 1)"}, data=CLOCK),
            fa.Plan("within(z, by=[u])", {"l": "within(lag(z, 1), by=[u])"}, data=CLOCK, intercept=False),
            fa.Plan("z", {"l": "lag(z - mean(z, by=[u]), 1)"}, data=CLOCK),
        ]
        for plan in forms:
            self.assertIn("its coefficient is biased, by about -(1 + itself)/4", told(plan, PANEL))
        self.assertNotIn("biased", told(fa.Plan("z", {"l": "lag(z, 1)"}, data=CLOCK), PANEL))


class Checks(unittest.TestCase):
    def test_relations_in_the_complete_rows_alone_are_told_as_such(self) -> None:
        x = RNG.normal(size=48)
        x[[10, 20, 30]] = np.nan
        months = [f"20{year}-{month:02d}" for year in range(10, 14) for month in range(1, 13)]
        terms = {"a": "moving_average(x, 3)", "b": "moving_average(x, 3, at_least=2)"}
        plan = fa.Plan("y", terms, data={"time": "m", "every": "month"}, rows={"missing": "keep"})
        said = told(plan, {"m": months, "x": x, "y": RNG.normal(size=48)})
        self.assertIn("in the 37 rows of 48 without missing values: b is the same as a", said)


class Beside(Folder):
    """What stands beside the matrix: carried variables, and the labels of the rows."""

    def test_anything_may_be_carried(self) -> None:
        plan = fa.Plan(
            "z",
            {"w": "w", "mean_w": "mean(w, by=[u])", "half": "half", "late": "m >= '2020-03'"},
            derived={
                "half": "w * z / z / 2",
                "side": "standardize(w)",
                "name": "regroup(u, {'ab': ['a', 'b']}, 'rest')",
            },
            data=CLOCK | {"carry": ["u", "m", "w", "z", "side", "half", "name"]},
            checks={"leak": "off"},
        )
        with warnings.catch_warnings(action="ignore"):
            made = plan.build(PANEL)
        side = made._side
        self.assertEqual(
            side.column_names,
            ["source_row", "u", "m", "w_carried", "z_carried", "side", "half_carried", "name", "learning_row", "z"],
        )
        np.testing.assert_array_equal(side["w_carried"].to_numpy(), PANEL["w"])
        w = np.asarray(PANEL["w"])
        np.testing.assert_allclose(side["side"].to_numpy(), (w - w.mean()) / w.std(ddof=1), atol=1e-12)
        self.assertEqual(side["name"].to_pylist(), ["ab"] * 12 + ["rest"] * 12)
        folder = self.folder / "build"
        made.save(folder)
        opened = fa.open_design(folder)
        self.assertTrue(opened.verify(PANEL).ok)
        self.assertTrue(opened._side.equals(side))
        self.assertEqual(str(opened.trial(errors="clustered", by="u")), str(made.trial(errors="clustered", by="u")))
        self.assertTrue(fa.compare(made, opened, by=["w", "m"]).same)
        fresh = fa.Plan.load(folder / "plan.resolved.toml").build(PANEL)
        self.assertTrue(fresh._side.equals(side))

    def test_a_frame_keeps_its_own_index(self) -> None:
        frame = pd.DataFrame(LAKES)
        frame.loc[3, "x"] = np.nan
        plan = fa.Plan("y", {"x": "x"}, data={"carry": ["lake"]})
        several = frame.assign(at=range(90)).set_index(["lake", "at"]).assign(lake=frame["lake"].to_numpy())
        for given in (frame, frame.sort_values("y"), frame.set_index(frame.index[::-1].rename("hut")), several):
            back = plan.build(given).to_pandas()
            np.testing.assert_array_equal(back["y"], given["y"][given["x"].notna()])
            self.assertTrue(back.index.equals(given.index[given["x"].notna()]))
            self.assertEqual(back.index.names, given.index.names)
            self.assertEqual(back["lake"].tolist(), given["lake"][given["x"].notna()].tolist())
            fitted = given.assign(new=back["y"])  # as every user assigns
            np.testing.assert_array_equal(fitted["new"].isna(), given["x"].isna())
        path = self.folder / "lakes.csv"
        frame.to_csv(path, index=False)
        read = pd.read_csv(path).assign(new=plan.build(path).to_pandas()["x"])
        np.testing.assert_array_equal(read["new"], read["x"])


class Periods(unittest.TestCase):
    WEEKS = pd.date_range("2020-01-06", periods=104, freq="W-MON")
    TABLE: ClassVar = {"w": WEEKS.strftime("%G-W%V").tolist(), "y": RNG.normal(size=104)}

    def test_days_looked_up_are_those_of_the_period_that_holds_them(self) -> None:
        days = ["2020-04-13", "2020-05-01", "2020-12-25", "2020-12-26", "2021-04-05", "2021-12-24", "2031-01-01"]
        keys = ", ".join(f"'{day}': 1" for day in days)
        made = fa.Plan("y", {"h": f"lookup(w, {{{keys}}}, 0)"}, data={"time": "w", "every": "week"}).build(self.TABLE)
        held = [any(start <= pd.Timestamp(day) < start + pd.Timedelta(days=7) for day in days) for start in self.WEEKS]
        self.assertEqual(made.column("h").tolist(), [float(each) for each in held])
        self.assertEqual(made.columns.warnings, [])  # keys beyond the rows are no mistake
        for text, words in (
            (
                "lookup(w, {'2020-12-24': 1, '2020-12-25': 2}, 0)",
                "lie in one week, 2020-W52, and have",
            ),
            ("w == '2020-12-25'", "lies inside of one(.|\n)*Write '2020-W52'"),
            ("w not in ['2020-12-25']", "lies inside of one"),
        ):
            with self.subTest(text), self.assertRaisesRegex(fa.PlanError, words):
                fa.Plan("y", {"h": text}, data={"time": "w", "every": "week"}).build(self.TABLE)

    def test_a_named_time_orders_the_rows_that_follow_one_another(self) -> None:
        days = pd.bdate_range("2021-01-04", periods=40)
        frames = [pd.DataFrame({"s": s, "day": days, "p": np.exp(RNG.normal(size=40)), "y": 1.0}) for s in "AB"]
        frame = pd.concat(frames, ignore_index=True)
        shuffled = frame.sample(frac=1, random_state=0)
        data = {"time": "day", "every": "row", "panel": ["s"]}
        plan = fa.Plan("y", {"r": "difference(log(p))"}, data=data)
        with warnings.catch_warnings(action="ignore"):
            returns = plan.build(shuffled).to_pandas()["r"].sort_index()
        expected = frame.groupby("s")["p"].transform(lambda p: np.log(p).diff()).dropna()
        pd.testing.assert_series_equal(returns, expected, check_names=False)
        shuffled.loc[3, "day"] = pd.NaT
        with self.assertRaisesRegex(fa.DataError, "'day' is missing in 1 row of the table, and orders the rows"):
            plan.build(shuffled)
        with self.assertRaisesRegex(fa.DataError, "a time occurs more than once of the same s"):
            plan.build(pd.concat([frame, frame.iloc[:1]]))


class Tables(Folder):
    def test_a_shorter_list_of_stacked_columns_is_told(self) -> None:
        wide = {"id": ["a", "b"], "q_1": [1, 3], "q_2": [2, 4], "t_1": [5, 6]}
        into = {"answer": ["q_1", "q_2"], "secs": ["t_1"]}
        said = "secs is stacked of 1 column, and others of 2: it is missing in rows of q_2."
        with self.assertWarns(fa.FacturumWarning) as caught:
            fa.stack(wide, into, "item")
        self.assertEqual(str(caught.warning), said)
        self.assertEqual(Path(caught.filename).name, "test_silence.py")
        plan = fa.Plan("answer", {"s": "is_missing(secs)"}, stack={"into": into, "which": "item"})
        self.assertIn(said, told(plan, wide))

    def test_a_table_command_is_told_how_numbers_and_times_are_written(self) -> None:
        path = self.folder / "days.csv"
        path.write_text("d;x\n01.01.2020;1.200\n02.01.2020;2.000\n15.02.2020;3.100\n")
        words = ["convert", path, "--time", "d", "--every", "day", "--to", "month", "--take", "x=sum,partial=keep"]
        out = self.folder / "months.csv"
        words += ["--delimiter", ";", "--pattern", "%d.%m.%Y", "--thousands", ".", "--out", out]
        self.assertIn("Write --decimal '.' or --decimal ',' --thousands '.'", command(*words).stderr)
        done = command(*words, "--decimal", ",")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(pd.read_csv(out)["x"].tolist(), [3200, 3100])
        parts = {"y": [2020, 2020], "m": [1, 2], "x": [1.0, 5.0]}
        by_parts = fa.convert(
            parts, "t", "month", "year", {"x": {"how": "sum", "partial": "keep"}}, parts={"year": "y", "month": "m"}
        )
        self.assertEqual(by_parts["x"].data.tolist(), [6.0])

    def test_a_draft_does_not_see_what_lies_beneath_missing_cells(self) -> None:
        x = [None if at % 5 == 0 else 3_000.0 + 7 * at for at in range(60)]
        drafted = fa.draft({"y": [float(at % 7) for at in range(60)], "x": x}, "y")
        self.assertNotIn("missing_if(x, x == 0)", drafted)
        coded = [0.0 if value is None else value for value in x]
        self.assertIn("missing_if(x, x == 0)", fa.draft({"y": [float(at % 7) for at in range(60)], "x": coded}, "y"))


class Relations(unittest.TestCase):
    def test_what_adds_up_has_no_rounding_error_for_a_constant(self) -> None:
        for seed in range(6):
            dice = np.random.default_rng(seed)
            men = dice.integers(10_000, 5_000_000, 200).astype(float)
            women = dice.integers(10_000, 5_000_000, 200).astype(float)
            cents = {"y": dice.normal(size=200), "pop": men + women, "men": men / 100, "women": women / 100}
            terms = {"pop": "pop / 100", "men": "men", "women": "women"}
            self.assertIn("women = pop − men; ", told(fa.Plan("y", terms), cents))
            shifted = told(fa.Plan("y", {**terms, "women": "women + 0.5"}), cents)
            self.assertIn("women = pop − men + 0.5; ", shifted)

    def test_where_no_row_is_left_along_time_the_remedy_is_history_or_the_step(self) -> None:
        months = [f"20{year}-{month:02d}" for year in range(18, 20) for month in range(1, 13)]
        table = {"m": months, "y": [float(at) for at in range(24)]}
        plan = fa.Plan("y", {"ar": "lag(y, 12)"}, data={"time": "m", "every": "month"})
        new = {"m": [f"2020-{month:02d}" for month in range(1, 8)], "y": [1.0] * 7}
        with warnings.catch_warnings(action="ignore"):
            resolved = plan.build(table).plan
            self.assertRaisesRegex(fa.DataError, r"no row is left of 7(.|\n)*history=table", resolved.build, new)
            self.assertEqual(resolved.build(new, history=table).X[:, 1].tolist(), [float(at) for at in range(12, 19)])
        daily = fa.Plan("y", {"ar": "lag(y, 1)"}, data={"time": "m", "every": "day"})
        self.assertRaisesRegex(fa.DataError, 'Write every = "month"', daily.build, table)
