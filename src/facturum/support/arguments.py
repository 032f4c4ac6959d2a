"""What public functions are given: arguments of other types than they name are refused with an error of ours."""

from __future__ import annotations

import functools
import inspect
import types
import typing
from collections.abc import Callable, Mapping, Sequence
from typing import Any, ParamSpec, TypeVar

from pydantic import ConfigDict, PydanticUserError, TypeAdapter, ValidationError

from facturum.errors import DataError, FacturumError

P = ParamSpec("P")
R = TypeVar("R")
_LISTS = (Sequence, list, tuple)


def checked(function: Callable[P, R]) -> Callable[P, R]:
    """Let a public function refuse arguments that are not of the types which it names.

    A text where a list is wanted is refused at once, since it would be taken for a list of its letters. Other types are
    looked at where the function fails: what works is never refused.

    Raises:
        DataError: naming the argument, and what it should be; for one that there is not, a TypeError as well.

    Example:
        >>> def scaled(sizes: Sequence[float]) -> list[float]:
        ...     return [size / 2 for size in sizes]
        >>> checked(scaled)([3.0])
        [1.5]
        >>> checked(scaled)("ab")
        Traceback (most recent call last):
        facturum.errors.DataError: scaled takes a list as 'sizes', and 'ab' is one text
        Write ['ab'], say.
    """
    signature = inspect.signature(function)

    @functools.wraps(function)
    def guarded(*args: P.args, **kwargs: P.kwargs) -> R:
        hints = _hints(function)
        try:
            given = signature.bind(*args, **kwargs).arguments
        except TypeError as problem:
            raise UnknownArgument(
                f"{function.__name__}() {problem}", remedy=f"Write {function.__name__}{_shown(signature)}."
            ) from None
        for name, value in given.items():
            if isinstance(value, str | bytes) and _only_lists(hints.get(name)):
                raise DataError(
                    f"{function.__name__} takes a list as '{name}', and {value!r} is one text",
                    remedy=f"Write [{value!r}], say.",
                )
        try:
            return function(*args, **kwargs)
        except (FacturumError, MemoryError, OSError):
            raise
        except Exception:
            _blame(function.__name__, given, hints)
            raise

    return guarded


class UnknownArgument(DataError, TypeError):
    """An argument that a function does not have, or lacks."""


def _shown(signature: inspect.Signature) -> str:
    """Return a signature as it is written in a call, without types."""
    parameters = [each.replace(annotation=inspect.Parameter.empty) for each in signature.parameters.values()]
    kept = [each for each in parameters if each.name not in ("self", "cls")]
    return str(signature.replace(parameters=kept, return_annotation=inspect.Signature.empty))


@functools.cache
def _hints(function: Callable[..., Any]) -> Mapping[str, Any]:
    """Return the types of arguments, those left out that are imported for checking alone."""
    hints: dict[str, Any] = {}
    for name, written in function.__annotations__.items():
        alone = types.SimpleNamespace(__annotations__={name: written})
        try:
            hints |= typing.get_type_hints(alone, function.__globals__)
        except NameError:
            continue
    return hints


def _only_lists(hint: Any) -> bool:
    """Return whether a hint is of lists, and of no single text."""
    kinds = typing.get_args(hint) if typing.get_origin(hint) not in (*_LISTS, None) else (hint,)
    origins = [typing.get_origin(kind) or kind for kind in kinds]
    return any(origin in _LISTS for origin in origins) and str not in origins and Any not in origins


def _blame(function: str, given: Mapping[str, Any], hints: Mapping[str, Any]) -> None:
    """Raise an error for the first argument that is not of the type named."""
    for name, value in given.items():
        if name not in hints or name == "self" or hints[name] is Any:
            continue
        try:
            TypeAdapter(hints[name], config=ConfigDict(arbitrary_types_allowed=True, strict=True)).validate_python(
                value
            )
        except ValidationError:
            raise _error(function, name, value, hints[name]) from None
        except PydanticUserError:
            if isinstance(hints[name], type) and not isinstance(value, hints[name]):
                raise _error(function, name, value, hints[name]) from None


def _error(function: str, name: str, value: object, hint: Any) -> DataError:
    wanted = (
        hint.__name__ if isinstance(hint, type) else str(hint).replace("typing.", "").replace("collections.abc.", "")
    )
    shown = repr(value) if isinstance(value, str | int | float | bool | None) else f"a {type(value).__name__}"
    shown = shown if len(shown) < 60 else shown[:60] + " .."
    return DataError(
        f"{function} cannot take {shown} as '{name}'", remedy=f"Give {wanted.replace('pathlib._local.', '')}."
    )
