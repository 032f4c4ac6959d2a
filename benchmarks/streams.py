"""Builds of tables that are read and written in parts, beside the Parquet library reading and writing the same.

Run ``python benchmarks/streams.py [ROWS ..]`` (10 and 200 million take about a quarter of an hour and 10 GB of disk);
with --write the table goes into docs/performance.md. Each case runs in a process of its own, whose peak of memory is
read from the kernel.
"""

from __future__ import annotations

import json
import resource
import shutil
import subprocess
import sys
import tempfile
import time
import warnings
from pathlib import Path

import numpy as np
import pyarrow as pa
from pyarrow import parquet

import facturum as fa

ROWS = (10_000_000, 200_000_000)
ALONG_ROWS = 20_000_000
BLOCK, PERIODS, CATEGORIES = 1_000_000, 200, 12
DAY = 24 * 3_600_000_000
MARKS = ("<!-- in parts -->", "<!-- end of parts -->")
PLAIN = {
    "access": "category(access)",
    "price": "log(price)",
    "curve": "polynomial(price, 3)",
    "slope": "category(access) * log(price)",
}
ALONG = {
    "access": "category(access)",
    "before": "lag(price, [1, 2])",
    "change": "difference(price)",
    "average": "moving_average(price, 3)",
    "slope": "category(access) * lag(price, 1)",
}


def plan(terms: dict[str, str], checks: bool = False) -> fa.Plan:
    """Return a plan of 26 columns, or of 27 along time; without checks, which read the rows twice."""
    timing = {"time": "moment", "every": "day", "panel": ["unit"]} if terms == ALONG else None
    made = fa.Plan(terms=terms, intercept=False, data=timing)
    return made if checks else made.with_checks("off")


def write_source(path: Path, rows: int, shuffled: bool = False) -> None:
    """Write a panel of units of 200 days: unit, day, way of access and price."""
    dice = np.random.default_rng(7)
    labels = pa.array([f"way {at:03d}" for at in range(CATEGORIES)])
    order = dice.permutation(rows) if shuffled else None
    writer: parquet.ParquetWriter | None = None
    for start in range(0, rows, BLOCK):
        at = np.arange(start, min(start + BLOCK, rows)) if order is None else order[start : start + BLOCK]
        table = pa.table(
            {
                "unit": pa.array((at // PERIODS).astype(np.int32)),
                "moment": pa.array((at % PERIODS * DAY).astype("datetime64[us]")),
                "access": pa.DictionaryArray.from_arrays(
                    pa.array(dice.integers(0, CATEGORIES, len(at)).astype(np.int8)), labels
                ).cast(pa.string()),
                "price": pa.array(dice.uniform(1, 50, len(at))),
            }
        )
        writer = writer or parquet.ParquetWriter(path, table.schema, compression="zstd")
        writer.write_table(table)
    if writer is not None:
        writer.close()


def by_library(source: Path, folder: Path) -> None:
    """Read the source by the Parquet library, and write as many rows of the same result, made beforehand."""
    head = next(parquet.ParquetFile(source).iter_batches(2**18, columns=["access", "price"]))
    result = plan(PLAIN).build(pa.Table.from_batches([head])).to_arrow()
    folder.mkdir()
    start = time.perf_counter()
    with parquet.ParquetWriter(
        folder / "design.parquet", result.schema, compression="zstd", use_dictionary=False
    ) as writer:
        for batch in parquet.ParquetFile(source).iter_batches(2**18, columns=["access", "price"]):
            writer.write_table(result.slice(0, batch.num_rows))
    _report(start)


def by_facturum(source: Path, folder: Path, terms: dict[str, str], checks: bool = False) -> None:
    """Build the source into a folder."""
    warnings.simplefilter("ignore", fa.FacturumWarning)
    start = time.perf_counter()
    plan(terms, checks).build_into(folder, source)
    _report(start)


def verified(source: Path, folder: Path) -> None:
    """Verify a build against its source."""
    start = time.perf_counter()
    outcome = fa.open_design(folder).verify(source)
    if not outcome.ok:
        raise SystemExit(str(outcome))
    _report(start)


def _report(start: float) -> None:
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    print(json.dumps({"seconds": time.perf_counter() - start, "peak": peak}))


def run(case: str, source: Path, folder: Path) -> tuple[float, float]:
    """Run a case in a process of its own; return its seconds and its peak of memory in bytes."""
    if case != "verified":
        shutil.rmtree(folder, ignore_errors=True)
    command = [sys.executable, __file__, "--case", case, str(source), str(folder)]
    told = subprocess.run(command, capture_output=True, text=True, check=False)
    if told.returncode:
        raise SystemExit(f"{case}: {told.stderr}")
    outcome = json.loads(told.stdout)
    return outcome["seconds"], outcome["peak"]


def stream_lines(rows: tuple[int, ...] = ROWS, along: int = ALONG_ROWS) -> list[str]:
    """Return the table of figures."""
    holder = Path(tempfile.mkdtemp(dir="/var/tmp"))
    lines = [
        "",
        "| case | time | a million rows | memory | compared with | ratio | wanted |",
        "|---|---|---|---|---|---|---|",
    ]
    try:
        plain: dict[int, float] = {}
        source, out = holder / "source.parquet", holder / "out"
        for count in rows:
            write_source(source, count)
            library, _ = run("library", source, out)
            seconds, peak = run("plain", source, out)
            plain[count] = seconds
            lines.append(
                _line(
                    f"{count:,} rows, 26 columns", count, seconds, peak, "the library alone", library / seconds, "≥ 0.6"
                )
            )
            if count == min(rows):
                checked, peak = run("checked", source, out)
                lines.append(
                    _line(f"{count:,} rows with all checks", count, checked, peak, "without", checked / seconds, "")
                )
        if len(rows) > 1:
            few, many = min(rows), max(rows)
            ratio = (plain[many] / many) / (plain[few] / few)
            lines.append(f"| time a row, {many:,} beside {few:,} rows | | | | | {ratio:.2f} | 0.9 to 1.1 |")
        write_source(source, along)
        base, _ = run("plain", source, out)
        again, peak = run("verified", source, out)
        lines.append(_line(f"verifying {along:,} rows", along, again, peak, "building them", again / base, "≤ 2"))
        for name, shuffled, most in (("in order", False, "≤ 2"), ("shuffled", True, "≤ 4")):
            if shuffled:
                write_source(source, along, shuffled)
            seconds, peak = run("along", source, out)
            lines.append(
                _line(f"along time, {along:,} rows {name}", along, seconds, peak, "without time", seconds / base, most)
            )
    finally:
        shutil.rmtree(holder)
    return lines


def _line(name: str, rows: int, seconds: float, peak: float, other: str, ratio: float, wanted: str) -> str:
    each = seconds / rows * 1e6
    return f"| {name} | {seconds:.1f} s | {each:.2f} s | {peak / 2**20:,.0f} MB | {other} | {ratio:.2f} | {wanted} |"


def write(lines: list[str]) -> None:
    """Put the table into docs/performance.md, between its marks."""
    path = Path(__file__).parent.parent / "docs/performance.md"
    before, rest = path.read_text("utf-8").split(MARKS[0])
    after = rest.split(MARKS[1])[1]
    path.write_text("\n".join([before + MARKS[0], *lines, "", MARKS[1] + after]), "utf-8")


if __name__ == "__main__":
    if sys.argv[1:2] == ["--case"]:
        case, source, folder = sys.argv[2], Path(sys.argv[3]), Path(sys.argv[4])
        if case == "library":
            by_library(source, folder)
        elif case == "verified":
            verified(source, folder)
        else:
            by_facturum(source, folder, ALONG if case == "along" else PLAIN, case == "checked")
    else:
        counts = tuple(int(word) for word in sys.argv[1:] if word != "--write") or ROWS
        lines = stream_lines(counts, min(ALONG_ROWS, max(counts)))
        print("\n".join(lines))
        if "--write" in sys.argv:
            write(lines)
