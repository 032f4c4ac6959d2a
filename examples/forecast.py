"""Forecast with lags: rows of the future are built with the history that their lags reach into.

Run it from anywhere: ``python examples/forecast.py``.
"""

import numpy as np
import pyarrow.compute as pc

import facturum as fa
from facturum.demo.sample import sample

table = fa.read(sample("huts.csv")).to_arrow()
past, future = table.filter(pc.field("month") < "2023-01"), table.filter(pc.field("month") >= "2023-01")

# the plan reads the energy index and the weather from the files beside it, and learns from the past alone
plan = fa.Plan.load(sample("time.toml"))
design = plan.build(past)
print(design)

# least squares on the past, by an orthogonal factorisation
coefficients, *_ = np.linalg.lstsq(design.X, design.y, rcond=None)
for name, b in zip(design.names, coefficients, strict=True):
    print(f"{name:12} {b:8.4f}")

# the future has no stays, and its first lags lie in the past
ahead = design.plan.build(future.drop_columns("stays"), history=past)
assert ahead.y is None
forecast = np.exp(ahead.X @ coefficients)

kept = ahead.rows.kept - 1
known = future["stays"].to_numpy()[kept]
error = np.abs(np.log(forecast) - np.log(known))[~np.isnan(known)]
print(f"{len(forecast)} months of huts forecast; half of them are within {100 * np.median(error):.0f} %")
assert np.median(error) < 0.3
