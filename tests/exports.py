"""Files as programs export them, made by rules, beside what they hold."""

from __future__ import annotations

import zipfile
from dataclasses import dataclass
from datetime import date, timedelta
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

import numpy as np
from openpyxl import Workbook

import facturum as fa

WORDS = {  # names of regions in the letters of a language, and encodings that have them
    "de": (["Süden", "Köln", "Ärmelkanal", "Straße"], ["utf-8", "utf-8-sig", "utf-16", "cp1252", "latin-1"]),
    "fr": (["Éire", "Forêt", "Genève", "Besançon"], ["utf-8", "cp1252", "latin-1", "utf-8-sig"]),
    "pl": (["Łódź", "Kraków", "Gdańsk", "Zamość"], ["utf-8", "cp1250", "iso8859-2"]),
    "cs": (["Plzeň", "Děčín", "Příbram", "Žďár"], ["utf-8", "cp1250"]),
    "ru": (["Москва", "Тверь", "Казань", "Омск"], ["utf-8", "cp1251", "koi8-r"]),
    "en": (["North", "South", "East", "West"], ["utf-8", "utf-16", "cp1252"]),
}
NO_EURO = ("latin-1", "iso8859-2", "koi8-r")
MARKS = [(".", ""), (".", ","), (",", ""), (",", "."), (",", " "), (".", "'")]
ORDERS = ["%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%d-%m-%Y", "%Y/%m/%d", "%d.%m.%y"]
DAYS = ("2022-02-09", "2022-05-03", "2022-10-04", "2023-03-11", "2023-07-01", "2023-09-08")
ABOVE = [[], [], ["Sales by place"], ["Report", "", "made on 03.02.2024"], ["Sales;;;;", "As of: 31.12.2023;;;;"]]


@dataclass(frozen=True)
class Export:
    """A file, how it is written, and the values of its columns."""

    path: Path
    written: dict[str, Any]
    pattern: str
    unit: str
    held: dict[str, Any]

    @property
    def declared(self) -> fa.Plan:
        """The plan of its columns with everything declared."""
        form = {"decimal": self.written["decimal"]} if self.unit else {}
        rate = {"kind": "number", "unit": self.unit, **form} if self.unit else {}
        return _plan(
            self.written, {"Tag": {"kind": "time", "pattern": self.pattern}, **({"Rate": rate} if rate else {})}
        )

    def wrong(self, design: fa.Design) -> list[str]:
        """Return the columns of a build that are not what the file holds."""
        held, built = self.held, dict(zip(design.names, design.X.T, strict=True))
        wanted = {"menge": held["Menge"], "rate": held["Rate"], "y": held["Wert"]}
        wanted |= {f"tag{at}": [str(each) >= day for each in held["Tag"]] for at, day in enumerate(DAYS)}
        built["y"] = design.y
        bad = [name for name, values in wanted.items() if not np.allclose(built[name], values, rtol=1e-12, atol=0)]
        found = {entry.formula for entry in design.columns if entry.term == "ort"}
        words = {f"Ort == '{word}'" for word in held["Ort"]}
        return bad + ["ort"] * (not found <= words or len(found) != len(words) - 1)


def _plan(data: dict[str, Any] | None, variables: dict[str, Any] | None) -> fa.Plan:
    days = {f"tag{at}": f"Tag >= '{day}'" for at, day in enumerate(DAYS)}
    terms = {"menge": "Menge", "rate": "Rate", "ort": "Ort", **days}
    return fa.Plan("Wert", terms, data=data, variables=variables, checks=dict.fromkeys(("leak", "rare"), "off"))


BARE = _plan(None, None)  # which says nothing of how the file is written


def export(seed: int, folder: Path) -> Export:
    """Write an export by the rules of its number."""
    dice = np.random.default_rng(seed)
    words, encodings = WORDS[[*WORDS][dice.integers(len(WORDS))]]
    decimal, thousands = MARKS[dice.integers(len(MARKS))]
    delimiter = [";", "\t", "|", ","][dice.integers(4)]
    pattern = ORDERS[dice.integers(len(ORDERS))]
    quoted = bool(dice.integers(2)) or delimiter in (decimal, thousands)
    rows, unit = int(dice.choice([3, 12, 40, 300, 3000])), ["", " %", "%", " €"][dice.integers(4)]
    encoding = str(dice.choice([each for each in encodings if unit != " €" or each not in NO_EURO]))
    held: dict[str, Any] = {
        "Wert": np.round(dice.uniform(1000, 99999, rows), 2), "Menge": dice.integers(900, 30000, rows),
        "Rate": np.round(dice.uniform(1, 90, rows), 1), "Ort": list(dice.choice(words, rows)),
        "Tag": [date(2022, 1, 1) + timedelta(int(day)) for day in dice.integers(0, 720, rows)],
    }  # fmt: skip
    held["Ort"][:3] = [*words[:2], words[0]]
    cells = [
        [_number(v, decimal, thousands) for v in held["Wert"]],
        [_number(v, decimal, thousands, 0) for v in held["Menge"]],
        [_number(v, decimal, "", 1) + unit for v in held["Rate"]], held["Ort"],
        [day.strftime(pattern) for day in held["Tag"]],
    ]  # fmt: skip
    quote = '"{}"' if quoted else "{}"
    above = ABOVE[dice.integers(len(ABOVE))] if delimiter != "," or not quoted else []
    lines = [*above, delimiter.join(quote.format(name) for name in held)]
    lines += [delimiter.join(quote.format(cell) for cell in row) for row in zip(*cells, strict=True)]
    path = folder / f"export{seed}.csv"
    path.write_bytes(("\r\n" if seed % 2 else "\n").join([*lines, ""]).encode(encoding))
    written = {"delimiter": delimiter, "decimal": decimal, "thousands": thousands, "encoding": encoding}
    return Export(path, written | {"header_line": len(above) + 1}, pattern, unit.strip(), held)


def _number(value: float, decimal: str, thousands: str, digits: int = 2) -> str:
    return f"{value:,.{digits}f}".replace(",", "T").replace(".", decimal).replace("T", thousands)


Sheets = dict[str, list[Any]]


def write_xlsx(path: Path, sheets: Sheets) -> None:
    """Write a workbook through a library other than the one that reads it."""
    book = Workbook()
    book.remove(book.active)
    for name, rows in sheets.items():
        sheet = book.create_sheet(name)
        for row in rows:
            sheet.append(list(row))
    book.save(path)


def write_ods(path: Path, sheets: Sheets) -> None:
    """Write a workbook in the open format, by its standard."""
    tables = "".join(
        f'<table:table table:name="{name}">'
        + "".join("<table:table-row>" + "".join(map(_cell, row)) + "</table:table-row>" for row in rows)
        + "</table:table>"
        for name, rows in sheets.items()
    )
    spaces = " ".join(
        f'xmlns:{key}="urn:oasis:names:tc:opendocument:xmlns:{key}:1.0"' for key in ("office", "table", "text")
    )
    body = f"<office:body><office:spreadsheet>{tables}</office:spreadsheet></office:body>"
    kind = "application/vnd.oasis.opendocument.spreadsheet"
    manifest = "urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"
    entry = '<manifest:file-entry manifest:full-path="{}" manifest:media-type="{}"/>'
    with zipfile.ZipFile(path, "w") as book:
        book.writestr("mimetype", kind)
        book.writestr("content.xml", f"<office:document-content {spaces}>{body}</office:document-content>")
        entries = entry.format("/", kind) + entry.format("content.xml", "text/xml")
        book.writestr(
            "META-INF/manifest.xml", f'<manifest:manifest xmlns:manifest="{manifest}">{entries}</manifest:manifest>'
        )


def _cell(value: Any) -> str:
    if value is None:
        return "<table:table-cell/>"
    kind, text = ("string", str(value))
    if isinstance(value, bool):
        kind, text = "boolean", f' office:boolean-value="{str(value).lower()}"'
    elif isinstance(value, int | float):
        kind, text = "float", f' office:value="{value}"'
    elif isinstance(value, date):
        kind, text = "date", f' office:date-value="{value}"'
    held = text if kind != "string" else ""
    return (
        f'<table:table-cell office:value-type="{kind}"{held}><text:p>{escape(str(value))}</text:p></table:table-cell>'
    )
