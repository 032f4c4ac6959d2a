"""Brings in every family, so that the registry is full. A new family file is named here once."""

from facturum.language.core import logic
from facturum.language.operations import selectors
from facturum.language.operations.absent import imputing, missing
from facturum.language.operations.categories import bins, categories, lookup, regrouping
from facturum.language.operations.numbers import across, polynomials, statistics, transforms, within
from facturum.language.operations.times import along, periods, seasons
from facturum.language.tree.registry import REGISTRY

__all__ = [
    "REGISTRY",
    "across",
    "along",
    "bins",
    "categories",
    "arithmetic",
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
