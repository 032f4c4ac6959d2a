"""Prints the lowest versions that pyproject.toml allows, one a line, for pip to install: what is promised is tried.

pip install $(python tools/lowest.py)
"""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

PROJECT = tomllib.loads((Path(__file__).resolve().parent.parent / "pyproject.toml").read_text("utf-8"))["project"]


def lowest() -> list[str]:
    """Return each requirement of the package and of what is tested with it, at its lowest version."""
    optional = PROJECT["optional-dependencies"]
    tested = [*PROJECT["dependencies"], *optional["pandas"], *optional["sheets"]]
    return sorted({re.sub(r">=([\d.]+).*", r"==\1", requirement) for requirement in tested})


if __name__ == "__main__":
    print("\n".join(lowest()))
