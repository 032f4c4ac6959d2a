"""What operations tell of themselves beside their values, so that nobody outside the language asks for their class."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, fields
from typing import TYPE_CHECKING, ClassVar, TypeVar

from facturum.data.values import Kind, Label, Mask
from facturum.language.options import Absent

if TYPE_CHECKING:
    from facturum.language.nodes import Node
    from facturum.language.rows import Rows

_K = TypeVar("_K")


@dataclass(frozen=True)
class Surroundings:
    """What the plan and its table say for all expressions.

    Args:
        choices: the variables that selectors choose among, with their kinds.
        time: the time of the row.
        ids: those that look like ids.
        first_day: the day on which weeks start, None for Mondays.
        references: for a variable the category that others are compared with.
    """

    choices: Mapping[str, Kind]
    time: str | None
    ids: Collection[str] = ()
    first_day: str | None = None
    references: Mapping[str, Label] = field(default_factory=dict)


@dataclass(frozen=True)
class KeyedTable:
    """A table by which values are replaced, as it is written.

    Args:
        keys: the expressions whose values are looked for.
        entries: the keys of the table, each with one part for each expression.
        otherwise: what other values get.
    """

    keys: tuple[Node, ...]
    entries: tuple[tuple[Label | Absent, ...], ...]
    otherwise: Label | Absent


@dataclass(frozen=True)
class RawScale:
    """The scale of an expression whose function can be undone.

    Args:
        how: "log", "sqrt" or "asinh".
        of: what it is taken of.
        shift: what is added before.
    """

    how: str
    of: Node
    shift: float = 0.0


class Traits:
    """What an operation tells of itself; these are the answers of one that is nothing special."""

    groups_by: ClassVar[frozenset[str]] = frozenset()  # the arguments that only identify groups, as an id may
    categorizes: ClassVar[frozenset[str]] = frozenset()  # the arguments whose values it takes as categories
    pools: ClassVar[bool] = False  # learns something of each of its groups
    has_levels: ClassVar[bool] = False  # each of its groups has a level of its own
    sums_up: ClassVar[bool] = False  # adds its items, which so measure one thing
    selects: ClassVar[bool] = False  # chooses among the variables of the table
    responds: ClassVar[bool] = False  # its columns together can be the response
    cuts_numbers: ClassVar[bool] = False  # into intervals, whose rows are counted besides
    named_in_formulas: ClassVar[bool] = False  # is a definition of its own, however short it is
    absorbed: int | None = None  # the degrees of freedom that the groups it takes off take

    @property
    def many_columns(self) -> bool:
        """Whether it has several columns by its form."""
        return False

    @property
    def named_by_bounds(self) -> bool:
        """Whether its categories are intervals of a number, which are called by their bounds."""
        return False

    @property
    def compared_with(self) -> Label | None:
        """The category that the others are compared with, None where there is none."""
        return None

    @property
    def moved(self) -> Node | None:
        """The expression that it reads at other periods of the unit, None where it reads none."""
        return None

    def groupings(self) -> tuple[tuple[Node, ...], ...]:
        """Return what forms its groups: one tuple of expressions for each grouping."""
        return ()

    def mean_within(self) -> tuple[Node, tuple[Node, ...]] | None:
        """Return what it is the mean of, and within which groups; None where it is no mean."""
        return None

    def as_period(self) -> tuple[Node, str] | None:
        """Return of which time it is the period, and how long that is; None where it is none."""
        return None

    def keyed(self) -> KeyedTable | None:
        """Return the table by which it replaces values; None where there is none."""
        return None

    def invalid(self) -> tuple[Node, Node] | None:
        """Return the expression whose invalid values it sets to missing, and the condition; None where it does not."""
        return None

    def raw_scale(self) -> RawScale | None:
        """Return how the units of the expression that it is taken of come back; None where they do not."""
        return None

    def entry_count(self) -> int:
        """Return how many entries the tables and lists have that it is written with."""
        options = [each for each in fields(self) if each.metadata["role"] == "option"]  # type: ignore[arg-type]
        tables = [getattr(self, each.name) for each in options if each.metadata["accept"].mapping]
        return sum(len(value) if isinstance(value, tuple) else 1 for table in tables for _, value in table)

    def unplaced(self, rows: Rows) -> Mask | None:
        """Return the rows whose category was not among those learned, where these are missing; None where none is."""
        return None


def of_kind(nodes: Iterable[Node], kind: type[_K]) -> Iterator[_K]:
    """Yield the expressions that are of a kind, for what is told of that kind alone."""
    return (node for node in nodes if isinstance(node, kind))
