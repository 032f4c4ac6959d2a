"""Answering the open questions of a plan, from the inside out, one pass over the data for each level."""

from __future__ import annotations

from collections.abc import Callable

from facturum.data.values import Array, Mask
from facturum.engine.evaluate import LeafRows, Source
from facturum.engine.leaves import TOGETHER, batched, run, thread_count
from facturum.engine.prepare import Prepared, at_place, walk
from facturum.engine.scope import Scope
from facturum.engine.selection import Selection, select
from facturum.errors import DataError
from facturum.language.core import truths
from facturum.language.failures import Unlearnable
from facturum.language.nodes import Node, Question


def learn(
    made: Prepared, threads: int | None = None, order: Callable[[int], list[int]] | None = None
) -> tuple[Prepared, Selection | None]:
    """Return the plan with every question answered, and its rows where answering them settled which remain.

    Args:
        made: the plan over the table that it learns from.
        threads: how many threads.
        order: for tests, the order in which the summaries of leaves are merged.

    Raises:
        DataError: where there is nothing to learn from, with the place in the plan.
    """
    answered: set[Node] = set()
    selection: Selection | None = None
    kept: Selection | None = None
    visible = _visible(made)
    while True:
        scope = made.scope()
        ready = _ready(made, scope, answered)
        if not ready:
            return made, None if visible is not None else selection
        source = made.source(visible)
        deciding = made.deciding()
        plain = {node: question for node, question in ready.items() if not question.remaining or node in deciding}
        if plain:
            selection = None
            kept = kept or select(made, source, threads, complete=False)
            answers = _answers(plain, made, source, kept, threads, order)
        else:
            selection = select(made, source, threads)
            answers = _answers(ready, made, source, selection, threads, order)
            if any(getattr(node, "unseen", "") == "missing" for node in answers):
                selection = None  # rows of categories left out have no value now
        answered |= set(answers.values())
        made = made.map(lambda node, found=answers: _replaced(node, found))  # type: ignore[misc]


def _visible(made: Prepared) -> Mask | None:
    """Return the learning rows where an operation along time could otherwise look at others while learning."""
    if made.learn is None or not any(made.looks_along(root) for root in made.parts().values()):
        return None
    values = made.source().frame.whole(made.learn)
    holds: Mask = truths(values)
    return holds if values.valid is None else holds & values.valid


def _ready(made: Prepared, scope: Scope, answered: set[Node]) -> dict[Node, Question]:
    """Return the open questions whose own expressions hold none."""
    open_questions: dict[Node, Question] = {}
    for root in made.parts().values():
        for node in walk(root):
            if node not in answered and node not in open_questions:
                question = node.question(scope)
                if question is not None:
                    open_questions[node] = question
    return {
        node: question
        for node, question in open_questions.items()
        if not any(part in open_questions for part in made.reached(node)[1:])
    }


def _replaced(node: Node, answers: dict[Node, Node]) -> Node:
    if node in answers:
        return answers[node]
    children = node.children()
    changed = [_replaced(child, answers) for child in children]
    return node if all(a is b for a, b in zip(children, changed, strict=True)) else node.rebuilt(changed)


def _observed(node: Node, question: Question, rows: LeafRows) -> object:
    """Return the summary of some rows, or tell those from which a question cannot be answered."""
    try:
        return question.observe([rows.of(part).full(rows.length) for part in question.inputs])
    except Unlearnable as problem:
        raise rows.failure(node, problem.rows, problem.what, problem.remedy) from None


def _answers(
    questions: dict[Node, Question],
    made: Prepared,
    source: Source,
    selection: Selection,
    threads: int | None,
    order: Callable[[int], list[int]] | None,
) -> dict[Node, Node]:
    """Ask all questions in common passes, until each is answered."""
    spans: list[tuple[int, int, Array | None]] = [(leaf.start, leaf.stop, leaf.learned) for leaf in selection.leaves]
    if all(rows is not None and not len(rows) for _, _, rows in spans) and any(q.inputs for q in questions.values()):
        raise DataError("no row is left to learn from", place="rows.learn", text=made.spec.rows.learn)
    if order is None and all(rows is None for _, _, rows in spans) and all(q.quick for q in questions.values()):
        groups = batched([(start, stop) for start, stop, _ in spans], TOGETHER)
        spans = [(group[0][0], group[-1][1], None) for group in groups]
    pending = dict(questions)
    answers: dict[Node, Node] = {}
    while pending:
        asked = list(pending.items())

        def work(at: int, asked: list[tuple[Node, Question]] = asked) -> list[object]:
            rows = source.rows(*spans[at])
            return [_observed(node, question, rows) for node, question in asked]

        quick = all(question.quick for _, question in asked)
        parts = run(work, len(spans), thread_count(1 if quick else threads), made.where)
        if order is not None:
            parts = [parts[at] for at in order(len(parts))]
        for at, (node, question) in enumerate(asked):
            place, text = made.where(node)
            with at_place(place or "terms", text):
                outcome = question.advance(question.merge([part[at] for part in parts]))
            if isinstance(outcome, Question):
                pending[node] = outcome
            else:
                del pending[node]
                answers[node] = outcome
    return answers
