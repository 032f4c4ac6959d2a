"""Every page of the guide: its plans, commands and Python are run, and what it shows is what comes back."""

from __future__ import annotations

import contextlib
import io
import os
import re
import shlex
import shutil
import unittest
import warnings
from pathlib import Path

from facturum.demo.sample import lay_out
from tests.support import ROOT, Folder, command

GUIDE = ROOT / "docs/guide"
BLOCK = re.compile(r"```(\w+) ?([\w.]*)\n(.*?)```", re.S)
PARTS = 4


def plain(text: str) -> str:
    return re.sub(r"[\s─]+", " ", text)


class Pages(Folder):
    def run_page(self, page: Path) -> None:
        place = self.folder / page.stem
        lay_out(place)
        for path in (GUIDE / "data").iterdir():
            shutil.copy(path, place)
        told, before = "", Path.cwd()
        for kind, name, content in BLOCK.findall(page.read_text("utf-8")):
            if name:
                (place / name).write_text(content, "utf-8")
            elif kind == "console":
                told = ""
                for line in content.strip().splitlines():
                    written, _, status = line.removeprefix("$ facturum ").partition("  # exit ")
                    done = command(*shlex.split(written), cwd=place)
                    self.assertEqual(
                        done.returncode, int(status or 0), f"{page.name}: {line}\n{done.stderr}{done.stdout}"
                    )
                    told += done.stdout
            elif kind == "text":
                for line in content.strip().splitlines():
                    self.assertIn(plain(line.strip()), plain(told), page.name)
            elif kind == "python":
                try:
                    os.chdir(place)
                    with contextlib.redirect_stdout(io.StringIO()), warnings.catch_warnings(action="ignore"):
                        exec(compile(content, page.name, "exec"), {"__name__": page.stem})
                finally:
                    os.chdir(before)

    def run_part(self, part: int) -> None:
        pages = [*sorted(GUIDE.glob("[0-9]*.md")), ROOT / "docs/tutorial.md"]
        self.assertGreaterEqual(len(pages), 20)
        index = (GUIDE / "README.md").read_text("utf-8")
        for page in pages[part::PARTS]:
            with self.subTest(page.name):
                self.assertTrue(page.parent != GUIDE or f"]({page.name})" in index)
                self.run_page(page)


def _test(part: int) -> type[Pages]:
    """Return a class of its own for a part of the pages, which run side by side."""

    def test_pages(self: Pages) -> None:
        self.run_part(part)

    return type(
        f"Pages{part}", (Pages,), {"test_what_pages_show_is_what_comes_back": test_pages, "__module__": __name__}
    )


for _part in range(PARTS):
    globals()[f"Pages{_part}"] = _test(_part)


if __name__ == "__main__":
    unittest.main()
