"""Operations one by one: what their options mean, on tables small enough to see."""

from __future__ import annotations

import statistics
import unittest
from itertools import product
from typing import Any

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from tests.support import huts, plan, rows_of

WAYS = ["road", "trail", "road", "boat", "trail", "road", None, "ferry"]


def columns(text: str, table: dict[str, Any], **sections: Any) -> dict[str, list[float]]:
    """Return the columns of one term called t."""
    made = fa.Plan(None, {"t": text}, intercept=False, **sections).build(table)
    return {name: made.X[:, at].tolist() for at, name in enumerate(made.names)}


class Categories(unittest.TestCase):
    def setUp(self) -> None:
        self.table = {"w": WAYS, "y": list(range(8))}

    def order(self, text: str) -> str:
        return fa.Plan(None, {"t": text}).resolve(self.table).spec.terms["t"]

    def test_orders_and_references(self) -> None:
        self.assertIn("reference='boat', order=['boat', 'ferry', 'road', 'trail']", self.order("w"))
        frequency = self.order("category(w, order='frequency')")
        self.assertIn("order=['road', 'trail', 'boat', 'ferry']", frequency)
        self.assertIn("reference='road'", frequency)
        self.assertIn("reference='trail'", self.order("category(w, reference=-1)"))
        self.assertIn("reference='ferry'", self.order("category(w, reference=1)"))
        self.assertIn("reference='road'", self.order("category(w, 'road', order=['trail', 'road', 'boat', 'ferry'])"))

    def test_a_number_as_reference_is_a_category_first_and_a_position_otherwise(self) -> None:
        table = {"f": [10, 0, 5, 10, 0, 5]}
        for reference, wanted in ((10, 10), (0, 0), (1, 5), (-1, 10)):
            resolved = fa.Plan(None, {"t": f"category(f, reference={reference})"}).resolve(table)
            self.assertIn(f"reference={wanted},", resolved.spec.terms["t"])

    def test_pooling_by_rows_and_by_share(self) -> None:
        for pool in (2, 0.2):
            found = columns(f"category(w, coding='every', pool={pool})", self.table)
            self.assertEqual(list(found), ["t_road", "t_trail", "t_other"])
            self.assertEqual(found["t_other"], [0, 0, 0, 1, 0, 0, 1])
        taken = {"w": ["other", "other", "a", "b", "other", "c"] * 2}
        self.assertEqual(list(columns("category(w, coding='every', pool=4)", taken)), ["t_other", "t_other_2"])

    def test_missing_as_a_category_stands_last_and_is_never_missing(self) -> None:
        found = columns("category(w, missing='category', coding='every')", self.table)
        self.assertEqual(list(found)[-1], "t_missing")
        self.assertEqual(found["t_missing"], [0, 0, 0, 0, 0, 0, 1, 0])
        self.assertEqual(sum(map(sum, found.values())), 8)
        both = columns("category(w, missing='category', coding='every', pool=2)", self.table)
        self.assertEqual(list(both), ["t_road", "t_trail", "t_missing", "t_other"])

    def test_codes_and_scores_count_places(self) -> None:
        table = {"c": ["good", "poor", "fair", None, "good"]}
        variables = {"c": {"kind": "ordered", "order": ["poor", "fair", "good"]}}
        self.assertEqual(columns("codes(c)", table, variables=variables)["t"], [2, 0, 1, 2])
        self.assertEqual(columns("score(c)", table, variables=variables)["t"], [3, 1, 2, 3])
        self.assertEqual(columns("score(c, order=['good', 'fair', 'poor'])", table)["t"], [1, 3, 2, 1])
        self.assertEqual(columns("codes(c)", table)["t"], [1, 2, 0, 1])

    def test_ordered_categories_of_one_order_are_compared_by_their_places(self) -> None:
        order = ["poor", "fair", "good"]
        table = {"a": ["good", "poor", None, "fair"], "b": ["fair", "good", "fair", "fair"]}
        variables = {name: {"kind": "ordered", "order": order} for name in table}
        for operator, wanted in ((">", [1, 0, None, 0]), (">=", [1, 0, None, 1]), ("<", [0, 1, None, 0])):
            made = fa.Plan(
                None, {"t": f"a {operator} b"}, intercept=False, variables=variables, rows={"missing": "keep"}
            )
            np.testing.assert_array_equal(made.build(table).X[:, 0], np.array(wanted, dtype=float))

    def test_categories_of_the_first_and_the_last_of_many_leaves_are_learned(self) -> None:
        size = 65_536 * 9  # more leaves than a quick look takes together
        codes = np.full(size, 1)
        codes[[0, 70_000, size - 1]] = 0, 2, 3
        table = pa.table({"c": pa.DictionaryArray.from_arrays(pa.array(codes, pa.int8()), pa.array(list("abcd")))})
        made = fa.Plan(None, {"c": "category(c, coding='every')"}, intercept=False).build(table)
        self.assertEqual(made.names, ["c_a", "c_b", "c_c", "c_d"])
        self.assertEqual(made.X.sum(axis=0).tolist(), [1, size - 3, 1, 1])

    def test_an_ordered_variable_keeps_only_the_categories_that_are_there(self) -> None:
        variables = {"c": {"kind": "ordered", "order": ["none", "poor", "fair", "good"]}}
        found = columns("c", {"c": ["good", "poor", "fair", "poor"]}, variables=variables)
        self.assertEqual(list(found), ["t_fair", "t_good"])

    def test_truth_values_and_numbers_as_categories(self) -> None:
        found = columns("category(b)", {"b": [True, False, None, True]})
        self.assertEqual(found, {"t_true": [1, 0, 1]})
        found = columns("category(f, reference=2)", {"f": [2.0, -1.5, 2.0, 7.0, None, 7.0]})
        self.assertEqual(found, {"t_minus_1_5": [0, 1, 0, 0, 0], "t_7": [0, 0, 0, 1, 1]})

    def test_categories_stand_in_their_order_or_by_their_number(self) -> None:
        table = {"w": ["b", "c", "c", "c", "a", "a"]}
        for order, wanted in (("sorted", ["t_b", "t_c"]), ("frequency", ["t_a", "t_b"])):
            self.assertEqual(list(columns(f"category(w, order='{order}')", table)), wanted)

    def test_groups_by_several_variables_are_found_whatever_their_sizes(self) -> None:
        for sizes in ((2, 3), (3, 2), (3, 3, 5), (1, 4), (4, 1, 1, 2)):
            keys = list(product(*(range(size) for size in sizes)))
            by = [f"k{at}" for at in range(len(sizes))]
            table = {name: [f"c{key[at]}" for key in keys] for at, name in enumerate(by)}
            table["x"] = [float(at * at) for at in range(len(keys))]
            self.assertEqual(columns(f"mean(x, by=[{', '.join(by)}])", table), {"t": table["x"]})

    def test_a_thousand_categories_are_the_most_without_a_limit_of_their_own(self) -> None:
        self.assertEqual(len(columns("category(w)", {"w": [f"w{at}" for at in range(1000)] * 2})), 999)
        with self.assertRaisesRegex(fa.DataError, "limit=1000"):
            columns("category(w)", {"w": [f"w{at}" for at in range(1001)] * 2})

    def test_a_chain_of_comparisons_asks_for_what_decides_it(self) -> None:
        table = {"w": ["a", None, "b", "c", "c"], "x": [None, 2.0, None, None, 9.0]}
        self.assertEqual(columns("0 < codes(w) < x", table), {"t": [0, 1]})  # what is false remains so

    def test_ranges_hold_both_of_their_ends(self) -> None:
        table = {"n": [float(at) for at in range(11)] + [2.5]}
        found = columns("regroup(n, {'low': ['1..2'], 'high': ['4..6', 9]}, rest='none')", table)
        self.assertEqual(found["t_low"], [0, 1, 1] + [0] * 9)
        self.assertEqual(found["t_none"], [1, 0, 0, 1, 0, 0, 0, 1, 1, 0, 1, 1])  # high is the reference
        found = columns("regroup(c, {'low': ['1..2'], 'high': ['3']}) == 'low'", {"c": ["1", "2", "3", "3"]})
        self.assertEqual(found, {"t": [1, 1, 0, 0]})
        for ends in ("4..5", "5..5.5", "5..5"):
            found = columns(f"regroup(n, {{'in': [{ends!r}]}}, rest='out') == 'in'", {"n": [1.0, 5.0, 9.0]})
            self.assertEqual(found, {"t": [0, 1, 0]}, ends)

    def test_whole_numbers_as_categories_are_written_without_a_point(self) -> None:
        made = fa.Plan(None, {"t": "category(x)"}).resolve({"x": [3.0, 1.0, 2.5, 3.0]})
        self.assertIn("category(x, reference=1, order=[1, 2.5, 3])", str(made))

    def test_regrouping_texts_and_numbers(self) -> None:
        found = columns("category(regroup(w, {'foot': ['trail'], 'water': ['boat', 'ferry']}), 'road')", self.table)
        self.assertEqual(found, {"t_foot": [0, 1, 0, 0, 1, 0, 0], "t_water": [0, 0, 0, 1, 0, 0, 1]})
        found = columns("category(regroup(w, {'foot': ['trail']}, rest='else'), 'else')", self.table)
        self.assertEqual(found, {"t_foot": [0, 1, 0, 0, 1, 0, 0]})
        found = columns("regroup(f, {'low': [1, 2]}, rest='high') == 'low'", {"f": [1, 2, 3, None, 9]})
        self.assertEqual(found["t"], [1, 1, 0, 0])
        found = columns("regroup(w, {'unknown': [missing]}) == 'unknown'", self.table)
        self.assertEqual(found["t"], [0, 0, 0, 0, 0, 0, 1, 0])

    def test_a_saturated_interaction_has_a_column_for_each_cell(self) -> None:
        table = huts(400, seed=60, missing=0)
        made = plan({"t": "category(access, coding='every') * category(valley, coding='every')"}, None).build(table)
        cells = made.X[:, 1:]
        self.assertTrue((cells.sum(axis=1) == 1).all())
        pairs = [f"{row['access']} {row['valley']}".lower().replace(" ", "_") for row in rows_of(table)]
        for at, name in enumerate(made.names[1:]):
            self.assertEqual(cells[:, at].sum(), pairs.count(name.removeprefix("t_")))


class Statistics(unittest.TestCase):
    @given(st.integers(0, 1000), st.sampled_from(["mean", "median", "sd", "smallest", "largest"]), st.booleans())
    @settings(max_examples=40, deadline=None)
    def test_statistics_agree_with_the_standard_library(self, seed: int, name: str, grouped: bool) -> None:
        table = huts(80, seed=seed, missing=0.2)
        plain = {
            "mean": statistics.fmean,
            "median": statistics.median,
            "sd": lambda values: statistics.stdev(values) if len(values) > 1 else 0.0,
            "smallest": min,
            "largest": max,
        }[name]
        text = f"{name}(change, by=[valley, open])" if grouped else f"{name}(change)"
        made = plan({"t": text, "y": "stays"}, None, rows={"missing": "keep"}).build(table)
        groups: dict[Any, list[float]] = {}
        for row in rows_of(table):
            key = (row["valley"], row["open"]) if grouped else ()
            if row["change"] is not None and None not in key:
                groups.setdefault(key, []).append(row["change"])
        for value, row in zip(made.X[:, 1], rows_of(table), strict=True):
            key = (row["valley"], row["open"]) if grouped else ()
            if key in groups:
                self.assertAlmostEqual(value, plain(groups[key]), places=9)
            else:
                self.assertTrue(np.isnan(value))

    def test_quantiles_in_groups(self) -> None:
        table = {"g": ["a"] * 5 + ["b"] * 4, "x": [1.0, 2, 3, 4, 5, 10, 20, 30, 40]}
        found = columns("quantile(x, 0.25, by=[g])", table)["t"]
        self.assertEqual(found, [2.0] * 5 + [17.5] * 4)


class BlocksAndSelectors(unittest.TestCase):
    def test_selectors_pass_over_what_is_no_predictor(self) -> None:
        table = huts(50, seed=61, missing=0) | {"code": list(range(50)), "q_1": [1.0] * 25 + [2.0] * 25}
        variables = {"comfort": {"kind": "ordered", "order": ["poor", "fair", "good"]}, "code": {"kind": "id"}}
        data = {"time": "month", "carry": ["floor"], "panel": ["valley"]}
        made = fa.Plan(
            "log(rate)",
            {"n": "every_number(but=['q_*'])", "c": "every_category()", "t": "every_truth()", "m": "matching('q_?')"},
            derived={"rate": "stays / beds"},
            variables=variables,
            data=data,
        ).resolve(table)
        self.assertEqual(made.spec.terms["n"], "[price, change]")
        self.assertEqual(
            made.spec.columns["c"],
            [f"c_access_{w}" for w in ("cable_car", "road", "trail")] + ["c_comfort_fair", "c_comfort_good"],
        )
        self.assertEqual((made.spec.terms["t"], made.spec.terms["m"]), ("[open]", "[q_1]"))

    def test_a_condition_is_resolved_to_the_variables_that_a_selector_chose(self) -> None:
        table = {"a": [True, False, True], "b": [False, False, True], "x": [1.0, 2.0, 4.0]}
        made = fa.Plan(None, {"x": "x"}, rows={"keep": "count_of(every_truth()) > 0", "learn": "a"}).build(table)
        self.assertEqual(made.rows.kept.tolist(), [1, 3])
        self.assertIn('keep = "count_of(a, b) > 0"\nlearn = "a"', str(made.plan))

    def test_lists_are_taken_through_operations(self) -> None:
        table = {"a": [1.0, 2.0, 4.0], "b": [3.0, 5.0, 9.0]}
        found = columns("log([a, b] / 2) * 3", table)
        self.assertEqual(list(found), ["t_a", "t_b"])
        np.testing.assert_array_equal(found["t_b"], np.log(np.array(table["b"]) / 2) * 3)
        found = columns("[a, b] >= 4", table)
        self.assertEqual(found, {"t_a": [0, 0, 1], "t_b": [0, 1, 1]})
        found = columns("[a, b] * [a, b]", table)
        self.assertEqual(list(found), ["t_a_a", "t_a_b", "t_b_a", "t_b_b"])
        self.assertEqual(found["t_a_b"], [3, 10, 36])
        self.assertEqual(columns("-[a, 10 - b]", table)["t_b"], [-7, -5, -1])
        self.assertEqual(columns("10 - [a, b]", table), {"t_a": [9, 8, 6], "t_b": [7, 5, 1]})
        self.assertEqual(columns("a ** [1, 2]", table), {"t_a_1": [1, 2, 4], "t_a_2": [1, 4, 16]})
        self.assertEqual(columns("mean_of([a, [b, 2 * a]], 3)", table)["t"], [9 / 4, 14 / 4, 24 / 4])

    def test_derived_variables_in_any_order(self) -> None:
        table = {"a": [1.0, 2.0, 4.0], "g": ["x", "y", "x"]}
        made = fa.Plan(
            None,
            {"t": "top - mean(top)", "kind": "kind"},
            derived={"top": "half + 1", "half": "a / 2", "kind": "'big' if a > 1.5 else 'small'"},
        ).build(table)
        mean = (1.5 + 2 + 3) / 3
        np.testing.assert_allclose(made.X[:, 1], [1.5 - mean, 2 - mean, 3 - mean])
        self.assertEqual(made.X[:, 2].tolist(), [1, 0, 0])
        self.assertEqual([d.name for d in made.columns.definitions], ["half", "top", "kind"])
        self.assertEqual(made.columns["kind_small"].sources, ["a"])

    def test_the_intercept_may_be_left_out(self) -> None:
        self.assertEqual(list(columns("a", {"a": [1.0, 2.0]})), ["t"])
        self.assertEqual(fa.Plan(None, {"a": "a"}).build({"a": [1.0, 2.0]}).X[:, 0].tolist(), [1, 1])
