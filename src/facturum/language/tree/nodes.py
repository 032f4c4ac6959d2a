"""What every node of the language is, and the registry that parser, printer and builders read."""

from __future__ import annotations

import dataclasses
from abc import ABC, ABCMeta, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal, Protocol, Self, TypeAlias, TypeVar

import numpy as np

from facturum.data.number_text import unread_numbers
from facturum.data.values import Array, Kind, Label, Labels, Mask, Values, and_masks
from facturum.errors import PlanError
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Curve
from facturum.language.tree.blocks import Block, Dense
from facturum.language.tree.options import EXACT, loses_digits
from facturum.language.tree.rows import Rows
from facturum.language.tree.traits import Surroundings, Traits
from facturum.language.tree.writer import ATOM, Writer, brief_text, text_of

_V = TypeVar("_V")
_F = TypeVar("_F")
Span: TypeAlias = tuple[int, int]
Part: TypeAlias = tuple[Literal["member", "operation", "category"], str]


@dataclass(frozen=True)
class Type:
    """The kind of an expression; a block has any number of columns.

    Args:
        kind: what it is.
        block: whether it may have several columns.
        labels: its categories, where they are known; of an ordered one in their order.
        declared: whether the plan declares the kind.
    """

    kind: Kind
    block: bool = False
    labels: Labels | None = None
    declared: bool = False


@dataclass(frozen=True)
class Column:
    """A column of a term: the parts of its name, its scalar formula, and what a unit of it means."""

    parts: tuple[Part, ...]
    formula: Node
    meaning: Meaning
    measure: str = "number"
    reference: str | None = None


class Kinds(Protocol):
    """The kinds of variables and of nodes, while a plan is checked."""

    resolved: bool

    def variable(self, node: Node, name: str) -> Type: ...
    def type_of(self, node: Node) -> Type: ...
    def along_time(self, node: Node) -> None: ...
    @property
    def every(self) -> str: ...


class Question(ABC):
    """What an operation must still learn, as a summary that is fed with leaves of rows and merged in any order."""

    inputs: tuple[Node, ...]
    quick: ClassVar[bool] = False  # so quick to observe that handing leaves to threads costs more

    @abstractmethod
    def observe(self, values: Sequence[Values]) -> Any:
        """Return the summary of one leaf; the values have one element for each row."""

    def seen(self, values: Sequence[Values]) -> int:
        """Return how many of some rows it is answered from: those in which all its expressions have a value."""
        valid: Mask | None = None
        for value in values:
            valid = and_masks(valid, value.valid)
        length = len(values[0].data) if values else 0
        return length if valid is None else int(np.count_nonzero(valid))

    @abstractmethod
    def merge(self, parts: Sequence[Any]) -> Any:
        """Return one summary for several."""

    @abstractmethod
    def advance(self, merged: Any) -> Question | Node:
        """Return the question for a further pass, or the operation in closed form."""


class NodeType(ABCMeta):
    """Abstract classes that no other class is registered with, for which asking for an instance is a plain look."""

    __instancecheck__ = type.__instancecheck__


class Node(Traits, metaclass=NodeType):
    """An expression. Subclasses are frozen dataclasses; a field is an argument (expression) or an option (literal)."""

    name: ClassVar[str] = ""
    family: ClassVar[str] = ""
    distributes: ClassVar[bool] = True  # over a list in first place, member by member
    takes_blocks: ClassVar[frozenset[str]] = frozenset()  # the arguments that may have several columns
    advice: ClassVar[str] = "Write a term of its own for it, or multiply it with * for an interaction."
    span: Span | None = None

    @property
    def called(self) -> str:
        """What messages call the operation: its name or its sign."""
        return self.name or getattr(self, "symbol", "") or "this"

    @property
    def along_time(self) -> bool:
        """Whether it reads other rows of the same unit."""
        return False

    def offsets_read(self) -> tuple[int, ...]:
        """Return at which periods it reads its expressions, counted from the row's own."""
        return (0,)

    def filled_from(self) -> tuple[tuple[str, Node], ...]:
        """Return the values that fill a missing one along time, each with where it lies: earlier or later."""
        return ()

    def children(self) -> tuple[Node, ...]:
        """Return the operands of this expression, in the order of its fields."""
        return tuple(child for _, child in self.arguments())

    def arguments(self) -> tuple[tuple[str, Node], ...]:
        """Return the operands of this expression, each with the name of its field."""
        named: list[tuple[str, Node]] = []
        for field, several in self.argument_fields():
            value = getattr(self, field)
            named += [(field, each) for each in value] if several else [(field, value)]
        return tuple(named)

    def walk(self) -> Iterator[Node]:
        """Yield this expression and all its parts, each before its own parts.

        Example:
            >>> from facturum.language.syntax.parser import parse
            >>> [str(part) for part in parse("log(a) + 1").walk()]
            ['log(a) + 1', 'log(a)', 'a', '1']
        """
        yield self
        for child in self.children():
            yield from child.walk()

    def find(self, kind: type[_F]) -> Iterator[_F]:
        """Yield the parts of this expression that are of a kind, itself among them."""
        return (part for part in self.walk() if isinstance(part, kind))

    def map(self, change: Callable[[Node], Node]) -> Node:
        """Return the same over its operands changed, itself where none is."""
        children = self.children()
        changed = [change(child) for child in children]
        return self if all(a is b for a, b in zip(children, changed, strict=True)) else self.rebuilt(changed)

    def own_row(self) -> tuple[Node, ...]:
        """Return the expressions that it reads in the row itself, and not only to learn from all rows."""
        return self.children()

    def decided_by(self) -> tuple[Node, ...]:
        """Return the expressions whose values, and not only their presence, decide in which rows this has a value."""
        return ()

    @property
    def leaves_out(self) -> bool:
        """Whether rows can be missing once it has been learned, in groups or categories not seen."""
        return False

    def rebuilt(self, children: Iterable[Node]) -> Self:
        """Return the same operation over other expressions."""
        rest = iter(children)
        changes: dict[str, Any] = {}
        for field, several in self.argument_fields():
            value = getattr(self, field)
            changes[field] = tuple(next(rest) for _ in value) if several else next(rest)
        return self.replaced(**changes) if changes else self

    def replaced(self, **changes: Any) -> Self:
        """Return the same operation with other fields, at the same place in the text."""
        new: Self = dataclasses.replace(self, **changes)  # type: ignore[type-var]
        return new.put_at(self)

    def put_at(self, at: Node) -> Self:
        """Return this, newly made, at the place in the text at which another expression stands."""
        object.__setattr__(self, "span", at.span)
        return self

    @classmethod
    def argument_fields(cls) -> tuple[tuple[str, bool], ...]:
        """Return the names of the fields that hold expressions, and whether they hold several."""
        cached: tuple[tuple[str, bool], ...] | None = cls.__dict__.get("_argument_fields")
        if cached is None:
            cached = tuple(
                (field.name, field.metadata["role"] == "arguments")
                for field in dataclasses.fields(cls)  # type: ignore[arg-type]
                if field.metadata.get("role") in ("argument", "arguments")
            )
            cls._argument_fields = cached  # type: ignore[attr-defined]
        return cached

    def has_option(self, name: str) -> bool:
        """Return whether it is written with an option of a name."""
        return any(each.name == name and each.metadata.get("role") == "option" for each in dataclasses.fields(self))  # type: ignore[arg-type]

    @abstractmethod
    def check(self, kinds: Kinds) -> Type:
        """Return what this expression is, or raise an error that points at it.

        Which arguments may be blocks is checked before, by `takes_blocks`.
        """

    def question(self, kinds: Kinds) -> Question | None:
        """Return the question that learning must answer, or None where the expression is closed."""
        return None

    def values(self, rows: Rows) -> Values:
        """Return the values of a scalar expression for some rows."""
        raise self.error(f"'{self}' has several columns, and no single value", self.advice)

    def valid(self, rows: Rows) -> Mask | None:
        """Return which rows have a value, without computing it where that is possible; None for all."""
        valid: Mask | None = None
        for child in self.children():
            valid = and_masks(valid, rows.valid(child))
        return valid

    def needs(self) -> tuple[Node, ...]:
        """Return the operands without any of which there is no value, whatever the others are."""
        return self.children() if type(self).valid is Node.valid else ()

    @property
    def missing_by_column(self) -> bool:
        """Whether the columns of the expression can be missing in different rows."""
        return any(child.missing_by_column for child in self.children())

    def columns(self) -> tuple[Column, ...]:
        """Return the columns of the expression as a term; its questions are answered by then."""
        return (Column((), self, self.meaning()),)

    def column_count(self) -> int:
        """Return how many columns there are, where possible without making them."""
        return len(self.columns())

    def derivative(self, of: Callable[[Node], Node]) -> Node | None:
        """Return the derivative in a variable that this reads, from those of its operands; None where it has none."""
        return None

    def meaning(self) -> Meaning:
        """Return what a unit of a scalar expression means."""
        return Curve(self.subject(), node=self)

    def response_meaning(self) -> Meaning:
        """Return what this is read as where it is the response."""
        return self.meaning()

    def in_arithmetic(self) -> Node:
        """Return the same in arithmetic, where that is as short as this."""
        return self

    def in_lags(self) -> Node:
        """Return the same as arithmetic of the value and its lags, where it can be said so."""
        return self.in_arithmetic()

    def settled(self, around: Surroundings) -> Node:
        """Return the same with what the plan and its table say written into it."""
        return self

    def in_periods(self, step: str) -> Node:
        """Return the same with its keys, which are shorter periods, as those of a step that they lie in."""
        return self

    def subject(self) -> str:
        """Return what sentences call this expression."""
        return brief_text(self)

    def missing_because(self) -> str:
        """Return why this is missing in a row in which none of its expressions is."""
        return f"{self.subject()} is missing"

    def equal_to(self, label: Label) -> Node | None:
        """Return the condition that this has a label, where that is another than a comparison with it."""
        return None

    def block(self, rows: Rows) -> Block:
        """Return all columns for some rows, every one of which has a value in each."""
        self.examine(rows)
        columns = rows.shared(("columns", self), self.columns)
        return Dense(tuple(rows.evaluate(column.formula).full(rows.length).numbers() for column in columns))

    def examine(self, rows: Rows) -> None:
        """Fail in rows whose values belong to none of the columns, where these are computed by their formulas alone."""
        for field, child in self.arguments():
            if field in self.takes_blocks:
                child.examine(rows)

    def error(self, what: str, remedy: str | None = None) -> PlanError:
        """Return an error that points at this expression."""
        return PlanError(what, span=self.span, remedy=remedy)

    def learned(self, value: _V | None) -> _V:
        """Return what resolving writes into an option.

        Raises:
            PlanError: where the operation is not resolved yet.
        """
        if value is None:
            raise self.unresolved()
        return value

    def need_exact(self, literal: Any) -> None:
        """Refuse whole numbers of a literal that no double holds."""
        if (odd := loses_digits(literal)) is not None:
            raise self.error(f"{odd} loses digits as a number", EXACT)

    def unresolved(self) -> PlanError:
        """Return the error that the operation is not resolved yet."""
        return self.error(f"'{self}' is not resolved yet", "Resolve the plan on a table first.")

    def hold(self, literal: Any) -> None:
        """Keep a long literal in the form in which the text of this operation names it."""
        object.__setattr__(self, "_held", {*self.held, literal})

    @property
    def held(self) -> set[Any]:
        """The long literals that the text of this operation has named."""
        held: set[Any] = self.__dict__.get("_held", set())
        return held

    def __getstate__(self) -> dict[str, Any]:
        """Return what is pickled; hashes of texts differ from process to process."""
        return {key: value for key, value in self.__dict__.items() if key not in ("_hash", "_held")}

    def written(self, writer: Writer) -> tuple[str, int]:
        """Return the text of this expression, and how strongly its parts hold together."""
        return writer.call(self), ATOM

    def __str__(self) -> str:
        return text_of(self)


def need_number(operation_: Node, child: Node, kinds: Kinds) -> None:
    """Refuse anything but a single number or truth value.

    Raises:
        PlanError: naming the kind found, and what to do about it.
    """
    type_of_child = kinds.type_of(child)
    called = operation_.called
    if not type_of_child.kind.numeric:
        if (unread := unread_numbers(str(child), type_of_child.labels or (), nearly=0.5)) is not None:
            raise child.error(f"{called} needs a number, and '{child}' is text, since {unread.why}", unread.remedy)
        remedy = {
            Kind.TIME: "Compare it with a period, or make a number of it first.",
            Kind.ORDERED: f"Write score({child}) for its place in the order, or category({child}) for indicators.",
        }.get(
            type_of_child.kind,
            f"Write category({child}) for indicators; if it should be a number, see [variables] kind.",
        )
        raise child.error(
            f"{called} needs a number, and '{child}' is {type_of_child.kind.with_article} variable", remedy
        )


def finite(operation_: Node, rows: Rows, data: Array, valid: Mask | None, remedy: str | None = None) -> Values:
    """Return values, or fail with the rows in which present inputs gave no finite number."""
    fine = np.isfinite(data)
    if not fine.all():
        bad = np.broadcast_to(~fine if valid is None else ~fine & valid, rows.length)
        if bad.any():
            raise rows.failure(
                operation_,
                bad,
                f"'{operation_}' is infinite or not a number",
                remedy or "Correct these rows, leave them out with [rows] keep, or write a condition: .. if .. else ..",
            )
    return Values(data, valid)
