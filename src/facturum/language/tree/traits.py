"""What operations tell of themselves beside their values, so that nobody outside the language asks for their class."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, fields
from typing import TYPE_CHECKING, Any, ClassVar, Protocol

from facturum.data.values import Array, Kind, Label, Mask
from facturum.language.tree.options import Absent

if TYPE_CHECKING:
    from facturum.language.tree.nodes import Node
    from facturum.language.tree.rows import Rows


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


class Binned(Protocol):
    """A number cut into intervals."""

    @property
    def x(self) -> Node: ...
    @property
    def edges(self) -> tuple[float | tuple[float, float], ...] | None: ...
    @property
    def labels(self) -> tuple[Label | Absent, ...] | None: ...

    def interval(self, at: int) -> tuple[float, float, bool, bool]: ...


class Imputed(Protocol):
    """An expression whose missing values are filled, of all rows or of groups."""

    @property
    def x(self) -> Node: ...
    @property
    def by(self) -> tuple[Node, ...]: ...
    @property
    def how(self) -> str | None: ...
    @property
    def value(self) -> Label | None: ...
    @property
    def fills(self) -> tuple[tuple[Any, Label | Absent], ...]: ...
    @property
    def otherwise(self) -> Label | None: ...
    def group_of(self, rows: Rows) -> Array: ...


class Scored(Protocol):
    """Items of which each row needs some."""

    @property
    def items(self) -> tuple[Node, ...]: ...
    def needed(self) -> int: ...


class Traits:
    """What an operation tells of itself; these are the answers of one that is nothing special."""

    groups_by: ClassVar[frozenset[str]] = frozenset()  # the arguments that only identify groups, as an id may
    categorizes: ClassVar[frozenset[str]] = frozenset()  # the arguments whose values it takes as categories
    pools: ClassVar[bool] = False  # learns something of each of its groups
    has_levels: ClassVar[bool] = False  # each of its groups has a level of its own
    sums_up: ClassVar[bool] = False  # adds its items, which so measure one thing
    carries: ClassVar[bool] = False  # a state from row to row of its unit, so that it reads all rows before its own
    listed: ClassVar[bool] = False  # is written as a list
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

    def wants(self, name: str, kind: Kind) -> bool:
        """Return whether it chooses a variable that looks like an id only for what it is."""
        return False

    def binned(self) -> Binned | None:
        """Return the intervals that it cuts a number into, where it does."""
        return None

    def imputed(self) -> Imputed | None:
        """Return what it fills missing values with, where it does."""
        return None

    def flagged(self) -> Node | None:
        """Return the expression whose missing values it marks, where it does."""
        return None

    def scored(self) -> Scored | None:
        """Return the items that it makes one number of, where it does."""
        return None

    def entry_count(self) -> int:
        """Return how many entries the tables and lists have that it is written with."""
        options = [each for each in fields(self) if each.metadata["role"] == "option"]  # type: ignore[arg-type]
        tables = [getattr(self, each.name) for each in options if each.metadata["accept"].mapping]
        return sum(len(value) if isinstance(value, tuple) else 1 for table in tables for _, value in table)

    def unplaced(self, rows: Rows) -> Mask | None:
        """Return the rows whose category was not among those learned, where these are missing; None where none is."""
        return None
