"""Plans whose rows can be changed, and phrases of their sentences read as expressions and conditions."""

from __future__ import annotations

import ast
import math
import re
from collections.abc import Callable, Iterator
from functools import cached_property
from typing import Any

import numpy as np

import facturum as fa
from tests.interpreter import Interpreter, Refused
from tests.support import PANEL_DATA, VARIABLES

ORDERS = {"comfort": ("poor", "fair", "good")}
MOST = 14  # worlds of one row and one phrase
World = int  # a row of the interpreter
Truth = Callable[[World], bool | None]
Cells = dict[tuple[str, int], Any]
RESERVED = ("hut", "month", "hidden")
BOUNDS = r"(?:under|over|up to) \S+|\S+ to \S+|\S+ or more|missing"
RAW = r"fills=|of=\[|\.\. \d+ entries|quantiles=|recurrence|_date|order=\[|-(?:step|month) |within|labels="


class Unread(Exception):
    """A phrase that is not read here."""


class Worlds(Interpreter):
    """An interpreter whose rows can be changed: each in a copy of its unit."""

    def __init__(self, *given: Any) -> None:
        self.real: dict[Any, Any] = {}  # the unit that each copy is of
        super().__init__(*given)

    def copied(self, i: World, cells: Cells) -> World | None:
        """Return a row like another, with other cells in its own period or others; None where there is no such row."""
        unit, own = ("copy", len(self.rows)), self.period_of(i)
        later = cells.get(("month", 0), own) - own
        found, made = None, len(self.rows)
        places = self.places[self.unit_of(i)]
        if any((own + when) not in places for _, when in cells):
            return None
        self.real[unit] = self.real.get(self.unit_of(i), self.unit_of(i))
        for period, j in places.items():
            row = dict(self.rows[j])
            for (name, when), value in cells.items():
                if name == "hut" or (own + when == period and name != "month"):  # a unit is one in all its periods
                    row[name] = value
            row["month"] = period + later
            self.rows.append(row)  # type: ignore[attr-defined]
            self.unit.append(unit)  # type: ignore[attr-defined]
            self.period.append(period + later)  # type: ignore[attr-defined]
            self.placed(made, unit, period + later)
            found, made = made if j == i else found, made + 1
        return found

    def _value_name(self, tree: ast.Name, i: Any) -> Any:
        if isinstance(i, tuple) and tree.id == "hut":
            return self.real.get(i[0], i[0])
        return super()._value_name(tree, i)


class Claimed:
    """A plan over a table of cells, its sentences, and random coefficients.

    Raises:
        facturum.FacturumError: where the package refuses the plan.
        Refused: where the interpreter does.
    """

    def __init__(self, table: dict[str, list[Any]], terms: dict[str, str], response: str | None, missing: str,
                 derived: dict[str, str], seed: int) -> None:  # fmt: skip
        self.response = response
        self.terms, self.derived, self.dice = terms, derived, np.random.default_rng(seed)
        given = {name: values for name, values in table.items() if name != "period"}
        plan = fa.Plan(
            response, terms, data=PANEL_DATA, derived=derived, variables=VARIABLES, rows={"missing": missing}
        )
        self.design = plan.build(given, threads=1)
        months = [12 * (int(text[:4]) - 1970) + int(text[5:7]) - 1 for text in table["month"]]
        cells = {name: values for name, values in given.items() if name != "month"} | {"month": months}
        rows = [{name: values[at] for name, values in cells.items()} for at in range(len(months))]
        self.slow = Worlds(
            rows, ORDERS, derived, [*table["hut"]], [*months], None, None, missing, ("hut", "month", "hidden")
        )
        self.kept, _ = self.slow.matrix(response, terms)
        trees = [ast.parse(text, mode="eval").body for text in terms.values()]
        self.columns = [column for tree in trees for column in self.slow.columns(tree)]
        self.names = [entry.name for entry in self.design.columns if entry.role == "predictor"]
        if len(self.columns) != len(self.names):
            raise Refused("other columns")
        self.b = dict(zip(self.names, self.dice.normal(size=len(self.names)).tolist(), strict=True))
        self.values = {name: sorted({v for v in column if v is not None}) for name, column in cells.items()}
        self.made: dict[tuple[World, tuple[tuple[tuple[str, int], Any], ...]], World | None] = {}
        self.known: dict[World, np.ndarray] = {}
        self.text = f"{terms} {response} {missing}"

    def readings(self) -> Iterator[tuple[str, str]]:
        """Yield each column with its sentence."""
        for entry in self.design.columns:
            if entry.role == "predictor":
                yield entry.name, entry.reading

    def row(self, i: World) -> np.ndarray:
        """Return the columns of a row; NaN where one has no value."""
        if i not in self.known:
            found = []
            for column in self.columns:
                try:
                    value = column(i)
                except (Refused, OverflowError):  # a changed cell may lead beyond the doubles
                    value = None
                found.append(math.nan if value is None else float(value))
            self.known[i] = np.array(found)
        return self.known[i]

    def changed(self, i: World, cells: Cells) -> World | None:
        key = (i, tuple(sorted(cells.items(), key=repr)))
        if key not in self.made:
            self.made[key] = self.slow.copied(i, cells)
        return self.made[key]

    def value(self, tree: ast.expr, i: World) -> Any:
        try:
            return self.slow.value(tree, i)
        except (Refused, OverflowError, KeyError, IndexError, ValueError):  # or an operation as it is once learned
            return None

    def called(self, name: str) -> list[str]:
        """Return the columns of a name, or of a term whose columns are named together."""
        found = re.fullmatch(r"the (?:other )?columns of (\w+)", name)
        if found is None:
            return [name]
        return [each.name for each in self.design.columns if each.term == found[1]]

    def reads(self, tree: ast.expr) -> list[tuple[str, int]]:
        """Return the cells that an expression reads, through derived variables, those that form groups left out."""
        found: dict[tuple[str, int], None] = {}
        groups = [each for node in ast.walk(tree) if isinstance(node, ast.Call)
                  for word in node.keywords if word.arg == "by" for each in ast.walk(word.value)]  # fmt: skip
        calendar = ("trend", "season", "periods_since")
        for node in ast.walk(tree):
            if isinstance(node, ast.Name) and node not in groups:
                if node.id in self.derived:
                    found |= dict.fromkeys(self.reads(ast.parse(self.derived[node.id], mode="eval").body))
                elif node.id in self.values and node.id != "hut":
                    found |= dict.fromkeys((node.id, when) for when in self.periods(tree, node.id))
                elif node.id in calendar:
                    found["month", 0] = None
        return list(found)

    def periods(self, tree: ast.expr, name: str) -> list[int]:
        """Return some periods in which an expression may read a variable."""
        numbers = [n.value for n in ast.walk(tree) if isinstance(n, ast.Constant) and type(n.value) is int]
        along = re.search(r"lag|lead|difference|change\(|moving|impute", ast.unparse(tree))
        if name == "month" or not along:
            return [0]
        return [0, *{sign * n for n in (1, *numbers) if 0 < n < 9 for sign in (-1, 1)}]

    def others(self, cell: tuple[str, int], i: World) -> list[Any]:
        """Return other values of a cell."""
        name, known, dice = cell[0], self.values[cell[0]], self.dice
        if name == "month":
            own = self.slow.period_of(i)
            return [own + step for step in (1, 2, 3, 4, 6, 7, 11, 12, 13)]
        if not known:
            return []
        if isinstance(known[0], str | bool):
            return [*known, None]
        own = self.slow.rows[i][name]
        start = float(known[0] if own is None else own)
        edges = [float(n) + d for n in self.numbers for d in (-1.0, 1.0) if known[0] <= float(n) <= known[-1]]
        chosen = [float(known[int(at)]) for at in dice.integers(0, len(known), 4)]
        return [start + 1e-3, start + 1.0, *chosen, *edges[:6], None] if name != "floor" else [*known, None]

    @cached_property
    def numbers(self) -> list[float]:
        texts = " ".join([*self.terms.values(), *self.derived.values()])
        return list(dict.fromkeys(float(n) for n in re.findall(r"(?<![\w.])\d+(?:\.\d+)?", texts)))

    def worlds(self, i: World, tree: ast.expr) -> list[World]:
        """Return a row, and rows like it in which one cell that an expression reads is another."""
        cells = self.reads(tree)
        pairs = [(cell, value) for cell in cells for value in self.others(cell, i)]
        if len(pairs) > MOST:
            pairs = [pairs[int(at)] for at in self.dice.choice(len(pairs), MOST, replace=False)]
        made = [self.changed(i, {cell: value}) for cell, value in pairs]
        own = self.value(tree, i)
        return [i, *[each for each in made if each is not None and self.value(tree, each) != own]]


# phrases


def split_at(text: str, sign: str) -> list[str]:
    """Return the parts of a text between signs that stand outside of brackets."""
    depth, parts, start = 0, [], 0
    for at, letter in enumerate(text):
        depth += (letter in "([{") - (letter in ")]}")
        if not depth and text.startswith(sign, at) and at >= start:
            parts.append(text[start:at])
            start = at + len(sign)
    return [*parts, text[start:]]


def listed(text: str) -> list[str]:
    """Return what is listed with commas and "and" outside of brackets."""
    return [each for part in split_at(text, ", ") for each in split_at(part, " and ")]


class Phrases:
    """Reads phrases of one plan as expressions and conditions."""

    def __init__(self, made: Claimed) -> None:
        self.made = made

    def number(self, text: str) -> ast.expr:
        """Return the expression that a phrase stands for."""
        text = re.sub(r"\b(\d+) (month|quarter)s? (before|later)$", r"@\3 \1", text.strip())
        if text.startswith("the imputed "):
            return self.called("impute", f"the {text.removeprefix('the imputed ')}")
        if found := re.fullmatch(r"the (\d+-month|monthly) (percent )?change of (.+)", text):
            step, operation = re.sub(r"\D", "", found[1]) or "1", "percent_change" if found[2] else "difference"
            return self.parsed(f"{operation}({ast.unparse(self.number(found[3]))}, step={step})")
        if found := re.fullmatch(r"the (\d+)-month (average|sum) of (.+) \(this month.*\)", text):
            return self.called(f"moving_{found[2]}", found[3], found[1])
        if found := re.fullmatch(r"(.+) @(before|later) (\d+)", text):
            inner = ast.unparse(self.number(found[1]))
            return self.parsed(f"{'lag' if found[2] == 'before' else 'lead'}({inner}, {found[3]})")
        if found := re.fullmatch(
            r"the (?:(\S+) )?(mean|median|sd|smallest|largest|quantile) of (.+) in its (.+)", text
        ):
            by, share = found[4].replace(" and ", ", "), f"{found[1]}, " if found[1] else ""
            return self.parsed(f"{found[2]}({ast.unparse(self.number(found[3]))}, {share}by=[{by}])")
        if found := re.fullmatch(r"the code of (.+)", text):
            return self.called("codes", found[1])
        if found := re.fullmatch(r"(.+) winsorized at (\S+) and (\S+)", text):
            try:
                return self.called("winsorize", found[1])  # whose ends are not rounded
            except Unread:
                return self.parsed(f"clip({ast.unparse(self.number(found[1]))}, low={found[2]}, high={found[3]})")
        for words, operation in ((" (imputed)", "impute"), (" (score)", "score"), (" (regrouped)", "regroup")):
            if text.endswith(words):
                return self.called(operation, text.removesuffix(words))
        if text.startswith("quarter of "):
            return self.parsed(f"part({text.removeprefix('quarter of ')}, 'quarter')")
        if found := re.fullmatch(r"(?:(\w+) )?months since (\d+)(?:-(\d+))?", text):
            return self.parsed(f"periods_since('{found[2]}-{found[3] or '01'}')")
        if text.startswith("the product of "):
            factors = [
                ast.unparse(self.number(each)) for part in split_at(text[15:], ", ") for each in split_at(part, " and ")
            ]
            return self.parsed(" * ".join(f"({each})" for each in factors))
        return self.parsed(text)

    def called(self, operation: str, subject: str, second: str = "") -> ast.expr:
        """Return the one call of an operation in the plan that is made of a subject, and of a second argument."""
        learned = r"(?<=\w), (?:at|scale)=-?[\d.]+(?:, scale=-?[\d.]+)?(?=\))"
        wanted = re.sub(learned, "", ast.unparse(self.number(subject)))
        roots = [*self.made.terms.values(), *self.made.derived.values()]
        nodes = [node for root in roots for node in ast.walk(ast.parse(root, mode="eval"))]
        calls = [node for node in nodes if isinstance(node, ast.Call) and ast.unparse(node.func) == operation]
        found = {}
        for node in calls:
            given = [re.sub(learned, "", ast.unparse(_bare(each))) for each in node.args]
            if given[:1] == [wanted] and second in ["", *given[1:2]]:
                found[ast.unparse(node)] = node
        if len(found) != 1:
            raise Unread(subject)
        return next(iter(found.values()))

    def parsed(self, text: str) -> ast.expr:
        text = text.replace("how='", "'")
        if re.search(
            r"fills=|of=\[|\.\. \d+ entries|quantiles=|recurrence|_date|order=\[|-(?:step|month) |within|labels=", text
        ):
            raise Unread(text)
        try:
            tree = ast.parse(text.strip(), mode="eval").body
        except SyntaxError:
            raise Unread(text) from None
        known = {*self.made.values, *self.made.derived, "missing"}
        functions = {id(node.func) for node in ast.walk(tree) if isinstance(node, ast.Call)}
        if any(
            isinstance(node, ast.Name) and id(node) not in functions and node.id not in known for node in ast.walk(tree)
        ):
            raise Unread(text)
        return tree

    def truth(self, text: str) -> tuple[ast.expr, Truth]:
        """Return the expression behind a condition, and the condition."""
        made = self.made
        if found := re.fullmatch(r"(.+) (holds|does not hold)", text):
            tree = self.number(found[1])
            return tree, lambda i: None if (v := made.value(tree, i)) is None else bool(v) == (found[2] == "holds")
        if found := re.fullmatch(r"(.+) (?:held|did not hold) (\d+ months? (?:before|later))", text):
            tree, wanted = self.number(f"{found[1]} {found[2]}"), " held " in text
            return tree, lambda i: None if (v := made.value(tree, i)) is None else bool(v) == wanted
        if found := re.fullmatch(r"(.+) is (not )?missing", text):
            tree = self.number(found[1])
            return tree, lambda i: (made.value(tree, i) is None) != bool(found[2])
        if found := re.fullmatch(r"(.+?) = (.+)", text):
            return self.category(found[1], found[2])
        if found := re.fullmatch(rf"(.+?) ({BOUNDS})", text):
            return self.category(found[1], found[2])
        raise Unread(text)

    def category(self, subject: str, label: str) -> tuple[ast.expr, Truth]:
        """Return the expression of a variable, and the condition that it is in a category."""
        made, tree = self.made, self.number(subject)
        if label in ("other", "none") or label.startswith("the mean"):
            raise Unread(label)
        if (ends := self.bounds(label)) is not None:
            low, high = ends
            edge = 1e-4 * max(abs(e) for e in ends if math.isfinite(e))

            def inside(i: World) -> bool | None:
                v = made.value(tree, i)
                if v is None or isinstance(v, str):
                    return None
                near = any(abs(v - e) <= edge for e in (low, high) if math.isfinite(e))
                return None if near else low < v < high

            return tree, inside

        def equal(i: World) -> bool | None:
            v = made.value(tree, i)
            if v is None:
                return label == "missing"
            return label == (str(v).lower() if isinstance(v, bool) else v if isinstance(v, str) else f"{v:g}")

        return tree, equal

    @staticmethod
    def bounds(label: str) -> tuple[float, float] | None:
        """Return the ends of an interval, None of another label; to which bin an edge belongs is left open."""
        number = r"(-?[\d.,]+(?:e[+-]?\d+)?)"
        forms = ((rf"(?:under|up to) {number}", -math.inf, None), (rf"over {number}", None, math.inf),
                 (rf"{number} or more", None, math.inf), (rf"{number} to {number}", None, None))  # fmt: skip
        for form, low, high in forms:
            if found := re.fullmatch(form, label):
                ends = [read_number(each) for each in found.groups()]
                return ends[0] if low is None else low, ends[-1] if high is None else high
        return None


def _bare(tree: ast.expr) -> ast.expr:
    """Return an expression as sentences call it: values set to missing go by its own name."""
    plain = isinstance(tree, ast.Call) and ast.unparse(tree.func) == "missing_if"
    return _bare(tree.args[0]) if plain and isinstance(tree, ast.Call) else tree


def read_number(text: str) -> float:
    return float(text.replace(",", ""))


def multiple(text: str, **more: float) -> float:
    """Return what an expression of b in a sentence is worth."""
    text = text.replace("·", "*").replace("−", "-").replace("^", "**")
    names = {"exp": math.exp, "sqrt": math.sqrt, "log": math.log}
    try:
        return float(eval(text, {"__builtins__": {}}, {**names, **more}))
    except OverflowError:
        return math.inf
