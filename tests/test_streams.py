"""Builds of tables that are read in parts against the same builds in memory: the files of the folder, byte by byte."""

from __future__ import annotations

import json
import tempfile
import unittest
import warnings
from pathlib import Path
from typing import Any

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st
from pyarrow import parquet

import facturum as fa
from facturum.design import Design
from facturum.engine.passes.build import build
from facturum.files.scans import Portions, TableScan
from facturum.files.spooling import looks_along
from facturum.files.streaming import build_into
from tests.support import PANEL_DATA, VARIABLES
from tests.test_interpreter import ALONG, ANY, CONDITIONS, DERIVED, PRODUCTS, cells

BINS = st.sampled_from(
    [
        "bins(price, quantiles=4)",
        "bins(snow, edges=[(0, 20), (20, 50), (60, 90)], missing='category')",
        "impute(snow, 'median', by=[valley])",
        "impute(snow, 'linear', limit=2)",
        "impute(access, 'mode')",
        "mean_of(price, snow, beds, at_least=2)",
        "is_missing(missing_if(snow, snow > 60))",
    ]
)


def saved(plan: fa.Plan, table: Any, folder: Path, leaf: int) -> None:
    """Build in memory, in leaves of so many rows, and save."""
    made = build(plan.spec, plan.given(table), leaf=leaf)
    Design.of(made, plan.spec).save(folder)


def streamed(plan: fa.Plan, table: Any, folder: Path, portions: Portions) -> None:
    """Build in parts."""
    given_tables = plan.given(table)
    build_into(plan.spec, TableScan(given_tables.table), given_tables.series, folder, portions=portions)


def without_digests(folder: Path) -> Any:
    """Return the column map without what depends on the order of rows."""
    columns = json.loads((folder / "columns.json").read_text())
    return columns | {"columns": [{**entry, "digest": None} for entry in columns["columns"]]}


def by_row(path: Path, *keys: str) -> pa.Table:
    """Return a table with its rows in the order of their numbers."""
    return parquet.read_table(path).sort_by([(key, "ascending") for key in keys])


class Streams(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def agree(self, plan: fa.Plan, table: Any, portions: Portions, ordered: bool) -> None:
        """Compare all files of both builds; rows that were brought into order by their numbers."""
        with tempfile.TemporaryDirectory() as holder:
            one, other = Path(holder) / "memory", Path(holder) / "parts"
            try:
                saved(plan, table, one, portions.leaf)
            except fa.FacturumError as error:
                with self.assertRaises(fa.FacturumError) as caught:
                    streamed(plan, table, other, portions)
                self.assertEqual(str(caught.exception), str(error))
                self.assertFalse(other.exists())
                return
            streamed(plan, table, other, portions)
            self.assertEqual(*(sorted(path.name for path in folder.iterdir()) for folder in (one, other)))
            if ordered:
                for path in sorted(one.iterdir()):
                    self.assertEqual(path.read_bytes(), (other / path.name).read_bytes(), path.name)
                return
            self.assertEqual(without_digests(one), without_digests(other))
            self.assertEqual((one / "plan.resolved.toml").read_text(), (other / "plan.resolved.toml").read_text())
            keys_of = {"design": ["source_row"], "rows": ["row"], "imputed": ["imputation", "source_row"]}
            for stem, keys in keys_of.items():
                name = f"{stem}.parquet"
                self.assertTrue(by_row(one / name, *keys).equals(by_row(other / name, *keys)), name)

    @given(
        st.lists(st.one_of(ANY, ANY, ALONG, PRODUCTS, BINS), min_size=1, max_size=3),
        st.one_of(st.just("open"), CONDITIONS, st.none()),
        st.one_of(CONDITIONS, st.none(), st.none()),
        st.sampled_from(["drop", "keep", "fail"]),
        st.sampled_from([None, "hidden", "hidden > 0", "valley"]),
        st.tuples(st.integers(1, 9), st.integers(1, 4), st.integers(1, 30)),
        st.booleans(),
        st.integers(0, 10**6),
    )
    @settings(max_examples=60, deadline=None)
    def test_parts_give_the_files_of_memory(
        self, terms: list[str], keep: str | None, learn: str | None, missing: str, response: str | None,
        portions: tuple[int, int, int], in_order: bool, seed: int,
    ) -> None:  # fmt: skip
        warnings.simplefilter("ignore", fa.FacturumWarning)
        table = {name: values for name, values in cells(seed).items() if name != "period"}
        if in_order:
            order = sorted(range(len(table["hut"])), key=lambda at: (table["hut"][at], table["month"][at]))
            table = {name: [values[at] for at in order] for name, values in table.items()}
        rows = {"missing": missing} | ({"keep": keep} if keep else {}) | ({"learn": learn} if learn else {})
        named = {f"t{at}": text for at, text in enumerate(terms)}
        data = PANEL_DATA | {"carry": ["valley", "beds"]}
        plan = fa.Plan(response, named, data=data, derived=DERIVED, variables=VARIABLES, rows=rows)
        leaf, leaves, block = portions
        ordered = in_order or not looks_along(plan.spec)
        self.agree(plan, table, Portions(leaf=leaf, leaves=leaves, block=block), ordered)
