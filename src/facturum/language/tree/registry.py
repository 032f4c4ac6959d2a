"""The registry of operations, which parser, writer and builders read."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import TypeVar, dataclass_transform

from facturum.language.tree.nodes import Node
from facturum.language.tree.options import argument, arguments, option

REGISTRY: dict[str, type[Node]] = {}

_N = TypeVar("_N", bound=type[Node])


@dataclass_transform(frozen_default=True, field_specifiers=(argument, arguments, option))
def node(cls: _N) -> _N:
    """Make a class a frozen node whose hash is computed once."""
    frozen = dataclass(frozen=True)(cls)
    plain_hash = frozen.__hash__

    def cached_hash(self: Node) -> int:
        cached: int | None = self.__dict__.get("_hash")
        if cached is None:
            cached = plain_hash(self)
            object.__setattr__(self, "_hash", cached)
        return cached

    frozen.__hash__ = cached_hash  # type: ignore[method-assign, assignment]
    return frozen  # type: ignore[return-value]


@dataclass_transform(frozen_default=True, field_specifiers=(argument, arguments, option))
def operation(cls: _N) -> _N:
    """Make a class an operation that plans call by its name in lower case: ``IsMissing`` is ``is_missing(..)``.

    Its family is that of the base classes in its file, or else the file itself.
    """
    registered = node(cls)
    registered.name = re.sub(r"(?<=[a-z])(?=[A-Z])", "_", cls.__name__).lower()
    own = [base for base in cls.__mro__ if base.__module__ == cls.__module__ and "family" in base.__dict__]
    if not own:
        registered.family = cls.__module__.rpartition(".")[2]
    if registered.name in REGISTRY:
        raise TypeError(f"two operations are called {registered.name}")
    REGISTRY[registered.name] = registered
    return registered
