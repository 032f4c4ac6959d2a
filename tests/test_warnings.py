"""Each warning where it is deserved, and none where it is not."""

from __future__ import annotations

import re
import unittest
import warnings
from typing import Any

import numpy as np

import facturum as fa
from tests.support import PANEL_DATA, ROOT, VARIABLES, huts, panel

ROWS = 120


def table(**changes: Any) -> dict[str, list[Any]]:
    """Return a table that nothing is to be warned of, with some variables changed."""
    dice = np.random.default_rng(5)
    made: dict[str, list[Any]] = {
        "y": dice.normal(10, 2, ROWS).tolist(),
        "x": dice.uniform(1, 9, ROWS).tolist(),
        "z": dice.normal(0, 1, ROWS).tolist(),
        "kind": dice.choice(["a", "b", "c"], ROWS).tolist(),
    }
    return {**made, **changes}


X = table()["x"]
GAPPED = [None if at % 5 == 0 else x for at, x in enumerate(X)]
NEARLY_Y = [y + 0.02 * z for y, z in zip(table()["y"], table()["z"], strict=True)]
HIGH_WHERE_MISSING = [y + 9 * (at % 5 == 0) for at, y in enumerate(table()["y"])]
# a name, terms or a whole plan, a table, what is said; then the same without its cause, of which nothing is said
CASES: list[tuple[str, Any, dict[str, Any], str]] = [
    ("a constant", {"x": "x", "w": "w"}, table(w=[3] * ROWS), "w is 3 in every row of the matrix: it is collinear"),
    ("zeros", {"x": "x", "w": "z > 99"}, table(), "w is 0 in every row of the matrix: no row is different"),
    ("a constant response", {"x": "x"}, table(y=[2.0] * ROWS), "the response is 2 in every row of the matrix"),
    ("no intercept", {"terms": {"w": "w"}, "intercept": False}, table(w=[3] * ROWS), "takes the place of an intercept"),
    ("every category", {"k": "category(kind, coding='every')"}, table(), "columns of k add up to the intercept. Write"),
    ("few rows", {"x": "x", "z": "z"}, {k: v[:3] for k, v in table().items()}, "there are 3 columns for 3 rows"),
    ("a lone interaction", {"kx": "kind * x", "x": "x"}, table(), "kx is an interaction of kind, whose main effect is"),
    ("a spare variable", {"terms": {"x": "x"}, "derived": {"w": "2 * x"}}, table(), "w is a derived variable that no"),
    ("an id", {"all": "every_number()"}, table(row=list(range(ROWS))), "all leaves out row: each value occurs once"),
    ("thin bins", {"b": "bins(x, edges=[1.2, 5])"}, table(x=[1.0, *[1.5 + at % 8 for at in range(ROWS - 1)]]),
     "of the rows are in the bin 'under 1.2'"),
    ("thick bins", {"b": "bins(x, edges=[8])"}, table(), "of the rows are in the one bin 'under 8'"),
    ("an empty bin", {"b": "bins(x, edges=[5, 7, 99])"}, table(), "no row is in the bin 'from 99'"),
    ("a gap", {"b": "bins(x, edges=[[1, 4], [5, 9]])"}, table(x=[4.5, 4.25, *X[2:]]), "ends at 4 and the one that"),
    ("below", {"b": "bins(x, edges=[[2, 5], [5, 9]])"}, table(), "below the first bin, which begins at 2"),
    ("above", {"b": "bins(x, edges=[[0, 5], [5, 8]])"}, table(), "above the last bin, which ends at 8"),
    ("a shared end", {"b": "bins(x, edges=[[0, 5], [5, 9]])"}, table(x=[5, *X[1:]]), "It belongs to '5 to 9' (1 row)"),
    ("an overlap", {"b": "bins(x, edges=[[0, 5], [4, 9]])"}, table(), "from 0 to 5 and from 4 to 9 overlap"),
    ("much filled", {"x": "impute(x, 'mean')", "no": "is_missing(x)"}, table(x=[*X[:60], *[None] * 60]), "50 % of the"),
    ("missing not at random", {"x": "impute(x, 'mean')"}, table(x=GAPPED, y=HIGH_WHERE_MISSING), "is_missing(x)"),
    ("a new group", {"rows": {"learn": "kind != 'c'"}, "terms": {"x": "impute(x, 'mean', by=[kind])"}}, table(x=GAPPED),
     "in groups outside the estimation sample filled with the value of all rows"),
    ("no group", {"x": "impute(x, 'mean', by=[kind])", "no": "is_missing(x)"},
     table(x=GAPPED, kind=[None if at % 10 == 0 else k for at, k in enumerate(table()["kind"])]), "group is missing"),
    ("a reversed item", {"s": "mean_of(x, w, v)"}, table(w=[10 - x for x in X], v=[x + 1 for x in X]), "reverse(w"),
    ("numbers as text", {"w": "w"}, table(w=[*[str(at % 9) for at in range(ROWS - 1)], "n.k."]), "category of 10"),
    ("a near key", {"w": "lookup(kind, {'a': 1, 'bb': 2}, 0)"}, table(), "no row has the key 'bb'"),
    ("a denominator", {"response": "y / x", "terms": {"x": "log(x)"}}, table(), "the response both read x"),
    ("short units", {"terms": {"h": "hut", "l": "lag(y, 1)"}, "data": PANEL_DATA}, panel(4, gaps=0), "is biased"),
    ("a near copy", {"c": "c"}, table(c=NEARLY_Y), "c alone explains 99.9"),
    ("kept rows", {"rows": {"missing": "keep"}, "terms": {"x": "x", "w": "w"}}, table(x=GAPPED, w=X),
     "without missing values: w is the same as x"),
    ("two references", {"k": "kind", "kz": "category(kind, reference='b') * z", "z": "z"}, table(), "a in k and b"),
    ("a spare reference", {"terms": {"x": "x"}, "variables": {"kind": {"reference": "a"}}}, table(), "is not used"),
    ("a later response", {"terms": {"x": "lead(y, 1)"}, "data": PANEL_DATA}, panel(3, gaps=0), "is not known in time"),
]  # fmt: skip


MONTHS = [f"2020-{month:02d}" for month in range(1, 13)]
QUARTERS = {"t": ["2020Q1", "2020Q2", "2020Q3", "2020Q4"], "q": [1.0, 2.0, 4.0, 3.0]}
SERIES = {
    "data": {"time": "t", "every": "month"},
    "rows": {"learn": "t < '2020-08'"},
    "terms": {"q": "s_q"},
    "series": {"s": {"time": "t", "every": "quarter", "take": {"q": {"how": "linear"}}}},
}
CONVERTED = {
    "data": {"time": "t", "every": "quarter"},
    "terms": {"x": "x"},
    "convert": {"every": "month", "take": {n: {"how": "mean", "partial": "keep"} for n in ("x", "y")}},
}


def told(terms: Any, data: dict[str, Any]) -> list[str]:
    spec = terms if "terms" in terms else {"terms": terms}
    response = spec.get("response", "y" if "y" in data else "stays")
    if response == "stays":
        spec = {**spec, "terms": {key: text.replace("y", "stays") for key, text in spec["terms"].items()}}
    return fa.Plan(**{"response": response, **spec}).build(data).columns.warnings


class Warnings(unittest.TestCase):
    def test_each_is_said_where_it_is_deserved_and_alone(self) -> None:
        for name, terms, data, said in CASES:
            with self.subTest(name):
                found = told(terms, data)
                self.assertEqual([said in warning for warning in found], [True], found)

    def test_every_warning_of_the_package_is_among_them(self) -> None:
        found = [warning for _, terms, data, _ in CASES for warning in told(terms, data)]
        table = {"t": MONTHS, "y": [float(at % 5) + 0.5 for at in range(12)]}
        found += fa.Plan("y", **SERIES).build(table, series={"s": QUARTERS}).columns.warnings
        take = {"q": {"how": "repeat"}}
        for lag, wanted in ((0, True), (1, True), (2, False)):  # the last month of a quarter is two after its first
            terms = {"q": f"lag(s_q, {lag})" if lag else "s_q"}
            series = {"s": {"time": "t", "every": "quarter", "take": take}}
            said = fa.Plan("y", **{**SERIES, "terms": terms, "series": series}).build(table, series={"s": QUARTERS})
            late = [each for each in said.columns.warnings if "lag(s_q, 2) is known in time" in each]
            self.assertEqual(bool(late), wanted)
            found += late
        found += (
            fa.Plan("y", **CONVERTED).build({k: v[1:] for k, v in table.items()} | {"x": [*range(11)]}).columns.warnings
        )
        listed = [
            line[11:] for line in (ROOT / "docs/errors.md").read_text("utf-8").splitlines() if "- warning: " in line
        ]
        self.assertGreater(len(listed), 15)
        for template in listed:
            parts = re.split(r"\{(?:[^{}]|\{[^{}]*\})*\}", template)
            pattern = ".*".join(map(re.escape, parts))
            self.assertTrue(any(re.fullmatch(pattern, warning) for warning in found), template)

    def test_nothing_is_said_without_its_cause(self) -> None:
        flagged = {"x": "impute(x, 'mean')", "no_x": "is_missing(x)"}
        few = [None if at < 5 else x for at, x in enumerate(X)]  # too few to tell
        level = [9.0 if at % 5 == 0 else y for at, y in enumerate(table()["y"])]  # without a spread
        for terms, data in (
            ({"x": "x", "kind": "kind", "kx": "kind * x"}, table()),
            ({"b": "bins(x, edges=[[1, 5], [5, 9]])"}, table()),
            ({"all": "every_number(but=['row'])", "row": "row"}, table(row=list(range(ROWS)))),
            ({"some": "matching('r*')"}, table(row=list(range(ROWS)))),
            (flagged, table(x=GAPPED, y=HIGH_WHERE_MISSING)),
            ({"x": "impute(x, 'mean')"}, table(x=few, y=[99.0 if at < 5 else 1.0 * at for at in range(ROWS)])),
            ({"x": "impute(x, 'mean')"}, table(x=GAPPED, y=level)),
            ({"terms": {"k": "category(kind, coding='every')"}, "intercept": False}, table()),
        ):
            with self.subTest(terms):
                self.assertEqual(told(terms, data), [])

    def test_fifty_clean_tables_are_warned_of_nothing(self) -> None:
        terms = {
            "price": "log(impute(price, 'median'))",
            "no_price": "is_missing(price)",
            "beds": "bins(beds, quantiles=3)",
            "access": "category(access, reference='trail', missing='category')",
            "change": "polynomial(change, 2)",
            "open": "open",
            "slope": "open * center(change)",
            "valley": "category(valley, coding='effect')",
            "comfort": "score(comfort)",
            "numbers": "every_number(but=['price', 'beds', 'change', 'stays'])",
        }
        for seed in range(50):
            made = fa.Plan("log(stays)", terms, variables=VARIABLES).build(huts(400, seed, missing=0.03))
            self.assertEqual(made.columns.warnings, [], f"seed {seed}")

    def test_a_build_issues_each_warning_once(self) -> None:
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            made = fa.Plan("y", {"w": "w"}).build(table(w=[3] * ROWS))
            self.assertEqual([str(each.message) for each in caught], made.columns.warnings)
            self.assertIs(caught[0].category, fa.FacturumWarning)
            self.assertEqual(caught[0].filename, __file__)
        self.assertIn("<p>warning: w is 3 in every row", made._repr_html_())


class Orders(unittest.TestCase):
    def test_scores_and_groups_keep_the_declared_order(self) -> None:
        data = {"y": np.arange(40.0), "c": ["fair", "good"] * 20, "q": [1, 2, 3, 4, 5] * 8}
        order = {"kind": "ordered", "order": ["poor", "fair", "good", "top"]}
        terms = {
            "s": "score(c)",
            "q": "score(q)",
            "low": "regroup(c, {'low': ['poor', 'fair']}, rest='high') <= 'low'",
            "bin": "regroup(bins(q, edges=[2, 4], labels=['a', 'b', 'c']), {'z': ['a', 'b']}) == 'z'",
        }
        made = fa.Plan(None, terms, variables={"c": order}, intercept=False).build(data)
        columns = dict(zip(made.names, made.X.T.tolist(), strict=True))
        self.assertEqual(columns["s"][:2], [2.0, 3.0])
        self.assertEqual(columns["q"][:5], [1.0, 2.0, 3.0, 4.0, 5.0])
        self.assertEqual(columns["low"][:2], [1.0, 0.0])
        self.assertEqual(columns["bin"][:5], [1.0, 1.0, 1.0, 0.0, 0.0])
        apart = {"x": "regroup(c, {'ends': ['poor', 'top']}) < 'good'"}
        with self.assertRaisesRegex(fa.PlanError, "needs an order"):
            fa.Plan(None, apart, variables={"c": order}).build(data)
        with self.assertRaisesRegex(fa.DataError, "'y' is not a whole number"):
            fa.Plan(None, {"y": "score(y)"}).build({"y": [1.0, 2.5]})

    def test_missing_may_be_named_stand_in_the_order_and_be_the_reference(self) -> None:
        data = {"a": ["road", None, "trail", "road"], "n": [1, 1, 2, 2]}
        for text, names, first in (
            ("category(a, missing='unknown')", ["t_trail", "t_unknown"], "trail rather than road"),
            ("category(a, missing='unknown', reference='unknown')", ["t_road", "t_trail"], "road rather than unknown"),
            ("category(a, missing='category', reference=missing)", ["t_road", "t_trail"], "road rather than missing"),
            ("category(a, missing='none', order=[missing, 'road', 'trail'], coding='difference')",
             ["t_road", "t_trail"], "the category before, none"),
        ):  # fmt: skip
            made = fa.Plan(None, {"t": text}, intercept=False).build(data)
            self.assertEqual(made.names, names)
            self.assertIn(first, made.columns[names[0]].reading)
            self.assertEqual(made.plan.build(data).X.tolist(), made.X.tolist())
        for text, said in (("missing='categry'", "did you mean 'category'"), ("missing='road'", "the category 'road'"),
                           ("reference=missing", "missing values are not a category of 'a'")):  # fmt: skip
            with self.assertRaisesRegex(fa.FacturumError, said):
                fa.Plan(None, {"t": f"category(a, {text})"}).build(data)
