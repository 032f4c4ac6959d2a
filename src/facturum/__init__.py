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
    from facturum.api.builders import Expression
    from facturum.api.comparing import compare
    from facturum.api.design import Design
    from facturum.api.opening import open_design
    from facturum.api.plan import Plan
    from facturum.api.tables import by_group, convert, cross, draft, profile, sample, stack, unstack
    from facturum.audit.checks.finding import Finding
    from facturum.audit.checks.outcome import Outcome
    from facturum.audit.comparison.changes import Comparison
    from facturum.audit.map.entries import ColumnEntry, ColumnMap
    from facturum.audit.map.row_map import RowMap
    from facturum.audit.proof.trace import RowTrace, Trace
    from facturum.audit.proof.verify import Failure, Verification
    from facturum.data.table import Table, TableLike
    from facturum.files.scans.tables import read
    from facturum.look.crossing import CrossTable
    from facturum.look.grouped import GroupedNumber
    from facturum.look.profile import Profile
    from facturum.trial.fit.trial import Trial
    from facturum.validation.forecast_path import Forecasts
    from facturum.validation.forecasting import build_ahead, forecast, rows_ahead
    from facturum.validation.resampling import Resampling, resample
    from facturum.validation.validating import Validation, validate

__all__ = [
    "AuditError",
    "ChecksFailed",
    "ColumnEntry",
    "ColumnMap",
    "Comparison",
    "CrossTable",
    "DataError",
    "Design",
    "Expression",
    "FacturumError",
    "FacturumWarning",
    "Failure",
    "Finding",
    "Forecasts",
    "GroupedNumber",
    "Outcome",
    "Plan",
    "PlanError",
    "Profile",
    "Resampling",
    "RowMap",
    "RowTrace",
    "Table",
    "TableLike",
    "Trace",
    "Trial",
    "Validation",
    "Verification",
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
    "ColumnEntry": "facturum.audit.map.entries",
    "ColumnMap": "facturum.audit.map.entries",
    "Comparison": "facturum.audit.comparison.changes",
    "CrossTable": "facturum.look.crossing",
    "Design": "facturum.api.design",
    "Expression": "facturum.api.builders",
    "Failure": "facturum.audit.proof.verify",
    "Finding": "facturum.audit.checks.finding",
    "Forecasts": "facturum.validation.forecast_path",
    "GroupedNumber": "facturum.look.grouped",
    "Outcome": "facturum.audit.checks.outcome",
    "Plan": "facturum.api.plan",
    "Profile": "facturum.look.profile",
    "Resampling": "facturum.validation.resampling",
    "RowMap": "facturum.audit.map.row_map",
    "RowTrace": "facturum.audit.proof.trace",
    "Table": "facturum.data.table",
    "TableLike": "facturum.data.table",
    "Trace": "facturum.audit.proof.trace",
    "Trial": "facturum.trial.fit.trial",
    "Validation": "facturum.validation.validating",
    "Verification": "facturum.audit.proof.verify",
    "build_ahead": "facturum.validation.forecasting",
    "by_group": "facturum.api.tables",
    "compare": "facturum.api.comparing",
    "convert": "facturum.api.tables",
    "cross": "facturum.api.tables",
    "draft": "facturum.api.tables",
    "forecast": "facturum.validation.forecasting",
    "open_design": "facturum.api.opening",
    "profile": "facturum.api.tables",
    "read": "facturum.files.scans.tables",
    "resample": "facturum.validation.resampling",
    "rows_ahead": "facturum.validation.forecasting",
    "sample": "facturum.api.tables",
    "stack": "facturum.api.tables",
    "unstack": "facturum.api.tables",
    "validate": "facturum.validation.validating",
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
