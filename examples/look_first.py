"""Look first, then clean: a profile, a draft, wrong values taken out, missing ones filled, numbers in bins.

Run it from anywhere: ``python examples/look_first.py``.
"""

import facturum as fa
from facturum.demo.sample import sample

table = sample("huts.csv")

# what is in the table, and what to notice
profile = fa.profile(table)
for variable in profile:
    if variable.notes:
        print(f"{variable.name}: {'; '.join(variable.notes)}")

# a first plan, to be edited by hand
print(fa.draft(table, "stays").splitlines()[3])

# the plan that came of it: look at what was done to the variables
design = fa.Plan.load(sample("clean.toml")).build(table)
for entry in design.columns.bins:
    print(f"\n{entry.variable} in bins")
    for part in entry.bins:
        print(f"  {part.label:14} {part.rows:5} rows, seen {part.smallest:g} to {part.largest:g}")
for filled in design.columns.imputations:
    print(f"\n{filled.variable}: {filled.cells} cells filled by {filled.how}")
for flag in design.columns.flags:
    print(f"{flag.expression}: {flag.missing_in_source} missing, {flag.made_missing} taken out as wrong")

# guests' answers: do the five questions make one score?
score = fa.Plan.load(sample("survey.toml")).build(sample("survey.csv")).columns.scores[0]
print(f"\ncoefficient alpha {score.alpha:.2f}, rows with too few answers: {score.too_few}")

# three samples of guests that share nobody
parts = fa.sample(sample("survey.csv"), {"learn": 0.6, "check": 0.2, "test": 0.2}, seed=7)
print({name: len(part) for name, part in parts.items()})
