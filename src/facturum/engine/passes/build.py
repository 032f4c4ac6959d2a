"""The whole way: from a plan and a table to a resolved plan, and from that to a matrix."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import count

import numpy as np

from facturum.data.table import Table
from facturum.data.values import FloatArray, Kind
from facturum.engine.blocks.source import Source
from facturum.engine.passes.learning import learn
from facturum.engine.passes.matrix import fill
from facturum.engine.passes.outline import INTERCEPT, RESPONSE, BuiltColumn, Outline
from facturum.engine.passes.selection import Sample, Selection
from facturum.engine.passes.sinks import MAX_COLUMNS, DenseSink, Sink, SparseSink
from facturum.engine.planning.expressions.prepare import at_place, prepare
from facturum.engine.planning.expressions.prepared import Prepared
from facturum.engine.planning.sections.column_names import column_names, refuse_equal_names, slug
from facturum.engine.planning.sections.spec import PlanSpec, VariableSpec
from facturum.engine.planning.shaping import Given
from facturum.errors import DataError
from facturum.language.core.arithmetic import Multiply
from facturum.language.tree.writer import in_words
from facturum.numerics.exact.moments import Moments
from facturum.numerics.linear.sparse import SparseColumns

MAX_PRODUCTS = 20_000  # columns of an interaction, a few characters of which would otherwise take minutes
Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Built:
    """The rows of a design matrix, all or those of a stretch, and how they came about.

    Args:
        outline: the resolved plan and its columns.
        source: the table.
        selection: which of its rows remain.
        X: doubles (rows, columns), column-major, or only its cells that are not zero.
        y: doubles (rows, k), or None.
        parts, response_parts: the moments of each leaf, of the columns of X and of y.
    """

    outline: Outline
    source: Source
    selection: Selection
    X: FloatArray | SparseColumns
    y: FloatArray | None
    parts: tuple[Moments, ...]
    response_parts: tuple[Moments, ...]

    @property
    def prepared(self) -> Prepared:
        """The resolved plan over the table."""
        return self.outline.prepared

    @property
    def spec(self) -> PlanSpec:
        """The resolved plan."""
        return self.outline.spec

    @property
    def columns(self) -> tuple[BuiltColumn, ...]:
        """One for each column of X."""
        return self.outline.columns

    @property
    def responses(self) -> tuple[BuiltColumn, ...]:
        """One for each column of y."""
        return self.outline.responses


def resolve(spec: PlanSpec, table: Table | Given, threads: int | None = None) -> Prepared:
    """Return a plan with every question answered on a table; a resolved plan comes back as it is.

    Raises:
        PlanError, DataError: as `prepare` and `learn` do.
    """
    return _resolve(spec, table, threads)[0]


def _resolve(spec: PlanSpec, table: Table | Given, threads: int | None) -> tuple[Prepared, Sample | None]:
    return answered(prepare(spec, table), threads)


def answered(prepared: Prepared, threads: int | None) -> tuple[Prepared, Sample | None]:
    """Return a plan with every question answered on its table, and its rows where answering them settled which remain.

    Raises:
        PlanError, DataError: as `learn` does.
    """
    if prepared.spec.resolved:
        return without_missing_response(prepared), None
    learned, sample = learn(prepared, threads)
    return resolved(learned), sample


def without_missing_response(prepared: Prepared) -> Prepared:
    """Return a resolved plan without its response where that is missing in every row given, as one that lies later is.

    Such rows are there to be predicted.
    """
    response, source = prepared.response, prepared.source()
    if response is None or not any(prepared.looks_along(part) for part in [response]):
        return prepared
    for start, stop in source.ranges():
        given = np.flatnonzero(source.row_numbers(np.arange(start, stop)) > 0)
        valid = source.rows(start, stop, given).valid(response)
        if len(given) and (valid is None or valid.any()):
            return prepared
    return replace(prepared, response=None)


def resolved(prepared: Prepared) -> Prepared:
    """Return a plan whose questions are answered in the form of a resolved one: texts, kinds, names of columns.

    Its expressions stay as they are: what has been learned does not pass through the parser, and errors show the text
    that was written.
    """
    names: dict[str, list[str]] = {}
    _check_again(prepared)
    _refuse_width(prepared)
    for key, term in prepared.terms.items():
        with at_place(f"terms.{key}", prepared.spec.terms[key]):
            names[key] = column_names(key, term.columns())
    intercept = {INTERCEPT: [INTERCEPT]} if prepared.spec.intercept else {}
    if prepared.response is not None:
        response_columns = prepared.response.columns()
        text = prepared.response.children()[0] if prepared.response.responds else prepared.spec.response
        names[RESPONSE] = column_names(slug(in_words(str(text))), response_columns)
        as_before = column_names(slug(str(text)), response_columns)  # version 0.1 had variable_ in the name
        if tuple(as_before) == prepared.spec.known_responses:
            names[RESPONSE] = as_before
    refuse_equal_names({**intercept, **names})
    spec = prepared.spec.model_copy(
        update={
            "response": None if prepared.response is None else str(prepared.response),
            "terms": {key: str(term) for key, term in prepared.terms.items()},
            "derived": {
                **{key: text for key, text in prepared.spec.derived.items() if key == prepared.spec.data.time},
                **{key: str(node) for key, node in prepared.derived.items()},
            },
            "rows": prepared.spec.rows.model_copy(
                update={key: prepared.condition_text(key) for key in ("keep", "learn")}
            ),
            "variables": _variables(prepared),
            "columns": names,
        }
    )
    held = {literal for root in prepared.parts().values() for node in root.walk() for literal in node.held}
    return replace(prepared, spec=spec.holding(held))


def _check_again(prepared: Prepared) -> None:
    """Check the expressions with the categories that have been learned, as those of a resolved plan will be."""
    scope = prepared.scope()
    for place, node in prepared.parts().items():
        with at_place(place, prepared.text(place)):
            scope.type_of(node)


def _refuse_width(prepared: Prepared) -> None:
    """Refuse more columns than a matrix may have, before any is made."""
    widths = {key: term.column_count() for key, term in prepared.terms.items()}
    for key, term in prepared.terms.items():
        if widths[key] > MAX_PRODUCTS and any(isinstance(part, Multiply) for part in term.walk()):
            raise DataError(
                f"the interaction would have {widths[key]:,} columns, and {MAX_PRODUCTS:,} are the most",
                place=f"terms.{key}",
                text=prepared.text(f"terms.{key}"),
                remedy="Pool or regroup the categories, or take interactions of many categories out.",
            )
    widest = max(widths, key=lambda key: widths[key])
    if sum(widths.values()) > MAX_COLUMNS:
        raise DataError(
            f"the matrix would have {sum(widths.values()):,} columns, {widths[widest]:,} of them of this term",
            place=f"terms.{widest}",
            text=prepared.spec.terms[widest],
            remedy="Pool or regroup the categories, or take interactions of many categories out.",
        )


def _variables(prepared: Prepared) -> dict[str, VariableSpec]:
    """Return the kinds of all variables that the plan reads, as a resolved plan states them."""
    roots = [
        *prepared.terms.values(),
        *[n for n in (prepared.response, prepared.keep, prepared.learn) if n is not None],
    ]
    used = list(dict.fromkeys(name for root in roots for name in prepared.sources(root)))
    variables: dict[str, VariableSpec] = {}
    for name in [*used, *[key for key in prepared.spec.variables if key not in used]]:
        given = prepared.spec.variables.get(name, VariableSpec.model_validate({}))
        if name not in prepared.table:  # a column that was stacked into another
            variables[name] = given
            continue
        variable = prepared.table[name]
        kind = "id" if variable.identity else str(variable.kind)
        order = list(variable.labels or ()) if variable.kind is Kind.ORDERED else given.order
        variables[name] = given.model_copy(update={"kind": kind, "order": order})
    return variables


def build(
    spec: PlanSpec,
    table: Table | Given,
    threads: int | None = None,
    leaf: int | None = None,
    progress: Progress | None = None,
    sparse: bool = False,
) -> Built:
    """Return the design matrix of a plan on a table, resolving the plan first where it is open.

    Args:
        spec: the plan.
        table: the rows, or the tables that the plan is given.
        threads: how many threads; the result does not depend on it.
        leaf: for tests, the rows of a leaf.
        progress: is called with the number of leaves filled and the number of all.
        sparse: whether only the cells of X that are not zero are held.

    Raises:
        PlanError: where the plan has no meaning.
        DataError: where the data do not allow the plan.
    """
    prepared, sample = _resolve(spec, table, threads)
    if sample is None or leaf is not None:
        sample = Sample(prepared, prepared.source(), threads, leaf=leaf).settled()
    tick = None if progress is None else _counter(progress, len(sample.whole.leaves))
    return built_rows(Outline(prepared), prepared.source(), sample.whole, threads, tick, sparse)


def built_rows(
    outline: Outline,
    source: Source,
    selection: Selection,
    threads: int | None = None,
    tick: Callable[[], None] | None = None,
    sparse: bool = False,
) -> Built:
    """Return the rows of the design matrix of a resolved plan that a selection takes.

    Args:
        outline: the plan and its columns.
        source: the table.
        selection: the rows.
        threads: how many threads.
        tick: is called after each leaf.
        sparse: whether only the cells of X that are not zero are held.

    Raises:
        DataError: where an operation has no finite value in some rows.
    """
    prepared = outline.prepared
    complete = prepared.spec.rows.missing != "keep"
    into = SparseSink if sparse else DenseSink
    sink: Sink[FloatArray | SparseColumns] = into.of(selection.count, len(outline.columns))
    X, parts, missing = fill(  # noqa: N806 - the field's standard name
        sink, outline.pieces, source, selection, prepared, threads, tick, complete
    )
    counts = dict(zip([f"terms.{key}" for key in prepared.terms], missing, strict=True))
    y: FloatArray | None = None
    response_parts: list[Moments] = []
    if outline.response_pieces:
        into_y = DenseSink.of(selection.count, len(outline.responses))
        y, response_parts, (counts[RESPONSE],) = fill(
            into_y, outline.response_pieces, source, selection, prepared, threads, complete=complete
        )
    if not complete:
        selection = replace(selection, missing_filled=counts)
    return Built(outline, source, selection, X, y, tuple(parts), tuple(response_parts))


def _counter(progress: Progress, total: int) -> Callable[[], None]:
    done = count(1)  # whose next number no two threads get
    return lambda: progress(next(done), total)
