"""Operations along time beside plain NumPy and the window expressions of a dataframe engine, as ratios in one run.

Run ``python benchmarks/along_time.py`` (about two minutes, 2 GB); ``speed.py`` takes its table over.
"""

from __future__ import annotations

import warnings
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import polars as pl
from measuring import best

import facturum as fa

UNITS, PERIODS = 10_000, 200
LONG = 5_000_000
LAGS, STEPS, WINDOW = (1, 2, 3, 4, 5), (1, 12), 3
TERMS = {
    "lags": f"lag(price, {list(LAGS)})",
    **{f"d{step}": f"difference(price, step={step})" for step in STEPS},
    "average": f"moving_average(price, {WINDOW})",
}
WIDTH = len(LAGS) + len(STEPS) + 1
RUNS = 6
DAY = 24 * 3_600_000_000


@dataclass(frozen=True)
class Panel:
    """Rows of units and periods: their numbers, and a price."""

    unit: np.ndarray
    period: np.ndarray
    price: np.ndarray
    every: str = "day"

    @property
    def table(self) -> fa.Table:
        moments = (self.period * (DAY if self.every == "day" else DAY // 24)).astype("datetime64[us]")
        return fa.Table.of({"unit": self.unit, "moment": moments, "price": self.price})

    @property
    def plan(self) -> fa.Plan:
        panel = ["unit"] if self.unit[0] != self.unit[-1] else []
        data = {"time": "moment", "every": self.every, "panel": panel}
        return fa.Plan(terms=TERMS, intercept=False, data=data, rows={"missing": "keep"})

    def some(self, rows: np.ndarray) -> Panel:
        return Panel(self.unit[rows], self.period[rows], self.price[rows], self.every)


def in_order() -> Panel:
    dice = np.random.default_rng(7)
    unit = np.repeat(np.arange(UNITS, dtype=np.int32), PERIODS)
    return Panel(unit, np.tile(np.arange(PERIODS), UNITS), dice.uniform(1, 90, UNITS * PERIODS))


def columns_of(x: np.ndarray, lagged: Callable[[int], np.ndarray]) -> list[np.ndarray]:
    """Return the eight columns by hand, from what returns the value so many periods before."""
    before = {k: lagged(k) for k in sorted({*LAGS, *STEPS})}
    average = (x + before[1] + before[2]) / WINDOW
    return [*(before[k] for k in LAGS), *(x - before[step] for step in STEPS), average]


def sorting(panel: Panel) -> np.ndarray:
    """Plain NumPy: sort, mask where a neighbour is another unit or another period, put back."""
    order = np.lexsort((panel.period, panel.unit))
    unit, period, x = panel.unit[order], panel.period[order], panel.price[order]

    def lagged(k: int) -> np.ndarray:
        column = np.full(len(x), np.nan)
        hit = (unit[k:] == unit[:-k]) & (period[k:] - period[:-k] == k)
        column[k:][hit] = x[:-k][hit]
        return column

    return _put_back(columns_of(x, lagged), order)


def searching(panel: Panel) -> np.ndarray:
    """Plain NumPy for periods with gaps: sort, search each period by one number for unit and period, put back."""
    order = np.lexsort((panel.period, panel.unit))
    x = panel.price[order]
    keys = panel.unit[order].astype(np.int64) * 1000 + panel.period[order]

    def lagged(k: int) -> np.ndarray:
        at = np.searchsorted(keys, keys - k)
        return np.where(keys[at] == keys - k, x[at], np.nan)

    return _put_back(columns_of(x, lagged), order)


def _put_back(columns: list[np.ndarray], order: np.ndarray) -> np.ndarray:
    matrix = np.empty((len(order), WIDTH), order="F")
    for at, column in enumerate(columns):
        matrix[order, at] = column
    return matrix


def gridded(panel: Panel) -> np.ndarray:
    """Plain NumPy on a grid of units by periods, without a check of either."""
    x = panel.price.reshape(-1, PERIODS)
    matrix = np.empty((x.size, WIDTH), order="F")

    def lagged(k: int) -> np.ndarray:
        column = np.empty_like(x)
        column[:, :k] = np.nan
        column[:, k:] = x[:, :-k]
        return column

    for at, column in enumerate(columns_of(x, lagged)):
        matrix[:, at] = column.ravel()
    return matrix


def windowed(panel: Panel, ordered: bool) -> np.ndarray:
    """The window expressions of a dataframe engine on all threads; for rows out of order, sorted and put back."""
    frame = pl.DataFrame({"unit": panel.unit, "period": panel.period, "price": panel.price})
    if not ordered:
        frame = frame.with_row_index("row").sort("unit", "period")
    x = pl.col("price")
    each = [
        *[x.shift(k).over("unit").alias(f"l{k}") for k in LAGS],
        *[x.diff(step).over("unit").alias(f"d{step}") for step in STEPS],
        x.rolling_mean(WINDOW).over("unit").alias("m"),
    ]
    if ordered:
        return frame.select(each).to_numpy(order="fortran")
    return frame.select("row", *each).sort("row").drop("row").to_numpy(order="fortran")


def same(panel: Panel, *hands: Callable[[], np.ndarray]) -> None:
    """Hold the works by hand to the build, so that no ratio compares different results."""
    matrix = panel.plan.build(panel.table).X
    for hand in hands:
        np.testing.assert_allclose(hand(), matrix, rtol=1e-9, atol=1e-9)


def time_lines() -> list[str]:
    """Return the table of ratios."""
    warnings.simplefilter("ignore", fa.FacturumWarning)
    ordered = in_order()
    dice = np.random.default_rng(8)
    shuffled = ordered.some(dice.permutation(UNITS * PERIODS))
    gaps = ordered.some(np.flatnonzero(dice.random(UNITS * PERIODS) > 0.1))
    long = Panel(np.zeros(LONG, dtype=np.int32), np.arange(LONG), dice.uniform(1, 90, LONG), "hour")
    lines = [
        "",
        f"Five lags, two differences and a moving average, rows kept with missing values ({WIDTH} columns):",
        "",
    ]
    lines += ["| rows | facturum | compared with | time | ratio | wanted |", "|---|---|---|---|---|---|"]
    lines += _against("a panel in order", ordered, ("sorting", sorting, 0.5), ("a grid", gridded, 3.0))
    lines += _against("shuffled", shuffled, ("sorting", sorting, 0.8))
    lines += _against("10 % gaps", gaps, ("sorting, for gaps", searching, 0.5))
    lines += _against(
        "shuffled, 10 % gaps", gaps.some(dice.permutation(len(gaps.unit))), ("sorting, for gaps", searching, 0.8)
    )
    lines += _against("one series of 5,000,000", long, ("sorting", sorting, 0.5))
    return lines


def _against(name: str, panel: Panel, *hands: tuple[str, Callable[[Panel], np.ndarray], float]) -> list[str]:
    plan, table = panel.plan, panel.table
    rivals: list[tuple[str, Callable[[], np.ndarray], float]] = [
        (f"plain NumPy, {how}", lambda work=work: work(panel), most) for how, work, most in hands
    ]
    if "gaps" not in name:
        in_rows = not name.startswith("shuffled")
        rivals.append(("window expressions", lambda: windowed(panel, in_rows), 1.0))
    same(panel, *[work for _, work, _ in rivals])
    ours, *theirs = best(lambda: plan.build(table), *[work for _, work, _ in rivals], runs=RUNS)
    return [
        f"| {name} | {ours:.3f} s | {rival} | {each:.3f} s | {ours / each:.2f} | ≤ {most} |"
        for (rival, _, most), each in zip(rivals, theirs, strict=True)
    ]


if __name__ == "__main__":
    print("\n".join(time_lines()))
