"""A resolved plan makes the same columns for new rows, and learns nothing from them.

Run ``python examples/new_rows.py``.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import facturum as fa
from facturum.demo.sample import sample

design = fa.Plan.load(sample("huts.toml")).build(sample("huts.csv"))

with tempfile.TemporaryDirectory() as folder:
    design.save(Path(folder) / "build")
    resolved = fa.Plan.load(Path(folder) / "build/plan.resolved.toml")

# one hut in a month that has not been yet: there are no stays, so there is no y
next_month = {
    "hut_code": ["00100"],
    "hut": ["Larkhold"],
    "valley": ["Amber Dale"],
    "month": ["2024-01"],
    "open": ["yes"],
    "access": ["trail"],
    "altitude": [2250],
    "beds": [8],
    "comfort": ["poor"],
    "season_pass": [1],
    "price": [46.5],
    "snow_depth": [88],
}
new = resolved.build(next_month)
print("columns as before:", new.names == design.names, "- y:", new.y)
for name, value in zip(new.names, new.X[0], strict=True):
    print(f"{name:<18} {value:8.4f}   {new.columns[name].formula}")
