"""Noticing whatever has changed: fingerprints of the source, and verifying a build."""

from __future__ import annotations

import csv
import json
import unittest
import unittest.mock
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum.audit.proof.content import difference
from facturum.audit.source.fingerprints import _mixed, changed_cells, column_digests, fingerprint_of
from facturum.data.arrow.intake import variable_from_arrow
from facturum.data.values import Kind
from facturum.data.variable import Variable
from tests.support import MIXED_TERMS, PANEL_DATA, SAMPLE, Folder, huts, panel, plan


class Fingerprints(unittest.TestCase):
    @given(st.integers(0, 200_000), st.integers(0, 2**32))
    @settings(max_examples=15, deadline=None)
    def test_one_changed_cell_is_found_wherever_it_is(self, at: int, seed: int) -> None:
        rows = 200_001
        data = np.random.default_rng(seed).normal(size=rows)
        before = fingerprint_of(Variable("x", Kind.NUMBER, data))
        after = data.copy()
        after[at] += 1e-9
        found = changed_cells(Variable("x", Kind.NUMBER, after), before)
        self.assertEqual([cells.row for cells in found], [at + 1])
        self.assertEqual(changed_cells(Variable("x", Kind.NUMBER, data), before), [])

    def test_several_changed_cells_are_told_by_their_leaf(self) -> None:
        data = np.zeros(140_000)
        before = fingerprint_of(Variable("x", Kind.NUMBER, data))
        after = data.copy()
        after[[5, 9, 70_000]] = 1.0
        found = changed_cells(Variable("x", Kind.NUMBER, after), before)
        self.assertEqual([(c.first, c.last, c.row) for c in found], [(1, 65_536, None), (65_537, 131_072, 70_001)])

    def test_two_cells_exchanged_are_noticed(self) -> None:
        before = fingerprint_of(Variable("x", Kind.NUMBER, np.array([1.0, 2.0, 3.0])))
        self.assertTrue(changed_cells(Variable("x", Kind.NUMBER, np.array([2.0, 1.0, 3.0])), before))

    def test_the_same_values_have_one_fingerprint_however_they_are_stored(self) -> None:
        import pyarrow as pa

        same = [
            (pa.array([1, None, 3], pa.int8()), pa.array([1.0, None, 3.0], pa.float64())),
            (pa.array(["b", None, "a"]), pa.DictionaryArray.from_arrays([1, None, 0], ["a", "b"])),
            (pa.array([0.0, 1.0]), pa.array([-0.0, 1.0])),
        ]
        for one, other in same:
            digests = {fingerprint_of(variable_from_arrow("x", array)).digest for array in (one, other)}
            self.assertEqual(len(digests), 1)


class Verifying(Folder):
    def setUp(self) -> None:
        super().setUp()
        self.design = fa.Plan.load(SAMPLE / "huts.toml").build(SAMPLE / "huts.csv")
        self.design.save(self.folder / "build")
        with (SAMPLE / "huts.csv").open(newline="") as handle:
            self.header, *self.cells = list(csv.reader(handle))

    def changed(self, *changes: tuple[int, str, str], order: Sequence[int] = range(2400)) -> Any:
        """Return what verifying says after cells of the source were changed (row numbers from 1)."""
        cells = [list(row) for row in self.cells]
        for row, name, value in changes:
            cells[row - 1][self.header.index(name)] = value
        path = self.folder / "changed.csv"
        with path.open("w", newline="") as handle:
            csv.writer(handle, lineterminator="\n").writerows([self.header, *(cells[at] for at in order)])
        return fa.open_design(self.folder / "build").verify(path)

    def test_an_unchanged_source_agrees_to_the_bit(self) -> None:
        found = self.changed()
        self.assertTrue(found.ok and found.exact)
        self.assertEqual((found.columns, found.rows), (len(self.design.names) + 1, len(self.design.X)))
        self.assertIn("to the bit", str(found))

    def test_a_changed_cell_is_named_with_its_columns(self) -> None:
        row = int(self.design.rows.kept[100])
        found = self.changed((row, "beds", "77"))
        self.assertFalse(found.ok)
        told = str(found)
        self.assertIn(f"The cell of beds in row {row} has changed since the build.", told)
        self.assertEqual({f.name for f in found.failures if f.kind == "column"}, {"beds"})
        self.assertEqual([f.rows for f in found.failures if f.kind == "column"], [(row,)])

    def test_a_changed_cell_that_no_column_shows_is_named_all_the_same(self) -> None:
        closed = next(at for at, row in enumerate(self.cells) if row[self.header.index("open")] == "no") + 1
        found = self.changed((closed, "price", "1.00"))
        self.assertEqual([f.kind for f in found.failures], ["variable"])
        self.assertIn(f"The cell of price in row {closed} has changed", str(found))

    def test_a_row_that_would_be_left_out_now(self) -> None:
        row = int(self.design.rows.kept[7])
        told = str(self.changed((row, "open", "no")))
        self.assertIn(f"Rows of the matrix would be left out now. Row {row}.", told)
        self.assertIn(f"The cell of open in row {row}", told)
        left = int(self.design.rows.dropped[0])
        self.assertIn("would be kept now", str(self.changed((left, "open", "yes"), (left, "stays", "50"))))

    def test_a_learned_number_that_comes_out_otherwise(self) -> None:
        row = next(int(r) for r in self.design.rows.kept if r > 500)
        told = str(self.changed((row, "snow_depth", "9999")))
        self.assertIn("The term snow would be resolved differently on this table", told)

    def test_rows_taken_away_a_word_for_a_number_and_a_new_category(self) -> None:
        told = str(self.changed(order=range(2000)))
        self.assertIn("The table has 2,000 rows, and the build was made from 2,400", told)
        self.assertIn("cannot be applied to this table", str(self.changed((3, "price", "dear"))))
        told = str(self.changed((3, "access", "sledge")))
        self.assertIn("The cell of access in row 3 has changed", told)

    def test_rows_added_moved_and_taken_out_between(self) -> None:
        rows = list(range(2400))
        as_before = "The table has 2,402 rows; the first 2,400, of which the build was made, are as they were."
        self.assertIn(as_before, str(self.changed(order=[*rows, 2398, 2399])))
        kept = [int(row) for row in self.design.rows.kept]
        for order in ([*rows[:1200], *rows[1201:]], [*rows[:1200], 7, *rows[1200:]]):
            found = self.changed(order=order)
            disagreeing = [
                at + 1 for at, row in enumerate(order) if at + 1 in kept and self.cells[row] != self.cells[at]
            ]
            self.assertIn(
                f"The first row in which the matrix and the table disagree is row {disagreeing[0]}.", str(found)
            )
        told = str(self.changed(order=rows[::-1]))
        self.assertIn("The rows of the table are in another order", told)
        self.assertNotIn("has changed", told)
        told = str(self.changed((5, "beds", "77"), order=rows[::-1]))
        self.assertIn("Several cells of beds between rows 1 and 2400 have changed", told)

    def test_a_negative_under_a_logarithm(self) -> None:
        row = int(self.design.rows.kept[11])
        told = str(self.changed((row, "price", "-4")))
        self.assertIn("The column price cannot be computed: 'log(price)' is not defined for these values", told)

    def test_a_stored_matrix_that_was_tampered_with(self) -> None:
        stored = fa.open_design(self.folder / "build")
        stored.X[3, stored.names.index("beds")] += 1
        told = str(stored.verify(SAMPLE / "huts.csv"))
        self.assertIn("The stored column beds is not the one that was written.", told)
        self.assertIn(f"Row {self.design.rows.kept[3]}.", told)
        other = fa.open_design(self.folder / "build")
        assert other.y is not None
        other.y[3] += 1
        told = str(other.verify(SAMPLE / "huts.csv"))
        self.assertIn("is not the one that was written.", told)
        self.assertIn(f"Row {self.design.rows.kept[3]}.", told)

    def test_a_formula_that_was_tampered_with(self) -> None:
        path = self.folder / "build/columns.json"
        content = json.loads(path.read_text("utf-8"))
        entry = next(column for column in content["columns"] if column["name"] == "altitude_2")
        entry["formula"] = "(altitude / 1000) ** 3"
        path.write_text(json.dumps(content), "utf-8")
        with self.assertRaisesRegex(fa.AuditError, "columns.json is not as it was written"):
            fa.open_design(self.folder / "build")
        found = fa.open_design(self.folder / "build", check=False).verify(SAMPLE / "huts.csv")
        self.assertEqual({f.name for f in found.failures}, {"altitude_2", "columns.json", "columns.csv"})
        self.assertEqual(max(f.count for f in found.failures), len(self.design.X))
        content["definitions"][0]["formula"] = "altitude >"
        path.write_text(json.dumps(content), "utf-8")
        told = str(fa.open_design(self.folder / "build", check=False).verify(SAMPLE / "huts.csv"))
        self.assertIn("The definition of high cannot be read: not a valid expression", told)
        self.assertIn("The column winter cannot be computed: variable 'high' not found", told)

    def test_values_that_differ_in_the_last_place_are_allowed_and_told(self) -> None:
        stored = fa.open_design(self.folder / "build")
        at = stored.names.index("price")
        other = np.nextafter(stored.X[:, at], np.inf)
        digest = column_digests([other])[0]
        changed = {
            "columns": [
                e.model_copy(update={"digest": digest}) if e.name == "price" else e for e in stored.columns.columns
            ]
        }
        stored._origin = replace(stored._origin, columns=stored.columns.model_copy(update=changed))
        stored.X[:, at] = other
        found = stored.verify(SAMPLE / "huts.csv")
        self.assertTrue(found.ok)
        self.assertFalse(found.exact)
        self.assertIn("within 1 unit in the last place", str(found))

    def test_the_outcome_and_the_files_do_not_depend_on_threads(self) -> None:
        outcomes, files = [], []
        for threads in ("1", "3"):
            with unittest.mock.patch.dict("os.environ", FACTURUM_THREADS=threads):
                design = fa.Plan.load(SAMPLE / "huts.toml").build(SAMPLE / "huts.csv")
                design.save(self.folder / threads)
                changes = [(int(row), "price", "-1") for row in self.design.rows.kept[3:40:9]]
                outcomes.append(self.changed(*changes, (4, "beds", "77"), (9, "access", "sledge")))
            files.append({path.name: path.read_bytes() for path in (self.folder / threads).iterdir()})
        self.assertEqual(outcomes[0], outcomes[1])
        self.assertFalse(outcomes[0].ok)
        self.assertEqual(files[0], files[1])

    @given(st.integers(0, 299), st.sampled_from(["price", "beds", "access", "valley", "open", "change", "stays"]))
    @settings(max_examples=25, deadline=None)
    def test_any_changed_cell_of_any_variable_is_found(self, at: int, name: str) -> None:
        table = huts(300, seed=40, missing=0.05)
        design = plan(MIXED_TERMS, response="log(stays)").build(table)
        values = list(table[name])
        others = [v for v in table[name] if v is not None and v != values[at]]
        values[at] = None if values[at] is not None and at % 2 else others[0]
        found = design.verify({**table, name: values})
        self.assertIn(f"The cell of {name} in row {at + 1} has changed since the build.", str(found))


class Hashes(unittest.TestCase):
    def test_the_finaliser_gives_the_published_numbers(self) -> None:
        # the first outputs of SplitMix64 for the seed 1234567, as given with reference implementations of it
        published = [6457827717110365317, 3203168211198807973, 9817491932198370423, 4593380528125082431]
        states = np.array([(1234567 + at * 0x9E3779B97F4A7C15) % 2**64 for at in range(1, 5)], dtype=np.uint64)
        self.assertEqual(_mixed(states).tolist(), published)


class Differences(unittest.TestCase):
    def test_the_first_difference_is_told_with_its_path(self) -> None:
        for old, new, told in (
            ({"a": [1, 2]}, {"a": [1, 2]}, None),
            ({"a": [1, 2]}, {"a": [1, 3]}, "m.a.1 is 2, not 3"),
            ({"a": 1}, 5, "m is {'a': 1}, not 5"),
            ([1], [1, 2], "m is [1], not [1, 2]"),
            ({"a": 1}, {"a": 1, "b": 2}, "m.b is None, not 2"),
            ({"a": 1, "b": 2}, {"b": 2, "a": 1}, "m has its parts in another order"),
            (1, True, "m is 1, not True"),
            (1, 1.0, "m is 1, not 1.0"),
            (100.0, 100.5, None),
            (-100.0, -101.5, "m is -100.0, not -101.5"),
        ):
            self.assertEqual(difference(old, new, 0.01, "m"), told)


class Resolving(unittest.TestCase):
    def test_another_learned_number_is_told_whether_it_is_larger_or_smaller(self) -> None:
        table = {"x": [1.0, 2.0, 3.0, 6.0], "y": [1.0, 2.0, 4.0, 3.0], "use": [True, True, True, False]}
        design = fa.Plan("y", {"x": "center(x)"}, rows={"learn": "use"}).build(table)
        for value in (2.0, 5.0):
            found = design.verify({**table, "x": [1.0, 2.0, value, 6.0]})
            told = [failure.what for failure in found.failures if failure.kind == "plan"]
            center = f"center(x, at={(3 + value) / 3!r})"
            self.assertEqual(told, [f"The term x would be resolved differently on this table: {center}"])
        gone = design.verify({name: values for name, values in table.items() if name != "x"})
        self.assertIn("Variable x is no longer in the table.", [failure.what for failure in gone.failures])


class TablesBehind(unittest.TestCase):
    """A changed cell is told by its place in the table given, before stacking, converting and joining."""

    def refused(self, told: str, design: Any, table: dict[str, Any], **others: Any) -> None:
        found = design.verify(table, **others)
        self.assertEqual([f.what for f in found.failures if f.kind == "variable"], [told])

    def test_stacked_and_converted_tables(self) -> None:
        wide = {"q_1": [1, 2, 3, 4], "q_2": [2, 4, 4, 1], "y": [1.0, 2.0, 3.0, 5.0]}
        stack = {"into": {"answer": ["q_1", "q_2"]}, "which": "item"}
        design = fa.Plan("answer", ["category(item)", "y"], stack=stack).build(wide)
        self.assertTrue(design.verify(wide).ok)
        told = "The cell of q_2 in row 3 has changed since the build. It was 4, and is 5."
        self.refused(told, design, {**wide, "q_2": [2, 4, 5, 1]})
        months = {"month": [f"2020-{at:02d}" for at in range(1, 13)], "snow": list(range(12)), "stays": list(range(12))}
        take = {"depth": {"how": "mean", "of": "snow", "partial": "keep"}, "stays": {"how": "sum", "partial": "keep"}}
        data = {"time": "month", "every": "quarter"}
        design = fa.Plan("stays", "lag(depth, 1)", data=data, convert={"every": "month", "take": take}).build(months)
        self.assertTrue(design.verify(months).ok)
        told = "The cell of snow in row 5 has changed since the build. It was 4, and is 9."
        self.refused(told, design, {**months, "snow": [*range(4), 9, *range(5, 12)]})

    def test_history_and_series(self) -> None:
        table = panel(missing=0)
        quarters = [f"{year}Q{part}" for year in (2019, 2020, 2021, 2022) for part in (1, 2, 3, 4)]
        costs = {"quarter": quarters, "index": [float(at) for at in range(16)], "unused": [0.0] * 16}
        take = {"index": {"how": "repeat"}, "unused": {"how": "repeat"}}
        energy = {"time": "quarter", "every": "quarter", "take": take}
        early = [at for at, period in enumerate(table["period"]) if period < 15]
        late = [at for at, period in enumerate(table["period"]) if period >= 15]
        old, new = ({name: [values[at] for at in rows] for name, values in table.items()} for rows in (early, late))
        terms = {"snow": "lag(snow, 2)", "cost": "energy_index"}
        made = plan(terms, data=PANEL_DATA, series={"energy": energy}).resolve(table, series={"energy": costs})
        series = {"energy": costs}
        design = made.build(new, history=old, series=series)
        self.assertTrue(design.verify(new, history=old, series=series).ok)
        was = f"It was {old['snow'][3]:g}, and is 0.5."
        told = f"The cell of snow in row 4 of the history has changed since the build. {was}"
        changed = {**old, "snow": [*old["snow"][:3], 0.5, *old["snow"][4:]]}
        self.refused(told, design, new, history=changed, series=series)
        self.refused("The build was made with a history, and none is given.", design, new, series=series)
        told = "The cell of index in row 12 of the series energy has changed since the build. It was 11, and is 0.5."
        changed = {"energy": {**costs, "index": [*range(11), 0.5, *range(12, 16)]}}
        self.refused(told, design, new, history=old, series=changed)
        longer = {"energy": {**{k: [*v, v[-1]] for k, v in costs.items()}, "quarter": [*quarters, "2023Q1"]}}
        told = "The series energy has 17 rows; the first 16, of which the build was made, are as they were."
        self.refused(told, design, new, history=old, series=longer)
        unused = {"energy": {**costs, "unused": [1.0] * 16}}
        self.assertTrue(design.verify(new, history=old, series=unused).ok)

    def test_a_cell_that_leaves_the_plan_without_meaning_is_named_all_the_same(self) -> None:
        table = panel(missing=0, gaps=0)
        design = plan({"t": "lag(snow, 1)"}, data=PANEL_DATA).build(table)
        told = "The cell of hut in row 1 has changed since the build."
        self.refused(
            f"{told} It was {table['hut'][0]}, and is hut 9.", design, {**table, "hut": ["hut 9", *table["hut"][1:]]}
        )
        twice = next(h for h in ("hut 0", "hut 1") if h != table["hut"][0])
        found = design.verify({**table, "hut": [twice, *table["hut"][1:]]})
        self.assertIn(told, str(found))
        self.assertIn("a month occurs more than once of the same hut", str(found))
