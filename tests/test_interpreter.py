"""Random plans of the whole language against an interpreter that only knows dictionaries."""

from __future__ import annotations

import unittest
from contextlib import ExitStack
from typing import Any
from unittest.mock import patch

import numpy as np
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum.audit.counterfactual.reads import Reads
from facturum.audit.counterfactual.worlds import Worlds
from facturum.engine.passes.build import resolve
from facturum.engine.planning.expressions.leaks import looks
from facturum.engine.planning.expressions.prepare import prepare
from facturum.language.syntax.parser import parse
from tests.expressions import ALONG, BLOCKS, CALENDAR, CATEGORIES, CONDITIONS, LEARNED, LEARNED_ALONG, SCALARS, TERMS
from tests.interpreter import Interpreter, Refused
from tests.support import PANEL_DATA, VARIABLES, built, huts, panel

ORDERS = {"comfort": ("poor", "fair", "good")}
DERIVED = {"ratio": "price / (beds + 1)", "near": "regroup(valley, {'near': ['Upper']}, rest='far')"}
ANY = st.one_of(
    TERMS, SCALARS, CONDITIONS, BLOCKS, ALONG, LEARNED, LEARNED_ALONG, CALENDAR, st.sampled_from(["ratio", "near"])
)
MASKS = st.sampled_from(["hidden > -0.5", "hidden > 0.3", "not is_missing(hidden) and hidden < 1"])  # of random rows
LEARN = st.one_of(CONDITIONS, MASKS, MASKS, st.none(), st.none())
PRODUCTS = st.tuples(st.one_of(BLOCKS, CALENDAR, LEARNED), st.one_of(ALONG, LEARNED, BLOCKS)).map(
    lambda t: f"{t[0]} * ({t[1]})"
)
# what the interpreter does not know of: names, and the response among the predictors
UNKNOWN = ("would be called", "both have a column called", "limit=")


def cells(seed: int, years_back: int = 0) -> dict[str, list[Any]]:
    """Return an unbalanced panel with gaps and missing values from 2020 or before, in random order of rows."""
    dice = np.random.default_rng(seed)
    table = panel(seed, units=3, periods=int(dice.integers(4, 16)), gaps=0.2, missing=0.2)
    table["month"] = [f"{int(text[:4]) - years_back}{text[4:]}" for text in table["month"]]
    rows = len(table["hut"])
    rest = huts(rows, seed=seed, missing=float(dice.choice([0.0, 0.1, 0.3])))
    for name, labels in CATEGORIES.items():  # each label is there, so that it may be named
        rest[name][: len(labels)] = labels
    hidden = [None if dice.random() < 0.1 else float(v) for v in dice.normal(size=rows)]
    return {**rest, **{name: table[name] for name in ("hut", "month", "period", "snow", "price")}, "hidden": hidden}


def wanted(table: dict[str, list[Any]], terms: dict[str, str], rows: dict[str, str], response: str | None) -> Any:
    """Return the matrix by the interpreter, or why there is none."""
    names = [name for name in table if name not in ("period", "month")]
    each = [{name: table[name][at] for name in names} for at in range(len(table["hut"]))]
    months = [12 * (int(text[:4]) - 1970) + int(text[5:7]) - 1 for text in table["month"]]
    given_rows = [row | {"month": month} for row, month in zip(each, months, strict=True)]
    try:
        slow = Interpreter(given_rows, ORDERS, DERIVED, table["hut"], months, rows.get("learn"), rows.get("keep"),
                           rows.get("missing", "drop"), ("hut", "month", "hidden"))  # fmt: skip
        kept, columns = slow.matrix(response, terms)
        return (kept, columns) if kept else "no row is left"
    except Refused as refused:
        return str(refused)


def agree(case: unittest.TestCase, table: dict[str, list[Any]], terms: dict[str, str], rows: dict[str, str],
          response: str | None) -> bool:  # fmt: skip
    """Compare a build with the interpreter; return whether there was one."""
    told = f"{terms} {rows} {response}"
    slow = wanted(table, terms, rows, response)
    given_table = {name: values for name, values in table.items() if name != "period"}
    try:
        made = fa.Plan(
            response, terms, data=PANEL_DATA, derived=DERIVED, variables=VARIABLES, rows=rows, intercept=False
        ).build(given_table, threads=1)
    except fa.FacturumError as error:
        case.assertTrue(isinstance(slow, str) or any(word in str(error) for word in UNKNOWN), f"{told}\n{error}")
        return False
    case.assertFalse(isinstance(slow, str), f"{told}\nthe interpreter: {slow}")
    kept, columns = slow
    case.assertEqual((made.rows.kept - 1).tolist(), kept, told)
    own = [*([] if made.y is None else made.y.reshape(len(made.y), -1).T), *made.X.T]
    case.assertEqual(len(own), len(columns), told)
    for found, column in zip(own, columns, strict=True):
        slow_column = np.array([np.nan if value is None else value for value in column], dtype=float)
        size = float(np.nanmax(np.abs(slow_column), initial=1.0))
        np.testing.assert_allclose(found, slow_column, rtol=1e-8, atol=1e-8 * size, err_msg=told)
    return True


class Plans(unittest.TestCase):
    @given(
        st.lists(st.one_of(ANY, ANY, PRODUCTS), min_size=1, max_size=3),
        st.one_of(st.just("open"), CONDITIONS, st.none(), st.none()),
        LEARN,
        st.sampled_from(["drop", "keep"]),
        st.sampled_from([None, "hidden", "hidden > 0", "lead(hidden, 1)"]),
        st.integers(0, 10**6),
    )
    @settings(max_examples=200, deadline=None)
    def test_a_build_agrees_with_the_interpreter(
        self, terms: list[str], keep: str | None, learn: str | None, missing: str, response: str | None, seed: int
    ) -> None:
        rows = {"missing": missing} | ({"keep": keep} if keep else {}) | ({"learn": learn} if learn else {})
        years_back = 51 * (seed % 2)  # periods count from 1970, and half of the tables begin before
        agree(self, cells(seed, years_back), {f"t{at}": text for at, text in enumerate(terms)}, rows, response)


class Resolved(unittest.TestCase):
    @given(
        st.lists(st.one_of(ANY, PRODUCTS), min_size=1, max_size=3),
        st.sampled_from([None, "hidden", "valley"]),
        st.integers(0, 10**6),
    )
    @settings(max_examples=30, deadline=None)
    def test_the_text_of_a_resolved_plan_is_read_as_what_was_learned(
        self, terms: list[str], response: str | None, seed: int
    ) -> None:
        """What has been learned does not pass through the parser; its text, written for people, says the same."""
        table = {name: values for name, values in cells(seed).items() if name != "period"}
        named = {f"t{at}": text for at, text in enumerate(terms)}
        plan = fa.Plan(response, named, data=PANEL_DATA, derived=DERIVED, variables=VARIABLES)
        given_tables = plan._inputs.given(table)
        try:
            fitted = resolve(plan.spec, given_tables)
        except fa.FacturumError:
            assume(False)
        again = prepare(fitted.spec, given_tables)
        self.assertEqual((again.terms, again.response, again.derived), (fitted.terms, fitted.response, fitted.derived))


class AlongTime(unittest.TestCase):
    @given(
        st.lists(st.one_of(ALONG, ALONG, ANY, PRODUCTS), min_size=1, max_size=3),
        st.one_of(CONDITIONS, st.none()),
        st.sampled_from(["drop", "keep"]),
        st.integers(1, 9),
        st.booleans(),
        st.integers(0, 10**6),
    )
    @settings(max_examples=40, deadline=None)
    def test_where_blocks_begin_does_not_matter(
        self, terms: list[str], keep: str | None, missing: str, leaf: int, in_order: bool, seed: int
    ) -> None:
        """Blocks of a few rows, whose neighbours lie in other blocks, give the bytes of one block."""
        table = {name: values for name, values in cells(seed).items() if name != "period"}
        if in_order:
            order = sorted(range(len(table["hut"])), key=lambda at: (table["hut"][at], table["month"][at]))
            table = {name: [values[at] for at in order] for name, values in table.items()}
        rows = {"missing": missing} | ({"keep": keep} if keep else {})
        named = {f"t{at}": text for at, text in enumerate(terms)}
        plan = fa.Plan(None, named, data=PANEL_DATA, derived=DERIVED, variables=VARIABLES, rows=rows)
        try:
            made = plan.build(table)
        except fa.FacturumError:
            assume(False)
        with ExitStack() as patches:
            for part in ("neighbours.NEAR", "neighbours.LEAF", "source.LEAF"):
                patches.enter_context(patch(f"facturum.engine.blocks.{part}", 2))
            if seed % 2:  # periods are searched for, not looked up
                patches.enter_context(patch("facturum.engine.blocks.margin.SPARSE", -(10**6)))
            again = built(made.plan, table, leaf=leaf)
        self.assertEqual(again.X.tobytes("F"), made.X.tobytes("F"), f"{named} {rows}")
        self.assertEqual(again.selection.source_rows().tolist(), made.rows.kept.tolist())

    @given(ALONG, st.integers(0, 10**6))
    @settings(max_examples=30, deadline=None)
    def test_the_order_of_rows_does_not_matter(self, text: str, seed: int) -> None:
        table = cells(seed)
        order = np.random.default_rng(seed).permutation(len(table["hut"])).tolist()
        turned = {name: [values[at] for at in order] for name, values in table.items()}
        made = fa.Plan(None, {"x": text, "z": f"center({text})"}, data=PANEL_DATA, rows={"missing": "keep"})
        try:
            one, other = made.build(table), made.build(turned)
        except fa.DataError as error:
            self.assertRegex(
                str(error), "no value in any row to learn from|missing in every row of the estimation sample"
            )
            return
        self.assertEqual(one.plan, other.plan)
        self.assertEqual(np.ascontiguousarray(one.X[order]).tobytes(), np.ascontiguousarray(other.X).tobytes())

    @given(ALONG, st.integers(0, 10**6), st.integers(2, 12))
    @settings(max_examples=40, deadline=None)
    def test_what_is_learned_sees_later_rows_only_where_it_says_so(self, text: str, seed: int, until: int) -> None:
        table = cells(seed)
        month = f"{2020 + until // 12}-{until % 12 + 1:02d}"
        made = fa.Plan(None, {"z": f"center({text})"}, data=PANEL_DATA, rows={"learn": f"month < '{month}'"})
        wild = {
            name: [
                7777.0 if t >= until and isinstance(v, float) else v
                for v, t in zip(values, table["period"], strict=True)
            ]
            for name, values in table.items()
        }
        resolved, other = _resolved(made, table), _resolved(made, wild)
        assume("[terms]" in resolved)  # and not an error
        if resolved != other:
            self.assertIn("terms.z reads later rows", " ".join(made.build(table).columns.warnings))

    @given(st.lists(st.one_of(ALONG, ALONG, ANY, PRODUCTS), min_size=1, max_size=3), st.integers(0, 10**6))
    @settings(max_examples=40, deadline=None)
    def test_a_stretch_around_a_row_is_enough_for_its_columns(self, terms: list[str], seed: int) -> None:
        """Sentences are proved on rows with so much of their unit as they read; unchanged, they are the rows built."""
        table = {name: values for name, values in cells(seed).items() if name != "period"}
        named = {f"t{at}": text for at, text in enumerate(terms)}
        plan = fa.Plan(None, named, data=PANEL_DATA, derived=DERIVED, variables=VARIABLES, intercept=False)
        try:
            made = built(plan, table)
        except fa.FacturumError:
            assume(False)
        rows = np.arange(made.selection.count)
        assume(len(rows) > 0)
        worlds = Worlds(made.outline, made.selection.positions(), Reads(made.prepared.derived))
        found = worlds.columns(rows, [], [*made.prepared.terms])
        there = ~np.isnan(found).any(axis=1)  # a value that fills others may lie farther away than is looked for
        np.testing.assert_array_equal(found[there], np.asarray(made.X)[there], err_msg=str(named))
        self.assertTrue(there.all() or "impute" in str(named), named)

    @given(ALONG, st.sampled_from(["snow", "price", "stays", "change", "floor"]), st.integers(0, 10**6))
    @settings(max_examples=40, deadline=None)
    def test_a_changed_cell_moves_only_rows_that_look_at_it(self, text: str, name: str, seed: int) -> None:
        """A row may change only if `offsets_read` says that it reads the period of the cell."""
        table = cells(seed)
        at = int(np.random.default_rng(seed).integers(len(table["hut"])))
        if " - mean(" in text or "impute" in text:
            return
        made = fa.Plan(None, {"x": text}, data=PANEL_DATA, rows={"missing": "keep"}, intercept=False)
        values = [*table[name]]
        values[at] = None if values[at] is not None else 5.0 if name != "floor" else 1
        before, after = made.build(table).X[:, 0], made.build({**table, name: values}).X[:, 0]
        reached = {look.offset for look in looks(parse(text), {}) if look.variable == name}
        carries = any(part.carries for part in parse(text).walk())  # which reads all earlier periods
        low, high = -len(table["hut"]) if carries else min(reached, default=1), max(reached, default=0)
        for row in np.flatnonzero(~((before == after) | (np.isnan(before) & np.isnan(after)))).tolist():
            self.assertEqual(table["hut"][row], table["hut"][at])
            offset = table["period"][at] - table["period"][row]
            self.assertTrue(low <= offset <= high, f"{text}: {name} at {offset}, and it looks at {sorted(reached)}")


def _resolved(made: fa.Plan, table: dict[str, list[Any]]) -> str:
    try:
        return str(made.resolve(table))
    except fa.DataError as error:
        return str(error)
