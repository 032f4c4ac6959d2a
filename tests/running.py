"""Runs all tests on all processors: `python -m tests`, or those of some modules, `python -m tests test_trial`.

What builds warn of is a part of what is tested, and is not printed besides.
"""

from __future__ import annotations

import io
import multiprocessing
import os
import time
import unittest
import warnings
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor

from facturum import FacturumWarning

HEAVY = ("test_guard", "test_files", "test_cli", "test_readings", "test_report")  # begun first


def classes(suite: unittest.TestSuite) -> Iterator[str]:
    """Yield the names of the test classes of a suite, each once."""
    for part in suite:
        if isinstance(part, unittest.TestSuite):
            yield from classes(part)
        elif isinstance(part, unittest.loader._FailedTest):  # type: ignore[attr-defined]
            part.debug()  # raises what kept its module from being loaded
        else:
            yield f"{type(part).__module__}.{type(part).__qualname__}" if part.id().count(".") > 2 else part.id()


def run(name: str) -> tuple[str, int, int, str]:
    """Run one class; return its name, how many tests there were, how many failed, and what is to be read."""
    start = time.monotonic()
    warnings.simplefilter("default")
    warnings.simplefilter("ignore", FacturumWarning)
    told = io.StringIO()
    suite = unittest.defaultTestLoader.loadTestsFromName(name)
    result = unittest.TextTestRunner(told, warnings="", verbosity=0).run(suite)  # type: ignore[arg-type]
    if os.environ.get("TEST_TIMES"):
        print(f" {time.monotonic() - start:.1f} {name}")
    wrong = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return name, result.testsRun, wrong, told.getvalue() if wrong else ""


def main(modules: list[str]) -> int:
    """Run all tests, or those of some modules; return 0 where all pass."""
    loader = unittest.defaultTestLoader
    suite = (
        loader.loadTestsFromNames([f"tests.{module}" for module in modules])
        if modules
        else loader.discover("tests", top_level_dir=".")
    )
    start, tests, wrong = time.monotonic(), 0, 0
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # else each command that is started compiles all modules anew
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # threads of several processes would wait for one another
    workers = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    with ProcessPoolExecutor(workers, multiprocessing.get_context("spawn")) as pool:
        names = sorted(dict.fromkeys(classes(suite)), key=lambda name: name.split(".")[1] not in HEAVY)
        for name, count, failed, told in pool.map(run, names):
            tests, wrong = tests + count, wrong + failed
            print("F" if failed else ".", end="", flush=True)
            if failed:
                print(f"\n{name}\n{told}", flush=True)
    print(f"\nRan {tests} tests in {time.monotonic() - start:.1f} s: {'OK' if not wrong else f'{wrong} failed'}")
    return 1 if wrong or not tests else 0
