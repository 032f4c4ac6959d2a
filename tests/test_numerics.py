"""Sums, order statistics, contrasts and moments against exact arithmetic."""

from __future__ import annotations

import struct
import unittest
from fractions import Fraction
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from facturum.numerics.exact.moments import Moments, deviations
from facturum.numerics.exact.order_statistics import quantile_between, quantiles_of, search_for
from facturum.numerics.exact.powers import whole_power
from facturum.numerics.exact.sums import UNIT_BITS, as_float, exact_sum, exact_sum_of_squares, root_as_float
from facturum.numerics.exact.ulps import ulp_distance
from facturum.numerics.shapes.contrasts import difference_steps, helmert_steps, polynomial_contrasts
from facturum.numerics.shapes.group_comparisons import unit_length
from facturum.numerics.shapes.smooth_paths import cubic_values, linear_values
from facturum.support.threads import thread_count
from facturum.trial.told.units import RawUnits

FINITE = st.floats(allow_nan=False, allow_infinity=False)
ADVERSARIAL = {
    "ties": [3.0] * 500 + [4.0] * 501,
    "one value": [7.5],
    "two values": [-1.0, 1.0],
    "subnormals": [5e-324 * k for k in range(1, 400)],
    "huge": [1e308, -1e308, 1.7e308, -1.7e308, 0.0],
    "sorted": [float(k) for k in range(1000)],
    "reversed": [float(-k) for k in range(1000)],
    "near equal": [1.0 + k * 2.0**-52 for k in range(300)],
    "zeros of both signs": [0.0, -0.0, -0.0, 0.0],
}


def search(parts: list[np.ndarray], shares: tuple[float, ...]) -> list[float]:
    state = search_for(shares)
    while state.values is None:
        state = state.advance(state.merge([state.observe(part) for part in parts]))
    return [quantile_between(state.values, share, state.count) for share in shares]


def exact_quantile(values: list[float], share: float) -> float:
    """The definition, in fractions: h = (n - 1) p, and a straight line between neighbours."""
    ordered = sorted(value + 0.0 for value in values)
    place = share * (len(ordered) - 1)
    low = int(place)
    high = min(low + 1, len(ordered) - 1)
    a, b = Fraction(ordered[low]), Fraction(ordered[high])
    return float(a + Fraction(place - low) * (b - a))


class Sums(unittest.TestCase):
    @given(st.lists(FINITE, max_size=80))
    def test_a_sum_is_the_exact_one(self, values: list[float]) -> None:
        found = exact_sum(np.array(values, dtype=float))
        self.assertEqual(Fraction(found, 2**UNIT_BITS), sum(map(Fraction, values), Fraction(0)))

    @given(st.lists(FINITE, max_size=60))
    def test_a_sum_of_squares_is_the_exact_one(self, values: list[float]) -> None:
        found = exact_sum_of_squares(np.array(values, dtype=float))
        self.assertEqual(Fraction(found, 2 ** (2 * UNIT_BITS)), sum((Fraction(v) ** 2 for v in values), Fraction(0)))

    def test_long_sums_keep_every_bit(self) -> None:
        values = np.random.default_rng(1).normal(1e8, 1e-6, 200_000)
        found = Fraction(exact_sum(values), 2**UNIT_BITS)
        self.assertEqual(found, sum(map(Fraction, values.tolist()), Fraction(0)))
        self.assertEqual(as_float(exact_sum(values), len(values)), float(found / len(values)))

    def test_a_mean_of_the_largest_doubles_does_not_overflow(self) -> None:
        largest = np.full(10, np.finfo(float).max)
        self.assertEqual(as_float(exact_sum(largest), 10), np.finfo(float).max)


class OrderStatistics(unittest.TestCase):
    def test_adversarial_values(self) -> None:
        for name, values in ADVERSARIAL.items():
            for share in (0.0, 0.1, 0.25, 0.5, 0.9, 1.0):
                with self.subTest(name, share=share):
                    wanted = exact_quantile(values, share)
                    self.assertEqual(search([np.array(values)], (share,)), [wanted])
                    self.assertEqual(quantiles_of(np.array(values), [share]), [wanted])

    @given(st.lists(FINITE, min_size=1, max_size=60), st.floats(0, 1), st.integers(1, 5))
    def test_parts_in_any_order(self, values: list[float], share: float, cuts: int) -> None:
        parts = np.array_split(np.array(values), cuts)
        self.assertEqual(search(parts[::-1], (share,)), [exact_quantile(values, share)])

    def test_many_values_in_one_bucket_are_refined(self) -> None:
        dice = np.random.default_rng(2)
        values = 1.0 + dice.integers(0, 3000, 600_000) * 2.0**-52
        wanted = [exact_quantile(values.tolist(), share) for share in (0.01, 0.5, 0.99)]
        self.assertEqual(search([values[:200_000], values[200_000:]], (0.01, 0.5, 0.99)), wanted)
        same = np.full(300_000, 2.5)
        self.assertEqual(search([same, same], (0.5,)), [2.5])

    @given(st.lists(st.floats(allow_nan=False, allow_infinity=False), min_size=1, max_size=80), st.floats(0, 1))
    @settings(max_examples=100, deadline=None)
    def test_every_digit_is_refined_where_few_values_may_be_gathered(self, values: list[float], share: float) -> None:
        for few in (0, 1, 3):
            with mock.patch("facturum.numerics.exact.order_statistics.FEW", few):
                found = search(np.array_split(np.array(values), 3), (share, 0.5))
            wanted = sorted(v + 0.0 for v in values)
            self.assertEqual(found, [quantile_between(np.array(wanted), each, len(wanted)) for each in (share, 0.5)])

    def test_a_quantile_between_the_extremes_does_not_overflow(self) -> None:
        self.assertEqual(quantile_between(np.array([-1.7e308, 1.7e308]), 0.5, 2), 0.0)


class Contrasts(unittest.TestCase):
    def test_polynomial_contrasts_are_the_published_ones(self) -> None:
        # Fisher & Yates, "Statistical Tables" (1963), table XXIII: whole numbers for k = 5
        table = [[-2, -1, 0, 1, 2], [2, -1, -2, -1, 2], [-1, 2, 0, -2, 1], [1, -4, 6, -4, 1]]
        for found, whole in zip(polynomial_contrasts(5), table, strict=True):
            length = np.sqrt(float(np.dot(whole, whole)))
            np.testing.assert_allclose(found, np.array(whole) / length, rtol=0, atol=2e-16)

    def test_polynomial_contrasts_are_orthonormal_up_to_many_categories(self) -> None:
        for count in (2, 3, 10, 30):
            columns = np.array(polynomial_contrasts(count))
            np.testing.assert_allclose(columns @ columns.T, np.eye(count - 1), atol=1e-14)
            np.testing.assert_allclose(columns.sum(axis=1), 0, atol=1e-14)

    def test_coefficients_of_difference_and_helmert_say_what_they_should(self) -> None:
        means = [Fraction(7), Fraction(2), Fraction(11), Fraction(5)]
        k = len(means)
        difference = [means[j] - means[j - 1] for j in range(1, k)]
        helmert = [means[j] - sum(means[:j], Fraction(0)) / j for j in range(1, k)]
        grand = sum(means, Fraction(0)) / k
        for level in range(k):
            fitted = grand
            for j, (before, after) in enumerate(difference_steps(k), start=1):
                fitted += difference[j - 1] * Fraction(after if level >= j else before).limit_denominator(1000)
            self.assertEqual(fitted, means[level])
            fitted = grand
            for j, (earlier, own) in enumerate(helmert_steps(k), start=1):
                value = earlier if level < j else own if level == j else 0
                fitted += helmert[j - 1] * Fraction(value).limit_denominator(1000)
            self.assertEqual(fitted, means[level])


class MomentsOfColumns(unittest.TestCase):
    @given(st.lists(st.lists(st.floats(-1e6, 1e6), min_size=0, max_size=20), min_size=1, max_size=6))
    @settings(max_examples=60)
    def test_merged_leaves_agree_with_all_values_together(self, leaves: list[list[float]]) -> None:
        parts = []
        for leaf in leaves:
            part = Moments.of(1)
            part.put_dense(0, np.array(leaf))
            parts.append(part)
        total = Moments.merged(parts)
        everything = np.array([value for leaf in leaves for value in leaf])
        self.assertEqual(total.count[0], len(everything))
        if len(everything) > 1:
            scale = max(1.0, float(np.abs(everything).max()))
            self.assertAlmostEqual(total.mean[0] / scale, everything.mean() / scale, places=12)
            self.assertAlmostEqual(total.sd(0) / scale, everything.std(ddof=1) / scale, places=9)
            self.assertEqual((total.smallest[0], total.largest[0]), (everything.min(), everything.max()))
            self.assertEqual(total.nonzero[0], np.count_nonzero(everything))

    @given(st.lists(st.integers(1, 5), min_size=1, max_size=80), st.integers(0, 4))
    def test_sparse_columns_have_the_moments_of_the_dense_ones(self, sizes: list[int], zeros: int) -> None:
        dice = np.random.default_rng(sum(sizes))
        values = dice.normal(3, 2, sum(sizes))
        starts = np.cumsum(sizes) - sizes
        total = sum(sizes) + zeros
        found, wanted = Moments.of(len(sizes)), Moments.of(len(sizes))
        found.put_groups(slice(0, len(sizes)), values, starts, np.array(sizes), total)
        for at, (start, size) in enumerate(zip(starts, sizes, strict=True)):
            wanted.put_dense(at, np.concatenate([values[start : start + size], np.zeros(total - size)]))
        for name in ("count", "smallest", "largest", "mean", "squares", "nonzero"):
            np.testing.assert_allclose(getattr(found, name), getattr(wanted, name), rtol=1e-12, atol=1e-12)
        ones = Moments.of(len(sizes))
        ones.put_ones(slice(0, len(sizes)), np.array(sizes), total)
        np.testing.assert_allclose(ones.mean, np.array(sizes) / total)
        each = np.arange(len(sizes)) * 1.0
        np.testing.assert_array_equal(
            deviations(values, each, np.array(sizes)), values - np.repeat(each, np.array(sizes))
        )


class Ends(unittest.TestCase):
    def test_paths_of_one_point_and_of_none(self) -> None:
        wanted = np.array([1.0, 2.0, 3.0])
        for values_of in (linear_values, cubic_values):
            np.testing.assert_array_equal(values_of(np.array([2.0]), np.array([7.0]), wanted), [np.nan, 7.0, np.nan])
            np.testing.assert_array_equal(values_of(np.zeros(0), np.zeros(0), wanted), [np.nan] * 3)

    def test_a_root_beyond_the_doubles_is_refused_and_one_within_is_near(self) -> None:
        for power in (-1000, -300, 0, 300, 1000):
            total = exact_sum_of_squares(np.array([3.0, 4.0]) * 2.0**power)
            self.assertEqual(root_as_float(total, 1, 2 * UNIT_BITS), 5 * 2.0**power)
        with self.assertRaises(OverflowError):
            root_as_float(exact_sum_of_squares(np.full(9, 1.7e308)), 1, 2 * UNIT_BITS)

    def test_constants_have_no_direction(self) -> None:
        for values in ([], [1.0], [0.0, 0.0], [3.0, 3.0, 3.0]):
            self.assertIsNone(unit_length(np.array(values)))
        np.testing.assert_allclose(unit_length(np.array([1e300, -1e300])), [0.5**0.5, -(0.5**0.5)])  # type: ignore[arg-type]


class PowersAndDistances(unittest.TestCase):
    @given(st.integers(-100, 100), st.integers(-9, 9))
    def test_whole_powers_of_whole_numbers_are_exact_where_they_can_be(self, exponent: int, base: int) -> None:
        if base == 0 and exponent < 0:
            return
        found = whole_power(np.array([float(base)]), exponent)[0]
        wanted = Fraction(base) ** exponent
        if abs(wanted) < 2**53 and wanted.denominator == 1:
            self.assertEqual(Fraction(found), wanted)
        else:
            self.assertAlmostEqual(found / float(wanted), 1.0, places=13)

    @given(FINITE, st.integers(0, 50))
    def test_steps_are_counted_in_doubles(self, start: float, steps: int) -> None:
        value = start
        for _ in range(steps):
            value = float(np.nextafter(value, np.inf))
        if np.isfinite(value):
            self.assertEqual(ulp_distance(np.array([start]), np.array([value]))[0], steps)

    @given(FINITE, FINITE)
    def test_steps_between_any_two_are_those_between_their_places_among_all_doubles(self, a: float, b: float) -> None:
        def place(value: float) -> int:
            (bits,) = struct.unpack(">Q", struct.pack(">d", value + 0.0))
            return bits if bits < 2**63 else 2**63 - bits

        wanted = min(abs(place(a) - place(b)), 2**62)
        found = int(ulp_distance(np.array([a]), np.array([b]))[0])
        self.assertLessEqual(abs(found - wanted), 0 if wanted < 2**40 else 2048)  # where they are far apart, about

    def test_a_value_and_a_missing_one_are_far_apart(self) -> None:
        found = ulp_distance(np.array([np.nan, np.nan, -1e308]), np.array([1.0, np.nan, 1e308]))
        self.assertGreater(found[0], 2**40)
        self.assertEqual(found[1], 0)
        self.assertGreater(found[2], 2**40)


class BackTransformation(unittest.TestCase):
    """Expected responses in raw units are means over the residuals (Duan 1983), whatever the closed form."""

    def test_smearing_is_the_mean_of_what_each_residual_gives(self) -> None:
        dice = np.random.default_rng(1983)
        values, residuals = dice.uniform(2, 4, 30), dice.uniform(-1, 1, 400)
        residuals -= residuals.mean()
        for response in ("log(y)", "log(y, shift=3)", "sqrt(y)", "asinh(y)", "y", "y + 1"):
            with self.subTest(response):
                units = RawUnits.of(response)
                each = [units.undone(values + residual) for residual in residuals]
                np.testing.assert_allclose(units.smeared(values, residuals), np.mean(each, axis=0), rtol=1e-12)
                np.testing.assert_allclose(units.done(units.undone(values)), values, rtol=1e-12)


class Threads(unittest.TestCase):
    def test_threads_are_those_given_those_of_the_environment_or_one_for_each_processor(self) -> None:
        cases = (("", 3), ("5", 5), ("0", 1), ("-4", 3), ("many", 3), ("9" * 8, 256), ("9" * 9, 3))
        with mock.patch("os.sched_getaffinity", return_value={0, 1, 2}):
            for written, wanted in cases:
                with self.subTest(written), mock.patch.dict("os.environ", FACTURUM_THREADS=written):
                    self.assertEqual((thread_count(None), thread_count(2)), (wanted, 2))
            self.assertEqual((thread_count(0), thread_count(10**6)), (1, 256))
