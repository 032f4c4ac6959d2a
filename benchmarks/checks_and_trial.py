"""The checks of a build and its trial regression beside a plain orthogonal factorisation; tracing a cell.

Run ``python benchmarks/checks_and_trial.py`` (about a minute, 3 GB); ``speed.py`` takes its table over.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
import warnings

import numpy as np
from measuring import best, peak
from scipy.linalg import qr

import facturum as fa
from facturum.api.design import Design
from facturum.audit.map.report import report_of
from facturum.engine.passes.build import build
from facturum.files.builds.built_design import FromBuild

ROWS, CATEGORIES = 2_000_000, 12
TERMS = {
    "access": "category(access)",
    "price": "log(price)",
    "curve": "polynomial(price, 3, orthogonal=True)",
    "slope": "category(access) * log(price)",
}
RUNS = 4


def sample() -> dict[str, np.ndarray]:
    """Return a table with a response."""
    dice = np.random.default_rng(7)
    price = dice.uniform(1, 50, ROWS)
    access = np.array([f"way {at:03d}" for at in range(CATEGORIES)])[dice.integers(0, CATEGORIES, ROWS)]
    return {"access": access, "price": price, "stays": np.exp(5 - 0.4 * np.log(price) + dice.normal(0, 0.3, ROWS))}


def check_lines() -> list[str]:
    """Return the lines of the table."""
    plan = fa.Plan("log(stays)", TERMS)
    off = plan.with_checks("off")
    table = fa.Table.of(sample())
    built, spec = build(plan.spec, table), plan.spec
    unchecked = build(off.spec, table)
    matrix = np.asarray(built.X)

    def fresh(of: object, plan_spec: object) -> Design:
        return Design([c.name for c in built.columns], ["log_stays"], built.spec, FromBuild(of, plan_spec), fa.Plan)

    def mapped() -> object:
        return report_of(unchecked)

    def checked() -> object:
        return report_of(built)

    def tried() -> object:
        return fresh(built, spec).trial()

    def plain() -> object:
        return qr(matrix, mode="r", check_finite=False)

    without, with_checks, whole, reference = best(mapped, checked, tried, plain, runs=RUNS)
    command = [sys.executable, __file__, "--memory"]  # in a process that has not used memory before
    memory = float(subprocess.run(command, capture_output=True, text=True, check=True).stdout) / 1e6
    added = (whole - without) / reference
    lines = [
        "",
        "| case | measured (wanted) | memory beyond the matrix (wanted) |",
        "|---|---|---|",
        f"| checks and trial, 2,000,000 × {matrix.shape[1]} | {added:.2f} of scipy's qr, R alone (1.2) | "
        f"{memory:.0f} MB (100 MB) |",
        f"| of these the checks alone | {(with_checks - without) / reference:.2f} | |",
    ]
    with tempfile.TemporaryDirectory() as folder:
        plan.build(table).save(f"{folder}/build")
        start = time.perf_counter()
        fa.open_design(f"{folder}/build").trace(table, ROWS - 5, "slope_way_003")
        first = time.perf_counter() - start
    return [*lines, f"| trace of a cell of a stored build of 2,000,000 rows | {first:.2f} s (0.3 s) | |"]


def memory_of_a_trial() -> int:
    """Return how many bytes checks and trial add at their peak."""
    plan, table = fa.Plan("log(stays)", TERMS), fa.Table.of(sample())
    design = plan.build(table)
    return peak(lambda: design.trial())


if __name__ == "__main__":
    warnings.simplefilter("ignore", fa.FacturumWarning)
    print(memory_of_a_trial() if "--memory" in sys.argv else "\n".join(check_lines()))
