"""From nodes to text, with no more brackets than the grammar needs."""

from __future__ import annotations

import ast
import dataclasses
import keyword
import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, ClassVar, Protocol

from facturum.language.tree.options import Absent
from facturum.language.tree.stored import LONG, stored_literal

MAX_ENTRIES = 4  # of a table; more are counted in sentences, and become a definition in formulas
WORDS = frozenset({"missing", *keyword.kwlist})
# how strongly the parts of a text hold together, from the weakest
IF, OR, AND, NOT, COMPARE, SUM, PRODUCT, SIGN, POWER, ATOM = range(10)


class Written(Protocol):
    """An expression that writes itself."""

    listed: ClassVar[bool]

    @property
    def name(self) -> str: ...
    def written(self, writer: Writer) -> tuple[str, int]: ...
    def hold(self, literal: Any) -> None: ...


def text_of(expression: Written) -> str:
    """Return the text of an expression; parsing it gives the same expression back.

    Example:
        >>> from facturum.language.syntax.parser import parse
        >>> text_of(parse("(a+b) * c ** (2)"))
        '(a + b) * c ** 2'
    """
    return Writer().text(expression, IF)


def brief_text(expression: Written) -> str:
    """Return the text of an expression for sentences: long tables and lists are counted, decimals rounded.

    Example:
        >>> from facturum.language.syntax.parser import parse
        >>> brief_text(parse("x - lookup(hut, {'a': 1, 'b': 2, 'c': 3, 'd': 4, 'e': 5})"))
        'x - lookup(hut, {.. 5 entries})'
        >>> brief_text(parse("x > 41.23737410071942"))
        'x > 41.23737'
    """
    return Writer(MAX_ENTRIES).text(expression, IF)


def literal_text(value: Any, mapping: bool = False) -> str:
    """Return the text of a literal: a number, a text, a truth value, missing, a list or a dict."""
    if isinstance(value, Absent):
        return "missing"
    if isinstance(value, tuple):
        if mapping:
            pairs = (f"{_key_text(key)}: {literal_text(item)}" for key, item in value)
            return "{" + ", ".join(pairs) + "}"
        return "[" + ", ".join(literal_text(item) for item in value) + "]"
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return repr(int(value))
    return repr(value)


def _key_text(key: Any) -> str:
    return "(" + ", ".join(literal_text(part) for part in key) + ")" if isinstance(key, tuple) else literal_text(key)


def _rounded(value: Any) -> Any:
    """Return a literal with its decimals in seven significant digits, enough for a sentence."""
    if isinstance(value, tuple):
        return tuple(_rounded(part) for part in value)
    return float(f"{value:.7g}") if isinstance(value, float) and abs(value) < 1e6 else value


def is_plain_name(name: str) -> bool:
    """Return whether a variable can be written as it is, without ``variable("..")``.

    Example:
        >>> is_plain_name("snow_depth"), is_plain_name("snow depth"), is_plain_name("if")
        (True, False, False)
    """
    import unicodedata

    return name.isidentifier() and name not in WORDS and unicodedata.normalize("NFKC", name) == name


_QUOTED = re.compile(r"""variable\(('(?:[^'\\]|\\.)*'|"(?:[^"\\]|\\.)*")\)""")


def in_words(text: str) -> str:
    """Return a text with the names of variables as they are, as sentences have them.

    Example:
        >>> in_words("With variable('Preis je Stück') 1 % higher")
        'With Preis je Stück 1 % higher'
    """
    return _QUOTED.sub(lambda found: str(ast.literal_eval(found[1])), text)


@dataclass(frozen=True)
class Writer:
    """Writes expressions; ``most``: the most entries of a table or list that are written out, None for all."""

    most: int | None = None

    def text(self, node: Written, needed: int = IF) -> str:
        """Return the text of an expression, in brackets where it holds together less than is needed."""
        text, strength = node.written(self)
        return f"({text})" if strength < needed else text

    def several(self, nodes: Iterable[Written]) -> str:
        """Return the texts of expressions in a row."""
        return ", ".join(self.text(node) for node in nodes)

    def call(self, node: Written) -> str:
        """Return the call of an operation, options that are as they are by default left out."""
        words: list[str] = []
        by_name = False
        for field in dataclasses.fields(node):  # type: ignore[arg-type]
            value = getattr(node, field.name)
            if (
                field.default is not dataclasses.MISSING
                and value == field.default
                and type(value) is type(field.default)
            ):
                by_name = True
                continue
            if field.metadata["role"] == "argument":
                text = self.text(value)
            elif field.metadata.get("spread"):
                text = self.several(value)
            elif field.metadata["role"] == "arguments":
                single = field.default is dataclasses.MISSING and len(value) == 1 and not value[0].listed
                text = self.text(value[0]) if single else f"[{self.several(value)}]"
            else:
                text = self._option(node, value, field.metadata["accept"].mapping)
            by_name = by_name or field.default is not dataclasses.MISSING
            words.append(f"{field.name}={text}" if by_name else text)
        return f"{node.name}({', '.join(words)})"

    def _option(self, node: Written, value: Any, mapping: bool) -> str:
        """Return the text of an option; a long one is stored, and held by its operation."""
        if self.most is not None or not isinstance(value, tuple) or len(value) <= LONG:
            return self.literal(value, mapping)
        literal = stored_literal(value, mapping)
        node.hold(literal)
        return literal.text

    def literal(self, value: Any, mapping: bool = False) -> str:
        """Return the text of a literal."""
        if self.most is None:
            return literal_text(value, mapping)
        if not isinstance(value, tuple) or len(value) <= self.most:
            return literal_text(_rounded(value), mapping)
        return f"{{.. {len(value)} entries}}" if mapping else f"[.. {len(value)} entries]"
