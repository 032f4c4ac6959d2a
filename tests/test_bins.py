"""Bins: edges against exact order statistics on adversarial values, labels, overlaps, and what the map says of them."""

from __future__ import annotations

import unittest
from fractions import Fraction
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum.numerics.shapes.cut_points import CutSearch, equal_widths, halfway, multiples

TINY = 5e-324
ADVERSARIAL = st.lists(
    st.one_of(
        st.sampled_from([0.0, -0.0, 1.0, 2.0, TINY, -TINY, 3 * TINY, 1e308, -1e308, 2.2250738585072014e-308]),
        st.floats(-1e308, 1e308),
        st.integers(0, 4).map(float),
    ),
    min_size=2,
    max_size=60,
)


def cut(values: np.ndarray, parts: int, closed: str, pieces: int = 1, order: int = 1) -> CutSearch:
    """Search for edges as the engine does, over some pieces merged in either order."""
    search = CutSearch(parts, closed)
    while search.edges is None:
        search = search.advance(search.merge([search.observe(p) for p in np.array_split(values, pieces)][::order]))
    return search


def slow_edges(values: list[float], parts: int, closed: str) -> list[float]:
    """Return the edges from sorted values: at each share the nearest place where neighbours differ."""
    ordered = sorted(value + 0.0 for value in values)
    count = len(ordered)
    places = [at for at in range(1, count) if ordered[at - 1] != ordered[at]]
    edges = set()
    for part in range(1, parts):
        target = Fraction(part * count, parts)
        whole = int(target + Fraction(1, 2))
        if not 0 < whole < count:
            continue
        if ordered[whole - 1] == ordered[whole]:
            low = max((at for at in places if at < whole), default=None)
            high = min((at for at in places if at > whole), default=None)
            near = [at for at in (low, high) if at is not None]
            if not near:
                continue
            whole = min(near, key=lambda at: (abs(target - at), at))
        a, b = ordered[whole - 1], ordered[whole]
        middle = float((Fraction(a) + Fraction(b)) / 2)
        edges.add((middle if middle > a else b) if closed == "left" else (middle if middle < b else a))
    return sorted(edges)


def built(text: str, **table: Any) -> fa.Design:
    return fa.Plan("y" if "y" in table else None, {"x": text}).build(table)


class Quantiles(unittest.TestCase):
    @given(ADVERSARIAL, st.integers(2, 8), st.sampled_from(["left", "right"]), st.integers(1, 4))
    @settings(max_examples=170, deadline=None)
    def test_edges_are_those_of_exact_order_statistics(
        self, values: list[float], parts: int, closed: str, pieces: int
    ) -> None:
        wanted = slow_edges(values, parts, closed)
        for shape in (values, sorted(values), sorted(values, reverse=True)):
            for order in (1, -1):
                found = cut(np.array(shape), parts, closed, pieces, order)
                self.assertEqual(list(found.edges or ()), wanted)
        for edge in wanted:  # no two equal values are parted, and both sides have some
            below = [v < edge if closed == "left" else v <= edge for v in values]
            self.assertTrue(any(below) and not all(below))

    def test_the_same_plan_for_shuffled_rows(self) -> None:
        dice = np.random.default_rng(4)
        values = np.concatenate([np.zeros(700), dice.exponential(size=1300), np.full(400, 2.5)])
        plan = fa.Plan(None, {"x": "bins(x, quantiles=3)", "m": "winsorize(x)", "i": "impute(x, 'median')"})
        texts = {str(plan.resolve({"x": dice.permutation(values)})) for _ in range(3)}
        self.assertEqual(len(texts), 1)

    def test_bins_have_equal_numbers_of_rows_where_values_allow(self) -> None:
        x = np.random.default_rng(0).permutation(np.arange(1000)) / 7
        counts = built("category(bins(x, quantiles=8), coding='every')", x=x).X[:, 1:].sum(axis=0)
        self.assertEqual(counts.tolist(), [125.0] * 8)

    def test_too_many_bins_are_refused_with_what_can_be_had(self) -> None:
        with self.assertRaises(fa.DataError) as caught:
            built("bins(x, quantiles=4)", x=[0] * 60 + list(range(1, 41)))
        for said in ("into 4 bins", "only 3 bins are possible", "0 alone is the value of 60 %", "edges=[0.5, "):
            self.assertIn(said, str(caught.exception))
        with self.assertRaisesRegex(fa.DataError, "only 3 rows with a value"):
            built("bins(x, quantiles=9)", x=[1.0, 2.0, 3.0])
        with self.assertRaisesRegex(fa.DataError, "all rows have one value"):
            built("bins(x, quantiles=2)", x=[1.0] * 5)


class Widths(unittest.TestCase):
    def test_multiples_and_equal_widths(self) -> None:
        from decimal import Decimal

        self.assertEqual(multiples(Decimal("0.1"), 0.0, 0.3, "left"), [0.1, 0.2, 0.3])
        self.assertEqual(multiples(Decimal("0.1"), 0.0, 0.3, "right"), [0.0, 0.1, 0.2])
        self.assertEqual(multiples(Decimal(5), -12.0, -3.0, "left"), [-10.0, -5.0])
        self.assertEqual(equal_widths(-1e308, 1e308, 4), [-5e307, 0.0, 5e307])
        self.assertEqual(halfway(1e308, 1.2e308, "left"), 1.1e308)

    @given(ADVERSARIAL, st.integers(2, 7), st.sampled_from(["left", "right"]))
    @settings(max_examples=100, deadline=None)
    def test_every_value_is_in_the_bin_that_its_edges_say(self, values: list[float], count: int, closed: str) -> None:
        try:
            plan = fa.Plan(None, {"x": f"bins(x, count={count}, closed={closed!r})"}, intercept=False).resolve(
                {"x": np.array(values)}
            )
        except fa.DataError as error:
            self.assertRegex(str(error), "too narrow|one category")
            return
        edges = [float(e) for e in eval(str(plan).split("edges=")[1].split("]")[0] + "]")]
        x = np.array(values)
        wanted = np.searchsorted(edges, x, side="right" if closed == "left" else "left")
        term = "codes(" + str(plan.spec.terms["x"]).split("category(")[1].split("), reference")[0] + "))"
        order = str(plan.spec.terms["x"]).split("order=")[1][:-1]
        codes = fa.Plan(None, {"x": term[:-1] + f", order={order})"}, intercept=False).build({"x": x}).X[:, 0]
        present = np.unique(wanted)
        self.assertEqual(codes.tolist(), np.searchsorted(present, wanted).tolist())

    def test_labels_and_the_side_an_edge_belongs_to(self) -> None:
        x = [1.0, 2.0, 3.0, 4.0, None]
        left = built("category(bins(x, edges=[2, 3]), coding='every')", x=x)
        self.assertEqual(left.names[1:], ["x_under_2", "x_2_to_3", "x_from_3"])
        self.assertEqual(left.X[:, 1:].argmax(axis=1).tolist(), [0, 1, 2, 2])
        right = built("category(bins(x, edges=[2, 3], closed='right'), coding='every')", x=x)
        self.assertEqual(right.names[1:], ["x_up_to_2", "x_2_to_3", "x_over_3"])
        self.assertEqual(right.X[:, 1:].argmax(axis=1).tolist(), [0, 0, 1, 2])
        named = built("category(bins(x, edges=[2.5], labels=['low', 'high'], missing='category'), coding='every')", x=x)
        self.assertEqual(named.names[1:], ["x_low", "x_high", "x_missing"])
        self.assertEqual(named.X[4, 1:].tolist(), [0, 0, 1])
        order = "order=['unknown', 'under 2.5', 'from 2.5']"
        unknown = f"category(bins(x, edges=[2.5], missing='unknown'), reference='unknown', {order})"
        self.assertEqual(built(unknown, x=x).names[1:], ["x_under_2_5", "x_from_2_5"])
        for taken in ("bins(x, edges=[2], missing='from 2')", "bins(x, edges=[2], labels=['a', 'b'], missing='b')"):
            with self.assertRaisesRegex(fa.FacturumError, "a bin has the name '(from 2|b)' already"):
                built(taken, x=x)
        cut = "bins(x, edges=[2.5], labels=['low', 'zenith'], missing='category')"  # a label after 'missing'
        after = fa.Plan(None, {"x": f"category({cut}, coding='every')", "z": f"{cut} == 'zenith'"}).build({"x": x})
        columns = dict(zip(after.names, after.X.T.tolist(), strict=True))
        self.assertEqual([columns["x_zenith"], columns["z"]], [[0, 0, 1, 1, 0]] * 2)
        self.assertTrue(after.verify({"x": x}).ok)
        self.assertEqual(left.columns["x_2_to_3"].formula, "2 <= x < 3")
        self.assertEqual(right.columns["x_over_3"].formula, "x > 3")

    def test_bins_are_ordered(self) -> None:
        made = built("bins(x, edges=[2, 3]) >= '2 to 3'", x=[1.0, 2.5, 9.0])
        self.assertEqual(made.X[:, 1].tolist(), [0, 1, 1])
        self.assertEqual(built("score(bins(x, edges=[2, 3]))", x=[1.0, 2.5, 9.0]).X[:, 1].tolist(), [1, 2, 3])


class TheMap(unittest.TestCase):
    def test_each_bin_is_told_with_what_was_seen_in_it(self) -> None:
        x = [1.0, 1.5, 2.0, 2.9, 3.0, 8.0, None]
        y = [1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]
        made = built("bins(x, edges=[2, 3])", x=x, y=y)
        (entry,) = made.columns.bins
        told = [(b.label, b.rows, b.smallest, b.largest, b.mean_response) for b in entry.bins]
        self.assertEqual(
            told,
            [("under 2", 2, 1.0, 1.5, 1.5), ("2 to 3", 2, 2.0, 2.9, 3.5), ("from 3", 2, 3.0, 8.0, 5.5)],
        )
        self.assertEqual([(b.low, b.high) for b in entry.bins], [(None, 2.0), (2.0, 3.0), (3.0, None)])
        self.assertAlmostEqual(sum(b.percent for b in entry.bins), 100)
        self.assertEqual(sum(entry.histogram.counts), 6)  # type: ignore[union-attr]
        self.assertEqual(made.columns.warnings, [])
        for scale in (1e300, 1e-300):
            scaled = built(f"bins(x, edges=[{2 * scale}, {3 * scale}])", x=[v and v * scale for v in x], y=y)
            self.assertEqual(scaled.columns.bins[0].histogram.counts, entry.histogram.counts)  # type: ignore[union-attr]

    def test_a_response_of_several_columns_has_no_mean_in_a_bin(self) -> None:
        table = {"x": [1.0, 1.5, 2.0, 2.9, 3.0, 8.0], "way": ["road", "trail", "boat"] * 2}
        made = fa.Plan("way", {"x": "bins(x, edges=[2.5])", "z": "impute(x, 'mean')"}).build(table)
        self.assertEqual(made.y.tolist(), [[0, 1, 0], [0, 0, 1], [1, 0, 0]] * 2)
        self.assertNotIn("add up", "\n".join(made.columns.warnings))
        self.assertEqual([entry.mean_response for entry in made.columns.bins[0].bins], [None, None])
        self.assertEqual([entry.rows for entry in made.columns.bins[0].bins], [3, 3])

    def test_thin_thick_and_empty_bins_are_warned_of(self) -> None:
        dice = np.random.default_rng(0)
        x = np.concatenate([dice.uniform(0, 1, 199), dice.uniform(5, 6, 1)])
        warnings = "\n".join(built("bins(x, edges=[2, 4])", x=x, y=np.arange(200.0)).columns.warnings)
        for said in ("no row is in the bin '2 to 4'", "only 0.5 % of the rows are in the bin 'from 4'", "100 %"):
            self.assertIn(said, warnings)

    def test_a_hundredth_of_the_rows_is_enough(self) -> None:
        for few, told in ((1, True), (2, False)):
            x = np.concatenate([np.zeros(200 - few), np.ones(few) * 5])
            made = built("bins(x, edges=[2])", x=x, y=np.arange(200.0))
            self.assertEqual(
                any("% of the rows are in the bin 'from 2'" in each for each in made.columns.warnings), told
            )

    def test_pairs_may_leave_gaps_and_overlap_and_are_warned_of(self) -> None:
        x = [1.0, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 7.0]
        made = built("bins(x, edges=[[1, 2], [3, 5], [4, 7]])", x=x, y=np.arange(8.0))
        self.assertEqual(made.rows.kept.tolist(), [1, 2, 4, 5, 6, 7, 8])  # 2.5 lies in no bin
        self.assertEqual(made.names[1:], ["x_3_to_5", "x_4_to_7"])
        self.assertEqual(made.X[:, 1].tolist(), [0, 0, 1, 1, 1, 0, 0])  # 4 and 5 go to the first
        self.assertIn("overlap", "\n".join(made.columns.warnings))
        touching = built("bins(x, edges=[[1, 3], [3, 7], [8, 9]])", x=[*x, 8.0], y=np.arange(9.0))
        self.assertNotIn("overlap", "\n".join(touching.columns.warnings))
        self.assertEqual(touching.X[:, 1].sum(), 5)  # closed left: 3 belongs to the upper bin
        gaps = fa.Plan(None, {"x": "bins(x, edges=[[1, 2]], missing='category')"}, rows={"missing": "keep"})
        found = gaps.build({"x": [1.0, 2.5, None, 2.0]})
        np.testing.assert_array_equal(found.X[:, 1], [0, np.nan, 1, 0])  # what lies in no bin is neither
        kept = fa.Plan("y", {"x": "bins(x, edges=[[1, 2], [3, 7]])"}, rows={"missing": "keep"})
        self.assertIn("1 row in no bin: the values are 2.5, between the bin", "\n".join(
            kept.build({"x": x, "y": np.arange(8.0)}).columns.warnings))  # fmt: skip
