"""Tracing cells to their source, and comparing builds: whatever changed is named."""

from __future__ import annotations

import itertools
import json
import re
import unittest
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum.audit.proof.trace import Step
from facturum.numerics.shapes.drift import drift_between
from tests.support import PANEL_DATA, SAMPLE, Folder, command, huts, panel

TERMS = {
    "price": "log(price)",
    "access": "category(access, reference='trail', missing='category')",
    "beds": "standardize(beds)",
    "slope": "open * center(change)",
    "cut": "bins(floor, edges=[0, 2])",
    "filled": "impute(beds, 'median', by=[valley])",
}


def build(data: dict[str, Any], **changes: str) -> fa.Design:
    """Return the build of a table with missing values."""
    return fa.Plan("stays", {**TERMS, **changes}, data={"carry": ["month"]}).build(data)


def leaves(step: Step) -> list[Step]:
    return [step] if not step.parts else [leaf for part in step.parts for leaf in leaves(part)]


class Traces(Folder):
    def test_every_cell_follows_from_its_source(self) -> None:
        data = huts(60, seed=3)
        design = build(data)
        for row in design.rows.kept[:12].tolist():
            traced = design.trace(data, row)
            self.assertTrue(traced.agrees, str(traced))
            self.assertEqual([cell.column for cell in traced.cells], [e.name for e in design.columns.columns])
            for cell in traced.cells:
                own = design.trace(data, row, cell.column)
                self.assertEqual(own, cell)
                at = design.rows.kept.tolist().index(row)
                self.assertEqual(cell.stored, float(design.column(cell.column)[at]))

    def test_the_leaves_are_the_source_cells(self) -> None:
        data = huts(60, seed=3)
        design = build(data)
        row = int(design.rows.kept[4])
        for cell in design.trace(data, row).cells:
            for leaf in leaves(cell.steps):
                if leaf.row is not None and leaf.expression in data:
                    value = data[leaf.expression][leaf.row - 1]
                    self.assertEqual(leaf.value, float(value) if isinstance(value, bool | int | float) else value)

    def test_rows_that_lags_and_averages_reach_are_named(self) -> None:
        data = panel(gaps=0.0, missing=0.0)
        terms = {"before": "lag(price, 2)", "mean": "moving_average(snow, 3)", "apart": "difference(price)"}
        design = fa.Plan(None, terms, data=PANEL_DATA).build(data)
        place = {(hut, month): at + 1 for at, (hut, month) in enumerate(zip(data["hut"], data["month"], strict=True))}
        row = place["hut 1", "2020-06"]
        for column, months in (
            ("before", ["2020-04"]), ("mean", ["2020-04", "2020-05", "2020-06"]), ("apart", ["2020-05", "2020-06"]),
        ):  # fmt: skip
            traced = design.trace(data, row, column)
            reached = {leaf.row for leaf in leaves(traced.steps)}
            self.assertEqual(reached, {place["hut 1", month] for month in months}, str(traced))
            self.assertTrue(traced.agrees)
            self.assertIn(f"hut hut 1, month {months[0]}", str(traced))

    def test_fills_along_time_name_the_rows_they_come_from(self) -> None:
        dice = np.random.default_rng(4)
        months = [f"{2020 + at // 12}-{1 + at % 12:02d}" for at in range(24)]
        cells = [(hut, month) for hut in ("a", "b") for month in months if dice.random() > 0.15]
        snow = [None if dice.random() < 0.6 else float(dice.integers(1, 90)) for _ in cells]
        order = dice.permutation(len(cells))
        data = {"hut": [cells[at][0] for at in order], "month": [cells[at][1] for at in order]}
        data["snow"] = [snow[at] for at in order]
        row_of = {int(at): place + 1 for place, at in enumerate(order)}
        for way, limit in itertools.product(("previous", "next", "linear"), (None, 2)):
            text = f"impute(snow, '{way}'{'' if limit is None else f', limit={limit}'})"
            plan = fa.Plan(None, {"snow": text}, data=PANEL_DATA, rows={"missing": "keep"})
            design = plan.build(data)
            for at, (hut, _) in enumerate(cells):
                same = [n for n, cell in enumerate(cells) if cell[0] == hut and snow[n] is not None]
                before = max((n for n in same if n <= at), default=None)
                after = min((n for n in same if n >= at), default=None)
                ends = {"previous": (before,), "next": (after,), "linear": (before, after)}[way]
                traced = design.trace(data, row_of[at], "snow")
                self.assertTrue(traced.agrees, str(traced))
                if traced.stored is not None:
                    wanted = {row_of[at]} | {row_of[end] for end in ends if end is not None}
                    self.assertEqual({leaf.row for leaf in leaves(traced.steps)}, wanted, str(traced))

    def test_a_changed_cell_is_seen_in_the_trace(self) -> None:
        data = huts(60, seed=3)
        design = build(data)
        row = int(design.rows.kept[0])
        changed = {**data, "price": [50.0 if at == row - 1 else v for at, v in enumerate(data["price"])]}
        traced = design.trace(changed, row, "price")
        self.assertFalse(traced.agrees)
        self.assertIn(f"the source gives {np.log(50.0)}", traced.outcome)
        self.assertFalse(design.trace(changed, row).agrees)

    def test_joined_series_and_history_are_named(self) -> None:
        plan = fa.Plan.load(SAMPLE / "time.toml")
        design = plan.build(SAMPLE / "huts.csv")
        traced = str(design.trace(SAMPLE / "huts.csv", int(design.rows.kept[3]), "energy"))
        self.assertIn("series.energy: index by quarter, brought to each month (linear, at the middle)", traced)
        data = panel(gaps=0.0, missing=0.0)
        early = [month < "2021" for month in data["month"]]
        old, new = (
            {key: [v for v, first in zip(values, early, strict=True) if first == part] for key, values in data.items()}
            for part in (True, False)
        )
        lagged = fa.Plan("price", {"before": "lag(price, 1)"}, data=PANEL_DATA)
        made = lagged.build(new, history=old)
        at = new["month"].index("2021-01") + 1
        self.assertIn("from the end of the history", str(made.trace(new, at, "before", history=old)))

    def test_what_is_not_there_is_said(self) -> None:
        data = huts(60, seed=3)
        design = build(data)
        dropped = int(design.rows.dropped[0])
        for row, column, said in (
            (dropped, None, rf"row {dropped} is not in the matrix: a value is missing in (terms|response)"),
            (999, None, "row 999 is not among the 60 rows"),
            (0, None, "row 0 is not among"),
            (int(design.rows.kept[0]), "prise", "did you mean 'price'"),
            (int(design.rows.kept[0]), "access", "is a term of"),
        ):
            with self.subTest(said), self.assertRaisesRegex(fa.AuditError, said):
                design.trace(data, row, column)

    def test_on_the_command_line(self) -> None:
        command("demo", "--out", self.folder / "d")
        words = ("trace", self.folder / "d/build", self.folder / "d/huts.csv", "--row", "5")
        tree = command(*words, "--column", "winter")
        self.assertEqual(tree.returncode, 0)
        self.assertIn("snow_depth = 13   row 5, hut Larkhold, month 2019-05", tree.stdout)
        content = json.loads(command(*words, "--column", "winter", "--json").stdout)
        self.assertEqual(content["steps"]["parts"][0]["expression"], "high")
        text = (self.folder / "d/huts.csv").read_text("utf-8")
        (self.folder / "d/huts.csv").write_text(text.replace(",13,100\n", ",14,100\n", 1), "utf-8")
        changed = command(*words)
        self.assertEqual(changed.returncode, 1)
        self.assertIn("2 values of the row do not follow from the source", changed.stdout)


class ConvertedCells(unittest.TestCase):
    """The cells of a file that a trace names are those that the value moves with, and no others."""

    def test_a_joined_value_moves_with_the_cells_that_are_named_and_no_others(self) -> None:
        quarters = [f"{2019 + at // 4}Q{at % 4 + 1}" for at in range(12)] * 2
        months = [f"{2019 + at // 12}-{at % 12 + 1:02d}" for at in range(11)] * 2
        weeks = [f"2019-W{at + 1:02d}" for at in range(42)] * 2
        table = {"hut": ["Alpina", "Bergli"] * 7, "m": [f"2019-{at // 2 + 3:02d}" for at in range(14)], "y": [1.0] * 14}
        cases: list[tuple[str, list[str], dict[str, Any]]] = [
            ("quarter", quarters, {"how": "repeat"}), ("quarter", quarters, {"how": "spread"}),
            *[("quarter", quarters, {"how": "linear", "at": at}) for at in ("start", "middle", "end")],
            ("month", months, {"how": "repeat"}),
            *[("week", weeks, {"how": how, "partial": "keep"}) for how in ("sum", "mean")],
        ]  # fmt: skip
        dice = np.random.default_rng(5)
        for every, periods, take in cases:
            half = len(periods) // 2
            order = dice.permutation(len(periods))
            cells = dice.uniform(1, 9, len(periods))
            place = np.array(["Bergli"] * half + ["Alpina"] * half)[order].tolist()
            series = {"when": [periods[at] for at in order], "place": place, "x": cells.tolist()}
            spec = {"s": {"time": "when", "every": every, "match": {"hut": "place"}, "take": {"x": take}}}
            data = {"time": "m", "every": "month", "panel": ["hut"]}
            made = fa.Plan("y", {"v": "s_x"}, data=data, series=spec).build(table, series={"s": series})
            if take["how"] == "repeat":  # what is drawn beside it is of its unit alone, in the order of time
                drawn = [each for each in made.columns.paths if each.column == "s_x" and each.unit == "Alpina"]
                own = [cells[at] for at in np.argsort(order) if place[at] == "Alpina"]
                self.assertEqual([each.lines[-1].values for each in drawn], [own])
            moves: dict[int, set[int | None]] = {1: set(), 4: set(), 9: set()}
            for at in range(len(cells)):
                other = {**series, "x": [*cells[:at], cells[at] + 7, *cells[at + 1 :]]}
                moved = made.plan.build(table, series={"s": other}).column("v") != made.column("v")
                for row in moves:
                    moves[row] |= {at + 1} if moved[row - 1] else set()
            for row in moves:
                leaf = made.trace(table, row, "v", series={"s": series}).steps
                named = {part.row for part in leaf.parts}
                self.assertEqual(
                    [part.value for part in leaf.parts], [cells[(part.row or 0) - 1] for part in leaf.parts]
                )
                with self.subTest(take=take, every=every, row=row):
                    self.assertEqual(named, moves[row])

    def test_a_converted_table_is_traced_to_the_rows_of_its_file(self) -> None:
        days = [f"2023-{month:02d}-{day:02d}" for month in (1, 2, 3) for day in range(1, 29)]
        order = np.random.default_rng(6).permutation(len(days))
        table = {"day": [days[at] for at in order], "stays": [float(at) for at in order]}
        convert = {"every": "day", "take": {"stays": {"how": "sum", "partial": "keep"}}}
        plan = fa.Plan("stays", {"before": "lag(stays, 1)"}, data={"time": "day", "every": "month"}, convert=convert)
        made = plan.build(table)
        found = made.trace(table, 2, "before")
        (month,) = found.steps.parts
        self.assertEqual(month.value, sum(part.value for part in month.parts if isinstance(part.value, float)))
        self.assertEqual(sorted(part.row or 0 for part in month.parts), sorted(np.flatnonzero(order < 28) + 1))
        self.assertIn("before in row 2 of the table, brought to each month", str(found))
        table["stays"][3] += 1
        self.assertIn("no longer agrees with stays in the converted table", str(made.verify(table)))


class Comparisons(Folder):
    """What changed between two builds."""

    @given(st.integers(0, 10**6))
    @settings(max_examples=30, deadline=None)
    def test_a_changed_cell_that_matters_is_named(self, seed: int) -> None:
        dice = np.random.default_rng(seed)
        data = huts(80, seed=int(dice.integers(0, 50)))
        name = str(dice.choice(["price", "beds", "change", "access", "valley", "open", "floor", "stays"]))
        row = int(dice.integers(0, 80))
        other = next(v for v in dice.permutation(np.array(data[name], dtype=object)) if v != data[name][row])
        changed = {**data, name: [other if at == row else value for at, value in enumerate(data[name])]}
        before, after = build(data), build(changed)
        found = fa.compare(before, after)
        self.assertIn(f"The cell of {name} in row {row + 1} has changed", "\n".join(found.source))
        self.assertFalse(found.same)
        self.assertFalse(before.verify(changed).ok)
        in_both = np.intersect1d(before.rows.kept, after.rows.kept)
        self.assertEqual(found.rows_in_both, len(in_both))
        places = [np.searchsorted(d.rows.kept, in_both) for d in (before, after)]
        wanted = {
            column: int((before.column(column)[places[0]] != after.column(column)[places[1]]).sum())
            for column in before.names
            if column in after.names
        }
        told = {each.column: each.count for each in found.cells if each.column != "stays"}
        self.assertEqual(told, {column: count for column, count in wanted.items() if count})

    def test_plans_and_columns_are_compared(self) -> None:
        data = huts(120, seed=1)
        found = fa.compare(build(data), build(data, beds="log(beds)", money="log(price)", cut="floor"))
        text = str(found)
        for said in (
            "The term beds was standardize(beds), and is log(beds).",
            "The term money was added: log(price).",
            "The term cut was bins(floor, edges=[0, 2]), and is floor.",
            "2 columns removed", "columns added: cut, money." if "added: cut" in text else "added",
        ):  # fmt: skip
            self.assertIn(said, text)
        renamed = fa.compare(
            fa.Plan(None, {"a": "log(price)"}).build(data), fa.Plan(None, {"b": "log(price)"}).build(data)
        )
        self.assertIn("The column a is called b.", renamed.columns)
        self.assertEqual(renamed.cells, ())

    def test_learned_values_are_told_with_both(self) -> None:
        data = huts(100, seed=2, missing=0.0)
        more = {**data, "beds": [b + 10 for b in data["beds"]]}
        learned = [m for m in fa.compare(build(data), build(more)).learned if m.what.startswith("at")]
        moved = {(m.term, m.what): (float(m.before), float(m.after)) for m in learned}
        before, after = moved["beds", "at of standardize"]
        self.assertAlmostEqual(before, np.mean(data["beds"]), 7)
        self.assertAlmostEqual(after, np.mean(data["beds"]) + 10, 7)

    def test_vintages_of_a_panel_are_matched_by_unit_and_period(self) -> None:
        def vintage(months: int) -> dict[str, list[object]]:
            rows = [(hut, month) for hut in ("Alpina", "Bergli") for month in range(months)]
            return {
                "hut": [hut for hut, _ in rows],
                "month": [f"{2020 + month // 12}-{month % 12 + 1:02d}" for _, month in rows],
                "price": [40.0 + (hut == "Bergli") + month % 5 for hut, month in rows],
            }

        def made(carry: list[str], table: dict[str, list[object]]) -> fa.Design:
            data = {"time": "month", "every": "month", "panel": ["hut"], "carry": carry}
            return fa.Plan("price", {"before": "lag(price, 1)", "trend": "trend()"}, data=data).build(table)

        old, new = vintage(10), vintage(14)
        found = fa.compare(made(["hut", "month"], old), made(["hut", "month"], new))
        self.assertEqual((found.by, found.cells, found.rows_in_both), (("hut", "month"), (), 18))
        self.assertEqual(
            [(each.kind, each.count, each.rows[0]) for each in found.rows], [("gained", 8, "Alpina, 2020-11")]
        )
        bare = fa.compare(made([], old), made([], new))
        self.assertEqual((bare.by, bare.cells, bare.rows), (found.by, found.cells, found.rows))
        order = np.random.default_rng(3).permutation(20)
        shuffled = {key: [values[at] for at in order] for key, values in old.items()}
        self.assertTrue(fa.compare(made([], old), made([], shuffled)).matched.endswith("matched by hut and month"))
        self.assertEqual(fa.compare(made([], old), made([], shuffled)).cells, ())
        changed = {**old, "price": [99.0, *old["price"][1:]]}
        same = fa.compare(made([], old), made([], changed))
        self.assertEqual([each.rows for each in same.cells], [("Alpina, 2020-02",)] * 1)
        keyed = {"id": [f"k{at}" for at in range(20)], "x": [float(at * at % 7) for at in range(20)]}
        plan = fa.Plan(None, {"x": "x"}, data={"carry": ["id"]})
        again = fa.compare(plan.build(keyed), plan.build({key: values[::-1] for key, values in keyed.items()}))
        self.assertEqual((again.by, again.cells, again.rows_in_both), (("id",), (), 20))
        fewer = fa.compare(made([], old), fa.Plan(None, {"one": "1 / price"}).build(old))
        gone = [text for text in fewer.source if "does not read" in text]  # in the order of the table, not of a set
        self.assertEqual(gone, [f"The second build does not read {name}." for name in ("hut", "month")])

    def test_rows_are_told_by_reason_and_by_key(self) -> None:
        data = huts(60, seed=4, missing=0.0)
        fewer = fa.Plan("stays", {"price": "log(price)"}, rows={"keep": "beds > 30"})
        every = fa.Plan("stays", {"price": "log(price)"})
        lost = fa.compare(every.build(data), fewer.build(data)).rows
        self.assertEqual([(each.kind, each.count) for each in lost], [("lost", sum(b <= 30 for b in data["beds"]))])
        self.assertIn("in the second, keep is false in rows.keep", lost[0].reason)
        named = {**data, "hut": [f"h{at}" for at in range(60)]}
        order = list(range(59, -1, -1))
        shuffled = {key: [values[at] for at in order] for key, values in named.items()}
        plan = fa.Plan("stays", {"price": "log(price)"}, data={"carry": ["hut"]})
        found = fa.compare(plan.build(named), plan.build(shuffled), by=["hut"])
        self.assertEqual((found.cells, found.rows, found.rows_in_both), ((), (), 60))
        with self.assertRaisesRegex(fa.AuditError, "not carried along"):
            fa.compare(plan.build(named), plan.build(named), by=["beds"])
        left = {key: values[:20] for key, values in named.items()}
        for one, other in ((named, left), (left, named)):
            (gone,) = fa.compare(plan.build(one), plan.build(other), by=["hut"]).rows
            self.assertEqual(gone.count, 40)
            kept = re.findall(r"h\d+", str(gone))
            self.assertEqual(kept, [f"h{at}" for at in range(20, 20 + len(kept))])
            self.assertIn(f"and {40 - len(kept)} more", str(gone))

    def test_drift_is_what_its_formulas_say(self) -> None:
        dice = np.random.default_rng(3)
        tables = [
            {"x": dice.normal(at, 1, 200), "z": dice.normal(0, 1, 200), "y": dice.normal(size=200)} for at in (0, 2)
        ]
        plan = fa.Plan("y", {"z": "z", "x": "x"})
        made = fa.compare(*(plan.build(table) for table in tables))
        self.assertEqual(made.drifts[0][0], "x")  # the largest first
        self.assertEqual({name for name, _ in made.drifts}, {"x", "z", "y"})
        for name, drift in made.drifts:
            self.assertEqual(drift, drift_between(*(table[name] for table in tables)))
        a, b = dice.normal(0, 1, 5000), dice.normal(0.5, 1.5, 4000)
        found = drift_between(np.append(a, [np.nan] * 100), b)
        edges = np.quantile(a, np.linspace(0, 1, 11)[1:-1])
        p = np.append(np.bincount(np.searchsorted(edges, a), minlength=10) / 5100, 100 / 5100)
        q = np.append(np.bincount(np.searchsorted(edges, b), minlength=10) / 4000, 1e-4)
        self.assertAlmostEqual(found.stability, float(((q - p) * np.log(q / p)).sum()), 2)
        self.assertAlmostEqual(found.difference or 0, (b.mean() - a.mean()) / np.sqrt((a.var() + b.var()) / 2), 12)
        self.assertAlmostEqual(found.missing[0], 100 / 5100, 12)
        ties = np.array([0.0] * 70 + list(range(1, 31)))
        self.assertEqual(drift_between(ties, ties + 1e-9).stability, 0.0)

    def test_new_rows_of_a_resolved_plan_say_what_is_new(self) -> None:
        data = huts(100, seed=6, missing=0.0)
        plan = fa.Plan("stays", {"price": "log(price)", "filled": "impute(beds, 'mean')"})
        design = plan.build(data)
        strange = {**data, "price": [900.0, *data["price"][1:99], None]}
        news = "\n".join(design.plan.build(strange).news)
        self.assertIn(f"price reaches {np.log(900):.6g}, beyond the range of the earlier rows", news)
        self.assertIn("price is missing in 1 row, and never was", news)
        self.assertEqual(design.plan.build(data).news, [])
        design.save(self.folder / "b")
        loaded = fa.Plan.load(self.folder / "b/plan.resolved.toml")
        self.assertIn("beyond the range", "\n".join(loaded.build(strange).news))

    def test_folders_that_are_no_builds_are_refused(self) -> None:
        data = huts(60, seed=3)
        build(data).save(self.folder / "a")
        build({**data, "beds": data["beds"][::-1]}).save(self.folder / "b")
        self.assertEqual(command("compare", self.folder / "a", self.folder / "a").returncode, 0)
        done = command("compare", self.folder / "a", self.folder / "b")
        self.assertEqual(done.returncode, 1)
        self.assertIn("Several cells of beds", done.stdout)
        content = json.loads(command("compare", self.folder / "a", self.folder / "b", "--json").stdout)
        self.assertTrue(content["cells"])
        done = command("compare", self.folder / "a", self.folder)
        self.assertEqual(done.returncode, 2)
        self.assertIn("is not a Facturum build", done.stderr)
        file = self.folder / "b/columns.json"
        file.write_text(file.read_text("utf-8").replace("stays", "stayz"), "utf-8")
        done = command("compare", self.folder / "a", self.folder / "b")
        self.assertEqual(done.returncode, 2)
        self.assertIn("columns.json is not as it was written", done.stderr)


if __name__ == "__main__":
    unittest.main()
