"""Answering the open questions of a plan, from the inside out, one pass over the data for each level."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from facturum.data.values import Array
from facturum.engine.blocks.leaves import TOGETHER, batched, run
from facturum.engine.blocks.rows import LeafRows
from facturum.engine.blocks.source import Source
from facturum.engine.passes.selection import Sample, Selection
from facturum.engine.planning.expressions.learned import Learned
from facturum.engine.planning.expressions.prepare import at_place
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.errors import DataError, FacturumError
from facturum.language.tree.failures import Unlearnable
from facturum.language.tree.nodes import Node, Question
from facturum.support.threads import thread_count


def learn(
    prepared: Prepared, threads: int | None = None, order: Callable[[int], list[int]] | None = None
) -> tuple[Prepared, Sample | None]:
    """Return the plan with every question answered, and its rows where answering them settled which remain.

    What decides which rows remain is answered from the kept learning rows, and all else from the learning rows that
    remain. Where an answer leaves further rows without a value, since nothing was seen of their group, all is answered
    again from the others.

    Args:
        prepared: the plan over the table that it learns from.
        threads: how many threads.
        order: for tests, the order in which the summaries of leaves are merged.

    Raises:
        DataError: where there is nothing to learn from, with the place in the plan.
    """
    asking = _Asking(threads, order)
    if not asking.ready(prepared):
        return prepared, None
    prepared = asking.decide(prepared)
    if not asking.ready(prepared):
        return prepared, None
    sample = Sample(prepared, prepared.source(), threads).settled()
    while True:
        learned = asking.answer(prepared, sample)
        if not any(each.node.leaves_out for each in learned.learned):
            return learned, sample
        remaining = Sample(learned, learned.source(), threads).settled()
        if remaining.totals.learned == sample.totals.learned:
            return learned, remaining
        sample = remaining


@dataclass(frozen=True)
class _Asking:
    """Answers open questions level by level, those first whose own expressions hold none.

    Args:
        threads: how many threads.
        order: the order in which the summaries of leaves are merged.
    """

    threads: int | None
    order: Callable[[int], list[int]] | None

    def ready(self, prepared: Prepared) -> dict[Node, Question]:
        """Return the open questions whose own expressions hold none."""
        answered = {each.answer for each in prepared.learned}
        scope = prepared.scope()
        open_questions: dict[Node, Question] = {}
        for root in prepared.parts().values():
            for node in root.walk():
                if node not in answered and node not in open_questions:
                    question = node.question(scope)
                    if question is not None:
                        open_questions[node] = question
        return {
            node: question
            for node, question in open_questions.items()
            if not any(part in open_questions for part in prepared.reached(node)[1:])
        }

    def decide(self, prepared: Prepared) -> Prepared:
        """Answer what decides which rows remain, from the learning rows that [rows] keep takes."""
        kept: Sample | None = None
        while True:
            deciding = prepared.deciding()
            asked = {node: question for node, question in self.ready(prepared).items() if node in deciding}
            if not asked:
                return prepared
            if kept is None:
                kept = Sample(prepared, prepared.source(), self.threads, complete=False).settled()
            prepared = self._answered(prepared, asked, kept, remaining=False)

    def answer(self, prepared: Prepared, sample: Sample) -> Prepared:
        """Answer all questions from the learning rows of a selection."""
        while asked := self.ready(prepared):
            prepared = self._answered(prepared, asked, sample, remaining=True)
        return prepared

    def _answered(self, prepared: Prepared, asked: dict[Node, Question], sample: Sample, remaining: bool) -> Prepared:
        answers = _answers(asked, prepared, prepared.source(), sample, self.threads, self.order)
        closed = {node: answer for node, (answer, _) in answers.items()}
        terms = prepared.terms_of(answers)
        learned = [Learned(node, answer, terms[node], rows, remaining) for node, (answer, rows) in answers.items()]
        return replace(prepared.map(lambda node: _replaced(node, closed)), learned=(*prepared.learned, *learned))


def _replaced(node: Node, answers: dict[Node, Node]) -> Node:
    if node in answers:
        return answers[node]
    children = node.children()
    changed = [_replaced(child, answers) for child in children]
    return node if all(a is b for a, b in zip(children, changed, strict=True)) else node.rebuilt(changed)


def _observed(node: Node, question: Question, rows: LeafRows) -> tuple[object, int]:
    """Return the summary of some rows and their number, or report those that do not allow an answer."""
    values = [rows.evaluate(part).full(rows.length) for part in question.inputs]
    try:
        return question.observe(values), question.seen(values)
    except Unlearnable as problem:
        raise rows.failure(node, problem.rows, problem.what, problem.remedy) from None


class _Open:
    """A question on its way through the rows: the summary of those seen so far, and how many it is answered from."""

    def __init__(self, question: Question) -> None:
        self.question = question
        self.summary: list[object] = []  # empty before the first rows
        self.rows = 0

    def add(self, parts: Sequence[tuple[object, int]]) -> None:
        self.summary = [self.question.merge([*self.summary, *[part for part, _ in parts]])]
        self.rows += sum(rows for _, rows in parts)


def _answers(
    questions: dict[Node, Question],
    prepared: Prepared,
    source: Source,
    sample: Sample,
    threads: int | None,
    order: Callable[[int], list[int]] | None,
) -> dict[Node, tuple[Node, int]]:
    """Ask all questions in common passes, until each is answered; give also from how many rows."""
    if not sample.totals.learned and any(question.inputs for question in questions.values()):
        raise DataError("the estimation sample has no rows", place="rows.learn", text=prepared.spec.rows.learn)
    pending = {node: _Open(question) for node, question in questions.items()}
    answers: dict[Node, tuple[Node, int]] = {}
    while pending:
        asked = {node: each.question for node, each in pending.items()}

        def work(selection: Selection, asked: dict[Node, Question] = asked) -> None:
            parts = _summaries(asked, prepared, source, selection, threads, order)
            for at, node in enumerate(asked):
                pending[node].add([part[at] for part in parts])

        sample.each(work)
        for node, question in asked.items():
            each = pending.pop(node)
            try:
                outcome = question.advance(each.summary[0])
            except FacturumError:
                place, text = prepared.where(node)
                with at_place(place or "terms", text):
                    raise
            if isinstance(outcome, Question):
                pending[node] = _Open(outcome)
            else:
                answers[node] = outcome, each.rows
    return answers


def _summaries(
    asked: dict[Node, Question],
    prepared: Prepared,
    source: Source,
    selection: Selection,
    threads: int | None,
    order: Callable[[int], list[int]] | None,
) -> list[list[tuple[object, int]]]:
    """Return what each leaf of a stretch says to each question, and how many of its rows do."""
    spans: list[tuple[int, int, Array | None]] = [(leaf.start, leaf.stop, leaf.learned) for leaf in selection.leaves]
    quick = all(question.quick for question in asked.values())
    if order is None and quick and all(rows is None for _, _, rows in spans):
        groups = batched([(start, stop) for start, stop, _ in spans], TOGETHER)
        spans = [(group[0][0], group[-1][1], None) for group in groups]

    def work(at: int) -> list[tuple[object, int]]:
        rows = source.rows(*spans[at])
        return [_observed(node, question, rows) for node, question in asked.items()]

    parts = run(work, len(spans), thread_count(1 if quick else threads), prepared)
    return parts if order is None else [parts[at] for at in order(len(parts))]
