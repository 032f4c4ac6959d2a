"""The slope of several columns in one number: derivatives of their formulas, which the engine's own values confirm."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from facturum.audit.counterfactual.probes import Probes, changes_to
from facturum.language.differentiation import NoDerivativeError, derivative, slope_term
from facturum.language.tree.nodes import Node

MOST_COLUMNS = 6  # whose slope is told
AGREES = 1e-4  # of the slope


def slope_text(formulas: Sequence[Node], names: Sequence[str], variable: str, probes: Probes) -> str | None:
    """Return the slope in a variable that columns have together; None where it has none, or where that is not so.

    Args:
        formulas: of the columns, the one that is told of first.
        names: of the columns.
        variable: in which they are differentiated.
        probes: rows on which the slope is compared with differences of the columns themselves.
    """
    if len(formulas) > MOST_COLUMNS:
        return None
    try:
        slopes = [derivative(formula, variable, probes.derived) for formula in formulas]
        terms = [slope_term("b" if not at else f"b[{names[at]}]", slope) for at, slope in enumerate(slopes)]
    except NoDerivativeError:
        return None
    if not all(_confirmed(formula, slope, variable, probes) for formula, slope in zip(formulas, slopes, strict=True)):
        return None
    return " + ".join(terms).replace("+ −", "− ").replace("+ -", "− ")


def _confirmed(formula: Node, slope: Node, variable: str, probes: Probes) -> bool:
    """Return whether a derivative is what small changes of the variable come to."""
    rows = np.arange(probes.worlds.count)
    nearby = probes.nearby(variable)
    if nearby is None:
        return False
    candidates, step = nearby
    worlds, at = np.repeat(rows, 5), np.tile(np.arange(5), len(rows))
    found = probes.worlds.values(worlds, changes_to(candidates, worlds, at), formula).reshape(-1, 5)
    wide, narrow = (found[:, 2] - found[:, 1]) / (2 * step), (found[:, 4] - found[:, 3]) / step
    exact = probes.worlds.values(rows, [], slope)
    with np.errstate(all="ignore"):
        smooth = np.abs(wide - narrow) <= AGREES * np.maximum(np.abs(wide), np.abs(narrow)) + 1e-300
        agrees = np.abs(narrow - exact) <= AGREES * np.maximum(np.abs(exact), np.nanmax(np.abs(exact), initial=0.0))
    chosen = smooth & np.isfinite(exact)
    return bool(chosen.any() and agrees[chosen].all())
