"""Brings in every family, so that the registry is full. A new family file is named here once."""

from facturum.language.operations import selectors
from facturum.language.operations.absent import imputing, missing
from facturum.language.operations.categories import bins, categories, lookup, regrouping
from facturum.language.operations.numbers import across, polynomials, statistics, transforms, within
from facturum.language.operations.times import along, periods, seasons
from facturum.language.tree.registry import REGISTRY

FAMILIES = (
    across, along, bins, categories, imputing, lookup, missing, periods, polynomials, regrouping, seasons, selectors,
    statistics, transforms, within,
)  # fmt: skip

__all__ = ["FAMILIES", "REGISTRY"]
