"""From the huts' table to a regression: build the design, fit it, and read the coefficients by the column map.

Run ``python examples/elasticity.py``.
"""

from __future__ import annotations

import numpy as np

import facturum as fa
from facturum import terms
from facturum.demo.sample import sample

plan = fa.Plan(
    response="log(stays)",
    terms={
        "access": terms.category("access", reference="trail"),
        "beds": terms.log("beds"),
        "price": "log(price)",
        "altitude": "polynomial(altitude / 1000, 2, orthogonal=True)",
    },
    rows={"keep": "open == 'yes'", "learn": "month < '2023-01'"},
    data={"time": "month"},
)
design = plan.build(sample("huts.csv"))
print(design, "from", f"{design.columns.rows.given:,}", "rows")
for dropped in design.columns.rows.dropped:
    print(f"  {dropped.rows} left out: {dropped.reason} ({dropped.place})")

coefficients, *_ = np.linalg.lstsq(design.X, design.y, rcond=None)
for name, b in zip(design.names, coefficients, strict=True):
    print(f"{name:<18} b = {b:8.4f}   {design.columns[name].reading}")

outcome = design.verify(sample("huts.csv"))
print(outcome)
