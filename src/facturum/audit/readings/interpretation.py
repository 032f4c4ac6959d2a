"""On what the coefficient of a column depends, as structure; the sentences are written by `readings`."""

from __future__ import annotations

from dataclasses import dataclass

from facturum.language.reading import Factor, Reading


@dataclass(frozen=True)
class Interpretation:
    """On what the coefficient of a column depends.

    Args:
        reading: what its column is read as.
        zero: the factors that must be 0 for it to be the effect of its column.
        apart: columns that differ as well: between rows of a condition and all others, over time, or between groups.
        steady: columns that change only at bounds of the number, which a small change does not cross.
        together: columns that move as well, so that it has no reading of its own.
        shared: the variables that these have in common.
        slope: the slope of all of them together.
        legend: the column that each letter in it stands for.
        mainless: factors of an interaction that are not columns of their own.
        alone: whether nothing else moves with the other factors of an interaction.
        filled: where missing values are compared, the value imputed elsewhere, "" where it differs; else None.
        elsewhen: variables that other columns read at other periods.
    """

    reading: Reading | None
    zero: tuple[Factor, ...] = ()
    apart: tuple[str, ...] = ()
    steady: tuple[str, ...] = ()
    together: tuple[str, ...] = ()
    shared: tuple[str, ...] = ()
    slope: str | None = None
    legend: tuple[str, ...] = ()
    mainless: tuple[Factor, ...] = ()
    alone: bool = True
    filled: str | None = None
    elsewhen: tuple[str, ...] = ()
