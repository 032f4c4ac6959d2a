"""Brings in every family, so that the registry is full. A new family file is named here once."""

from facturum.language import core, logic
from facturum.language.nodes import REGISTRY
from facturum.language.operations import (
    across,
    along,
    bins,
    categories,
    imputing,
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
