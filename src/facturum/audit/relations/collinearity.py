"""Exact and near dependence among the columns, told as the relation itself."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from facturum.audit.checks.finding import NOTE, WARNING, Finding, rounded, times_text
from facturum.audit.relations.relation_text import leave_out, relation_text
from facturum.audit.remedies.edits import Edit, Outcome, Remedies
from facturum.engine.passes.outline import BuiltColumn, Outline
from facturum.errors import counted, named
from facturum.numerics.linear.inflation import Inflation
from facturum.numerics.linear.relations import Relation, independent, relations, taken_out
from facturum.numerics.linear.triangular import Factor

HIGH = 10.0  # a variance inflation factor below which none is told (Belsley, Kuh & Welsch 1980 use 30 and 10)
TOLD = 30.0  # one from which on it is told that columns explain another
SEVERE = (
    100.0  # one from which on that is a warning, and it is told that centring lowers it, which is no harm to the fit
)
NOISE = 1e-12  # of the size of columns, in what they add up to
SINGLY = 6  # exact relations of a term that are told one by one
ENOUGH = 0.5  # of the inflation, that the columns named come to by themselves
MOST_BEHIND = 6  # columns named
NEARLY = 0.9  # of it, from which on the columns named are all that is told
ROUNDING = 1e-12


@dataclass(frozen=True)
class Collinearity:
    """The linear relations among the predictors of a build, and how much they inflate variances.

    Args:
        outline: the columns.
        columns: the predictors.
        factor: of all rows, predictors first.
        constant: the predictors that are constant.
        learning: the factor of the learning rows, where there are others.
        learning_constant: the predictors constant in these.
    """

    outline: Outline
    columns: Sequence[BuiltColumn]
    factor: Factor
    constant: frozenset[int]
    learning: Factor | None
    learning_constant: frozenset[int]

    @property
    def _intercept(self) -> bool:
        return self.outline.spec.intercept

    @cached_property
    def usable(self) -> list[int]:
        """The predictors that can have a coefficient beside an intercept, if there is one."""
        zero = {at for at in self.constant if self._intercept or self.factor.zero[at]}
        return [at for at in range(len(self.columns)) if at not in zero]

    @cached_property
    def relations(self) -> list[Relation]:
        """The relations that hold in all rows."""
        return relations(self.factor, self._intercept, self.usable)

    @cached_property
    def basis(self) -> list[int]:
        """Independent columns: without the last column of each exact relation."""
        return independent(self.relations, self.usable)[: max(self.factor.rows - 1, 0)]

    @cached_property
    def inflation(self) -> Inflation | None:
        """The inflation among the columns of the basis; None where there are too few rows."""
        if not self.basis or self.factor.rows <= len(self.basis) + 1:
            return None
        part = self.factor.of_columns(self.basis)
        return Inflation.of(part.centred if self._intercept else part.raw)

    @cached_property
    def factors(self) -> dict[int, float]:
        """The variance inflation factor of each column of the basis."""
        if self.inflation is None:
            return {}
        return dict(zip(self.basis, self.inflation.of_columns().tolist(), strict=True))

    @cached_property
    def by_term(self) -> dict[str, tuple[int, float]]:
        """For each term with columns in the basis, how many there are, and their generalised inflation."""
        if self.inflation is None:
            return {}
        places: dict[str, list[int]] = {}
        for at, column in enumerate(self.basis):
            places.setdefault(self.columns[column].term, []).append(at)
        single = list(self.factors.values())  # of one column it is the inflation of that
        return {
            term: (len(own), self.inflation.of_group(own) if len(own) > 1 else single[own[0]])
            for term, own in places.items()
        }

    @cached_property
    def condition(self) -> tuple[float, float] | None:
        """The condition number of the columns scaled to length 1, the intercept among them, and when centred."""
        if self.inflation is None:
            return None
        part = self.factor.of_columns(self.basis)
        whole = np.column_stack([part.triangle[:, 0], part.raw]) if self._intercept else part.raw
        return Inflation.of(whole).condition, self.inflation.condition

    def _names(self, at: Sequence[int]) -> tuple[str, ...]:
        return tuple(self.columns[each].name for each in at)

    def findings(self, remedies: Remedies | None) -> Iterator[Finding]:
        """Yield what there is to say of exact relations, duplicates, near relations and inflation.

        Args:
            remedies: edits of the plan, which are tried before they are told; None for none.
        """
        yield from self._exact_ones()
        if self.learning is not None:
            yield from self._while_learning(self.learning)
        told = set()
        for each in self.relations:
            if not each.exact:
                told |= set(each.columns)
                yield self._near(each)
        yield from self._inflated(told, remedies)

    def _exact_ones(self) -> Iterator[Finding]:
        """Yield each exact relation, and those of a term with many of them together."""
        exact = [each for each in self.relations if each.exact]
        if len(exact) > SINGLY and self.factor.rows <= len(self.columns):
            yield self._few_rows(exact)
            return
        whole = [term for term, (_, out) in self._by_term(exact).items() if 1 < self._width(term) == len(set(out))]
        yield from (self._dependent_term(term, *self._by_term(exact)[term]) for term in whole)
        if whole:  # without them, relations among the others are told in the others alone
            left = [at for at in self.usable if self.columns[at].term not in whole]
            exact = [each for each in relations(self.factor, self._intercept, left) if each.exact]
        for term, (own, out) in self._by_term(exact).items():
            if len(own) > SINGLY:
                yield self._dependent_term(term, own, out)
            else:
                yield from (self._exact(each, "") for each in own)

    def _by_term(self, exact: list[Relation]) -> dict[str, tuple[list[Relation], list[int]]]:
        """Return exact relations by the term of the column that each takes out, and these columns."""
        by_term: dict[str, tuple[list[Relation], list[int]]] = {}
        for relation, at in zip(exact, taken_out(exact), strict=True):
            own, out = by_term.setdefault(self.columns[at].term, ([], []))
            own.append(relation)
            out.append(at)
        return by_term

    def _width(self, term: str) -> int:
        return sum(column.term == term for column in self.columns)

    def _few_rows(self, exact: list[Relation]) -> Finding:
        """Return that there are not enough rows for the columns, whose relations are accidents of these rows."""
        names = self._names([each.columns[-1] for each in exact])
        text = (
            f"{len(exact):,} of {len(self.columns):,} columns are linear combinations of others in the "
            f"{self.factor.rows:,} rows."
        )
        return Finding("dependence", text, names, remedy="Leave columns out, or take more rows.")

    def _dependent_term(self, term: str, own: list[Relation], out: list[int]) -> Finding:
        """Return that many columns of a term are combinations of others."""
        width = self._width(term)
        others = dict.fromkeys(self.columns[at].term for each in own for at in each.columns)
        terms = [other for other in others if other != term] or ["the others"]
        which = f"the {width:,} columns" if len(set(out)) == width else f"{len(own):,} of the {width:,} columns"
        names = self._names(out)
        text = f"{which} of {term} are linear combinations of those of {named(terms)}."
        return Finding("dependence", text, names, remedy=f"Leave out {term}, or those.")

    def _without_noise(self, relation: Relation) -> Relation:
        """Return a relation whose constant is 0 where it is a rounding error of the columns added up."""
        at = list(relation.columns)
        sizes = np.abs(np.array(relation.weights)) * (np.abs(self.factor.mean[at]) + self.factor.sd[at])
        return replace(relation, constant=0.0) if abs(relation.constant) <= NOISE * sizes.sum() else relation

    def _exact(self, relation: Relation, where: str) -> Finding:
        names, relation = self._names(relation.columns), self._without_noise(relation)
        text = relation_text(names, relation)
        if len(names) == 2 and abs(relation.weights[0] - 1) < 1e-12 and abs(relation.constant) <= 1e-12:
            text = f"{names[1]} is the same as {names[0]}{where}."
            return Finding("duplicate", text, names, remedy="Leave one of them out.")
        what, remedy = self._remedy(relation, names)
        return Finding("dependence", f"{text}{where}; {what}", names, remedy=remedy)

    def _remedy(self, relation: Relation, names: Sequence[str]) -> tuple[str, str]:
        """Return what follows from an exact relation, and what cures it."""
        own = {self.columns[at].term for at in relation.columns}
        whole = len(own) == 1 and len(relation.columns) == sum(column.term in own for column in self.columns)
        measures = [column.measure for at in relation.columns if (column := self.columns[at].column) is not None]
        if self._intercept and whole and {*measures} == {"indicator"} and len(names) > 1:
            what = f"the columns of {next(iter(own))} add up to the intercept."
            return what, "Write coding='reference', or intercept = false."
        return f"{named(names)} have no coefficients of their own.", leave_out(names)

    def _while_learning(self, learning: Factor) -> Iterator[Finding]:
        """Yield the relations that hold only in the learning rows."""
        usable = [at for at in self.usable if at not in self.learning_constant]
        for relation in relations(learning, self._intercept, usable):
            if relation.exact and not self._holds(relation):
                yield self._exact(relation, ", in the learning rows only")
        gone = sorted(self.learning_constant - self.constant)
        for at in gone:
            name = self.columns[at].name
            value = 0.0 if learning.zero[at] else rounded(float(learning.mean[at]))
            yield Finding(
                "constant",
                f"{name} is {value:.6g} in every learning row, and has no coefficient there.",
                (name,),
                remedy="Leave it out, or learn from other rows.",
            )

    def _holds(self, relation: Relation) -> bool:
        """Return whether a relation holds in all rows too."""
        at = list(relation.columns)
        matrix = self.factor.centred if self._intercept else self.factor.raw
        left = np.linalg.norm(matrix[:, at] @ np.array(relation.weights))
        parts = np.abs(np.array(relation.weights)) * np.sqrt(np.square(self.factor.raw[:, at]).sum(axis=0))
        return bool(left <= 1e-13 * parts.sum())

    def _near(self, relation: Relation) -> Finding:
        names = self._names(relation.columns)
        text = relation_text(names, relation, near=True)
        return Finding(
            "near_dependence",
            f"{text}, apart from {relation.apart:.1g} of the spread of {names[-1]}.",
            names,
            remedy=f"Leave out one of {named(names)}.",
        )

    def _inflated(self, told: set[int], remedies: Remedies | None) -> Iterator[Finding]:
        """Yield, of columns whose variance is inflated, those behind it and whether centring would cure it."""
        if self.inflation is None or self.condition is None:
            return
        free = (self.factor.rows - len(self.basis) - 1) / max(self.factor.rows - 1, 1)  # by chance, it is 1 / free
        high = {at: value for at, value in self.factors.items() if value * free > HIGH and at not in told}
        cured = self._cure(high, remedies) if any(value * free > TOLD for value in high.values()) else None
        if cured is not None:
            lowered = self._cured(high, cured[1])
            if high[lowered[0]] >= SEVERE:
                yield self._cured_text(high, *cured)
            high = {at: value for at, value in high.items() if at not in lowered}
        high = {at: value for at, value in high.items() if value * free > TOLD}
        done: set[int] = set()
        together: list[int] = []
        for at, value in sorted(high.items(), key=lambda item: -item[1]):
            if at in done:
                continue
            behind, alone = self._behind(at, value) if len(together) < MOST_BEHIND else ([], 0.0)
            done |= {at, *[other for other in behind if other in high]}
            if behind:
                yield self._inflated_text(high, [at], behind, alone)
            else:
                together.append(at)
        if together:
            yield self._inflated_text(high, together, [], 0.0)

    def _cured(self, high: Mapping[int, float], outcome: Outcome) -> list[int]:
        """Return the inflated columns that an edit brings below the bound, or to a tenth, the worst first."""
        after = {at: outcome.of(self.columns[at].name) for at in high}
        return sorted((at for at in high if after[at] <= max(HIGH, high[at] / 10)), key=lambda at: -high[at])

    def _cure(self, high: Mapping[int, float], remedies: Remedies | None) -> tuple[Edit, Outcome] | None:
        """Return the edit that centres numbers in powers and products, where it lowers inflation and keeps the fit."""
        if not high or not self._intercept or remedies is None:
            return None
        terms = list(dict.fromkeys(self.columns[at].term for at in range(len(self.columns))))
        edit = remedies.centred(terms)
        outcome = None if edit is None else remedies.tried(edit)
        if edit is None or outcome is None or not outcome.same_fit:
            return None
        return (edit, outcome) if self._cured(high, outcome) else None

    def _cured_text(self, high: Mapping[int, float], edit: Edit, outcome: Outcome) -> Finding:
        cured = self._cured(high, outcome)
        names = self._names(cured)
        told = [f"{self.columns[at].name} {times_text(high[at])} times" for at in cured[:3]]
        more = f" and {counted(len(cured) - 3, 'other')}" if len(cured) > 3 else ""
        largest = max(outcome.of(name) for name in names)
        text = (
            f"variances of coefficients are inflated ({', '.join(told)}{more}), since numbers far from 0 make powers "
            f"and products much like what they are made of. Centred, none is inflated more than "
            f"{times_text(max(largest, 1.0))} times, and the fit stays the same: {edit}."
        )
        return Finding("near_dependence", text, names, level=NOTE, edit=dict(edit.terms))

    def _behind(self, at: int, value: float) -> tuple[list[int], float]:
        """Return few columns that inflate one half as much as all do, and how much; none where many are needed."""
        place = self.basis.index(at)
        part = self.factor.of_columns(self.basis)
        matrix = part.centred if self._intercept else part.raw
        matrix = matrix / np.linalg.norm(matrix, axis=0)
        chosen: list[int] = []
        left = matrix[:, place]
        others = [each for each in range(len(self.basis)) if each != place]
        rest = matrix.copy()
        while len(chosen) < MOST_BEHIND and others:
            sizes = np.linalg.norm(rest[:, others], axis=0)
            gains = np.abs(rest[:, others].T @ left) / np.where(sizes > ROUNDING, sizes, np.inf)
            best = others[int(np.argmax(gains))]
            direction = rest[:, best] / np.linalg.norm(rest[:, best])
            left = left - direction * (direction @ left)
            rest = rest - np.outer(direction, direction @ rest)
            others.remove(best)
            chosen.append(best)
            alone = 1.0 / max(float(left @ left), 1e-300)
            if alone >= ENOUGH * value:
                return [self.basis[each] for each in chosen], alone
        return [], 0.0

    def _inflated_text(
        self, high: Mapping[int, float], at: Sequence[int], behind: Sequence[int], alone: float
    ) -> Finding:
        names = self._names([*at, *behind])
        by = " by the other columns together"
        if behind and alone >= NEARLY * high[at[0]]:
            by = f" by {named(self._names(behind))}"
        elif behind:
            by = f", of this {times_text(alone)} times by {named(self._names(behind))} alone"
        remedy = "Leave one of them out, combine them, or accept wide intervals."
        if len(at) == 1:
            times = times_text(high[at[0]])
            text = f"the variance of the coefficient of {names[0]} is inflated {times} times{by}."
        else:
            told = [f"{self.columns[each].name} {times_text(high[each])} times" for each in at[:3]]
            more = f" and {counted(len(at) - 3, 'other')}" if len(at) > 3 else ""
            text = f"variances of coefficients are inflated ({', '.join(told)}{more}){by}."
        return Finding("near_dependence", text, names, level=NOTE if high[at[0]] < SEVERE else WARNING, remedy=remedy)

    def summary(self) -> str:
        """Return rank and condition in words."""
        rank = len(self.basis) + (1 if self._intercept else 0)
        width = len(self.columns) + (1 if self._intercept else 0)
        said = f"rank {rank} of {width}"
        if self.condition is None:
            return said
        whole, centred = self.condition
        return f"{said}; condition number {whole:.3g}" + (f", {centred:.3g} centred" if self._intercept else "")
