"""The walkthroughs of CONTRIBUTING.md, each followed in a copy of the source and tried there."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import unittest
from pathlib import Path

from tests.support import ROOT, Folder

PAGE = (ROOT / "CONTRIBUTING.md").read_text("utf-8")
WANTED = {"an operation": 25, "a shorthand": 15, "an operation with state": 25, "a learned block": 60, "a coding": 30,
          "a check": 15, "a format of the design file": 25, "a command": 20}  # fmt: skip
BLOCK = re.compile(r"^```python (.+?)\n(.*?)^```$", re.MULTILINE | re.DOTALL)


def blocks(title: str) -> list[tuple[str, str]]:
    """Return the blocks of a walkthrough, each with what its first line says."""
    section = PAGE.split(f"## Add {title}\n")[1].split("\n## ")[0]
    return BLOCK.findall(section)


def code_lines(text: str) -> int:
    """Return how many lines of code there are: without docstrings, imports and blanks."""
    bare = re.sub(r'""".*?"""', "", text, flags=re.DOTALL)
    return sum(bool(line.strip()) and not line.startswith(("from ", "import ")) for line in bare.splitlines())


class Walkthroughs(Folder):
    def follow(self, title: str) -> None:
        copy = self.folder / title / "src"
        shutil.copytree(ROOT / "src/facturum", copy / "facturum", ignore=shutil.ignore_patterns("__pycache__"))
        trial, written = "", 0
        for head, text in blocks(title):
            if head == "trial":
                trial = text
                continue
            written += code_lines(text)
            self.write(copy / "facturum", head, text)
        self.assertLessEqual(written, WANTED[title])
        program = f"import sys\nimport numpy as np\nimport facturum as fa\n{trial}"
        environment = {**os.environ, "PYTHONPATH": str(copy), "PYTHONWARNINGS": "ignore"}
        ended = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, env=environment)
        self.assertEqual(ended.returncode, 0, ended.stderr)

    def write(self, package: Path, head: str, text: str) -> None:
        """Write what a block says: a new file, or lines before or after others."""
        given = {
            key: value.encode().decode("unicode_escape")
            for key, value in re.findall(r'(\w+)="((?:\\.|[^"\\])*)"', head)
        }
        path = package / given["title"]
        if len(given) == 1:
            path.write_text(text, "utf-8")
            return
        content, place = path.read_text("utf-8"), given.get("before") or given["after"]
        self.assertEqual(content.count(place), 1, f"{given['title']} has {place!r}")
        inline = head.endswith("inline")
        added = text.removesuffix("\n") if inline else text
        if "before" in given:
            content = content.replace(place, added + place)
        else:
            content = content.replace(place, place + (added if inline else "\n" + added.removesuffix("\n")))
        path.write_text(content, "utf-8")

    def test_each_walkthrough_works_and_is_as_short_as_it_says(self) -> None:
        self.assertEqual(set(re.findall("^## Add (.+)$", PAGE, re.MULTILINE)), {*WANTED})
        for title in WANTED:
            with self.subTest(title):
                self.follow(title)


if __name__ == "__main__":
    unittest.main()
