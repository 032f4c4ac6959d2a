"""Speed and memory as ratios, measured side by side in one run.

Run ``python benchmarks/speed.py`` (about eight minutes, 3 GB); with --write the table goes into docs/performance.md.
"""

from __future__ import annotations

import shutil
import sys
import tempfile
import warnings
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from pathlib import Path

import numpy as np
import pyarrow as pa
from along_time import time_lines
from checks_and_trial import check_lines
from measuring import best, peak
from whole_build import build_lines

import facturum as fa
from facturum.support.threads import thread_count

ROWS = 2_000_000
TERMS = {
    "access": "category(access)",
    "price": "log(price)",
    "curve": "polynomial(price, 3)",
    "slope": "category(access) * log(price)",
}
PLAN = fa.Plan(terms=TERMS, intercept=False)


CLEAN = fa.Plan(
    terms={
        "bins": "bins(price, quantiles=10)",
        "filled": "impute(snow, 'median')",
        "no_snow": "is_missing(snow)",
    },
    intercept=False,
)


def plain_clean(price: np.ndarray, snow: np.ndarray) -> np.ndarray:
    """Cut into ten quantile bins, fill with the median and flag, as an analyst writes it."""
    edges = np.quantile(price, np.arange(1, 10) / 10)
    bounds = [*edges, np.inf]
    columns = [((price >= low) & (price < high)).astype(float) for low, high in pairwise(bounds)]
    absent = np.isnan(snow)
    columns += [np.where(absent, np.nanmedian(snow), snow), absent.astype(float)]
    return np.column_stack(columns)


def clean_lines() -> list[str]:
    """Compare bins and imputing with plain NumPy, and a profile with sorting."""
    dice = np.random.default_rng(3)
    price, snow = dice.uniform(1, 50, ROWS), dice.exponential(30, ROWS)
    snow[dice.random(ROWS) < 0.05] = np.nan
    table = fa.Table.of({"price": price, "snow": snow})
    built, by_hand = best(lambda: CLEAN.build(table), lambda: plain_clean(price, snow), runs=12)
    numbers = {f"n{at}": dice.normal(size=ROWS) if at % 2 else dice.exponential(size=ROWS) for at in range(14)}
    numbers |= {f"i{at}": dice.integers(0, 1000, ROWS) for at in range(2)}
    labels = pa.array([f"way {at:02d}" for at in range(12)])
    codes = [pa.array(dice.integers(0, 12, ROWS).astype(np.int8)) for _ in range(4)]
    categories = {f"c{at}": pa.DictionaryArray.from_arrays(code, labels) for at, code in enumerate(codes)}
    whole = fa.Table.of({**numbers, **categories})
    looked, ordered = best(lambda: fa.profile(whole), lambda: [np.sort(values) for values in numbers.values()], runs=3)
    return [
        "",
        "| 2,000,000 rows | facturum | compared with | time | ratio | wanted |",
        "|---|---|---|---|---|---|",
        f"| ten quantile bins, a median fill and its flag (11 columns) | {built:.3f} s | plain NumPy | {by_hand:.3f} s "
        f"| {built / by_hand:.2f} | ≤ 0.5 |",
        f"| profile of 20 variables, 16 of them numbers | {looked:.2f} s | sorting these, one thread | {ordered:.2f} s "
        f"| {looked / ordered:.1f} | ≤ 6 |",
    ]


def wide(columns: int) -> dict[str, list[float]]:
    """Return a table of three rows and many columns."""
    return {f"x{at}": [1.0, 2.0, 4.0] for at in range(columns)} | {"y": [1.0, 2.0, 3.0]}


def growth_lines() -> list[str]:
    """Compare what has four or ten times as many columns, terms or entries with what has fewer."""
    folder = Path(tempfile.mkdtemp())

    def terms(count: int) -> None:
        made = fa.Plan("y", {f"t{at}": f"x{at} * 2" for at in range(count)}).build(wide(count))
        made.save(folder / "build", replace=True)

    def groups(count: int) -> object:
        """Learn from groups, write the resolved plan, read it, and build with it again."""
        group = np.arange(400_000) % count
        table = fa.Table.of(
            {"g": pa.array([f"group {at}" for at in range(count)]).take(pa.array(group)), "x": group % 97.0}
        )
        made = fa.Plan(None, {"m": "x - mean(x, by=[g])", "i": "impute(x, 'median', by=[g])"}).build(table)
        return fa.Plan.from_text(str(made.plan)).build(table).columns

    def entries(count: int) -> object:
        """Bring numbers together that are named one by one."""
        listed = {"even": list(range(0, count, 2)), "odd": list(range(1, count, 2))}
        table = {"x": np.arange(200_000) % count}
        return fa.Plan(None, {"r": fa.terms.regroup("x", listed)}).build(table).columns

    cases: list[tuple[str, float, Callable[[], object], Callable[[], object]]] = [
        ("building and saving 8,000 terms, against 2,000", 5.0, lambda: terms(8000), lambda: terms(2000)),
        (
            "profile of 8,000 columns, against 2,000",
            5.0,
            lambda: fa.profile(wide(8000)),
            lambda: fa.profile(wide(2000)),
        ),
        ("statistics of 100,000 groups, against 10,000", 13.0, lambda: groups(100_000), lambda: groups(10_000)),
        ("a regroup of 6,000 categories, against 600", 13.0, lambda: entries(6_000), lambda: entries(600)),
    ]
    lines = ["", "| growth | many | few | ratio | wanted |", "|---|---|---|---|---|"]
    for name, most, many, few in cases:
        a, b = best(many, few, runs=3)
        lines.append(f"| {name} | {a:.2f} s | {b:.2f} s | {a / b:.1f} | ≤ {most:g} |")
    shutil.rmtree(folder)
    return lines


def sample(rows: int, categories: int = 12, missing: float = 0.0) -> tuple[fa.Table, np.ndarray, np.ndarray]:
    """Return a table in memory, and its category codes and its number as plain arrays."""
    dice = np.random.default_rng(7)
    codes = dice.integers(0, categories, rows).astype(np.int16 if categories > 100 else np.int8)
    price = dice.uniform(1, 50, rows)
    if missing:
        price[dice.random(rows) < missing] = np.nan
    labels = pa.array([f"way {at:03d}" for at in range(categories)])
    table = fa.Table.of({"access": pa.DictionaryArray.from_arrays(pa.array(codes), labels), "price": price})
    return table, codes, price


def plain(codes: np.ndarray, price: np.ndarray, categories: int) -> np.ndarray:
    """Make the same columns as an analyst writes them: one full-length array a column, stacked."""
    present = ~np.isnan(price)
    if not present.all():
        codes, price = codes[present], price[present]
    columns = [(codes == at).astype(float) for at in range(1, categories)]
    log_price = np.log(price)
    columns += [log_price, price, price**2, price**3]
    columns += [(codes == at) * log_price for at in range(1, categories)]
    return np.column_stack(columns)


def filled(rows: int, columns: int) -> np.ndarray:
    """Fill an array of the same shape with a constant, on as many threads."""
    threads = thread_count(None)
    matrix = np.empty((rows, columns), order="F")
    edges = np.linspace(0, columns, threads + 1).astype(int)

    def fill(at: int) -> None:
        matrix[:, edges[at] : edges[at + 1]] = 1.0

    with ThreadPoolExecutor(threads) as pool:
        list(pool.map(fill, range(threads)))
    return matrix


def compare(rows: int, categories: int, missing: float, with_plain: bool = True) -> tuple[float, float, float]:
    """Return the times of building, of plain NumPy and of filling."""
    table, codes, price = sample(rows, categories, missing)
    shape = PLAN.build(table).X.shape
    works: list[Callable[[], object]] = [lambda: PLAN.build(table), lambda: filled(*shape)]
    if with_plain:
        return tuple(best(*works, lambda: plain(codes, price, categories)))  # type: ignore[return-value]
    built, fill = best(*works)
    return built, fill, float("nan")


def main() -> None:
    warnings.simplefilter("ignore", fa.FacturumWarning)  # each table is constant or wide on purpose
    lines = ["| case | build | plain NumPy | filling | build / plain | wanted | build / filling | wanted |"]
    lines.append("|---|---|---|---|---|---|---|---|")
    cases = [
        ("2,000,000 rows, 12 categories, 26 columns", 12, 0.0, "≤ 0.25", "≤ 2.4"),
        ("the same, 1 % of the numbers missing", 12, 0.01, "", "≤ 3"),
        ("200 categories, 402 columns, 200,000 rows", 200, 0.0, "", ""),
    ]
    for name, categories, missing, against_plain, against_fill in cases:
        rows = ROWS if categories == 12 else ROWS // 10
        built, fill, by_hand = compare(rows, categories, missing)
        lines.append(
            f"| {name} | {built:.3f} s | {by_hand:.3f} s | {fill:.3f} s | {built / by_hand:.2f} | {against_plain} "
            f"| {built / fill:.2f} | {against_fill} |"
        )
    lines += ["", "| rows | build | for a million rows |", "|---|---|---|"]
    for rows in (500_000, 1_000_000, 2_000_000, 4_000_000):
        built, _, _ = compare(rows, 12, 0.0, with_plain=False)
        lines.append(f"| {rows:,} | {built:.3f} s | {built / rows * 1e6:.3f} s |")
    table, _, _ = sample(ROWS)
    used = peak(lambda: PLAN.build(table))
    lines += ["", f"Peak memory beyond the inputs: {used / (ROWS * 26 * 8):.2f} times the matrix (wanted: ≤ 1.2)."]
    lines += clean_lines()
    lines += growth_lines()
    lines += build_lines()
    lines += time_lines()
    lines += check_lines()
    text = "\n".join(lines)
    print(text)
    if "--write" in sys.argv:
        page = Path(__file__).resolve().parent.parent / "docs/performance.md"
        head, _, _ = page.read_text("utf-8").partition("<!-- measured -->")
        page.write_text(f"{head}<!-- measured -->\n\n{text}\n", "utf-8")


if __name__ == "__main__":
    main()
