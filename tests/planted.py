"""Plans with planted troubles, and whether the remedies that their builds tell keep what they promise."""

from __future__ import annotations

import re
from collections import Counter
from typing import Any

import numpy as np

import facturum as fa
from facturum.files.plan_file import amended

ROWS = 240
COLLINEAR = ("dependence", "duplicate", "near_dependence")
Trouble = tuple[dict[str, str], dict[str, Any]]


def clean(dice: np.random.Generator) -> dict[str, Any]:
    """Return a table without troubles."""
    a, b, c = dice.normal(50, 10, ROWS), dice.uniform(1, 9, ROWS), dice.normal(0, 1, ROWS)
    kind, place = dice.choice(["p", "q", "r"], ROWS), dice.choice(["n", "s"], ROWS)
    y = 2 + 0.1 * a - 0.3 * b + c + (kind == "p") + dice.normal(0, 1, ROWS)
    return {"a": a, "b": b, "c": c, "kind": kind, "place": place, "y": y}


def troubles(dice: np.random.Generator, t: dict[str, Any]) -> dict[str, Trouble]:
    """Return terms and variables that bring troubles to a table."""
    k = float(dice.integers(2, 9))
    shares = dice.dirichlet([2, 2, 2], ROWS)
    nested = np.where(t["kind"] == "p", np.where(t["b"] > 5, "p1", "p2"), np.where(t["kind"] == "q", "q1", "r1"))
    odd = np.where(np.arange(ROWS) < int(dice.integers(1, 4)), "odd", t["place"])
    spike = np.where(np.arange(ROWS) == int(dice.integers(ROWS)), 900.0, t["c"])
    return {
        "multiple": ({"a": "a", "m": "m"}, {"m": k * t["a"] + 3}),
        "copy": ({"a": "a", "again": "a"}, {}),
        "sum": ({"a": "a", "b": "b", "total": "a + b"}, {}),
        "written sum": ({"a": "a", "b": "b", "total": "total"}, {"total": t["a"] + k * t["b"]}),
        "shares": ({f"s{at}": f"s{at}" for at in range(3)}, {f"s{at}": shares[:, at] for at in range(3)}),
        "every": ({"kind": "category(kind, coding='every')", "a": "a"}, {}),
        "nested": ({"kind": "category(kind)", "sub": "category(sub)"}, {"sub": nested}),
        "two codings": ({"kind": "category(kind)", "other": "category(kind, coding='effect')"}, {}),
        "powers": ({"a": "a", "a2": "a ** 2", "a3": "a ** 3"}, {}),
        "square": ({"a": "a", "a2": "a ** 2", "b": "b"}, {}),
        "polynomial": ({"a": "polynomial(a, 3)", "c": "c"}, {}),
        "product": ({"a": "a", "b": "b", "ab": "a * b", "c": "c"}, {}),
        "nearly": ({"a": "a", "near": "near"}, {"near": t["a"] + dice.normal(0, 10.0 ** -dice.integers(2, 9), ROWS)}),
        "flags": ({"low": "a < 50", "high": "a >= 50", "c": "c"}, {}),
        "constant": ({"a": "a", "never": "a > 1000"}, {}),
        "rare": ({"odd": "odd", "a": "a"}, {"odd": odd}),
        "rare category": ({"odd": "category(odd, reference='n')", "a": "a"}, {"odd": odd}),
        "size": ({"a": "a", "b": "b", "large": "large"}, {"large": t["c"] * 1e9}),
        "extreme": ({"a": "a", "spike": "spike"}, {"spike": spike}),
        "leak": ({"a": "a", "told": "told"}, {"told": 3 * t["y"] + 1}),
    }


def lacking(design: fa.Design) -> int:
    """Return how many columns follow from others."""
    lengths = np.linalg.norm(design.X, axis=0)
    return len(design.names) - int(np.linalg.matrix_rank(design.X / np.where(lengths > 0, lengths, 1.0), tol=1e-9))


def outcomes(seed: int) -> Counter[str]:
    """Return what came of the remedies of one plan with one or two troubles: kept promises, and broken ones."""
    dice = np.random.default_rng(seed)
    table = clean(dice)
    planted = troubles(dice, table)
    names = [str(each) for each in dice.choice([*planted], size=int(dice.integers(1, 3)), replace=False)]
    terms = {"rest": "c * 0.5 + b * c"}
    for name in names:
        terms |= {
            f"{key}" if key not in terms else f"{key}{at}": text
            for at, (key, text) in enumerate(planted[name][0].items())
        }
        table |= planted[name][1]
    spec: dict[str, Any] = {"response": "y", "terms": terms}
    made = fa.Plan(**spec).build(table)
    found = Counter[str]()
    findings = made.columns.findings
    hard = [each for each in findings if each.check in COLLINEAR]
    if hard:
        found["collinear plans"] += 1
        found["collinear plans with an edit"] += any(each.edit for each in hard)
    text = "response = 'y'\n[terms]\n" + "".join(f"{key} = {value!r}\n" for key, value in terms.items())
    for each in findings:
        found["findings"] += 1
        if each.edit is None:
            found[f"without an edit: {each.check}"] += 1
            continue
        better = fa.Plan.from_text(amended(text, each.edit))
        again = better.build(table)
        left = [other for other in again.columns.findings if (other.check, other.columns) == (each.check, each.columns)]
        cured = "Centred" in each.text and re.search(r"none is inflated more than (\S+) times", each.text)
        if cured:
            worst = max(c.inflation or 1.0 for c in again.columns.columns if c.term in each.edit)
            kept = worst <= float(cured[1].replace(",", "")) * 1.01
        else:
            kept = not left and (each.check not in ("dependence", "duplicate") or lacking(again) < lacking(made))
        if "fit stays the same" in each.text:
            kept = kept and bool(np.isclose(made.trial().sigma or 0.0, again.trial().sigma or 0.0, rtol=1e-6))
        found["promises kept" if kept else f"broken: seed {seed} {names} {each.text}"] += 1
    return found
