"""Measures what the project promises of its code: sizes, rooms, circles of imports, what knows what, what loads.

    python tools/measure.py

Ends with 1 where a promise is broken. What is wanted beyond that is shown beside the figure.
"""

from __future__ import annotations

import ast
import subprocess
import sys
from collections.abc import Iterator, Mapping
from pathlib import Path

LEAST, MOST, LONGEST, FULLEST, LOADED = 0.25, 0.333, 400, 10, 100
ROOT = Path(__file__).resolve().parent.parent
PACKAGE = ROOT / "src/facturum"
MEANINGS = (
    "Factor", "Product", "Scaled", "Unit", "Count", "Logged", "Holds", "NoValue", "Indicator", "Contrast", "Power",
    "Orthogonal", "Curve", "Meaning",
)  # fmt: skip


def lines(folder: str) -> dict[str, int]:
    """Return the number of lines of each Python file below a folder."""
    return {
        str(path.relative_to(ROOT)): len(path.read_text("utf-8").splitlines())
        for path in sorted((ROOT / folder).rglob("*.py"))
    }


def modules() -> dict[str, Path]:
    """Return the file of each module of the package."""
    found = {}
    for path in sorted(PACKAGE.rglob("*.py")):
        name = ".".join(path.relative_to(PACKAGE.parent).with_suffix("").parts)
        found[name.removesuffix(".__init__")] = path
    return found


def imported(tree: ast.Module, known: Mapping[str, Path]) -> set[str]:
    """Return the modules of the package that a file imports when it runs, those inside functions too."""
    for_types = [node for node in ast.walk(tree) if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.dump(node.test)]
    left_out = {id(inner) for node in for_types for inner in ast.walk(node)}
    found = set[str]()
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.module and id(node) not in left_out:
            for alias in node.names:
                inner = f"{node.module}.{alias.name}"
                found |= {inner} if inner in known else {node.module} & set(known)
    return found


def circles() -> Iterator[list[str]]:
    """Yield each circle of imports, deferred ones among them."""
    known = modules()
    graph = {name: imported(ast.parse(path.read_text("utf-8")), known) - {name} for name, path in known.items()}
    done, path = set[str](), list[str]()

    def visit(name: str) -> Iterator[list[str]]:
        if name in path:
            yield [*path[path.index(name) :], name]
            return
        if name in done:
            return
        path.append(name)
        for other in sorted(graph[name]):
            yield from visit(other)
        done.add(path.pop())

    for name in graph:
        yield from visit(name)


def dispatches() -> Iterator[str]:
    """Yield where code outside the language asks for the class of a meaning, or names an operation by its class."""
    for name, path in modules().items():
        if name.startswith("facturum.language"):
            continue
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("facturum.language.operations"):
                yield f"{name}:{node.lineno} names an operation"
            if isinstance(node, ast.Call) and ast.unparse(node.func) == "isinstance":
                asked = {each.id for each in ast.walk(node.args[1]) if isinstance(each, ast.Name)}
                from_core = "language.core" in path.read_text("utf-8")  # whose Power is an expression
                if asked & (set(MEANINGS) - ({"Power"} if from_core else set())):
                    yield f"{name}:{node.lineno} asks for the class of a meaning"


def loaded() -> int:
    """Return how many modules of the package `facturum.Plan` loads."""
    program = "import sys, facturum; facturum.Plan; print(sum(name.startswith('facturum') for name in sys.modules))"
    return int(subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True).stdout)


def main() -> int:
    source, tests = lines("src"), lines("tests")
    share = sum(tests.values()) / (sum(source.values()) + sum(tests.values()))
    rooms = {}
    for path in PACKAGE.rglob("*.py"):
        if path.name != "__init__.py":
            rooms[path.parent] = rooms.get(path.parent, 0) + 1
    plans = loaded()
    print(f"src/: {sum(source.values()):,} lines in {len(source)} files")
    print(f"tests are {share:.1%} of {sum(source.values()) + sum(tests.values()):,} lines (wanted: 25 % to 33 %)")
    print(f"facturum.Plan loads {plans} modules of the package (wanted: under {LOADED})")
    faults = [f"longer than {LONGEST} lines: {path} ({n})" for path, n in source.items() if n > LONGEST]
    faults += [f"more than {FULLEST} files: {room.relative_to(ROOT)} ({n})" for room, n in rooms.items() if n > FULLEST]
    faults += [f"a circle of imports: {' -> '.join(circle)}" for circle in circles()]
    faults += list(dispatches())
    faults += [] if LEAST <= share <= MOST else ["the share of tests"]
    faults += [] if plans < LOADED else ["facturum.Plan loads too much"]
    print("\n".join(faults) or "no circle of imports, deferred ones included; rooms of at most ten files; "
          "outside the language no operation is named by its class, and no meaning asked for its own")  # fmt: skip
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
