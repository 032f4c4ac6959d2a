"""The first hour of somebody who has never seen it: other words, any name, exports as they come."""

from __future__ import annotations

import re
import shutil
import unittest
import warnings
from typing import Any

import numpy as np
import pandas as pd

import facturum as fa
from facturum.audit.source.fingerprints import changed_cells, fingerprint_of, value_before
from facturum.cli.main import main
from facturum.cli.other_words import COMMANDS, OPTIONS
from facturum.demo.sample import lay_out
from facturum.language.syntax.other_words import OTHER_WORDS
from tests.support import ROOT, SAMPLE, Folder, command

# what analysts type, and the operation or the sign that it is here; "" where there is none
WISHES = {
    "category": "dummies dummy one_hot factor indicator_variable categorical baseline reference_category nominal",
    "bins": "cut ntile bin bucket quartiles deciles terciles tertiles quintile equal_width binned binning",
    "lag": "shift lagged previous prior lags", "lead": "next forward leading", "trend": "time_trend linear_trend",
    "difference": "diff delta first_difference log_diff log_return seasonal_diff differenced",
    "percent_change": "growth_rate yoy relative_change",
    "moving_average": "rolling rolling_mean ma moving_mean running_mean", "moving_sum": "rolling_sum running_sum",
    "impute": "fillna fill_missing ffill bfill interpolate locf median_fill mean_fill carry_forward",
    "is_missing": "isna isnull isnan missing_flag missing_indicator notna", "missing_if": "set_missing",
    "standardize": "zscore z_score scale standardise", "center": "demean mean_center centred",
    "within": "fixed_effects fixed_effect group_demean demean_by", "smallest": "min minimum lowest",
    "largest": "max maximum highest", "mean_of": "row_mean row_average", "sum_of": "row_sum row_total",
    "smallest_of": "row_min min_of", "largest_of": "row_max max_of", "mean": "avg average group_mean",
    "sd": "std stdev standard_deviation var variance", "quantile": "percentile", "log": "ln log10 log2 log1p",
    "exp": "expm1", "sqrt": "root square_root", "polynomial": "poly powers orthogonal_polynomial",
    "clip": "clamp censor", "winsorize": "winsorise cap_outliers", "regroup": "recode merge_categories",
    "lookup": "map remap", "season": "seasonal month_dummies fourier harmonics seasonality",
    "part": "month year weekday quarter month_of get_year extract_hour day_of", "score": "ordinal ordinal_code",
    "periods_since": "months_since days_since elapsed", "reverse": "reverse_score reverse_code",
    "asinh": "arcsinh ihs", "every_number": "all_numeric numeric_columns", "date_of": "make_date to_date",
    "**": "squared pow power cube", "*": "interaction interact", "/": "inverse inv", "crossed": "combination",
    "if": "where if_then", "cases": "case case_when", " in ": "isin is_in one_of", "between": "in_range",
    "first_present": "coalesce", "rounded": "round", "floor_to": "floor ceil truncate", "remainder": "mod modulo",
    "hinge": "piecewise knots", "spline": "bs natural_spline smooth", "contains": "str_contains", "piece": "substring",
    "joined": "concat paste", "total": "sum_by", "distinct": "nunique", "frequency_of": "frequency_encoding",
    "cumulative_sum": "cumsum running_total", "exponential_average": "ewma", "moving_median": "rolling_median",
    "": "rank hash time_zone entropy random tanh logit", "days_between": "datediff", "age_in_years": "age",
}  # fmt: skip
ORDERS = {
    "trial": "fit regress regression ols predict forecast", "profile": "describe summary summarize inspect",
    "explain": "show view", "compare": "diff", "convert": "aggregate resample", "stack": "pivot melt reshape",
    "draft": "new init create", "verify": "check validate", "build": "run export make", "report": "html page",
    "operations": "functions", "trace": "lineage", "sample": "split",
}  # fmt: skip


class OtherWords(unittest.TestCase):
    def setUp(self) -> None:
        months = [f"{2018 + at // 12}-{at % 12 + 1:02d}" for at in range(48)]
        dice = np.random.default_rng(1)
        self.table = {
            "month": months, "x": dice.uniform(1, 30, 48), "z": dice.uniform(1, 9, 48),
            "price": dice.uniform(9, 80, 48),
            "q_1": dice.uniform(1, 5, 48), "y": dice.normal(size=48), "g": ["a", "b", "older", "old"] * 12,
            "year": np.full(48, 2020.0), "room": [f"{at % 4} in {'abc'[at % 3]} {at % 2}" for at in range(48)],
            "hour": [f"2020-{at % 12 + 1:02d}-{at % 28 + 1:02d} 0{at % 8}:00" for at in range(48)],
        }  # fmt: skip

    def test_each_word_leads_to_the_operation_that_is_meant(self) -> None:
        count = 0
        for wanted, words in WISHES.items():
            for word in words.split():
                count += 1
                with self.subTest(word), self.assertRaises(fa.PlanError) as caught:
                    fa.Plan("y", {"t": f"{word}(x)"}).build(self.table)
                told = caught.exception.remedy or ""
                if not wanted:
                    self.assertEqual(told, "'facturum operations' lists them.")
                    self.assertNotIn("did you mean", caught.exception.what)
                else:
                    self.assertIn(f"{wanted}(" if wanted.isidentifier() and wanted != "if" else wanted, told)
                listed = command("operations", word)
                self.assertEqual(listed.returncode, 0 if wanted else 2, word)
        self.assertGreater(count, 150)

    def test_what_a_word_is_said_to_be_can_be_built(self) -> None:
        kinds = {
            "category(": "g",
            "score(": "g",
            "regroup(": "g",
            " in [": "g",
            "lookup(": "g",
            "reverse(": "q_1",
            **dict.fromkeys(("contains(", "_with(", "matches_pattern(", "lower(", "trim(", "replaced("), "room"),
            **dict.fromkeys(("length_of(", "number_in(", "joined(", "crossed(", "frequency_of("), "room"),
            **dict.fromkeys(("text_part(", "piece("), "room"),
            "part(x": "hour",
        }
        variables = {"hour": {"kind": "time"}, "g": {"kind": "ordered", "order": ["a", "b", "old", "older"]}}
        for word, written in OTHER_WORDS.items():
            source = next((name for part, name in kinds.items() if part in written), "x")
            text = re.sub(r"\bx\b", source, written)
            text = re.sub(r"\bz\b", "g" if "by=[" in text or "joined" in text or "crossed" in text else "z", text)
            if "date_of" in text or "reference='..'" in text or (word == "hour" and "hour" not in text):
                text = text.replace("'..'", "'b'").replace("date_of(x, z)", "date_of(year, 1) > '2019'")
            with self.subTest(word, text=text):
                data = {"time": "month", "every": "month"}
                fa.Plan("y", {"t": text}, data=data, variables=variables).build(self.table)

    def test_options_and_their_other_names(self) -> None:
        for text, meant in (
            ("category(g, ref='a')", "reference"), ("bins(x, q=4)", "quantiles"), ("mean(x, groupby=[g])", "by"),
            ("impute(x, method='median')", "how"), ("lag(x, periods=1)", ""), ("moving_average(x, size=3)", "window"),
            ("quantile(x, p=0.5)", "share"), ("category(g, zebra=1)", ""), ("clip(x, lower=1)", "low"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(fa.PlanError) as caught:
                fa.Plan("y", {"t": text}).build(self.table)
            hint = f"; did you mean '{meant}'?" if meant else ""
            self.assertRegex(caught.exception.what, f"has no option '\\w+'{re.escape(hint)}$")

    def test_commands_and_options_of_the_command_line(self) -> None:
        for wanted, words in ORDERS.items():
            for word in words.split():
                said = command(word, "a.csv").stderr
                self.assertRegex(said, f"No such command '{word}': .*\\b{wanted} ?", word)
        self.assertEqual(re.findall("': ", command("zebra").stderr), [])
        known = {name: {each for p in main.commands[name].params for each in p.opts} for name in main.commands}
        for sentence in COMMANDS.values():
            name = sentence.split(" ")[0]
            self.assertLessEqual(set(re.findall(r"--[a-z-]+", sentence)), known[name], sentence)
        for other, option in OPTIONS.items():
            self.assertTrue(any(option in options for options in known.values()), option)
            self.assertFalse(any(other in options for options in known.values()), other)
        self.assertIn("Did you mean '--replace'?", command("build", "--overwrite", "p", "d").stderr)
        self.assertNotIn("Did you mean", command("build", "--zebra", "p", "d").stderr)

    def test_a_text_without_quotes_is_told(self) -> None:
        for text in ("g == old", "g in [old]"):
            with self.assertRaisesRegex(fa.PlanError, "it is a category of g(.|\n)*in quotes: 'old'"):
                fa.Plan("y", {"t": text}).build(self.table)


NAMES = [
    "Preis je Stück", "Größe (m²)", "snow-depth", "class", "lambda", "for", "price/night", "50 % share", "2nd home",
    "a.b", "a:b", "x y", " padded ", "tab\tname", "Œuvre", "Łódź", "naïve", "山 の 名", "Δ x", "price €", "#1", "$",
    "a'b", 'a"b', "a\\b", "a,b", "a;b", "(a)", "[a]", "{a}", "a=b", "a==b", "not a", "a and b", "if", "None of them",
    "True value", "log(x)", "mean of x", "x**2", "x + y", "-x", "1", "1e5", "0x1", "..", "@home", "a|b", "a&b", "~a",
    "is", "in", "import", "return", "a?", "a!", "a\u00a0b", "q_1 (first)", "très élevé", "ß", "Maß je Tag",
]  # fmt: skip


def names_of_all_kinds() -> list[str]:
    """Return 300 names: odd ones, and everyday ones of exports."""
    starts = ("Umsatz", "no.", "%", "Größe", "prix", "2023", "Kosten (EUR)")
    ends = ("netto", "2020", "(EUR)", "je Tag", "ä", "#", "m²")
    made = [f"{start}{mark}{end}" for mark in (" ", "-", "/", ".", " & ") for start in starts for end in ends]
    return [*NAMES, *made][:300]


class AnyName(unittest.TestCase):
    def test_an_error_says_how_a_name_is_written_and_that_builds_in_every_place(self) -> None:
        dice, off = np.random.default_rng(2), dict.fromkeys(("leak", "few_rows", "near_dependence"), "off")
        names = names_of_all_kinds()
        self.assertEqual(len(names), 300)
        for name in names:
            table: dict[str, Any] = {name: dice.uniform(1, 9, 20).round(), "z": dice.normal(size=20)}
            table |= {f"{name} r": dice.normal(size=20), "y": dice.normal(size=20)}
            with self.subTest(name):
                said = []
                for place in ("log({})", "y - {}", "mean(z, by=[{}])"):
                    try:
                        fa.Plan("y", {"t": place.format(name)}, checks=off).build(table)
                    except fa.FacturumError as error:
                        if "one whose name looks like a number" in str(error):
                            continue
                        found = re.search(r"variable\(('[^']*'|\"(?:[^\"\\]|\\.)*\")\)", error.remedy or "")
                        self.assertIsNotNone(found, (name, str(error)))
                        said.append(found[0] if found else "")
                written = said[0] if said else name if name.isidentifier() else f"variable('{name}')"
                self.assertLessEqual(set(said), {written})
                quoted = f"'{name}'" if not set(name) & set("'\\\n\t") else written
                terms = {"t": written, "l": f"log({written})", "g": f"mean(z, by=[{quoted}])"}
                plan = fa.Plan(
                    f"{name} r", terms, derived={"d": written}, rows={"keep": f"{written} > 1"}, checks=off,
                    data={"carry": [name]}, variables={name: {"kind": "number", "missing": [7]}},
                )  # fmt: skip
                design = plan.build(table)
                kept = (table[name] > 1) & (table[name] != 7)
                np.testing.assert_array_equal(design.X[:, 1], table[name][kept])
                np.testing.assert_allclose(design.X[:, 2], np.log(table[name][kept]), rtol=1e-15)
                np.testing.assert_array_equal(design.y, table[f"{name} r"][kept])
                np.testing.assert_array_equal(design.plan.build(table).X, design.X)
                self.assertNotIn("variable(", " ".join(entry.reading for entry in design.columns))
                self.assertIn(name, design.columns["t"].reading)

    def test_the_plain_name_is_enough_where_it_is_no_expression(self) -> None:
        dice = np.random.default_rng(4)
        table = {"Preis je Stück": dice.uniform(1, 9, 30), "Filial Nr": [1, 2, 3] * 10, "y y": dice.normal(size=30)}
        plan = fa.Plan(
            "y y", {"p": "Preis je Stück", "w": "within(d, by='Filial Nr')"}, derived={"d": "Preis je Stück"}
        )
        design = plan.build(table)
        np.testing.assert_array_equal(design.X[:, 1], table["Preis je Stück"])
        self.assertEqual(design.response_names, ["y_y"])
        text = fa.draft(table, "y y")
        self.assertIn('[derived]\npreis_je_stuck = "Preis je Stück"\nfilial_nr = "Filial Nr"\ny_y = "y y"\n', text)
        np.testing.assert_array_equal(fa.Plan.from_text(text).build(table).y, table["y y"])

    def test_every_letter_that_has_a_plain_form_is_kept(self) -> None:
        table = {"g": ["Maß", "Ma", "Øst", "Łódź", "Ænes", "Þor"] * 4, "y": np.arange(24.0)}
        names = fa.Plan("y", {"g": "category(g, coding='every')"}).build(table).names
        self.assertEqual(set(names) - {"intercept"}, {"g_mass", "g_ma", "g_ost", "g_lodz", "g_aenes", "g_thor"})


class References(unittest.TestCase):
    """One place for the category that others are compared with."""

    def setUp(self) -> None:
        self.dice = np.random.default_rng(3)
        self.table = {
            "g": self.dice.choice(["East", "North", "South"], 60), "code": self.dice.choice([3, 5, 9], 60),
            "x": self.dice.normal(size=60), "y": self.dice.normal(size=60),
        }  # fmt: skip

    def test_a_declared_one_holds_for_all_terms_that_name_none(self) -> None:
        declared = {"g": {"reference": "North"}, "code": {"reference": 5}}
        terms = {"g": "g", "gx": "g * x", "c": "category(code)", "e": "category(g, coding='effect') * x", "x": "x"}
        named = terms | {
            "g": "category(g, reference='North')", "gx": "category(g, reference='North') * x",
            "c": "category(code, reference=5)", "e": "category(g, coding='effect', reference='North') * x",
        }  # fmt: skip
        made = fa.Plan("y", terms, variables=declared).build(self.table)
        by_hand = fa.Plan("y", named).build(self.table)
        self.assertEqual(made.names, by_hand.names)
        np.testing.assert_array_equal(made.X, by_hand.X)
        np.testing.assert_array_equal(made.plan.build(self.table).X, made.X)
        other = fa.Plan("y", terms | {"g": "category(g, reference='South')"}, variables=declared).build(self.table)
        self.assertEqual(other.columns["g_north"].reference, "South")
        mixed = fa.Plan("y", terms | {"g": "category(g, reference='South')"}).build(self.table).columns.warnings
        said = next(each for each in mixed if "is compared with" in each)
        found = re.search(r'\[variables\] g = \{ reference = "(\w+)" \}, and none in the terms', said)
        assert found is not None
        mended = fa.Plan("y", terms, variables={"g": {"reference": found[1]}}).build(self.table).columns.warnings
        self.assertFalse([each for each in mended if "is compared with" in each])
        with self.assertRaisesRegex(fa.DataError, "reference category 'Nort' of 'g'; did you mean 'North'"):
            fa.Plan("y", terms, variables={"g": {"reference": "Nort"}}).build(self.table)

    def test_of_yes_and_no_it_is_the_no(self) -> None:
        for no, yes in (("nein", "ja"), ("no", "yes"), ("ne", "da"), ("Off", "On"), ("N", "Y"), ("False", "True")):
            made = fa.Plan("y", {"p": "p"}).build(self.table | {"p": self.dice.choice([no, yes], 60)})
            self.assertEqual((made.columns.columns[2].reference, made.names[1]), (no, f"p_{yes.lower()}"))
        kept = fa.Plan("y", {"p": "category(p, order=['ja', 'nein'])"}).build(
            self.table | {"p": self.dice.choice(["ja", "nein"], 60)}
        )
        self.assertEqual(kept.names, ["intercept", "p_nein"])


class NextMonth(Folder):
    """The same plan on later rows, and builds of two months compared."""

    def setUp(self) -> None:
        super().setUp()
        dice = np.random.default_rng(5)
        months = [f"{2022 + at // 12}-{at % 12 + 1:02d}" for at in range(14)]
        self.rows = [
            f"{month},{shop},{dice.uniform(5, 50):.2f},{dice.uniform(1, 4):.2f},{dice.choice(['no', 'yes'])}"
            for month in months
            for shop in ("A", "B", "C")
        ]
        self.head = "month,shop,sales,price,promo"
        data = '[data]\ntime = "month"\nevery = "month"\npanel = ["shop"]\n'
        terms = '[terms]\nprice = "price"\npromo = "promo"\ntrend = "trend()"\n'
        (self.folder / "plan.toml").write_text(f'response = "sales"\n{data}{terms}')
        self.write("old.csv", self.rows[:36])
        self.assertEqual(self.run_("build", "plan.toml", "old.csv", "--out", "old").returncode, 0)

    def write(self, name: str, rows: list[str]) -> None:
        (self.folder / name).write_text("\n".join([self.head, *rows]) + "\n")

    def run_(self, *words: str) -> Any:
        return command(*words, cwd=self.folder)

    def test_what_is_new_is_told_and_no_advice_on_columns_is_given(self) -> None:
        self.write("next.csv", [*self.rows[39:41], "2023-02,C,7.0,9.5,no"])
        told = self.run_("build", "old/plan.resolved.toml", "next.csv", "--out", "next").stdout
        self.assertIn("new in these rows: they reach 2023-02, and the earlier rows end in 2022-12.", told)
        self.assertIn("new in these rows: price reaches 9.5, beyond the range of the earlier rows", told)
        for advice in ("warning", "Leave", "trend reaches", "have no coefficients", "fewer than"):
            self.assertNotIn(advice, told)

    def test_builds_are_compared_by_unit_and_period_whatever_the_order(self) -> None:
        order = np.random.default_rng(6).permutation(42)
        self.write("new.csv", [self.rows[at] for at in order])
        self.assertEqual(self.run_("build", "plan.toml", "new.csv", "--out", "new").returncode, 0)
        told = self.run_("compare", "old", "new").stdout
        self.assertIn("36 rows in both, matched by shop and month", told)
        self.assertNotIn("cells differ", told)
        self.assertIn("6 rows in the second build only", told)

    def test_verify_tells_old_and_new_values_lines_and_rows_that_are_new(self) -> None:
        dice = np.random.default_rng(7)
        for at in dice.choice(36, 5, replace=False).tolist():
            for column, value in ((3, "77.125"), (4, "no" if self.rows[at].endswith("yes") else "yes"), (2, "")):
                cells = self.rows[at].split(",")
                was, cells[column] = cells[column], value
                self.write("changed.csv", [*self.rows[:at], ",".join(cells), *self.rows[at + 1 : 36]])
                told = self.run_("verify", "old", "changed.csv").stdout
                now = "missing" if value == "" else value
                name = self.head.split(",")[column]
                before = was if column == 4 else f"{float(was):g}"
                wanted = (
                    f"The cell of {name} in row {at + 1} has changed since the build. It was {before}, and is {now}. "
                    f"Line {at + 2} of the file."
                )
                self.assertIn(wanted, re.sub(r"\s+", " ", told))
        self.write("longer.csv", self.rows[:39])
        told = self.run_("verify", "old", "longer.csv").stdout
        self.assertIn(
            "New rows, which the build did not have, would enter the matrix. Rows 37, 38, 39. Lines 38, 39, 40", told
        )
        self.assertNotIn("left out", told)
        self.write("shorter.csv", self.rows[:34])
        told = re.sub(r"\s+", " ", self.run_("verify", "old", "shorter.csv").stdout)
        self.assertIn("Rows of the matrix would be left out now. Rows 35, 36.", told)
        self.assertNotIn("of the file", told)

    def test_old_values_are_told_to_the_bit(self) -> None:
        dice = np.random.default_rng(8)
        for values in (dice.normal(size=300), dice.integers(-9, 9, 300), dice.integers(0, 2, 300) == 1):
            before = fingerprint_of(fa.Table.of({"x": values})["x"])
            for at in (0, 17, 299):
                other = values.copy()
                other[at] = not values[at] if values.dtype == bool else values[at] + 1
                variable = fa.Table.of({"x": other})["x"]
                (changed,) = changed_cells(variable, before)
                self.assertEqual((changed.row, value_before(variable, changed, at)), (at + 1, values[at]))


PANEL = '[data]\ntime = "month"\nevery = "month"\npanel = ["hut"]\n'
GAPS = '[terms]\nprice = "impute(price, \'median\', by=[valley])"\nno_price = "is_missing(price)"\n'
TASKS: dict[str, tuple[str, list[str], list[str]]] = {  # a plan, at most two commands, what the last one says at once
    "an export with spaces in its names": (
        'response = "Umsatz netto"\n[terms]\nprice = "log(variable(\'Preis je Nacht\'))"\npromo = "Aktion"\n',
        ["build plan.toml export.csv --out b"], ["132 rows; reference category: promo nein", "header_line = 4"],
    ),
    "another reference, an interaction, a report": (
        'response = "log(stays)"\n[variables]\naccess = { reference = "trail" }\n[terms]\n'
        'slope = "access * log(price)"\naccess = "access"\nprice = "log(price)"\n',
        ["build plan.toml huts.csv --out b --report r.html"], ["slope trail, access trail"],
    ),
    "medians by group, with a flag and a list of the cells": (
        f'response = "log(stays)"\n{GAPS}', ["build plan.toml huts.csv --out b", "explain b price --imputed"],
        ["variable source row imputed", "price"],
    ),
    "bins with their counts": (
        'response = "log(stays)"\n[terms]\nzone = "bins(altitude, edges=[1500, 2000, 2500])"\n'
        'size = "bins(beds, quantiles=4)"\n',
        ["build plan.toml huts.csv --out b", "explain b zone"], ["under 1500", "from 2500"],
    ),
    "lags, averages, forecasts as a table and a chart": (
        f'response = "log(stays)"\n{PANEL}[terms]\nyear_ago = "lag(log(stays), 12)"\ntrend = "trend()"\n',
        ["build plan.toml huts.csv --out b", "trial b --data huts.csv --ahead 6 --out f.csv --figure f.png"],
        ["forecasts of stays", "2024-01"],
    ),
    "days brought to months, beside a quarterly index": (
        'response = "guests"\n[data]\ntime = "date"\nevery = "month"\n[convert]\nevery = "day"\n'
        'take = { guests = { how = "sum", partial = "drop" } }\n[series.prices]\nfile = "index.csv"\ntime = "quarter"\n'
        'every = "quarter"\ntake = { index = { how = "repeat" } }\n[terms]\nindex = "prices_index"\n',
        ["build plan.toml daily.csv --out b"], ["2 columns, 24 of 24 rows"],
    ),
    "a changed cell": (
        f'response = "log(stays)"\n{GAPS}', ["build plan.toml huts.csv --out b", "verify b changed.csv"],
        ["The cell of price in row 1 has changed since the build. It was 43.18, and is 34.18."],
    ),
    "a build to be understood": (
        'response = "log(stays)"\n[terms]\ndear = "price > median(price, by=[valley])"\n',
        ["build plan.toml huts.csv --out b", "explain b dear"], ["Rows in which price > median(price, by=[valley])"],
    ),
    "the same plan on the next month": (
        'response = "Umsatz netto"\n[data]\ntime = "Monat"\nevery = "month"\npanel = ["Hütte"]\n'
        '[terms]\npromo = "Aktion"\n',
        ["build plan.toml export.csv --out b", "build b/plan.resolved.toml next-month.csv --out n"],
        ["new in these rows: they reach 2024-10, and the earlier rows end in 2024-09."],
    ),
}  # fmt: skip


class TenTasks(Folder):
    """The tasks of the first hour: no error on the way, and the answer in the first lines of the screen."""

    def test_each_takes_two_commands_and_the_answer_stands_first(self) -> None:
        lay_out(self.folder)
        for path in (ROOT / "docs/guide/data").iterdir():
            shutil.copy(path, self.folder)
        huts = (self.folder / "huts.csv").read_text("utf-8")
        (self.folder / "changed.csv").write_text(huts.replace(",43.18,", ",34.18,", 1), "utf-8")
        for task, (plan, commands, wanted) in TASKS.items():
            for columns in ("80", "120"):
                with self.subTest(task, columns=columns):
                    self.assertLessEqual(len(commands), 2)
                    for name in ("b", "n", "f.csv", "f.png", "r.html"):
                        path = self.folder / name
                        shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)
                    (self.folder / "plan.toml").write_text(plan, "utf-8")
                    for line in commands:
                        done = command(*line.split(), cwd=self.folder, COLUMNS=columns)
                        self.assertEqual(done.returncode, int("changed" in line), done.stderr)
                        self.assertEqual(done.stderr, "")
                    first = re.sub(r"\s+", " ", " ".join(done.stdout.splitlines()[:24]))
                    for said in wanted:
                        self.assertIn(said, first)

    def test_a_frame_to_a_fit_and_new_rows(self) -> None:
        frame = pd.read_csv(SAMPLE / "huts.csv")
        plan = fa.Plan("log(stays)", {"access": "access", "price": "log(price)"})
        with warnings.catch_warnings(action="ignore"):
            design = plan.build(frame)
            fitted = pd.Series(design.y, index=design.to_pandas().index)
            new = design.plan.build(frame.tail(50))
        self.assertTrue(np.allclose(fitted, np.log(frame["stays"].loc[fitted.index])))
        self.assertEqual(new.names, design.names)
