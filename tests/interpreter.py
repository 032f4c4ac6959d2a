"""A slow interpreter of whole plans, written from the documentation: rows are dictionaries, and None is missing.

It shares no code with the package. Numbers are Python's, categories texts, times periods counted in months.
"""

from __future__ import annotations

import ast
import fnmatch
import math
import re
import statistics
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from fractions import Fraction
from functools import reduce
from itertools import pairwise
from typing import Any

Cell = Any
Column = Callable[[int], Cell]
MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
QUARTERS = ("q1", "q2", "q3", "q4")
ACROSS: dict[str, Callable[[list[float]], float]] = {
    "mean_of": statistics.fmean, "sum_of": math.fsum, "smallest_of": min, "largest_of": max,
    "product_of": math.prod, "spread_of": statistics.stdev, "count_of": lambda items: sum(item != 0 for item in items),
}  # fmt: skip
GATHERING = frozenset({*ACROSS, "any_of", "all_of", "first_present", "joined", "crossed"})
STATISTICS = ("mean", "median", "sd", "smallest", "largest", "quantile", "total", "count", "distinct")
WINDOWS: dict[str, Callable[[list[float], float], float]] = {
    "moving_median": lambda v, _: statistics.median(v), "moving_sd": lambda v, _: statistics.stdev(v),
    "moving_smallest": lambda v, _: min(v), "moving_largest": lambda v, _: max(v),
    "moving_quantile": lambda v, share: _quantile(sorted(v), share),
}  # fmt: skip
PRESENCE = frozenset(
    {
        "sqrt",
        "square",
        "reciprocal",
        "exp",
        "abs",
        "asinh",
        "sin",
        "cos",
        "sign",
        "cumulative_sum",
        "cumulative_mean",
        "cumulative_largest",
        "cumulative_smallest",
        "exponential_average",
        "rounded",
        "floor_to",
        "remainder",
        "hinge",
        "waves",
        "spline",
        "frequency_of",
        "log",
        "clip",
        "center",
        "standardize",
        "winsorize",
        "reverse",
        "codes",
        "score",
        "regroup",
        "bins",
        "category",
        "polynomial",
        "part",
    }
)  # fmt: skip - operations that have a value where their first argument has one
ELEMENTWISE: dict[str, Callable[[float], float]] = {
    "sqrt": math.sqrt, "square": lambda x: x * x, "reciprocal": lambda x: 1 / x, "exp": math.exp, "abs": abs,
    "asinh": math.asinh, "sin": math.sin, "cos": math.cos, "sign": lambda x: (x > 0) - (x < 0),
}  # fmt: skip


def _fold(text: str, case: bool) -> str:
    return text if case else text.casefold()


def _piece(text: str, first: int, last: int = -1) -> str | None:
    places = range(1, len(text) + 1)
    low = first if first > 0 else max(len(text) + 1 + first, 1)
    high = last if last > 0 else len(text) + 1 + last
    return "".join(text[p - 1] for p in places if low <= p <= high) or None


def _text_part(text: str, separator: str, n: int) -> str | None:
    parts = dict(enumerate(text.split(separator), 1))
    return parts.get(n if n > 0 else len(parts) + 1 + n, "").strip() or None


def _number_in(text: str) -> float | None:
    found = re.search(r"[-+]?\d+(\.\d+)?([eE][-+]?\d+)?", text)
    return float(found[0]) if found else None


TEXTS: dict[str, Callable[..., Cell]] = {
    "contains": lambda x, part, case=True: _fold(part, case) in _fold(x, case),
    "starts_with": lambda x, part, case=True: _fold(x, case)[: len(_fold(part, case))] == _fold(part, case),
    "ends_with": lambda x, part, case=True: _fold(x, case)[::-1].startswith(_fold(part, case)[::-1]),
    "matches_pattern": lambda x, pattern, case=True: (
        re.fullmatch(pattern, x, 0 if case else re.IGNORECASE) is not None
    ),
    "lower": str.lower, "trim": lambda x: re.sub(r"\s+", " ", x).strip() or None,
    "replaced": lambda x, old, new: new.join(x.split(old)) or None, "text_part": _text_part, "piece": _piece,
    "length_of": lambda x: float(len(x)), "number_in": _number_in,
}  # fmt: skip


class Refused(Exception):
    """The documentation says that this is an error."""


class Interpreter:
    """Works out the matrix of a plan row by row.

    Args:
        rows: the table.
        orders: the categories of ordered variables, from the lowest.
        derived: new variables.
        unit, period: for each row its unit and its period; a row at another period of the unit is found by them.
        learn: the condition for a row to be learned from.
        keep: the condition for a row to be kept.
        missing: what becomes of rows without a value: drop or keep.
        reserved: variables that are never chosen by their names.
    """

    def __init__(
        self,
        rows: Sequence[dict[str, Cell]],
        orders: dict[str, Sequence[str]],
        derived: dict[str, str],
        unit: Sequence[Any],
        period: Sequence[int],
        learn: str | None = None,
        keep: str | None = None,
        missing: str = "drop",
        reserved: Sequence[str] = (),
    ) -> None:
        self.reserved = reserved
        self.rows, self.orders, self.missing = rows, orders, missing
        self.derived = {name: _parsed(text) for name, text in derived.items()}
        self.at: dict[tuple[Any, int], int] = {}
        self.places: dict[Any, dict[int, int]] = {}  # of each unit, the rows by their periods
        for i, place in enumerate(zip(unit, period, strict=True)):
            self.placed(i, *place)
        self.unit, self.period = unit, period
        self.memory: dict[Any, Any] = {}
        everything = range(len(rows))
        self.kept = [i for i in everything if keep is None or self.value(_parsed(keep), i)]
        self.learning = frozenset(i for i in everything if learn is None or self.value(_parsed(learn), i))
        # the rows learned from; for what decides which rows remain, all kept learning rows
        self.sample = [i for i in self.kept if i in self.learning]

    def placed(self, i: int, unit: Any, period: int) -> None:
        """Note where a row stands."""
        self.at[unit, period] = i
        self.places.setdefault(unit, {})[period] = i

    def matrix(self, response: str | None, terms: dict[str, str]) -> tuple[list[int], list[list[Cell]]]:
        """Return the rows of the matrix, and its columns, those of the response first."""
        roots = ([] if response is None else [response]) + list(terms.values())
        trees = [_parsed(root) for root in roots]
        whole = [i for i in self.kept if all(self.has(tree, i) for tree in trees)]
        # what is learned is learned from the learning rows of the matrix, from columns as the matrix has them
        learned = [i for i in whole if i in self.learning]
        if self.missing == "keep":
            return self.kept, self._cells(trees, self.kept)
        decided = dict(self.memory)
        while True:  # rows of a group or a category that was not seen are left out, and not learned from
            self.sample, self.memory = learned, dict(decided)
            columns = [column for tree in trees for column in self.columns(tree)]
            learned = [i for i in self.sample if _complete(columns, i)]
            if len(learned) == len(self.sample):
                break
        remaining = [i for i in whole if _complete(columns, i)]
        return remaining, [[_number(column(i)) for i in remaining] for column in columns]

    def _cells(self, trees: Sequence[ast.expr], rows: Sequence[int]) -> list[list[Cell]]:
        columns = [column for tree in trees for column in self.columns(tree)]
        return [[_number(column(i)) for i in rows] for column in columns]

    def has(self, tree: ast.expr, i: int) -> bool:
        """Return whether a term has a value in a row, where that can be told without an error.

        What an operation makes of its values does not matter for that, unless it takes some out.
        """
        try:
            return self._has(self._spread(tree), i)
        except Refused:
            return True

    def _has(self, tree: ast.expr, i: int) -> bool:
        name, options = _call(tree)
        if isinstance(tree, ast.List):
            return all(self.has(member, i) for member in tree.elts)
        if isinstance(tree, ast.BinOp):
            return self.has(tree.left, i) and self.has(tree.right, i)
        if isinstance(tree, ast.UnaryOp):
            return self.has(tree.operand, i)
        if isinstance(tree, ast.Compare) and len(tree.ops) == 1:
            return self.has(tree.left, i) and (
                isinstance(tree.ops[0], ast.In | ast.NotIn) or self.has(tree.comparators[0], i)
            )
        if isinstance(tree, ast.IfExp):
            test = self.value(tree.test, i)
            return test is not None and self.has(tree.body if test else tree.orelse, i)
        if isinstance(tree, ast.Name) and tree.id in self.derived:
            return self.has(self.derived[tree.id], i)
        if isinstance(tree, ast.Call):
            return self._call_has(tree, name, options, i)
        return self.value(tree, i) is not None

    def _call_has(self, tree: ast.Call, name: str, options: dict[str, Any], i: int) -> bool:
        if name in ("trend", "season", "is_missing", "periods_since", "cumulative_count", "place_in_unit"):
            return True
        if name == "impute" and (len(tree.args) < 2 or ast.literal_eval(tree.args[1]) in ("median", "mean", "mode")):
            return True
        if name in ("within", "share_of_group") or (name == "standardize" and _by(tree)):
            return self.has(tree.args[0], i) and all(self.has(each, i) for each in _by(tree))
        if name in STATISTICS:  # which is learned only once it is known which rows remain
            return all(self.has(each, i) for each in _by(tree))
        if name in ACROSS:
            items = [member for arg in tree.args for member in _members(self._spread(arg))]
            return sum(self.has(item, i) for item in items) >= _least(name, options, items)
        if name in ("lag", "lead") and len(tree.args) > 1:
            sign = -1 if name == "lag" else 1
            shifts = ast.literal_eval(tree.args[1])
            each = shifts if isinstance(shifts, list) else [shifts]
            return all(self._has_at(tree.args[0], i, sign * k) for k in each)
        if name in ("difference", "percent_change", "growth"):
            steps = [-options.get("step", 1) * n for n in range(options.get("order", 1) + 1)]
            return all(self._has_at(tree.args[0], i, k) for k in steps)
        if name in WINDOWS:
            offsets = self._offsets(name, tree, options)
            there = sum(self._has_at(tree.args[0], i, offset) for offset in offsets)
            return there >= max(options.get("at_least", len(offsets)), 2 if name == "moving_sd" else 1)
        if name == "moving_count":
            return True
        if name in ("moving_average", "moving_sum"):
            weights = self._weights(tree, options)
            there = sum(self._has_at(tree.args[0], i, k) for k in weights)
            return there >= options.get("at_least", len(weights))
        if name == "impute":
            how = ast.literal_eval(tree.args[1])
            return self.has(tree.args[0], i) or self._ends(tree.args[0], how, options.get("limit"), i) is not None
        if name == "category" and options.get("unseen") == "missing" and isinstance(options.get("order"), list):
            value = self.value(tree.args[0], i)
            return value in options["order"] if value is not None else options.get("missing") == "category"
        paired = name == "bins" and isinstance(options.get("edges", [0])[0], list)
        if name in ("category", "bins") and options.get("missing") == "category" and not paired:
            return True
        if name == "missing_if":
            return self.has(tree.args[0], i) and not self.value(tree.args[1], i)
        if name in PRESENCE and not paired and not (name == "log" and "nonpositive" in options):
            return self.has(tree.args[0], i)
        return self.value(tree, i) is not None

    def _has_at(self, x: ast.expr, i: int, offset: int) -> bool:
        row = self._row(x, i, offset)
        return row is not None and self.has(x, row)

    # columns

    def columns(self, tree: ast.expr) -> list[Column]:
        """Return the columns of a term."""
        tree = self._spread(tree)
        if isinstance(tree, ast.List):
            return [column for member in tree.elts for column in self.columns(member)]
        if isinstance(tree, ast.BinOp) and isinstance(tree.op, ast.Mult):
            left, right = self.columns(tree.left), self.columns(tree.right)
            return [_product(a, b, self.missing == "keep") for a in left for b in right]
        name, options = _call(tree)
        maker = getattr(self, f"_columns_{name}", None)
        if maker is not None:
            return maker(tree, options)  # type: ignore[no-any-return]
        if self.kind(tree) != "number":
            return self._columns_category(ast.Call(ast.Name("category"), [tree], []), {})
        return [lambda i: self.value(tree, i)]

    def _columns_lag(self, tree: ast.Call, options: dict[str, Any]) -> list[Column]:
        shifts = ast.literal_eval(tree.args[1])
        assert isinstance(tree.func, ast.Name)
        sign = -1 if tree.func.id == "lag" else 1
        if isinstance(shifts, int) and self.kind(tree.args[0]) != "number":
            return self._columns_category(ast.Call(ast.Name("category"), [tree], []), {})
        each = shifts if isinstance(shifts, list) else [shifts]
        return [lambda i, k=k: self._shifted(tree.args[0], i, sign * k) for k in each]  # type: ignore[misc]

    _columns_lead = _columns_lag

    def _columns_polynomial(self, tree: ast.Call, options: dict[str, Any]) -> list[Column]:
        x, degree = tree.args[0], ast.literal_eval(tree.args[1])
        if options.get("orthogonal"):
            return self._orthogonal(x, degree)
        about = self._learned("mean", x, by="polynomial") if options.get("center") else 0.0
        return [lambda i, d=d: _apply(lambda v: (v - about) ** d, self.value(x, i)) for d in range(1, degree + 1)]  # type: ignore[misc]

    def _orthogonal(self, x: ast.expr, degree: int) -> list[Column]:
        """Return powers made orthogonal to the lower ones one after the other, each with mean square 1."""
        sample = self._sample(x)
        if len(set(sample)) <= degree:
            raise Refused("too few distinct values")
        center = statistics.fmean(sample)
        scale = max(abs(v - center) for v in sample) or 1.0
        at = [Fraction((v - center) / scale) for v in sample]
        basis: list[list[Fraction]] = [[Fraction(1)]]
        for d in range(1, degree + 1):
            raw = [Fraction(0)] * d + [Fraction(1)]
            for lower in basis:
                inner = sum(_at(raw, v) * _at(lower, v) for v in at) / sum(_at(lower, v) ** 2 for v in at)
                raw = [a - inner * b for a, b in zip(raw, [*lower, *[Fraction(0)] * len(raw)], strict=False)]
            basis.append(raw)
        sizes = [math.sqrt(sum(_at(b, v) ** 2 for v in at) / len(at)) for b in basis]

        def column(i: int, d: int) -> Cell:
            value = self.value(x, i)
            return None if value is None else float(_at(basis[d], Fraction((value - center) / scale))) / sizes[d]

        return [lambda i, d=d: column(i, d) for d in range(1, degree + 1)]  # type: ignore[misc]

    def _columns_hinge(self, tree: ast.Call, options: dict[str, Any]) -> list[Column]:
        x = tree.args[0]
        beyond = [lambda i, k=k: _apply(lambda v: max(float(v) - k, 0.0), self.value(x, i)) for k in options["at"]]
        return [lambda i: self.value(x, i), *beyond]

    def _columns_spline(self, tree: ast.Call, options: dict[str, Any]) -> list[Column]:
        x, degree, key = tree.args[0], options.get("degree", 3), ("knots", ast.dump(tree))
        if "knots" not in options and key not in self.memory:
            sample, pieces = sorted(self._sample(x)), options.get("pieces", 4)
            if not sample:
                raise Refused("nothing to learn from")
            self.memory[key] = [_quantile(sample, at / pieces) for at in range(pieces + 1)]
            if len(set(self.memory[key])) <= pieces:
                raise Refused("too few distinct values")
        knots = options.get("knots") or self.memory[key]
        if options.get("natural"):
            return self._natural(x, knots)

        def value(i: int, n: int) -> Cell:
            v = self.value(x, i)
            if v is None:
                return None
            end = min(max(v, knots[0]), knots[-1])
            inside = _spline(end, knots, degree, n)
            if v == end or options.get("beyond") == "constant":
                return float(inside)
            step = Fraction(1 if end == knots[0] else -1, 2**80)  # which a slope is taken by
            slope = (_spline(Fraction(end) + step, knots, degree, n) - inside) / step
            return float(inside + (Fraction(v) - Fraction(end)) * slope)

        return [lambda i, n=n: value(i, n) for n in range(1, len(knots) - 1 + degree)]  # type: ignore[misc]

    def _value_basis_spline(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        n, knots = ast.literal_eval(tree.args[1]), ast.literal_eval(tree.args[2])
        every = ast.Call(tree.func, tree.args[:1], [ast.keyword("knots", ast.parse(repr(knots), mode="eval").body)])
        every.keywords += [word for word in tree.keywords if word.arg != "knots"]
        return _apply(lambda v: float(v), self._columns_spline(every, options | {"knots": knots})[n - 2](i))

    def _natural(self, x: ast.expr, knots: list[float]) -> list[Column]:
        def bend(v: float, k: int) -> float:
            cubes = [max(v - end, 0.0) ** 3 for end in (knots[k], knots[-1])]
            return (cubes[0] - cubes[1]) / (knots[-1] - knots[k]) / (knots[-1] - knots[0]) ** 2

        last = len(knots) - 2
        curves = [
            lambda i, k=k: _apply(lambda v: bend(float(v), k) - bend(float(v), last), self.value(x, i))
            for k in range(last)
        ]
        return [lambda i: self.value(x, i), *curves]

    def _columns_waves(self, tree: ast.Call, options: dict[str, Any]) -> list[Column]:
        pairs = [(f, n) for n in range(1, options.get("pairs", 1) + 1) for f in (math.sin, math.cos)]
        turn = 2 * math.pi / options["period"]
        return [lambda i, f=f, n=n: _apply(lambda v: f(turn * n * v), self.value(tree.args[0], i)) for f, n in pairs]  # type: ignore[misc]

    def _columns_trend(self, tree: ast.Call, options: dict[str, Any]) -> list[Column]:
        degree = options.get("degree", 1)
        if not self.sample:
            raise Refused("nothing to learn from")
        first = min(self.period[i] for i in self.sample)
        return [lambda i, d=d: float(self.period_of(i) - first) ** d for d in range(1, degree + 1)]  # type: ignore[misc]

    def _columns_season(self, tree: ast.Call, options: dict[str, Any]) -> list[Column]:
        part = ast.literal_eval(tree.args[0])
        labels = MONTHS if part == "month" else QUARTERS
        coding = options.get("coding", "reference")
        code = lambda i: labels.index(self._part(self.period_of(i), part))  # noqa: E731
        if coding == "waves":
            pairs = [(f, n) for n in range(1, options.get("pairs", 1) + 1) for f in (math.sin, math.cos)]
            pairs = [(f, n) for f, n in pairs if not (f is math.sin and 2 * n == len(labels))]
            return [lambda i, f=f, n=n: f(2 * math.pi * n / len(labels) * code(i)) for f, n in pairs]  # type: ignore[misc]
        reference = options.get("reference", labels[0])
        return _coded(lambda i: code(i), len(labels), coding, labels.index(reference))

    def _columns_category(self, tree: ast.Call, options: dict[str, Any]) -> list[Column]:
        order, place = self._order(tree.args[0], options)
        coding = options.get("coding", "reference")
        reference = 0
        if len(order) < 2 and coding not in ("every", "score"):
            raise Refused("one category")
        if coding in ("reference", "effect"):
            reference = self._reference(tree.args[0], options, order)
        return _coded(place, len(order), coding, reference)

    def _reference(self, x: ast.expr, options: dict[str, Any], order: list[Any]) -> int:
        wanted = options.get("reference")
        if wanted is None:
            return next(at for at, label in enumerate(order) if label is not None)
        if wanted in [label for label in order if label is not None]:
            if wanted != "other" and not any(self.value(x, i) == wanted for i in self.sample):
                raise Refused("no row has the reference")
            return order.index(wanted)
        labels = [label for label in order if label is not None]
        if type(wanted) is int and -len(labels) <= wanted < len(labels):
            return order.index(labels[wanted])
        raise Refused("no such reference")

    def _order(self, x: ast.expr, options: dict[str, Any]) -> tuple[list[Any], Callable[[int], int | None]]:
        """Return the categories in their order (None stands for missing values), and each row's place."""
        with_missing = options.get("missing") == "category"
        unseen = options.get("unseen", "fail")
        key = ("order", ast.dump(x), repr(options))
        if key not in self.memory:
            counts = Counter(self.value(x, i) for i in self.sample)
            absent = counts.pop(None, 0)
            self.memory[key] = self._categories(x, counts, absent if with_missing else 0, options)
        order, pooled = self.memory[key]

        def place(i: int) -> int | None:
            label = self.value(x, i)
            if label is None and not with_missing:
                return None
            if label in order:
                return int(order.index(label))
            if label in pooled or (unseen == "pool" and pooled):
                return len(order) - 1
            if unseen == "missing":
                return None
            raise Refused(f"{label} is not among the categories")

        return order, place

    def _categories(
        self, x: ast.expr, counts: Counter[Any], absent: int, options: dict[str, Any]
    ) -> tuple[list[Any], list[Any]]:
        known, given = self._known_order(x), options.get("order", "sorted")
        if known and options.get("coding") == "score" and given == "sorted" and self.sample:
            return list(known), []  # a score is the place in the declared order, whichever categories occur
        if not counts and not absent:
            raise Refused("nothing to learn from")
        if isinstance(given, list):
            if options.get("unseen", "fail") == "fail" and set(counts) - set(given):
                raise Refused("a category outside the order")
            return given, []
        order = [label for label in known if label in counts] if known else sorted(counts)
        if known is None and len(counts) == sum(counts.values()) > 2:
            raise Refused("as many categories as rows")
        if given == "frequency":
            order = sorted(sorted(counts), key=lambda label: -counts[label])
        pool, pooled = options.get("pool"), []
        if pool is not None:
            least = pool * (sum(counts.values()) + absent) if pool < 1 else pool
            pooled = [label for label in order if counts[label] < least]
        order = [label for label in order if label not in pooled]
        return [*order, *([None] if absent else []), *(["other"] if pooled else [])], pooled

    def _known_order(self, x: ast.expr) -> Sequence[Any] | None:
        """Return the order of an ordered category, or None for others."""
        name, options = _call(x)
        if isinstance(x, ast.Name):
            return self._known_order(self.derived[x.id]) if x.id in self.derived else self.orders.get(x.id)
        if name == "bins":
            assert isinstance(x, ast.Call)
            edges, paired = self._edges(x, options)
            size = len(edges) + (not paired)
            return [*range(size), *(["missing"] if options.get("missing") == "category" else [])]
        if name == "part":
            assert isinstance(x, ast.Call)
            return {"month": MONTHS, "quarter": QUARTERS}.get(ast.literal_eval(x.args[1]))
        if name in ("missing_if", "impute", "lag", "lead"):
            assert isinstance(x, ast.Call)
            return self._known_order(x.args[0])
        return None

    # kinds and lists

    def kind(self, tree: ast.expr) -> str:
        """Return whether an expression is a number (or a truth value), a category or a time."""
        name, _ = _call(tree)
        if isinstance(tree, ast.Name):
            if tree.id in self.derived:
                return self.kind(self.derived[tree.id])
            if tree.id == "month":
                return "time"
            found = [row[tree.id] for row in self.rows if row[tree.id] is not None]
            return "category" if found and isinstance(found[0], str) else "number"
        if name in ("regroup", "bins"):
            return "category"
        if name == "part":
            assert isinstance(tree, ast.Call)
            return "number" if ast.literal_eval(tree.args[1]) in ("year", "day") else "category"
        if name in ("missing_if", "impute", "lag", "lead"):
            assert isinstance(tree, ast.Call)
            return self.kind(tree.args[0])
        if name in ("lower", "trim", "replaced", "text_part", "piece", "joined", "crossed"):
            return "category"
        if name == "first_present":
            assert isinstance(tree, ast.Call)
            return self.kind(tree.args[0])
        if name == "cases":
            assert isinstance(tree, ast.Call)
            return self.kind(tree.args[1])
        if name == "lookup":
            assert isinstance(tree, ast.Call)
            return "category" if any(isinstance(_literal(v), str) for v in tree.args[1].values) else "number"  # type: ignore[attr-defined]
        if isinstance(tree, ast.IfExp):
            return self.kind(tree.body)
        return "category" if isinstance(tree, ast.Constant) and isinstance(tree.value, str) else "number"

    def _spread(self, tree: ast.expr) -> ast.expr:
        """Take an operation with a list, or a choice of variables, in first place to its members."""
        name, options = _call(tree)
        if name == "matching":
            assert isinstance(tree, ast.Call)
            but = options.get("but", [])
            names = [n for n in self.rows[0] if fnmatch.fnmatchcase(n, ast.literal_eval(tree.args[0]))]
            return ast.List([ast.Name(n) for n in names if n not in (*but, *self.reserved)])
        if isinstance(tree, ast.Call) and tree.args and name not in GATHERING and isinstance(tree.args[0], ast.List):
            if name == "lookup":
                return tree
            return ast.List(
                [ast.Call(tree.func, [member, *tree.args[1:]], tree.keywords) for member in tree.args[0].elts]
            )
        if isinstance(tree, ast.BinOp) and not isinstance(tree.op, ast.Mult) and isinstance(tree.left, ast.List):
            return ast.List([ast.BinOp(member, tree.op, tree.right) for member in tree.left.elts])
        return tree

    # values

    def value(self, tree: ast.expr, i: int) -> Cell:
        """Return the value of an expression in a row."""
        work = getattr(self, "_value_" + type(tree).__name__.lower())
        found = work(tree, i)
        if isinstance(found, float) and not math.isfinite(found):
            raise Refused("not finite")
        return found

    def _value_constant(self, tree: ast.Constant, i: int) -> Cell:
        return tree.value

    def _value_name(self, tree: ast.Name, i: int) -> Cell:
        if tree.id == "missing":
            return None
        if tree.id in self.derived:
            return self.value(self.derived[tree.id], i)
        if isinstance(i, tuple):
            return self.period_of(i) if tree.id == "month" else self.unit_of(i)
        return self.rows[i][tree.id]

    def _value_unaryop(self, tree: ast.UnaryOp, i: int) -> Cell:
        return _apply(lambda v: not v if isinstance(tree.op, ast.Not) else -v, self.value(tree.operand, i))

    def _value_binop(self, tree: ast.BinOp, i: int) -> Cell:
        a, b = self.value(tree.left, i), self.value(tree.right, i)
        if a is None or b is None:
            return None
        try:
            works: dict[type[ast.operator], Callable[[], Any]] = {
                ast.Add: lambda: float(a) + b, ast.Sub: lambda: float(a) - b, ast.Mult: lambda: float(a) * b,
                ast.Div: lambda: float(a) / b, ast.Pow: lambda: float(a) ** b,
            }  # fmt: skip
            found = works[type(tree.op)]()
        except (ZeroDivisionError, OverflowError):
            raise Refused("not finite") from None
        if isinstance(found, complex):
            raise Refused("not a number")
        return found

    def _value_boolop(self, tree: ast.BoolOp, i: int) -> Cell:
        values = [self.value(value, i) for value in tree.values]
        settles = isinstance(tree.op, ast.Or)
        if any(v is not None and bool(v) == settles for v in values):
            return settles
        return None if None in values else not settles

    def _value_ifexp(self, tree: ast.IfExp, i: int) -> Cell:
        condition = self.value(tree.test, i)
        return None if condition is None else self.value(tree.body if condition else tree.orelse, i)

    def _value_compare(self, tree: ast.Compare, i: int) -> Cell:
        if isinstance(tree.ops[0], ast.In | ast.NotIn):
            a = self.value(tree.left, i)
            members = [ast.literal_eval(member) for member in tree.comparators[0].elts]  # type: ignore[attr-defined]
            return None if a is None else (a in members) == isinstance(tree.ops[0], ast.In)
        sides = [tree.left, *tree.comparators]
        pairs = [self._pair(a, op, b, i) for a, op, b in zip(sides, tree.ops, sides[1:], strict=False)]
        return False if False in pairs else None if None in pairs else True

    def _pair(self, left: ast.expr, op: ast.cmpop, right: ast.expr, i: int) -> Cell:
        a, b = self.value(left, i), self.value(right, i)
        if a is None or b is None:
            return None
        order = self._known_order(left)
        if isinstance(left, ast.Name) and left.id == "month":
            b = 12 * (int(b[:4]) - 1970) + int(b[5:7]) - 1
        elif order and isinstance(b, str) and isinstance(order[0], int):
            edges = self._edges(left, _call(left)[1])[0]  # type: ignore[arg-type]
            middle = [f"{low} to {high}" for low, high in pairwise(edges)]
            b = [f"under {edges[0]}", *middle, f"from {edges[-1]}"].index(b)
        elif order and isinstance(b, str):
            a, b = list(order).index(a), list(order).index(b)
        works: dict[type[ast.cmpop], Callable[[], bool]] = {
            ast.Lt: lambda: a < b, ast.LtE: lambda: a <= b, ast.Gt: lambda: a > b, ast.GtE: lambda: a >= b,
            ast.Eq: lambda: a == b, ast.NotEq: lambda: a != b,
        }  # fmt: skip
        return works[type(op)]()

    def _value_call(self, tree: ast.Call, i: int) -> Cell:
        name, options = _call(tree)
        if name in STATISTICS:
            return self._statistic(name, tree, i)
        if name in ACROSS:
            return self._across(name, tree, options, i)
        if name in WINDOWS or name == "moving_count":
            return self._moving_figure(name, tree, options, i)
        if name.startswith("cumulative_"):
            return self._cumulative(tree, name.removeprefix("cumulative_"), i)
        if name in TEXTS:
            literals = [ast.literal_eval(arg) for arg in tree.args[1:]]
            return _apply(lambda v: TEXTS[name](_text(v), *literals, **options), self.value(tree.args[0], i))
        if name in ELEMENTWISE:
            try:
                return _apply(lambda v: float(ELEMENTWISE[name](v)), self.value(tree.args[0], i))
            except (ValueError, ZeroDivisionError, OverflowError):
                raise Refused(f"{name} is not defined") from None
        return getattr(self, f"_value_{name}")(tree, options, i)

    def _value_log(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        x = self.value(tree.args[0], i)
        x = None if x is None else x + options.get("shift", 0)
        if x is not None and x <= 0:
            if options.get("nonpositive") == "missing":
                return None
            raise Refused("log of nothing positive")
        bases = {None: math.log, 2: math.log2, 10: math.log10}
        base = options.get("base")
        return None if x is None else bases[base](x) if base in bases else math.log(x) / math.log(base)

    def _value_rounded(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return _apply(lambda v: _on_grid(v, options.get("to", 1), nearest=True), self.value(tree.args[0], i))

    def _value_floor_to(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return _apply(lambda v: _on_grid(v, options.get("to", 1), nearest=False), self.value(tree.args[0], i))

    def _value_remainder(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return _apply(lambda v: float(v) % ast.literal_eval(tree.args[1]), self.value(tree.args[0], i))

    def _value_between(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        x, low, high = tree.args
        sides = [self._pair(x, ast.GtE(), low, i), self._pair(x, ast.LtE(), high, i)]
        return False if False in sides else None if None in sides else True

    def _value_any_of(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return self._value_boolop(ast.BoolOp(ast.Or(), self._items(tree)), i)

    def _value_all_of(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return self._value_boolop(ast.BoolOp(ast.And(), self._items(tree)), i)

    def _value_first_present(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return next((found for item in self._items(tree) if (found := self.value(item, i)) is not None), None)

    def _value_cases(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        branches = tree.args[0]
        assert isinstance(branches, ast.Dict)
        for condition, value in zip(branches.keys, branches.values, strict=True):
            holds = self.value(condition, i)  # type: ignore[arg-type]
            if holds is None or holds:
                return None if holds is None else self.value(value, i)
        return self.value(tree.args[1], i)

    def _value_joined(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        texts = [self.value(item, i) for item in self._items(tree)]
        return None if None in texts else options.get("by", " ").join(map(_text, texts))

    def _value_crossed(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        texts = [self.value(item, i) for item in self._items(tree)]
        return None if None in texts else " & ".join(map(_text, texts))

    def _so_far(self, tree: ast.Call, i: int) -> list[int]:
        """Return the rows of a unit up to a row, from the last on at which the operation begins anew."""
        rows = [row for period, row in sorted(self.places[self.unit_of(i)].items()) if period <= self.period_of(i)]
        since = next((word.value for word in tree.keywords if word.arg == "since"), None)
        if isinstance(since, ast.Constant):
            long = {"year": 12, "quarter": 3, "month": 1}[since.value]
            return [row for row in rows if self.period_of(row) // long == self.period_of(i) // long]
        begins = [at for at, row in enumerate(rows) if since is not None and self.value(since, row)]
        return rows[max(begins, default=0) :]

    @staticmethod
    def _offsets(name: str, tree: ast.Call, options: dict[str, Any]) -> range:
        long = ast.literal_eval(tree.args[2 if name == "moving_quantile" else 1])
        return range(-(long // 2), long // 2 + 1) if options.get("align") == "centre" else range(1 - long, 1)

    def _moving_figure(self, name: str, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        share, offsets = ast.literal_eval(tree.args[1]), self._offsets(name, tree, options)
        found = [self._shifted(tree.args[0], i, offset) for offset in offsets]
        there = [float(v) for v in found if v is not None]
        if name == "moving_count":
            return float(len([v for v in found if v is not None]))
        least = max(options.get("at_least", len(found)), 2 if name == "moving_sd" else 1)
        return WINDOWS[name](there, share) if len(there) >= least else None

    def _value_growth(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        now, before = (self._shifted(tree.args[0], i, -step) for step in (0, options.get("step", 1)))
        if now is None or before is None:
            return None
        if min(now, before) <= 0:
            raise Refused("no growth of nothing")
        return math.log(now) - math.log(before) if options.get("kind") == "log" else 100 * (now - before) / before

    def _value_share_of_group(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        x, total = self.value(tree.args[0], i), self._statistic("total", tree, i)
        return None if x is None or total is None else x / total

    def _value_frequency_of(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        x = self.value(tree.args[0], i)
        counts = Counter(value for row in self.sample if (value := self.value(tree.args[0], row)) is not None)
        if not counts:
            raise Refused("nothing to learn from")
        if x is None or x not in counts:
            return None
        return counts[x] / sum(counts.values()) if options.get("share") else float(counts[x])

    def _cumulative(self, tree: ast.Call, name: str, i: int) -> Cell:
        there = [v for row in self._so_far(tree, i) if (v := self.value(tree.args[0], row)) is not None]
        if name == "count":
            return float(len(there))
        works = {"sum": sum, "mean": statistics.fmean, "largest": max, "smallest": min}
        return None if self.value(tree.args[0], i) is None else float(works[name](map(float, there)))

    def _value_exponential_average(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        rows = self._so_far(tree, i)
        weights = [0.5 ** ((len(rows) - 1 - at) / options["half_life"]) for at in range(len(rows))]
        values = [self.value(tree.args[0], row) for row in rows]
        pairs = [(w, v) for w, v in zip(weights, values, strict=True) if v is not None]
        return None if values[-1] is None else sum(w * v for w, v in pairs) / sum(w for w, _ in pairs)

    def _value_periods_since_last(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        held = [self.period_of(row) for row in self._so_far(tree, i) if self.value(tree.args[0], row)]
        return float(self.period_of(i) - held[-1]) if held else None

    def _value_place_in_unit(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return float(len(self._so_far(tree, i)))

    def _items(self, tree: ast.Call) -> list[ast.expr]:
        return [member for arg in tree.args for member in _members(self._spread(arg))]

    def _value_clip(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        low, high = options.get("low", -math.inf), options.get("high", math.inf)
        return _apply(lambda v: float(min(max(v, low), high)), self.value(tree.args[0], i))

    def _value_center(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        about = options["at"] if "at" in options else self._learned("mean", tree.args[0], by="center")
        return _apply(lambda v: v - about, self.value(tree.args[0], i))

    def _value_standardize(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        if any(word.arg == "by" for word in tree.keywords):
            x, mean, sd = self.value(tree.args[0], i), self._statistic("mean", tree, i), self._statistic("sd", tree, i)
            if None in (x, mean, sd):
                return None
            if not sd:
                raise Refused("constant")
            return (x - mean) / sd
        about = options["at"] if "at" in options else self._learned("mean", tree.args[0], by="standardize")
        scale = options["scale"] if "scale" in options else self._learned("sd", tree.args[0], by="standardize")
        if not scale:
            raise Refused("constant")
        return _apply(lambda v: (v - about) / scale, self.value(tree.args[0], i))

    def _value_winsorize(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        low, high = options.get("at") or [
            self._learned("quantile", tree.args[0], s, by="winsorize") for s in options.get("shares", [0.01, 0.99])
        ]
        return _apply(lambda v: float(min(max(v, low), high)), self.value(tree.args[0], i))

    def _value_reverse(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        x, low, high = self.value(tree.args[0], i), ast.literal_eval(tree.args[1]), ast.literal_eval(tree.args[2])
        if x is not None and not low <= x <= high:
            raise Refused("outside the scale")
        return _apply(lambda v: float(low + high - v), x)

    def _value_is_missing(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return self.value(tree.args[0], i) is None

    def _value_missing_if(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        x = self.value(tree.args[0], i)
        return None if self.value(tree.args[1], i) else x

    def _value_regroup(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        x = self.value(tree.args[0], i)
        known = {old: new for new, olds in ast.literal_eval(tree.args[1]).items() for old in olds}
        return None if x is None else known.get(x, options.get("rest", x))

    def _value_lookup(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        first = tree.args[0]
        keys = first.elts if isinstance(first, ast.List) else [first]
        found = tuple(self.value(key, i) for key in keys)
        table = {_literal(k): _literal(v) for k, v in zip(tree.args[1].keys, tree.args[1].values, strict=True)}  # type: ignore[attr-defined]
        otherwise = _literal(tree.args[2]) if len(tree.args) > 2 else None
        return table.get(found if len(found) > 1 else found[0], otherwise)

    def _value_codes(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return _apply(float, self._order(tree.args[0], options)[1](i))

    def _value_score(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return _apply(lambda at: float(at + 1), self._order(tree.args[0], options | {"coding": "score"})[1](i))

    def _value_part(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return _apply(lambda p: self._part(p, ast.literal_eval(tree.args[1])), self.value(tree.args[0], i))

    @staticmethod
    def _part(period: int, part: str) -> Cell:
        if part == "year":
            return float(1970 + period // 12)
        return MONTHS[period % 12] if part == "month" else QUARTERS[period % 12 // 3]

    def _value_periods_since(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        date = ast.literal_eval(tree.args[0])
        return float(self.period_of(i) - (12 * (int(date[:4]) - 1970) + int(date[5:7]) - 1))

    # bins

    def _value_bins(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        edges, paired = self._edges(tree, options)
        x, closed = self.value(tree.args[0], i), options.get("closed", "left")
        if x is None:
            return "missing" if options.get("missing") == "category" else None
        if not paired:
            return sum(x >= edge if closed == "left" else x > edge for edge in edges)
        for at, (low, high) in enumerate(edges):
            above = x > low or (x == low and (at == 0 or edges[at - 1][1] != low or closed == "left"))
            below = x < high or (x == high and (at + 1 == len(edges) or edges[at + 1][0] != high or closed == "right"))
            if above and below:
                return at
        return None

    def _edges(self, tree: ast.Call, options: dict[str, Any]) -> tuple[list[Any], bool]:
        if "edges" in options:
            return options["edges"], isinstance(options["edges"][0], list)
        key = ("edges", ast.dump(tree))
        if key not in self.memory:
            sample = sorted(self._sample(tree.args[0]))
            if not sample:
                raise Refused("nothing to learn from")
            self.memory[key] = self._cut(sample, options)
        return self.memory[key], False

    @staticmethod
    def _cut(sample: list[float], options: dict[str, Any]) -> list[float]:
        low, high, closed = sample[0], sample[-1], options.get("closed", "left")
        if "width" in options:
            width = Fraction(str(options["width"]))
            edges = [
                float(width * n)
                for n in range(math.floor(Fraction(low) / width), math.floor(Fraction(high) / width) + 2)
            ]
            edges = [e for e in edges if (low < e <= high if closed == "left" else low <= e < high)]
            wanted = 1
        elif "count" in options:
            n = options["count"]
            edges = sorted({float(Fraction(low) + (Fraction(high) - Fraction(low)) * k / n) for k in range(1, n)})
            edges, wanted = [e for e in edges if low < e < high], n - 1
        else:
            n, size = options["quantiles"], len(sample)
            places = [c for c in range(1, size) if sample[c - 1] != sample[c]]
            found = set()
            for k in range(1, n):
                share = Fraction(k * size, n)
                rounded = math.floor(share + Fraction(1, 2))
                if places and 0 < rounded < size:
                    near = [c for c in places if c <= rounded][-1:] + [c for c in places if c >= rounded][:1]
                    found.add(rounded if rounded in places else min(near, key=lambda c: abs(share - c)))
            edges, wanted = sorted((sample[c - 1] + sample[c]) / 2 for c in found), n - 1
        if len(edges) < wanted:
            raise Refused("so many bins are not possible")
        return edges

    # statistics and imputed values

    def _sample(self, x: ast.expr) -> list[float]:
        """Return the values from which a statistic is learned: of the rows learned from, those that are there."""
        found = (self.value(x, i) for i in self.sample)
        return [float(value) for value in found if value is not None]

    def _learned(self, name: str, x: ast.expr, share: float | None = None, by: str = "") -> float:
        """Return a number that an operation learns: what decides which rows remain learns before others do."""
        key = (name, ast.dump(x), share, by)
        if key not in self.memory:
            values = [v for i in self.sample if (v := self.value(x, i)) is not None]
            self.memory[key] = _summary(name, values if name in ("count", "distinct") else self._sample(x), share)
        return float(self.memory[key])

    def _statistic(self, name: str, tree: ast.Call, i: int) -> Cell:
        x = tree.args[0]
        share = ast.literal_eval(tree.args[1]) if name == "quantile" else None
        by = _by(tree)
        if not by:
            return self._learned(name, x, share)
        key = (name, ast.dump(tree))
        if key not in self.memory:
            groups = self._groups(x, by)
            if not groups:
                raise Refused("nothing to learn from")
            self.memory[key] = {group: _summary(name, found, share) for group, found in groups.items()}
        group = tuple(self.value(each, i) for each in by)
        return None if None in group else self.memory[key].get(group)

    def _value_within(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        if any(word.arg == "and_by" for word in tree.keywords):
            raise Refused("two groupings")
        x, mean = self.value(tree.args[0], i), self._statistic("mean", tree, i)
        return None if x is None or mean is None else x - mean

    def _groups(self, x: ast.expr, by: Sequence[ast.expr]) -> dict[tuple[Any, ...], list[Any]]:
        groups: dict[tuple[Any, ...], list[Any]] = {}
        for i in self.sample:
            value, group = self.value(x, i), tuple(self.value(each, i) for each in by)
            if value is not None and None not in group:
                groups.setdefault(group, []).append(value)
        return groups

    def _value_impute(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        x = self.value(tree.args[0], i)
        how = ast.literal_eval(tree.args[1]) if len(tree.args) > 1 else None
        if how in ("previous", "next", "linear"):
            return self._neighbours(tree.args[0], how, options.get("limit"), i) if x is None else x
        fills = self._fills(tree, how, options)
        if x is not None:
            return x
        by = _by(tree)
        return fills.get(tuple(self.value(each, i) for each in by), fills[None])

    def _fills(self, tree: ast.Call, how: str | None, options: dict[str, Any]) -> dict[Any, Any]:
        """Return what is put in for each group, and under None for others."""
        if how is None:
            return {None: options["value"]}
        key = ("fills", ast.dump(tree))
        if key not in self.memory:
            x = tree.args[0]
            by = _by(tree)
            whole = [v for group in self._groups(x, []).values() for v in group]
            order = self._known_order(x)
            found: dict[Any, Any] = {None: _filling(how, whole, order)}
            if by:
                found |= {group: _filling(how, values, order) for group, values in self._groups(x, by).items()}
                seen = {tuple(self.value(each, i) for each in by) for i in self.sample}
                if how != "mode" and any(None not in group and group not in found for group in seen):
                    raise Refused("a group in which it is missing")
            self.memory[key] = found
        return self.memory[key]  # type: ignore[no-any-return]

    # along time

    def _row(self, x: ast.expr, i: Any, offset: int) -> Any:
        """Return the row so many periods later; without one the period itself, where x needs no row there."""
        place = self.unit_of(i), self.period_of(i) + offset
        return self.at.get(place, place if self._stands_alone(x) else None)

    def unit_of(self, i: Any) -> Any:
        return i[0] if isinstance(i, tuple) else self.unit[i]

    def period_of(self, i: Any) -> int:
        return i[1] if isinstance(i, tuple) else self.period[i]

    def _stands_alone(self, x: ast.expr) -> bool:
        """Return whether an expression reads other periods, the calendar and the unit alone, and no cell of its row."""
        if isinstance(x, ast.Name):
            if x.id in self.derived:
                return self._stands_alone(self.derived[x.id])
            return x.id in ("month", "hut")
        name, _ = _call(x)
        if name in ("lag", "lead", "difference", "percent_change", "growth") or name.startswith("moving_"):
            return True
        if name.startswith("cumulative_") or name in ("exponential_average", "periods_since_last", "place_in_unit"):
            return False
        if name == "impute" and ast.literal_eval(x.args[1]) in ("previous", "next", "linear"):  # type: ignore[attr-defined]
            return False
        parts = [child for child in ast.iter_child_nodes(x) if isinstance(child, ast.expr)]
        if isinstance(x, ast.Call):
            of_groups = _by(x)
            parts = of_groups if name in STATISTICS else [*x.args, *of_groups]
        return all(self._stands_alone(part) for part in parts)

    def _shifted(self, x: ast.expr, i: Any, offset: int) -> Cell:
        row = self._row(x, i, offset)
        return None if row is None else self.value(x, row)

    def _value_lag(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return self._shifted(tree.args[0], i, -ast.literal_eval(tree.args[1]))

    def _value_lead(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        return self._shifted(tree.args[0], i, ast.literal_eval(tree.args[1]))

    def _value_difference(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        order, step = options.get("order", 1), options.get("step", 1)
        values = [self._shifted(tree.args[0], i, -step * number) for number in range(order + 1)]
        if None in values:
            return None
        while len(values) > 1:
            values = [float(now) - then for now, then in pairwise(values)]
        return values[0]

    def _value_percent_change(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        now, then = self._shifted(tree.args[0], i, 0), self._shifted(tree.args[0], i, -options.get("step", 1))
        if now is None or then is None:
            return None
        if then == 0:
            raise Refused("nothing to be a percent of")
        return 100 * (now - then) / then

    @staticmethod
    def _weights(tree: ast.Call, options: dict[str, Any]) -> dict[int, float]:
        window = ast.literal_eval(tree.args[1])
        if options.get("align") != "centre":
            return dict.fromkeys(range(1 - window, 1), 1.0)
        half = window // 2
        return {o: 0.5 if window % 2 == 0 and abs(o) == half else 1.0 for o in range(-half, half + 1)}

    def _window(self, tree: ast.Call, options: dict[str, Any], i: int) -> list[tuple[float, float]] | None:
        weights = self._weights(tree, options)
        found = [(w, v) for o, w in weights.items() if (v := self._shifted(tree.args[0], i, o)) is not None]
        return found if len(found) >= options.get("at_least", len(weights)) else None

    def _value_moving_average(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        found = self._window(tree, options, i)
        return None if found is None else sum(w * v for w, v in found) / sum(w for w, _ in found)

    def _value_moving_sum(self, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        found = self._window(tree, options, i)
        return None if found is None else float(sum(w * v for w, v in found))

    def _ends(self, x: ast.expr, how: str, limit: int | None, i: int) -> list[tuple[int, int]] | None:
        """Return the periods and rows that a run of missing values is filled from, or None where it is not."""
        own = [*self.places[self.unit[i]].items()]
        known = [(p, j) for p, j in own if self.has(x, j)]
        at = self.period[i]
        before = max((pair for pair in known if pair[0] < at), default=None)
        after = min((pair for pair in known if pair[0] > at), default=None)
        start = before[0] if before else min(p for p, _ in own) - 1
        end = after[0] if after else max(p for p, _ in own) + 1
        chosen = {"previous": [before], "next": [after]}.get(how, [before, after])
        if None in chosen or (limit is not None and end - start - 1 > limit):
            return None
        return [pair for pair in chosen if pair is not None]

    def _neighbours(self, x: ast.expr, how: str, limit: int | None, i: int) -> Cell:
        ends = self._ends(x, how, limit, i)
        if ends is None:
            return None
        values = [self.value(x, j) for _, j in ends]
        if how != "linear" or None in values:
            return values[0]
        (start, _), (end, _) = ends
        return values[0] + (values[1] - values[0]) * (self.period[i] - start) / (end - start)

    def _across(self, name: str, tree: ast.Call, options: dict[str, Any], i: int) -> Cell:
        items = [member for arg in tree.args for member in _members(self._spread(arg))]
        found = [float(v) for item in items if (v := self.value(item, i)) is not None]
        least = _least(name, options, items)
        return float(ACROSS[name](found)) if len(found) >= least else None


def _complete(columns: Sequence[Column], i: int) -> bool:
    """Return whether all columns have a value in a row; one that is left out anyway cannot fail."""
    failed = None
    for column in columns:
        try:
            if column(i) is None:
                return False
        except Refused as refused:
            failed = refused
    if failed is not None:
        raise failed
    return True


def value_of(text: str, row: dict[str, Cell], orders: dict[str, Sequence[str]] | None = None) -> Cell:
    """Return the value of an expression in a row by itself."""
    return Interpreter([row], orders or {}, {}, [0], [0]).value(_parsed(text), 0)


def _by(tree: ast.Call) -> list[ast.expr]:
    return next((word.value.elts for word in tree.keywords if word.arg == "by"), [])  # type: ignore[attr-defined]


def _least(name: str, options: dict[str, Any], items: Sequence[ast.expr]) -> int:
    return max(options.get("at_least", len(items)), 2 if name == "spread_of" else 1)


def _parsed(text: str) -> ast.expr:
    return ast.parse(text, mode="eval").body


def _literal(tree: ast.expr) -> Any:
    return None if isinstance(tree, ast.Name) else ast.literal_eval(tree)


def _members(tree: ast.expr) -> Iterable[ast.expr]:
    return tree.elts if isinstance(tree, ast.List) else [tree]


def _call(tree: ast.expr) -> tuple[str, dict[str, Any]]:
    """Return the name and the literal options of a call; of anything else, nothing."""
    if not isinstance(tree, ast.Call) or not isinstance(tree.func, ast.Name):
        return "", {}
    options = {}
    for word in tree.keywords:
        if word.arg == "but":
            options["but"] = [m.id if isinstance(m, ast.Name) else ast.literal_eval(m) for m in word.value.elts]  # type: ignore[attr-defined]
        elif word.arg not in ("by", "since", None):
            options[word.arg] = ast.literal_eval(word.value)
    return tree.func.id, options


def _text(value: Cell) -> str:
    """Return a category as text: truth values are true and false."""
    return str(value).lower() if isinstance(value, bool) else str(value)


def _quantile(ordered: list[float], share: float) -> float:
    place = share * (len(ordered) - 1)
    low = math.floor(place)
    return ordered[low] + (place - low) * (ordered[min(low + 1, len(ordered) - 1)] - ordered[low])


def _spline(x: float | Fraction, knots: list[float], degree: int, n: int) -> Fraction:
    """Return the n-th B-spline, counted from 0, by the recursion of Cox and de Boor, in exact fractions."""
    places = [Fraction(k) for k in [knots[0]] * degree + knots + [knots[-1]] * degree]
    at = Fraction(x)

    def basis(i: int, p: int) -> Fraction:
        if p == 0:
            ends = places[i + 1] == places[-1] and at == places[-1] and places[i] < at
            return Fraction(int(places[i] <= at < places[i + 1] or ends))
        parts = Fraction(0)
        if places[i + p] > places[i]:
            parts += (at - places[i]) / (places[i + p] - places[i]) * basis(i, p - 1)
        if places[i + p + 1] > places[i + 1]:
            parts += (places[i + p + 1] - at) / (places[i + p + 1] - places[i + 1]) * basis(i + 1, p - 1)
        return parts

    return basis(n, degree)


def _on_grid(value: float, to: float, nearest: bool) -> float:
    """Return the multiple of a step at or below a number, or nearest to it; a decimal step by exact fractions."""
    per_one = round(1 / to)
    step = Fraction(1, per_one) if to < 1 and 1 / per_one == to else Fraction(to)
    away = Fraction(float(value) * per_one) if step.denominator == per_one > 1 else Fraction(float(value) / to)
    count = math.floor(abs(away) + Fraction(1, 2)) * (1 if away >= 0 else -1) if nearest else math.floor(away)
    return float(count) / per_one if step.denominator == per_one > 1 else float(count) * to


def _apply(work: Callable[[Any], Any], value: Cell) -> Cell:
    return None if value is None else work(value)


def _number(value: Cell) -> float | None:
    return None if value is None else float(value)


def _product(a: Column, b: Column, kept: bool) -> Column:
    """Return a product; where rows with missing values are left out, one without a factor is, whatever the other is."""

    def column(i: int) -> Cell:
        x, y = (a(i), b(i)) if kept else (_tried(a, i), _tried(b, i))
        if x is None or y is None:
            return None
        for factor in (x, y):
            if isinstance(factor, Refused):
                raise factor
        found = float(x) * float(y)
        if not math.isfinite(found):
            raise Refused("not finite")
        return found

    return column


def _tried(column: Column, i: int) -> Any:
    try:
        return column(i)
    except Refused as refused:
        return refused


def _at(coefficients: Sequence[Fraction], x: Fraction) -> Fraction:
    return sum((c * x**k for k, c in enumerate(coefficients)), Fraction(0))


def _summary(name: str, sample: list[float], share: float | None = None) -> float:
    if not sample:
        raise Refused("nothing to learn from")
    if name == "sd":
        return statistics.stdev(sample) if len(sample) > 1 else 0.0
    if name in ("median", "quantile"):
        return _quantile(sorted(sample), 0.5 if share is None else share)
    works: dict[str, Callable[[list[Any]], float]] = {
        "mean": statistics.fmean, "smallest": min, "largest": max, "total": math.fsum, "count": len,
        "distinct": lambda values: len(set(values)),
    }  # fmt: skip
    return float(works[name](sample))


def _filling(how: str, values: list[Any], order: Sequence[Any] | None) -> Any:
    if not values:
        raise Refused("nothing to learn from")
    if how == "mode":
        counts = Counter(values)
        ordered = [label for label in order if label in counts] if order else sorted(counts)
        return max(ordered, key=lambda label: counts[label])
    return _summary(how, [float(value) for value in values])


def _coded(place: Callable[[int], int | None], count: int, coding: str, reference: int) -> list[Column]:
    """Return the columns of a coding, by the value that each category has in them."""
    others = [at for at in range(count) if at != reference]
    tables: dict[str, Callable[[], list[list[float]]]] = {
        "reference": lambda: [[float(at == own) for at in range(count)] for own in others],
        "every": lambda: [[float(at == own) for at in range(count)] for own in range(count)],
        "effect": lambda: [[-1.0 if at == reference else float(at == own) for at in range(count)] for own in others],
        "difference": lambda: [[j / count - (at < j) for at in range(count)] for j in range(1, count)],
        "helmert": lambda: [
            [-1 / (j + 1) if at < j else j / (j + 1) if at == j else 0.0 for at in range(count)]
            for j in range(1, count)
        ],
        "polynomial": lambda: _contrasts(count),
        "score": lambda: [[at + 1.0 for at in range(count)]],
    }
    return [lambda i, t=table: _apply(lambda at: t[at], place(i)) for table in tables[coding]()]  # type: ignore[misc]


def _contrasts(count: int) -> list[list[float]]:
    """Return the powers of the places, each made orthogonal to the lower ones and of length one."""
    found: list[list[Fraction]] = [[Fraction(1)] * count]
    for degree in range(1, count):
        raw = [Fraction(at) ** degree for at in range(count)]
        for lower in found:
            inner = sum(a * b for a, b in zip(raw, lower, strict=True)) / sum(b * b for b in lower)
            raw = [a - inner * b for a, b in zip(raw, lower, strict=True)]
        found.append(raw)
    lengths = [math.sqrt(reduce(lambda total, v: total + v * v, column, Fraction(0))) for column in found]
    return [[float(v) / length for v in column] for column, length in zip(found[1:], lengths[1:], strict=True)]
