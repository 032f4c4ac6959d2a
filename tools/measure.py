"""Measures what the project promises of its files: the share of tests, and no file that is too long."""

from __future__ import annotations

import sys
from pathlib import Path

LEAST, MOST, LONGEST = 0.25, 0.333, 400


def lines(folder: str) -> dict[str, int]:
    """Return the number of lines of each Python file below a folder."""
    return {str(path): len(path.read_text("utf-8").splitlines()) for path in sorted(Path(folder).rglob("*.py"))}


def main() -> int:
    source, tests = lines("src"), lines("tests")
    share = sum(tests.values()) / (sum(source.values()) + sum(tests.values()))
    long = [f"{path} ({count} lines)" for path, count in source.items() if count > LONGEST]
    print(f"tests are {share:.1%} of {sum(source.values()) + sum(tests.values()):,} lines (wanted: 25 % to 33 %)")
    for path in long:
        print(f"longer than {LONGEST} lines: {path}")
    return 0 if LEAST <= share <= MOST and not long else 1


if __name__ == "__main__":
    sys.exit(main())
