"""Tables from files and from memory: kinds, missing values, codes that keep their digits."""

from __future__ import annotations

import datetime
import decimal
import itertools
import math
import unittest
import unittest.mock
import warnings
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st
from pyarrow import feather, parquet

import facturum as fa
from facturum.data.declared import Declaration, declare
from facturum.data.table import Table
from facturum.data.time.calendar import period_of
from facturum.data.values import Kind, sorted_labels
from tests.support import Folder

DAY = 86_400_000_000


def present(table: Table, name: str) -> list[Any]:
    """Return a variable's values as Python's own, None where missing."""
    variable = table[name]
    missing = variable.missing_rows()
    values = [None if gone else value for value, gone in zip(variable.data.tolist(), missing, strict=True)]
    if variable.labels is not None:
        return [None if value is None else variable.labels[value] for value in values]
    return values


class TextFiles(Folder):
    def read(self, text: str | bytes, name: str = "t.csv", **options: Any) -> Table:
        path = self.folder / name
        path.write_bytes(text.encode() if isinstance(text, str) else text)
        return fa.read(path, **options)

    def test_only_the_variables_that_a_plan_reads_are_read_of_a_file(self) -> None:
        rows = 60
        table = pa.table({"x": np.arange(rows) % 7.0, "y": np.arange(rows) % 11.0, "hut": np.arange(rows) // 12,
                          "day": np.arange(rows) % 12, "junk": [[at] for at in range(rows)]})  # fmt: skip
        data = {"time": "when", "every": "day", "panel": ["hut"], "carry": ["hut"]}
        derived = {"twice": "2 * x", "when": "date_of(2020, 1, day + 1)"}
        plan = fa.Plan("y", {"x": "twice", "l": "lag(x, 1)"}, derived=derived, data=data)
        for name, write in (("t.parquet", parquet.write_table), ("t.arrow", feather.write_feather)):
            path = self.folder / name
            write(table, path)
            with self.assertRaisesRegex(fa.DataError, "'junk'"):
                fa.read(path)
            made = plan.build(path)
            np.testing.assert_array_equal(made.X, plan.build(table.drop_columns(["junk"])).X)
            self.assertTrue(made.verify(path).ok)
            with self.assertRaisesRegex(fa.DataError, "'junk'"):  # which variables there are decides
                fa.Plan("y", {"all": "every_number()"}).build(path)

    def test_each_column_is_what_all_its_cells_are(self) -> None:
        table = self.read(
            "whole,half,yes,day,moment,word,code,long,mixed,empty\n"
            "1,0.5,true,2023-04-17,2023-04-17T09:30:00,trail,007,12345678901234567890,1,\n"
            "-2,-1e3,FALSE,2023-04-18,2023-04-18 10:00:00,road,010,12345678901234567891,x,\n"
            ",,,,,,,,,NA\n"
        )
        kinds = {v.name: str(v.kind) for v in table}
        self.assertEqual(
            kinds,
            {
                "whole": "number",
                "half": "number",
                "yes": "truth",
                "day": "time",
                "moment": "time",
                "word": "category",
                "code": "category",
                "long": "category",
                "mixed": "category",
                "empty": "number",
            },
        )
        self.assertEqual(present(table, "whole"), [1, -2, None])
        self.assertEqual(present(table, "half"), [0.5, -1000.0, None])
        self.assertEqual(present(table, "yes"), [True, False, None])
        self.assertEqual(present(table, "code"), ["007", "010", None])
        self.assertEqual(present(table, "long"), ["12345678901234567890", "12345678901234567891", None])
        self.assertEqual(present(table, "empty"), [None, None, None])
        self.assertEqual(present(table, "day")[1] - present(table, "day")[0], DAY)

    def test_whole_numbers_beyond_the_doubles_keep_their_digits(self) -> None:
        table = self.read("hut,stays\n9007199254740993,1\n9007199254740992,2\n9007199254740993,3\n")
        self.assertEqual(present(table, "hut"), [9007199254740993, 9007199254740992, 9007199254740993])
        with self.assertRaisesRegex(fa.DataError, "beyond 2\\*\\*53"):
            fa.Plan("stays", {"hut": "hut"}).build(table)
        made = fa.Plan("stays", {"hut": "hut"}, variables={"hut": {"kind": "category"}}).build(table)
        self.assertEqual(made.names, ["intercept", "hut_9007199254740993"])
        self.assertEqual(made.X[:, 1].tolist(), [1.0, 0.0, 1.0])
        for text in (
            "lookup(hut, {9007199254740993: 1}, 0)",
            "lookup(hut, {9007199254740992: 'no'}, 'yes') == 'yes'",
            "category(hut, reference=9007199254740992)",
            "category(hut, order=[9007199254740992, 9007199254740993])",
            "category(regroup(hut, {'a': [9007199254740993]}, rest='b'), reference='b')",
        ):
            made = fa.Plan("stays", {"t": text}, variables={"hut": {"kind": "category"}}).build(table)
            self.assertEqual(made.X[:, 1].tolist(), [1.0, 0.0, 1.0], text)
            self.assertEqual(made.plan.build(table).X.tobytes(), made.X.tobytes())

    def test_missing_words_delimiters_decimals_and_encodings(self) -> None:
        plan = fa.Plan(
            "y",
            {"x": "x", "w": "w"},
            data={"missing_values": ["", "-"], "delimiter": ";", "decimal": ",", "encoding": "latin-1"},
        )
        path = self.folder / "t.csv"
        path.write_bytes("x;w;y\n1,5;café;1\n-;thé;2\n2,25;-;3\n3;thé;4\n".encode("latin-1"))
        made = plan.build(path)
        self.assertEqual(made.rows.kept.tolist(), [1, 4])
        self.assertEqual(made.X[:, 1].tolist(), [1.5, 3.0])
        self.assertEqual(made.names[-1], "w_the")

    def test_a_decimal_comma_does_not_make_numbers_of_points(self) -> None:
        table = self.read("x;y\n1.5;1,5\n2.5;2\n", delimiter=";", decimal=",")
        self.assertEqual((str(table["x"].kind), str(table["y"].kind)), ("category", "number"))

    def test_quoted_cells_newlines_tabs_and_a_byte_order_mark(self) -> None:
        table = self.read('\ufeffa,"b ""c"""\n"x, y","1"\n"two\nlines","2"\n')
        self.assertEqual(present(table, "a"), ["x, y", "two\nlines"])
        self.assertEqual(present(table, 'b "c"'), [1, 2])
        self.assertEqual(present(self.read("a\tb\n1\t2\n", "t.tsv"), "b"), [2])

    @given(
        st.lists(
            st.one_of(st.none(), st.floats(allow_nan=False, allow_infinity=False), st.integers(-(2**53), 2**53)),
            min_size=1,
            max_size=20,
        )
    )
    @settings(max_examples=50, deadline=None)
    def test_numbers_survive_their_text(self, values: list[float | int | None]) -> None:
        text = "x,y\n" + "".join(f"{'' if v is None else repr(v)},1\n" for v in values)
        found = present(self.read(text), "x")
        for got, value in zip(found, values, strict=True):
            self.assertTrue(got is None if value is None else float(got) == float(value))

    def test_files_that_are_no_tables(self) -> None:
        for content, name, said in (
            ("", "t.csv", "is empty"),
            ("a,a\n1,2\n", "t.csv", "two columns of one name: 'a'"),
            ("a,b\n1,2\n3\n", "t.csv", "t.csv, line 3 has 1 cell, and the line of the names has 2"),
            (
                "a,b\n1,2,3\n3,4\n1\n",
                "t.csv",
                "line 2 has 3 cells, and the line of the names has 2; 1 further line differs",
            ),
            ('a,b\n"x,1\ny,2\n"z",3\n', "t.csv", "line 4: a quote stands within a cell, which the quote in line 2"),
            ('a,b\n1,2\n"x,3\n', "t.csv", "line 3: a quote is opened here and never closed"),
            ('a,b\n1,5" pipe\n', "t.csv", "line 2: a quote stands within a cell"),
            ("a,\n1,2\n", "t.csv", "column 2 has no name"),
            ("a,b\n1,2\n3,\x004\n", "t.csv", "line 3 holds a NUL"),
            ("a;b;c\n1,5;2;3\n", "t.csv", "the line of its names has ';' 2 times"),
            (b"\x00\x01\x02\x00PNG", "t.csv", "is not a text file"),
            ("a,b\n1,2\n", "t.parquet", "cannot be read"),
            ("a,b\n1,2\n", "t.arrow", "cannot be read"),
            ("a,b\n1,2\n", "t.xyz", "an ending that is not known"),
            ("a\ncafé\n".encode("latin-1"), "t.csv", "line 2: the bytes are not valid utf-8"),
        ):
            with self.subTest(said, name=name), self.assertRaises(fa.DataError) as caught:
                self.read(content, name)
            self.assertIn(said, str(caught.exception))
        self.assertEqual(list(self.read('"a,b,c"\n1\n2\n').variables), ["a,b,c"])
        with self.assertRaisesRegex(fa.DataError, "none.csv is not found"):
            fa.read(self.folder / "none.csv")
        with self.assertRaisesRegex(fa.DataError, "t.parquet cannot be read: Parquet magic bytes not found"):
            fa.read(self.folder)
        with self.assertRaisesRegex(fa.DataError, "has no rows"):
            fa.Plan(None, {"a": "a"}).build(self.read("a,b\n"))

    def test_a_truncated_parquet_file(self) -> None:
        path = self.folder / "t.parquet"
        parquet.write_table(pa.table({"a": list(range(10_000))}), path)
        path.write_bytes(path.read_bytes()[:-500])
        with self.assertRaisesRegex(fa.DataError, "t.parquet cannot be read"):
            fa.read(path)

    def test_the_same_table_from_every_format(self) -> None:
        frame = pd.DataFrame(
            {
                "way": ["road", None, "trail", "road"],
                "price": [1.5, 2.5, None, 4.0],
                "open": [True, False, True, True],
                "beds": [1, 2, 3, 4],
            }
        )
        arrow = pa.Table.from_pandas(frame)
        parquet.write_table(arrow, self.folder / "t.parquet")
        feather.write_feather(arrow, str(self.folder / "t.feather"))
        frame.to_csv(self.folder / "t.csv", index=False)
        plan = fa.Plan("beds", {"way": "way", "price": "price", "open": "open"}, rows={"missing": "keep"})
        wanted = plan.build(frame)
        for name in ("t.parquet", "t.feather", "t.csv"):
            found = plan.build(self.folder / name)
            np.testing.assert_array_equal(found.X, wanted.X)
            self.assertEqual(found.names, wanted.names)


class Memory(unittest.TestCase):
    def test_kinds_of_arrow_columns(self) -> None:
        table = Table.of(
            pa.table(
                {
                    "small": pa.array([1, None, 3], pa.int8()),
                    "unsigned": pa.array([1, 2, 3], pa.uint32()),
                    "float": pa.array([1.5, float("nan"), None], pa.float32()),
                    "decimal": pa.array([1, 2, None], pa.decimal128(10, 2)),
                    "truth": pa.array([True, None, False]),
                    "text": pa.array(["a", None, "b"], pa.large_string()),
                    "date": pa.array([datetime.date(2023, 1, 1), None, datetime.date(2023, 1, 2)]),
                    "zone": pa.array([0, 1, 2], pa.timestamp("s", tz="Europe/Vienna")),
                    "nothing": pa.nulls(3),
                    "ordered": pa.DictionaryArray.from_arrays([1, None, 0], ["low", "high"], ordered=True),
                    "twice": pa.DictionaryArray.from_arrays([0, 1, 2], ["a", "b", "a"]),
                    "hole": pa.DictionaryArray.from_arrays([0, 1, 0], ["a", None]),
                }
            )
        )
        kinds = {
            "small": "number", "unsigned": "number", "float": "number", "decimal": "number", "truth": "truth",
            "text": "category", "date": "time", "zone": "time", "nothing": "number", "ordered": "ordered",
            "twice": "category", "hole": "category",
        }  # fmt: skip
        self.assertEqual({v.name: str(v.kind) for v in table}, kinds)
        self.assertEqual(present(table, "small"), [1, None, 3])
        self.assertEqual(present(table, "float"), [1.5, None, None])
        self.assertEqual(present(table, "ordered"), ["high", None, "low"])
        self.assertEqual(table["ordered"].labels, ("low", "high"))
        self.assertEqual(present(table, "twice"), ["a", "b", "a"])
        self.assertEqual(present(table, "hole"), ["a", None, "a"])
        self.assertEqual(present(table, "date")[2], present(table, "date")[0] + DAY)

    def test_an_ordered_category_of_pandas_keeps_its_order(self) -> None:
        kind = pd.CategoricalDtype(["poor", "fair", "good"], ordered=True)
        frame = pd.DataFrame({"c": pd.Series(["good", "poor", "fair", "good"], dtype=kind), "y": [1, 2, 3, 4]})
        made = fa.Plan("y", {"better": "c > 'poor'", "c": "category(c, coding='score')"}).build(frame)
        self.assertEqual(made.X[:, 1].tolist(), [1, 0, 1, 1])
        self.assertEqual(made.X[:, 2].tolist(), [3, 1, 2, 3])
        self.assertEqual(made.plan.spec.variables["c"].order, ["poor", "fair", "good"])
        again = made.plan.build(pd.DataFrame({"c": ["fair"], "y": [1]}))
        self.assertEqual(again.X[0].tolist(), [1, 1, 2])

    def test_without_pandas_it_is_said_what_to_install(self) -> None:
        with unittest.mock.patch.dict("sys.modules", pandas=None):
            for table in (Table.of({"a": [1]}), fa.Plan("y", "a").build({"a": [1, 2], "y": [1, 2]})):
                with self.assertRaisesRegex(fa.DataError, "pandas is not installed(.|\\n)*to_arrow"):
                    table.to_pandas()

    def test_the_index_of_a_frame_is_no_variable(self) -> None:
        frame = pd.DataFrame({"a": [1.0, 2.0, 4.0]}, index=["x", "y", "z"])
        self.assertEqual(list(Table.of(frame).variables), ["a"])

    def test_things_that_are_no_tables(self) -> None:
        for given_table, said in (
            ([1, 2, 3], "a list is not a table"),
            ({"a": [1, "x"]}, "'a' cannot be read"),
            ({"a": [[1], [2]]}, "cannot be part of a regression"),
            ({"a": 5}, "'a' cannot be read"),
            ({"a": [2**70]}, "'a' cannot be read"),
            ({"a": np.ones(2) * 1j}, "'a' cannot be read"),
            ({"a": "abc"}, "'a' is one text, not a column"),
            ({"a": np.ones((2, 2))}, "an array of 2 dimensions"),
            ({"a": np.array([1, 9**6, 9**5], "datetime64[Y]")}, "dates outside the calendar(.|\n)*Rows 2, 3"),
            (pa.table({"a": pa.array([10**7], pa.date32())}), "dates outside the calendar(.|\n)*Row 1"),
            (pa.table({"a": pa.array([0], pa.timestamp("s", "Mars/Base"))}), "time zone 'Mars/Base'"),
            ({1: [1], "1": [2]}, "two columns have one name: 1"),
            (pd.DataFrame([[1, 2]], columns=["a", "a"]), "two columns have one name: a"),
            (pa.Table.from_arrays([pa.array([1]), pa.array([2])], ["a", "a"]), "two columns have one name: a"),
        ):
            with self.subTest(said), self.assertRaisesRegex(fa.DataError, said):
                Table.of(given_table)

    def test_names_that_are_numbers_and_long_whole_decimals(self) -> None:
        with warnings.catch_warnings(action="error"):
            frame = Table.of(pd.DataFrame([[1, 2]], columns=["a", 3]))
        self.assertEqual(list(frame.variables), ["a", "3"])
        ids = Table.of({"a": [decimal.Decimal(10**17 + at) for at in (1, 2)], "y": [1, 2]})
        made = fa.Plan("y", "category(a)", variables={"a": {"kind": "category"}}).build(ids)
        self.assertEqual(made.names, ["intercept", "category_a_100000000000000002"])

    def test_any_names_and_labels_work(self) -> None:
        names = ["snow depth", "if", "größe", "a.b", "=1+1", "q\"uo'te", "日本", "x\ny", "missing", "category"]
        table: dict[str, Any] = {name: ["=A1", "-b", "+c", "@d", "日本", 'q"', "new\nline"] for name in names}
        table["y"] = list(range(7))
        texts = {f"t{at}": str(fa.terms.category(fa.terms.variable(name), limit=9)) for at, name in enumerate(names)}
        table = {name: values * 2 for name, values in table.items()}
        made = fa.Plan("y", texts).build(table)
        self.assertEqual(made.X.shape, (14, 1 + 6 * len(names)))
        self.assertEqual(fa.Plan.from_text(str(made.plan)), made.plan)
        self.assertEqual(made.plan.build(table).X.tobytes(), made.X.tobytes())
        self.assertTrue(made.verify(table).ok)


class Declarations(unittest.TestCase):
    def kind(self, values: list[Any], **declared: Any) -> Table:
        return declare(Table.of({"v": values}), {"v": Declaration(**declared)})

    def test_kinds_as_declared(self) -> None:
        self.assertEqual(present(self.kind([3, 1, None, 3], kind="category"), "v"), [3, 1, None, 3])
        self.assertEqual(present(self.kind(["1.5", None, "2"], kind="number"), "v"), [1.5, None, 2.0])
        self.assertEqual(present(self.kind(["yes", "No", None], kind="truth"), "v"), [True, False, None])
        self.assertEqual(present(self.kind([1, 0, None], kind="truth"), "v"), [True, False, None])
        self.assertEqual(present(self.kind([True, False], kind="number"), "v"), [1.0, 0.0])
        self.assertTrue(self.kind([1, 2], kind="id")["v"].identity)
        quarter, month = (present(self.kind([text, None], kind="time"), "v") for text in ("2023Q2", "2023-04"))
        self.assertEqual(quarter, month)
        years = self.kind([2022, 2023], kind="time")
        self.assertEqual(present(years, "v")[1] - present(years, "v")[0], 365 * DAY)

    def test_kinds_that_do_not_fit(self) -> None:
        dates = np.array(["2020-01-01", "2020-01-02"], "datetime64[D]")
        for values, declared, said in (
            (dates, {"kind": "category"}, 'part(.., "month")'),
            (dates, {"kind": "number"}, "trend() or periods_since()"),
            (["a", "b"], {"kind": "ordered"}, "the ordered variable 'v' needs its order"),
            ([True, False], {"kind": "time"}, "A time is a date"),
            (["a", "b"], {"kind": "truth"}, "'v'"),
            ([1, 2], {"kind": "truth"}, "'v'"),
        ):
            with self.subTest(str(declared)), self.assertRaises(fa.DataError) as caught:
                self.kind(values, **declared)
            self.assertIn(said, str(caught.exception))
        self.assertEqual(
            self.kind(dates, kind="time")["v"].data.tolist(), dates.astype("datetime64[us]").astype(int).tolist()
        )
        self.assertEqual(self.kind([0.5, None], kind="number")["v"].data[0], 0.5)

    def test_labels_and_orders(self) -> None:
        found = self.kind([0, 1, None, 1], labels={"0": "no", "1": "yes"})
        self.assertEqual(present(found, "v"), ["no", "yes", None, "yes"])
        self.assertEqual(present(self.kind([True, False], labels={"true": "on", "false": "off"}), "v"), ["on", "off"])
        merged = self.kind([1, 2, 3], labels={"1": "low", "2": "low", "3": "high"})
        self.assertEqual(present(merged, "v"), ["low", "low", "high"])
        ordered = self.kind(["b", "a"], kind="ordered", order=["b", "a", "c"])
        self.assertEqual((ordered["v"].kind, ordered["v"].labels), (Kind.ORDERED, ("b", "a", "c")))
        numbered = self.kind([2, 1, None], order=[1, 2])
        self.assertEqual(present(numbered, "v"), [2, 1, None])
        both = self.kind([2, 1], labels={"1": "low", "2": "high"}, order=["low", "high"])
        self.assertEqual(present(both, "v"), ["high", "low"])

    def test_a_plan_with_labels_builds_again_from_its_resolved_form(self) -> None:
        table = {"pass": [0, 1, 1, 0], "mark": [1, 3, 2, 2], "y": [1.0, 2.0, 4.0, 3.0]}
        variables = {
            "pass": {"labels": {"0": "no", "1": "yes"}},
            "mark": {"labels": {"1": "low", "2": "mid", "3": "top"}, "order": ["low", "mid", "top"]},
        }
        made = fa.Plan("y", {"pass": "variable('pass')", "mark": "score(mark)"}, variables=variables).build(table)
        again = fa.Plan.from_text(str(made.plan)).build({"pass": [1], "mark": [3]})
        self.assertEqual(made.names, ["intercept", "pass_yes", "mark"])
        self.assertEqual(again.X.tolist(), [[1.0, 1.0, 3.0]])

    def test_labels_are_sorted_as_numbers_where_they_are(self) -> None:
        self.assertEqual(sorted_labels([10, 9, 2.5, "b", "a", "10"]), [2.5, 9, 10, "10", "a", "b"])
        made = fa.Plan(None, {"f": "category(f)"}).build({"f": [10, 9, 2, 10, 9, -1]})
        self.assertEqual(made.names, ["intercept", "f_2", "f_9", "f_10"])

    def test_every_period_is_followed_by_the_next(self) -> None:
        chains = {
            "year": ["2023", "2024", "2025"],
            "quarter": ["2023Q3", "2023-Q4", "2024Q1"],
            "month": ["2023-11", "2023-12", "2024-01"],
            "week": ["2020-W52", "2020-W53", "2021-W01"],
            "day": ["2024-02-28", "2024-02-29", "2024-03-01"],
            "hour": ["2023-12-31 22", "2023-12-31T23", "2024-01-01 00"],
            "second": ["2023-12-31T23:58", "2023-12-31T23:59", "2024-01-01T00:00"],
        }
        for step, texts in chains.items():
            periods = [period_of(text) for text in texts]
            for one, following in itertools.pairwise(periods):
                assert one is not None
                assert following is not None
                self.assertEqual((one.step, one.end), (step, following.start))
        for wrong in ("2023-13", "2023-02-30", "2023Q5", "2021-W53", "17.04.2023", "04/05/2023", "2023-1", ""):
            self.assertIsNone(period_of(wrong), wrong)


class Storage(unittest.TestCase):
    def test_numbers_stay_in_their_own_type_until_they_are_read(self) -> None:
        data = np.arange(10, dtype=np.int32)
        variable = Table.of({"x": data})["x"]
        self.assertIs(variable.data, data)
        values = variable.at(2, 8, np.array([0, 3]))
        self.assertEqual(values.data.tolist(), [2.0, 5.0])
        self.assertEqual(values.data.dtype, np.float64)

    def test_float32_is_read_exactly(self) -> None:
        data = np.array([0.1, 2.5, np.nan], dtype=np.float32)
        made = fa.Plan(None, {"x": "x"}, rows={"missing": "keep"}).build({"x": data})
        self.assertEqual(made.X[0, 1], float(np.float32(0.1)))
        self.assertTrue(math.isnan(made.X[2, 1]))
