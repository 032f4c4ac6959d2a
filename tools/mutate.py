"""Makes small wrong changes in the code, one at a time, and sees which of them the tests notice.

    python tools/mutate.py --rooms language engine --each 40 --minutes 30 --seed 1 --write

The mutations are those of cosmic-ray; a sample of them is taken from each room, and tried in copies of the tree.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections import defaultdict
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from queue import Queue

import cosmic_ray.plugins
from cosmic_ray.ast import get_ast
from cosmic_ray.mutating import use_mutation

ROOT = Path(__file__).resolve().parent.parent
ROOMS = ("numerics", "data", "language", "engine", "audit")
# the tests of each room, those that notice most in the shortest time first; then all others but the slowest
FIRST = {
    "numerics": ("numerics", "bins", "operations"),
    "data": ("tables", "containers", "conversion", "time"),
    "language": ("operations", "language", "errors", "treatments", "interpreter"),
    "engine": ("errors", "interpreter", "engine", "time"),
    "audit": ("audit", "told", "verify", "treatments"),
}
REST = (
    *("operations", "language", "numerics", "tables", "bins", "treatments", "time", "errors", "audit", "told"),
    *("verify", "containers", "conversion", "interpreter", "engine", "look", "files"),
)
TIME_LIMIT = 300
REPORT = ROOT / "docs/tests.md"
MARK = "<!-- what follows is written by tools/mutate.py -->\n"


@dataclass(frozen=True)
class Mutant:
    """One small wrong change: the file, the kind of change, and its how many-th place."""

    room: str
    path: str
    operator: str
    occurrence: int
    line: int


def mutants_of(room: str) -> Iterator[Mutant]:
    """Yield all changes in a room that could be noticed: none in annotations, docstrings and messages."""
    odd = ("Decorator", "Variable")
    names = [name for name in cosmic_ray.plugins.operator_names() if not any(word in name for word in odd)]
    for path in sorted((ROOT / "src/facturum" / room).glob("*.py")):
        mute = _mute_lines(path)
        tree = get_ast(path.read_text("utf-8"))
        for name in names:
            operator = cosmic_ray.plugins.get_operator(name)()
            occurrence = 0
            for node in _nodes(tree):
                for (line, column), _ in operator.mutation_positions(node):
                    if (line, column) not in mute and not any(a <= (line, column) < b for a, b in mute):
                        yield Mutant(room, str(path.relative_to(ROOT)), name, occurrence, line)
                    occurrence += 1


def _nodes(node: object) -> Iterator[object]:
    yield node
    for child in getattr(node, "children", ()):
        yield from _nodes(child)


def _mute_lines(path: Path) -> list[tuple[tuple[int, int], tuple[int, int]]]:
    """Return the ranges in which a change has no effect, or none but on the words of a message."""
    found: list[ast.AST] = []
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.FunctionDef):
            found += [arg.annotation for arg in node.args.args + node.args.kwonlyargs if arg.annotation]
            found += [node.returns] if node.returns else []
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


def copy_of_the_tree() -> Path:
    """Return a copy of what the tests need."""
    folder = Path(tempfile.mkdtemp(prefix="facturum-mutants-"))
    for name in ("src", "tests", "examples", "docs", "tools", "README.md", "pyproject.toml"):
        source = ROOT / name
        if source.is_dir():
            shutil.copytree(source, folder / name, ignore=shutil.ignore_patterns("__pycache__"))
        else:
            shutil.copy(source, folder / name)
    return folder


def survives(mutant: Mutant, tree: Path) -> bool:
    """Return whether all tests pass with the change in a copy of the tree."""
    operator = cosmic_ray.plugins.get_operator(mutant.operator)()
    order = dict.fromkeys([*FIRST[mutant.room], *REST])
    modules = [f"tests.test_{name}" for name in order]
    environment = {
        **os.environ,
        "PYTHONPATH": f"{tree / 'src'}:{tree}",
        "PYTHONDONTWRITEBYTECODE": "1",
        "FACTURUM_HYPOTHESIS": "mutate",
    }
    with use_mutation(tree / mutant.path, operator, mutant.occurrence) as (_, changed):
        if changed is None:
            return False
        command = [sys.executable, "-W", "ignore", "-m", "unittest", "-f", *modules]
        try:
            options = {"capture_output": True, "timeout": TIME_LIMIT, "check": False}
            done = subprocess.run(command, cwd=tree, env=environment, **options)  # type: ignore[call-overload]
        except subprocess.TimeoutExpired:
            return False
    return done.returncode == 0


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--rooms", nargs="+", choices=ROOMS, default=list(ROOMS))
    parser.add_argument("--each", type=int, default=40, help="mutants of each room")
    parser.add_argument("--minutes", type=float, default=60)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--write", action="store_true", help="write the outcome into docs/tests.md")
    given = parser.parse_args()
    chosen: list[Mutant] = []
    for room in given.rooms:
        everything = list(mutants_of(room))
        chosen += random.Random(f"{given.seed} {room}").sample(everything, min(given.each, len(everything)))
        print(f"{room}: {len(everything):,} mutants, {min(given.each, len(everything))} of them tried", flush=True)
    random.Random(given.seed).shuffle(chosen)
    until = time.monotonic() + 60 * given.minutes
    trees: Queue[Path] = Queue()
    for _ in range(given.jobs):
        trees.put(copy_of_the_tree())
    tried: list[tuple[Mutant, bool]] = []

    def attempt(mutant: Mutant) -> None:
        if time.monotonic() > until:
            return
        tree = trees.get()
        try:
            alive = survives(mutant, tree)
        finally:
            trees.put(tree)
        tried.append((mutant, alive))
        if alive:
            print(f"survives: {mutant.path}:{mutant.line} {mutant.operator} #{mutant.occurrence}", flush=True)

    with ThreadPoolExecutor(given.jobs) as pool:
        list(pool.map(attempt, chosen))
    while not trees.empty():
        shutil.rmtree(trees.get(), ignore_errors=True)
    text = report(tried, given.seed)
    print(text)
    if given.write:
        before = REPORT.read_text("utf-8").partition(MARK)[0]
        REPORT.write_text(before + MARK + text, "utf-8")
    return 0


def report(tried: list[tuple[Mutant, bool]], seed: int) -> str:
    """Return the outcome by room and file as a table."""
    counts: dict[str, list[int]] = defaultdict(lambda: [0, 0])
    for mutant, alive in tried:
        for name in (mutant.room, mutant.path.removeprefix("src/facturum/")):
            counts[name][0] += 1
            counts[name][1] += not alive
    lines = [f"\nA sample of {len(tried)} mutants (seed {seed}).\n", "| where | tried | noticed |", "|---|---|---|"]
    rooms = [name for name in counts if "/" not in name]
    for room in sorted(rooms):
        total, caught = counts[room]
        lines.append(f"| **{room}** | {total} | {caught} ({100 * caught / total:.0f} %) |")
        for name in sorted(name for name in counts if name.startswith(f"{room}/")):
            lines.append(f"| {name} | {counts[name][0]} | {counts[name][1]} |")
    alive_lines = [f"- {m.path}:{m.line} {m.operator.removeprefix('core/')}" for m, alive in tried if alive]
    return "\n".join([*lines, "", "Those that no test noticed:", "", *sorted(alive_lines)]) + "\n"


if __name__ == "__main__":
    sys.exit(main())
