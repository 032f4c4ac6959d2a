"""Each sentence on a coefficient is a claim on predictions; the claims are computed from the matrix."""

from __future__ import annotations

import math
import unittest
from collections import Counter
from typing import Any, TypeAlias

import numpy as np
from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st

import facturum as fa
from tests.claims import outcomes_of
from tests.expressions import ALONG, LEARNED, LEARNED_ALONG
from tests.interpreter import Refused
from tests.phrases import Claimed
from tests.support import huts
from tests.test_interpreter import ANY, PRODUCTS, cells
from tests.test_interpreter import DERIVED as OTHERS

TERMS = [
    "price", "log(price)", "price ** 2", "sqrt(price)", "price / 10", "price > 30", "(price - 30) / 5", "-price",
    "100 * log(price)", "log(price, shift=2)", "within(price, by=[valley])", "price - mean(price, by=[valley])",
    "center(beds)", "standardize(beds)", "log(beds)", "beds ** 2", "polynomial(beds, 2)", "exp(beds / 50)",
    "polynomial(beds, 2, center=True)", "reciprocal(beds)", "bins(price, edges=[30, 40])", "price * beds",
    "category(access, reference='trail')", "category(access, coding='effect')", "category(valley)", "beds / price",
    "category(comfort, coding='difference')", "category(comfort, coding='helmert')", "score(comfort)", "open",
    "dear", "dear and open", "dear * open", "open * price", "category(access, reference='trail') * log(price)",
    "2 * category(access, reference='trail')", "category(valley) * category(access, reference='trail')",
    "impute(snow, value=10)", "is_missing(snow)", "is_missing(snow) * open", "standardize(beds) * open",
    "category(access, coding='every')", "category(comfort, coding='difference') * price", "winsorize(price)",
    "category(access, reference='trail') * open * beds", "category(access, coding='every') * beds", "slope",
    "price * price", "dear * price", "category(access, reference='trail') * category(access, coding='difference')",
    "beds * open / 2", "center(beds) * center(price)", "gap", "gap * beds", "not is_missing(snow)",
    "impute(snow, 'mean')", "(price - 40) * (price > 40)", "open * (log(price) / 0.6931)", "2 * sqrt(beds)",
    "2 * sqrt(beds) * open", "100 - beds",
    "open * (100 - beds)", "beds > 40", "price if price > 30 else 30", "category(comfort, coding='helmert') * open",
    "category(bins(price, edges=[30, 40]), coding='difference')", "bins(price, edges=[30, 40]) * open", "price / beds",
    "log(beds) / 0.6931 * (log(price) / 0.6931)", "own",
    "category(access, reference='trail') * (price > 30)", "regroup(access, {'wheels': ['road', 'boat']}, rest='foot')",
]  # fmt: skip
DERIVED = OTHERS | {"dear": "price > 35", "slope": "price * open", "gap": "is_missing(snow)", "own": "winsorize(beds)"}
RESPONSES = [
    None, "stays", "log(stays)", "stays > 150", "stays / 10", "log(stays, shift=1)", "stays - 0.5", "hidden",
    "hidden > 0", "100 * log(price)", "open", "access == 'road'", "standardize(hidden)", "score(comfort)", "access",
    "within(price, by=[hut])",
]  # fmt: skip
COMFORT: Any = {"kind": "ordered", "order": ["poor", "fair", "good"]}
FAMILIES = st.one_of(st.sampled_from(TERMS), st.sampled_from(TERMS), ANY, PRODUCTS, ALONG, LEARNED, LEARNED_ALONG)
QUIETLY: Any = {"deadline": None, "database": None, "suppress_health_check": list(HealthCheck)}
Plan: TypeAlias = tuple[list[str], str | None, str, int]


def random_plans(first: int, count: int) -> list[Plan]:
    """Return random plans of all families: terms, response, what becomes of missing values, and the table's seed."""
    found: list[Plan] = []

    @seed(first)
    @settings(max_examples=count, phases=[Phase.generate], **QUIETLY)
    @given(
        st.lists(FAMILIES, min_size=1, max_size=4),
        st.sampled_from(RESPONSES),
        st.sampled_from(["drop", "drop", "keep"]),
        st.integers(0, 10**6),
    )
    def one(terms: list[str], response: str | None, missing: str, number: int) -> None:
        found.append((terms, response, missing, number))

    one()
    return found


def claimed(plan: Plan) -> Claimed:
    terms, response, missing, number = plan
    named = {f"t{at}": text for at, text in enumerate(terms)}
    return Claimed(cells(number), named, response, missing, DERIVED, number)


class Proofs(unittest.TestCase):
    def test_no_sentence_of_many_random_plans_is_false(self) -> None:
        outcomes = Counter[str]()
        for plan in random_plans(1, 90):
            try:
                made = claimed(plan)
            except (fa.FacturumError, Refused):
                continue
            for kind, outcome, text in outcomes_of(made):
                with self.subTest(plan):
                    self.assertNotEqual(outcome, "false", text)
                outcomes[f"{kind} {outcome}"] += 1
        readings = sum(count for what, count in outcomes.items() if what.startswith("reading"))
        self.assertGreater(outcomes["reading proved"], 150, outcomes)
        self.assertLess(outcomes["reading together"], readings * 0.1, outcomes)
        self.assertGreater(outcomes["effect proved"], 200, outcomes)

    def test_an_effect_on_average_is_the_mean_over_all_categories(self) -> None:
        table = huts(300, seed=34, missing=0)
        codings = ("effect", "difference", "helmert")
        factors = {f"category(comfort, coding='{coding}')": ["poor", "fair", "good"] for coding in codings}
        for factor, values in factors.items():
            terms = {"p": "log(price)", "f": factor, "pf": f"log(price) * {factor}"}
            design = fa.Plan("stays", terms, variables={"comfort": COMFORT}).build(table)
            subject = "comfort"
            self.assertIn(f", on average over {subject}", design.columns["p"].reading)
            b = np.random.default_rng(35).normal(size=len(design.names))
            both = [{subject: values, "price": [price] * len(values)} for price in (7.0, 7 * math.e)]
            low, high = (design.plan.build(rows).X for rows in both)
            found = float(np.mean((high - low) @ b))
            self.assertAlmostEqual(found, b[design.names.index("p")], places=9, msg=factor)

    def test_rows_without_the_response_keep_its_scale(self) -> None:
        table = huts(60, seed=2, missing=0)
        for response in ("log(stays)", "stays > 99"):
            made = fa.Plan(response, {"p": "price", "a": "open"}).build(table)
            ahead = made.plan.build({name: values for name, values in table.items() if name != "stays"})
            self.assertIsNone(ahead.y)
            self.assertEqual([c.reading for c in ahead.columns], [c.reading for c in made.columns][1:])
