"""Corners that a small wrong change would go through: each against a value worked out by hand."""

from __future__ import annotations

import unittest
from decimal import Decimal
from itertools import pairwise
from typing import Any

import numpy as np
import pyarrow as pa

import facturum as fa
from facturum.data.table import Table
from facturum.data.time.calendar import moment_of
from facturum.data.values import Kind, label_text
from tests.promises import watched
from tests.support import Folder

MONTHS = ["2023-01", "2023-02", "2023-03", "2023-04"]
CLOCK = {"time": "month", "every": "month", "panel": ["hut"]}
SERIES = {"s": {"time": "month", "every": "month", "take": {"r": {"how": "repeat"}}}}
RATES = {"month": ["2022-12", *MONTHS], "r": [1.0, 2.0, 3.0, 4.0, 5.0]}
HUTS = {
    "month": MONTHS * 2,
    "hut": list("aaaabbbb"),
    "x": [float(at) for at in range(8)],
    "y": [3.0, 1.0, 2.0, 5.0] * 2,
}


def column(table: Any, text: str, **sections: Any) -> list[float | None]:
    """Return a term's only column, None where it is missing."""
    options = {key: sections.pop(key) for key in ("history", "tables") if key in sections}
    sections["rows"] = {"missing": "keep"} | sections.get("rows", {})
    made = fa.Plan(None, {"t": text}, intercept=False, **sections)
    built = made.build(table, history=options.get("history"), series=options.get("tables"))
    return [None if np.isnan(value) else float(value) for value in built.X[:, 0]]


class Rows(unittest.TestCase):
    def test_powers_of_numbers_in_tiny_units_have_a_map(self) -> None:
        """The slope of their slope exceeds double precision, and is not told."""
        table = {"x": np.array([1.0, 2, 3, 5, 7, 9]) * 1e-200, "y": [1.0, 2, 4, 3, 6, 5]}
        for text in ("polynomial(x, 2)", "square(x)", "polynomial(x, 3, center=True)"):
            made = fa.Plan("y", {"p": text}).build(table)
            self.assertTrue(all(entry.reading for entry in made.columns.columns), text)

    def test_what_is_mixed_of_a_series_and_the_table_runs_along_the_table(self) -> None:
        options = {"data": CLOCK, "series": SERIES, "tables": {"s": RATES}}
        self.assertEqual(column(HUTS, "lag(s_r, 1)", **options), [1.0, 2.0, 3.0, 4.0] * 2)
        mixed = [None, 2.0, 4.0, 6.0, None, 6.0, 8.0, 10.0]
        self.assertEqual(column(HUTS, "lag(s_r + x, 1)", **options), mixed)
        self.assertEqual(column(HUTS, "lag(q, 1)", derived={"q": "x + s_r"}, **options), mixed)
        self.assertEqual(column(HUTS, "lag(q, 1)", derived={"q": "2 * s_r"}, **options), [2.0, 4.0, 6.0, 8.0] * 2)

    def test_rows_of_categories_not_learned_are_left_out_and_counted(self) -> None:
        table = {"way": list("abcab"), "x": [1.0, 2.0, None, 4.0, 5.0], "use": [True, True, False, True, True]}
        terms = {"w": "category(way, unseen='missing')", "x": "x"}
        made = fa.Plan(None, terms, rows={"learn": "use", "keep": "x > 1 or not use"}).build(table)
        self.assertEqual(made.rows.kept.tolist(), [2, 4, 5])
        self.assertEqual(made.rows.dropped.tolist(), [1, 3])  # in the order of the table, whatever the reason
        self.assertEqual([made.rows.reasons[cause][1] for cause in made.rows.causes], ["rows.keep", "terms.w"])
        other = {"way": list("abxab"), "x": [None, 2.0, 3.0, 4.0, 5.0], "use": [True, True, False, True, True]}
        found = fa.Plan(None, terms, rows={"learn": "use"}).build(other)
        self.assertEqual(found.rows.dropped.tolist(), [1, 3])
        self.assertEqual([found.rows.reasons[cause][1] for cause in found.rows.causes], ["terms.x", "terms.w"])
        self.assertEqual(found.columns.rows.learned, 3)

    def test_counts_of_the_map_are_those_of_the_matrix(self) -> None:
        table = {"x": [None, 2.0, None, 4.0], "z": [1.0, None, 3.0, 4.0], "use": [True, True, False, True]}
        made = fa.Plan(None, {"x": "impute(x, 'mean')", "z": "z"}, rows={"learn": "use"}).build(table)
        self.assertEqual(made.rows.kept.tolist(), [1, 3, 4])
        self.assertEqual((made.columns["x"].imputed, made.columns.rows.learned), (2, 2))
        self.assertEqual(made.columns["z"].missing, 1)

    def test_whole_numbers_are_labels_without_a_point_up_to_fifteen_digits(self) -> None:
        labels = [999_999_999_999_999.0, -7.0, 0.5, 1e15, True]
        wanted = ["999999999999999", "-7", "0.5", "1000000000000000.0", "true"]
        self.assertEqual([label_text(label) for label in labels], wanted)

    def test_moments_over_leaves_in_which_a_column_is_all_zero_are_those_of_the_whole(self) -> None:
        size = 65_536 + 500
        dice = np.random.default_rng(4)
        late = np.arange(size) >= 65_700
        table = {
            "g": np.where(late, "c", np.where(dice.random(size) < 0.5, "a", "b")),
            "h": dice.choice(list("xyz"), size),
        }
        table |= {"u": dice.normal(size=size), "v": dice.normal(size=size)}
        table["h"][late & (table["h"] == "z")] = "x"  # one cell never occurs
        terms = ("[u, v] * g", "g * h", "u * v * g * h", "[u, v] * g * h", "category(g, coding='helmert') * h")
        terms += ("[u, v] * g * [v, u]", "h * [u, v]")
        made = fa.Plan(None, dict(zip("klmnopq", terms, strict=True))).build(table)
        self.assertTrue(made.verify(table).ok)
        self.has_its_moments(made)

    def has_its_moments(self, made: fa.Design) -> None:
        """Compare what the map says of each column with the matrix."""
        for column in made.columns.columns:
            values = made.X[:, made.names.index(column.name)]
            wanted = (np.count_nonzero(values), values.min(), values.max())
            self.assertEqual((column.nonzero, column.min, column.max), wanted, column.name)
            np.testing.assert_allclose([column.mean, column.sd], [values.mean(), values.std(ddof=1)], atol=1e-12)

    def test_a_condition_that_is_missing_is_told_apart_from_one_that_is_false(self) -> None:
        table = {"x": [1.0, None, 3.0, None, 5.0]}
        made = fa.Plan(None, {"t": "x"}, rows={"keep": "x != 3"}).build(table)
        told = dict(
            zip(made.rows.dropped.tolist(), (made.rows.reasons[cause] for cause in made.rows.causes), strict=True)
        )
        missing, false = ("keep is missing", "rows.keep"), ("keep is false", "rows.keep")
        self.assertEqual({row: tuple(reason) for row, reason in told.items()}, {2: missing, 3: false, 4: missing})

    def test_zeros_of_a_product_are_not_counted_as_other_numbers(self) -> None:
        table = {"g": list("abcabc"), "x": [1.0, 0.0, -2.0, 3.0, 5.0, 0.0], "u": [2.0, -1.0, 0.0, 0.0, -3.0, 4.0]}
        made = fa.Plan(None, {"s": "g * x", "t": "category(g, reference='c') * u"}).build(table)
        self.has_its_moments(made)

    def test_missing_is_a_key_of_its_own(self) -> None:
        table = {"g": ["b", None, "a", "b"], "n": [1.0, 2.0, None, 1.0], "x": [1.0, 2.0, 4.0, 5.0]}
        self.assertEqual(column(table, "lookup(g, {'a': 1, missing: 7, 'b': 2}, 0)"), [2.0, 7.0, 1.0, 2.0])
        self.assertEqual(column(table, "lookup([g, n], {(missing, 2): 3, ('a', missing): 4}, 0)"), [0.0, 3.0, 4.0, 0.0])
        self.assertEqual(column(table, "codes(g, missing='category')"), [1.0, 2.0, 0.0, 1.0])
        self.assertEqual(column(table, "sd(x, by=[g])")[2], 0.0)  # a group of one
        three = {"g": ["b", None, "a", "c", None, None], "x": [1.0, 2.0, 4.0, 8.0, 6.0, None]}
        self.assertEqual(column(three, "mean(x, by=[g])"), [1.0, None, 4.0, 8.0, None, None])
        self.assertEqual(column(three, "impute(x, 'mean', by=[g])"), [1.0, 2.0, 4.0, 8.0, 6.0, 4.2])  # that of all

    def test_keys_are_found_among_others(self) -> None:
        table = {"g": ["a", "b", None, "d", "c"], "n": [1.0, 2.0, 1.0, 2.0, 9.0]}
        pairs = "{('a', 1): 5, ('b', 2): 6, ('c', 1): 7, ('d', 1): 8}"
        self.assertEqual(column(table, f"lookup([g, n], {pairs}, 0)"), [5.0, 6.0, 0.0, 0.0, 0.0])
        self.assertEqual(column(table, "lookup(n, {5.5: 5, missing: 6}, 0)"), [0.0] * 5)
        self.assertEqual(
            column(table, "lookup(g, {'a': 'low', 'b': 'high'}, 'low') == 'high'"), [0.0, 1.0, 0.0, 0.0, 0.0]
        )
        made = fa.Plan(None, {"t": "lookup(g, {'a': 'low', 'b': 'high', missing: 'none'}, missing)"}).build(
            {"g": ["a", "b", None, "d"] * 2}
        )
        self.assertEqual((made.names, made.rows.dropped.tolist()), (["intercept", "t_low", "t_none"], [4, 8]))
        self.assertEqual(made.X[:3, 1:].tolist(), [[1, 0], [0, 0], [0, 1]])

    def test_a_category_within_a_statistic_is_learned_from_the_rows_of_its_groups(self) -> None:
        table = {"way": ["trail", "trail", "trail", "road", "road"], "g": [None, None, "a", "a", "b"]}
        plan = fa.Plan(None, {"t": "mean(codes(way, order='frequency'), by=[g])"}).resolve(table)
        self.assertIn("lookup(g, {'a': 0.5, 'b': 0}", str(plan))  # the road comes first: two rows of three
        self.assertEqual(plan.build(table).rows.kept.tolist(), [3, 4, 5])

    def test_many_edges_are_closed_on_the_side_that_is_told(self) -> None:
        edges = [float(at) for at in range(150)]
        values = [*edges, -1.0, 149.5, 12.25]
        for closed, inside in (("left", lambda v, e: v >= e), ("right", lambda v, e: v > e)):
            wanted = [float(sum(inside(v, e) for e in edges)) for v in values]
            found = column(
                {"x": values}, f"codes(bins(x, edges={edges}, closed='{closed}'), order={_labels(edges, closed)})"
            )
            self.assertEqual(found, wanted)


def _labels(edges: list[float], closed: str) -> list[str]:
    first, last = ("under", "from") if closed == "left" else ("up to", "over")
    names = [f"{int(edge)}" for edge in edges]
    middle = [f"{a} to {b}" for a, b in pairwise(names)]
    return [f"{first} {names[0]}", *middle, f"{last} {names[-1]}"]


class Nothing(unittest.TestCase):
    def test_a_category_that_is_missing_in_all_rows_of_a_leaf_is_one_all_the_same(self) -> None:
        size = 6 * 10_973  # rows, a few more than a leaf has
        x, g = np.arange(float(size)), list("abc" * (size // 3))
        late = [label if at >= 65_600 else None for at, label in enumerate(g)]
        taken = Table.of({"x": x, "g": g, "h": list("ab" * (size // 2)), "c": late})
        for shape in (
            "{} == h",
            "h == {}",
            "{} in ['a', 'b']",
            "codes({}, order=['a', 'b', 'c'])",
            "lookup({}, {{'a': 1, missing: 4}}, 0)",
            "impute({}, value='b') == 'b'",
            "regroup({}, {{'q': ['a', 'b']}}, rest='z') == 'q'",
            "impute(x if x > 70 else missing, 'mean', by=[{}])",
            "score((missing if h == 'a' else {}), order=['a', 'b', 'c'])",
        ):
            wanted = column(taken, shape.format("c"))
            for conditional in (
                "(g if x >= 65600 else missing)",
                "(missing if x < 65600 else g)",
                "((h if x > 1e9 else missing) if x < 65600 else g)",
                "((missing if h == 'a' else missing) if x < 65600 else g)",
            ):
                self.assertEqual(column(taken, shape.format(conditional)), wanted, shape.format(conditional))


class Kinds(unittest.TestCase):
    def test_what_a_condition_gives_is_of_one_kind_whichever_branch_the_rows_take(self) -> None:
        size = 65_536 + 300
        table = Table.of({"x": np.arange(float(size)), "t": np.full(size, True)})
        lasts = {"(x if x >= 65600 else t)": 7, "(t if x < 65600 else x)": 7, "((missing if x < 0 else t) + 0)": 5}
        for conditional, last in lasts.items():
            text = f"lookup({conditional}, {{1: 5, 65700: 7}}, 0)"
            with watched():
                made = fa.Plan(None, {"w": text}, intercept=False).build(table)
            self.assertEqual(made.X[[0, 65_599, 65_700], 0].tolist(), [5, 5, last])


class Told(Folder):
    def test_numbers_near_the_largest_double_are_built_and_saved_or_refused_with_their_reason(self) -> None:
        table = {"h": [1e308, -1e308, 3.0, 1.7e308, 5.0, 6.0], "y": [1.0, 2.0, 3.0, 4.0, 5.0, 7.0], "g": [*"aabbab"]}
        for number, text in enumerate(
            ("h", "h / 2", "h * g", "standardize(h)", "center(h)", "bins(h, edges=[0])", "winsorize(h)", "within(h, g)",
             "impute(h, 'mean')", "asinh(h)", "log(h, shift=2e308)", "h ** 2", "mean(h, by=g)", "lag(h, 1)", "-h")
        ):  # fmt: skip
            with self.subTest(text):
                plan = fa.Plan("y", {"x": text}, data={"every": "row"})
                try:
                    design = plan.build(table)
                except fa.FacturumError:
                    continue
                design.save(self.folder / f"b{number}")
                self.assertTrue(fa.open_design(self.folder / f"b{number}").verify(table).ok)

    def test_the_second_of_three_powers_is_not_the_bend_of_a_parabola(self) -> None:
        table = {"x": [1.0, 2.0, 3.0, 5.0, 8.0], "y": [1.0, 4.0, 2.0, 3.0, 9.0]}
        three = fa.Plan("y", {"p": "polynomial(x, 3)"}).build(table).columns
        two = fa.Plan("y", {"p": "polynomial(x, 2)"}).build(table).columns
        self.assertIn("2·b·x + b[p] + 3·b[p_3]·x ** 2", three["p_2"].reading)
        self.assertIn("2·b", two["p_2"].reading)

    def test_a_changed_derived_variable_is_told(self) -> None:
        table = {"x": [1.0, 2.0, 3.0, 5.0], "y": [1.0, 4.0, 2.0, 3.0]}
        made = fa.Plan("y", {"d": "d"}, derived={"d": "x - mean(x)"}).build(table)
        outcome = made.verify({**table, "x": [1.0, 2.0, 3.0, 6.0]})
        self.assertIn("another response or derived variable", str(outcome))
        self.assertIn("The cell of x in row 4 has changed", str(outcome))

    def test_the_time_of_a_series_is_watched_too(self) -> None:
        made = fa.Plan("y", {"t": "s_r"}, data=CLOCK, series=SERIES).build(HUTS, series={"s": RATES})
        self.assertTrue(made.verify(HUTS, series={"s": RATES}).ok)
        moved = {"month": ["2022-11", *MONTHS], "r": RATES["r"]}
        self.assertIn("The cell of series.s.month in row 1", str(made.verify(HUTS, series={"s": moved})).replace(
            "The cell of month in row 1 of the series s", "The cell of series.s.month in row 1"))  # fmt: skip

    def test_offsets_from_utc_keep_their_sign(self) -> None:
        for text, minutes in (
            ("2023-04-17T09:30-05:30", -330),
            ("2023-04-17T09:30+01:00", 60),
            ("2023-04-17T09:30Z", 0),
        ):
            found = moment_of(text)
            assert found is not None
            self.assertEqual(found.offset, minutes)
        with self.assertRaisesRegex(fa.DataError, "several offsets from UTC(.|\n)*Row 2"):
            mixed = {"t": ["2023-04-17T09:30-05:30", "2023-04-17T09:30+05:30"], "x": [1.0, 2.0]}
            fa.Plan(None, "x", variables={"t": {"kind": "time"}}).build(mixed)

    def test_history_that_lacks_a_value_which_the_new_rows_have_differs(self) -> None:
        new = {name: values[2:4] for name, values in HUTS.items()}
        for cells in ([0.0, 1.0, None], [0.0, 1.0, 7.0]):
            history = {name: values[:3] for name, values in HUTS.items()} | {"x": cells}
            with self.assertRaisesRegex(fa.DataError, "'x' differs between history(.|\n)*Row 1"):
                column(new, "lag(x, 1)", data=CLOCK, history=history)
        history = {name: values[:3] for name, values in HUTS.items()}
        self.assertEqual(column(new, "lag(x, 2)", data=CLOCK, history=history), [0.0, 1.0])

    def test_whole_decimals_stay_numbers_while_they_are_whole_numbers_of_64_bits(self) -> None:
        for top, kind in ((2**53, Kind.NUMBER), (2**63 - 1, Kind.NUMBER), (2**63, Kind.CATEGORY)):
            found = Table.of(pa.table({"x": pa.array([Decimal(top), Decimal(5)], pa.decimal128(30, 0))}))["x"]
            self.assertEqual(found.kind, kind)
            if kind is Kind.NUMBER:
                self.assertEqual(found.data.tolist(), [top, 5])
            else:
                self.assertEqual(found.labels, (str(top), "5"))
