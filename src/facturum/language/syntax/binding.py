"""From the arguments of a call to the fields of an operation, for the parser and the Python builders alike."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from typing import Any, Protocol, TypeVar

from facturum.errors import PlanError
from facturum.language.core.literals import List
from facturum.language.syntax.other_words import option_meant
from facturum.language.tree.nodes import Node
from facturum.language.tree.options import EXACT, loses_digits
from facturum.language.tree.registry import REGISTRY

T = TypeVar("T")
G = TypeVar("G", contravariant=True)


class Fail(Protocol[G]):
    """Makes an error that points at an argument."""

    def __call__(self, at: G | None, what: str, remedy: str | None, /) -> PlanError: ...


def known_operations() -> list[str]:
    """Return the names of all operations, and `variable`."""
    return [*REGISTRY, "variable"]


def signature(operation: type[Node]) -> str:
    """Return how an operation is called.

    Example:
        >>> signature(REGISTRY["log"])
        "log(x, shift=0, nonpositive='fail', base=None)"
    """
    from facturum.language.tree.writer import literal_text

    words = []
    for field in dataclasses.fields(operation):  # type: ignore[arg-type]
        if field.metadata.get("spread"):
            words.append(f"{field.name}, ..")
        elif field.metadata.get("pairs"):
            words.append("{condition: value, ..}")
        elif field.default is dataclasses.MISSING:
            words.append(field.name)
        elif field.metadata["role"] == "arguments":
            words.append(f"{field.name}=[..]")
        elif not field.metadata.get("learned") or field.metadata.get("by_hand"):
            words.append(f"{field.name}={literal_text(field.default)}")
    return f"{operation.name}({', '.join(words)})"


def bind(
    operation: type[Node],
    given: Sequence[tuple[str | None, T]],
    expression: Callable[[T], Node],
    literal: Callable[[T], Any],
    pairs: Callable[[T], Sequence[Node]],
    fail: Fail[T],
) -> Node:
    """Return an operation from the arguments of a call.

    Args:
        operation: the operation.
        given: the arguments, each with its name or None.
        expression: makes an expression of an argument.
        literal: makes a literal of an argument.
        pairs: makes expressions of the keys and values of an argument, one after the other.
        fail: makes an error.

    Raises:
        PlanError: for too many or too few arguments, unknown options, and values that an option does not accept.
    """
    fields = {field.name: field for field in dataclasses.fields(operation)}  # type: ignore[arg-type]
    chosen: dict[str, T] = {}
    values: dict[str, Any] = {}
    first = next(iter(fields), "")
    if first and fields[first].metadata.get("spread") and any(name is None for name, _ in given):
        members = [expression(value) for name, value in given if name is None]
        values[first] = tuple(
            part for member in members for part in (member.members if isinstance(member, List) else [member])
        )
        given = [(name, value) for name, value in given if name is not None]
    for at, (name, value) in enumerate(given):
        if name is None:
            if at >= len(fields):
                raise fail(
                    value, f"{operation.name} takes at most {len(fields)} arguments", f"Write {signature(operation)}."
                )
            name = list(fields)[at]
        if name not in fields:
            hint = option_meant(name, fields)
            raise fail(value, f"{operation.name} has no option '{name}'{hint}", f"Write {signature(operation)}.")
        if name in chosen or name in values:
            raise fail(value, f"{operation.name} is given '{name}' twice", f"Write {signature(operation)}.")
        chosen[name] = value
    for name, field in fields.items():
        if name in values:
            continue
        if name not in chosen:
            if field.default is dataclasses.MISSING:
                raise fail(None, f"{operation.name} needs its argument '{name}'", f"Write {signature(operation)}.")
            continue
        if field.metadata.get("pairs"):
            values[name] = tuple(pairs(chosen[name]))
        else:
            values[name] = _value(operation, field, chosen[name], expression, literal, fail)
    return operation(**values)


def _value(
    operation: type[Node],
    field: dataclasses.Field[Any],
    given: T,
    expression: Callable[[T], Node],
    literal: Callable[[T], Any],
    fail: Fail[T],
) -> Any:
    role = field.metadata["role"]
    if role == "argument":
        return expression(given)
    if role == "arguments":
        node = expression(given)
        return node.members if isinstance(node, List) else (node,)
    value = literal(given)
    accept = field.metadata["accept"]
    if isinstance(value, tuple) and not value and not accept.mapping and field.default == ():
        return value
    if value is None and field.default is None:
        return None
    if not accept.test(value):
        raise fail(given, f"{field.name} of {operation.name} must be {accept.words}", f"Write {signature(operation)}.")
    odd = None if accept.keys else loses_digits(value)
    if odd is not None:
        raise fail(given, f"{odd} loses digits as a number", EXACT)
    return value
