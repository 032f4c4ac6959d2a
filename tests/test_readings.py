"""Each sentence on a coefficient is a claim on predictions; the claims are computed from the matrix."""

from __future__ import annotations

import math
import re
import unittest
from typing import Any

import numpy as np

import facturum as fa
from tests.support import huts

TERMS = [
    "price", "log(price)", "price ** 2", "sqrt(price)", "price / 10", "price > 30", "(price - 30) / 5", "-price",
    "100 * log(price)", "log(price, shift=2)", "within(price, by=[valley])", "price - mean(price, by=[valley])",
    "center(beds)", "standardize(beds)", "log(beds)", "beds ** 2", "polynomial(beds, 2)", "exp(beds / 50)",
    "polynomial(beds, 2, center=True)", "reciprocal(beds)", "bins(price, edges=[30, 40])", "price * beds",
    "category(access, reference='trail')", "category(access, coding='effect')", "category(valley)", "beds / price",
    "category(comfort, coding='difference')", "category(comfort, coding='helmert')", "score(comfort)", "open",
    "dear", "dear and open", "dear * open", "open * price", "category(access, reference='trail') * log(price)",
    "2 * category(access, reference='trail')", "category(valley) * category(access, reference='trail')",
    "impute(snow, value=10)", "is_missing(snow)", "is_missing(snow) * open", "standardize(beds) * open",
    "category(access, coding='every')", "category(comfort, coding='difference') * price", "winsorize(price)",
    "category(access, reference='trail') * open * beds", "category(access, coding='every') * beds", "slope",
    "price * price", "dear * price", "category(access, reference='trail') * category(access, coding='difference')",
    "beds * open / 2", "center(beds) * center(price)", "gap", "gap * beds", "not is_missing(snow)",
    "impute(snow, 'mean')", "(price - 40) * (price > 40)", "open * (log(price) / 0.6931)", "2 * sqrt(beds)",
    "2 * sqrt(beds) * open", "100 - beds",
    "open * (100 - beds)", "beds > 40", "price if price > 30 else 30", "category(comfort, coding='helmert') * open",
    "category(bins(price, edges=[30, 40]), coding='difference')", "bins(price, edges=[30, 40]) * open", "price / beds",
    "log(beds) / 0.6931 * (log(price) / 0.6931)", "own",
    "category(access, reference='trail') * (price > 30)", "regroup(access, {'wheels': ['road', 'boat']}, rest='foot')",
]  # fmt: skip
DERIVED = {"dear": "price > 35", "slope": "price * open", "gap": "is_missing(snow)", "own": "winsorize(beds)"}
RESPONSES = ["stays", "log(stays)", "stays > 150", "stays / 10", "log(stays, shift=1)", "stays - 0.5"]
STEP = 1e-5
COMFORT: Any = {"kind": "ordered", "order": ["poor", "fair", "good"]}
FUNCTIONS: dict[str, Any] = {
    "center": lambda x, at: x - at,
    "standardize": lambda x, at, scale: (x - at) / scale,
    "log": math.log,
    "sqrt": math.sqrt,
    "exp": math.exp,
    "reciprocal": lambda x: 1 / x,
}
Row = dict[str, Any]


class Prediction:
    """A plan with random coefficients over a table."""

    def __init__(self, seed: int) -> None:
        dice = np.random.default_rng(seed)
        self.table = huts(200, seed=seed % 7, missing=0)
        self.table["snow"] = [None if dice.random() < 0.2 else float(v) for v in dice.uniform(0, 80, 200)]
        chosen = [TERMS[at] for at in dice.choice(len(TERMS), size=int(dice.integers(1, 5)), replace=False)]
        terms = {f"t{at}": text for at, text in enumerate(chosen)}
        self.response = RESPONSES[seed % len(RESPONSES)]
        spec: Any = {"derived": DERIVED, "variables": {"comfort": COMFORT}, "rows": {"missing": "keep"}}
        self.design = fa.Plan(self.response, terms, **spec).build(self.table)
        names = self.design.names
        self.b = dict(zip(names, dice.normal(size=len(names)).tolist(), strict=True))
        self.text = f"{self.response} ~ {terms}"

    def row(self, at: int, **new: Any) -> Row:
        return {name: values[at] for name, values in self.table.items() if name != "stays"} | new

    def columns(self, rows: list[Row]) -> dict[str, np.ndarray]:
        table = {name: [row[name] for row in rows] for name in rows[0]}
        made = self.design.plan.build({name: list(values) for name, values in table.items()})
        return dict(zip(made.names, made.X.T, strict=True))

    def called(self, name: str) -> list[str]:
        """Return the columns of a name, or of a term whose columns are named together."""
        term = name.removeprefix("the columns of ")
        return [each for each in self.design.names if each == name or (term != name and each.startswith(f"{term}_"))]

    def added(self, rows: list[Row], without: set[str]) -> np.ndarray:
        return sum(self.b[name] * x for name, x in self.columns(rows).items() if name not in without)


def value(text: str, row: Row, **more: float) -> float:
    """Return what an expression of a sentence is worth, by Python's own arithmetic."""
    text = text.removesuffix(" (imputed)").removesuffix(" (score)")
    if " within " in text:
        text = text.partition(" within ")[0]
    if " - lookup(" in text:
        text = text.partition(" - lookup(")[0]
    if kept := re.fullmatch(r"(\w+) winsorized at (\S+) and (\S+)", text):
        return min(max(float(row[kept[1]]), float(kept[2])), float(kept[3]))
    text = text.replace("·", "*").replace("−", "-").replace("^", "**")
    text = text.partition(" - mean(")[0]
    names = {"dear": row["price"] > 35, "gap": row["snow"] is None, "own": row["beds"]} if row else {}
    return float(eval(text, {"__builtins__": {}}, {**FUNCTIONS, **names, **row, **more}))


def conditions(text: str, row: Row) -> tuple[str, Row, set[str], set[str]]:
    """Return a sentence without its conditions, the row that they describe, and the columns set apart or held."""
    row, apart, steady = {**row}, set(), set()
    while True:
        if found := re.search(r", apart from what (.+) adds?$", text):
            apart |= set(re.split(", | and ", found[1]))
        elif found := re.search(r", while (.+) stays? the same$", text):
            steady |= set(re.split(", | and ", found[1]))
        elif found := re.search(r"(?:,| and) in rows with price under 30$", text):
            row["price"] = 25.0
        elif found := re.search(r"(?:,| and) in rows with (\w+) = (\w+)$", text):
            row[found[1]] = found[2]
        elif found := re.search(r"(?:,| and) in rows in which ([\w >]+?) does not hold$", text):
            row |= {"open": {"open": False}, "beds > 40": {"beds": 20}, "gap": {"snow": 10.0}}.get(
                found[1], {"price": 20.0}
            )
        elif found := re.search(r"(?:,| and) in rows in which not is_missing\(snow\) does not hold$", text):
            row["snow"] = None
        elif found := re.search(r"(?:,| and) in rows in which snow is not missing$", text):
            row["snow"] = 10.0
        elif found := re.search(r"(?:,| and) where log\((\w+)(?: \+ 2)?\) is 0$", text):
            row[found[1]] = 1.0 if "+ 2" not in found[0] else -1.0
        elif found := re.search(r"(?:,| and) where ((?:(?! where ).)+) is (-?[\d.e+-]+)$", text):
            row[found[1] if found[1] in row else "unknown"] = float(found[2]) if found[1] in row else math.nan
        else:
            return text, row, apart, steady
        text = text[: found.start()]


class Proof:
    """Checks the sentence of one column; ``outcome`` is proved, together or open."""

    def __init__(self, made: Prediction, name: str, at: int) -> None:
        self.made, self.b, self.name = made, made.b[name], name
        said = made.design.columns[name].reading.removesuffix(".").partition("; the plan has no")[0]
        self.said, self.row, *groups = conditions(said, made.row(at))
        self.average = "others" in groups[0] or bool(re.search(", on average over | adds to |beside what", self.said))
        self.apart, self.steady = ({one for each in group for one in made.called(each)} for group in groups)
        self.outcome = "open"

    def check(self, case: unittest.TestCase) -> None:
        if self.said.startswith(("Part of how", "Expected")) or "no category is the reference" in self.said:
            self.outcome = "together"
            return
        if self.average or any(isinstance(v, float) and math.isnan(v) for v in self.row.values()):
            return
        for form in (self.slope, self.difference, self.interaction):
            pair = form()
            if pair is not None:
                found, claimed = pair
                for one, other in zip(found, claimed, strict=True):
                    case.assertAlmostEqual(
                        one, other, delta=2e-4 * max(1.0, abs(other)), msg=f"{self.said}\n{self.made.text}"
                    )
                self.outcome = "proved"
                return

    def moved(self, subject: str, base: Row) -> tuple[float, float] | None:
        """Return by how much the prediction and a subject change where its variable changes a little."""
        name = next((word for word in re.findall(r"\w+", subject) if word in base and word != "stays"), None)
        if name == "comfort":
            low, high, size = base | {"comfort": "poor"}, base | {"comfort": "fair"}, 1.0
        elif name is None or isinstance(base[name], str | bool):
            return None
        else:
            start = 10.0 if base[name] is None else base[name]
            low, high = base | {name: start}, base | {name: start + STEP}
            size = value(subject, high) - value(subject, low)
            if not size:  # beyond the ends to which it is kept
                return None
        columns = self.made.columns([low, high])
        if any(columns[held][0] != columns[held][1] for held in self.steady if held in columns):
            return None
        first, second = self.made.added([low, high], self.apart)
        return (second - first), size

    def between(self, low: Row, high: Row) -> float:
        first, second = self.made.added([low, high], self.apart)
        return float(second - first)

    def slope(self) -> tuple[list[float], list[float]] | None:
        """The slope of Y in S is E where S is 3 (the higher ..) | The slope of Y in S is E, with c the coef .."""
        if not (found := re.match(r"The slope of .+? in (\w+) is (.+?)(?: where \1 is (\S+) \(.*)?$", self.said)):
            if not (
                found := re.match(r"The slope of .+? in (\w+) changes by (.+) with each additional unit", self.said)
            ):
                return None
            name = found[1]
            slopes = [self.moved(name, self.row | {name: self.row[name] + d}) for d in (0.0, 1.0)]
            if None in slopes:
                return None
            return [slopes[1][0] / STEP - slopes[0][0] / STEP], [value(found[2], {}, b=self.b)]  # type: ignore[index]
        name, rest, where = found.groups()
        others = {f"b_of_{column}": self.made.b[column] for column in re.findall(r"b\[(\w+)\]", rest)}
        expression = re.sub(r"b\[(\w+)\]", r"b_of_\1", rest)
        base = self.row if where is None else self.row | {name: float(where)}
        moved = self.moved(name, base)
        claimed = value(expression, base, b=self.b, **others)
        return None if moved is None else ([moved[0] / moved[1]], [claimed])

    def difference(self) -> tuple[list[float], list[float]] | None:
        """Each additional unit of S is associated with E | S = c rather than r: E | Rows in which S holds, ..: E"""
        parts = re.split(r" is associated with |: (?=a difference)", self.said, maxsplit=1)
        if len(parts) < 2 or self.said.startswith("The effect"):
            return None
        change, effect = parts
        table = self.made.table
        if found := re.match(r"Each (?:additional )?(?:([\d.]+) )?units? (less )?of (.+)", change):
            size = float(found[1] or 1) * (-1 if found[2] else 1)
            moved = self.moved(found[3], self.row)
            return None if moved is None else self.effects(effect, moved[0] / (moved[1] / size), STEP)
        if found := re.match(r"An increase of one standard deviation \(.+\) in (\w+)$", change):
            moved, size = self.moved(found[1], self.row), float(np.std(table[found[1]], ddof=1))
            return None if moved is None else self.effects(effect, moved[0] / (moved[1] / size), STEP)
        if found := re.match(r"With \(?(\w+)( \+ \w+)?\)? 1 % higher$", change):
            low, plus = self.row, float((found[2] or " + 0")[3:])
            high = low | {found[1]: (low[found[1]] + plus) * 1.01 - plus}
            columns = self.made.columns([low, high])
            if any(columns[held][0] != columns[held][1] for held in self.steady if held in columns):
                return None
            return self.effects(effect, self.between(low, high), 1.0)
        if found := re.match(r"(\w+)(?: \(regrouped\))? (?:= )?(.+) rather than (.+)$", change):
            return self.effects(
                effect, self.between(*(self.holding(found[1], each) for each in (found[3], found[2]))), 0
            )
        if found := re.match(r"comfort = (\w+) compared with (.+)$", change):
            order = ["poor", "fair", "good"]
            before = order[: order.index(found[1])]
            wanted = before[-1:] if "category before" in found[2] else before if "before it" in found[2] else order
            own = self.made.added([self.row | {"comfort": found[1]}], self.apart)[0]
            mean = np.mean(self.made.added([self.row | {"comfort": each} for each in wanted], self.apart))
            return self.effects(effect, float(own - mean), 0)
        if found := re.match(r"access = (.+) compared with the mean of all categories$", change):
            own = self.made.added([self.row | {"access": found[1]}], self.apart)[0]
            every = [self.row | {"access": each} for each in sorted(set(table["access"]))]
            return self.effects(effect, float(own - np.mean(self.made.added(every, self.apart))), 0)
        if found := re.match(
            r"Rows in which (.+) is missing, compared with (?:rows with the imputed value, )?(\S+)", change
        ):
            fill = float(found[2]) if found[2][0].isdigit() else 33.0
            return self.effects(effect, self.between(self.row | {"snow": fill}, self.row | {"snow": None}), 0)
        if found := re.match(r"Rows in which (.+) holds, compared", change):
            ends = [self.condition(found[1], holds) for holds in (False, True)]
            return None if None in ends else self.effects(effect, self.between(*ends), 0)  # type: ignore[arg-type]
        return None

    def holding(self, name: str, category: str) -> Row:
        if name == "price":
            return self.row | {"price": {"under 30": 25.0, "30 to 40": 33.0, "40 or more": 45.0}[category]}
        if category in ("foot", "wheels"):
            return self.row | {name: {"foot": "trail", "wheels": "road"}[category]}
        return self.row | {name: category}

    def condition(self, text: str, holds: bool) -> Row | None:
        if text == "open":
            return self.row | {"open": holds}
        cut = {"dear": 35.0, "price > 30": 30.0}.get(text)
        return None if cut is None else self.row | {"price": cut + (2.0 if holds else -2.0)}

    def effects(self, text: str, found: float, step: float) -> tuple[list[float], list[float]]:
        """Return what was found and what the words of an effect claim, in each model that they name."""
        got, claimed = [], []
        for piece in text.split(", or "):
            if exact := re.search(r"\(exactly (.+) %\)", piece):
                got.append(100 * (math.exp(found) - 1))
                claimed.append(value(exact[1], {}, b=self.b))
            elif percent := re.match(r"a difference of (100·\(exp.+) % in", piece):
                got.append(100 * (math.exp(found) - 1))
                claimed.append(value(percent[1].replace("100·(", "100*("), {}, b=self.b))
            elif points := re.match(r"a difference of (about )?(.+) percentage points", piece):
                got.append(found if not points[1] else math.nan)
                claimed.append(value(points[2], {}, b=self.b) / 100 if not points[1] else math.nan)
            elif ratio := re.match(r"(?:an odds ratio|a factor) of (.+?) \((?:logit|log)", piece):
                got.append(math.exp(found))
                claimed.append(value(ratio[1], {}, b=self.b))
            elif about := re.match(r"a difference of about (.+?) / 100 in", piece):
                got.append(found / math.log(1.01))
                claimed.append(value(about[1], {}, b=self.b))
            elif plain := re.match(r"a difference of (.+?) in", piece):
                got.append(found)
                claimed.append(value(plain[1], {}, b=self.b))
            else:
                raise AssertionError(f"no claim in {piece!r}")
        both = [(a, b) for a, b in zip(got, claimed, strict=True) if not math.isnan(a)]
        return [a for a, _ in both], [b for _, b in both]

    def interaction(self) -> tuple[list[float], list[float]] | None:
        """The effect of F on Y differs by E between .. | The effect of F on Y changes by E with each .. of G"""
        if found := re.match(
            r"The effect of (.+?) on .+? changes by (.+) with each additional unit of (log\()?(\w+)", self.said
        ):
            first, own = self.effect_of(found[1], self.row), self.row[found[4]]
            second = self.effect_of(found[1], self.row | {found[4]: own * math.e if found[3] else own + 1.0})
            return None if first is None or second is None else ([second - first], [value(found[2], {}, b=self.b)])
        if found := re.match(r"The effect of (.+?) on .+? in rows with (\w+) = (.+) is (.+)$", self.said):
            effect = self.effect_of(found[1], self.row | {found[2]: found[3]})
            return None if effect is None else ([effect], [value(found[4], {}, b=self.b)])
        form = r"The (?:effect|interaction) of (.+?) (?:on|in) .+? differs by (.+?) between (.+)$"
        if not (found := re.match(form, self.said)):
            return None
        ends = self.ends(found[3])
        if ends is None:
            return None
        low, high = (self.effect_of(found[1], row) for row in ends)
        return None if low is None or high is None else ([high - low], [value(found[2], {}, b=self.b)])

    def ends(self, text: str) -> tuple[Row, Row] | None:
        if found := re.match(r"rows with (\w+) (?:= )?(.+) and rows with (.+) \(the reference\)", text):
            return self.holding(found[1], found[3]), self.holding(found[1], found[2])
        if found := re.match(r"rows in which (.+) holds and the others", text):
            ends = self.condition(found[1], False), self.condition(found[1], True)
            return None if None in ends else ends  # type: ignore[return-value]
        if re.match(r"rows in which snow is missing and the others", text):
            return self.row | {"snow": 10.0}, self.row | {"snow": None}
        if found := re.match(r"comfort = (\w+) and the category before, (\w+)", text):
            return self.row | {"comfort": found[2]}, self.row | {"comfort": found[1]}
        return None

    def effect_of(self, subject: str, row: Row) -> float | None:
        if found := re.match(r"(\w+) = (.+) \(rather than (.+)\)$", subject):
            return self.between(row | {found[1]: found[3]}, row | {found[1]: found[2]})
        if subject in ("open", "dear"):
            low, high = ({"open": False}, {"open": True}) if subject == "open" else ({"price": 33.0}, {"price": 37.0})
            return self.between(row | low, row | high)
        if found := re.match(r"open and (\w+)$", subject):
            each = [self.effect_of(found[1], row | {"open": holds}) for holds in (False, True)]
            return None if None in each else each[1] - each[0]  # type: ignore[operator]
        size = 1.0
        if found := re.match(r"one standard deviation of (\w+)$", subject):
            subject, size = found[1], float(np.std(self.made.table[found[1]], ddof=1))
        if not re.fullmatch(r"\w+|log\(\w+\)", subject):
            return None
        moved = self.moved(subject, row)
        return None if moved is None else moved[0] / moved[1] * size


class Proofs(unittest.TestCase):
    def test_no_sentence_of_many_random_plans_is_false(self) -> None:
        outcomes = {"proved": 0, "together": 0, "open": 0}
        for seed in range(80):
            made = Prediction(seed)
            for entry in made.design.columns:
                if entry.role == "predictor":
                    proof = Proof(made, entry.name, seed)
                    with self.subTest(seed=seed, column=entry.name):
                        try:
                            proof.check(self)
                        except fa.DataError as error:  # where a condition of the sentence leaves the domain of a log
                            self.assertIn("is not defined", str(error))
                    outcomes[proof.outcome] += 1
        self.assertGreater(outcomes["proved"], 190, outcomes)
        self.assertLess(outcomes["together"], 60, outcomes)

    def test_an_effect_on_average_is_the_mean_over_all_categories(self) -> None:
        table = huts(300, seed=34, missing=0)
        codings = ("effect", "difference", "helmert")
        factors = {f"category(comfort, coding='{coding}')": ["poor", "fair", "good"] for coding in codings}
        for factor, values in factors.items():
            terms = {"p": "log(price)", "f": factor, "pf": f"log(price) * {factor}"}
            design = fa.Plan("stays", terms, variables={"comfort": COMFORT}).build(table)
            subject = "comfort"
            self.assertIn(f", on average over {subject}", design.columns["p"].reading)
            b = np.random.default_rng(35).normal(size=len(design.names))
            both = [{subject: values, "price": [price] * len(values)} for price in (7.0, 7 * math.e)]
            low, high = (design.plan.build(rows).X for rows in both)
            found = float(np.mean((high - low) @ b))
            self.assertAlmostEqual(found, b[design.names.index("p")], places=9, msg=factor)

    def test_rows_without_the_response_keep_its_scale(self) -> None:
        table = huts(60, seed=2, missing=0)
        for response in ("log(stays)", "stays > 99"):
            made = fa.Plan(response, {"p": "price", "a": "open"}).build(table)
            ahead = made.plan.build({name: values for name, values in table.items() if name != "stays"})
            self.assertIsNone(ahead.y)
            self.assertEqual([c.reading for c in ahead.columns], [c.reading for c in made.columns][1:])
