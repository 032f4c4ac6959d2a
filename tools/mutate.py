"""Makes small wrong changes in the code, one at a time, and sees which of them the tests notice.

    python tools/mutate.py --packages language engine --each 40 --minutes 30 --seed 1 --write

The mutations are those of cosmic-ray; a sample of them is taken from each package, and tried in copies of the tree. A
first run under coverage.py finds which test reaches which line: a mutant meets only the tests that could notice it.
"""

from __future__ import annotations

import argparse
import ast
import compileall
import json
import multiprocessing
import os
import random
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from itertools import accumulate
from pathlib import Path
from queue import Queue
from typing import Any

import cosmic_ray.plugins
from cosmic_ray.ast import get_ast
from cosmic_ray.mutating import use_mutation

ROOT = Path(__file__).resolve().parent.parent
PACKAGES = (
    "support", "numerics", "data", "language", "engine", "audit", "trial", "look", "files", "api", "validation", "show",
    "cli",
)  # fmt: skip
# these start processes of their own, or throw random input at everything: slow, and coverage.py does not see them
LEFT_OUT = ("test_guard", "test_hostile", "test_walkthroughs")
# what each process of tests needs, imported once before the processes divide
NEEDED = ["numpy", "pandas", "polars", "pyarrow.parquet", "scipy.sparse", "hypothesis.strategies", "jsonschema"]
REPORT = ROOT / "docs/tests.md"
MARK = "<!-- what follows is written by tools/mutate.py -->\n"
MEMORY = 8 << 30  # bytes, for mutants that ask for more than there is
PATIENCE = 150.0  # seconds of tests that a mutant meets at most, those first that tell most of its file


@dataclass(frozen=True)
class Mutant:
    """One small wrong change: the file, the kind of change, and its how many-th place."""

    package: str
    path: str
    operator: str
    occurrence: int
    line: int


@dataclass(frozen=True)
class Reach:
    """What one test reaches: its time, and the lines of each file."""

    seconds: float
    lines: Mapping[str, frozenset[int]]


def mutants_of(package: str) -> Iterator[Mutant]:
    """Yield all changes in a package that could be noticed: none in annotations, decorators, docstrings, messages."""
    odd = ("Decorator", "Variable")
    names = [name for name in cosmic_ray.plugins.operator_names() if not any(word in name for word in odd)]
    for path in sorted((ROOT / "src/facturum" / package).rglob("*.py")):
        mute = _mute_lines(path)
        tree = get_ast(path.read_text("utf-8"))
        for name in names:
            operator = cosmic_ray.plugins.get_operator(name)()
            occurrence = 0
            for node in _nodes(tree):
                for (line, column), _ in operator.mutation_positions(node):
                    if not any(a <= (line, column) < b for a, b in mute):
                        yield Mutant(package, str(path.relative_to(ROOT)), name, occurrence, line)
                    occurrence += 1


def _nodes(node: object) -> Iterator[object]:
    yield node
    for child in getattr(node, "children", ()):
        yield from _nodes(child)


def _mute_lines(path: Path) -> list[tuple[tuple[int, int], tuple[int, int]]]:
    """Return the ranges in which a change has no effect, or none but on the words of a message."""
    found: list[ast.AST] = []
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.FunctionDef) and ast.unparse(node.body) == "...":
            found.append(node)  # of a protocol, which only says what there is
        elif isinstance(node, ast.FunctionDef):
            found += [arg.annotation for arg in node.args.args + node.args.kwonlyargs if arg.annotation]
            found += [node.returns] if node.returns else []
            found += node.decorator_list
        elif isinstance(node, ast.ClassDef):
            found += node.decorator_list
        elif isinstance(node, ast.AnnAssign):
            found.append(node.annotation)
        elif isinstance(node, ast.Raise | ast.JoinedStr | ast.ImportFrom | ast.Import) or _types_only(node):
            found.append(node)
    return [
        ((node.lineno, node.col_offset), (node.end_lineno or node.lineno, node.end_col_offset or 0))  # type: ignore[attr-defined]
        for node in found
    ]


def _types_only(node: ast.AST) -> bool:
    return isinstance(node, ast.If) and isinstance(node.test, ast.Name) and node.test.id == "TYPE_CHECKING"


def statement_of(path: Path, line: int) -> range | None:
    """Return the lines of the innermost statement (its head, if it has a body); None outside functions."""
    found: range | None = None
    for function in ast.walk(ast.parse(path.read_text("utf-8"))):
        if not isinstance(function, ast.FunctionDef):
            continue
        for node in ast.walk(function):
            if isinstance(node, ast.stmt) and node is not function:
                body = getattr(node, "body", None)
                last = body[0].lineno - 1 if body else node.end_lineno or node.lineno
                lines = range(node.lineno, max(last, node.lineno) + 1)
                if line in lines and (found is None or len(lines) <= len(found)):
                    found = lines
    return found


def copy_of_the_tree() -> Path:
    """Return a copy of what the tests need."""
    folder = Path(tempfile.mkdtemp(prefix="facturum-mutants-"))
    left = ("build", "demo-out")
    for source in sorted(each for each in ROOT.iterdir() if not each.name.startswith(".") and each.name not in left):
        if source.is_dir():
            shutil.copytree(source, folder / source.name, ignore=shutil.ignore_patterns("__pycache__"))
        else:
            shutil.copy2(source, folder / source.name)
    compileall.compile_dir(folder, quiet=1)  # once, and not in each process of tests
    return folder


def enter(tree: Path) -> None:
    """Let this process take the package and its tests from a copy of the tree."""
    os.chdir(tree)
    sys.path[:0] = [str(tree / "src"), str(tree)]
    sys.dont_write_bytecode = True
    path = f"{tree / 'src'}:{tree}"
    os.environ.update(PYTHONPATH=path, PYTHONDONTWRITEBYTECODE="1", FACTURUM_HYPOTHESIS="mutate")


def every_test() -> Iterator[unittest.TestCase]:
    """Yield the tests of the tree that this process has entered."""
    names = sorted(path.stem for path in Path("tests").glob("test_*.py"))
    load = unittest.defaultTestLoader.loadTestsFromName
    waiting: list[Any] = [load(f"tests.{name}") for name in names if name not in LEFT_OUT]
    while waiting:
        found = waiting.pop(0)
        if isinstance(found, unittest.TestSuite):
            waiting[:0] = list(found)
        else:
            yield found


def measure(tree: Path, out: Path) -> None:
    """Run each test once under coverage.py, and write what it reaches as JSON."""
    import coverage

    enter(tree)
    watch = coverage.Coverage(data_file=None, source=[str(tree / "src/facturum")], messages=False)
    seconds: dict[str, float] = {}
    for test in every_test():
        watch.start()  # again for each, since a test may trace by itself
        watch.switch_context(test.id())
        start = time.monotonic()
        outcome = unittest.TestResult()
        test.run(outcome)
        seconds[test.id()] = time.monotonic() - start
        watch.stop()
        if not outcome.wasSuccessful():
            raise SystemExit(f"{test.id()} fails without any change:\n{(outcome.failures + outcome.errors)[0][1]}")
    lines: dict[str, dict[str, list[int]]] = defaultdict(lambda: defaultdict(list))
    data = watch.get_data()
    for file in data.measured_files():
        for line, contexts in data.contexts_by_lineno(file).items():
            for context in contexts:
                lines[context][str(Path(file).relative_to(tree))].append(line)
    out.write_text(json.dumps({name: [took, lines[name]] for name, took in seconds.items()}), "utf-8")


def reaches(kept: Path) -> dict[str, Reach]:
    """Return what each test reaches, by name, from a file that is written where there is none."""
    if not kept.exists():
        tree = copy_of_the_tree()
        try:
            subprocess.run([sys.executable, __file__, "--measure", str(tree), str(kept.resolve())], check=True)
        finally:
            shutil.rmtree(tree, ignore_errors=True)
    read = json.loads(kept.read_text("utf-8"))
    return {
        name: Reach(took, {file: frozenset(lines) for file, lines in files.items()})
        for name, (took, files) in read.items()
    }


def tests_for(mutant: Mutant, reach: Mapping[str, Reach]) -> list[str]:
    """Return the tests that reach the changed statement, or the file where that runs as modules are imported."""
    lines = statement_of(ROOT / mutant.path, mutant.line)
    reached = {name: found.lines.get(mutant.path, frozenset()) for name, found in reach.items()}
    chosen = [name for name, found in reached.items() if lines is not None and found & set(lines)]
    return chosen or [name for name, found in reached.items() if found]


def try_tests(tree: Path, tests: Sequence[str], limits: Sequence[float], answer: Any) -> None:
    """Run tests until one fails, and send its name; in a process of its own."""
    os.setsid()
    resource.setrlimit(resource.RLIMIT_DATA, (MEMORY, MEMORY))
    silent = os.open(os.devnull, os.O_WRONLY)
    os.dup2(silent, 1)
    os.dup2(silent, 2)
    enter(tree)
    failed = ""
    for name, limit in zip(tests, limits, strict=True):
        signal.alarm(int(limit))
        outcome = unittest.TestResult()
        try:
            unittest.defaultTestLoader.loadTestsFromName(name).run(outcome)
        except BaseException:  # whatever a wrong change does, it was noticed
            failed = name
        if failed or not outcome.wasSuccessful():
            failed = name
            break
    signal.alarm(0)
    answer.send(failed)


class Trial:
    """Tries mutants, those tests first that have noticed most for their time so far."""

    def __init__(self, reach: Mapping[str, Reach], jobs: int) -> None:
        self._reach = reach
        self._noticed: Counter[str] = Counter()
        self._met: Counter[str] = Counter()
        self._lock = threading.Lock()
        self._trees: Queue[Path] = Queue()
        for _ in range(jobs):
            self._trees.put(copy_of_the_tree())
        self._start = multiprocessing.get_context("forkserver")
        self._start.set_forkserver_preload(NEEDED)

    def control(self) -> None:
        """Run all tests without a change, where mutants meet them.

        Raises:
            SystemExit: where one fails all the same, and would be taken for noticing each change that it reaches.
        """
        tree = self._trees.get()
        if not self._passes(tree, list(self._reach)):
            raise SystemExit(f"without any change fails: {', '.join(self._noticed) or 'the process of the tests'}")
        self._trees.put(tree)

    def close(self) -> None:
        while not self._trees.empty():
            shutil.rmtree(self._trees.get(), ignore_errors=True)

    def _chosen(self, mutant: Mutant) -> list[str]:
        """Return the tests that a mutant meets, in the order of what they may notice for their time."""
        with self._lock:
            tests = sorted(tests_for(mutant, self._reach), key=partial(self._worth, mutant.path), reverse=True)
        spent = accumulate(self._reach[name].seconds for name in tests)
        return [name for name, seconds in zip(tests, spent, strict=True) if seconds <= PATIENCE] or tests[:1]

    def _worth(self, path: str, name: str) -> float:
        reached = self._reach[name]
        share = len(reached.lines.get(path, ())) / (sum(map(len, reached.lines.values())) + 1)
        likely = (self._noticed[name] + 1) / (self._met[name] + 5) + 20 * share
        return likely / (reached.seconds + 0.1)

    def survives(self, mutant: Mutant) -> bool | None:
        """Return whether all tests pass with the change in a copy of the tree; None where it cannot be made."""
        tests = self._chosen(mutant)
        if not tests:
            return True
        operator = cosmic_ray.plugins.get_operator(mutant.operator)()
        tree = self._trees.get()
        try:
            with use_mutation(tree / mutant.path, operator, mutant.occurrence) as (_, changed):
                return changed is not None and self._passes(tree, tests)
        except AttributeError:  # of an exception with a dot in its name
            return None
        finally:
            self._trees.put(tree)

    def _passes(self, tree: Path, tests: Sequence[str]) -> bool:
        limits = [20 + 10 * self._reach[name].seconds for name in tests]
        here, there = self._start.Pipe(duplex=False)
        process = self._start.Process(target=try_tests, args=(tree, tests, limits, there))
        process.start()
        there.close()
        process.join()
        try:
            failed = here.recv() if here.poll() else None
        except EOFError:
            failed = None  # it was killed, or ended by itself
        if failed:
            with self._lock:
                self._noticed[failed] += 1
                self._met.update(tests[: tests.index(failed) + 1])
        return failed == ""


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--packages", nargs="+", choices=PACKAGES, default=list(PACKAGES))
    parser.add_argument("--each", type=int, default=40, help="mutants of each package")
    parser.add_argument("--minutes", type=float, default=60)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--write", action="store_true", help="write the outcome into docs/tests.md")
    parser.add_argument("--reach", type=Path, help="a file that keeps what each test reaches")
    parser.add_argument("--measure", nargs=2, type=Path, help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.measure:
        measure(*given.measure)
        return 0
    chosen: list[Mutant] = []
    for package in given.packages:
        everything = list(mutants_of(package))
        chosen += random.Random(f"{given.seed} {package}").sample(everything, min(given.each, len(everything)))
        print(f"{package}: {len(everything):,} mutants, {min(given.each, len(everything))} of them tried", flush=True)
    random.Random(given.seed).shuffle(chosen)
    until = time.monotonic() + 60 * given.minutes
    with tempfile.TemporaryDirectory() as folder:
        trial = Trial(reaches(given.reach or Path(folder) / "reach.json"), given.jobs)
    trial.control()
    tried: list[tuple[Mutant, bool]] = []

    def attempt(mutant: Mutant) -> None:
        if time.monotonic() > until:
            return
        alive = trial.survives(mutant)
        if alive is None:
            return
        tried.append((mutant, alive))
        if alive:
            noticed = f"({sum(not each for _, each in tried)} of {len(tried)} noticed)"
            print(f"survives: {mutant.path}:{mutant.line} {mutant.operator} #{mutant.occurrence}", noticed, flush=True)

    with ThreadPoolExecutor(given.jobs) as pool:
        list(pool.map(attempt, chosen))
    trial.close()
    text = report(tried, given.seed)
    print(text)
    if given.write:
        before = REPORT.read_text("utf-8").partition(MARK)[0]
        REPORT.write_text(before + MARK + text, "utf-8")
    return 0


def report(tried: list[tuple[Mutant, bool]], seed: int) -> str:
    """Return the outcome by package and file as a table."""
    counts: dict[str, list[int]] = defaultdict(lambda: [0, 0])
    for mutant, alive in tried:
        for name in (mutant.package, mutant.path.removeprefix("src/facturum/")):
            counts[name][0] += 1
            counts[name][1] += not alive
    lines = [f"\nA sample of {len(tried)} mutants (seed {seed}).\n", "| where | tried | noticed |", "|---|---|---|"]
    packages = [name for name in counts if "/" not in name]
    for package in sorted(packages):
        total, caught = counts[package]
        lines.append(f"| **{package}** | {total} | {caught} ({100 * caught / total:.0f} %) |")
        for name in sorted(name for name in counts if name.startswith(f"{package}/")):
            lines.append(f"| {name} | {counts[name][0]} | {counts[name][1]} |")
    alive_lines = [f"- {m.path}:{m.line} {m.operator.removeprefix('core/')}" for m, alive in tried if alive]
    return "\n".join([*lines, "", "Those that no test noticed:", "", *sorted(alive_lines)]) + "\n"


if __name__ == "__main__":
    sys.exit(main())
