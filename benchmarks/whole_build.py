"""The build of the first benchmark beside a dataframe engine, with rows left out, verified; and a conversion.

Run ``python benchmarks/whole_build.py`` (about two minutes, 3 GB); ``speed.py`` takes its table over.
"""

from __future__ import annotations

import shutil
import tempfile
import warnings
from collections.abc import Callable
from pathlib import Path

import numpy as np
import polars as pl
import pyarrow as pa
from measuring import best

import facturum as fa

ROWS, CATEGORIES = 2_000_000, 12
TERMS = {
    "access": "category(access)",
    "price": "log(price)",
    "curve": "polynomial(price, 3)",
    "slope": "category(access) * log(price)",
}
RUNS = 6


def sample(rows: int, missing: float = 0.0) -> tuple[fa.Table, pl.DataFrame]:
    """Return the same table for both."""
    dice = np.random.default_rng(7)
    codes = dice.integers(0, CATEGORIES, rows).astype(np.int8)
    price = dice.uniform(1, 50, rows)
    if missing:
        price[dice.random(rows) < missing] = np.nan
    labels = [f"way {at:03d}" for at in range(CATEGORIES)]
    access = pa.DictionaryArray.from_arrays(pa.array(codes), pa.array(labels))
    frame = pl.DataFrame({"access": pl.Series(np.array(labels)[codes]).cast(pl.Enum(labels)), "price": price})
    return fa.Table.of({"access": access, "price": price}), frame


def by_expressions(frame: pl.DataFrame) -> np.ndarray:
    """Make the same columns as an analyst writes them for a dataframe engine, as one matrix."""
    access, price = pl.col("access"), pl.col("price")
    names = [f"way {at:03d}" for at in range(1, CATEGORIES)]
    each = [(access == name).cast(pl.Float64).alias(name) for name in names]
    each += [price.log().alias("log"), price.alias("p1"), (price**2).alias("p2"), (price**3).alias("p3")]
    each += [((access == name).cast(pl.Float64) * price.log()).alias(f"slope {name}") for name in names]
    return frame.select(each).to_numpy(order="fortran")


def days() -> tuple[fa.Table, list[np.ndarray]]:
    """Return 20,000 days of 50 units, and the same as arrays."""
    unit = np.repeat(np.arange(50, dtype=np.int32), 20_000)
    moment = np.tile(np.arange(20_000), 50).astype("datetime64[D]").astype("datetime64[us]")
    value = np.random.default_rng(9).uniform(0, 9, len(unit))
    return fa.Table.of({"unit": unit, "day": moment, "value": value}), [unit, moment, value]


def build_lines() -> list[str]:
    """Return the table of ratios."""
    warnings.simplefilter("ignore", fa.FacturumWarning)
    folder = Path(tempfile.mkdtemp())
    plan = fa.Plan(terms=TERMS, intercept=False)
    kept = fa.Plan(terms=TERMS, intercept=False, rows={"missing": "keep"})
    some = fa.Plan(terms=TERMS, intercept=False, rows={"keep": "price < 49.5"})
    table, frame = sample(ROWS)
    holes, _ = sample(ROWS, 0.01)
    small, _ = sample(ROWS // 10)
    np.testing.assert_allclose(by_expressions(frame), plan.build(table).X, rtol=1e-12)
    calendar, arrays = days()
    take = {"value": {"how": "mean", "partial": "keep"}}

    def stored() -> None:
        plan.build(small).save(folder / "build", replace=True)

    stored()
    cases: list[tuple[str, Callable[[], object], str, Callable[[], object], float]] = [
        ("2,000,000 rows, 26 columns", lambda: plan.build(table), "expressions of a dataframe engine",
         lambda: by_expressions(frame), 0.8),
        ("rows with missing values kept", lambda: kept.build(holes), "left out", lambda: plan.build(holes), 1.5),
        ("[rows] keep", lambda: some.build(table), "without it", lambda: plan.build(table), 1.5),
        ("verifying a stored build, 200,000 rows", lambda: fa.open_design(folder / "build").verify(small),
         "building and saving it", stored, 2.0),
        ("1,000,000 daily values of 50 units to months",
         lambda: fa.convert(calendar, time="day", every="day", to="month", panel=["unit"], take=take),
         "copying the arrays", lambda: [array.copy() for array in arrays], 5.0),
    ]  # fmt: skip
    lines = ["", "| case | facturum | compared with | time | ratio | wanted |", "|---|---|---|---|---|---|"]
    for name, ours, other, theirs, most in cases:
        mine, its = best(ours, theirs, runs=RUNS)
        lines.append(f"| {name} | {mine:.3f} s | {other} | {its:.3f} s | {mine / its:.2f} | ≤ {most:g} |")
    shutil.rmtree(folder)
    return lines


if __name__ == "__main__":
    print("\n".join(build_lines()))
