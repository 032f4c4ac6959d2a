"""A sparse design against the dense one of the same plan, in memory and in its folder."""

from __future__ import annotations

import tracemalloc
import unittest
from typing import Any

import numpy as np
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from scipy import sparse

import facturum as fa
from tests.support import PANEL_DATA, SAMPLE, VARIABLES, Folder, command, huts, plan
from tests.test_interpreter import ALONG, ANY, DERIVED, PRODUCTS, cells

TERMS = {"way": "access", "slope": "valley * log(price)", "curve": "polynomial(beds, 2)", "zero": "price * 0"}


class Cells(unittest.TestCase):
    @given(
        st.lists(st.one_of(ANY, PRODUCTS, ALONG), min_size=1, max_size=3),
        st.sampled_from(["drop", "keep"]),
        st.integers(0, 10**6),
    )
    @settings(max_examples=30, deadline=None)
    def test_a_sparse_build_has_the_cells_of_the_dense_one(self, terms: list[str], missing: str, seed: int) -> None:
        table = {name: values for name, values in cells(seed).items() if name != "period"}
        named = {f"t{at}": text for at, text in enumerate(terms)}
        made = fa.Plan(None, named, data=PANEL_DATA, derived=DERIVED, variables=VARIABLES, rows={"missing": missing})
        try:
            dense = made.build(table)
        except fa.FacturumError:
            assume(False)
        thin = made.build(table, sparse=True)
        np.testing.assert_array_equal(thin.X.toarray(), dense.X)
        self.assertEqual(thin.X.nnz, np.count_nonzero(dense.X))
        self.assertTrue(thin.X.has_sorted_indices)
        mine, other = (
            [entry.model_dump(exclude={"digest", "mean", "sd"}) for entry in design.columns.columns]
            for design in (thin, dense)
        )
        self.assertEqual(mine, other)
        np.testing.assert_array_equal(dense.to_sparse().toarray(), dense.X)

    def test_thousands_of_indicators_take_the_memory_of_their_cells(self) -> None:
        rows = 30_000
        table = fa.Table.of({"hut": np.random.default_rng(1).permutation(rows) % 10_000})  # 2.4 GB, if dense
        tracemalloc.start()
        made = fa.Plan(None, {"hut": "category(hut, limit=15000)"}).build(table, sparse=True)
        used = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        self.assertEqual((made.X.shape, made.X.nnz), ((rows, 10_000), rows + rows - 3))
        self.assertLess(used, 100 * 2**20)


class Folders(Folder):
    def setUp(self) -> None:
        super().setUp()
        self.table = huts(300, seed=4)
        self.design = plan(TERMS, rows={"missing": "keep"}).build(self.table, sparse=True)
        self.design.save(self.folder / "build", format="npz")

    def test_the_file_is_one_that_other_programs_read(self) -> None:
        read = sparse.load_npz(self.folder / "build/design.npz")
        np.testing.assert_array_equal(read.toarray(), self.design.X.toarray())
        with np.load(self.folder / "build/design.npz", allow_pickle=False) as arrays:
            self.assertEqual(arrays["source_row"].tolist(), self.design.rows.kept.tolist())
            np.testing.assert_array_equal(arrays["response"][:, 0], self.design.y)

    def test_it_opens_as_it_was_saved_and_is_verified(self) -> None:
        opened = fa.open_design(self.folder / "build")
        np.testing.assert_array_equal(opened.X.toarray(), self.design.X.toarray())
        np.testing.assert_array_equal(opened.y, self.design.y)
        self.assertEqual((opened.names, opened.columns.columns[3].name), (self.design.names, self.design.names[2]))
        frame = opened.to_pandas()
        np.testing.assert_array_equal(frame[self.design.names].to_numpy(), self.design.X.toarray())
        np.testing.assert_array_equal(frame.index + 1, self.design.to_arrow()["source_row"])
        self.assertTrue(opened.verify(self.table).ok)
        changed = {**self.table, "price": [*self.table["price"][:-1], 99.0]}
        self.assertIn("row 300", str(opened.verify(changed)))
        opened.save(self.folder / "again", format="npz")
        for path in (self.folder / "build").iterdir():
            self.assertEqual(path.read_bytes(), (self.folder / "again" / path.name).read_bytes(), path.name)

    def test_a_cell_that_was_moved_is_noticed(self) -> None:
        path = self.folder / "build/design.npz"
        with np.load(path, allow_pickle=False) as arrays:
            whole = dict(arrays)
        place = int(np.flatnonzero(np.isfinite(whole["data"]))[-1])
        changes: dict[str, Any] = {
            "data": whole["data"] * np.where(np.arange(len(whole["data"])) == place, 2, 1),
            "indices": whole["indices"][::-1].copy(),
            "indptr": np.maximum(whole["indptr"] - 1, 0),
            "shape": whole["shape"] + 1,
            "source_row": whole["source_row"][:-1],
        }
        for name, values in changes.items():
            np.savez(path, **{**whole, name: values})
            with self.subTest(name), self.assertRaises(fa.AuditError):
                fa.open_design(self.folder / "build")
            try:
                outcome = fa.open_design(self.folder / "build", check=False).verify(self.table)
                self.assertGreater(len(outcome.failures), 1)
            except fa.AuditError as error:
                self.assertIn("is damaged", str(error))

    def test_forms_and_designs_that_do_not_go_together(self) -> None:
        with self.assertRaisesRegex(fa.DataError, 'saved as npz only\nWrite format="npz"'):
            self.design.save(self.folder / "other")
        with self.assertRaisesRegex(fa.DataError, "only a sparse design is saved as npz\nBuild it with sparse=True"):
            plan(TERMS).build(self.table).save(self.folder / "other", format="npz")
        self.assertFalse((self.folder / "other").exists())

    def test_blocks_are_the_rows_of_the_design(self) -> None:
        dense = plan(TERMS, rows={"missing": "keep"}).build(self.table)
        for design in (self.design, dense):
            parts = list(design.blocks(64))
            np.testing.assert_array_equal(np.concatenate([X for X, _, _ in parts]), dense.X)
            np.testing.assert_array_equal(np.concatenate([y for _, y, _ in parts]), dense.y)  # type: ignore[misc]
            self.assertEqual(np.concatenate([rows for _, _, rows in parts]).tolist(), dense.rows.kept.tolist())

    def test_the_command_builds_and_verifies(self) -> None:
        out, data = self.folder / "out", SAMPLE / "huts.csv"
        made = command("build", SAMPLE / "huts.toml", data, "--out", out, "--format", "npz")
        self.assertEqual((made.returncode, "design.npz" in made.stdout), (0, True), made.stderr)
        self.assertIn("agree to the bit", command("verify", out, data).stdout)
        dense = fa.Plan.load(SAMPLE / "huts.toml").build(data)
        np.testing.assert_array_equal(fa.open_design(out).X.toarray(), dense.X)


if __name__ == "__main__":
    unittest.main()
