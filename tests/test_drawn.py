"""What is drawn, held to the data: bars, lines and points of figures and of the report, computed by NumPy."""

from __future__ import annotations

import contextlib
import json
import re
from collections import Counter
from collections.abc import Iterator
from typing import Any
from unittest import mock

import numpy as np
import pandas as pd
from matplotlib.colors import same_color
from matplotlib.dates import num2date
from matplotlib.figure import Figure

import facturum as fa
from facturum.show.drawn import pictures
from facturum.show.drawn.figures import MARK, bins_figure, profile_figure
from facturum.show.drawn.report import report_page
from facturum.show.drawn.trial_figure import trial_figure
from tests.support import SAMPLE, Folder, command

HUTS = pd.read_csv(SAMPLE / "huts.csv")


@contextlib.contextmanager
def canvas() -> Iterator[list[Any]]:
    """Keep the figures that are saved, as they are when they are."""
    kept: list[Any] = []
    save = Figure.savefig

    def keep(self: Figure, *given: Any, **named: Any) -> None:
        kept.append(self)
        save(self, *given, **named)

    with mock.patch.object(Figure, "savefig", keep):
        yield kept


def bars_of(axes: Any) -> list[tuple[float, float, float]]:
    """Return left edge, width and height of each bar."""
    return [(bar.get_x(), bar.get_width(), bar.get_height()) for bar in axes.patches]


def points_of(axes: Any, at: int = 0) -> np.ndarray:
    return np.asarray(axes.collections[at].get_offsets())


def lines_of(axes: Any) -> dict[str, tuple[np.ndarray, np.ndarray]]:
    return {str(line.get_label()): (np.asarray(line.get_xdata()), np.asarray(line.get_ydata())) for line in axes.lines}


class Profiles(Folder):
    def test_each_panel_shows_its_variable(self) -> None:
        names = ["price", "beds", "comfort", "access", "hut"]
        profile = fa.profile(SAMPLE / "huts.csv", names, quantiles=[0.1, 0.9])
        with canvas() as drawn:
            profile_figure(profile, self.folder / "p.png")
        panels = {axes.get_title("left").split(" (")[0]: axes for axes in drawn[0].axes}
        for name in ("price", "beds"):
            x = HUTS[name].dropna().to_numpy(float)
            bars = bars_of(panels[name])
            edges = np.array([left for left, _, _ in bars] + [bars[-1][0] + bars[-1][1]])
            inner = np.searchsorted(np.sort(x), edges[1:-1] - 1e-9)
            counts = np.diff(np.concatenate([[0], inner, [len(x)]]))
            self.assertEqual(counts.tolist(), [height for _, _, height in bars])
            self.assertEqual(edges[0], x.min())
            self.assertAlmostEqual(edges[-1], x.max(), delta=edges[1] - edges[0] + 1e-9 if name == "beds" else 1e-9)
            marks = [line.get_xdata()[0] for line in panels[name].lines]
            np.testing.assert_allclose(marks, np.quantile(x, [0.1, 0.9]), rtol=1e-12)
            self.assertIn("10 %: ", panels[name].get_xlabel())
        missing = 100 * HUTS["price"].isna().mean()
        self.assertIn(f"({missing:.1f} % missing)", panels["price"].get_title("left"))
        for name in ("comfort", "access"):
            shown = [text.get_text() for text in panels[name].get_yticklabels()]
            counts = dict(zip(shown, (bar.get_width() for bar in panels[name].patches), strict=True))
            self.assertEqual(counts, dict(Counter(HUTS[name].dropna())))
            self.assertEqual(panels[name].get_xlabel(), "")
        most = HUTS["hut"].value_counts()
        self.assertEqual(panels["hut"].get_xlabel(), f"the {len(panels['hut'].patches)} most frequent of {len(most):,}")
        shown = [bar.get_width() for bar in panels["hut"].patches]
        self.assertEqual(shown, most.to_list()[: len(shown)])
        grid = np.asarray(panels["correlations between numbers"].images[0].get_array())
        r = float(np.asarray(HUTS[["price", "beds"]].corr())[0, 1])
        np.testing.assert_allclose(grid, [[1, r], [r, 1]], atol=1e-12)
        texts = {text.get_text() for text in panels["correlations between numbers"].texts}
        self.assertEqual(texts, {"1.00", f"{r:.2f}"})

    def test_cells_of_any_numbers_are_those_of_numpy(self) -> None:
        for seed, numbers in enumerate(([-3.5, 0.25, 7.0, 1e3], [1e-9, 2.0, 2.5, 2.75], [-9.0, -8.5, -8.25, 0.125])):
            x = np.random.default_rng(seed).choice(numbers, 200) + np.random.default_rng(seed + 9).random(200) / 7
            (found,) = fa.profile({"x": x})
            counts, edges = np.histogram(x, bins=len(found.cells))
            self.assertEqual(list(found.cells), counts.tolist())
            self.assertAlmostEqual(found.cell_width or 0, edges[1] - edges[0])


class Builds(Folder):
    def test_bins_lie_at_their_edges_over_the_rows_they_hold(self) -> None:
        made = fa.Plan("stays", {"zone": "bins(price, edges=[30, 60], labels=['low', 'mid', 'high'])"}).build(HUTS)
        with canvas() as drawn:
            bins_figure(made.columns.bins, self.folder / "b.svg")
        spread, bars = drawn[0].axes
        self.assertEqual([line.get_xdata()[0] for line in spread.lines], [30, 60])
        self.assertEqual([text.get_text() for text in spread.texts], ["30", "60"])
        kept = HUTS[HUTS["stays"].notna() & HUTS["price"].notna()]
        held = np.histogram(kept["price"], [-np.inf, 30, 60, np.inf])[0].tolist()
        self.assertEqual([height for _, _, height in bars_of(bars)], held)
        self.assertEqual(sum(height for _, _, height in bars_of(spread)), len(kept))
        lowest = kept["price"].min()
        self.assertEqual(bars_of(spread)[0][0], lowest)
        above = [text.get_text() for text in bars.texts]
        self.assertIn(f"{held[0]:,} ({100 * held[0] / len(kept):.1f} %)", above[0])
        mean = kept["stays"][kept["price"] < 30].mean()
        self.assertIn(f"mean response {mean:.4g}", above[0])

    def test_a_column_along_time_lies_over_its_source(self) -> None:
        table = {
            "unit": ["a"] * 8 + ["b"] * 4,
            "month": [f"2024-{at:02d}" for at in (1, 2, 3, 4, 5, 9, 10, 11)] + [f"2024-{at:02d}" for at in range(1, 5)],
            "x": [3.0, 4.0, None, 6.0, 8.0, 2.0, 1.0, 5.0, 900.0, 950.0, 970.0, 980.0],
            "y": [float(at) for at in range(12)],
        }
        plan = fa.Plan(
            "y", {"smooth": "impute(x, 'linear')"}, data={"time": "month", "every": "month", "panel": ["unit"]}
        )
        plan.build(table).save(self.folder / "b")
        with canvas() as drawn:
            done = command("explain", self.folder / "b", "smooth", "--unit", "a", "--figure", self.folder / "f.png")
        self.assertEqual(done.returncode, 0, done.stderr)
        (axes,) = drawn[0].axes
        lines = lines_of(axes)
        smooth, x = lines["x (imputed)"], lines["x"]
        gap = np.isnan(smooth[1])
        self.assertEqual(smooth[1][~gap].tolist(), [3.0, 4.0, 5.0, 6.0, 8.0, 2.0, 1.0, 5.0])
        self.assertEqual(np.flatnonzero(gap).tolist(), [5], "the line is parted where June to August are missing")
        self.assertEqual(x[1][~np.isnan(x[1])].tolist(), [3.0, 4.0, 6.0, 8.0, 2.0, 1.0, 5.0])
        self.assertEqual(str(smooth[0][0])[:7], "2024-01")
        ring = lines["where x is missing"]
        self.assertEqual((ring[1].tolist(), str(ring[0][0])[:7]), ([5.0], "2024-03"))
        self.assertEqual(axes.get_title("left"), "smooth, a")


class Trials(Folder):
    def setUp(self) -> None:
        super().setUp()
        dice = np.random.default_rng(4)
        months = [f"{2015 + at // 12}-{at % 12 + 1:02d}" for at in range(60)]
        x = dice.normal(size=120)
        self.table = {
            "unit": ["a"] * 60 + ["b"] * 60,
            "month": months * 2,
            "x": x,
            "y": 2 + 3 * x + dice.normal(size=120),
        }
        self.beta = np.linalg.lstsq(np.column_stack([np.ones(120), x]), self.table["y"], rcond=None)[0]
        self.fitted = self.beta[0] + self.beta[1] * x

    def test_points_are_fitted_and_actual_values_and_their_differences(self) -> None:
        sections = {"time": "month", "every": "month", "panel": ["unit"], "carry": ["month", "unit"]}
        made = fa.Plan("y", {"x": "x"}, data=sections).build(self.table)
        with canvas() as drawn:
            trial_figure(made, made.trial(), self.folder / "t.png", unit="b")
        path, against, residuals, coefficients, last = drawn[0].axes
        y = np.asarray(self.table["y"])
        np.testing.assert_allclose(lines_of(path)["actual"][1], y[60:], rtol=1e-12)
        np.testing.assert_allclose(lines_of(path)["fitted"][1], self.fitted[60:], rtol=1e-9)
        self.assertEqual(path.get_title("left"), "b: y, actual, fitted")
        np.testing.assert_allclose(points_of(against), np.column_stack([self.fitted, y]), rtol=1e-9)
        ends = against.lines[0].get_xdata()
        np.testing.assert_allclose(ends, [min(y.min(), self.fitted.min()), max(y.max(), self.fitted.max())], rtol=1e-9)
        out = np.column_stack([self.fitted, y - self.fitted])
        np.testing.assert_allclose(points_of(residuals), out, rtol=1e-9, atol=1e-9)
        np.testing.assert_allclose(points_of(last)[:, 1], out[:, 1], atol=1e-9)
        self.assertEqual(num2date(points_of(last)[59, 0]).strftime("%Y-%m"), "2019-12")
        error = made.trial().coefficients[-1]
        low, high = (each[0] for each in coefficients.collections[0].get_segments()[0])
        np.testing.assert_allclose(
            [low, high], [(error.low or 0) / (error.error or 1), (error.high or 0) / (error.error or 1)], rtol=1e-9
        )
        with self.assertRaisesRegex(fa.DataError, "unit 'c' not found"):
            trial_figure(made, made.trial(), self.folder / "u.png", unit="c")

    def test_without_a_time_residuals_are_by_row_and_units_are_raw(self) -> None:
        table = {"x": self.table["x"], "y": np.exp(np.asarray(self.table["y"]) / 4)}
        made = fa.Plan("log(y)", {"x": "x"}).build(table)
        with canvas() as drawn:
            trial_figure(made, made.trial(), self.folder / "t.png")
        against, _, _, last = drawn[0].axes
        np.testing.assert_allclose(points_of(against)[:, 1], table["y"], rtol=1e-12)
        self.assertEqual(points_of(last)[:, 0].tolist(), [float(at) for at in range(1, 121)])
        self.assertEqual((len(drawn[0].axes), last.get_xlabel()), (4, "row of the matrix"))

    def test_a_forecast_stands_after_the_path(self) -> None:
        sections = {"time": "month", "every": "month", "panel": ["unit"], "carry": ["month", "unit", "y"]}
        made = fa.Plan("y", {"before": "lag(y, 1)"}, data=sections).build(self.table)
        forecasts = fa.forecast(made, self.table, 3)
        of = [each for each in forecasts.of if each.unit == "b"]
        with canvas() as drawn:
            trial_figure(made, made.trial(), self.folder / "t.png", unit="b", forecasts=forecasts)
        line = lines_of(drawn[0].axes[0])["forecast, 95 %"]
        self.assertEqual(line[1].tolist(), [each.forecast for each in of])
        self.assertEqual([str(moment)[:7] for moment in line[0]], ["2020-01", "2020-02", "2020-03"])
        self.assertTrue(all(each.low < each.forecast < each.high for each in of))
        shades = [each for each in drawn[0].axes[0].collections if same_color(each.get_facecolor()[:, :3], MARK)]
        self.assertTrue(shades)


class Pages(Folder):
    def test_spreads_and_correlations_are_those_of_the_matrix(self) -> None:
        terms = {"price": "price", "beds": "log(beds)", "access": "category(access)", "one": "1 * price * 0"}
        made = fa.Plan("stays", terms).build(HUTS)
        page = report_page(made)
        details = json.loads(re.findall(r'<script[^>]*type="application/json"[^>]*>(.*?)</script>', page, re.DOTALL)[0])
        X = np.asarray(made.X, dtype=float)  # noqa: N806 - the field's standard name
        for name, detail in details.items():
            if name not in ("price", "beds"):
                self.assertIsNone(detail["spread"], "two values have no histogram")
                continue
            column = X[:, made.names.index(name)]
            counts = detail["spread"]["counts"]
            edges = np.linspace(column.min(), column.max(), len(counts) + 1)[1:-1]
            np.testing.assert_array_equal(np.cumsum(counts)[:-1] - np.searchsorted(np.sort(column), edges), 0)
            facts = {fact[0]: fact[1] for fact in detail["facts"]}
            self.assertIn(f"not zero in {np.count_nonzero(column):,} rows", facts["values"])
        names = [entry.name for entry in made.columns.columns if entry.role == "predictor" and entry.min != entry.max]
        r = np.corrcoef(X[:, [made.names.index(name) for name in names]], rowvar=False)
        told = re.findall(r"<title>([\w ]+), ([\w ]+): ([-+.\d]+)</title>", page)
        pairs = {(a, b): value for a, b, value in told if a in names}
        self.assertEqual(pairs, {(a, b): f"{r[i, j]:+.2f}" for i, a in enumerate(names) for j, b in enumerate(names)})

    def test_small_pictures_are_to_scale(self) -> None:
        def rects(svg: str) -> list[dict[str, str]]:
            return [dict(re.findall(r'([\w-]+)="([^"]*)"', each)) for each in re.findall("<rect[^>]*>", svg)]

        parts = rects(pictures.shares([("kept", 3, "bar"), ("dropped", 1, "soft"), ("none", 0, "soft")], "rows"))
        self.assertEqual([float(each["width"]) for each in parts], [540.0, 180.0, 0.0])
        self.assertEqual([float(each["y"]) for each in parts], [20.0, 68.0, 116.0])
        parts = rects(pictures.bars([("low", 3), ("high", 6)], "bins"))
        self.assertEqual([float(each["width"]) for each in parts], [210.0, 420.0])
        parts = rects(pictures.signed([("x", -0.5), ("z", 1.0)], "drift"))
        self.assertEqual([(each["class"], float(each["x"]), float(each["width"])) for each in parts],
                         [("down", 370.0, 90.0), ("up", 460.0, 180.0)])  # fmt: skip
        parts = rects(pictures.heat(["a", "b"], [[1.0, -0.5], [-0.5, 1.0]], "r"))
        self.assertEqual([(each["class"], each["fill-opacity"]) for each in parts],
                         [("up", "1.00"), ("down", "0.53"), ("down", "0.53"), ("up", "1.00")])  # fmt: skip
        self.assertEqual(
            [(each["x"], each["y"]) for each in parts], [("190", "0"), ("208", "0"), ("190", "18"), ("208", "18")]
        )
        long = pictures.bars([("n" * 40, 1)], "bins")
        self.assertIn("n" * 24 + "..<", long)
        self.assertNotIn("n" * 25, long)
