"""The checks of a build: planted faults are found and told, clean tables are left alone, figures are the textbook's."""

from __future__ import annotations

import json
import re
import unittest
from collections import Counter
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import facturum as fa
from facturum.numerics.linear.relations import relations
from facturum.numerics.linear.triangular import Factor
from tests.planted import outcomes
from tests.support import Folder, command

ROWS = 240


def table(**changes: Any) -> dict[str, Any]:
    """Return a table that nothing is to be said of, with some variables changed."""
    dice = np.random.default_rng(2)
    made: dict[str, Any] = {
        "y": dice.normal(10, 2, ROWS),
        "x": dice.normal(0, 1, ROWS),
        "z": dice.normal(0, 1, ROWS),
        "age": dice.uniform(18, 80, ROWS),
        "kind": dice.choice(["a", "b", "c"], ROWS),
        "isle": dice.choice(["n", "s"], ROWS),
        "row": np.arange(ROWS),
    }
    return {**made, **changes}


def found(terms: dict[str, str], data: dict[str, Any], **sections: Any) -> list[Any]:
    response = sections.pop("response", "y")
    return list(fa.Plan(response, terms, **sections).build(data).columns.findings)


def told(check: str, findings: list[Any]) -> str:
    return "\n".join(each.text for each in findings if each.check == check)


def species() -> dict[str, Any]:
    """Return a table of two categories of which three cells are empty."""
    cells = [
        ("adder", "north", 40),
        ("adder", "south", 30),
        ("adder", "west", 20),
        ("boar", "south", 35),
        ("crane", "west", 45),
    ]
    dice = np.random.default_rng(4)
    rows = [(kind, isle) for kind, isle, count in cells for _ in range(count)]
    return {
        "species": [kind for kind, _ in rows], "island": [isle for _, isle in rows], "y": dice.normal(size=len(rows)),
    }  # fmt: skip


class Relations(unittest.TestCase):
    """Linear relations planted at random in random matrices."""

    def planted(self, seed: int) -> tuple[np.ndarray, dict[tuple[int, ...], tuple[np.ndarray, float, float]]]:
        """Return a matrix and its relations: weights, constant and the size of what is left, by columns."""
        dice = np.random.default_rng(seed)
        width = int(dice.integers(40, 90) if seed % 12 else dice.integers(200, 301))
        rows = width + int(dice.integers(40, 400))
        matrix = dice.normal(size=(rows, width))
        kind = dice.integers(0, 4, width)
        matrix[:, kind == 1] = matrix[:, kind == 1] > 0.7
        matrix[:, kind == 2] = np.round(matrix[:, kind == 2] * 10)
        size, mean = 10.0 ** dice.uniform(-8, 8, width), dice.choice([0, 1, 1e3, 1e5], width)
        matrix[:, kind != 1] = (matrix * size + size * mean)[:, kind != 1]
        targets = dice.choice(np.arange(width // 2, width), int(dice.integers(1, 6)), replace=False)
        free = np.setdiff1d(np.arange(width), targets)
        made: dict[tuple[int, ...], tuple[np.ndarray, float, float]] = {}
        for target in targets:
            count = int(dice.integers(1, 5))
            sources = np.sort(dice.choice(free, count, replace=False))
            free = np.setdiff1d(free, sources)  # twins could be told either way
            weights = dice.integers(1, 10, count) * dice.choice([-1, 1], count) / 4 / matrix[:, sources].std(axis=0)
            whole = matrix[:, sources] @ weights
            constant, left = (
                float(dice.integers(-3, 4) * whole.std()),
                float(dice.choice([0, 1e-6, 1e-8, 1e-10, 1e-12, 1e-14])),
            )
            matrix[:, target] = whole + constant + left * whole.std() * dice.normal(size=rows)
            made[tuple(sorted([*map(int, sources), int(target)]))] = (np.append(weights, -1.0), constant, left)
        return matrix, made

    def test_planted_relations_are_found_and_told_exactly(self) -> None:
        for seed in range(60):
            matrix, made = self.planted(seed)
            factor = Factor.of([np.asfortranarray(matrix)], matrix[:40].mean(axis=0))
            each = {one.columns: one for one in relations(factor, True, range(matrix.shape[1]))}
            self.assertEqual(set(each), set(made), f"seed {seed}")
            for columns, (_, _, left) in made.items():
                told = each[columns]
                rest = matrix[:, columns] @ np.array(told.weights) + told.constant
                size = matrix[:, columns[-1]].std()
                allowed = max(60 * left * size, 1e-10 * np.abs(matrix[:, columns] * np.array(told.weights)).max())
                self.assertLess(np.abs(rest).max(), allowed, f"seed {seed}: {told}")
                if left == 0:
                    self.assertTrue(told.exact, f"seed {seed}: {told}")
                if (
                    left >= 1e-8
                    and np.abs(matrix[:, columns].mean(axis=0) / matrix[:, columns].std(axis=0)).max() < 1e4
                ):
                    self.assertFalse(told.exact, f"seed {seed}: {told}")

    def test_of_a_thousand_matrices_of_full_rank_nothing_is_told(self) -> None:
        for seed in range(1000):
            dice = np.random.default_rng(seed)
            width = int(dice.integers(1, 25 if seed % 100 else 300))
            rows = width + 2 + int(dice.integers(0, 60))
            matrix = dice.normal(size=(rows, width)) * 10.0 ** dice.uniform(-8, 8, width) + 10.0 ** dice.uniform(
                -8, 8, width
            )
            spread = matrix.std(axis=0) > 1e-12 * np.abs(matrix.mean(axis=0))
            factor = Factor.of([np.asfortranarray(matrix)], matrix[:20].mean(axis=0))
            self.assertEqual(relations(factor, True, np.flatnonzero(spread).tolist()), [], f"seed {seed}")

    @given(st.integers(0, 10**6), st.integers(1, 5))
    @settings(max_examples=25, deadline=None)
    def test_blocks_merged_are_the_whole(self, seed: int, cuts: int) -> None:
        dice = np.random.default_rng(seed)
        matrix = dice.normal(5, 2, size=(50, 4))
        shift = matrix[0]
        parts = [Factor.of([part], shift) for part in np.array_split(matrix, cuts)]
        merged = Factor.merged(parts)
        centred = matrix - matrix.mean(axis=0)
        np.testing.assert_allclose(merged.centred.T @ merged.centred, centred.T @ centred, rtol=1e-10, atol=1e-10)
        np.testing.assert_allclose(merged.raw.T @ merged.raw, matrix.T @ matrix, rtol=1e-10)
        np.testing.assert_allclose(merged.mean, matrix.mean(axis=0), rtol=1e-12)


class Dependence(unittest.TestCase):
    """Relations in the words of a plan."""

    def test_they_are_told_as_one_would_write_them(self) -> None:
        base = table()
        age, x = base["age"], base["x"]
        late = np.arange(ROWS) >= 200
        cases: list[tuple[dict[str, str], dict[str, Any], dict[str, Any], str, str]] = [
            ({"k": "category(kind, coding='every')"}, table(), {}, "dependence",
             'the columns of k add up to the intercept. Write k = "category(kind)"; the fit stays the same.'),
            ({"age": "age", "b": "b"}, table(b=2 * age + 3), {}, "dependence", "b = 2·age + 3; age and b have no"),
            ({"x": "x", "z": "z", "w": "w"}, table(w=x / 2 - base["z"]), {}, "dependence", "w = 0.5·x − z;"),
            ({"age": "age", "b": "b"}, table(b=age), {}, "duplicate", "b is the same as age. Leave out b; the fit"),
            ({"age": "age", "b": "b"}, table(b=age + 1e-6 * x), {}, "near_dependence", "b = age, apart from"),
            ({"age": "age", "b": "b"}, table(b=2 * age), {"intercept": False}, "dependence", "b = 2·age;"),
            ({"x": "x", "w": "w"}, table(w=np.where(late, 7.0, x * 3)),
             {"rows": {"learn": "row < 200"}}, "dependence", "w = 3·x, in the learning rows only"),
            ({"w": "w", "x": "x"}, table(w=np.where(late, 7.0, 4.0)),
             {"rows": {"learn": "row < 200"}}, "constant", "w is 4 in every learning row, and has no coefficient"),
        ]  # fmt: skip
        for terms, data, sections, check, said in cases:
            with self.subTest(said):
                self.assertIn(said, told(check, found(terms, data, **sections)))

    def test_a_term_that_others_hold_is_told_once_and_the_rest_without_it(self) -> None:
        days = {"d": np.arange("2020-01-01", "2020-07-01", dtype="datetime64[D]"), "y": np.arange(182.0) % 5}
        waves = {"b": "season('weekday', coding='waves', pairs=3)"}
        for coding, rest in (("every", "a_mon + a_tue + a_wed + a_thu + a_fri + a_sat + a_sun = 1"), ("reference", "")):
            terms = {"a": f"season('weekday', coding='{coding}')", **waves}
            plan = fa.Plan("y", terms, data={"time": "d", "every": "day"})
            texts = [each.text for each in plan.build(days).checks if each.check == "dependence"]
            self.assertEqual(
                texts[0],
                "the 6 columns of b are linear combinations of those of a. Leave out b; the fit stays the same.",
            )
            self.assertEqual([text.partition(";")[0] for text in texts[1:]], [rest] if rest else [])

    def test_a_response_that_is_constant_while_learning_is_no_column(self) -> None:
        data = table(y=np.where(np.arange(ROWS) < 200, 1.0, 2.0))
        findings = found({"x": "x"}, data, rows={"learn": "row < 200"})
        self.assertEqual(told("constant", findings), "")

    def test_a_constant_is_no_relation_without_an_intercept(self) -> None:
        age = table()["age"]
        self.assertEqual(told("dependence", found({"age": "age", "b": "b"}, table(b=age + 3), intercept=False)), "")

    def test_empty_cells_are_told_by_cell(self) -> None:
        findings = found({"species": "species", "island": "island", "both": "species * island"}, species())
        cells = told("few_rows", findings)
        for cell in ("boar and island = west", "crane and island = south", "boar and island = north"):
            self.assertIn(f"species = {cell} (0 rows)", cells)
        self.assertNotIn("adder", cells)
        self.assertIn("species_boar", told("dependence", findings) + told("duplicate", findings))

    def test_two_codings_of_one_category_are_told_once(self) -> None:
        names = [f"place {at:02d}" for at in range(40)]
        data = table(w=np.random.default_rng(1).choice(names, ROWS))
        findings = found({"a": "category(w, coding='helmert')", "b": "category(w)"}, data)
        self.assertEqual(len([f for f in findings if f.check == "dependence"]), 1)
        self.assertIn(
            "columns of b are linear combinations of those of a. Leave out b; the fit stays the same",
            told("dependence", findings),
        )

    def test_the_remedy_works(self) -> None:
        before = found({"k": "category(kind, coding='every')"}, table())
        self.assertTrue(told("dependence", before))
        for terms, sections in (
            ({"k": "category(kind, coding='reference')"}, {}),
            ({"k": "category(kind, coding='every')"}, {"intercept": False}),
        ):
            self.assertEqual(told("dependence", found(terms, table(), **sections)), "")

    def test_numbers_of_every_size_are_survived(self) -> None:
        for scale in (1e-300, 1e150, 1e307):
            columns = fa.Plan("y", {"x": "x", "z": "z"}).build(table(x=table()["x"] * scale)).columns
            self.assertEqual(len(columns.checks), 15)
            json.dumps(columns.model_dump(mode="json"), allow_nan=False)


class Remedies(unittest.TestCase):
    def test_edits_keep_what_their_sentences_promise(self) -> None:
        total = Counter[str]()
        for seed in range(40):
            total += outcomes(seed)
        broken = [what for what in total if what.startswith("broken")]
        self.assertEqual(broken, [])
        self.assertGreater(total["promises kept"], 40, total)
        self.assertGreaterEqual(total["collinear plans with an edit"], 0.9 * total["collinear plans"], total)

    def test_one_column_of_several_is_not_left_out(self) -> None:
        terms = {"k": "category(kind, order=['a', 'b', 'c', 'd'], unseen='missing')", "age": "age"}
        (found,) = fa.Plan("y", terms).build(table()).columns.findings
        self.assertEqual(
            found.text, "k_d is 0 in every row of the matrix: no row is in its category, and it has no coefficient."
        )

    def test_thin_bins_are_told_once_whatever_they_are_called(self) -> None:
        values = np.where(np.arange(ROWS) < 3, 99.0, table()["x"])
        for labels in ("", ", labels=['low', 'high']"):
            columns = fa.Plan("y", {"k": f"bins(w, edges=[50]{labels})"}).build(table(w=values)).columns
            self.assertNotIn("few_rows", [each.check for each in columns.findings])
            self.assertIn("w in k: 99 % of the rows are in the one bin", " ".join(columns.warnings))

    def test_a_curve_in_time_has_no_number_to_rescale(self) -> None:
        days = table() | {"d": [str(np.datetime64("2020-01-01") + at) for at in range(ROWS)]}
        plan = fa.Plan("y", {"t": "trend(degree=3)", "w": "x * 1e-3"}, data={"time": "d", "every": "day"})
        columns = plan.build(days).columns
        self.assertIn("scale", [each.check for each in columns.findings])


class Inflation(unittest.TestCase):
    def setUp(self) -> None:
        terms = {"x": "x", "w": "w", "kind": "kind", "slope": "kind * w", "curve": "polynomial(age, 2)"}
        data = table(w=20 + table()["x"] + 0.5 * table()["z"])
        self.design = fa.Plan("y", terms).build(data)
        self.X = self.design.X[:, 1:]

    def test_by_column_it_is_that_of_the_regression_on_the_others(self) -> None:
        for at, name in enumerate(self.design.names[1:]):
            others = np.column_stack([np.ones(ROWS), np.delete(self.X, at, axis=1)])
            rest = self.X[:, at] - others @ np.linalg.lstsq(others, self.X[:, at], rcond=None)[0]
            wanted = ((self.X[:, at] - self.X[:, at].mean()) ** 2).sum() / (rest @ rest)
            self.assertAlmostEqual((self.design.columns[name].inflation or 0) / wanted, 1, 3)

    def test_by_term_it_is_the_ratio_of_determinants(self) -> None:
        correlation = np.corrcoef(self.X, rowvar=False)
        entries = self.design.columns.columns[2:]
        for term in self.design.columns.terms:
            own = [at for at, entry in enumerate(entries) if entry.term == term.term]
            rest = [at for at in range(len(entries)) if at not in own]
            parts = [np.linalg.det(correlation[np.ix_(part, part)]) for part in (own, rest)]
            self.assertAlmostEqual(term.inflation / (parts[0] * parts[1] / np.linalg.det(correlation)), 1, 3)
            self.assertAlmostEqual(term.per_column, term.inflation ** (0.5 / len(own)), 3)

    def test_the_condition_number_is_that_of_scaled_columns(self) -> None:
        detail = next(c.detail for c in self.design.columns.checks if "linear combination of others" in c.check)
        whole = self.design.X / np.linalg.norm(self.design.X, axis=0)
        centred = self.X - self.X.mean(axis=0)
        figures = [np.linalg.cond(whole), np.linalg.cond(centred / np.linalg.norm(centred, axis=0))]
        self.assertIn(f"condition number {figures[0]:.3g}, {figures[1]:.3g} centred", detail)

    def test_centring_is_proposed_where_it_cures_and_then_cures(self) -> None:
        findings = [f for f in self.design.columns.findings if f.check == "near_dependence"]
        text = "\n".join(f.text for f in findings)
        self.assertIn('slope = "kind * center(w)" and curve = "polynomial(age, 2, center=True)"', text)
        edit = next(f.edit for f in findings if f.edit)
        self.assertEqual(edit, {"slope": "kind * center(w)", "curve": "polynomial(age, 2, center=True)"})
        terms = {"x": "x", "w": "w", "kind": "kind"} | edit
        promised = float(re.findall(r"none is inflated more than ([\d.]+) times", text)[0])
        again = fa.Plan("y", terms).build(table(w=20 + table()["x"] + 0.5 * table()["z"]))
        self.assertEqual([f.text for f in again.columns.findings if f.check == "near_dependence"], [])
        told = {name for each in findings for name in each.columns}
        largest = max(e.inflation or 0.0 for e in again.columns if e.name in told)
        self.assertAlmostEqual(promised / largest, 1, 2)
        np.testing.assert_allclose(again.trial().sigma, self.design.trial().sigma, rtol=1e-10)

    def test_leverages_are_the_diagonal_of_the_projection(self) -> None:
        q, _ = np.linalg.qr(self.design.X)
        h = (q**2).sum(axis=1)
        listed = self.design.columns.leverages
        self.assertEqual([each.row for each in listed], (np.argsort(-h)[:10] + 1).tolist())
        np.testing.assert_allclose([each.leverage for each in listed], np.sort(h)[::-1][:10], rtol=1e-4)


class Others(unittest.TestCase):
    """Separation, leaks, scale, extremes, drift, width: each where it is deserved."""

    def test_each_is_told_where_it_is_deserved(self) -> None:
        base = table()
        truth = base["x"] > 0
        at = np.arange(ROWS)
        rare = np.where(np.arange(ROWS) < 3, "odd", base["kind"])
        one_sided = np.where(truth & (base["z"] > 0.5), "only", base["kind"])
        cases: list[tuple[str, str, dict[str, str], dict[str, Any], dict[str, Any]]] = [
            ("separation", "x alone predicts t without error", {"x": "x"}, table(t=truth), {"response": "t"}),
            ("separation", "t is 1 in all", {"k": "k", "z": "z"}, table(t=truth, k=one_sided), {"response": "t"}),
            ("leak", "w is one-to-one with the response y", {"w": "w"}, table(w=np.log(base["y"] + 9)), {}),
            ("leak", "w is one-to-one", {"w": "w", "x": "x"}, table(w=np.argsort(np.argsort(-base["y"]))), {}),
            ("leak", "w is one-to-one", {"w": "w"}, table(w=1000 - 3 * base["y"]), {}),
            ("leak", "row holds whole numbers that increase", {"row": "row", "x": "x"}, base, {}),
            ("few_rows", "k = odd (3 rows)", {"k": "k"}, table(k=rare), {}),
            ("rare", "w (1 row)", {"w": "x > 2.9", "x": "x"}, table(x=np.where(at == 5, 3, base["x"] / 9)), {}),
            ("scale", 'Write w = "w * 1e8"; the fit', {"w": "w", "x": "x", "z": "z"}, table(w=base["age"] * 1e-9), {}),
            ("scale", 'Write w = "w / 1e10"; the fit', {"w": "w", "x": "x", "z": "z"}, table(w=base["age"] * 1e9), {}),
            ("extremes", "w is 50 in row 18,", {"w": "w"}, table(w=np.where(at == 17, 50, base["x"])), {}),
            ("leverage", "row 8 has a leverage", {"w": "w"}, table(w=np.where(at == 7, 1e3, base["x"])), {}),
            ("drift", "w (+", {"w": "w"}, table(w=base["x"] + (base["row"] > 199)), {"rows": {"learn": "row < 200"}}),
            ("width", "fewer than ten rows for each", {"x": "x", "z": "z"}, {k: v[:20] for k, v in base.items()}, {}),
        ]  # fmt: skip
        for check, said, terms, data, sections in cases:
            with self.subTest(check, said=said):
                self.assertIn(said, told(check, found(terms, data, **sections)))
                off = {**sections, "checks": {check: "off"}}
                self.assertEqual(told(check, found(terms, data, **off)), "")

    def test_an_extreme_value_is_winsorized(self) -> None:
        spike = np.where(np.arange(ROWS) == 17, 500.0, table()["x"])
        for values in (spike, np.abs(spike) + 1):
            text = told("extremes", found({"w": "w"}, table(w=values)))
            self.assertIn('Check the cell, or write w = "winsorize(w, shares=[0.01, 0.99])".', text)

    def test_fifty_clean_tables_are_not_warned_of(self) -> None:
        for seed in range(50):
            dice = np.random.default_rng(seed)
            data = {"y": dice.normal(size=300) > 0, "x": dice.normal(size=300), "k": dice.choice(["a", "b", "c"], 300)}
            outcome = fa.Plan("y", {"x": "x", "k": "k", "kx": "k * x"}).build(data).checks
            self.assertTrue(outcome.ok, f"seed {seed}: {outcome}")

    def test_drift_is_the_difference_of_means(self) -> None:
        data = table()
        columns = fa.Plan("y", {"x": "x"}, rows={"learn": "row < 100"}).build(data).columns
        first, second = data["x"][:100], data["x"][100:]
        self.assertAlmostEqual(columns["x"].drift or 0, (second.mean() - first.mean()) / first.std(ddof=1), 5)

    def test_missing_values_that_are_kept_are_left_aside(self) -> None:
        gaps = np.where(np.arange(ROWS) % 7 == 0, np.nan, table()["age"])
        data = table(age=gaps, b=2 * gaps + 3)
        findings = found({"age": "age", "b": "b", "x": "x"}, data, rows={"missing": "keep"})
        self.assertIn("b = 2·age + 3", told("dependence", findings))

    def test_sparse_designs_are_checked_as_dense_ones(self) -> None:
        plan = fa.Plan("y", {"k": "category(kind, coding='every')", "x": "x"})
        dense, sparse = plan.build(table()).columns, plan.build(table(), sparse=True).columns
        self.assertEqual([f.text for f in dense.findings], [f.text for f in sparse.findings])


class Thousands(unittest.TestCase):
    """Designs with more columns than are factored: the indicators of the widest category are absorbed."""

    def data(self) -> dict[str, Any]:
        dice = np.random.default_rng(9)
        hut = np.repeat(np.arange(1100), 3)
        x, z = dice.normal(size=3300), dice.normal(size=3300)
        return {
            "hut": [f"h{at:04d}" for at in hut], "valley": [f"v{at % 7}" for at in hut], "x": x, "z": z, "w": 3 * x - z,
            "shifted": 2 * x + hut, "y": dice.normal(size=3300), "t": (dice.random(3300) < 0.5) | (hut < 3),
        }  # fmt: skip

    def test_relations_with_and_without_the_category_are_told(self) -> None:
        terms = {"hut": "category(hut, limit=2000)", "x": "x", "z": "z"}
        extra = {"valley": "valley", "w": "w", "shifted": "shifted"}
        for sparse in (True, False):
            made = fa.Plan("y", {**terms, **extra}).build(self.data(), sparse=sparse).columns
            for said in (
                "constant within each hut, and so combinations of its 1,099 indicators",
                "w = 3·x − z. Leave out w",
                "shifted = 2·x, apart from a number for each hut",
            ):
                self.assertIn(said, told("dependence", made.findings), f"sparse {sparse}")
        clean = fa.Plan("y", terms).build(self.data(), sparse=True).columns
        self.assertEqual(told("dependence", clean.findings), "")

    def test_categories_with_one_value_of_the_response_are_told(self) -> None:
        made = fa.Plan("t", {"hut": "category(hut, limit=2000)", "x": "x"}).build(self.data(), sparse=True).columns
        self.assertIn("t has one value only in", told("separation", made.findings))
        self.assertIn("hut_h0001", told("separation", made.findings))

    def test_leaves_merged_are_the_whole(self) -> None:
        from facturum.numerics.linear.absorbing import Absorbed

        dice = np.random.default_rng(3)
        block, groups = dice.normal(3, 1, (400, 3)), dice.integers(0, 20, 400)
        parts = [Absorbed.of(block[a:b], groups[a:b], 20) for a, b in ((0, 90), (90, 91), (91, 400))]
        merged = Absorbed.merged(parts)
        within = block - np.array([block[groups == g].mean(axis=0) for g in groups])
        np.testing.assert_allclose(merged.triangle.T @ merged.triangle, within.T @ within, rtol=1e-10, atol=1e-10)


class Levels(Folder):
    PLAN = """
response = "y"
[terms]
k = "category(kind, coding='every')"
"""

    def setUp(self) -> None:
        super().setUp()
        from facturum.files.scans.tables import write_table

        write_table(fa.Table.of(table()), self.folder / "t.csv")
        (self.folder / "plan.toml").write_text(self.PLAN, "utf-8")

    def build(self, *options: str) -> Any:
        return command("build", "plan.toml", "t.csv", "--out", "out", *options, cwd=self.folder)

    def test_an_error_leaves_nothing_and_ends_with_1(self) -> None:
        for options, plan in ((("--strict",), self.PLAN), ((), self.PLAN + '[checks]\ndependence = "error"\n')):
            (self.folder / "plan.toml").write_text(plan, "utf-8")
            for stream in ((), ("--stream",)):
                done = self.build(*options, *stream)
                self.assertEqual(done.returncode, 1, done.stderr)
                self.assertIn("checks.dependence: k_a + k_b + k_c = 1", done.stderr)
                self.assertEqual(sorted(path.name for path in self.folder.iterdir()), ["plan.toml", "t.csv"])

    def test_warnings_are_shown_and_kept_and_may_be_off(self) -> None:
        done = self.build()
        self.assertEqual(done.returncode, 0)
        self.assertIn("warning (remedy 1): k_a + k_b + k_c = 1", done.stdout)
        columns = fa.open_design(self.folder / "out").columns
        self.assertIn("k_a", columns.warnings[0])
        self.assertFalse(next(c for c in columns.checks if "linear combination of others" in c.check).ok)
        done = command("build", "plan.toml", "t.csv", "--out", "off", "--no-checks", cwd=self.folder)
        self.assertNotIn("warning", done.stdout)
        shown = command("explain", "out", cwd=self.folder).stdout
        for said in (
            "no column is a linear combination of others",
            "rank 3 of 4",
            "no row determines a coefficient alone",
        ):
            self.assertIn(said, shown)
        self.assertIn("finding", command("explain", "out", "k_a", cwd=self.folder).stdout)
        self.assertEqual(len(fa.open_design(self.folder / "off").columns.checks), 2)

    def test_what_is_only_noted_is_refused_by_error_and_not_by_strict(self) -> None:
        for check in ("leverage", "extremes"):
            far = table(w=np.where(np.arange(ROWS) == 17, 500.0, table()["x"]))
            plan = fa.Plan("y", {"w": "w"}, checks={check: "strict"})
            self.assertTrue(told(check, list(plan.build(far).columns.findings)))
            with self.assertRaisesRegex(fa.AuditError, rf"checks\.{check}: .*(row 18|in row 18)"):
                fa.Plan("y", {"w": "w"}, checks={check: "error"}).build(far)

    def test_levels_that_are_none_are_refused(self) -> None:
        with self.assertRaisesRegex(fa.PlanError, "checks.leak"):
            fa.Plan("y", {"x": "x"}, checks={"leak": "loud"})
        with self.assertRaisesRegex(fa.PlanError, "did you mean 'dependence'"):
            fa.Plan("y", {"x": "x"}, checks={"dependance": "off"})


if __name__ == "__main__":
    unittest.main()
