"""Expressions that the engine writes itself, so that nobody outside the language names an operation."""

from __future__ import annotations

from facturum.data.time.calendar import period_of
from facturum.data.time.steps import PERIODS
from facturum.language.operations.absent.missing import IsMissing, MissingIf
from facturum.language.operations.categories.categories import Category
from facturum.language.operations.times.along import Lag, Lead
from facturum.language.operations.times.periods import PeriodOf
from facturum.language.operations.times.seasons import Part
from facturum.language.tree.nodes import Node


def as_category(x: Node, coding: str = "reference") -> Node:
    """Return the columns of a bare category."""
    return Category(x, coding=coding).put_at(x)


def is_missing(x: Node) -> Node:
    """Return the condition that an expression has no value."""
    return IsMissing(x)


def missing_where(x: Node, condition: Node) -> Node:
    """Return an expression without its values where a condition holds."""
    return MissingIf(x, condition)


def at_offset(x: Node, offset: int) -> Node:
    """Return an expression so many periods later, in the same unit."""
    return Lag(x, -offset) if offset < 0 else Lead(x, offset)


def part_of_time(time: Node, part: str) -> Node:
    """Return a part of a time, such as its month."""
    return Part(time, part)


def period_containing(time: Node, step: str) -> Node:
    """Return the period that a time lies in, as a category."""
    return PeriodOf(time, step)


def step_of_keys(node: Node) -> str | None:
    """Return the step of the periods that a table names, or None where its keys are not periods of one step.

    Example:
        >>> from facturum.language.syntax.parser import parse
        >>> step_of_keys(parse("lookup(day, {'2020-12-25': 1, '2020-12-26': 1}, 0)"))
        'day'
    """
    table = node.keyed()
    if table is None or len(table.keys) != 1:
        return None
    periods = [period_of(key) for (key,) in table.entries if isinstance(key, str)]
    steps = {None if period is None else period.step for period in periods}
    step = steps.pop() if len(steps) == 1 else None
    return step if step in PERIODS else None
