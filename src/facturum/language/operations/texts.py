"""Texts: what they contain, parts of them, spellings brought together. All is worked out once for each category."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from typing import Any, ClassVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from facturum.data.number_text import PLAIN
from facturum.data.values import Kind, Labels, Mask, Values, and_masks, label_text
from facturum.language.core.literals import Condition
from facturum.language.meanings.meaning import Meaning
from facturum.language.meanings.numbers import Unit
from facturum.language.tree.nodes import Kinds, Node, Type
from facturum.language.tree.options import FLAG, TEXT, Accept, argument, option
from facturum.language.tree.registry import operation
from facturum.language.tree.rows import Rows

CASE = "whether capitals and small letters differ"
NONZERO = Accept("a whole number other than 0", lambda v: _is_place(v) and v != 0)
SOME_TEXT = Accept("a text that is not empty", lambda v: isinstance(v, str) and v != "")


def _is_place(value: object) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and abs(value) < 2**31


def need_text(node: Node, x: Node, kinds: Kinds) -> Type:
    """Return what a category is.

    Raises:
        PlanError: for numbers and times, with how they are declared.
    """
    type_of_x = kinds.type_of(x)
    if not type_of_x.kind.categorical:
        raise x.error(
            f"{node.called} works on text, and '{x}' is {type_of_x.kind.with_article}",
            'If it holds codes or names, declare it in [variables]: kind = "category".',
        )
    return type_of_x


class OfText(Node):
    """An operation whose value follows from a text alone; what it gives for each category is worked out once."""

    family: ClassVar[str] = "texts"
    x: Node

    @abstractmethod
    def of(self, texts: Sequence[str]) -> Sequence[Any]:
        """Return the value of each text; None for a missing one."""

    @abstractmethod
    def table(self, labels: Labels) -> Values:
        """Return the value of each category, and a last one that is missing."""

    def results(self, labels: Labels) -> list[Any]:
        """Return what becomes of each category."""
        return list(self.of([label_text(label) for label in labels]))

    def values(self, rows: Rows) -> Values:
        value = rows.evaluate(self.x)
        known = value.labels or ()
        table = rows.shared(("texts", self, known), lambda: self.table(known))
        found: Values = table.take(value.data)
        return Values(found.data, and_masks(value.valid, found.valid), table.labels)

    def valid(self, rows: Rows) -> Mask | None:
        return rows.evaluate(self).valid

    def decided_by(self) -> tuple[Node, ...]:
        return (self.x,)


class TextCondition(OfText, Condition):
    """Whether a text is as described."""

    def check(self, kinds: Kinds) -> Type:
        need_text(self, self.x, kinds)
        return Type(Kind.TRUTH)

    def table(self, labels: Labels) -> Values:
        return Values(np.array([*self.results(labels), False], dtype=bool))

    def valid(self, rows: Rows) -> Mask | None:
        return rows.valid(self.x)

    def decided_by(self) -> tuple[Node, ...]:
        return ()


class TextNumber(OfText):
    """A number that follows from a text."""

    def check(self, kinds: Kinds) -> Type:
        need_text(self, self.x, kinds)
        return Type(Kind.NUMBER)

    def table(self, labels: Labels) -> Values:
        results = [*self.results(labels), None]
        there = np.array([result is not None for result in results])
        return Values(np.array([result or 0.0 for result in results], dtype=np.float64), there)

    def meaning(self) -> Meaning:
        return Unit(self.subject(), node=self)


class TextOfText(OfText):
    """A text made of another one."""

    def check(self, kinds: Kinds) -> Type:
        type_of_x = need_text(self, self.x, kinds)
        return Type(Kind.CATEGORY, labels=self.table(type_of_x.labels or ()).labels)

    def table(self, labels: Labels) -> Values:
        results = [*self.results(labels), None]
        made = tuple(dict.fromkeys(text for text in results if text is not None))
        place = {label: at for at, label in enumerate(made)} | {None: -1}
        codes = np.array([place[text] for text in results])
        return Values(codes, codes >= 0, made)


class Containing(TextCondition):
    """Whether a text holds another one somewhere."""

    text: str
    case: bool

    @abstractmethod
    def holds(self, text: str, part: str) -> bool:
        """Return whether a text holds a part where it should."""

    def of(self, texts: Sequence[str]) -> Sequence[bool]:
        part = self.text if self.case else self.text.casefold()
        return [self.holds(text if self.case else text.casefold(), part) for text in texts]


@operation
class Contains(Containing):
    """Whether a text contains another one.

    Example: `contains(hut, "horn")`, `contains(notes, "closed", case=False)`.
    """

    x: Node = argument("a text")
    text: str = option(TEXT, "what it contains")
    case: bool = option(FLAG, CASE, default=True)

    def holds(self, text: str, part: str) -> bool:
        return part in text


@operation
class StartsWith(Containing):
    """Whether a text starts with another one.

    Example: `starts_with(hut_code, "00")`.
    """

    x: Node = argument("a text")
    text: str = option(TEXT, "what it starts with")
    case: bool = option(FLAG, CASE, default=True)

    def holds(self, text: str, part: str) -> bool:
        return text.startswith(part)


@operation
class EndsWith(Containing):
    """Whether a text ends with another one.

    Example: `ends_with(valley, "Dale")`.
    """

    x: Node = argument("a text")
    text: str = option(TEXT, "what it ends with")
    case: bool = option(FLAG, CASE, default=True)

    def holds(self, text: str, part: str) -> bool:
        return text.endswith(part)


@operation
class MatchesPattern(TextCondition):
    """Whether the whole of a text matches a regular expression, in time that grows with its length alone (RE2).

    Example: `matches_pattern(hut_code, "00[1-4].*")`.
    """

    x: Node = argument("a text")
    pattern: str = option(TEXT, "a regular expression; .* before or behind it stands for any text")
    case: bool = option(FLAG, CASE, default=True)

    def check(self, kinds: Kinds) -> Type:
        try:
            pc.match_substring_regex(pa.array([""]), self.pattern)  # alone, without what stands around it below
        except pa.ArrowInvalid as problem:
            reason = str(problem).removeprefix("Invalid regular expression: ").splitlines()[0].partition(":")[0]
            raise self.error(f"the pattern {self.pattern!r} cannot be read: {reason}", "Correct it.") from None
        return super().check(kinds)

    def of(self, texts: Sequence[str]) -> Sequence[bool]:
        pattern = f"^(?:{self.pattern})$"
        found = pc.match_substring_regex(pa.array(texts, pa.large_string()), pattern, ignore_case=not self.case)
        return [bool(each) for each in found.to_pylist()]


@operation
class Lower(TextOfText):
    """A text in small letters.

    Example: `lower(access)`.
    """

    x: Node = argument("a text")

    def of(self, texts: Sequence[str]) -> Sequence[str]:
        return [text.lower() for text in texts]


@operation
class Trim(TextOfText):
    """A text without spaces at its ends, and with one between its words; missing where nothing is left.

    Example: `trim(access)`, `lower(trim(access))`.
    """

    x: Node = argument("a text")

    def of(self, texts: Sequence[str]) -> Sequence[str | None]:
        return [" ".join(text.split()) or None for text in texts]


@operation
class Replaced(TextOfText):
    """A text in which each occurrence of one text is replaced by another; missing where nothing is left.

    Example: `replaced(access, "-", " ")`.
    """

    x: Node = argument("a text")
    old: str = option(SOME_TEXT, "what is replaced")
    new: str = option(TEXT, "what stands in its place")

    def of(self, texts: Sequence[str]) -> Sequence[str | None]:
        return [text.replace(self.old, self.new) or None for text in texts]


@operation
class TextPart(TextOfText):
    """One of the parts into which a separator divides a text; missing where there are fewer.

    Example: `text_part(valley, " ", 1)`, the first; `text_part(valley, " ", -1)`, the last.
    """

    x: Node = argument("a text")
    separator: str = option(SOME_TEXT, "what stands between the parts")
    n: int = option(NONZERO, "which part, counted from 1, or from the end with -1")

    def of(self, texts: Sequence[str]) -> Sequence[str | None]:
        divided = [text.split(self.separator) for text in texts]
        at = self.n - 1 if self.n > 0 else self.n
        return [parts[at].strip() or None if abs(self.n) <= len(parts) else None for parts in divided]


@operation
class Piece(TextOfText):
    """The characters of a text from one place to another, both included; missing where it has none there.

    Example: `piece(hut_code, 1, 2)`, `piece(hut_code, -3)`, the last three.
    """

    x: Node = argument("a text")
    first: int = option(NONZERO, "the first character, counted from 1, or from the end with -1")
    last: int = option(NONZERO, "the last character, counted alike", default=-1)

    def of(self, texts: Sequence[str]) -> Sequence[str | None]:
        low = self.first - 1 if self.first > 0 else self.first
        made = []
        for text in texts:
            start = low if low >= 0 else max(len(text) + low, 0)
            stop = self.last if self.last > 0 else len(text) + self.last + 1
            made.append(text[start : max(stop, 0)] or None)
        return made


@operation
class LengthOf(TextNumber):
    """How many characters a text has.

    Example: `length_of(notes)`.
    """

    x: Node = argument("a text")

    def of(self, texts: Sequence[str]) -> Sequence[int]:
        return [len(text) for text in texts]


@operation
class NumberIn(TextNumber):
    """The first number in a text, with a point before its decimals and a sign right before it; missing without one.

    Example: `number_in(room)`, 12.5 of "ca. 12.5 m2".
    """

    x: Node = argument("a text")

    def of(self, texts: Sequence[str]) -> Sequence[float | None]:
        array = pa.array(texts, pa.large_string())
        found = pc.extract_regex(array, r"(?P<number>[-+]?[0-9]+(?:\.[0-9]+)?(?:[eE][-+]?[0-9]+)?)").to_pylist()
        return [None if each is None else PLAIN.number(each["number"].removeprefix("+")) for each in found]
