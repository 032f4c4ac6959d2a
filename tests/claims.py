"""What sentences claim, worked out: their words are read, rows are changed, and an interpreter builds these anew.

Nothing of the package is asked but the sentences and the names of columns. A phrase such as "the mean of price in its
valley" is read as the expression that it stands for; rows in which cells of its variables are others are interpreted,
and what the coefficients of all columns come to must be what the sentence says.
"""

from __future__ import annotations

import ast
import math
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import product
from typing import Any

import numpy as np

from facturum.audit.map.column_map import source_changes
from tests.interpreter import QUARTERS
from tests.phrases import BOUNDS, Cells, Claimed, Phrases, Truth, Unread, World, listed, multiple, read_number

NEAR = 1e-3  # numbers in sentences are rounded
Pairs = list[tuple[float, float]]  # what was found, and what is claimed


@dataclass(frozen=True)
class Factor:
    """A factor of an interaction: its expression, what it is worth in a row, and where its slope is told."""

    tree: ast.expr
    worth: Callable[[World], float]
    at: float | None = None


class Claim:
    """The sentence of one column; ``outcome`` is what came of it: proved, together, constant or open."""

    def __init__(self, made: Claimed, name: str, reading: str) -> None:
        self.made, self.name, self.b = made, name, made.b[name]
        self.phrases = Phrases(made)
        self.said = reading.removesuffix(".").partition("; the plan has no main effect of")[0]
        self.outcome, self.apart, self.steady = "open", set[str](), set[str]()
        self.where: list[tuple[ast.expr, Truth]] = []
        self.average: list[ast.expr] = []
        self.wanted: dict[int, float] = {}  # to what expressions of conditions are set
        self.fill: float | None = None  # the imputed value that missing ones are compared with

    def check(self) -> Pairs:
        """Return pairs of what was found and what is claimed, which must be alike."""
        said = self.said
        if said.startswith("Part of how"):
            self.outcome = "together"
            return []
        try:
            if said.startswith(("0 in every row", "Constant at ")):
                return self.constant()
            if found := re.match(r"A cycle of \S+ \w+s in .+ with amplitude (.+?)(?:, together with .+)?$", said):
                return self.wave(found[1])
            self.conditions()
            for form in (self.slope, self.difference, self.interaction):
                pairs = form()
                if pairs is not None:
                    self.outcome = "proved" if pairs else "no rows"
                    return pairs
        except Unread:
            self.outcome = "open"
        return []

    def constant(self) -> Pairs:
        self.outcome = "constant"
        value = (
            0.0 if self.said.startswith("0") else read_number(self.said.removeprefix("Constant at ").partition(":")[0])
        )
        at = self.made.names.index(self.name)
        return [(float(self.made.row(i)[at]), value) for i in self.made.kept if not math.isnan(self.made.row(i)[at])]

    def wave(self, swing: str) -> Pairs:
        self.outcome = "proved"
        names = [self.name, *re.findall(r"b\[(\w+)\]", swing)]
        rows = np.array([[self.made.row(i)[self.made.names.index(name)] for name in names] for i in self.made.kept])
        values = [self.made.b[name] for name in names]
        most = math.sqrt(sum(v * v for v in values)) if len(names) > 1 else abs(values[0])
        pairs = [(max(0.0, float(np.nanmax(np.abs(rows @ values))) - most), 0.0)]
        return [*pairs, *[(float(sum(row**2)), 1.0) for row in rows if len(names) > 1]]

    def conditions(self) -> None:
        """Take the conditions off the sentence."""
        forms: tuple[tuple[str, Callable[[str], None]], ...] = (
            (r", apart from what (.+?) adds?$", lambda t: self.apart.update(self.columns(t))),
            (r", while (.+?) stays? the same$", lambda t: self.steady.update(self.columns(t))),
            (r", with (.+?) at other periods held fixed$", lambda t: None),
            (r", apart from the other parts$", lambda t: self.apart.update(self.own_term())),
            (r"(?:,| and) in rows (?:with|in which) ((?:(?! in rows | where ).)+)$", self.chosen),
            (r"(?:,| and) where ((?:(?! where | in rows ).)+ is -?[\d.,e+-]+)$", self.set_at),
            (r"(?:,| and) on average over ((?:(?! in rows | where ).)+)$", self.averaged),
        )
        while True:
            for form, take in forms:
                if found := re.search(form, self.said):
                    self.said = self.said[: found.start()]
                    take(found[1] if found.groups() and found[1] else "")
                    break
            else:
                return

    def chosen(self, text: str) -> None:
        self.where.append(self.phrases.truth(text))

    def averaged(self, text: str) -> None:
        self.average.append(self.phrases.number(text))

    def own_term(self) -> list[str]:
        term = re.sub(r"_\d+$", "", self.name)
        return [each for each in self.made.names if re.sub(r"_\d+$", "", each) == term and each != self.name]

    def columns(self, text: str) -> list[str]:
        names = [name for each in re.split(r", | and ", text) for name in self.made.called(each)]
        return [name for name in names if name != self.name]

    def set_at(self, text: str) -> None:
        subject, _, value = text.rpartition(" is ")
        tree, wanted = self.phrases.number(subject), read_number(value)

        def near(i: World) -> bool | None:
            v = self.made.value(tree, i)
            return None if v is None else abs(v - wanted) <= 1e-9 * max(1.0, abs(wanted))

        self.where.append((tree, near))
        self.wanted[id(tree)] = wanted

    # rows

    def bases(self, most: int = 5) -> list[World]:
        """Return some rows in which the conditions hold, changed where they do not."""
        made, found = self.made, []
        if self.average or not made.kept:
            return []
        for at in made.dice.permutation(len(made.kept)).tolist():
            i: World | None = made.kept[at]
            for tree, holds in self.where:
                i = None if i is None else self.satisfying(i, tree, holds)
            if i is not None and all(holds(i) for _, holds in self.where):
                found.append(i)
            if len(found) == most:
                break
        return found

    def satisfying(self, i: World, tree: ast.expr, holds: Truth) -> World | None:
        if holds(i):
            return i
        wanted = self.wanted.get(id(tree))
        if wanted is not None and isinstance(tree, ast.Name):
            return self.made.changed(i, {(tree.id, 0): wanted})
        return next((each for each in self.made.worlds(i, tree) if holds(each)), None)

    def moved(self, before: World, after: World) -> float:
        """Return by how much the prediction differs; NaN where a column has no value, or one that is held moves."""
        change = self.made.row(after) - self.made.row(before)
        if np.isnan(change).any() or any(change[self.made.names.index(name)] for name in self.steady):
            return math.nan  # where a column is missing, nothing is predicted
        if not (all(holds(before) for _, holds in self.where) and all(holds(after) for _, holds in self.where)):
            return math.nan
        pairs = zip(self.made.names, change.tolist(), strict=True)
        return float(sum(self.made.b[name] * by for name, by in pairs if name not in self.apart))

    def sharp(self, size: float, worlds: Sequence[World]) -> bool:
        """Return whether a difference of so much tells the coefficient, beside rounding errors of large columns."""
        b = np.array([self.made.b[name] for name in self.made.names])
        noise = 1e-12 * max(float(np.nansum(np.abs(b * self.made.row(world)))) for world in worlds)
        return math.isfinite(size) and abs(size) > max(1e-6, noise * 1e4 / max(abs(self.b), 1e-3))

    # sentences

    def subject(self, text: str) -> Factor:
        """Return the expression behind a number or a factor of an interaction, and what it is worth in a row."""
        size, made, at = 1.0, self.made, None
        if found := re.fullmatch(r"one standard deviation \((\S+)\) of (.+)", text):
            size, text = read_number(found[1]), found[2]
        elif found := re.fullmatch(r"(-?[\d.e+-]+) units of (.+)", text):
            size, text = float(found[1]), found[2]
        elif found := re.fullmatch(r"(.+) \(where it is (\S+)\)", text):
            text, at = found[1], read_number(found[2])
        if found := re.fullmatch(r"a missing (.+)", text):
            tree = self.phrases.number(found[1])
            return Factor(tree, lambda i: float(made.value(tree, i) is None))
        if found := re.fullmatch(r"(.+) \(rather than (.+)\)", text):
            tree, own = self.phrases.truth(found[1])
            other = self.phrases.category(*self.as_category(found[1], found[2]))[1]
            return Factor(tree, lambda i: 1.0 if own(i) else 0.0 if other(i) else math.nan)
        if " compared with " in text or " to the power " in text or " part of " in text:
            raise Unread(text)
        tree = self.phrases.number(text)

        def worth(i: World) -> float:
            v = made.value(tree, i)
            return math.nan if v is None or isinstance(v, str) else float(v) / size

        if at is not None and not isinstance(tree, ast.Name):
            raise Unread(text)
        return Factor(tree, worth, at)

    @staticmethod
    def as_category(first: str, other: str) -> tuple[str, str]:
        if " = " in first:
            return first.partition(" = ")[0], other
        found = re.fullmatch(rf"(.+?) ({BOUNDS})", first)
        if not found:
            raise Unread(first)
        return found[1], other

    def difference(self) -> Pairs | None:
        parts = re.split(r" is associated with |: (?=a difference)", self.said, maxsplit=1)
        if len(parts) < 2 or self.said.startswith(("The effect", "The interaction")):
            return None
        change, effect = parts
        if found := re.fullmatch(r"With (.+) 1 % higher", change):
            tree = self.phrases.number(re.sub(r"^\((.+)\)$", r"\1", found[1]))

            def log(i: World) -> float:
                v = self.made.value(tree, i)
                return math.nan if v is None or v <= 0 else math.log(v)

            return self.along(tree, log, lambda slope: self.claims(effect, slope * math.log(1.01)))
        if found := re.fullmatch(r"An increase of one standard deviation \((\S+)\) in (.+)", change):
            factor = self.subject(found[2])
            return self.along(
                factor.tree, factor.worth, lambda slope: self.claims(effect, slope * read_number(found[1]), 1e-3)
            )
        if found := re.fullmatch(r"Each (?:additional )?(?:(-?[\d.e+-]+) )?units? (less )?of (.+)", change):
            size = float(found[1] or 1) * (-1 if found[2] else 1)
            factor = self.subject(found[3])
            return self.along(factor.tree, factor.worth, lambda slope: self.claims(effect, slope * size))
        if found := re.fullmatch(r"Each additional (\w+ since .+)", change):
            factor = self.subject(re.sub(r"^month since", "months since", found[1]))
            return self.along(factor.tree, factor.worth, lambda slope: self.claims(effect, slope))
        if found := re.fullmatch(
            r"(.+) = (.+) compared with the mean of (?:all|the) categories(?: before it \((.+)\))?", change
        ):
            return self.contrast(found[1], found[2], found[3], effect)
        for tree, own, other in self.compared(change):
            return self.flipped(tree, own, other, lambda size: self.claims(effect, size))
        return None

    def contrast(self, subject: str, own: str, before: str | None, effect: str) -> Pairs:
        """Return what comes of a category compared with the mean of several."""
        tree, pairs = self.phrases.number(subject), []
        values = {v for i in self.made.slow.sample if isinstance(v := self.made.value(tree, i), str)}
        if subject.startswith("quarter of "):
            values = {*QUARTERS}
        others = sorted(values) if before is None else before.split(", ")
        missing = before is None and any(self.made.value(tree, i) is None for i in self.made.slow.sample)
        if missing or own not in values or not {*others} <= values:
            raise Unread(subject)
        for base in self.bases():
            found: dict[str, World] = {}
            for world in self.made.worlds(base, tree):
                if isinstance(value := self.made.value(tree, world), str):
                    found.setdefault(value, world)
            if {own, *others} <= {*found}:
                moved = [self.moved(found[each], found[own]) for each in others]
                if all(math.isfinite(each) for each in moved):
                    pairs += self.claims(effect, float(np.mean(moved)))
        return pairs

    def compared(self, change: str) -> Iterator[tuple[ast.expr, Truth, Truth]]:
        if found := re.fullmatch(r"Rows in which (.+) is missing(?:, or was .+?)?, compared with (.+)", change):
            tree, own = self.phrases.truth(f"{found[1]} is missing")
            value = re.search(r"imputed value, (\S+)$", found[2])
            if "imputed value" in found[2] and not value:
                raise Unread(change)
            yield tree, own, self.known(tree, value and value[1])
        elif found := re.fullmatch(r"Rows in which (.+), compared with the others", change):
            tree, own = self.phrases.truth(found[1])
            yield tree, own, lambda i: None if (v := own(i)) is None else not v
        elif (found := re.fullmatch(r"(.+) rather than (.+)", change)) and " compared with " not in change:
            tree, own = self.phrases.truth(found[1])
            yield tree, own, self.phrases.category(*self.as_category(found[1], found[2]))[1]
        elif found := re.fullmatch(r"(.+) = (.+) compared with the category before, (.+)", change):
            tree, own = self.phrases.category(found[1], found[2])
            yield tree, own, self.phrases.category(found[1], found[3])[1]
        else:
            raise Unread(change)

    def known(self, tree: ast.expr, value: str | None) -> Truth:
        if value is None:
            return lambda i: self.made.value(tree, i) is not None
        fill = self.fill = read_number(value)
        return lambda i: (v := self.made.value(tree, i)) is not None and abs(v - fill) <= 1e-9 * max(1.0, abs(v))

    def along(self, tree: ast.expr, worth: Callable[[World], float], claims: Callable[[float], Pairs]) -> Pairs:
        """Return what comes of changes of a number, by its slope."""
        pairs = []
        for base in self.bases():
            for other in self.made.worlds(base, tree)[1:]:
                size, moved = worth(other) - worth(base), self.moved(base, other)
                if math.isfinite(moved) and self.sharp(size, [base, other]):
                    pairs += claims(moved / size)
        return pairs

    def flipped(self, tree: ast.expr, own: Truth, other: Truth, claims: Callable[[float], Pairs]) -> Pairs:
        """Return what comes of changes from one state to another."""
        pairs = []
        for base in self.bases():
            worlds = self.made.worlds(base, tree)
            if self.fill is not None and isinstance(tree, ast.Name):
                worlds += [each for each in [self.made.changed(base, {(tree.id, 0): self.fill})] if each is not None]
            before, after = [i for i in worlds if other(i)], [i for i in worlds if own(i)]
            for low, high in list(product(before[:3], after[:3])):
                if math.isfinite(moved := self.moved(low, high)):
                    pairs += claims(moved)
        return pairs

    def claims(self, text: str, found: float, loose: float = 0.0) -> Pairs:
        """Return what was found beside what the words of an effect claim, in each model that they name."""
        pairs, b = [], self.b
        text = re.sub(r" for each unit of this column$", "", text)
        for piece in text.split(", or "):
            if exact := re.search(r"\(exactly 100·\(1\.01\^(.+) − 1\) %\)", piece):
                pairs.append((found / math.log(1.01), multiple(exact[1], b=b)))
            elif percent := re.match(r"a difference of 100·\(exp\((.+?)\) − 1\) % in", piece):
                pairs.append((found, multiple(percent[1], b=b)))
            elif points := re.match(r"a difference of about (.+) percentage points", piece):
                pairs.append((found / math.log(1.01), multiple(points[1], b=b)))
            elif points := re.match(r"a difference of 100·(.+) percentage points", piece):
                pairs.append((found, multiple(points[1], b=b)))
            elif ratio := re.match(r"(?:an odds ratio|a factor) of 1\.01\^(.+?) \((?:logit|log)", piece):
                pairs.append((found / math.log(1.01), multiple(ratio[1], b=b)))
            elif ratio := re.match(r"(?:an odds ratio|a factor) of exp\((.+?)\) \((?:logit|log)", piece):
                pairs.append((found, multiple(ratio[1], b=b)))
            elif about := re.match(r"a difference of about (.+?) / 100 in", piece):
                pairs.append((found / math.log(1.01), multiple(about[1], b=b)))
            elif plain := re.match(r"a difference of (.+?) in", piece):
                pairs.append((found, multiple(plain[1], b=b)))
            else:
                raise AssertionError(f"no claim in {piece!r}")
        return [(one, one if abs(one - other) <= loose * abs(other) else other) for one, other in pairs]

    def interaction(self) -> Pairs | None:
        start = r"The (?:effect|interaction) of (.+?) (?:on|in) (?!its ).+?"
        within = rf"{start}(?: in rows with (.+) is (.+)|: (.+) adds to it in rows with (.+))$"
        if found := re.match(within, self.said):
            claimed, rows = multiple(found[3] or found[4], b=self.b), found[2] or found[5]
            self.where.append(self.phrases.truth(rows))
            factors = [self.subject(each) for each in listed(found[1])]
            return [pair for base in self.bases(4) for pair in self.mixed(base, factors, claimed)]
        if not (
            found := re.match(
                rf"{start} (differs|changes) by (.+?) (between|with each additional unit of) (.+)$", self.said
            )
        ):
            return None
        factors = [self.subject(each) for each in listed(found[1])]
        claimed = multiple(found[3], b=self.b)
        if found[2] == "changes":
            factors.append(self.subject(found[5]))
        else:
            factors.append(self.sides(found[5]))
        pairs: Pairs = []
        for base in self.bases(4):
            pairs += self.mixed(base, factors, claimed)
        return pairs

    def sides(self, text: str) -> Factor:
        if found := re.fullmatch(r"rows with (.+) and rows with (.+) \(the reference\)", text):
            return self.subject(f"{found[1]} (rather than {found[2]})")
        if found := re.fullmatch(r"rows in which (.+) and the others", text):
            tree, own = self.phrases.truth(found[1])
            return Factor(tree, lambda i: math.nan if (v := own(i)) is None else float(v))
        if found := re.fullmatch(r"(.+) = (.+) and the category before, (.+)", text):
            return self.subject(f"{found[1]} = {found[2]} (rather than {found[3]})")
        raise Unread(text)

    def mixed(self, base: World, factors: Sequence[Factor], claimed: float) -> Pairs:
        """Return mixed differences along all factors, from one row."""
        pairs = []
        for ends in product(*(self.ends(base, factor) for factor in factors)):
            cells = [{key for end in pair for key in end} for pair in ends]
            if any(one & other for at, one in enumerate(cells) for other in cells[:at]):
                continue
            total, start, corners = 0.0, [pair[0] for pair in ends], list[World]()
            for on in product((0, 1), repeat=len(ends)):
                world = self.at(base, [pair[use] for pair, use in zip(ends, on, strict=True)])
                first = self.at(base, start)
                moved = math.nan if world is None or first is None else self.moved(first, world)
                total += (-1) ** (len(on) - sum(on)) * moved
                corners += [] if world is None else [world]
            sizes = []
            for at, (factor, pair) in enumerate(zip(factors, ends, strict=True)):
                worlds = [self.at(base, [*start[:at], end, *start[at + 1 :]]) for end in pair]
                values = [math.nan if world is None else factor.worth(world) for world in worlds]
                sizes.append(values[1] - values[0])
            size = math.prod(sizes)
            if math.isfinite(total) and self.sharp(size, corners):
                pairs.append((total / size, claimed))
        return pairs

    def at(self, base: World, cells: Sequence[Cells]) -> World | None:
        merged = {key: value for each in cells for key, value in each.items()}
        return self.made.changed(base, merged) if merged else base

    def ends(self, base: World, factor: Factor) -> list[tuple[Cells, Cells]]:
        """Return pairs of changes of a row between which a factor differs."""
        made, tree = self.made, factor.tree
        if factor.at is not None and isinstance(tree, ast.Name):
            step = 1e-3 * max(1.0, abs(factor.at))
            return [({(tree.id, 0): factor.at - step}, {(tree.id, 0): factor.at + step})]
        cells: list[Cells] = [{cell: value} for cell in made.reads(tree) for value in made.others(cell, base)]
        chosen: list[Cells] = [{}, *[cells[int(at)] for at in made.dice.permutation(len(cells))]]
        known: list[tuple[float, Cells]] = []
        own = factor.worth(base)
        for cell in chosen[:40]:
            world = self.at(base, [cell])
            worth = math.nan if world is None else factor.worth(world)
            if math.isfinite(worth) and (not cell or worth != own):
                known.append((worth, cell))
        pairs = [(low, high) for at, (a, high) in enumerate(known) for b, low in known[:at] if abs(a - b) > 1e-6]
        return [pairs[int(at)] for at in made.dice.permutation(len(pairs))[:3]]

    def slope(self) -> Pairs | None:
        if not (found := re.match(r"The slope of .+? in (\w+) is (.+?)(?: where \1 is (\S+) \(.*)?$", self.said)):
            return None
        name, rest, where = found.groups()
        tree, pairs = self.phrases.number(name), []
        text = re.sub(r"b\[(\w+)\]", r"b_of_\1", rest.replace("·", "*").replace("−", "-"))
        others = {f"b_of_{column}": value for column, value in self.made.b.items()} | {"b": self.b}
        slope = self.plain(text, others)
        for base in self.bases():
            start = self.made.value(tree, base) if where is None else read_number(where)
            if start is None or not isinstance(tree, ast.Name):
                continue
            for step in (1e-4 * max(1.0, abs(start)),):
                low, high = (self.made.changed(base, {(name, 0): start + d}) for d in (-step, step))
                at = self.made.changed(base, {(name, 0): start})
                if low is None or high is None or at is None:
                    continue
                left, right = self.moved(low, at) / step, self.moved(at, high) / step
                if abs(left - right) > 1e-3 * max(abs(left), abs(right)) or not math.isfinite(left + right):
                    continue  # a kink
                claimed = self.made.value(slope, at)
                if claimed is not None:
                    pairs.append(((left + right) / 2, float(claimed)))
        return pairs

    def plain(self, text: str, names: dict[str, float]) -> ast.expr:
        class Filled(ast.NodeTransformer):
            def visit_Name(self, node: ast.Name) -> ast.expr:
                return ast.Constant(names[node.id]) if node.id in names else node

        try:
            return Filled().visit(ast.parse(text.strip(), mode="eval").body)  # type: ignore[no-any-return]
        except SyntaxError:
            raise Unread(text) from None


class Change:
    """A change of the source that an effect is told of, and how it says that columns move with it on average."""

    def __init__(self, made: Claimed, entry: Any) -> None:
        self.made, self.entry = made, entry
        self.phrases, self.outcome = Phrases(made), "open"
        tree = None if made.response is None else ast.parse(made.response, mode="eval").body
        known = [i for i in made.kept if tree is None or made.value(tree, i) is not None]
        self.complete = [i for i in known if not np.isnan(made.row(i)).any()]

    def check(self) -> Pairs:
        """Return what columns move by, beside what is stored."""
        try:
            before, after, chosen = self.sides()
            settings = self.settings()
        except Unread:
            return []
        found = []
        for i in self.complete:
            if not chosen(i) or not all(holds(i) for _, holds in settings):
                continue
            low, high = before(i), after(i)
            if low is None or high is None:
                continue
            fixed = {key: value for cells, _ in settings for key, value in cells.items()}
            ends = [self.made.changed(i, cells) if (cells := {**fixed, **side}) else i for side in (low, high)]
            if None not in ends:
                found.append([self.made.row(each) for each in (i, *ends)])  # type: ignore[arg-type]
        worlds = np.array([each for each in found if np.isfinite(each).all()]).reshape(-1, 3, len(self.made.names))
        moved = worlds[:, 2] - worlds[:, 1]
        if not len(moved):
            self.outcome = "no rows"
            return []
        self.outcome = "proved"
        # by less than the last digits of its cells a column does not move
        least = 1e-9 * np.abs(worlds).max(axis=(0, 1)) + 1e-12
        size, weights = np.maximum(np.abs(moved).max(axis=0), least), self.entry.weights
        apart = "apart from" in self.entry.where
        names = [name for name in self.made.names if name in weights or not apart]
        if found := re.search(r"one standard deviation \((\S+)\)", self.entry.change):  # which is rounded there
            size = size * 1e3 if read_number(found[1]) else size
        each = {name: at for at, name in enumerate(self.made.names)}
        told = [*self.told_by_matrix(worlds, names)] if self.entry.sides is not None else []
        for name in names:
            by, told_by = float(moved[:, each[name]].mean()), weights.get(name, 0.0)
            told.append((by / size[each[name]], told_by / size[each[name]]))
        return told

    def told_by_matrix(self, worlds: Any, names: Sequence[str]) -> Iterator[tuple[float, float]]:
        """Yield what columns are before and after the change, beside the sums of columns that are stored for them."""
        sides, own = self.entry.sides, dict(zip(self.made.names, worlds[:, 0].T, strict=True))
        for at, stored in ((1, sides.before), (2, sides.after)):
            for name in names:
                built = worlds[:, at, self.made.names.index(name)]
                sums = stored.get(name, {name: 1.0})
                summed = sum(weight * (own[key] if key else 1.0) for key, weight in sums.items())
                far = np.abs(summed - built).max()  # type: ignore[attr-defined]
                yield float(far / max(np.abs(built).max(), 1e-12)), 0.0

    def cell(self, text: str) -> tuple[str, int]:
        found = re.fullmatch(r"(\w+?)(?: (\d+) months? (before|later))?", text)
        if not found or found[1] not in self.made.values:
            raise Unread(text)
        return found[1], int(found[2] or 0) * (-1 if found[3] == "before" else 1)

    def known(self, cell: tuple[str, int]) -> list[float]:
        values = [self.own(i, cell) for i in self.complete]
        return [float(v) for v in values if v is not None]

    def own(self, i: World, cell: tuple[str, int]) -> Any:
        j = self.made.slow.at.get((self.made.slow.unit_of(i), self.made.slow.period_of(i) + cell[1]))
        return None if j is None else self.made.slow.rows[j][cell[0]]

    def quartile(self, cell: tuple[str, int], words: str, written: str) -> float:
        known, share = self.known(cell), {"lower quartile": 0.25, "median": 0.5, "upper quartile": 0.75}
        if words in share and known:
            return float(np.quantile(known, share[words]))
        exact = [v for v in known if math.isclose(v, read_number(written), rel_tol=1e-3)]
        return min(exact, key=lambda v: abs(v - read_number(written)), default=read_number(written))

    def sides(self) -> tuple[Callable[[World], Cells | None], Callable[[World], Cells | None], Callable[[World], bool]]:
        text = self.entry.change
        if found := re.fullmatch(r"(month|quarter of month) = (\w+) rather than (\w+)", text):
            part = "quarter" if found[1] != "month" else "month"
            names = [found[3], found[2]]
            return self.calendar(part, names[0]), self.calendar(part, names[1]), lambda i: True
        if re.fullmatch(r"months since \S+ one more", text):
            return lambda i: {}, lambda i: {("month", 0): self.made.slow.period_of(i) + 1}, lambda i: True
        if found := re.fullmatch(r"(.+) missing rather than known", text):
            cell = self.cell(found[1])
            return lambda i: {}, lambda i: {cell: None}, lambda i: self.own(i, cell) is not None
        if found := re.fullmatch(r"(.+) true rather than false", text):
            cell = self.cell(found[1])
            return lambda i: {cell: False}, lambda i: {cell: True}, lambda i: self.own(i, cell) is not None
        if found := re.fullmatch(r"(.+) = (.+) rather than (.+)", text):
            cell = self.cell(found[1])
            if {found[2], found[3]} & {"other", "missing"}:
                raise Unread(text)
            return lambda i: {cell: found[3]}, lambda i: {cell: found[2]}, lambda i: self.own(i, cell) is not None
        if found := re.fullmatch(r"(.+?) (\S+) rather than (\S+)(?: \((.+) to (.+)\))?", text):
            cell = self.cell(found[1])
            low, high = self.quartile(cell, found[4] or "", found[3]), self.quartile(cell, found[5] or "", found[2])
            return lambda i: {cell: low}, lambda i: {cell: high}, lambda i: self.own(i, cell) is not None
        if found := re.fullmatch(
            r"(.+?) (?:one standard deviation \((\S+)\)|(\S+) units|(one) unit|(10) %) higher", text
        ):
            cell = self.cell(found[1])
            size = 1.0 if found[4] else read_number(found[2] or found[3] or "0")
            later = (lambda v: v * 1.1) if found[5] else (lambda v: v + size)
            return lambda i: {}, lambda i: {cell: later(self.own(i, cell))}, lambda i: self.own(i, cell) is not None
        raise Unread(text)

    def calendar(self, part: str, name: str) -> Callable[[World], Cells | None]:
        slow = self.made.slow

        def moved(i: World) -> Cells | None:
            own = slow.period_of(i)
            return next(({("month", 0): p} if p != own else {} for p in range(own, own + 12)
                         if slow._part(p, part) == name), None)  # fmt: skip

        return moved

    def settings(self) -> list[tuple[Cells, Callable[[World], bool]]]:
        """Return what rows are set to, and which are chosen."""
        found: list[tuple[Cells, Callable[[World], bool]]] = []
        where = re.sub(
            r"(?:^|, )apart from what else is made of the time|on average over the rows", "", self.entry.where
        )
        for part in [each for each in re.split(r" and (?=in rows|where)", where) if each]:
            if part.startswith("where "):
                subject, _, value = part[6:].partition(" is ")
                cell, first = self.cell(subject), value.split(" or ")[0]
                words = re.fullmatch(r"(\S+) \(its (.+?)(?: and .+)?\)", first)
                if not words:
                    raise Unread(part)
                found.append(({cell: self.quartile(cell, words[2], words[1])}, lambda i: True))
            elif part.startswith("in rows with "):
                for each in part.removeprefix("in rows with ").split(" and "):
                    subject, _, labels = each.partition(" = ")
                    found.append(({}, self.among(self.cell(subject), labels.split(" or "))))
            elif words := re.fullmatch(r"in rows in which (.+?) (is missing|is not missing|holds|does not hold)", part):
                states: dict[str, list[Any]] = {"is missing": [None], "holds": [True], "does not hold": [False]}
                wanted = states.get(words[2])
                among = self.among(self.cell(words[1]), [None] if wanted is None else wanted)
                found.append(({}, among if wanted is not None else lambda i, known=among: not known(i)))
            else:
                raise Unread(part)
        return found

    def among(self, cell: tuple[str, int], values: Sequence[Any]) -> Callable[[World], bool]:
        """Return the condition that a cell has one of some values."""
        return lambda i: self.own(i, cell) in values


def outcomes_of(made: Claimed) -> Iterator[tuple[str, str, str]]:
    """Yield for each sentence of a plan its kind, what came of it, and itself; of a false one with what was found."""
    entries = [] if made.response is None else source_changes(made.design._origin.built.outline, made.design.columns)  # type: ignore[attr-defined]
    readings = [("reading", Claim(made, name, text), f"{name}: {text}") for name, text in made.readings()]
    effects = [("effect", Change(made, entry), f"{entry.change} | {entry.where}") for entry in entries]
    for kind, claim, text in [*readings, *effects]:
        wrong = [pair for pair in claim.check() if not alike(*pair)]  # type: ignore[attr-defined]
        if wrong:
            yield kind, "false", f"{made.text}\n  {text}\n  found {wrong[0][0]:.6g}, claimed {wrong[0][1]:.6g}"
        else:
            yield kind, claim.outcome, text  # type: ignore[attr-defined]


def alike(one: float, other: float) -> bool:
    return abs(one - other) <= NEAR * max(1.0, abs(other), abs(one)) or one == other
