"""The engine: writing agrees with formulas to the bit, and nothing depends on threads, leaves or the order of rows."""

from __future__ import annotations

import unittest
from collections.abc import Sequence
from fractions import Fraction
from typing import Any
from unittest.mock import Mock

import numpy as np
import pyarrow as pa
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum.data.table import Table
from facturum.engine.blocks.source import Source
from facturum.engine.passes.learning import learn
from facturum.engine.planning.expressions.prepare import prepare
from facturum.language.families import REGISTRY
from facturum.language.syntax.parser import parse
from facturum.language.tree.blocks import Dense, Scattered
from facturum.numerics.exact.moments import Moments
from tests.expressions import SCALARS, TERMS
from tests.interpreter import Refused, value_of
from tests.support import DATA, PANEL_DATA, built, column_by_formula, huts, panel, plan, rows_of

TABLE = huts(300, seed=5, missing=0.1)
MONTHLY = TABLE | {"month": [12 * (int(text[:4]) - 1970) + int(text[5:7]) - 1 for text in TABLE["month"]]}
ORDERS = {"comfort": ["poor", "fair", "good"]}
LEARNING = {
    "center": "center(price)",
    "standardize": "standardize(change)",
    "orthogonal": "polynomial(beds, 4, orthogonal=True)",
    "centred": "polynomial(price, 3, center=True)",
    "mean": "price - mean(price)",
    "median": "price > median(price)",
    "by": "beds - median(beds, by=[access, valley])",
    "quantile": "price > quantile(price, 0.9)",
    "sd": "change / sd(change)",
    "range": "(beds - smallest(beds)) / (largest(beds) - smallest(beds))",
    "grouped": "price / mean(price, by=[floor])",
    "inside": "standardize(price - mean(price, by=[valley]))",
    "access": "access",
    "pooled": "category(access, pool=0.1, unseen='pool')",
    "common": "category(valley, order='frequency', missing='category')",
    "effect": "category(access, coding='effect', reference=1)",
    "slope": "access * standardize(beds)",
    "codes": "codes(valley)",
    "score": "score(comfort)",
    "binned": "bins(price, quantiles=5) * log(beds)",
    "wide": "bins(change, width=25)",
    "equal": "bins(beds, count=3, closed='right')",
    "filled": "impute(change, 'mean')",
    "grouped_fill": "impute(price, 'median', by=[access, valley])",
    "commonest": "impute(access, 'mode', by=[valley])",
    "ends": "winsorize(price, shares=[0.05, 0.9])",
    "outlying": "missing_if(change, abs(change - mean(change)) > 2 * sd(change))",
    "both": "bins(impute(missing_if(price, price > quantile(price, 0.95)), 'median'), quantiles=3)",
}
# one call of each operation that the language has; a new one must be added here, or a test fails
SAMPLES = {
    "lookup": "lookup(access, {'trail': 1.5, 'road': -2}, 0)",
    "mean": "beds - mean(beds, by=[valley])",
    "within": "within(beds, by=[valley], and_by=[access])",
    "median": "beds - median(beds)",
    "sd": "price / sd(price)",
    "smallest": "price - smallest(price)",
    "largest": "price - largest(price)",
    "quantile": "price - quantile(price, 0.3)",
    "log": "log(price, shift=0.5)",
    "sqrt": "sqrt(price)",
    "square": "square(change)",
    "reciprocal": "reciprocal(price)",
    "exp": "exp(change / 50)",
    "abs": "abs(change)",
    "asinh": "asinh(change)",
    "sin": "sin(change)",
    "cos": "cos(change)",
    "clip": "clip(price, low=20, high=40)",
    "center": "center(price)",
    "standardize": "standardize(price)",
    "polynomial": "polynomial(change, 5)",
    "recurrence": "recurrence(price, [50, 20, 1, 18])",
    "category": "category(access)",
    "codes": "codes(access)",
    "score": "score(comfort)",
    "regroup": "category(regroup(access, {'foot': ['trail', 'boat']}))",
    "is_missing": "is_missing(price)",
    "bins": "bins(price, quantiles=4)",
    "impute": "impute(price, 'median', by=[valley])",
    "missing_if": "missing_if(price, change > 20)",
    "winsorize": "winsorize(change, shares=[0.1, 0.9])",
    "mean_of": "mean_of(price, beds, change, at_least=2)",
    "sum_of": "sum_of(price, beds)",
    "product_of": "product_of(price, beds, at_least=1)",
    "sign": "sign(change)",
    "rounded": "rounded(change, to=0.1)",
    "floor_to": "floor_to(price, to=12.5)",
    "remainder": "remainder(change, 7)",
    "between": "between(price, 20, beds)",
    "any_of": "any_of(open, price > 50)",
    "all_of": "all_of(open, price > 20, beds > 10)",
    "first_present": "first_present(price, beds, 4)",
    "cases": "cases({price > 60: 'dear', beds > 40: 'large'}, 'other')",
    "contains": "contains(access, 'ai')",
    "starts_with": "starts_with(access, 't')",
    "ends_with": "ends_with(access, 'd')",
    "matches_pattern": "matches_pattern(access, '.*a.*')",
    "lower": "lower(valley)",
    "trim": "trim(access)",
    "replaced": "replaced(access, 'a', 'o')",
    "text_part": "category(text_part(access, ' ', -1))",
    "piece": "piece(access, 1, 2)",
    "length_of": "length_of(access)",
    "number_in": "number_in(joined(access, '7'))",
    "joined": "joined(valley, access, by='/')",
    "crossed": "crossed(valley, open)",
    "spline": "spline(price, pieces=3)",
    "basis_spline": "basis_spline(price, 2, [20, 40, 60])",
    "total": "beds / total(beds, by=[valley])",
    "count": "count(price, by=[access])",
    "distinct": "distinct(access, by=[valley])",
    "share_of_group": "share_of_group(beds, by=[valley])",
    "frequency_of": "frequency_of(access)",
    "days_between": "days_between('2020-05-17', month)",
    "periods_between": "periods_between('2020-05-17', month, 'quarter')",
    "age_in_years": "age_in_years('2019-03-31', month)",
    "hinge": "hinge(price, at=[20, 47.5])",
    "waves": "waves(beds, period=30, pairs=2)",
    "smallest_of": "smallest_of(price, beds, at_least=1)",
    "largest_of": "largest_of(price, change)",
    "spread_of": "spread_of(price, beds, change, at_least=2)",
    "count_of": "count_of(price > 20, beds > 20, open, at_least=2)",
    "reverse": "reverse(floor, -1, 3)",
    "part": "part(month, 'quarter')",
    "date_of": "lookup(period_of(date_of(2020 + abs(floor), 1 + abs(floor), [3]), 'year'), {'2020': 1}, 0)",
    "period_of": "lookup(period_of(month, 'year'), {'2020': 1.5, '2021': 2}, 0)",
    "matching": "matching('b*')",
    "every_number": "every_number(but=[stays])",
    "every_truth": "every_truth()",
    "every_category": "every_category(but=[comfort])",
}
# calls that look along time, over a panel
TIMED_SAMPLES = {
    "impute": "impute(snow, 'linear', limit=2)",
    "lag": "lag(snow, [0, 1, 3])",
    "lead": "lead(price, 2)",
    "difference": "difference(snow, order=2)",
    "percent_change": "percent_change(price, step=2)",
    "moving_average": "moving_average(snow, 4, align='centre', at_least=2)",
    "moving_sum": "moving_sum(price, 2)",
    "cumulative_sum": "cumulative_sum(snow, since='year')",
    "cumulative_mean": "cumulative_mean(price)",
    "cumulative_count": "cumulative_count(snow, since=price > 50)",
    "cumulative_largest": "cumulative_largest(snow)",
    "cumulative_smallest": "cumulative_smallest(price)",
    "exponential_average": "exponential_average(snow, half_life=3)",
    "periods_since_last": "periods_since_last(snow > 60)",
    "place_in_unit": "place_in_unit()",
    "growth": "growth(price, step=2)",
    "moving_median": "moving_median(snow, 4, at_least=2)",
    "moving_sd": "moving_sd(price, 3)",
    "moving_smallest": "moving_smallest(price, 2)",
    "moving_largest": "moving_largest(price, 3, align='centre')",
    "moving_quantile": "moving_quantile(price, 0.25, 3)",
    "moving_count": "moving_count(snow, 3)",
    "trend": "trend(degree=2)",
    "season": "season('month', coding='waves', pairs=6)",
    "periods_since": "periods_since('2020-05')",
}


class Agreement(unittest.TestCase):
    def agree(self, terms: dict[str, str], table: Any = TABLE, data: Any = None, **rows: Any) -> None:
        try:
            made = built(plan(terms, response=None, rows=rows, data=data or DATA), table)
        except (fa.DataError, fa.PlanError) as error:
            # an overflow, or two blocks whose products have one name, are refused; anything else is a mistake
            self.assertRegex(
                str(error), "infinite|would be called|only the category|no row is left|has too few|no row of the est"
            )
            return
        for at, column in enumerate(made.columns):
            if column.column is not None:
                anew = column_by_formula(made, column.column.formula)
                self.assertEqual(anew.tobytes(), np.ascontiguousarray(made.X[:, at]).tobytes(), str(column))
                self.assertEqual(anew.tobytes(), column_by_formula(made, str(column.column.formula)).tobytes())
            self.assertEqual(sum(term.column_count() for term in made.prepared.terms.values()), len(made.columns) - 1)
        self.assertFalse(np.signbit(made.X[made.X == 0]).any(), "a negative zero is left")

    @given(TERMS)
    @settings(max_examples=180, deadline=None)
    def test_any_term_is_written_as_its_formulas_say(self, text: str) -> None:
        self.agree({"x": text})

    @given(TERMS)
    @settings(max_examples=60, deadline=None)
    def test_and_where_rows_without_values_are_kept(self, text: str) -> None:
        self.agree({"x": text, "y": "price"}, missing="keep")

    def test_every_operation_is_written_as_its_formulas_say(self) -> None:
        self.assertEqual({*SAMPLES, *TIMED_SAMPLES}, set(REGISTRY))
        for name, text in SAMPLES.items():
            with self.subTest(name):
                self.agree({name: text})
                self.agree({name: text}, missing="keep")
        for name, text in TIMED_SAMPLES.items():
            with self.subTest(f"{name} along time"):
                self.agree({name: text}, panel(), PANEL_DATA)
                self.agree({name: text}, panel(), PANEL_DATA, missing="keep")

    def test_functions_give_the_same_bits_for_one_row_as_for_many(self) -> None:
        texts = [f"{name}(price)" for name in ("log", "sqrt", "exp", "asinh", "sin", "cos", "reciprocal")]
        texts += ["log(price, base=2)", "log(price, base=10)", "log(price, base=3)", "rounded(price, to=0.1)"]
        table = {"price": np.random.default_rng(3).uniform(0.1, 9, 1003)}
        many = fa.Plan(None, texts, intercept=False).build(table).X
        for at in (0, 1, 500, 1001, 1002):
            one = fa.Plan(None, texts, intercept=False).build({"price": table["price"][at : at + 1]}).X
            self.assertEqual(one[0].tobytes(), many[at].tobytes())

    def test_products_of_many_categories_have_each_row_in_its_own_cell(self) -> None:
        dice = np.random.default_rng(11)
        for many, few in ((20, 20), (128, 2), (129, 3), (30, 25)):
            a, b = dice.permutation(np.arange(4000) % many), dice.integers(0, few, 4000)
            x = dice.uniform(-1, 1, 4000)
            table = {"a": [f"a{i:03d}" for i in a], "b": [f"b{i:03d}" for i in b], "x": x}
            every = "category(a, coding='every')"
            terms = {"a": every, "ab": f"{every} * category(b)", "ax": f"{every} * polynomial(x, 3)"}
            made = fa.Plan(None, terms, intercept=False).build(table)
            cells = np.zeros((4000, many, few))
            cells[np.arange(4000), a, b] = 1.0
            own = cells.sum(axis=2)
            powers = own[:, :, None] * np.stack([x, x * x, x * x * x], axis=1)[:, None, :]
            wanted = [own, cells[:, :, 1:].reshape(4000, -1), powers.reshape(4000, -1)]
            np.testing.assert_array_equal(made.X, np.concatenate(wanted, axis=1))
            np.testing.assert_allclose([c.mean for c in made.columns.columns], made.X.mean(axis=0), atol=1e-15)
            self.assertEqual([c.nonzero for c in made.columns.columns], np.count_nonzero(made.X, axis=0).tolist())

    def test_scattered_blocks_are_what_makes_it_fast(self) -> None:
        made = built(plan({"a": "access * price * valley"}, response=None), TABLE)
        leaf = Source(made.prepared.table, made.prepared.derived).rows(0, 300, made.selection.source_rows() - 1)
        block = leaf.block(made.prepared.terms["a"])
        self.assertIsInstance(block, Scattered)
        self.assertEqual((block.width, len(block.layers)), (3 * 2, 1))
        self.assertIsInstance(leaf.block(parse("polynomial(price, 2)")), Dense)


class Independence(unittest.TestCase):
    def test_threads_and_leaves_do_not_matter(self) -> None:
        table = huts(5_000, seed=8, missing=0)
        table["price"] = [None if 1_115 <= at < 1_140 else price for at, price in enumerate(table["price"])]
        terms = {"a": "access * log(price)", "b": "polynomial(beds, 3)", "c": "valley", "d": "price > 40"}
        for rows in ({}, {"missing": "keep"}, {"keep": "price > 20 and valley != 'Far'", "learn": "beds > 30"}):
            resolved = plan(terms, rows=rows).resolve(table)
            results = {
                (threads, leaf): built(resolved, table, threads=threads, leaf=leaf)
                for threads in (1, 2, 5)
                for leaf in (37, 1_000, 65_536)
            }
            first = results[1, 65_536]
            for result in results.values():
                self.assertEqual(result.X.tobytes("F"), first.X.tobytes("F"))
                self.assertEqual(result.y.tobytes(), first.y.tobytes())
                self.assertEqual(result.selection.reasons(), first.selection.reasons())
                moments = Moments.merged(result.parts)
                np.testing.assert_allclose(moments.mean, np.nanmean(first.X, axis=0), rtol=1e-9, atol=1e-12)
                np.testing.assert_array_equal(moments.smallest, np.nanmin(first.X, axis=0))
                np.testing.assert_array_equal(moments.count, np.count_nonzero(~np.isnan(first.X), axis=0))
                for name in ("missing", "positions", "learning_rows", "dropped_rows"):
                    np.testing.assert_equal(getattr(result.selection, name)(), getattr(first.selection, name)())

    def test_progress_is_told_for_each_block_and_an_error_within_it_comes_through(self) -> None:
        table = huts(200_000, seed=8, missing=0)
        for threads in (1, 3):
            told = Mock()
            plan({"p": "log(price)"}).build(table, threads=threads, progress=told)
            done = [call.args for call in told.call_args_list]
            self.assertEqual(sorted(done), [(at + 1, len(done)) for at in range(len(done))])
            self.assertGreater(len(done), 1)
            with self.assertRaisesRegex(ValueError, "stop"):
                plan({"p": "log(price)"}).build(table, threads=threads, progress=Mock(side_effect=ValueError("stop")))

    def test_the_maps_do_not_depend_on_threads_over_several_leaves(self) -> None:
        table = Table.of(huts(140_000, seed=9, missing=0.02))
        made = plan(LEARNING)
        one, many = made.build(table, threads=1), made.build(table, threads=4)
        self.assertEqual(one.X.tobytes("F"), many.X.tobytes("F"))
        self.assertEqual(one.columns, many.columns)
        np.testing.assert_array_equal(one.rows.kept, many.rows.kept)
        stats = many.columns["slope_road"]
        column = many.X[:, many.names.index("slope_road")]
        self.assertAlmostEqual(stats.mean or 0, column.mean(), places=10)
        self.assertAlmostEqual(stats.sd or 0, column.std(ddof=1), places=10)
        self.assertEqual((stats.min, stats.max), (column.min(), column.max()))
        self.assertEqual(stats.nonzero, np.count_nonzero(column))

    def test_shuffled_rows_give_the_same_resolved_plan(self) -> None:
        table = huts(2_000, seed=10)
        first = plan(LEARNING).resolve(table)
        for seed in range(3):
            order = np.random.default_rng(seed).permutation(2_000)
            shuffled = {name: [values[at] for at in order] for name, values in table.items()}
            self.assertEqual(plan(LEARNING).resolve(shuffled), first)

    def test_leaves_merged_in_any_order_give_the_same_resolved_plan(self) -> None:
        table = Table.of(huts(200_000, seed=11, missing=0.01))
        made = prepare(plan(LEARNING).spec, table)
        first, _ = learn(made)
        for order in ([3, 2, 1, 0], [2, 0, 3, 1]):
            again, _ = learn(made, order=lambda count, order=order: order)
            self.assertEqual(again.terms, first.terms)

    def test_one_table_however_it_is_held(self) -> None:
        table = huts(500, seed=12)
        arrow = pa.table(table)
        halves = pa.concat_tables([arrow.slice(0, 123), arrow.slice(123)])
        words = {n: arrow[n].combine_chunks().dictionary_encode() for n in ("access", "valley", "comfort")}
        encoded = pa.table({n: words.get(n, arrow[n]) for n in arrow.column_names})
        wanted = plan(LEARNING).build(table)
        for given_table in (arrow, halves, encoded, arrow.to_pandas(), Table.of(arrow)):
            found = plan(LEARNING).build(given_table)
            self.assertEqual(found.X.tobytes("F"), wanted.X.tobytes("F"))
            self.assertEqual(found.columns.resolved, wanted.columns.resolved)


class Learning(unittest.TestCase):
    @given(st.integers(0, 10_000))
    @settings(max_examples=15, deadline=None)
    def test_only_learning_rows_are_learned_from(self, seed: int) -> None:
        table = huts(300, seed=seed)
        made = plan(LEARNING, rows={"keep": "price > 10", "learn": "month < '2022-07'"})
        first = made.resolve(table)
        changed = {name: list(values) for name, values in table.items()}
        dice = np.random.default_rng(seed + 1)
        for at in range(300):
            price = table["price"][at]
            if price is None or price <= 10 or table["month"][at] >= "2022-07":
                other = huts(1, seed=int(dice.integers(1 << 30)), missing=0.3)
                for name in ("beds", "change", "access", "valley", "floor", "open", "comfort"):
                    changed[name][at] = other[name][0]
        self.assertEqual(made.resolve(changed), first)

    def test_resolving_with_learn_is_resolving_on_those_rows_alone(self) -> None:
        table = huts(600, seed=13)
        within = [at for at, month in enumerate(table["month"]) if month < "2022-07"]
        alone = {name: [values[at] for at in within] for name, values in table.items()}
        one = plan(LEARNING, rows={"learn": "month < '2022-07'"}).resolve(table).spec
        two = plan(LEARNING).resolve(alone).spec
        self.assertEqual((one.terms, one.columns), (two.terms, two.columns))

    def test_learned_numbers_are_the_exact_ones(self) -> None:
        table = huts(500, seed=14)
        spec = (
            plan({k: LEARNING[k] for k in ("center", "standardize", "mean", "median", "by", "sd")}).resolve(table).spec
        )
        needed = ("price", "change", "beds", "access", "valley")  # the rows that remain have all of these
        rows = [row for row in rows_of(table) if all(row[name] is not None for name in needed)]
        prices = [Fraction(row["price"]) for row in rows]
        mean = float(sum(prices) / len(prices))
        self.assertEqual(parse(spec.terms["center"]).at, mean)  # type: ignore[attr-defined]
        self.assertEqual(spec.terms["mean"], f"price - {mean!r}")
        changes = [row["change"] for row in rows]
        self.assertAlmostEqual(parse(spec.terms["standardize"]).scale, np.std(changes, ddof=1), places=12)  # type: ignore[attr-defined]
        groups: dict[tuple[str, str], list[int]] = {}
        for row in rows:
            groups.setdefault((row["access"], row["valley"]), []).append(row["beds"])
        for row in rows:
            middle = float(np.median(groups[row["access"], row["valley"]]))
            self.assertEqual(value_of(spec.terms["by"], row), row["beds"] - middle)

    def test_categories_and_reference_come_from_the_rows_that_remain(self) -> None:
        table = {
            "way": ["ferry", "road", "trail", "road", "trail", "trail"],
            "price": [None, 3.0, 4.0, 5.0, 6.0, 7.0],
        }
        made = fa.Plan(None, {"way": "way", "price": "price", "cheap": "price - mean(price)"}).build(table)
        self.assertEqual(made.names, ["intercept", "way_trail", "price", "cheap"])
        self.assertEqual(made.plan.spec.terms["way"], "category(way, reference='road', order=['road', 'trail'])")
        kept = fa.Plan(None, {"way": "way", "price": "price"}, rows={"missing": "keep"}).build(table)
        self.assertEqual(kept.names, ["intercept", "way_road", "way_trail", "price"])
        self.assertTrue(np.isnan(kept.X[0, 3]))

    def test_resolving_twice_changes_nothing_and_one_row_is_enough(self) -> None:
        table = huts(400, seed=15)
        made = plan(LEARNING, response="log(stays)", derived={"dear": "price > median(price)"}).build(table)
        again = made.plan.resolve(huts(50, seed=16))
        self.assertEqual(again, made.plan)
        text = str(made.plan)
        self.assertEqual(fa.Plan.from_text(text), made.plan)
        self.assertEqual(str(fa.Plan.from_text(text)), text)
        for at in (0, 17, len(made.X) - 1):
            source = int(made.rows.kept[at]) - 1
            row = {name: values[source : source + 1] for name, values in table.items() if name != "stays"}
            one = made.plan.build(row)
            self.assertIsNone(one.y)
            self.assertEqual(one.X.tobytes(), made.X[at : at + 1].tobytes())
            self.assertEqual(one.names, made.names)

    def test_a_response_may_be_a_number_a_truth_or_a_category(self) -> None:
        table = huts(200, seed=17, missing=0)
        for response, width, names in (
            ("log(stays)", None, ["log_stays"]),
            ("stays > 100", None, ["stays_100"]),
            ("codes(comfort)", None, ["codes_comfort"]),
            ("comfort", 3, ["comfort_poor", "comfort_fair", "comfort_good"]),
            ("category(valley)", 2, ["valley_lower", "valley_upper"]),
        ):
            made = plan({"price": "price"}, response=response).build(table)
            assert made.y is not None
            self.assertEqual(made.y.shape, (200,) if width is None else (200, width))
            self.assertEqual(made.response_names, names)
        codes = plan({"price": "price"}, response="codes(comfort)").build(table).y
        self.assertEqual(codes.tolist(), [["poor", "fair", "good"].index(value) for value in table["comfort"]])

    @given(SCALARS)
    @settings(max_examples=28, deadline=None)
    def test_rows_left_out_are_just_those_without_a_value(self, text: str) -> None:
        try:
            wanted = [at + 1 for at, row in enumerate(rows_of(MONTHLY)) if value_of(text, row, ORDERS) is not None]
            made = plan({"x": text}, response=None).build(TABLE)
        except (OverflowError, Refused, fa.DataError):
            assume(False)
        self.assertEqual(made.rows.kept.tolist(), wanted)
        self.assertEqual(sorted([*made.rows.kept, *made.rows.dropped]), list(range(1, 301)))
        reasons = {made.rows.reasons[cause] for cause in made.rows.causes}
        self.assertEqual(reasons, {("a value is missing", "terms.x")} if len(wanted) < 300 else set())


class Codings(unittest.TestCase):
    """The coefficients of a saturated regression say what each coding promises of the group means."""

    WAYS: Sequence[str] = ("boat", "cable car", "road", "trail")

    def fit(self, text: str, intercept: bool = True) -> dict[str, float]:
        dice = np.random.default_rng(18)
        ways = np.array(self.WAYS)[dice.integers(0, 4, 400)]
        y = dice.normal(size=400) + np.array([1.0, 3.0, -2.0, 5.0])[[self.WAYS.index(w) for w in ways]]
        self.means = {way: float(y[ways == way].mean()) for way in self.WAYS}
        made = fa.Plan("y", {"way": text}, intercept=intercept).build({"way": ways.tolist(), "y": y})
        solution, *_ = np.linalg.lstsq(made.X, made.y, rcond=None)
        return dict(zip(made.names, solution.tolist(), strict=True))

    def check(self, found: dict[str, float], wanted: dict[str, float]) -> None:
        self.assertEqual(set(found), set(wanted))
        for name, value in wanted.items():
            self.assertAlmostEqual(found[name], value, places=10, msg=name)

    def test_reference(self) -> None:
        found = self.fit("category(way, reference='road')")
        m = self.means
        self.check(
            found,
            {"intercept": m["road"], **{f"way_{w.replace(' ', '_')}": m[w] - m["road"] for w in m if w != "road"}},
        )

    def test_every(self) -> None:
        found = self.fit("category(way, coding='every')", intercept=False)
        self.check(found, {f"way_{w.replace(' ', '_')}": m for w, m in self.means.items()})

    def test_effect(self) -> None:
        found = self.fit("category(way, coding='effect', reference='trail')")
        grand = sum(self.means.values()) / 4
        parts = {f"way_{w.replace(' ', '_')}": m - grand for w, m in self.means.items() if w != "trail"}
        self.check(found, {"intercept": grand, **parts})

    def test_difference_and_helmert(self) -> None:
        found = self.fit("category(way, coding='difference')")
        m = [self.means[w] for w in self.WAYS]
        names = [f"way_{w.replace(' ', '_')}" for w in self.WAYS]
        grand = sum(m) / 4
        self.check(found, {"intercept": grand, **{names[j]: m[j] - m[j - 1] for j in (1, 2, 3)}})
        found = self.fit("category(way, coding='helmert')")
        self.check(found, {"intercept": grand, **{names[j]: m[j] - sum(m[:j]) / j for j in (1, 2, 3)}})

    def test_polynomial_and_score(self) -> None:
        order = "order=['boat', 'cable car', 'road', 'trail']"
        found = self.fit(f"category(way, coding='polynomial', {order})")
        m = np.array([self.means[w] for w in self.WAYS])
        linear = np.array([-3, -1, 1, 3]) / np.sqrt(20)  # Fisher & Yates (1963), table XXIII, k = 4
        quadratic = np.array([1, -1, -1, 1]) / 2
        cubic = np.array([-1, 3, -3, 1]) / np.sqrt(20)
        wanted = {"way": m @ linear, "way_2": m @ quadratic, "way_3": m @ cubic}
        self.check(found, {"intercept": float(m.mean()), **{k: float(v) for k, v in wanted.items()}})
        made = fa.Plan(None, {"s": f"category(w, coding='score', {order})"}).build({"w": list(self.WAYS) * 2})
        self.assertEqual(made.X[:, 1].tolist(), [1, 2, 3, 4] * 2)


class Accuracy(unittest.TestCase):
    def test_a_polynomial_of_degree_five_gives_its_coefficients_back(self) -> None:
        x = np.arange(21.0)
        y = sum(x**k for k in range(6))
        made = fa.Plan("y", {"x": "polynomial(x, 5)"}).build({"x": x, "y": y})
        scale = np.abs(made.X).max(axis=0)
        q, r = np.linalg.qr(made.X / scale)
        found = np.linalg.solve(r, q.T @ made.y) / scale
        np.testing.assert_allclose(found, np.ones(6), rtol=0, atol=1e-9)

    def test_orthogonal_columns_agree_with_exact_arithmetic(self) -> None:
        x = [Fraction(v) for v in (2019.5, 2020, 2020.25, 2021, 2022, 2022, 2023.5, 2024, 2030)]
        made = fa.Plan(None, {"x": "polynomial(x, 5, orthogonal=True)"}, intercept=False).build(
            {"x": [float(v) for v in x]}
        )
        basis: list[list[Fraction]] = [[Fraction(1)] * len(x)]
        for degree in range(1, 6):
            column = [value**degree for value in x]
            for other in basis:
                share = sum(a * b for a, b in zip(column, other, strict=True)) / sum(b * b for b in other)
                column = [a - share * b for a, b in zip(column, other, strict=True)]
            basis.append(column)
            mean_square = sum(a * a for a in column) / len(x)
            wanted = np.array([float(a) for a in column]) / float(mean_square) ** 0.5
            np.testing.assert_allclose(made.X[:, degree - 1], wanted, rtol=0, atol=1e-10)

    def test_orthogonal_columns_do_not_depend_on_the_unit(self) -> None:
        plan = fa.Plan(None, {"x": "polynomial(x, 3, orthogonal=True)"})
        x = np.array([1.0, 2.0, 4.0, 7.0, 11.0, 3.5])
        wanted = plan.build({"x": x}).X
        for power in (-1000, -500, -60, 60, 500, 1000):
            np.testing.assert_allclose(plan.build({"x": np.ldexp(x, power)}).X, wanted, rtol=1e-12)
            with self.assertRaisesRegex(fa.DataError, "It has 3 distinct values: write degree 2 at most"):
                plan.build({"x": np.ldexp([0.1, 0.2, 0.7, 0.1, 0.2], power)})
        with self.assertRaisesRegex(fa.DataError, "It has 1 distinct value: "):
            plan.build({"x": [0.1] * 7})

    def test_orthogonal_columns_of_a_long_table_are_orthogonal(self) -> None:
        x = np.random.default_rng(19).gamma(2, 30, 100_000)
        made = fa.Plan(None, {"x": "polynomial(x, 4, orthogonal=True)"}).build({"x": x})
        np.testing.assert_allclose(made.X.T @ made.X / len(x), np.eye(5), atol=1e-9)

    def test_a_spread_of_nearly_equal_numbers_keeps_its_digits(self) -> None:
        x = 1e9 + np.arange(5.0)
        spec = fa.Plan(None, {"x": "standardize(x)"}).resolve({"x": x}).spec
        self.assertEqual(spec.terms["x"], f"standardize(x, at=1000000002, scale={2.5**0.5!r})")
