"""Facturum: from a table and a readable plan to a regression-ready design matrix, with every column audited.

Example:
    >>> import facturum as fa
    >>> plan = fa.Plan(response="stays", terms={"price": "log(price)"})
    >>> design = plan.build({"stays": [10.5, 8.0, 5.0], "price": [20.0, 25.0, 40.0]})
    >>> print(design.columns["price"].reading)
    With price 1 % higher: a difference of about b / 100 in stays.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from facturum.errors import AuditError, ChecksFailed, DataError, FacturumError, FacturumWarning, PlanError

if TYPE_CHECKING:
    from facturum import terms
    from facturum.comparing import compare
    from facturum.data.table import Table
    from facturum.design import Design, open_design
    from facturum.files.reading.tables import read
    from facturum.forecasting import build_ahead, forecast, rows_ahead
    from facturum.plan import Plan
    from facturum.resampling import resample
    from facturum.tables import by_group, convert, cross, draft, profile, sample, stack, unstack
    from facturum.validating import validate

__all__ = [
    "AuditError",
    "ChecksFailed",
    "DataError",
    "Design",
    "FacturumError",
    "FacturumWarning",
    "Plan",
    "PlanError",
    "Table",
    "build_ahead",
    "by_group",
    "compare",
    "convert",
    "cross",
    "draft",
    "forecast",
    "open_design",
    "profile",
    "read",
    "resample",
    "rows_ahead",
    "sample",
    "stack",
    "terms",
    "unstack",
    "validate",
]

_HOMES = {
    "Design": "facturum.design",
    "Plan": "facturum.plan",
    "Table": "facturum.data.table",
    "build_ahead": "facturum.forecasting",
    "by_group": "facturum.tables",
    "compare": "facturum.comparing",
    "convert": "facturum.tables",
    "cross": "facturum.tables",
    "draft": "facturum.tables",
    "forecast": "facturum.forecasting",
    "open_design": "facturum.design",
    "profile": "facturum.tables",
    "read": "facturum.files.reading.tables",
    "resample": "facturum.resampling",
    "rows_ahead": "facturum.forecasting",
    "sample": "facturum.tables",
    "stack": "facturum.tables",
    "unstack": "facturum.tables",
    "validate": "facturum.validating",
}


def __getattr__(name: str) -> Any:
    # loaded when first used, so that the command line answers --help at once
    from importlib import import_module

    if name == "terms":
        return import_module("facturum.terms")
    if name in _HOMES:
        return getattr(import_module(_HOMES[name]), name)
    raise AttributeError(f"module 'facturum' has no attribute '{name}'")


def __dir__() -> list[str]:
    return sorted(__all__)
