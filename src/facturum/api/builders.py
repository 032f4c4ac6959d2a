"""Expressions that Python's operators work on, and the builder of each operation."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import MISSING, fields
from inspect import Parameter, Signature
from typing import Any

import numpy as np

from facturum.errors import PlanError
from facturum.language.core import arithmetic, literals, logic
from facturum.language.families import REGISTRY
from facturum.language.syntax.binding import bind, known_operations
from facturum.language.syntax.other_words import meant
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Node
from facturum.support.arguments import checked


class Expression:
    """An expression that Python's operators work on; ``str`` of it is its text in a plan."""

    def __init__(self, node: Node) -> None:
        self.node = node

    def __str__(self) -> str:
        return str(self.node)

    def __repr__(self) -> str:
        return f"<{self.node}>"

    __hash__ = None  # type: ignore[assignment]  # what is compared with == makes a condition

    def __bool__(self) -> bool:
        raise PlanError(
            f"the expression '{self.node}' has no truth value in Python",
            remedy="Write & for and, | for or, ~ for not, with brackets around each condition, is_in([..]) for in, and "
            "two comparisons for a chain.",
        )

    def __contains__(self, other: Any) -> bool:
        raise PlanError("'in' is not supported on expressions", remedy="Write expression.is_in([..]).")

    def _with(self, operation: type[Any], other: Any) -> Expression:
        return Expression(operation(self.node, expression(other)))

    def __add__(self, other: Any) -> Expression:
        return self._with(arithmetic.Add, other)

    def __sub__(self, other: Any) -> Expression:
        return self._with(arithmetic.Subtract, other)

    def __mul__(self, other: Any) -> Expression:
        return self._with(arithmetic.Multiply, other)

    def __truediv__(self, other: Any) -> Expression:
        return self._with(arithmetic.Divide, other)

    def __pow__(self, other: Any) -> Expression:
        return self._with(arithmetic.Power, other)

    def __radd__(self, other: Any) -> Expression:
        return Expression(arithmetic.Add(expression(other), self.node))

    def __rsub__(self, other: Any) -> Expression:
        return Expression(arithmetic.Subtract(expression(other), self.node))

    def __rmul__(self, other: Any) -> Expression:
        return Expression(arithmetic.Multiply(expression(other), self.node))

    def __rtruediv__(self, other: Any) -> Expression:
        return Expression(arithmetic.Divide(expression(other), self.node))

    def __neg__(self) -> Expression:
        return Expression(arithmetic.Negative(self.node))

    def __and__(self, other: Any) -> Expression:
        return self._with(logic.And, other)

    def __or__(self, other: Any) -> Expression:
        return self._with(logic.Or, other)

    def __rpow__(self, other: Any) -> Expression:
        return Expression(arithmetic.Power(expression(other), self.node))

    def __rand__(self, other: Any) -> Expression:
        return Expression(logic.And(expression(other), self.node))

    def __ror__(self, other: Any) -> Expression:
        return Expression(logic.Or(expression(other), self.node))

    def __invert__(self) -> Expression:
        return Expression(logic.Not(self.node))

    def _compared(self, operator: str, other: Any) -> Expression:
        return Expression(logic.Comparison((self.node, _value(other)), (operator,)))

    def __lt__(self, other: Any) -> Expression:
        return self._compared("<", other)

    def __le__(self, other: Any) -> Expression:
        return self._compared("<=", other)

    def __gt__(self, other: Any) -> Expression:
        return self._compared(">", other)

    def __ge__(self, other: Any) -> Expression:
        return self._compared(">=", other)

    def __eq__(self, other: object) -> Expression:  # type: ignore[override]
        return self._compared("==", other)

    def __ne__(self, other: object) -> Expression:  # type: ignore[override]
        return self._compared("!=", other)

    def is_in(self, members: Sequence[Any]) -> Expression:
        """Return the condition that this is one of several values; a text is a category or a period.

        Args:
            members: the values.

        Raises:
            PlanError: where they are not a list of values.

        Example:
            >>> print(variable("access").is_in(["road", "trail"]))
            access in ['road', 'trail']
        """
        if isinstance(members, str | bytes) or not isinstance(members, Iterable):
            raise PlanError(f"is_in takes a list of values, not {members!r}", remedy='Write is_in(["road"]).')
        return Expression(logic.Membership(self.node, tuple(_value(member) for member in members)))


def _value(given: Any) -> Node:
    """Return what an expression is compared with: a text is a category or a period."""
    return literals.Text(given) if isinstance(given, str) else expression(given)


def expression(given: Any) -> Node:
    """Return the node of an argument: an Expression, a number, a truth value, a text or a list of these.

    Raises:
        PlanError: for anything else.
    """
    if isinstance(given, Expression):
        return given.node
    if isinstance(given, np.generic):
        given = given.item()
    if isinstance(given, bool):
        return literals.Truth(given)
    if isinstance(given, int | float):
        return literals.Number(given)
    if isinstance(given, str):
        return parse(given)
    if isinstance(given, list | tuple):
        return literals.List(tuple(expression(member) for member in given))
    raise PlanError(
        f"{given!r} is not a valid expression", remedy="Give a text, a number, a list or what facturum.terms makes."
    )


@checked
def variable(name: str) -> Expression:
    """Return a variable by its name, whatever characters it has."""
    return Expression(literals.Name(name))


def _literal(given: Any) -> Any:
    if isinstance(given, list | tuple | range):
        return tuple(_literal(member) for member in given)
    if isinstance(given, dict):
        return tuple((_literal(key), _literal(value)) for key, value in given.items())
    return given


def _pairs(given: Any) -> list[Node]:
    pairs = list(given.items()) if isinstance(given, dict) else given
    several = isinstance(pairs, list | tuple) and len(pairs) > 0
    if not several or any(not isinstance(each, tuple | list) or len(each) != 2 for each in pairs):
        remedy = 'Write {"price > 40": "dear"}, or pairs: [(price > 40, "dear")].'
        raise PlanError(f"{given!r} is not a dict of values by condition", remedy=remedy)
    return [node for key, value in pairs for node in (expression(key), _value(value))]


def _fail(at: Any, what: str, remedy: str | None) -> PlanError:
    return PlanError(what if at is None else f"{what} (given {at!r})", remedy=remedy)


class UnknownOption(PlanError, TypeError):
    """An option that an operation does not have."""


def builder_of(name: str) -> Callable[..., Expression]:
    """Return the builder of an operation.

    Raises:
        AttributeError: where there is none of that name.
    """
    operation = REGISTRY.get(name)
    if operation is None:
        hint, remedy = meant(name, known_operations())
        raise AttributeError(f"operation '{name}' not found{hint or f': {remedy}'}")

    def builder(*positional: Any, **named: Any) -> Expression:
        given: list[tuple[str | None, Any]] = [(None, value) for value in positional]
        try:
            return Expression(bind(operation, given + list(named.items()), expression, _literal, _pairs, _fail))
        except PlanError as error:
            if not set(named) <= set(signature.parameters):
                raise UnknownOption(error.what, remedy=error.remedy) from None
            raise

    signature = signature_of(operation)
    builder.__name__ = builder.__qualname__ = name
    builder.__doc__ = operation.__doc__
    builder.__signature__ = signature  # type: ignore[attr-defined]
    return builder


def signature_of(operation: type[Node]) -> Signature:
    """Return how the builder of an operation is called.

    Example:
        >>> str(signature_of(REGISTRY["lag"])), str(signature_of(REGISTRY["mean_of"]))
        ('(x, k)', "(*items, at_least='all')")
    """
    parameters: list[Parameter] = []
    for field in fields(operation):  # type: ignore[arg-type]
        spread = field.metadata["role"] == "arguments" and field.metadata["spread"]
        after = any(each.kind is Parameter.VAR_POSITIONAL for each in parameters)
        kind = Parameter.KEYWORD_ONLY if after else Parameter.POSITIONAL_OR_KEYWORD
        default = Parameter.empty if field.default is MISSING or spread else field.default
        parameters.append(Parameter(field.name, Parameter.VAR_POSITIONAL if spread else kind, default=default))
    return Signature(parameters)
