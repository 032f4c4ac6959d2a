"""Brings in every family, so that the registry is full. A new family file is named here once."""

from facturum.language import (
    across,
    along,
    bins,
    categories,
    core,
    imputing,
    logic,
    lookup,
    missing,
    periods,
    polynomials,
    regrouping,
    seasons,
    selectors,
    statistics,
    transforms,
    within,
)
from facturum.language.nodes import REGISTRY

__all__ = [
    "REGISTRY",
    "across",
    "along",
    "bins",
    "categories",
    "core",
    "imputing",
    "logic",
    "lookup",
    "missing",
    "periods",
    "polynomials",
    "regrouping",
    "seasons",
    "selectors",
    "statistics",
    "transforms",
    "within",
]
