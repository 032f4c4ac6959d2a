"""Builds for spreadsheets: tables as text in the marks of a country, and workbooks, opened by other libraries."""

from __future__ import annotations

import csv
import json
from datetime import datetime
from typing import Any

import numpy as np
import openpyxl
import pandas as pd
from python_calamine import load_workbook

import facturum as fa
from facturum.files.builds.build_writer import MARKER
from tests.support import SAMPLE, Folder, command


class Texts(Folder):
    def setUp(self) -> None:
        super().setUp()
        self.plan = fa.Plan(
            "stays", {"price": "log(price)", "depth": "impute(snow_depth, 'median')", "access": "access"}
        )
        self.data = SAMPLE / "huts.csv"
        self.design = self.plan.build(self.data)

    def test_all_tables_are_text_in_the_marks_asked_for_and_open_again(self) -> None:
        dropped, imputed = len(self.design.rows.dropped), self.design.imputed.num_rows
        for text in ({}, {"delimiter": ";", "decimal": ","}, {"delimiter": "\t", "mark": True}):
            folder = self.folder / f"b{len(text)}{text.get('mark')}"
            self.design.save(folder, format="csv", text=text)
            mark, decimal = text.get("delimiter", ","), text.get("decimal", ".")
            tables = {
                name: pd.read_csv(folder / f"{name}.csv", sep=mark, decimal=decimal, encoding="utf-8-sig")
                for name in ("design", "columns", "rows", "imputed")
            }
            for name in tables:
                begins = (folder / f"{name}.csv").read_bytes().startswith(b"\xef\xbb\xbf")
                self.assertEqual(begins, bool(text.get("mark")))
            np.testing.assert_allclose(tables["design"][self.design.names].to_numpy(), self.design.X, rtol=1e-15)
            self.assertEqual((len(tables["rows"]), len(tables["imputed"])), (dropped, imputed))
            self.assertEqual(tables["columns"]["name"].tolist(), [entry.name for entry in self.design.columns])
            means = [entry.mean for entry in self.design.columns]
            np.testing.assert_allclose(tables["columns"]["mean"], means, rtol=1e-15)
            self.assertNotIn("{'", (folder / "columns.csv").read_text("utf-8"))
            opened = fa.open_design(folder)
            np.testing.assert_array_equal(opened.X, self.design.X)
            self.assertTrue(opened.verify(self.data).ok)
            self.assertTrue(fa.compare(folder, self.design).same)

    def test_in_parts_the_same_files_are_written(self) -> None:
        text = {"delimiter": ";", "decimal": ",", "mark": True}
        self.design.save(self.folder / "whole", format="csv", text=text)
        self.plan.build_into(self.folder / "parts", self.data, format="csv", text=text)
        for path in (self.folder / "whole").iterdir():
            self.assertEqual(path.read_bytes(), (self.folder / "parts" / path.name).read_bytes(), path.name)

    def test_a_changed_list_is_noticed_though_its_digest_was_mended(self) -> None:
        import hashlib

        for name in ("rows.csv", "imputed.csv", "columns.csv"):
            folder = self.folder / name
            self.design.save(folder, format="csv")
            lines = (folder / name).read_text("utf-8").splitlines(keepends=True)
            (folder / name).write_text("".join([*lines[:1], *lines[2:]]), "utf-8")
            marker = json.loads((folder / MARKER).read_text())
            marker["files"][name] = hashlib.sha256((folder / name).read_bytes()).hexdigest()
            (folder / MARKER).write_text(json.dumps(marker, indent=1) + "\n")
            found = fa.open_design(folder, check=False).verify(self.data)
            self.assertIn(f"{name} does not agree with", str(found))

    def test_marks_that_cannot_be_told_apart_are_refused(self) -> None:
        for text, words in (
            ({"decimal": ","}, "parted by ',' beside a decimal comma"), ({"delimiter": "x"}, "parted by 'x'"),
            ({"decimal": ";"}, "is not a decimal mark"), ({"comma": 1}, "'comma' is not a way"),
        ):  # fmt: skip
            with self.assertRaisesRegex(fa.DataError, words):
                self.design.save(self.folder / "n", format="csv", text=text)
        with self.assertRaisesRegex(fa.DataError, "the format parquet are not text"):
            self.design.save(self.folder / "n", text={"decimal": ","})
        found = command("build", SAMPLE / "huts.toml", self.data, "--out", self.folder / "n", "--mark")
        self.assertEqual((found.returncode, "Add --format csv" in found.stderr), (2, True))
        self.assertEqual(list(self.folder.iterdir()), [])


class Workbooks(Folder):
    def setUp(self) -> None:
        super().setUp()
        dice = np.random.default_rng(9)
        months = [f"{2020 + at // 12}-{at % 12 + 1:02d}" for at in range(48)]
        self.table: dict[str, Any] = {
            "month": months * 2, "shop": ["A"] * 48 + ["=B"] * 48, "y": dice.normal(50, 9, 96),
            "price": [None if at % 9 == 4 else float(v) for at, v in enumerate(dice.uniform(5, 50, 96))],
        }  # fmt: skip
        data = {"time": "month", "every": "month", "panel": ["shop"]}
        terms = {
            "before": "lag(y, 1)", "price": "impute(lag(price, 12), 'median')", "shop": "shop",
            "band": "bins(lag(y, 12), quantiles=3)",
        }  # fmt: skip
        self.design = fa.Plan("y", terms, data=data).build(self.table)
        self.forecasts = fa.forecast(self.design, self.table, 3)

    def test_two_libraries_read_what_the_build_holds(self) -> None:
        path = self.folder / "b.xlsx"
        self.design.to_workbook(path, self.forecasts)
        book = openpyxl.load_workbook(path)
        names = ["build", "matrix", "columns", "rows left out", "imputed cells", "bins", "forecasts"]
        self.assertEqual(book.sheetnames, names)
        other = load_workbook(path)
        self.assertEqual(other.sheet_names, names)
        for name in names:
            cells = [[cell for cell in row if cell is not None] for row in book[name].iter_rows(values_only=True)]
            again = [[cell for cell in row if cell != ""] for row in other.get_sheet_by_name(name).to_python()]
            self.assertEqual(len(cells), len(again), name)
        head, *rows = book["matrix"].iter_rows(values_only=True)
        frame = self.design.to_arrow().to_pandas()
        self.assertEqual(list(head), list(frame.columns))
        for at, name in enumerate(head):
            held = frame[name].tolist()
            found = [row[at] for row in rows]
            if frame[name].dtype == np.float64:  # a workbook has sixteen digits
                np.testing.assert_allclose(np.array(found, dtype=float), held, rtol=1e-15)
            else:
                self.assertEqual(found, [v.to_pydatetime() if isinstance(v, datetime) else v for v in held], name)  # type: ignore[attr-defined]
        columns = list(book["columns"].iter_rows(values_only=True))[1:]
        self.assertEqual([row[0] for row in columns], [entry.name for entry in self.design.columns])
        self.assertEqual([row[3] for row in columns], [entry.reading for entry in self.design.columns])
        self.assertEqual(book["rows left out"].max_row - 1, len(self.design.rows.dropped))
        self.assertEqual(book["imputed cells"].max_row - 1, self.design.imputed.num_rows)
        told = [row[2] for row in book["forecasts"].iter_rows(values_only=True)][1:]
        np.testing.assert_allclose(told, [each.forecast for each in self.forecasts.by_unit], rtol=1e-15)
        formulas = [c for sheet in book for row in sheet.iter_rows() for c in row if c.data_type == "f"]
        self.assertEqual(formulas, [])  # "=B" is a text

    def test_the_same_build_gives_the_same_bytes_through_python_and_the_command(self) -> None:
        self.design.save(self.folder / "b")
        source = self.folder / "t.csv"
        with source.open("w", newline="") as handle:
            writer = csv.writer(handle)
            writer.writerow(self.table)
            writer.writerows(zip(*self.table.values(), strict=True))
        first, second = self.folder / "one.xlsx", self.folder / "two.xlsx"
        done = command("sheet", self.folder / "b", "--out", first, "--data", source, "--ahead", "3")
        self.assertEqual(done.returncode, 0, done.stderr)
        fa.open_design(self.folder / "b").to_workbook(second, self.forecasts)
        self.assertEqual(first.read_bytes(), second.read_bytes())
        for words, said in (
            (["--out", first], "already exists"), (["--out", self.folder / "b.ods"], "a workbook ends in .xlsx"),
            (["--out", self.folder / "x.xlsx", "--ahead", "3"], "--ahead and --data are given together"),
        ):  # fmt: skip
            refused = command("sheet", self.folder / "b", *words)
            self.assertEqual((refused.returncode, said in refused.stderr), (2, True), refused.stderr)
