"""Random plans: every operation of the registry with every kind of argument, right and wrong ones alike."""

from __future__ import annotations

import dataclasses
import datetime
import random
import re
from collections.abc import Sequence
from typing import Any

import numpy as np

from facturum.language.families import REGISTRY
from facturum.language.tree.options import MISSING
from facturum.language.tree.writer import literal_text
from tests.support import huts

NUMBERS = ("price", "beds", "change", "floor", "stays", "zero", "one", "huge", "tiny")
CATEGORIES = ("access", "valley", "comfort", "label", "single")
TRUTHS = ("open", "flag")
TIMES = ("month", "day")
ODD = ("wild", "nothing", "ids", "long", "absent", "d_number", "d_codes", "d_text", "d_truth")
DERIVED = {
    "d_number": "price / 10 + beds",
    "d_codes": "codes(access)",
    "d_text": "regroup(valley, {'far': ['Far']}, rest='near')",
    "d_truth": "price > 40 or open",
}
LITERALS: tuple[Any, ...] = (
    0, 1, 2, 3, 4, 5, 12, 30, -1, -3, 1000, 2**31, 2**53, 2**53 + 1, 0.0, 0.5, 0.1, 0.25, 0.02, 0.99, 1.5, -2.5, 1e300,
    1e-300, 5e-324, True, False, None, MISSING, "all", "", "trail", "road", "Upper", "good", "poor", "2021-03", "2022",
    "jan", "x_*", "*", "1", "other", "missing",
    (), (1,), (1, 2), (3, 1), (0, 0), (1, 1), (20, 40.5), (0.1, 0.9), (-1, 0, 1), tuple(range(1, 40)),
    ((0, 30), (25, 50)), ((5, 1),), ("trail", "road"), ("trail", "road", "boat", "cable car"), ("trail", "trail"),
    ("poor", "fair", "good"), ("low", "high"), ("low", "middle", "high"), (MISSING, "trail"), (1, "a"),
    (("trail", 1), ("road", 2)), (("a", ("trail",)), ("b", ("road", "boat"))), (("a", ("trail", "trail")),),
    ((("Upper", 1), 4), (("Far", 0), 5)), ((1, "x"), (2, "y")), ((MISSING, 3),), (("b", ("..2", "3..")),),
    ((2**53 + 1, 1), (2**53, 2)), (("trail", "a"), ("road", MISSING)),
)  # fmt: skip
_WORD = re.compile(r'"([a-z_]+)"')


def table(rows: int = 40, seed: int = 0) -> dict[str, Any]:
    """Return a table with columns of every kind, and some that few operations can do anything with."""
    dice = np.random.default_rng(seed)
    found: dict[str, Any] = huts(rows, seed=seed, missing=0.12)
    days = [datetime.date(2020, 1, 1) + datetime.timedelta(days=int(v)) for v in dice.permutation(rows * 3)[:rows]]
    found |= {
        "zero": [0.0] * rows,
        "one": [1, None] * (rows // 2),
        "huge": (dice.choice([1e300, -1e300, 1.7e308, -1.7e308, 3.0], rows)).tolist(),
        "tiny": (dice.choice([1e-300, 5e-324, 0.0], rows)).tolist(),
        "label": [str(v) for v in dice.integers(0, 3, rows)],
        "single": ["only"] * rows,
        "flag": [True] * rows,
        "day": days,
        "wild": [[1.0, float("inf"), None, -5.0][v] for v in dice.integers(0, 4, rows)],
        "nothing": [None] * rows,
        "ids": [f"id {at}" for at in range(rows)],
        "long": [2**53 + int(v) for v in dice.integers(0, 9, rows)],
    }
    return found


class Grammar:
    """Writes random expressions.

    Args:
        dice: the random numbers.
        wrong: how often an argument or an option is of a wrong kind.
    """

    def __init__(self, dice: random.Random, wrong: float = 0.08) -> None:
        self._dice = dice
        self._wrong = wrong

    def expression(self, depth: int = 3) -> str:
        """Return an expression, nested as deep as told."""
        dice = self._dice
        if depth <= 0 or dice.random() < 0.15:
            return self._leaf()
        makers = (self._call, self._call, self._call, self._arithmetic, self._condition, self._list, self._branch)
        return dice.choice(makers)(depth)

    def _leaf(self) -> str:
        dice = self._dice
        if dice.random() < self._wrong:
            return dice.choice([*ODD, literal_text(dice.choice(LITERALS)), "'soon'", "missing", "[]", "unknown"])
        if dice.random() < 0.15:
            return literal_text(dice.choice((0, 1, 2.5, 40, -3, True)))
        return dice.choice(dice.choice((NUMBERS, NUMBERS, CATEGORIES, TRUTHS, TIMES, ODD[-4:])))

    def _number(self, depth: int) -> str:
        dice = self._dice
        if dice.random() < self._wrong:
            return self.expression(depth)
        if depth <= 0 or dice.random() < 0.5:
            return dice.choice(NUMBERS)
        return dice.choice((self._arithmetic, self._elementwise, self._branch))(depth)

    def _elementwise(self, depth: int) -> str:
        inner = self._number(depth - 1)
        forms = ("abs({})", "asinh({})", "center({})", "mean({})", "lag({}, 1)", "impute({}, 'median')", "square({})")
        return self._dice.choice(forms).format(inner)

    def _arithmetic(self, depth: int) -> str:
        left, right = self._number(depth - 1), self._number(depth - 1)
        return f"({left} {self._dice.choice(('+', '-', '*', '/', '**', '*'))} {right})"

    def _condition(self, depth: int) -> str:
        dice = self._dice
        kind = dice.randrange(6)
        if kind == 0:
            label = dice.choice(("trail", "road", "Upper", "poor", "2021-05", "1", "soon"))
            return f"{self.expression(depth - 2)} {dice.choice(('==', '!=', '<', '>='))} '{label}'"
        if kind == 1:
            members = ", ".join(literal_text(dice.choice(LITERALS)) for _ in range(dice.randrange(4)))
            return f"({self.expression(depth - 2)} {dice.choice(('in', 'not in'))} [{members}])"
        if kind == 2:
            return f"(not {self.expression(depth - 1)})"
        if kind == 3:
            joint = dice.choice(("and", "or"))
            return f"({self._condition(depth - 1) if depth > 0 else 'open'} {joint} {self.expression(depth - 1)})"
        if kind == 4:
            return f"({self._number(depth - 1)} < {self._number(depth - 1)} <= {self._number(depth - 1)})"
        return f"({self._number(depth - 1)} {dice.choice(('<', '>', '=='))} {self._number(depth - 1)})"

    def _branch(self, depth: int) -> str:
        a, b = self.expression(depth - 1), self.expression(depth - 1)
        return f"({a} if {self._condition(depth - 1)} else {self._dice.choice((b, 'missing'))})"

    def _list(self, depth: int) -> str:
        return "[" + ", ".join(self.expression(depth - 1) for _ in range(self._dice.randrange(1, 4))) + "]"

    def _call(self, depth: int) -> str:
        dice = self._dice
        made = REGISTRY[dice.choice(sorted(REGISTRY))]
        words: list[str] = []
        for field in dataclasses.fields(made):  # type: ignore[arg-type]
            needed = field.default is dataclasses.MISSING
            if not needed and dice.random() < 0.65:
                continue
            named = "" if needed else f"{field.name}="
            role = field.metadata["role"]
            if role == "argument":
                takes_number = "number" in field.metadata["words"]
                words.append(named + (self._number(depth - 1) if takes_number else self.expression(depth - 1)))
            elif role == "arguments":
                members = [self.expression(depth - 2) for _ in range(dice.randrange(1, 4))]
                groups = [dice.choice((*CATEGORIES, *TRUTHS, "floor")) for _ in range(dice.randrange(1, 3))]
                chosen = groups if field.name in ("by", "keys") and dice.random() > self._wrong else members
                text = ", ".join(chosen)
                if field.metadata["pairs"]:
                    text = ", ".join(f"{self._condition(depth - 1)}: {member}" for member in members)
                    words.append("{" + text + "}")
                    continue
                words.append(text if field.metadata["spread"] else f"{named}[{text}]")
            else:
                words.append(named + self._option(field))
        return f"{made.name}({', '.join(words)})"

    def _option(self, field: Any) -> str:
        accept = field.metadata["accept"]
        choices: Sequence[Any] = LITERALS
        if self._dice.random() > self._wrong:
            told = [word for word in _WORD.findall(accept.words) if accept.test(word)]
            choices = [value for value in (*LITERALS, *told, *told, *told) if accept.test(value)] or LITERALS
        value = self._dice.choice(choices)
        pairs = isinstance(value, tuple) and all(isinstance(pair, tuple) and len(pair) == 2 for pair in value)
        return "None" if value is None else literal_text(value, accept.mapping and pairs)

    def plan(self) -> dict[str, Any]:
        """Return the sections of a plan."""
        dice = self._dice
        content: dict[str, Any] = {
            "terms": {f"t{at}": self.expression(dice.randrange(4)) for at in range(dice.randrange(1, 4))},
            "derived": DERIVED | ({"d_more": self.expression(2)} if dice.random() < 0.3 else {}),
            "variables": {"comfort": {"kind": "ordered", "order": ["poor", "fair", "good"]}, "month": {"kind": "time"}},
        }
        rows = {}
        sane = (
            "price > 20",
            "open",
            "day < '2020-03'",
            "access != 'boat'",
            "floor in [0, 1, 2]",
            "not is_missing(beds)",
        )
        for key in ("keep", "learn"):
            if dice.random() < 0.35:
                rows[key] = dice.choice(sane) if dice.random() < 0.8 else self._condition(2)
        if dice.random() < 0.5:
            rows["missing"] = dice.choice(("drop", "keep", "keep", "keep", "fail"))
        content["rows"] = rows
        if dice.random() < 0.7:
            content["response"] = dice.choice(("stays", "log(stays)", "stays > 100", "access", "lead(stays, 1)"))
        clock = ({"every": "row"}, {"time": "day", "every": "day"}, {"every": "row", "panel": ["valley"]}, {})
        content["data"] = dict(dice.choice(clock))
        content["intercept"] = dice.random() < 0.7
        return content
