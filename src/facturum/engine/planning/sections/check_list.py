"""The checks of a build: what each looks for, and what holds where it finds nothing."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Check:
    """A check of a build.

    Args:
        key: in [checks], and of its findings.
        looks_for: what it would tell of.
        title: what holds where it finds nothing.
        needs_factor: whether it follows from the triangular factor of the matrix, or the rows that make it.
        absorbs: whether it is made of thousands of indicators too, which are absorbed then.
    """

    key: str
    looks_for: str
    title: str
    needs_factor: bool = False
    absorbs: bool = False


CHECKS = (
    Check(
        "dependence",
        "columns that are linear combinations of others",
        "no column is a linear combination of others",
        needs_factor=True,
        absorbs=True,
    ),
    Check(
        "near_dependence",
        "columns that are nearly so: condition number, inflation",
        "no column is nearly a linear combination of others",
        needs_factor=True,
    ),
    Check("constant", "constant columns", "no column is constant"),
    Check("duplicate", "columns that occur twice", "no column occurs twice", needs_factor=True),
    Check("rare", "columns that are zero in nearly all rows", "no column is zero in nearly all rows"),
    Check(
        "few_rows",
        "categories and cells of interactions with fewer than five rows",
        "each category and each cell of an interaction has at least five rows",
    ),
    Check(
        "separation",
        "columns that separate the values of a truth response",
        "no column alone separates the values of the response",
        needs_factor=True,
        absorbs=True,
    ),
    Check("width", "more columns than a tenth of the rows", "there are at least ten rows for each column"),
    Check(
        "leak",
        "copies of the response among the predictors, ids, later periods",
        "no predictor is a copy of the response, or reads it at a later period",
        needs_factor=True,
    ),
    Check("scale", "columns of very different size", "columns are of similar size"),
    Check("extremes", "values far from all others", "no value is far from all others"),
    Check(
        "leverage",
        "rows that determine a coefficient alone",
        "no row determines a coefficient alone",
        needs_factor=True,
    ),
    Check(
        "drift",
        "differences between learning rows and other rows",
        "learning rows and other rows are alike",
        needs_factor=True,
    ),
)
