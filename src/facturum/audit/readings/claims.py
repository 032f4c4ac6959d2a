"""What is claimed of a column's coefficient, and the columns of a term that are claimed alike."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from facturum.audit.counterfactual.reads import Reads
from facturum.engine.passes.outline import BuiltColumn
from facturum.language.meanings.meaning import Factor, Meaning
from facturum.language.meanings.numbers import Curve
from facturum.language.tree.nodes import Node


@dataclass(frozen=True)
class Claim:
    """On what the coefficient of a column depends: the change, the rows, and the columns that move beside it.

    Args:
        meaning: of the column; None for the intercept.
        zero: factors that are 0 in the rows that it is claimed for.
        apart: columns that move too, and whose part is left out.
        steady: columns that stay the same in the rows that it is claimed for.
        together: columns without which the coefficient means little.
        shared: the variables that they share.
        slope: what the slope of all of them together is.
        mainless: factors of an interaction that are not in the plan themselves, as the plan writes them.
        filled: where missing values are compared, the value imputed elsewhere, "" where it differs; else None.
        elsewhen: variables that other columns read at other periods.
        nowhere: whether no row can be as the intercept's sentence says.
        beside: of a wave, the other wave of its frequency; "" where it has none. None of anything else.
        constant: what the column is in every row, whatever the table holds; None where it can move.
        rows: on how many it was proved.
    """

    meaning: Meaning | None
    zero: tuple[Factor, ...] = ()
    apart: tuple[str, ...] = ()
    steady: tuple[str, ...] = ()
    together: tuple[str, ...] | None = None
    shared: tuple[str, ...] = ()
    slope: str | None = None
    mainless: tuple[str, ...] = ()
    filled: str | None = None
    elsewhen: tuple[str, ...] = ()
    nowhere: bool = False
    beside: str | None = None
    constant: float | None = None
    rows: int = 0


@dataclass(frozen=True)
class ColumnGroup:
    """Columns of one term whose factors are of one kind, such as the indicators of a category.

    Args:
        term: the key of the term.
        columns: their positions.
        factors: those of each.
        multiples: what the product of the factors of each is multiplied by.
    """

    term: str
    columns: tuple[int, ...]
    factors: tuple[tuple[Factor, ...], ...]
    multiples: tuple[float, ...]

    @property
    def nodes(self) -> tuple[Node, ...]:
        """The expression behind each factor, which all the columns share."""
        return tuple(factor.node for factor in self.factors[0] if factor.node is not None)


def groups_of(
    columns: Sequence[BuiltColumn], meanings: Sequence[Meaning | None], reads: Reads, worth: Callable[[Factor], float]
) -> list[ColumnGroup]:
    """Return the columns of a plan, those together that are claimed alike.

    A column whose factors are made of one variable is a curve, unless it is a number where a condition holds.

    Args:
        columns: of the plan.
        meanings: of each.
        reads: what expressions read.
        worth: returns what a factor that reads nothing is, a constant of the others.
    """
    alike: dict[tuple[object, ...], list[tuple[int, tuple[Factor, ...], float]]] = {}
    for at, (column, meaning) in enumerate(zip(columns, meanings, strict=True)):
        if meaning is None or column.column is None:
            continue
        found, multiple = meaning.factors()
        fixed = [f for f in found if f.node is not None and not f.stepwise and not reads.of(f.node)]
        constant = multiple * math.prod(worth(factor) for factor in fixed)
        if fixed and len(fixed) < len(found) and math.isfinite(constant):
            found, multiple = [factor for factor in found if factor not in fixed], constant
        variables = [name for factor in found if factor.node is not None for name in reads.moving(factor.node)]
        shared = len(set(variables)) < len(variables)
        cut = len(found) == 2 and len(set(variables)) == 1 and sum(factor.stepwise for factor in found) == 1
        if any(factor.node is None for factor in found) or (shared and not cut):
            found, multiple = [Curve(column.column.formula.subject(), node=column.column.formula)], 1.0
        key = (column.term, *((type(f), f.node, None if f.stepwise else f.curve_degree) for f in found))
        alike.setdefault(key, []).append((at, tuple(found), multiple))
    return [ColumnGroup(str(key[0]), *(tuple(part) for part in zip(*each, strict=True))) for key, each in alike.items()]
