"""What the map says of tables and warns of, at the limits where it begins to: worked out by hand, or a second way."""

from __future__ import annotations

import unittest
import warnings
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
from scipy import stats

import facturum as fa
from facturum.audit.map.entries import ColumnMap
from facturum.audit.proof.content import table_failures
from facturum.audit.source.fingerprints import Fingerprint, changed_cells, fingerprint_of
from facturum.audit.topics.binning import histogram
from facturum.data.table import Table
from facturum.engine.blocks.leaves import LEAF
from facturum.engine.passes.build import build
from facturum.engine.planning.shaping import Given
from tests.support import Folder

MONTHS = [f"{2020 + at // 12}-{at % 12 + 1:02d}" for at in range(24)]


def mapped(terms: dict[str, str], table: dict[str, Any], response: str | None = "y", **sections: Any) -> ColumnMap:
    """Return the map of a plan on a table, whose rows have a number of their own as y where none is given."""
    squares = [float(at * at) for at in range(len(next(iter(table.values()))))]
    table = {"y": squares, "z": squares, **table}
    return fa.Plan(response, terms, **sections).build(table).columns


class Warnings(unittest.TestCase):
    def test_each_begins_just_beyond_its_limit(self) -> None:
        def ones(count: int, rows: int) -> list[float]:
            return [float(at < count) for at in range(rows)]

        cases: list[tuple[str, list[Any], str, bool]] = [
            ("x", [1.0, 2.0, 4.0], "there are 2 columns for 3 rows", False),
            ("x", [1.0, 2.0], "there are 2 columns for 2 rows", True),
            ("x", [2.5], "there are 2 columns for 1 row.", True),
            ("bins(x, edges=[0.5])", ones(1, 100), "only", False),
            ("bins(x, edges=[0.5])", ones(1, 101), "only 1.0 % of the rows are in the bin 'from 0.5'", True),
            ("bins(x, edges=[0.5])", ones(14, 20), "in the one bin", False),
            ("bins(x, edges=[0.5])", ones(15, 20), "75 % of the rows are in the one bin 'from 0.5'", True),
            ("bins(x, edges=[[0.0, 2.5], [2.5, 9.0]])", [1.0, 2.0, 3.0, 4.0], "overlap", False),
            ("bins(x, edges=[[0.0, 2.5], [2.25, 9.0]])", [1.0, 2.0, 3.0, 4.0], "from 0.0 to 2.5 and from 2.25", True),
            ("impute(x, 'mean')", [1.0, 2.0, 4.0, None, None], "imputed. Cons", False),
            ("impute(x, 'mean')", [1.0, 4.0, None, None], "x in t: 50 % of the values are imputed", True),
            ("impute(x, value=0)", [1.0, 2.0, None, 3.0], "mean response", False),
            ("mean_of(x, z)", [1.0, 0.0, 1.0, 0.0], "is negatively corr", True),
            ("x > 0", [1.0, 2.0, 3.0, 4.0], "t is 1 in every row", True),
            ("category(x > 0)", [1.0, -2.0, 3.0, 4.0], "add up", False),
            ("x > 0", [1.0, 2.0, 3.0, 4.0], "add up", False),
            (
                "category(x > 0, coding='every')",
                [1.0, -2.0, 3.0, 4.0],
                "the columns of t add up to the intercept",
                True,
            ),
            ("is_missing(x) * 1", [1.0, None, 3.0, 4.0], "in every row", False),
        ]
        for text, x, said, told in cases:
            found = "\n".join(mapped({"t": text}, {"x": x}).warnings)
            self.assertEqual(said in found, told, f"{text} of {x}: {found}")
        every = {"t": "category(x > 0, coding='every')"}
        self.assertEqual(mapped(every, {"x": [1.0, -2.0, 3.0, 4.0]}, intercept=False).warnings, [])

    def test_what_is_missing_goes_with_the_response_by_the_t_of_welch(self) -> None:
        dice = np.random.default_rng(8)
        for shift in (0.0, 2.0, -2.0):
            gone = dice.random(60) < 0.3
            y = dice.normal(size=60) + shift * gone
            x = [None if g else float(v) for g, v in zip(gone, dice.normal(size=60), strict=True)]
            (entry,) = (made := mapped({"t": "impute(x, 'median')"}, {"x": x, "y": y})).imputations
            wanted = stats.ttest_ind(y[gone], y[~gone], equal_var=False).statistic
            self.assertAlmostEqual(entry.t or 0, wanted, places=9)
            self.assertAlmostEqual(entry.response_difference or 0, y[gone].mean() - y[~gone].mean(), places=12)
            way = "higher" if shift > 0 else "lower"
            wanted_text = f"mean response is {abs(y[gone].mean() - y[~gone].mean()):.4g} {way} where it is missing"
            self.assertEqual(wanted_text in "\n".join(made.warnings), abs(wanted) > 2, made.warnings)


class Spread(unittest.TestCase):
    def test_a_histogram_has_the_counts_of_numpy(self) -> None:
        dice = np.random.default_rng(7)
        for x in (dice.normal(size=999), dice.uniform(-9, -3, 500), dice.exponential(size=700) + 40):
            counts, _edges = np.histogram(x, 48)
            for scale in (
                1.0,
                2.0**500,
                1.5 * 2.0**1023 / np.abs(x).max(),
            ):  # powers of two move no value to another cell
                entry = histogram(x * scale)
                assert entry is not None
                self.assertEqual((entry.low, entry.high), (float((x * scale).min()), float((x * scale).max())))
                self.assertLessEqual(np.abs(np.array(entry.counts) - counts).sum(), 2)
        self.assertEqual(histogram(np.array([2.5, 3.5]), 3).counts, [1, 0, 1])  # type: ignore[union-attr]
        self.assertIsNone(histogram(np.array([2.0, 2.0])))
        self.assertIsNone(histogram(np.array([])))


class Sources(Folder):
    def test_the_variables_that_a_plan_reads_have_a_fingerprint_and_no_others(self) -> None:
        table = {
            "m": MONTHS[:6],
            "u": list("aaabbb"),
            "x": [1.0, 2, 3, 4, 5, 6],
            "y": [1.0, 4, 2, 5, 3, 7],
            "z": [0.0] * 6,
        }
        clock = {"time": "m", "every": "month", "panel": ["u"]}
        for terms, sections, wanted in (
            ({"x": "x"}, {}, {"x", "y"}),
            ({"x": "x"}, {"data": clock}, {"m", "u", "x", "y"}),  # which name its rows
            ({"x": "lag(x, 1)"}, {"data": clock}, {"m", "u", "x", "y"}),
            ({"x": "x"}, {"data": {"carry": ["u"]}}, {"u", "x", "y"}),
            ({"x": "x"}, {"rows": {"keep": "z == 0"}}, {"x", "y", "z"}),
            ({"x": "x"}, {"rows": {"learn": "m < '2020-05'"}, "data": clock}, {"m", "u", "x", "y"}),
        ):
            made = fa.Plan("y", terms, **sections).build(table)
            self.assertEqual(set(made._origin.audited.fingerprints["data"]), wanted)
            self.assertTrue(all(entry.digest is None for entry in made.columns.columns))
            self.assertTrue(all(len(entry.digest or "") == 64 for entry in made._origin.audited.columns))

    def test_a_stored_table_of_other_types_is_no_match(self) -> None:
        anew = pa.table({"a": [1.0, 2.0], "b": [3.0, 4.0]})
        for stored in (
            pa.table({"a": ["x", "2"], "b": [3.0, 4.0]}),
            pa.table({"a": [1.0, 2.5], "b": [3.0, 4.0]}),
        ):
            self.assertEqual([failure.name for failure in table_failures(stored, anew, "t")], ["a"])
            self.assertEqual(list(table_failures(stored, anew, "t", {"a"})), [])
        carried = pa.table({"a": [1.0, 2.0], "b": ["u", "v"]})
        (failure,) = table_failures(carried.select(["b"]), carried, "t")
        self.assertEqual(failure.what, "The columns of t are not those of the build, or in another order: ['b'].")


class Along(Folder):
    def test_lines_are_drawn_where_time_has_an_axis(self) -> None:
        table = {"m": MONTHS, "y": [float(at % 7) for at in range(24)], "x": [float(at) for at in range(24)]}
        for every in ("row", "month"):
            (self.folder / "p.toml").write_text(
                f'facturum = 1\nresponse = "y"\n[data]\ntime = "m"\nevery = "{every}"\n[terms]\nl = "lag(x, 1)"\n'
            )
            paths = fa.Plan.load(self.folder / "p.toml").build(table).columns.paths
            self.assertEqual([path.column for path in paths], [] if every == "row" else ["l"])

    def test_a_line_of_the_source_is_drawn_at_the_period_that_it_stands_for(self) -> None:
        table = {"m": MONTHS, "y": [float(at % 7) for at in range(24)]}
        source = {"t": ["2021", "2020"], "e": [5.0, 3.0], "c": ["a", "b"], "k": ["1", "2"]}
        for place, first in (("start", "2020-01"), ("middle", "2020-06"), ("end", "2020-12")):
            series = {"s": {"time": "t", "every": "year", "take": {"e": {"how": "linear", "at": place}}}}
            made = fa.Plan("y", {"e": "s_e"}, data={"time": "m", "every": "month"}, series=series)
            own, theirs = made.build(table, series={"s": source}).columns.paths[0].lines
            self.assertEqual((theirs.name, theirs.periods[0], theirs.values), ("e by year", first, [3.0, 5.0]))
            self.assertEqual(own.periods, MONTHS)
        repeated = {"s": {"time": "t", "every": "year", "take": {"e": {"how": "repeat", "at": "start"}}}}
        made = fa.Plan("y", {"e": "s_e"}, data={"time": "m", "every": "month"}, series=repeated)
        gaps = {"t": ["2020", "2021"], "e": [None, 5.0]}
        own, theirs = made.build(table, series={"s": gaps}).columns.paths[0].lines
        self.assertEqual((theirs.periods, theirs.values), (["2020-06", "2021-06"], [None, 5.0]))
        self.assertEqual(own.values, [None] * 12 + [5.0] * 12)
        truths = {"t": ["2020", "2021"], "e": [True, False]}
        made = fa.Plan("y", {"e": "s_e * 1"}, data={"time": "m", "every": "month"}, series=repeated)
        self.assertEqual(len(made.build(table, series={"s": truths}).columns.paths[0].lines), 1)  # only numbers

    def test_units_are_drawn_in_the_order_of_time_and_no_more_than_can_be_read(self) -> None:
        rows = 402
        table: dict[str, Any] = {
            "t": [*[f"{1900 + at // 12}-{at % 12 + 1:02d}" for at in range(rows)][::-1], "1900-01", "1900-02"],
            "u": [1] * rows + [2, 2],
            "w": ["road", "trail"] * (rows // 2 + 1),
            "x": [*[float(at) for at in range(rows)][::-1], 7.0, 8.0],
            "y": [float(at * at % 91) for at in range(rows + 2)],
        }
        data = {"time": "t", "every": "month", "panel": ["u"]}
        paths = mapped({f"l{at}": f"lag(x, {at})" for at in range(1, 27)}, table, data=data).paths
        self.assertEqual([path.column for path in paths], 2 * [f"l{at}" for at in range(1, 25)])
        self.assertEqual([path.unit for path in paths[::24]], ["1", "2"])
        lagged, given = paths[1].lines
        self.assertEqual((paths[1].unit, len(lagged.periods), lagged.periods[0]), ("1", 402, "1900-01"))
        self.assertEqual((lagged.values, given.values), ([None, None, *range(400)], [*range(402)]))
        derived = mapped({"d": "log(d)"}, table, data=data, derived={"d": "lag(x, 1) + 1"}).paths
        self.assertEqual([(path.column, path.lines[1].name) for path in derived], 2 * [("d", "x")])
        self.assertFalse(mapped({"c": "category(lag(w, 1))"}, table, data=data).paths)


class Rows(Folder):
    def test_what_the_list_of_rows_says_otherwise_is_told_with_its_rows(self) -> None:
        table = {"x": [1.0, None, 3.0, 4.0, 6.0], "y": [1.0, 2.0, 5.0, 3.0, 4.0]}
        plan = fa.Plan("y", {"x": "center(x)"}, rows={"learn": "x < 4"})
        rows = plan.build(table).rows
        self.assertTrue(plan.build(table).verify(table).ok)
        for other, told, wrong in (
            (replace(rows, learning=~rows.learning), "marked as learned from that were not", (1, 3, 4, 5)),
            (replace(rows, learning=np.array([True, False, False, False])), "marked as learned from", (3,)),
            (replace(rows, causes=rows.causes[:0], dropped=rows.dropped[:0]), "list of rows left out", (2,)),
            (replace(rows, dropped=rows.dropped + 2), "list of rows left out", (2, 4)),
        ):
            design = plan.build(table)
            design._origin.__dict__["rows"] = other
            (failure,) = design.verify(table).failures
            self.assertIn(told, failure.what)
            self.assertEqual((failure.rows, failure.count), (wrong, len(wrong)))

    def test_cells_filled_in_are_told_by_the_rows_of_the_table_not_of_its_history(self) -> None:
        old = {"m": MONTHS[:4], "x": [1.0, None, 3.0, 4.0], "y": [1.0, 2.0, 3.0, 5.0]}
        new = {"m": MONTHS[4:8], "x": [5.0, 6.0, None, None], "y": [3.0, 1.0, 2.0, 4.0]}
        plan = fa.Plan("y", {"x": "impute(x, 'mean')", "l": "lag(x, 1)"}, data={"time": "m", "every": "month"})
        made = plan.resolve(old).build(new, history=old)
        made.save(self.folder / "b")
        filled = fa.open_design(self.folder / "b").imputed
        self.assertEqual(filled["source_row"].to_pylist(), [3, 4])
        changed = made.verify({**new, "x": [5.0, 6.5, None, None]}, history={**old, "x": [1.0, None, 3.5, 4.0]})
        self.assertLessEqual({"x", "history.x"}, {failure.name for failure in changed.failures})
        clock = made.columns.clock
        assert clock is not None
        stands = mapped({"l": "lag(x, 1)"}, {"x": [1.0, 2.0, 4.0, 8.0]}, data={"every": "row"}).clock
        assert stands is not None
        self.assertEqual((stands.time, stands.units, stands.gaps, stands.history), (None, 1, 0, 0))
        self.assertEqual(Table.of({}).length, 0)
        self.assertEqual((clock.history, clock.units, clock.no_period, clock.gaps), (4, 1, 0, 0))

    def test_an_imputation_may_fail_in_rows_of_the_table_that_are_left_out(self) -> None:
        old = {"m": MONTHS[:4], "x": [1.0, 2.0, 3.0, 0.5], "z": [1.0, 2.0, 1.0, 3.0], "y": [1.0, 2.0, 3.0, 5.0]}
        new = {"m": MONTHS[4:8], "x": [0.0, None, 3.0, 5.0], "z": [None, 6.0, 2.0, 1.0], "y": [3.0, 1.0, 2.0, 4.0]}
        plan = fa.Plan("y", {"x": "impute(log(x), 'mean')", "z": "z"}, data={"time": "m", "every": "month"})
        (entry,) = plan.resolve(old).build(new, history=old).columns.imputations
        self.assertEqual((entry.rows, entry.cells, entry.still_missing), (4, 1, 1))

    def test_one_row_has_no_spread(self) -> None:
        with warnings.catch_warnings(action="error"):
            warnings.simplefilter("ignore", fa.FacturumWarning)
            entry = mapped({"x": "x"}, {"x": [2.5]})["x"]
        self.assertEqual((entry.min, entry.mean, entry.sd, entry.nonzero), (2.5, 2.5, None, 1))

    def test_a_history_may_be_longer_than_many_leaves(self) -> None:
        days = np.arange(49) + np.datetime64("1990-01-01")
        table = {"d": days, "x": np.arange(49.0), "y": np.arange(49.0) % 7}
        old, new = (
            Table.of({name: cells[part] for name, cells in table.items()}) for part in (slice(43), slice(43, 49))
        )
        plan = fa.Plan("y", {"l": "lag(x, 2)"}, data={"time": "d", "every": "day"}, rows={"keep": "x != 47"})
        for leaf in (2, 3, 64):
            made = build(plan.spec, Given(new, history=old), leaf=leaf)
            self.assertEqual(made.selection.source_rows().tolist(), [1, 2, 3, 4, 6])
            self.assertEqual(made.selection.dropped_rows()[0].tolist(), [5])
            self.assertEqual(made.X[:, 1].tolist(), [41, 42, 43, 44, 46])

    def test_scores_count_the_rows_with_fewer_values_than_are_needed(self) -> None:
        table = {"a": [1.0, None, 3.0, None, 2.0], "b": [2.0, 2.0, None, None, 1.0], "c": [1.0, 2.0, 3.0, 4.0, None]}
        for needed, few in ((1, 0), (2, 1), (3, 4)):
            (entry,) = mapped({"s": f"sum_of(a, b, c, at_least={needed})"}, table).scores
            self.assertEqual((entry.needed, entry.too_few), (needed, few))

    def test_the_first_row_that_disagrees_may_be_the_last_that_both_tables_have(self) -> None:
        table = {"x": [1.0, 2.0, 4.0], "y": [1.0, 5.0, 2.0]}
        longer = {"x": [1.0, 2.0, 3.0, 9.0], "y": [1.0, 5.0, 2.0, 3.0]}
        found = str(fa.Plan("y", {"x": "x"}).build(table).verify(longer))
        self.assertIn("The first row in which the matrix and the table disagree is row 3.", found)
        appended = str(fa.Plan("y", {"x": "x"}).build(table).verify({**longer, "x": [1.0, 2.0, 4.0, 9.0]}))
        self.assertNotIn("The first row in which", appended)

    def test_a_variable_without_rows_has_a_fingerprint(self) -> None:
        mark = fingerprint_of(Table.of({"x": np.zeros(0)})["x"])
        self.assertEqual(Fingerprint.model_validate_json(mark.model_dump_json()), mark)
        whole = fingerprint_of(Table.of({"x": [1.0]})["x"])
        for wrong in ({"locators": []}, {"locators": [whole.locators[0][1:]]}, {"rows": -1}, {"locators": ["g" * 272]}):
            with self.assertRaises(ValueError, msg=str(wrong)):
                Fingerprint(**{**whole.model_dump(), **wrong})

    def test_the_last_row_of_each_leaf_is_found(self) -> None:
        x = np.arange(3.0 * LEAF)
        for last in (1, LEAF, 2 * LEAF, 3 * LEAF):
            changed = np.where(np.arange(len(x)) == last - 1, -1.0, x)
            found = changed_cells(Table.of({"x": changed})["x"], fingerprint_of(Table.of({"x": x})["x"]))
            self.assertEqual([cells.row for cells in found], [last])

    def test_no_figure_is_a_negative_zero(self) -> None:
        entry = mapped({"t": "-x"}, {"x": [0.0, 0.0, 0.0]})["t"]
        self.assertEqual([str(each) for each in (entry.min, entry.max, entry.mean)], ["0.0"] * 3)
