"""Looking first: the profile against independent counts, drafts that build, tables stacked, unstacked and sampled."""

from __future__ import annotations

import json
import statistics
import unittest
from collections import Counter
from typing import Any

import numpy as np
import pandas as pd
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum.demo.sample import PLANS
from tests.support import SAMPLE, Folder, command, huts

ODD: dict[str, Any] = {
    "id": [f"r{at}" for at in range(100)],
    "number": list(range(1, 101)),
    "day": [f"2023-{1 + at // 28:02d}-{1 + at % 28:02d}" for at in range(100)],
    "few": [at % 3 for at in range(100)],
    "spelling": ["Road", "road ", "trail", "road"] * 25,
    "words": ["1", "2", "n/a", "4"] * 25,
    "texts": ["1.5", "2"] * 50,
    "codes": ["01", "02"] * 50,
    "zeros": [0.0, 2.5, 3.1, 4.7, 9.9] * 20,
    "below": [-1.5, 2.5, 3.1, 4.7] * 25,
    "tail": [float(np.exp(at / 12)) + at * 1e-6 for at in range(100)],
    "one": ["x"] * 100,
    "nearly": ["x"] * 97 + ["y"] * 3,
    "beyond": [1.0, 2.0, 3.0, np.inf] * 25,
    "long": [2**60 + at for at in range(100)],
    "none": [None] * 100,
}
NOTICED = {
    "id": "an id?",
    "number": "an id?",
    "day": "dates stored as text",
    "few": "3 different values: a category?",
    "spelling": "differ only in case or spaces: 'Road' = 'road' = 'road '",
    "words": "looks like missing values: 'n/a'",
    "texts": "numbers stored as text",
    "codes": "codes?",
    "zeros": "20 zeros: a log will not do",
    "below": "25 negative values",
    "tail": "a log may help",
    "one": "a constant",
    "nearly": "'x' in 97.0 % of the rows",
    "beyond": "25 infinite values",
    "long": "too long for a number",
    "none": "missing ",
}


class Profiles(Folder):
    @given(st.integers(0, 10**6), st.sampled_from([0.0, 0.3]))
    @settings(max_examples=25, deadline=None)
    def test_figures_agree_with_the_standard_library(self, seed: int, missing: float) -> None:
        table = huts(60, seed=seed, missing=missing)
        profile = fa.profile(table, quantiles=[0.1, 1.0])
        for variable in profile:
            present = [v for v in table[variable.name] if v is not None]
            self.assertEqual((variable.missing, variable.distinct), (60 - len(present), len(set(present))))
            if variable.kind == "number":
                numbers = sorted(map(float, present))
                quartiles = statistics.quantiles(numbers, n=4, method="inclusive")
                np.testing.assert_allclose(variable.quartiles, quartiles, rtol=1e-12, atol=1e-12)
                self.assertEqual((variable.smallest, variable.largest), (numbers[0], numbers[-1]))
                self.assertEqual(sum(variable.cells), len(numbers) if len(set(numbers)) > 1 else 0)
                self.assertEqual(variable.quantiles[1], (1.0, numbers[-1]))
            elif variable.values:
                self.assertEqual(
                    dict(variable.values), Counter(str(v).lower() if v in (True, False) else v for v in present)
                )
        frame = pd.DataFrame({k: pd.Series(table[k], dtype=float) for k in ("price", "beds", "change")}).corr()
        for a, b, r in profile.correlations:
            if a in frame and b in frame:
                self.assertAlmostEqual(r, frame.loc[a, b], places=10)

    def test_what_an_analyst_should_notice(self) -> None:
        profile = fa.profile(ODD)
        for name, said in NOTICED.items():
            self.assertIn(said, "; ".join(profile[name].notes), name)
        self.assertEqual(profile["tail"].notes, ("a long tail to the right: a log may help",))
        for shown in (str(profile), profile._repr_html_()):
            self.assertIn("dates stored as text", shown.replace("&#x27;", "'"))

    def test_one_table_however_it_is_held(self) -> None:
        path = SAMPLE / "huts.csv"
        table = fa.read(path)
        whole = [variable.to_dict() if hasattr(variable, "to_dict") else variable for variable in fa.profile(path)]
        self.assertEqual(whole, list(fa.profile(table)))
        shuffled = table.take(np.random.default_rng(0).permutation(len(table)))
        for one, other in zip(fa.profile(table), fa.profile(shuffled), strict=True):
            self.assertEqual((one.quartiles, one.values, one.notes), (other.quartiles, other.values, other.notes))
        some = fa.profile(table, ["price", "hut"], quantiles=[0.25, 0.9])
        self.assertEqual([v.name for v in some], ["price", "hut"])
        self.assertEqual(some["price"].quantiles[0][1], some["price"].quartiles[0])
        self.assertEqual(json.loads(json.dumps(some.to_dict()))["rows"], 2400)
        with self.assertRaises(fa.DataError):
            some["beds"]
        for wrong in ([1.5], [-0.1]):
            with self.assertRaisesRegex(fa.DataError, "is not a valid share of rows"):
                fa.profile(table, quantiles=wrong)
        with self.assertRaisesRegex(fa.DataError, "has no rows"):
            fa.profile({"x": []})

    def test_a_time_is_told_with_its_step_its_gaps_and_its_doubles(self) -> None:
        table = {
            "d": pd.to_datetime(["2024-01-01", "2024-01-02", "2024-01-05", "2024-01-05"]),
            "x": [1.0, 2.0, 3.0, 4.0],
        }
        (day,) = [each for each in fa.profile(table).variables if each.name == "d"]
        self.assertIn("by day from 2024-01-01 to 2024-01-05, 2 days without a row, up to 2 rows in one", day.why)

    def test_long_learned_tables_are_cut_on_the_screen_and_whole_in_the_map(self) -> None:
        units = [f"unit {at:02d}" for at in range(30)] * 3
        table = {"u": units, "x": np.random.default_rng(4).normal(size=90), "y": np.arange(90.0)}
        made = fa.Plan("y", {"w": "within(x, by=[u])"}).build(table)
        made.save(self.folder / "b")
        for words in (["explain", self.folder / "b"], ["explain", self.folder / "b", "w"]):
            shown = " ".join(command(*words).stdout.split())
            self.assertIn("and 26 others in columns.json}", shown)
            self.assertIn("'unit 03': ", shown)
            self.assertNotIn("'unit 04': ", shown)
        self.assertIn("'unit 29': ", (self.folder / "b" / "columns.json").read_text("utf-8"))

    def test_extreme_numbers_do_not_overflow(self) -> None:
        profile = fa.profile({"x": [1e308, -1e308, 5e-324, 0.0, 1.7e308], "y": [1.0, 2.0, 4.0, 4.5, 5.0]})
        self.assertEqual(profile["x"].quartiles[1], 5e-324)
        self.assertAlmostEqual((profile["x"].mean or 0) / 3.4e307, 1.0)
        self.assertEqual(sum(profile["x"].cells), 5)

    def test_the_command_shows_counts_percents_and_quantiles(self) -> None:
        told = command("profile", SAMPLE / "huts.csv", "comfort", "price", "--quantiles", "3").stdout
        self.assertRegex(told, r"good +960 +40\.0 +77\.5")
        self.assertRegex(told, r"missing 33 \(1\.4 %\)")
        self.assertIn("66.67 %", told)
        figure = self.folder / "look.png"
        outcome = command("profile", SAMPLE / "survey.csv", "--json", "--figure", figure)
        self.assertEqual(json.loads(outcome.stdout)["rows"], 1200)
        self.assertEqual(figure.read_bytes()[:8], b"\x89PNG\r\n\x1a\n")
        for words, said in (
            (("profile", SAMPLE / "huts.csv", "pricee"), "did you mean 'price'"),
            (("profile", SAMPLE / "huts.csv", "--quantiles", "1.5"), "neither a number of parts nor"),
            (("draft", SAMPLE / "huts.csv", "--response", "stay"), "did you mean 'stays'"),
            (("draft", SAMPLE / "huts.csv", "--response", "stays", "--out", figure), "already exists"),
            (("demo", "--plan", "cleen", "--out", self.folder / "d"), "did you mean 'clean'"),
        ):
            outcome = command(*words)
            self.assertEqual((outcome.returncode, said in outcome.stderr), (2, True), outcome.stderr)

    def test_bins_are_drawn_from_the_folder(self) -> None:
        command("demo", "--plan", "clean", "--out", self.folder / "d")
        figure = self.folder / "bins.png"
        outcome = command("explain", self.folder / "d/build-clean", "zone", "--figure", figure)
        self.assertIn("smallest seen", outcome.stdout)
        self.assertEqual(figure.read_bytes()[:4], b"\x89PNG")
        outcome = command("explain", self.folder / "d/build-clean", "reach", "--figure", figure)
        self.assertEqual((outcome.returncode, "are part of reach" in outcome.stderr), (2, True))


class Drafts(Folder):
    def test_codes_truth_values_and_what_is_mostly_missing(self) -> None:
        dice = np.random.default_rng(0)
        table = {
            "y": dice.normal(size=200),
            "age": [*dice.integers(18, 90, 197), 0, 999, 999],
            "smoker": [*dice.integers(0, 2, 199), None],
            "q": dice.integers(1, 6, 200),
            "rare": [1.5 if at % 5 == 0 else None for at in range(200)],
        }
        text = fa.draft(table, "y")
        for line in (
            'smoker = { kind = "truth" }  # 0 and 1',
            "0 and 999 far from the others: missing_if(age, age in [0, 999]) if a code for missing",
            "5 whole numbers, taken for codes; where their size counts, write q or score(q)",
            "# rare left out: missing in 80 % of the rows",
        ):
            self.assertIn(line, str(text))
        self.assertEqual(fa.Plan.from_text(str(text)).build(table).columns.warnings, [])
        self.assertIn("999 in 2 rows, far from the other values", str(fa.profile(table)["age"].notes))

    def test_a_draft_of_each_sample_builds_without_an_edit(self) -> None:
        responses = {
            "huts.csv": "stays",
            "survey.csv": "would_return",
            "weather.csv": "temperature",
            "energy.csv": "index",
        }
        for name, response in responses.items():
            text = fa.draft(SAMPLE / name, response)
            design = fa.Plan.from_text(text).build(SAMPLE / name)
            self.assertGreater(design.X.shape[1], 2)
            self.assertEqual(np.linalg.matrix_rank(design.X), design.X.shape[1], text)
        text = fa.draft(SAMPLE / "huts.csv", "stays")
        for said in ('panel = ["hut"]', "# hut_code left out: an id", "impute(price, 'median')", "is_missing(price)",
                     'response = "log(stays)"', "trend()", "part(month, 'month')", "reference='trail'"):  # fmt: skip
            self.assertIn(said, text)

    @given(st.integers(0, 10**6), st.sampled_from(["stays", "price", "open", "access", "comfort"]))
    @settings(max_examples=40, deadline=None)
    def test_a_draft_of_any_clean_table_builds(self, seed: int, response: str) -> None:
        dice = np.random.default_rng(seed)
        table = huts(int(dice.integers(20, 90)), seed=seed, missing=float(dice.choice([0.0, 0.2])))
        table = {name if dice.random() < 0.7 or name == response else f"{name} é'\"": v for name, v in table.items()}
        try:
            text = fa.draft(table, response)
        except fa.DataError as error:
            self.assertRegex(str(error), "same value in every row")
            return
        fa.Plan.from_text(text).build(table)

    def test_odd_variables_are_left_out_and_said_why(self) -> None:
        text = fa.draft({**ODD, "y": np.arange(100.0) ** 0.5}, "y")
        reasons = {
            "id": "every row has another one",
            "number": "it counts the rows",
            "long": "too long",
            "beyond": "infinite",
            "one": "the same in every row",
            "none": "missing ",
        }
        for name, why in reasons.items():
            line = next(line for line in text.splitlines() if line.startswith(f"# {name} left out"))
            self.assertIn(why, line)
        fa.Plan.from_text(text).build({**ODD, "y": np.arange(100.0) ** 0.5})

    def test_the_time_and_the_units_are_found(self) -> None:
        days = [f"2023-{1 + at // 28:02d}-{1 + at % 28:02d}" for at in range(56)]
        cases: list[tuple[dict[str, Any], str, str | None]] = [
            ({"day": days}, "day", None),
            ({"when": [f"{2000 + at}" for at in range(56)]}, "year", None),
            ({"when": [f"{2000 + at // 4}Q{at % 4 + 1}" for at in range(56)]}, "quarter", None),
            ({"when": days[:28] * 2, "hut": ["a"] * 28 + ["b"] * 28, "code": ["1"] * 28 + ["2"] * 28}, "day", "hut"),
            ({"when": [f"2023-01-01T{at % 24:02d}:00" for at in range(24)] + ["2023-01-02T00:00"] * 0}, "hour", None),
        ]
        for table, every, panel_ in cases:
            rows = len(next(iter(table.values())))
            text = fa.draft({**table, "y": np.arange(rows) ** 1.5}, "y")
            self.assertIn(f'every = "{every}"', text)
            self.assertEqual(f'panel = ["{panel_}"]' in text, panel_ is not None)
            self.assertIn('"trend()"', text)
            fa.Plan.from_text(text).build({**table, "y": np.arange(rows) ** 1.5})
        years = {"year": [*range(1990, 2018)] * 2, "id": [3] * 28 + [7] * 28, "y": np.arange(56) ** 1.5}
        text = fa.draft(years, "y")
        self.assertIn('time  = "year"\nevery = "year"\npanel = ["id"]', text)
        fa.Plan.from_text(text).build(years)
        self.assertNotIn("every", fa.draft({"beds": np.arange(1800, 1830) % 29 + 1800, "y": np.arange(30) ** 1.5}, "y"))
        for gap, found in ((13, True), (16, False)):  # up to one and a half times as many years as there are
            held = {
                "year": [*range(1990, 2018), 2018 + gap, 2019 + gap],
                "x": np.arange(30) % 7,
                "y": np.arange(30) ** 1.5,
            }
            self.assertEqual("every" in fa.draft(held, "y"), found, gap)
        outside = {"code": [*range(1799, 1829)], "x": np.arange(30) % 7, "y": np.arange(30) ** 1.5}
        self.assertNotIn("every", fa.draft(outside, "y"))
        self.assertIn("every", fa.draft({**outside, "code": [*range(1800, 1830)]}, "y"))
        for table in ({"when": [*days[:20], None]}, {"when": [days[0]] * 21}):
            self.assertNotIn("every", fa.draft({**table, "x": np.arange(21) % 5, "y": np.arange(21) ** 1.5}, "y"))

    def test_names_that_are_alike_when_shortened_are_counted(self) -> None:
        names = ["Preis (EUR)", "Preis/EUR", "Preis EUR", "preis_eur", "class", "2nd"]
        table = {name: np.random.default_rng(at).normal(size=40) for at, name in enumerate(names)}
        plan = fa.Plan.from_text(fa.draft({**table, "y": np.arange(40.0) ** 1.5}, "y"))
        derived = ("preis_eur_2", "preis_eur_3", "preis_eur_4", "preis_eur", "class_value", "x_2nd_value")
        terms = ("preis_eur", "preis_eur_2", "preis_eur_3", "preis_eur_4", "class", "2nd")
        self.assertEqual(dict(plan.spec.terms), dict(zip(terms, derived, strict=True)))
        made = plan.build({**table, "y": np.arange(40.0) ** 1.5})
        for term, name in zip(terms, names, strict=True):
            np.testing.assert_array_equal(made.X[:, made.names.index(term)], table[name])

    def test_files_of_other_conventions(self) -> None:
        text = (SAMPLE / "huts.csv").read_text("utf-8").replace(",", ";").replace(".", ",").replace(";;", ";n/a;")
        path, draft = self.folder / "huts.csv", self.folder / "draft.toml"
        path.write_text(text, "latin-1")
        reading = (
            "--delimiter",
            ";",
            "--decimal",
            ",",
            "--encoding",
            "latin-1",
            "--missing-value",
            "n/a",
            "--missing-value",
            "NA",
        )
        shown = json.loads(command("profile", path, "--json", *reading).stdout)
        plain = json.loads(command("profile", SAMPLE / "huts.csv", "--json").stdout)
        self.assertEqual(shown["variables"], plain["variables"])
        told = json.loads(command("profile", path, "--json", "--missing-value", "n/a", "--missing-value", "NA").stdout)
        self.assertEqual(told["variables"], plain["variables"])  # all of it found in the file
        self.assertIn('huts.csv was read with delimiter = ";" and decimal = ",", as found in it', told["notes"][0])
        self.assertEqual(command("draft", path, "--response", "stays", "--out", draft, *reading).returncode, 0)
        one = fa.Plan.load(draft).build(path)
        other = fa.Plan.from_text(fa.draft(SAMPLE / "huts.csv", "stays")).build(SAMPLE / "huts.csv")
        self.assertEqual(one.X.tobytes("F"), other.X.tobytes("F"))
        self.assertEqual(command("profile", path, "--delimiter", ";;").returncode, 2)
        with self.assertRaisesRegex(fa.DataError, "the table is not a file"):
            fa.profile({"a": [1]}, reading={"decimal": ","})

    def test_what_cannot_be_drafted(self) -> None:
        for table, said in (
            ({"y": [1.0, 1.0, 1.0], "x": [1, 2, 3]}, "the same value in every row"),
            ({"y": [None, None], "x": [1, 2]}, "is missing in every row"),
            ({"y": [1.0, 2.0, 3.0], "x": [1, 1, 1]}, "has no predictor for 'y'"),
        ):
            with self.assertRaises(fa.DataError) as caught:
                fa.draft(table, "y")
            self.assertIn(said, str(caught.exception))

    def test_each_sample_plan_builds_and_verifies(self) -> None:
        for name, data in PLANS.items():
            design = fa.Plan.load(SAMPLE / f"{name}.toml").build(SAMPLE / data)
            self.assertTrue(design.verify(SAMPLE / data).ok)
            again = design.plan.build(SAMPLE / data)
            self.assertEqual((again.X.tobytes(), again.plan), (design.X.tobytes(), design.plan))


class Shapes(unittest.TestCase):
    WIDE: dict[str, Any] = {  # noqa: RUF012
        "guest": ["a", "b", "c"],
        "q_1": [1, None, 3],
        "q_2": [4, 5, 6],
        "q_3": [7, 8, None],
        "t_1": ["x", "y", "x"],
        "t_2": ["z", None, "y"],
    }
    INTO = {"answer": ["q_1", "q_2", "q_3"], "tone": ["t_1", "t_2"]}  # noqa: RUF012

    def test_stacking_accounts_for_every_cell_also_of_unequal_groups(self) -> None:
        made = fa.stack(self.WIDE, self.INTO, "item", ["first", "second", "third"]).to_pandas()
        self.assertEqual(len(made), 9)
        for at in range(9):
            row, item = divmod(at, 3)
            told = made.iloc[at]
            wanted = [self.WIDE[f"q_{item + 1}"][row], self.WIDE[f"t_{item + 1}"][row] if item < 2 else None]
            found = [None if pd.isna(told[name]) else told[name] for name in ("answer", "tone")]
            self.assertEqual(
                (told.guest, told["item"], told.origin_row), ("abc"[row], ["first", "second", "third"][item], row + 1)
            )
            self.assertEqual(found, wanted)

    def test_only_what_is_constant_within_the_rows_brought_together_is_kept(self) -> None:
        table = {"g": ["x", "y", "x"], "w": ["a", "a", "b"], "v": [1.0, 2.0, 3.0], "c": [7, 8, 7], "d": [1, 1, 2]}
        found = fa.unstack(table, "v", "w", ["g"]).to_pandas()
        self.assertEqual(sorted(found.columns), ["a", "b", "c", "g"])
        self.assertEqual(found[["g", "a", "b", "c"]].fillna(-1).values.tolist(), [["x", 1, 3, 7], ["y", 2, -1, 8]])

    def test_unstacking_turns_stacking_back(self) -> None:
        long = fa.stack(self.WIDE, {"answer": ["q_1", "q_2", "q_3"]}, "item")
        shuffled = long.take(np.random.default_rng(1).permutation(len(long)))
        wide = fa.unstack(shuffled, "answer", "item", ["guest"]).to_pandas().sort_values("guest")
        for name in ("q_1", "q_2", "q_3", "t_1"):
            self.assertEqual([None if pd.isna(v) else v for v in wide[name]], self.WIDE[name])

    def test_a_plan_stacks_before_anything_else_and_builds_again(self) -> None:
        plan = fa.Plan(
            "answer",
            {"item": "item", "tone": "tone"},
            data={"carry": ["origin_row"]},
            stack={"into": self.INTO, "which": "item"},
        )
        self.assertEqual(fa.Plan.from_text(str(plan)), plan)
        made = plan.build(self.WIDE)
        self.assertEqual(made.to_arrow()["origin_row"].to_pylist(), [1, 1, 3, 3])
        self.assertEqual(made.names, ["intercept", "item_q_2", "tone_y", "tone_z"])
        self.assertEqual(made.plan.build(self.WIDE).X.tobytes(), made.X.tobytes())
        self.assertTrue(made.verify(self.WIDE).ok)

    def test_shapes_that_cannot_be(self) -> None:
        long: dict[str, Any] = {"v": [1, 2], "w": ["a", "b"], "g": ["x", "x"]}
        self.assertEqual(
            fa.Table.of(self.WIDE).take(np.array([2, 0, 2])).to_pandas()["guest"].tolist(), ["c", "a", "c"]
        )
        cases = [
            (lambda: fa.stack(self.WIDE, {"a": ["q_1", "t_1"]}, "i"), "q_1 is a number, t_1 is a category"),
            (lambda: fa.stack(self.WIDE, {"a": ["q_1", "q_9"]}, "i"), "variable 'q_9' not found in the table; did"),
            (lambda: fa.stack(self.WIDE, {"a": ["q_1"], "b": ["q_1"]}, "i"), "'q_1' is stacked twice"),
            (lambda: fa.stack(self.WIDE, {"guest": ["q_1"]}, "i"), "'guest' already"),
            (lambda: fa.stack(self.WIDE, {"a": ["q_1", "q_2"]}, "i", ["x"]), "1 labels for 2 columns"),
            (lambda: fa.unstack({"v": [1, 2], "w": ["a", "a"], "g": ["x", "x"]}, "v", "w", ["g"]), "Rows 1, 2."),
            (lambda: fa.stack(self.WIDE, {}, "i"), "into names no columns to stack"),
            (lambda: fa.stack(self.WIDE, {"a": ["q_1"], "b": []}, "i"), "no columns are stacked into 'b'"),
            (
                lambda: fa.unstack({**long, "w": ["a", None]}, "v", "w", ["g"]),
                "'w' is a category, or has missing values",
            ),
            (lambda: fa.unstack({**long, "w": [1, 2]}, "v", "w", ["g"]), "'w' is a number, or has missing values"),
            (lambda: fa.unstack(long, "v", "w", []), "by names no variable that identifies the rows of a group"),
            (lambda: fa.unstack({**long, "w": ["a", "g"]}, "v", "w", ["g"]), "a variable called 'g' already"),
            (lambda: fa.sample(self.WIDE, 2, seed=-1), "-1 is not a valid seed"),
            (lambda: fa.sample(self.WIDE, 2, seed=True), "True is not a valid seed"),  # type: ignore[arg-type]
            (lambda: fa.sample(self.WIDE, 1.5, seed=1), "1.5 is not the size of a sample"),
            (lambda: fa.Table.of(self.WIDE).take(np.array([0, 3])), "rows are whole numbers from 0"),
            (lambda: fa.Table.of(self.WIDE).take(np.array([-1])), "rows are whole numbers from 0"),
            (lambda: fa.Table.of(self.WIDE).take(np.array([0.0])), "rows are whole numbers from 0"),
            (lambda: fa.sample(self.WIDE, 4, seed=1), "4 rows are asked for, and there are 3"),
            (lambda: fa.sample(self.WIDE, 2, by="t_1", seed=1), "with t_1 = y"),
            (lambda: fa.sample(self.WIDE, -1, seed=1), "not the size of a sample"),
        ]
        for work, said in cases:
            with self.assertRaises(fa.DataError) as caught:
                work()
            self.assertIn(said, str(caught.exception))

    @given(st.integers(0, 10**6), st.integers(1, 30), st.integers(0, 30))
    @settings(max_examples=40, deadline=None)
    def test_samples_share_no_row_and_follow_the_seed(self, seed: int, first: int, second: int) -> None:
        table = {"at": list(range(60)), "g": [at % 3 for at in range(60)]}
        a, b = (part.to_pandas()["at"].tolist() for part in fa.sample(table, [first, second], seed=seed))
        self.assertEqual((len(a), len(b), len({*a, *b})), (first, second, first + second))
        again = fa.sample(table, {"a": first, "b": second}, seed=seed)
        self.assertEqual(again["a"].to_pandas()["at"].tolist(), a)
        each = fa.sample(table, 0.25, by="g", seed=seed).to_pandas()
        self.assertEqual(Counter(each["g"]), {0: 5, 1: 5, 2: 5})
        drawn = fa.sample(table, 100, replace=True, seed=seed).to_pandas()["at"]
        self.assertEqual((len(drawn), drawn.is_monotonic_increasing), (100, True))

    def test_samples_are_fair(self) -> None:
        counts = np.zeros(10)
        for seed in range(2000):
            counts[fa.sample({"at": np.arange(10)}, 3, seed=seed)["at"].data] += 1
        self.assertLess(np.abs(counts - 600).max(), 5 * np.sqrt(2000 * 0.3 * 0.7))


class Crossing(Folder):
    def test_two_variables_crossed_are_counted_as_by_hand(self) -> None:
        dice = np.random.default_rng(4)
        table = {
            "way": [None if dice.random() < 0.1 else str(v) for v in dice.choice(["road", "trail"], 300)],
            "floor": dice.integers(-1, 3, 300).tolist(),
            "open": [bool(v) for v in dice.integers(0, 2, 300)],
            "x": dice.normal(size=300).tolist(),
        }
        for one, other in (("way", "floor"), ("open", "way"), ("floor", "open")):
            made = fa.cross(table, one, other)
            words = {None: "missing", True: "true", False: "false"}
            pairs = [
                (words.get(a, str(a)), words.get(b, str(b))) for a, b in zip(table[one], table[other], strict=True)
            ]
            if one == "floor" or other == "floor":  # of which 0 and 1 are numbers, not truth values
                pairs = [tuple(str(v) if isinstance(v, int) and not isinstance(v, bool) else words.get(v, str(v))
                               for v in pair) for pair in zip(table[one], table[other], strict=True)]  # fmt: skip
            for at, row in enumerate(made.row_values):
                for to, column in enumerate(made.column_values):
                    self.assertEqual(made.counts[at][to], pairs.count((row, column)))
            self.assertEqual(sum(map(sum, made.counts)), 300)
            for of, axis in (("row", 1), ("column", 0), ("total", None)):
                np.testing.assert_allclose(np.array(made.percents(of)).sum(axis=axis), 100.0)
        with self.assertRaisesRegex(fa.DataError, "'x' has 300 different values, and a two-way table"):
            fa.cross(table, "way", "x")

    def test_what_a_plan_sees_can_be_profiled_and_crossed(self) -> None:
        plan = SAMPLE / "huts.toml"
        seen = fa.Plan.load(plan).view(SAMPLE / "huts.csv")
        self.assertEqual(seen["open"].labels[int(seen["open"].data[0])], "yes")  # type: ignore[index]
        high = command("profile", SAMPLE / "huts.csv", "high", "--by", "comfort", "--plan", plan, "--json")
        made = json.loads(high.stdout)
        self.assertEqual((made["row_values"], made["column_values"]), (["false", "true"], ["poor", "fair", "good"]))
        self.assertEqual(sum(map(sum, made["counts"])), seen.length)
        self.assertIn("truth", command("profile", SAMPLE / "huts.csv", "high", "--plan", plan).stdout)
        pair = ["stays", "price"]
        columns = [fa.read(SAMPLE / "huts.csv")[name] for name in pair]
        there = ~columns[0].missing_rows() & ~columns[1].missing_rows()
        r = np.corrcoef(*[column.data[there].astype(float) for column in columns])[0, 1]
        self.assertRegex(command("profile", SAMPLE / "huts.csv", *pair).stdout, rf"price +{r:.3f}")
        by = json.loads(command("profile", SAMPLE / "huts.csv", "price", "--by", "valley", "--json").stdout)
        frame = pd.read_csv(SAMPLE / "huts.csv").groupby("valley")["price"]
        told = {each["group"]: (each["mean"], each["sd"], each["quantiles"][1][1]) for each in by["groups"][:-1]}
        for valley, values in frame:
            np.testing.assert_allclose(told[valley], (values.mean(), values.std(), values.median()), rtol=1e-12)
        narrow = command("profile", SAMPLE / "huts.csv", "access", "--by", "valley", COLUMNS="40").stdout
        self.assertIn("Cold Hollow 120", narrow)
        for words, said in (
            (["--by", "valley"], "Name one VARIABLE"),
            (["access", "--percent", "row"], "--percent is valid only with --by"),
            (["access", "--by", "valley", "--quantiles", "3"], "a two-way table has no quantiles"),
        ):
            wrong = command("profile", SAMPLE / "huts.csv", *words)
            self.assertEqual((wrong.returncode, said in wrong.stderr), (2, True))
