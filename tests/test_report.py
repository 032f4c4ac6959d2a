"""The report as a file, the map in an open standard, and a notebook that shows all of it."""

from __future__ import annotations

import json
import re
import unittest
from functools import cache
from html.parser import HTMLParser
from typing import Any

import numpy as np

import facturum as fa
from facturum.audit.map.csvw import csvw
from facturum.show.drawn.report import report_page
from tests.support import ROOT, SAMPLE, Folder, command, huts

HOSTILE = "<script>alert(1)</script>\"'&"


class Outline(HTMLParser):
    """The elements of a page, and the texts of some."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.tags: list[tuple[str, dict[str, str | None]]] = []
        self.headings: list[int] = []
        self.open: list[str] = []
        self.unbalanced: list[str] = []
        self.feed(page)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append((tag, dict(attrs)))
        if re.fullmatch("h[1-6]", tag):
            self.headings.append(int(tag[1]))
        if tag not in ("meta", "img", "input", "br", "rect", "line", "link"):
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        if tag in ("rect", "line", "input"):
            return
        if not self.open or self.open.pop() != tag:
            self.unbalanced.append(tag)


@cache
def sample_page(plan: str) -> str:
    return report_page(fa.Plan.load(SAMPLE / f"{plan}.toml").build(SAMPLE / "huts.csv"))


class Pages(Folder):
    def page(self, plan: str = "huts") -> str:
        return sample_page(plan)

    def test_it_asks_nothing_of_the_network_and_runs_only_its_own_script(self) -> None:
        page = self.page()
        outline = Outline(page)
        policy = next(a["content"] for tag, a in outline.tags if tag == "meta" and "http-equiv" in a)
        self.assertIn("default-src 'none'; img-src data:; style-src 'sha256-", policy or "")
        self.assertNotIn("unsafe", policy or "")
        for tag, attributes in outline.tags:
            for name in ("src", "href", "action", "data"):
                value = attributes.get(name) or ""
                self.assertTrue(value.startswith(("data:", "#")) or not value, f"{tag} {name}={value[:40]}")
            self.assertFalse([name for name in attributes if name.startswith("on") or name == "style"], tag)
        self.assertLess(len(page), 3_000_000)

    def test_the_policy_has_the_digests_of_style_and_script(self) -> None:
        import base64
        import hashlib

        page = self.page()
        for tag in ("style", "script"):
            inner = re.findall(rf"<{tag}>(.*?)</{tag}>", page, re.S)
            self.assertEqual(len(inner), 1)
            digest = base64.b64encode(hashlib.sha256(inner[0].encode()).digest()).decode()
            self.assertIn(f"{tag}-src 'sha256-{digest}'", page)

    def test_it_is_well_formed_with_headings_in_order(self) -> None:
        for plan in ("huts", "clean", "time"):
            outline = Outline(self.page(plan))
            self.assertEqual((outline.unbalanced, outline.open), ([], []), plan)
            self.assertEqual(outline.headings[0], 1)
            self.assertTrue(all(b - a <= 1 for a, b in zip(outline.headings, outline.headings[1:], strict=False)))
            regions = [a["aria-label"] for _, a in outline.tags if a.get("role") == "region"]
            self.assertEqual(len(regions), len(set(regions)), plan)
            ids = [a["id"] for _, a in outline.tags if a.get("id")]
            self.assertEqual(len(ids), len(set(ids)))

    def test_every_column_and_what_was_said_of_it_is_there(self) -> None:
        design = fa.Plan.load(SAMPLE / "clean.toml").build(SAMPLE / "huts.csv")
        page = report_page(design)
        details = json.loads(re.findall(r'<script type="application/json" id="details">(.*?)</script>', page, re.S)[0])
        self.assertEqual(set(details), {entry.name for entry in design.columns.columns})
        for entry in design.columns.columns:
            spread = details[entry.name]["spread"]
            if spread is not None:
                known = design.column(entry.name)
                wanted, _ = np.histogram(known[~np.isnan(known)], bins=20)
                self.assertEqual(sum(spread["counts"]), wanted.sum())
                self.assertLess(
                    np.abs(np.array(spread["counts"]) - wanted).sum(), 6
                )  # values on edges may fall either way
        text = re.sub(r"<[^>]+>", "", page)
        for said in (
            "rows went in",
            "imputed by",
            "in bins",
            "Trial regression",
            "Accuracy in units of stays",
            "Correlations",
        ):
            self.assertIn(said, text)

    def test_rows_left_out_are_told_by_reason(self) -> None:
        table = {"x": [1.0, None, 3.0, 4.0, None, 6.0, 7.0, 8.5], "y": [2.0, 1.0, None, 4.0, 5.0, 6.5, 7.0, 9.0]}
        page = report_page(fa.Plan("y", {"x": "x"}, rows={"keep": "y < 9 or is_missing(y)"}).build(table))
        text = " ".join(re.sub("<[^>]*>", " ", page).split())
        for reason in (
            "keep is false rows.keep 1 Row 8.",
            "response 1 Row 3.",
            "terms.x 2 Rows 2, 5.",
            "1 row: y is missing",
        ):
            self.assertIn(reason, text)
        self.assertIn("8 rows went in, and 4 are rows of the matrix.", text)

    def test_hostile_names_are_texts(self) -> None:
        quoted = HOSTILE.replace("'", "\\'")
        table: dict[str, Any] = {HOSTILE: [HOSTILE, "b", "c"] * 20, "y": np.arange(60.0) % 7}
        page = report_page(fa.Plan("y", {"k": f"variable('{quoted}')"}).build(table))
        self.assertNotIn("<script>alert", page)
        self.assertEqual(Outline(page).unbalanced, [])

    def test_designs_without_much_have_a_report_too(self) -> None:
        for plan, table in (
            (fa.Plan(None, {"x": "x"}), {"x": [1.0, 2.0]}),
            (fa.Plan("y", {"x": "x"}), {"x": [1.0, 2.0], "y": [1.0, 2.0]}),
            (fa.Plan("y", {"k": "k"}, intercept=False), {"k": ["a", "b", "a"], "y": [1.0, 2.0, 4.0]}),
            (fa.Plan("access", {"beds": "beds"}, rows={"missing": "keep"}), huts(50)),
        ):
            self.assertEqual(Outline(report_page(plan.build(table))).unbalanced, [])
        sparse = fa.Plan("stays", {"access": "access"}).build(huts(50), sparse=True)
        self.assertIn("access_road", report_page(sparse))

    def test_the_same_build_gives_the_same_page(self) -> None:
        plan, table = fa.Plan("stays", {"access": "access", "beds": "beds"}), huts(60)
        self.assertEqual(report_page(plan.build(table)), report_page(plan.build(table)))

    def test_on_the_command_line(self) -> None:
        (self.folder / "plan.toml").write_text('[terms]\nx = "x"\n', "utf-8")
        (self.folder / "t.csv").write_text("x\n1\n2\n4\n", "utf-8")
        made = command("build", "plan.toml", "t.csv", "--out", "b", "--report", "b.html", cwd=self.folder)
        self.assertEqual(made.returncode, 0, made.stderr)
        done = command("report", "b", "--out", "r.html", cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        page = (self.folder / "r.html").read_text("utf-8")
        self.assertEqual(page, (self.folder / "b.html").read_text("utf-8"))
        self.assertIn("Data: source t.csv (the variables read: ", page)
        self.assertIn(f"Seal of the build: {fa.open_design(self.folder / 'b').seal}", page)
        again = command("report", "b", "--out", "r.html", cwd=self.folder)
        self.assertEqual(again.returncode, 2)
        self.assertIn("already exists", again.stderr)


class Interchange(Folder):
    def test_the_map_is_metadata_of_a_table_on_the_web(self) -> None:
        design = fa.Plan.load(SAMPLE / "huts.toml").build(SAMPLE / "huts.csv")
        design.save(self.folder / "b", format="csv")
        content = csvw(fa.open_design(self.folder / "b").columns)
        self.assertEqual(content["@context"][0], "http://www.w3.org/ns/csvw")
        head = (self.folder / "b/design.csv").read_text("utf-8").splitlines()[0]
        named = {column["name"] for column in content["tableSchema"]["columns"]}
        self.assertEqual(named, {name.strip('"') for name in head.split(",")})
        allowed = {"name", "titles", "datatype", "required"}
        for column in content["tableSchema"]["columns"]:
            self.assertTrue(all(key in allowed or ":" in key for key in column), column)
        done = command("explain", self.folder / "b", "--csvw")
        self.assertEqual(json.loads(done.stdout), json.loads(json.dumps(content)))


class Notebooks(unittest.TestCase):
    def test_the_tour_runs_and_shows_tables(self) -> None:
        import nbformat
        from nbclient import NotebookClient

        book = nbformat.read(ROOT / "examples/tour.ipynb", 4)
        NotebookClient(
            book, timeout=None, kernel_name="python3", resources={"metadata": {"path": ROOT / "examples"}}
        ).execute()
        shown = [output["data"] for cell in book.cells for output in cell.get("outputs", []) if "data" in output]
        rich = [data for data in shown if "text/html" in data]
        self.assertGreaterEqual(len(rich), 8)
        for data in rich:
            self.assertTrue(data["text/plain"].strip())
            self.assertEqual(Outline(data["text/html"]).unbalanced, [])
        text = " ".join(data["text/html"] for data in rich)
        for said in ("what its coefficient b means", "standard error", "follows from the source", "what was checked"):
            self.assertIn(said, text)


if __name__ == "__main__":
    unittest.main()
