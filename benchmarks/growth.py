"""What must not grow with the square: learned terms, terms of one variable, text columns, groups of `within`.

Run ``python benchmarks/growth.py --write`` (about five minutes, 3 GB) to put the table into docs/performance.md.
"""

from __future__ import annotations

import argparse
import tempfile
import time
import warnings
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pyarrow as pa

import facturum as fa

PAGE = Path(__file__).resolve().parent.parent / "docs/performance.md"
HEAD = "| case | time | half as many | wanted |\n|---|---|---|---|"


def seconds(work: Callable[[], object]) -> float:
    """Return the better of two runs."""
    times = []
    for _ in range(2):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return min(times)


def learned_terms(count: int) -> Callable[[], object]:
    dice = np.random.default_rng(1)
    table = {f"x{at}": dice.normal(size=2_000) for at in range(count)} | {"y": dice.normal(size=2_000)}
    plan = fa.Plan("y", {f"t{at}": f"standardize(x{at})" for at in range(count)})
    return lambda: plan.with_checks("off").build(table)


def terms_of_one(count: int, form: str) -> Callable[[], object]:
    dice = np.random.default_rng(2)
    table = {"x": dice.normal(size=4_000), "y": dice.normal(size=4_000)}
    plan = fa.Plan("y", {f"t{at}": form.format(at + 1) for at in range(count)}, data={"every": "row"})
    return lambda: plan.build(table).columns


def text_columns(folder: Path, count: int) -> tuple[Callable[[], object], Callable[[], object]]:
    dice, path = np.random.default_rng(3), folder / f"{count}.csv"
    lines = [",".join(f"c{at}" for at in range(count))]
    lines += [",".join(f"w{v}" for v in dice.integers(0, 5, count)) for _ in range(30)]
    path.write_text("\n".join(lines) + "\n")
    plan = fa.Plan(None, {"a": "c1", "b": "c7", "c": f"c{count - 1}"})
    return lambda: plan.build(path).columns, lambda: fa.read(path)


def groups(folder: Path, rows: int, count: int) -> Iterator[tuple[str, float | int]]:
    """Yield what building, verifying and applying `within` over many groups takes, and how long its plan is."""
    dice = np.random.default_rng(4)
    names = pa.array([f"group number {at}" for at in range(count)])
    codes = pa.array(dice.permutation(np.arange(rows) % count), pa.int32())
    table = pa.table(
        {
            "y": dice.normal(size=rows),
            "x": dice.normal(size=rows),
            "g": pa.DictionaryArray.from_arrays(codes, names),
        }
    )
    plan, place = fa.Plan("y", {"m": "within(x, by=[g])"}), folder / str(count)
    start = time.perf_counter()
    made = plan.build(table)
    yield "built", time.perf_counter() - start
    made.save(place)
    first = made.X[:1_000].copy()
    del made
    opened = fa.open_design(place)
    start = time.perf_counter()
    if not opened.verify(table).ok:
        raise SystemExit("it does not verify")
    yield "verified", time.perf_counter() - start
    start = time.perf_counter()
    if not (first == opened.plan.build(table.slice(0, 1_000)).X).all():
        raise SystemExit("new rows differ")
    yield "applied to 1,000 rows", time.perf_counter() - start
    yield "bytes of plan.resolved.toml", (place / "plan.resolved.toml").stat().st_size


def lines() -> Iterator[str]:
    """Yield the lines of the table."""
    yield HEAD
    for name, whole, half, wanted in (
        ("1,000 learned terms, resolved and filled", learned_terms(1_000), learned_terms(500), "≤ 3 s"),
        (
            "2,000 lags of one variable, with their map",
            terms_of_one(2_000, "lag(x, {})"),
            terms_of_one(1_000, "lag(x, {})"),
            "≤ 5 s",
        ),
        (
            "2,000 conditions on one variable, with their map",
            terms_of_one(2_000, "x > {} / 1000 - 1"),
            terms_of_one(1_000, "x > {} / 1000 - 1"),
            "≤ 5 s",
        ),
    ):
        yield f"| {name} | {seconds(whole):.2f} s | {seconds(half):.2f} s | {wanted} |"
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        named, read = text_columns(folder, 20_000)
        half_named, half_read = text_columns(folder, 10_000)
        yield f"| three of 20,000 text columns, built | {seconds(named):.2f} s | {seconds(half_named):.2f} s | ≤ 3 s |"
        yield f"| 20,000 text columns, read | {seconds(read):.2f} s | {seconds(half_read):.2f} s | ≤ 3 s |"
        halves = dict(groups(folder, 2_500_000, 500_000))
        for what, value in groups(folder, 5_000_000, 1_000_000):
            shown = [f"{each:,}" if what.startswith("bytes") else f"{each:.1f} s" for each in (value, halves[what])]
            wanted = "≤ 1 MB" if what.startswith("bytes") else ""
            yield f"| `within`, 1,000,000 groups of 5,000,000 rows: {what} | {shown[0]} | {shown[1]} | {wanted} |"


def main() -> None:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--write", action="store_true", help="put the table into docs/performance.md")
    given = parser.parse_args()
    warnings.simplefilter("ignore")
    made = []
    for line in lines():
        print(line, flush=True)
        made.append(line)
    if given.write:
        before, mark, rest = PAGE.read_text("utf-8").partition("<!-- growth -->\n")
        _, end, after = rest.partition("<!-- end of growth -->")
        PAGE.write_text(f"{before}{mark}\n" + "\n".join(made) + f"\n\n{end}{after}", "utf-8")


if __name__ == "__main__":
    main()
