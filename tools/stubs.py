"""The signatures of the builders in `facturum.terms`, as editors and type checkers read them."""

from __future__ import annotations

import dataclasses
import inspect
from typing import Any

from facturum.language.families import REGISTRY
from facturum.language.tree.nodes import Node

_HEAD = '''"""Builders of expressions; this file is made from the operations by `make docs`."""

from collections.abc import Mapping, Sequence
from typing import Any

from facturum.api.builders import Expression as Expression
from facturum.api.builders import expression as expression
from facturum.api.builders import variable as variable
from facturum.language.tree.options import Absent

Operand = Expression | str | float | Sequence["Operand"]
missing: Absent
'''


def stubs() -> str:
    """Return the stub file of the builders."""
    return _HEAD + "".join(_stub(operation) for operation in REGISTRY.values())


def _stub(operation: type[Node]) -> str:
    parameters = ", ".join(_parameter(each) for each in dataclasses.fields(operation))  # type: ignore[arg-type]
    summary = inspect.cleandoc(operation.__doc__ or "").splitlines()[0]
    return f'def {operation.name}({parameters}) -> Expression:\n    """{summary}"""\n\n'


def _parameter(field: dataclasses.Field[Any]) -> str:
    """Return a parameter with its type, and its default as dots."""
    role, default = field.metadata["role"], "" if field.default is dataclasses.MISSING else " = ..."
    if role == "arguments" and field.metadata["spread"]:
        return f"*{field.name}: Operand"
    if role == "argument":
        return f"{field.name}: Operand{default}"
    if role == "arguments":
        return f"{field.name}: Operand | Sequence[Operand]{default}"
    return f"{field.name}: {_option(field)}{default}"


def _option(field: dataclasses.Field[Any]) -> str:
    """Return the types of an option, from those that its annotation names."""
    written = str(field.type)
    kinds = [
        name for name in ("bool", "int", "float", "str") if name in written.split("[")[0].replace("|", " ").split()
    ]
    if "tuple" in written:
        kinds.append("Mapping[Any, Any]" if field.metadata["accept"].mapping else "Sequence[Any]")
    return " | ".join([*kinds, *(["None"] if "None" in written else [])]) if kinds else "Any"
