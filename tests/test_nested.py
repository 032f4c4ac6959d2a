"""Random nested expressions along time against a slow interpreter that only knows dictionaries of periods."""

from __future__ import annotations

import unittest
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from tests.support import PANEL_DATA, panel

Value = float | None
Look = Callable[[str, int], Value]


@dataclass(frozen=True)
class Case:
    """An expression as text, and the same as a function of unit and period; None where it has no value."""

    text: str
    look: Callable[[Panel], Look]


class Panel:
    """The cells of a table by unit and period."""

    def __init__(self, table: dict[str, Any]) -> None:
        self.rows = list(zip(table["hut"], table["period"], strict=True))
        self.periods: dict[str, list[int]] = defaultdict(list)
        for hut, period in self.rows:
            self.periods[hut].append(period)
        self.cells = {name: dict(zip(self.rows, table[name], strict=True)) for name in ("snow", "price", "stays")}

    def known(self, look: Look) -> Look:
        """Return what an expression is in rows that are there; elsewhere it has no value."""
        inside = set(self.rows)
        memory: dict[tuple[str, int], Value] = {}

        def found(hut: str, period: int) -> Value:
            if (hut, period) not in inside:
                return None
            if (hut, period) not in memory:
                memory[hut, period] = look(hut, period)
            return memory[hut, period]

        return found


def variable(name: str) -> Case:
    return Case(name, lambda panel: panel.known(lambda hut, period: panel.cells[name][hut, period]))


def shifted(inner: Case, k: int, name: str) -> Case:
    sign = -1 if name == "lag" else 1

    def make(panel: Panel) -> Look:
        look = inner.look(panel)
        return panel.known(lambda hut, period: look(hut, period + sign * k))

    return Case(f"{name}({inner.text}, {k})", make)


def difference(inner: Case, step: int) -> Case:
    def make(panel: Panel) -> Look:
        look = inner.look(panel)

        def value(hut: str, period: int) -> Value:
            now, then = look(hut, period), look(hut, period - step)
            return None if now is None or then is None else now - then

        return panel.known(value)

    return Case(f"difference({inner.text}, step={step})", make)


def average(inner: Case, window: int, least: int) -> Case:
    least = min(least, window)

    def make(panel: Panel) -> Look:
        look = inner.look(panel)

        def value(hut: str, period: int) -> Value:
            there = [v for at in range(window) if (v := look(hut, period - window + 1 + at)) is not None]
            return sum(there) / len(there) if len(there) >= least else None

        return panel.known(value)

    return Case(f"moving_average({inner.text}, {window}, at_least={least})", make)


def filled(inner: Case, how: str) -> Case:
    def make(panel: Panel) -> Look:
        look = inner.look(panel)

        def value(hut: str, period: int) -> Value:
            own = look(hut, period)
            if own is not None:
                return own
            there = [p for p in panel.periods[hut] if look(hut, p) is not None]
            near = max((p for p in there if p < period), default=None)
            if how == "next":
                near = min((p for p in there if p > period), default=None)
            return None if near is None else look(hut, near)

        return panel.known(value)

    return Case(f"impute({inner.text}, '{how}')", make)


def together(left: Case, right: Case, sign: str) -> Case:
    work = {"+": lambda a, b: a + b, "-": lambda a, b: a - b, "*": lambda a, b: a * b}[sign]

    def make(panel: Panel) -> Look:
        a, b = left.look(panel), right.look(panel)

        def value(hut: str, period: int) -> Value:
            x, y = a(hut, period), b(hut, period)
            return None if x is None or y is None else work(x, y)

        return panel.known(value)

    return Case(f"({left.text} {sign} {right.text})", make)


def chosen(condition: Case, then: Case, otherwise: Case) -> Case:
    def make(panel: Panel) -> Look:
        c, a, b = condition.look(panel), then.look(panel), otherwise.look(panel)

        def value(hut: str, period: int) -> Value:
            level = c(hut, period)
            return None if level is None else a(hut, period) if level > 20 else b(hut, period)

        return panel.known(value)

    return Case(f"({then.text} if {condition.text} > 20 else {otherwise.text})", make)


CASES = st.recursive(
    st.sampled_from([variable(name) for name in ("snow", "price", "stays")]),
    lambda inner: st.one_of(
        st.builds(shifted, inner, st.integers(1, 6), st.sampled_from(["lag", "lead"])),
        st.builds(difference, inner, st.integers(1, 4)),
        st.builds(average, inner, st.integers(1, 5), st.integers(1, 5)),
        st.builds(filled, inner, st.sampled_from(["previous", "next"])),
        st.builds(together, inner, inner, st.sampled_from(["+", "-", "*"])),
        st.builds(chosen, inner, inner, inner),
    ),
    max_leaves=5,
)


class Nested(unittest.TestCase):
    @given(CASES, st.integers(0, 10**6))
    @settings(max_examples=120, deadline=None)
    def test_any_nesting_agrees_with_the_slow_interpreter(self, case: Case, seed: int) -> None:
        table = panel(seed, units=3, periods=14, gaps=0.25, missing=0.25)
        slow = Panel(table)
        wanted = [case.look(slow)(hut, period) for hut, period in slow.rows]
        plan = fa.Plan(None, {"x": case.text}, data=PANEL_DATA, intercept=False, rows={"missing": "keep"})
        made = plan.build(table)
        found = [None if np.isnan(v) else float(v) for v in made.X[:, 0]]
        self.assertEqual([v is None for v in found], [v is None for v in wanted], case.text)
        for a, b in zip(found, wanted, strict=True):
            if a is not None and b is not None:
                self.assertAlmostEqual(a, b, delta=1e-9 * (1 + abs(b)), msg=case.text)
        self.assertEqual(fa.Plan.from_text(str(made.plan)).build(table).X.tobytes(), made.X.tobytes())

    @given(CASES, st.integers(0, 10**6))
    @settings(max_examples=30, deadline=None)
    def test_the_order_of_rows_does_not_matter(self, case: Case, seed: int) -> None:
        table = panel(seed, units=3, periods=14)
        order = np.random.default_rng(seed).permutation(len(table["hut"])).tolist()
        turned = {name: [values[at] for at in order] for name, values in table.items()}
        plan = fa.Plan(None, {"x": case.text, "z": f"center({case.text})"}, data=PANEL_DATA, intercept=False,
                       rows={"missing": "keep"})  # fmt: skip
        try:
            one, other = plan.build(table), plan.build(turned)
        except fa.DataError as error:
            self.assertIn("no value in any row to learn from", str(error))
            return
        self.assertEqual(one.plan, other.plan)
        self.assertEqual(np.ascontiguousarray(one.X[order]).tobytes(), np.ascontiguousarray(other.X).tobytes())

    @given(CASES, st.integers(0, 10**6), st.integers(4, 12))
    @settings(max_examples=40, deadline=None)
    def test_what_is_learned_does_not_see_later_rows(self, case: Case, seed: int, until: int) -> None:
        table = panel(seed, units=3, periods=14)
        month = f"{2020 + until // 12}-{until % 12 + 1:02d}"
        plan = fa.Plan(None, {"z": f"center({case.text})"}, data=PANEL_DATA, rows={"learn": f"month < '{month}'"})
        wild = {
            name: [
                v if t < until or not isinstance(v, float) else 7777.0
                for v, t in zip(cells, table["period"], strict=True)
            ]
            for name, cells in table.items()
        }
        outcomes = []
        for given_table in (table, wild):
            try:
                outcomes.append(str(plan.resolve(given_table)))
            except fa.DataError as error:
                outcomes.append(str(error))
        self.assertEqual(outcomes[0], outcomes[1])
