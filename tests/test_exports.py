"""Exports as they come: text files and workbooks, read without a word on how they are written."""

from __future__ import annotations

from datetime import date, datetime

import numpy as np

import facturum as fa
from tests.exports import BARE, export, write_ods, write_xlsx
from tests.support import Folder, command


class Exports(Folder):
    """Files as programs export them: read as they are meant without a word, or asked about, never otherwise."""

    def test_a_plan_that_says_nothing_of_an_export_builds_what_it_holds(self) -> None:
        asked = []
        for seed in range(40):
            made = export(seed, self.folder)
            with self.subTest(seed, written=made.written, begins=made.path.read_bytes()[:160]):
                self.assertEqual(made.wrong(made.declared.build(made.path)), [])
                try:
                    design = BARE.build(made.path)
                except fa.DataError as error:
                    self.assertRegex(str(error), "in two ways|the delimiter of|is not UTF-8|cannot be told apart")
                    asked.append(str(error).splitlines()[0])
                    continue
                self.assertEqual(made.wrong(design), [])
                self.assertTrue(design.verify(made.path).ok)
                self.assertEqual(made.wrong(design.plan.build(made.path)), [])  # the resolved plan holds what was found
        self.assertLessEqual(len(asked), 2, asked)

    def test_a_draft_of_an_export_builds_and_says_how_it_is_written(self) -> None:
        for seed in range(0, 100, 8):
            made = export(seed, self.folder)
            if len(made.held["Ort"]) < 12:
                continue
            with self.subTest(seed):
                text = fa.draft(made.path, "Wert")
                design = fa.Plan.from_text(text).build(made.path)
                undone = np.exp(design.y) if "log(Wert)" in text else design.y
                np.testing.assert_allclose(undone, made.held["Wert"], rtol=1e-12)
                for key, value in made.written.items():
                    usual = {"delimiter": ",", "decimal": ".", "thousands": "", "header_line": 1, "encoding": "utf-8"}
                    plain = key == "encoding" and value in ("utf-8-sig", "cp1252", "latin-1", "iso8859-2")
                    if not plain:  # which ASCII letters do not tell, or another name says too
                        self.assertEqual(f"\n{key} = " in text, value != usual[key], (key, value))

    def test_in_parts_and_in_memory_the_same_is_found(self) -> None:
        made = export(
            next(seed for seed in range(99) if len(export(seed, self.folder).held["Ort"]) == 3000), self.folder
        )
        whole = BARE.build(made.path)
        parts = BARE.build_into(self.folder / "parts", made.path)
        np.testing.assert_array_equal(whole.X, parts.X)
        self.assertEqual(whole.plan, parts.plan)
        (self.folder / "p.toml").write_text(str(BARE))
        told = command("build", self.folder / "p.toml", made.path, "--out", self.folder / "b").stdout
        self.assertIn(f"{made.path.name} was read with ", told)
        self.assertEqual(command("verify", self.folder / "b", made.path).returncode, 0)

    def test_a_series_is_read_as_its_own_file_is_written(self) -> None:
        (self.folder / "i.csv").write_text("Index\n\nmonth;index\n2022-01;1,5\n2022-02;2,5\n2022-03;4,5\n")
        table = "month,y,x\n" + "".join(f"2022-0{1 + at % 3},{at}.5,{at * at}.25\n" for at in range(3))
        (self.folder / "t.csv").write_text(table)
        plan = (
            'response = "y"\n[data]\ntime = "month"\nevery = "month"\n[series.i]\nfile = "i.csv"\ntime = "month"\n'
            'every = "month"\ntake = { index = { how = "repeat" } }\n[terms]\nindex = "i_index"\n'
        )
        (self.folder / "p.toml").write_text(plan)
        design = fa.Plan.load(self.folder / "p.toml").build(self.folder / "t.csv")
        self.assertEqual(design.X[:, 1].tolist(), [1.5, 2.5, 4.5])
        again = design.plan.build(self.folder / "t.csv", series={"i": self.folder / "i.csv"})
        self.assertEqual(again.X[:, 1].tolist(), [1.5, 2.5, 4.5])
        self.assertIn("header_line = 3", str(design.plan))

    def test_texts_that_the_plan_names_are_left_as_they_are(self) -> None:
        path = self.folder / "t.csv"
        path.write_text("y,rate\n" + "".join(f"{at},{5 * (at % 3)} %\n" for at in range(30)))
        self.assertEqual(fa.Plan("y", {"r": "rate"}).build(path).X[:3, 1].tolist(), [0, 5, 10])
        named = fa.Plan("y", {"r": "category(rate, reference='5 %')"}).build(path)
        self.assertEqual(named.columns.columns[2].reference, "5 %")
        path.write_text(path.read_text() + "1,none\n" * 9)
        self.assertEqual(len(fa.Plan("y", {"r": "rate"}).build(path).names), 4)

    def test_workbooks(self) -> None:
        held = {
            "day": [date(2023, 1, 1), date(2023, 2, 28), None, date(2023, 5, 4)],
            "Preis je Stück": [1.5, 2.25, 3.0, None],
            "n": [1, 2, 3, 4], "share": [0.09, 0.1, 0.2, 0.25], "way": ["road", "trail", "NA", "road"],
            "open": [True, False, True, True], "mixed": ["1", 2, "x", 4], "text": ["1.234,50", "2,25", "3,00", "7,00"],
        }  # fmt: skip
        for ending, write in ((".xlsx", write_xlsx), (".ods", write_ods)):
            path = self.folder / f"book{ending}"
            write(
                path,
                {"Data": [["Prices of 2023"], [], [*held], *zip(*held.values(), strict=True)], "Empty": [["note"]]},
            )
            with self.subTest(ending):
                table = fa.read(path, header_line=3, decimal=",", thousands=".").to_pandas()
                self.assertEqual(
                    [str(day)[:10] for day in table["day"]], ["2023-01-01", "2023-02-28", "NaT", "2023-05-04"]
                )
                self.assertEqual(table["text"].tolist(), [1234.5, 2.25, 3.0, 7.0])
                self.assertEqual(table["mixed"].tolist(), ["1", "2", "x", "4"])
                self.assertEqual(table["n"].tolist(), [1, 2, 3, 4])
                plan = fa.Plan(
                    None, {"p": "variable('Preis je Stück')", "s": "share", "o": "open", "w": "way == 'road'"}
                )
                design = plan.build(path)
                self.assertEqual(design.X[:, 1:].tolist(), [[1.5, 0.09, 1, 1], [2.25, 0.1, 0, 0]])
                self.assertTrue(design.verify(path).ok)
                self.assertIn("8 variables", command("profile", path).stdout)
                write(path, {"A": [["a", "b"], [1, 2]], "B": [["a", "b"], [3, 4]]})
                asked = command("profile", path)
                self.assertIn("has 2 sheets with tables: A, B", asked.stderr)
                self.assertEqual(command("profile", path, "--sheet", "B").returncode, 0)
                self.assertEqual(fa.Plan(None, {"a": "a"}, data={"sheet": "B"}).build(path).X.tolist(), [[1, 3]])
                self.assertIn("has no sheet 'C'", command("profile", path, "--sheet", "C").stderr)
                write(path, {"A": [["a", "b"], [1, 2], ["#DIV/0!", 3]]})
                failed = fa.read(path)
                self.assertEqual(failed.to_pandas()["a"].isna().tolist(), [False, True])
                if ending == ".ods":  # the reader of .xlsx gives such cells as empty
                    self.assertIn(
                        "1 cell of 'a' in book.ods is taken as missing: a formula has failed", failed.notes[0]
                    )
                path.write_bytes(path.read_bytes()[:300])
                self.assertRegex(command("profile", path).stderr, "cannot be read")

    def test_files_in_each_others_place_and_of_other_programs(self) -> None:
        (self.folder / "p.toml").write_text('response = "y"\n[terms]\nx = "x"\n')
        (self.folder / "t.csv").write_text("x,y\n1,2\n2,3\n3,5\n")
        for first, second, said in (
            ("t.csv", "p.toml", "t.csv is a table, and the plan is wanted here"),
            ("p.toml", "p.toml", "p.toml is a plan, and the data are wanted here"),
            ("p.toml", "t.sav", "Export the table from its program as CSV"),
        ):  # fmt: skip
            (self.folder / "t.sav").write_bytes(b"x")
            found = command("build", self.folder / first, self.folder / second, "--out", self.folder / "b")
            self.assertEqual((found.returncode, said in found.stderr), (2, True), found.stderr)

    def test_what_can_be_read_in_two_ways_is_asked(self) -> None:
        for content, said, typed in (
            ("y;n\n1;950\n2;1.065\n3;12.400\n", "1.065 can be read in two ways", ["--decimal", ".", ]),
            ("y\tn\n1\t1,234\n2\t2,345\n", "1,234 can be read in two ways", ["--decimal", ","]),
        ):  # fmt: skip
            path = self.folder / "two.csv"
            path.write_text(content)
            found = command("profile", path)
            self.assertEqual(found.returncode, 2)
            self.assertIn(said, found.stderr)
            self.assertEqual(command("profile", path, *typed).returncode, 0)
        path.write_bytes("name;x\ncaf\x8e;1\n".encode("latin-1"))
        self.assertIn("may be cp1252 or", command("profile", path).stderr)
        self.assertEqual(command("profile", path, "--encoding", "mac-roman").returncode, 0)

    def test_dates_with_the_day_or_the_month_first(self) -> None:
        days = [f"2022-{at % 12 + 1:02d}-{at % 28 + 1:02d}" for at in range(60)]
        for pattern in ("%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%Y/%m/%d", "%d.%m.%y", "%d-%m-%Y %H:%M"):
            written = [datetime.fromisoformat(day).strftime(pattern) for day in days]
            text = fa.draft({"when": written, "x": np.arange(60.0) % 7, "y": np.arange(60.0) ** 1.5}, "y")
            self.assertIn(f'when = {{ kind = "time", pattern = "{pattern}" }}', text)
        both = fa.draft({"when": ["01/02/2022", "03/04/2022", "05/06/2022"] * 9, "y": np.arange(27.0)}, "y")
        self.assertIn('where they are dates, write pattern = "%d/%m/%Y" or "%m/%d/%Y"', both)
        self.assertNotIn('kind = "time"', both)
