"""A minute of hostile input of every kind; `make fuzz` goes on for longer."""

from __future__ import annotations

import random
import unittest
import warnings

from hypothesis import given, settings
from hypothesis import strategies as st

from facturum import FacturumWarning
from tests import hostile

# how many cases of each kind take some seconds
COUNTS = {
    "expressions": 400,
    "plans": 260,
    "promises": 220,
    "plan_files": 350,
    "data_files": 260,
    "tamperings": 55,
    "drafts": 60,
    "changed_cells": 45,
    "commands": 40,
    "calls": 320,
    "inspections": 60,
}


def _hostile(kind: str, count: int) -> type[unittest.TestCase]:
    class Hostile(unittest.TestCase):
        @given(st.integers(0, 2**32))
        @settings(max_examples=count, deadline=None)
        def test_every_case_ends_in_a_result_or_an_error_of_our_own(self, seed: int) -> None:
            with warnings.catch_warnings(action="error"):
                warnings.simplefilter("ignore", FacturumWarning)
                hostile.KINDS[kind](random.Random(f"{kind} {seed}"))

    Hostile.__name__ = Hostile.__qualname__ = f"Hostile_{kind}"
    return Hostile


class Counted(unittest.TestCase):
    def test_every_kind_is_tried(self) -> None:
        self.assertEqual(set(COUNTS), set(hostile.KINDS))


for _kind, _count in COUNTS.items():
    globals()[f"Hostile_{_kind}"] = _hostile(_kind, _count)
