"""Builders of expressions; this file is made from the operations by `make docs`."""

from collections.abc import Mapping, Sequence
from typing import Any

from facturum.api.builders import Expression as Expression
from facturum.api.builders import expression as expression
from facturum.api.builders import variable as variable
from facturum.language.tree.options import Absent

Operand = Expression | str | float | Sequence["Operand"]
missing: Absent
def lookup(keys: Operand | Sequence[Operand], table: Mapping[Any, Any], otherwise: Any = ...) -> Expression:
    """Replaces each value by the one written beside it in a table; over several variables, by their combination."""

def mean(x: Operand, by: Operand | Sequence[Operand] = ...) -> Expression:
    """The mean over the learning rows, or within groups."""

def median(x: Operand, by: Operand | Sequence[Operand] = ...) -> Expression:
    """The median over the learning rows, or within groups."""

def sd(x: Operand, by: Operand | Sequence[Operand] = ...) -> Expression:
    """The sample standard deviation (divisor n - 1) over the learning rows, or within groups."""

def total(x: Operand, by: Operand | Sequence[Operand] = ...) -> Expression:
    """The sum over the learning rows, or within groups."""

def smallest(x: Operand, by: Operand | Sequence[Operand] = ...) -> Expression:
    """The smallest value over the learning rows, or within groups."""

def largest(x: Operand, by: Operand | Sequence[Operand] = ...) -> Expression:
    """The largest value over the learning rows, or within groups."""

def quantile(x: Operand, share: float, by: Operand | Sequence[Operand] = ...) -> Expression:
    """A quantile over the learning rows, or within groups, interpolated between order statistics."""

def impute(x: Operand, how: str | None = ..., by: Operand | Sequence[Operand] = ..., limit: int | None = ..., value: Any = ..., fills: Mapping[Any, Any] = ..., otherwise: Any = ...) -> Expression:
    """Imputes missing values; values that are present stay as they are."""

def log(x: Operand, shift: float = ..., nonpositive: str = ..., base: float | None = ...) -> Expression:
    """Natural logarithm, after `shift` is added; values of 0 or less are an error, or missing on request."""

def sqrt(x: Operand) -> Expression:
    """Square root; a negative value is an error that names the rows."""

def square(x: Operand) -> Expression:
    """The number times itself."""

def reciprocal(x: Operand) -> Expression:
    """One divided by the number; zero is an error that names the rows."""

def exp(x: Operand) -> Expression:
    """The exponential function."""

def abs(x: Operand) -> Expression:
    """The number without its sign."""

def asinh(x: Operand) -> Expression:
    """Inverse hyperbolic sine: like a logarithm for large values of either sign, and 0 at 0."""

def sin(x: Operand) -> Expression:
    """Sine of an angle in radians."""

def cos(x: Operand) -> Expression:
    """Cosine of an angle in radians."""

def clip(x: Operand, low: float | None = ..., high: float | None = ...) -> Expression:
    """Values below `low` become `low`, values above `high` become `high`."""

def center(x: Operand, at: float | None = ...) -> Expression:
    """The number less its mean (centred); resolving writes the mean as `at`."""

def standardize(x: Operand, at: float | None = ..., scale: float | None = ..., by: Operand | Sequence[Operand] = ...) -> Expression:
    """The number less its mean, in standard deviations (divisor n - 1); resolving writes `at` and `scale`."""

def is_missing(x: Operand) -> Expression:
    """1 where the expression is missing, 0 where it is not; never missing itself."""

def missing_if(x: Operand, condition: Operand) -> Expression:
    """The value, or missing where a condition holds; where the condition itself is missing, the value stays."""

def winsorize(x: Operand, shares: Sequence[Any] = ..., at: Sequence[Any] | None = ...) -> Expression:
    """Values beyond two quantiles become those quantiles; resolving writes them as `at`."""

def bins(x: Operand, edges: Sequence[Any] | None = ..., width: float | None = ..., count: int | None = ..., quantiles: int | None = ..., labels: Sequence[Any] | None = ..., closed: str = ..., missing: str = ...) -> Expression:
    """A number cut into bins, as an ordered category; the bins at both ends are open."""

def codes(x: Operand, order: str | Sequence[Any] = ..., pool: float | None = ..., missing: str = ..., unseen: str = ..., limit: int = ..., pooled: Sequence[Any] = ...) -> Expression:
    """The place of each category in the order, from 0."""

def score(x: Operand, order: str | Sequence[Any] = ..., unseen: str = ...) -> Expression:
    """The place of each category in its declared order, from 1, whichever occur; a whole number stays as it is."""

def category(x: Operand, reference: Any = ..., coding: str = ..., order: str | Sequence[Any] = ..., pool: float | None = ..., missing: str = ..., unseen: str = ..., limit: int = ..., pooled: Sequence[Any] = ...) -> Expression:
    """The columns of a category: by default an indicator for each category but the reference."""

def regroup(x: Operand, groups: Mapping[Any, Any], rest: str | None = ...) -> Expression:
    """Brings categories together under new names; others keep their own, or all get the name `rest`."""

def count(x: Operand, by: Operand | Sequence[Operand] = ...) -> Expression:
    """How many learning rows there are in which the variable has a value, or within groups."""

def distinct(x: Operand, by: Operand | Sequence[Operand] = ...) -> Expression:
    """How many different values there are over the learning rows, or within groups."""

def lag(x: Operand, k: int | Sequence[Any]) -> Expression:
    """The value `k` periods before, within the unit; missing where that period is not in the table."""

def lead(x: Operand, k: int | Sequence[Any]) -> Expression:
    """The value `k` periods later, within the unit; missing where that period is not in the table."""

def difference(x: Operand, order: int = ..., step: int = ...) -> Expression:
    """The change since `step` periods before, taken `order` times."""

def percent_change(x: Operand, step: int = ...) -> Expression:
    """The change since `step` periods before, in percent of the value then; a value of 0 then is an error."""

def between(x: Operand, low: Operand, high: Operand) -> Expression:
    """Whether a value lies from `low` to `high`, both included."""

def any_of(*items: Operand) -> Expression:
    """Whether one of several conditions holds, even if others are missing."""

def all_of(*items: Operand) -> Expression:
    """Whether all of several conditions hold; false where one does not, even if others are missing."""

def first_present(*items: Operand) -> Expression:
    """The first of several values that is not missing."""

def cases(branches: Operand | Sequence[Operand], otherwise: Operand) -> Expression:
    """The value written beside the first condition that holds, or `otherwise` where none does."""

def share_of_group(x: Operand, by: Operand | Sequence[Operand]) -> Expression:
    """What a number is of the sum of its group."""

def frequency_of(x: Operand, share: bool = ...) -> Expression:
    """In how many learning rows the category of the row occurs, or in what share of them."""

def growth(x: Operand, step: int = ..., kind: str = ...) -> Expression:
    """The relative change since `step` periods before: in percent, or the difference of logarithms."""

def contains(x: Operand, text: str, case: bool = ...) -> Expression:
    """Whether a text contains another one."""

def starts_with(x: Operand, text: str, case: bool = ...) -> Expression:
    """Whether a text starts with another one."""

def ends_with(x: Operand, text: str, case: bool = ...) -> Expression:
    """Whether a text ends with another one."""

def matches_pattern(x: Operand, pattern: str, case: bool = ...) -> Expression:
    """Whether the whole of a text matches a regular expression, in time that grows with its length alone (RE2)."""

def lower(x: Operand) -> Expression:
    """A text in small letters."""

def trim(x: Operand) -> Expression:
    """A text without spaces at its ends, and with one between its words; missing where nothing is left."""

def replaced(x: Operand, old: str, new: str) -> Expression:
    """A text in which each occurrence of one text is replaced by another; missing where nothing is left."""

def text_part(x: Operand, separator: str, n: int) -> Expression:
    """One of the parts into which a separator divides a text; missing where there are fewer."""

def piece(x: Operand, first: int, last: int = ...) -> Expression:
    """The characters of a text from one place to another, both included; missing where it has none there."""

def length_of(x: Operand) -> Expression:
    """How many characters a text has."""

def number_in(x: Operand) -> Expression:
    """The first number in a text, with a point before its decimals and a sign right before it; missing without one."""

def joined(*items: Operand, by: str = ...) -> Expression:
    """Several texts as one, with `by` between them; missing where one is."""

def crossed(*items: Operand) -> Expression:
    """One category of the combinations of several, each as `a & b`; missing where one is. An & of its own is doubled."""

def mean_of(*items: Operand, at_least: int | str = ...) -> Expression:
    """The mean of several variables in a row."""

def sum_of(*items: Operand, at_least: int | str = ...) -> Expression:
    """The sum of several variables in a row; with `at_least`, of those present."""

def product_of(*items: Operand, at_least: int | str = ...) -> Expression:
    """The product of several variables in a row; with `at_least`, of those present."""

def smallest_of(*items: Operand, at_least: int | str = ...) -> Expression:
    """The smallest of several variables in a row."""

def largest_of(*items: Operand, at_least: int | str = ...) -> Expression:
    """The largest of several variables in a row."""

def spread_of(*items: Operand, at_least: int | str = ...) -> Expression:
    """The sample standard deviation (divisor n - 1) of several variables in a row; it needs two values."""

def count_of(*items: Operand, at_least: int | str = ...) -> Expression:
    """How many of several conditions hold in a row; with `at_least`, of those that are known."""

def reverse(x: Operand, low: float, high: float) -> Expression:
    """The answer to an item worded in reverse, `low + high - x`; a value outside the scale is an error."""

def hinge(x: Operand, at: Sequence[Any]) -> Expression:
    """A broken line: the number, and for each place in `at` how far it lies beyond; its coefficient changes the slope."""

def waves(x: Operand, period: float, pairs: int = ...) -> Expression:
    """Sines and cosines of a number that comes round after `period`: one pair, or further ones that are faster."""

def recurrence(x: Operand, basis: Sequence[Any]) -> Expression:
    """The last of the orthogonal polynomials that a recurrence defines; `polynomial` writes it into formulas."""

def polynomial(x: Operand, degree: int, center: bool = ..., orthogonal: bool = ..., at: float | None = ..., basis: Sequence[Any] | None = ...) -> Expression:
    """The powers of a number from 1 to `degree`, one column each."""

def rounded(x: Operand, to: float = ...) -> Expression:
    """The nearest multiple of `to`; a number halfway between two becomes the one further from 0."""

def floor_to(x: Operand, to: float = ...) -> Expression:
    """The largest multiple of `to` that is not above the number."""

def remainder(x: Operand, by: float) -> Expression:
    """What is left beyond the largest multiple of `by` that is not above the number; from 0 to below `by`."""

def sign(x: Operand) -> Expression:
    """1 for a number above 0, -1 for one below, 0 for 0."""

def basis_spline(x: Operand, n: int, knots: Sequence[Any], degree: int = ..., beyond: str = ...) -> Expression:
    """The `n`-th B-spline of a degree over some knots; `spline` writes it into formulas."""

def spline(x: Operand, pieces: int = ..., degree: int = ..., natural: bool = ..., beyond: str = ..., knots: Sequence[Any] | None = ...) -> Expression:
    """A smooth curve of a number in pieces between knots: B-splines, all but the first, which the intercept stands for."""

def within(x: Operand, by: Operand | Sequence[Operand] = ..., and_by: Operand | Sequence[Operand] = ..., effects: Any = ..., and_effects: Any = ..., absorbed: int | None = ...) -> Expression:
    """The number less the mean of its group (within transformation); with `and_by` less the effects of two groupings."""

def matching(pattern: str, but: Operand | Sequence[Operand] = ...) -> Expression:
    """The variables whose names match a pattern: `*` stands for any text, `?` for one character."""

def every_number(but: Operand | Sequence[Operand] = ...) -> Expression:
    """All numbers of the table but those that merely count the rows, as an id does."""

def every_truth(but: Operand | Sequence[Operand] = ...) -> Expression:
    """All truth values of the table."""

def every_category(but: Operand | Sequence[Operand] = ...) -> Expression:
    """All categories of the table, ordered ones included, but those that differ in every row, as an id does."""

def period_of(x: Operand, every: str) -> Expression:
    """The period that a time lies in, as a category: `2020-03` for a month, `2020Q1` for a quarter."""

def date_of(year: Operand, month: Operand, day: Operand | Sequence[Operand] = ...) -> Expression:
    """The day that numbers for its year, month and day name, as a time."""

def cumulative_sum(x: Operand, since: Operand | Sequence[Operand] = ...) -> Expression:
    """The sum of the values of the unit up to the row's own; a missing value adds nothing, and has no sum."""

def cumulative_mean(x: Operand, since: Operand | Sequence[Operand] = ...) -> Expression:
    """The mean of the values of the unit up to the row's own; where the value is missing, so is the mean."""

def cumulative_count(x: Operand, since: Operand | Sequence[Operand] = ...) -> Expression:
    """How many values the unit has up to the row's own."""

def cumulative_largest(x: Operand, since: Operand | Sequence[Operand] = ...) -> Expression:
    """The largest value of the unit up to the row's own; where the value is missing, so is this."""

def cumulative_smallest(x: Operand, since: Operand | Sequence[Operand] = ...) -> Expression:
    """The smallest value of the unit up to the row's own; where the value is missing, so is this."""

def exponential_average(x: Operand, half_life: float, since: Operand | Sequence[Operand] = ...) -> Expression:
    """The mean of the values up to the row's own, the weight of each halved every `half_life` rows of the unit."""

def periods_since_last(x: Operand) -> Expression:
    """How many periods ago a condition last held in the unit, 0 where it holds; missing before it first did."""

def place_in_unit() -> Expression:
    """The place of a row among those of its unit, from 1, in the order of time."""

def days_between(first: Operand, second: Operand) -> Expression:
    """How many days a time lies after another one; negative where it lies before it."""

def periods_between(first: Operand, second: Operand, every: str) -> Expression:
    """How many weeks, months, quarters or years begin from one time to a later one; negative where it is earlier."""

def age_in_years(birth: Operand, at: Operand) -> Expression:
    """How many whole years have passed from a birth, or another beginning, to a time."""

def moving_average(x: Operand, window: int, align: str = ..., at_least: int | str = ...) -> Expression:
    """The mean over `window` periods that end with the row's own, or with `align="centre"` lie around it."""

def moving_sum(x: Operand, window: int, align: str = ..., at_least: int | str = ...) -> Expression:
    """The sum over `window` periods that end with the row's own; with `at_least`, of those present."""

def moving_smallest(x: Operand, window: int, align: str = ..., at_least: int | str = ...) -> Expression:
    """The smallest value over `window` periods that end with the row's own; with `at_least`, of those present."""

def moving_largest(x: Operand, window: int, align: str = ..., at_least: int | str = ...) -> Expression:
    """The largest value over `window` periods that end with the row's own; with `at_least`, of those present."""

def moving_sd(x: Operand, window: int, align: str = ..., at_least: int | str = ...) -> Expression:
    """The sample standard deviation (divisor n - 1) over `window` periods that end with the row's own."""

def moving_count(x: Operand, window: int) -> Expression:
    """How many of `window` periods that end with the row's own have a value."""

def moving_median(x: Operand, window: int, align: str = ..., at_least: int | str = ...) -> Expression:
    """The median over `window` periods that end with the row's own; with `at_least`, of those present."""

def moving_quantile(x: Operand, share: float, window: int, align: str = ..., at_least: int | str = ...) -> Expression:
    """A quantile over `window` periods that end with the row's own, interpolated between order statistics."""

def part(x: Operand, part: str, starts: str | None = ...) -> Expression:
    """A part of a date: its month, quarter, weekday, week or hour as an ordered category, its year or day as a number."""

def periods_since(date: Operand, of: Operand | Sequence[Operand] = ...) -> Expression:
    """How many periods lie between a date and the period of the row; negative before it."""

def trend(degree: int = ..., origin: int | str | None = ..., of: Operand | Sequence[Operand] = ...) -> Expression:
    """The number of periods since the first, and its powers up to `degree`; gaps in time leave gaps."""

def season(part: str, coding: str = ..., reference: Any = ..., pairs: int | None = ..., starts: str | None = ..., of: Operand | Sequence[Operand] = ...) -> Expression:
    """The part of the calendar that a row lies in, as columns: all months, say, whether they occur or not."""

