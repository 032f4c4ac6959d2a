"""Lists the public interface of the package, name by name with its signature.

    python tools/interface.py            prints it
    python tools/interface.py --write    writes tests/interface.txt, which a test compares; tell of it in CHANGELOG.md

What is not listed is private, by its name or by its place, and may change in any release.
"""

from __future__ import annotations

import dataclasses
import inspect
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import facturum

LIST = Path(__file__).resolve().parent.parent / "tests/interface.txt"


def called(function: Any) -> str:
    """Return the parameters of a function, with their defaults."""
    try:
        parameters = inspect.signature(function).parameters.values()
    except (TypeError, ValueError):
        return "(..)"
    shown = [
        each.replace(annotation=inspect.Parameter.empty) for each in parameters if each.name not in ("self", "cls")
    ]
    return str(inspect.Signature(shown))


def members(name: str, cls: type) -> Iterator[str]:
    """Yield the public members of a class, those of its bases in the package among them."""
    if dataclasses.is_dataclass(cls):
        yield from (f"{name}.{each.name}" for each in dataclasses.fields(cls) if not each.name.startswith("_"))
    yield from (f"{name}.{each}" for each in getattr(cls, "model_fields", {}))
    known: dict[str, Any] = {}
    for base in reversed([each for each in cls.__mro__ if each.__module__.startswith("facturum")]):
        known |= vars(base)
    for key, value in known.items():
        if key.startswith("_"):
            continue
        function = value.__func__ if isinstance(value, classmethod | staticmethod) else value
        if callable(function):
            yield f"{name}.{key}{called(function)}"
        elif isinstance(value, property) or type(value).__name__ == "cached_property":
            yield f"{name}.{key}"


def interface() -> list[str]:
    """Return a line for each public name, and for each public member of a class."""
    lines: set[str] = set()
    for name in facturum.__all__:
        value = getattr(facturum, name)
        if inspect.isclass(value):
            lines |= {name + ("" if issubclass(value, Exception) else called(value)), *members(name, value)}
        elif callable(value):
            lines.add(f"{name}{called(value)}")
        else:
            lines.add(name)
    lines |= {
        f"terms.{name}{called(getattr(facturum.terms, name))}" for name in dir(facturum.terms) if name != "missing"
    }
    return sorted({line for line in lines if ".model_" not in line})


if __name__ == "__main__":
    text = "\n".join(interface()) + "\n"
    if "--write" in sys.argv:
        LIST.write_text(text, "utf-8")
    else:
        print(text, end="")
