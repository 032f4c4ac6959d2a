"""Brings in every family, so that the registry is full. A new family file is named here once."""

from facturum.language import (
    categories,
    core,
    logic,
    lookup,
    missing,
    polynomials,
    selectors,
    statistics,
    transforms,
)
from facturum.language.nodes import REGISTRY

__all__ = [
    "REGISTRY",
    "categories",
    "core",
    "logic",
    "lookup",
    "missing",
    "polynomials",
    "selectors",
    "statistics",
    "transforms",
]
