"""The table that a plan sees: the rows that it keeps, its derived variables beside those of the file."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from facturum.data.table import Table
from facturum.data.values import Kind, Values
from facturum.data.variable import Variable
from facturum.engine.passes.build import resolve
from facturum.engine.passes.selection import Sample
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.engine.planning.shaping import Given
from facturum.language.core.literals import Name


def viewed(spec: PlanSpec, given: Table | Given) -> Table:
    """Return the rows that [rows] keep selects, with the derived variables that the plan uses.

    Raises:
        PlanError, DataError: as building does.
    """
    prepared = resolve(spec, given)
    source = prepared.source()
    kept = Sample(prepared, source, complete=False).settled().whole.positions()
    table = prepared.table.take(kept)
    variables = dict(table.variables)
    scope = prepared.scope()
    for name in prepared.derived:
        values = source.values_at(Name(name), kept)
        variables[name] = _variable(name, scope.type_of(Name(name)).kind, values)
    return replace(table, variables=variables)


def _variable(name: str, kind: Kind, values: Values) -> Variable:
    """Return values as a variable of a table."""
    there = values.present_mask()
    if values.labels is not None:
        return Variable(name, kind, np.where(there, values.data, -1).astype(np.int64), None, values.labels, "derived")
    data = values.data if kind is not Kind.TRUTH else values.data != 0
    return Variable(name, kind, np.where(there, data, np.zeros(1, dtype=data.dtype)), there, None, "derived")
