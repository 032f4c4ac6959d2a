"""What a column means: factors, their products and multiples."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Set
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, ClassVar, TypeAlias

from facturum.data.time.periods import step_noun
from facturum.data.values import FloatArray, multiple_text

if TYPE_CHECKING:
    from facturum.language.meanings.categories import Indicator, NoValue
    from facturum.language.tree.nodes import Node

STEP = "\ue000"  # stands in subjects for the step of the plan, a month say; see `stepped`
Compared: TypeAlias = tuple[tuple[float, float], ...]  # values of a node, each with its weight


def stepped(text: str, every: str | None) -> str:
    """Return a subject with the step of the plan in words.

    Example:
        >>> stepped(f"price 12 {STEP}s before", "month")
        'price 12 months before'
    """
    noun = "period" if every is None else step_noun(every)
    often = {"day": "daily", "row": "1-row", "workday": "1-workday"}.get(every or "row", f"{noun.replace(' ', '-')}ly")
    return text.replace(f"{STEP}ly", often).replace(STEP, noun)


@dataclass(frozen=True)
class Context:
    """What a plan says of variables that meanings name.

    Args:
        truths: the names of truth values, which are read as conditions.
        set_missing: for derived variables of which wrong values were set to missing, what having none means.
        every: the step of the plan.
    """

    truths: Set[str]
    set_missing: Mapping[str, NoValue]
    every: str | None


class Meaning:
    """What one unit of a column means. These are the answers of one that is nothing special."""

    linear: ClassVar[bool] = False  # a number in a unit: one more of it is the same everywhere
    power: ClassVar[bool] = False  # a power of a number
    logged: ClassVar[bool] = False  # the logarithm of a number
    unitless: ClassVar[bool] = False  # a function of a number without a unit of its own
    flag: ClassVar[bool] = False  # 1 where something is so, and else 0
    truth: ClassVar[bool] = False  # as the response it is true or false in each row
    absence: ClassVar[bool] = False  # 1 where no value is
    crossed: ClassVar[bool] = False  # a product of several factors

    def factors(self) -> tuple[list[Factor], float]:
        """Return the factors, and the number that their product is multiplied by.

        Example:
            >>> from facturum.language.meanings.numbers import Logged, Unit
            >>> Product(Unit("beds"), Scaled(Logged("price"), 10.0)).factors()[1]
            10.0
        """
        raise NotImplementedError

    def map(self, change: Callable[[Factor], Meaning]) -> Meaning:
        """Return the same with each factor changed."""
        raise NotImplementedError

    def times(self, multiple: float) -> Meaning:
        """Return what a multiple of the column means.

        Example:
            >>> from facturum.language.meanings.numbers import Unit
            >>> Unit("age").times(0.1)
            Unit(subject='age', center=None, size=10.0, standardized=False)
        """
        return self if multiple == 1 else Scaled(self, multiple)

    def plus(self, number: float) -> Meaning | None:
        """Return what the column means with a number added; None where no structure describes it."""
        return None

    @property
    def single(self) -> Factor | None:
        """This where it is one factor."""
        return None

    @property
    def level(self) -> Indicator | None:
        """This where it is the indicator of one category."""
        return None

    @property
    def cell(self) -> str | None:
        """In words which rows have a 1, where the column only tells rows apart; None where it does not."""
        return None

    @property
    def wave(self) -> tuple[tuple[str, ...], int] | None:
        """Of a wave of a season, what it goes round in and the names of its parts, and how often it does."""
        return None

    def as_response(self) -> Factor | None:
        """Return what it is as the response; None where that is a number in units of its own."""
        return None


@dataclass(frozen=True)
class Factor(Meaning):
    """What a column, or a factor of one, means.

    Args:
        subject: what it is made of, in words.
        node: the expression that the subject names, which is evaluated where a sentence is proved; of a category the
            place in its order, of a flag whether a value is missing.
        when: the other period that it is of, in words.
    """

    subject: str
    node: Node | None = field(default=None, kw_only=True, compare=False, repr=False)
    when: str = field(default="", kw_only=True, repr=False)

    def factors(self) -> tuple[list[Factor], float]:
        return [self], 1.0

    def map(self, change: Callable[[Factor], Meaning]) -> Meaning:
        return change(self)

    @property
    def single(self) -> Factor | None:
        return self

    def as_response(self) -> Factor | None:
        return self

    def as_count(self) -> Factor:
        """Return what it is as a response whose values are whole numbers from 0."""
        return self

    def informed(self, context: Context) -> Meaning:
        """Return the same with variables read as what they are, and steps of time in words.

        Example:
            >>> from facturum.language.meanings.numbers import Unit
            >>> Product(Unit("open"), Unit("beds")).map(lambda f: f.informed(Context({"open"}, {}, None)))
            Product(left=Holds(subject='open', center=None), right=Unit(subject='beds', center=None, size=None, \
standardized=False))
        """
        return replace(self, subject=stepped(self.subject, context.every), when=stepped(self.when, context.every))

    @property
    def plain(self) -> bool:
        """Whether it is as its node is, without anything taken off or divided by."""
        return True

    @property
    def off_center(self) -> bool:
        """Whether it is a number that lies far from 0 unless it is centred."""
        return False

    @property
    def scaling(self) -> tuple[float, bool] | None:
        """How much of its number one unit of it is, and whether that is a standard deviation; None for one unit."""
        return None

    @property
    def curve_degree(self) -> int:
        """Of a part of a polynomial its degree; 0 for anything else."""
        return 0

    @property
    def name(self) -> str:
        """What it is called where something is said of it."""
        return self.subject

    @property
    def bends(self) -> bool:
        """Whether it is told of the three points around a place: by a slope there, or how that changes."""
        return False

    @property
    def square(self) -> bool:
        """Whether it belongs to a polynomial of the second degree, whose slope changes evenly."""
        return False

    @property
    def all_at_zero(self) -> str | None:
        """In words that all columns of its kind are 0; None where that says nothing of the rows."""
        return None

    @property
    def stepwise(self) -> bool:
        """Whether it compares rows, of which some have something and others do not."""
        return bool(self.compared)

    @property
    def compared(self) -> Compared:
        """The values of the node that one unit compares, with weights that add up to 0; none of a number."""
        return ()

    def worth(self, values: FloatArray) -> FloatArray:
        """Return what the factor is worth at values of its node."""
        return values

    @property
    def zero(self) -> float | None:
        """The value of the node at which the factor is 0; None where there is none."""
        return 0.0

    @property
    def averaged(self) -> int:
        """Over how many places of a category the factor is 0 on average; 0 where it is so at one value."""
        return 0

    def words(self) -> str:
        """Return what it is called in a product."""
        return self.subject

    def where_zero(self) -> str:
        """Return where it is 0, or the columns of its term are on average."""
        return f"where {self.subject} is {self.zero or 0.0:.6g}"

    def increase(self) -> str | None:
        """Return one unit more of it as the beginning of a sentence; None where it compares rows."""
        return None

    def state(self) -> str:
        """Return what is so in the rows that have it."""
        return self.subject

    def sides(self) -> str:
        """Return the rows that it compares."""
        return f"rows in which {self.state()} and the others"

    def comparison(self, filled: str | None = None) -> str:
        """Return what is compared with what, as the beginning of a sentence.

        Args:
            filled: where a missing value is compared, the value imputed elsewhere, "" where it differs; else None.
        """
        return f"Rows in which {self.state()}, compared with the others"

    def main_effect(self, response: Factor, multiple: float, filled: str | None) -> str:
        """Return what the coefficient of a column made of it alone means.

        Args:
            response: what the response means.
            multiple: of it the column is.
            filled: as for `comparison`.
        """
        b = times_b(multiple)
        if (more := self.increase()) is not None:
            return f"{more} is associated with {response.effect(b)}"
        return f"{self.comparison(filled)}: {response.effect(b)}"

    def proposition(self) -> str:
        """Return what is true or false in each row, of a response that is a truth value.

        Example:
            >>> from facturum.language.meanings.categories import Holds, Indicator, NoValue
            >>> [each.proposition() for each in (Indicator("sex", "male"), NoValue("fees"), Holds("open"))]
            ['sex = male', 'fees is missing', 'open holds']
        """
        return f"{self.subject} holds"

    def rows(self) -> str:
        """Return rows in which a truth value is true, after "rows".

        Example:
            >>> from facturum.language.meanings.categories import Holds, Indicator
            >>> Indicator("sex", "male").rows(), Holds("open").rows()
            ('with sex = male', 'in which open holds')
        """
        return f"in which {self.proposition()}"

    def expectation(self) -> str:
        """Return what it is called as the response, without its scale.

        Example:
            >>> from facturum.language.meanings.categories import Holds
            >>> from facturum.language.meanings.numbers import Logged
            >>> Logged("stays", 1.0).expectation(), Holds("open").expectation()
            ('stays + 1', 'the share of rows in which open holds')
        """
        return f"the share of rows {self.rows()}" if self.truth else self.subject

    def scale(self) -> str:
        """Return what a model's linear predictor is the expectation of.

        Example:
            >>> from facturum.language.meanings.categories import Holds
            >>> Holds("open").scale()
            'the share of rows in which open holds (or its log odds, in a logit model)'
        """
        return f"{self.expectation()}{' (or its log odds, in a logit model)' if self.truth else ''}"

    def effect(self, b: str) -> str:
        """Return the difference in the response associated with one unit of a column.

        Args:
            b: the coefficient times what the column changes by.

        Example:
            >>> from facturum.language.meanings.numbers import Logged
            >>> Logged("stays").effect("b")
            'a difference of 100·(exp(b) − 1) % in stays'
        """
        size = f"100·{b} percentage points" if self.truth else b
        return self._in_each_model(f"a difference of {size} in {self.expectation()}", f"exp({b})")

    def percent_effect(self, multiple: float) -> str:
        """Return the difference in the response associated with a 1 % higher value of a logged number.

        Args:
            multiple: of which multiple of the logarithm the column is made.

        Example:
            >>> from facturum.language.meanings.numbers import Unit
            >>> Unit("stays").percent_effect(1.0)
            'a difference of about b / 100 in stays'
        """
        b = times_b(multiple)
        size = f"{b} percentage points" if self.truth else f"{b} / 100"
        return self._in_each_model(f"a difference of about {size} in {self.expectation()}", f"1.01^{raised(b)}")

    def _in_each_model(self, linear: str, factor: str) -> str:
        """Return a difference in the linear model, and in the other model that is usual for the response."""
        return f"{linear} (linear model), or an odds ratio of {factor} (logit model)" if self.truth else linear


def times_b(multiple: float) -> str:
    """Return a multiple of a coefficient."""
    return multiple_text(multiple, "b")


def raised(b: str) -> str:
    """Return a multiple of a coefficient as an exponent."""
    return b if b == "b" else f"({b})"


NO_RESPONSE = Factor("the response")


@dataclass(frozen=True)
class Product(Meaning):
    """The product of two columns."""

    left: Meaning
    right: Meaning

    crossed: ClassVar[bool] = True

    def factors(self) -> tuple[list[Factor], float]:
        left, right = self.left.factors(), self.right.factors()
        return [*left[0], *right[0]], left[1] * right[1]

    def map(self, change: Callable[[Factor], Meaning]) -> Meaning:
        return Product(self.left.map(change), self.right.map(change))

    @property
    def cell(self) -> str | None:
        sides = self.left.cell, self.right.cell
        return None if None in sides else " and ".join(map(str, sides))


@dataclass(frozen=True)
class Scaled(Meaning):
    """A multiple of another column."""

    of: Meaning
    factor: float

    def factors(self) -> tuple[list[Factor], float]:
        factors, multiple = self.of.factors()
        return factors, multiple * self.factor

    def map(self, change: Callable[[Factor], Meaning]) -> Meaning:
        return Scaled(self.of.map(change), self.factor)

    def times(self, multiple: float) -> Meaning:
        return self.of.times(self.factor * multiple)
