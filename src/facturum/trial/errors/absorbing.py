"""The degrees of freedom that the groups of a within transformation take, and the leverage of their indicators."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from facturum.audit.map.entries import ColumnMap
from facturum.data.values import Array, FloatArray
from facturum.errors import FacturumError
from facturum.language.core.arithmetic import Subtract
from facturum.language.syntax.parser import parse
from facturum.language.tree.nodes import Node

MOST_GROUPS = 4_000  # of the smaller of two groupings, whose leverages need a matrix of that size


@dataclass(frozen=True)
class Absorbed:
    """What the indicators of groups, which a within transformation stands for, take of the degrees of freedom.

    Args:
        degrees: how many they take beside an intercept.
        groupings: what forms the groups of one or two sets, as expressions.
    """

    degrees: int
    groupings: tuple[tuple[Node, ...], ...]

    def __bool__(self) -> bool:
        return bool(self.groupings)

    @property
    def text(self) -> str:
        """What forms the groups, in words."""
        return " and of ".join(" and ".join(key.subject() for key in keys) for keys in self.groupings)


NOTHING = Absorbed(0, ())


def absorbed_by(columns: ColumnMap) -> Absorbed:
    """Return what the groups take of the degrees of freedom of a regression with the response of a build.

    Beside a response less the effects of its groups, least squares is the regression with an indicator for each group,
    once the predictors are transformed alike (Frisch & Waugh 1933). The same holds of a response less its group means
    that a plan writes out.
    """
    written, resolved = (_parsed(spec.get("response")) for spec in (columns.plan, columns.resolved))
    if resolved is None:
        return NOTHING
    found = [node for node in resolved.walk() if node.pools and node.has_levels]
    if found:
        most = max(found, key=lambda node: node.absorbed or 0)
        return Absorbed(most.absorbed or 0, most.groupings())
    if isinstance(written, Subtract) and isinstance(resolved, Subtract):
        of, by = written.right.mean_within() or (None, ())
        table = resolved.right.keyed()
        if table is not None and by and of == written.left:
            return Absorbed(len(table.entries) - 1, (by,))
    return NOTHING


def _parsed(text: object) -> Node | None:
    try:
        return parse(text, True) if isinstance(text, str) else None
    except FacturumError:
        return None


def group_leverages(groupings: Sequence[Array]) -> FloatArray:
    """Return the leverage of each row in a regression on the indicators of one or two groupings, doubles (rows,).

    Of one grouping it is one over the rows of the group. Of two it is that of the first, and that of the indicators of
    the second less their means within the first (Frisch, Waugh & Lovell).

    Args:
        groupings: the number of the group of each row, counted from 0, of each grouping.

    Example:
        >>> group_leverages([np.array([0, 0, 1])]).tolist()
        [0.5, 0.5, 1.0]
        >>> group_leverages([np.array([0, 0, 1, 1]), np.array([0, 1, 0, 1])]).tolist()
        [0.75, 0.75, 0.75, 0.75]
    """
    first = np.asarray(groupings[0])
    if len(groupings) == 1:
        return np.asarray(1.0 / np.bincount(first)[first])
    second = np.asarray(groupings[1])
    if second.max() > first.max():
        first, second = second, first
    from scipy import sparse  # loaded when it is needed, for commands to start at once

    sizes = np.bincount(first)
    ones = np.ones(len(first))
    shared = sparse.csr_array((ones, (first, second)), shape=(len(sizes), int(second.max()) + 1))
    within = (shared.T @ (sparse.diags_array(1.0 / sizes) @ shared)).toarray()
    inner = np.linalg.pinv(np.diag(np.bincount(second).astype(float)) - within, rcond=1e-12, hermitian=True)
    means = sparse.csr_array(sparse.diags_array(1.0 / sizes) @ shared)  # of the second's indicators, by group
    projected = means @ inner
    inside = np.asarray(means.multiply(projected).sum(axis=1)).ravel()
    own = np.diagonal(inner)[second] - 2 * projected[first, second] + inside[first]
    return np.asarray(1.0 / sizes[first] + own)
