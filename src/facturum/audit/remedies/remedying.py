"""Remedies of what checks found: edits of the plan, each built and checked anew before it is told."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from facturum.audit.checks.finding import NOTE, Finding
from facturum.audit.map.entries import FindingEntry
from facturum.audit.map.report import BuildReport, report_of
from facturum.audit.remedies.edits import Edit, Remedies, spans
from facturum.data.values import Kind
from facturum.engine.passes.build import Built, build
from facturum.engine.passes.outline import INTERCEPT
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import FacturumError, named
from facturum.language.core.arithmetic import Power
from facturum.language.core.literals import Number
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Node

MOST_FINDINGS = 8  # of which edits are tried
MOST_EDITS = 5  # of one finding
MOST_COLUMNS = 300  # of a plan whose edits are tried
POOLS = (5, 0.02, 0.05, 0.1)  # rows, or shares of the rows, below which categories are put together
GATHERED = ("rare", "few_rows", "separation")  # checks that pooling cures
DEPENDENT = ("dependence", "duplicate", "near_dependence")
NOTHING = "None of the remedies that were tried removes it."


@dataclass(frozen=True)
class Tried:
    """A plan built anew, and what its checks find."""

    built: Built
    findings: tuple[Finding, ...]

    def mends(self, finding: Finding, before: Tried) -> bool:
        """Return whether a finding of the plan before is gone, and no check warns or notes more than it did."""
        own, others = (Counter((each.check, each.level) for each in plan.findings) for plan in (self, before))
        kind = finding.check, finding.level
        fewer = own[kind] < others[kind] and all(count <= others[kind] for kind, count in own.items())
        return fewer and not _there(finding, self.findings)


def remedied(findings: Sequence[Finding], report: BuildReport, plan: PlanSpec) -> list[Finding]:
    """Return findings with remedies that came out: edits without which they are there, and with which they are gone.

    Args:
        findings: of the build.
        report: on it.
        plan: as written.
    """
    workshop = _Workshop(report, plan)
    known = [each for each in findings if each.check == "leak" and each.level == NOTE]  # an id, as a person knows
    open_ones = [each for each in findings if each.edit is None and each.remedy and each not in known]
    first = [id(each) for each in open_ones[:MOST_FINDINGS]] if workshop.open else []
    with np.errstate(all="ignore"):  # edits may lead beyond the doubles, and then mend nothing
        return _as_one([workshop.mended(each) if id(each) in first else each for each in findings])


def _as_one(findings: Sequence[Finding]) -> list[Finding]:
    """Return findings, variances that one edit mends as one, in the place of the first."""
    alike: dict[str, list[Finding]] = {}
    for each in findings:
        if each.check == "near_dependence" and each.edit is not None:
            alike.setdefault(str(Edit(each.edit)), []).append(each)
    told: list[Finding] = []
    for each in findings:
        key = "" if each.edit is None or each.check != "near_dependence" else str(Edit(each.edit))
        same = alike.get(key, [each])
        if len(same) == 1:
            told.append(each)
        elif each is same[0]:
            others = named([other.columns[0] for other in same[1:]])
            columns = tuple(dict.fromkeys(name for other in same for name in other.columns))
            more = f"Those of {others} are inflated too." if len(same) > 2 else f"That of {others} is inflated too."
            told.append(replace(each, text=f"{each.text} {more}", columns=columns))
    return told


class _Workshop:
    """Where edits are tried."""

    def __init__(self, report: BuildReport, plan: PlanSpec) -> None:
        self._report, self._outline, self._plan = report, report.outline, plan
        self._remedies = Remedies(plan, self._outline)
        self.open = len(self._outline.columns) <= MOST_COLUMNS and self._remedies.possible
        self._known: dict[str, Tried | None] = {}

    @cached_property
    def _before(self) -> Tried | None:
        return self._tried(Edit({}))

    def _tried(self, edit: Edit) -> Tried | None:
        """Return the plan with an edit, built and checked; None where it cannot be built."""
        key = str(edit)
        if key not in self._known:
            try:
                built = build(edit.applied(self._remedies.plan), self._remedies.table)
                report, _ = report_of(built)
                rows = report.totals.kept
                found = report.checks.findings(report.moments, report.response_moments, rows, built.spec, trying=False)
                self._known[key] = Tried(built, tuple(found))
            except FacturumError:
                self._known[key] = None
        return self._known[key]

    def mended(self, finding: Finding) -> Finding:
        """Return a finding with the first edit that mends it; where edits were tried in vain, saying so."""
        before = self._before
        edits = [edit for edit in self._edits(finding) if edit.applied(self._plan).terms][:MOST_EDITS]
        if before is None or not edits or not _there(finding, before.findings):
            return finding
        mending: list[tuple[Edit, bool]] = []
        for edit in edits:
            after = self._tried(edit)
            if after is None or not after.mends(finding, before):
                continue
            fewer = finding.check == "near_dependence" and None in edit.terms.values() and not any(edit.terms.values())
            same = not fewer and _same_fit(before.built, after.built)
            mending.append((edit, same))
            if same or finding.check not in DEPENDENT:
                break
        if not mending:
            return finding if finding.check == "extremes" else replace(finding, remedy=NOTHING)
        edit, same = next((each for each in mending if each[1]), mending[0])
        return replace(finding, remedy=_said(finding, edit, same), edit=dict(edit.terms))

    def _terms(self, finding: Finding) -> list[str]:
        """Return the terms of the columns of a finding, the last first."""
        named = {*finding.columns}
        terms = [c.term for c in self._outline.columns if c.name in named and c.role != INTERCEPT]
        return [term for term in dict.fromkeys(reversed(terms)) if term in self._plan.terms]

    def _edits(self, finding: Finding) -> Iterator[Edit]:
        """Yield edits that may mend a finding, those that change less first."""
        terms = self._terms(finding)
        nodes = {term: parse(self._plan.terms[term]) for term in terms}
        if finding.check in GATHERED:
            for pool in POOLS:
                changed = {term: str(new) for term, node in nodes.items() if (new := self._pooled(node, pool))}
                if changed:
                    yield Edit(changed)
        elif finding.check == "extremes":
            for wrapped in ("winsorize({}, shares=[0.01, 0.99])", "log({})", "log(winsorize({}, shares=[0.01, 0.99]))"):
                yield from (Edit({term: wrapped.format(node)}) for term, node in nodes.items())
        elif finding.check == "scale":
            yield from self._rescaled(finding, nodes)
        if finding.check == "near_dependence" and (centred := self._remedies.centred([*self._plan.terms])) is not None:
            yield centred
        if finding.check in DEPENDENT:
            yield from self._curves(nodes)
            for term, node in nodes.items():
                if (new := _with_option(node, "coding", "every", "reference")) is not None:
                    yield Edit({term: str(new)})
                if (new := _with_option(node, "orthogonal", False, True)) is not None:
                    yield Edit({term: str(new)})
        if finding.check in (*DEPENDENT, "constant", "leak", "separation", "rare"):
            yield from (Edit({term: None}) for term in terms)

    def _curves(self, nodes: dict[str, Node]) -> Iterator[Edit]:
        """Yield powers of one number as one orthogonal polynomial, in the place of the number itself."""
        plain = {str(parse(text)): term for term, text in self._plan.terms.items()}
        powers: dict[str, dict[int, str]] = {}
        for term, text in self._plan.terms.items():
            node = parse(text)
            if isinstance(node, Power) and isinstance(node.right, Number) and str(node.left) in plain:
                powers.setdefault(str(node.left), {})[int(node.right.value)] = term
        for number, terms in powers.items():
            if {*terms.values(), plain[number]} & {*nodes} and sorted(terms) == list(range(2, len(terms) + 2)):
                curve = f"polynomial({number}, {max(terms)}, orthogonal=True)"
                yield Edit({plain[number]: curve} | dict.fromkeys(terms.values()))

    def _pooled(self, node: Node, pool: float) -> Node | None:
        new = _with_option(node, "pool", None, pool)
        if new is None and not node.children():
            try:
                kind = self._outline.prepared.scope().type_of(node).kind
            except FacturumError:
                return None
            return parse(f"category({node}, pool={pool:g})") if kind in (Kind.CATEGORY, Kind.ORDERED) else None
        return new

    def _rescaled(self, finding: Finding, nodes: dict[str, Node]) -> Iterator[Edit]:
        """Yield the terms of two columns of unlike size, brought to the size of the others."""
        sizes = {c.name: self._report.moments.sd(at) for at, c in enumerate(self._outline.columns)}
        powers = {name: float(np.log10(size)) for name, size in sizes.items() if 0 < size < np.inf}
        middle = float(np.median([*powers.values()]))
        own = [column for column in self._outline.columns if column.name in finding.columns and column.term in nodes]
        for column in sorted(own, key=lambda each: (-abs(powers[each.name] - middle), -powers[each.name])):
            power, node = round(powers[column.name] - middle), nodes[column.term]
            text = f"({node})" if node.children() and not node.name else str(node)
            if node.has_option("degree") and power > 0 and node.children():  # a curve is made of a smaller number
                less = max(round(power / vars(node)["degree"]), 1)
                inner = parse(f"({node.children()[0]}) / 1e{less}")
                yield Edit({column.term: str(node.rebuilt([inner, *node.children()[1:]]))})
            elif power:
                yield Edit({column.term: f"{text} / 1e{power}" if power > 0 else f"{text} * 1e{-power}"})


def _said(finding: Finding, edit: Edit, same: bool) -> str:
    """Return an edit as a remedy."""
    words = str(edit)
    if finding.check == "extremes":
        return f"Check the cell, or {words}."
    fit = "; the fit stays the same" if same else ", which changes the fit" if finding.check in DEPENDENT else ""
    known = ", unless it is known beforehand" if finding.check == "leak" else ""
    return f"{words[0].upper()}{words[1:]}{fit}{known}."


def _there(finding: Finding, among: Sequence[Finding]) -> bool:
    """Return whether a check finds the same of the columns; of inflated variances the first column is the one."""
    alike = [each for each in among if each.check == finding.check]
    if finding.check == "near_dependence":
        return any(each.columns[:1] == finding.columns[:1] for each in alike)
    return any({*each.columns} >= {*finding.columns} for each in alike)


def _same_fit(before: Built, after: Built) -> bool:
    """Return whether two matrices span the same."""
    old, new = before.X, after.X
    if not isinstance(old, np.ndarray) or not isinstance(new, np.ndarray) or len(old) != len(new):
        return False
    return bool(np.isfinite(old).all() and np.isfinite(new).all()) and spans(old, new) and spans(new, old)


def _with_option(node: Node, name: str, old: Any, new: Any) -> Node | None:
    """Return an expression in which an option, of the first operation that has it so, is another; None without one."""
    if node.has_option(name) and getattr(node, name) == old:
        return node.replaced(**{name: new})
    children = list(node.children())
    for at, child in enumerate(children):
        if (changed := _with_option(child, name, old, new)) is not None:
            return node.rebuilt([*children[:at], changed, *children[at + 1 :]])
    return None


def numbered(findings: Sequence[FindingEntry]) -> list[list[FindingEntry]]:
    """Return the findings that have a remedy, those together whose remedy is the same edit, in the order of numbers."""
    alike: dict[str, list[FindingEntry]] = {}
    for finding in findings:
        if finding.edit:
            alike.setdefault(str(Edit(finding.edit)), []).append(finding)
    return [*alike.values()]
