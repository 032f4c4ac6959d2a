"""From nodes to text, with no more brackets than the grammar needs."""

from __future__ import annotations

import ast
import dataclasses
import keyword
import re
from dataclasses import dataclass
from typing import Any

from facturum.language.core import Arithmetic, List, Missing, Multiply, Name, Negative, Number, Power, Text, Truth
from facturum.language.logic import And, Comparison, Conditional, Membership, Not, Or
from facturum.language.nodes import Node
from facturum.language.options import Absent
from facturum.language.stored import LONG, stored_literal

MAX_ENTRIES = 4  # of a table; more are counted in sentences, and become a definition in formulas
WORDS = frozenset({"missing", *keyword.kwlist})
_IF, _OR, _AND, _NOT, _COMPARE, _SUM, _PRODUCT, _SIGN, _POWER, _ATOM = range(10)


def text_of(expression: Node) -> str:
    """Return the text of an expression; parsing it gives the same expression back.

    Example:
        >>> from facturum.language.parser import parse
        >>> text_of(parse("(a+b) * c ** (2)"))
        '(a + b) * c ** 2'
    """
    return _Writer()._text(expression, _IF)


def brief_text(expression: Node) -> str:
    """Return the text of an expression for sentences: long tables and lists are counted, decimals rounded.

    Example:
        >>> from facturum.language.parser import parse
        >>> brief_text(parse("x - lookup(hut, {'a': 1, 'b': 2, 'c': 3, 'd': 4, 'e': 5})"))
        'x - lookup(hut, {.. 5 entries})'
        >>> brief_text(parse("x > 41.23737410071942"))
        'x > 41.23737'
    """
    return _Writer(MAX_ENTRIES)._text(expression, _IF)


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
class _Writer:
    """Writes expressions; ``most``: the most entries of a table or list that are written out, None for all."""

    most: int | None = None

    def _text(self, node: Node, needed: int) -> str:
        text, strength = self._written(node)
        return f"({text})" if strength < needed else text

    def _written(self, node: Node) -> tuple[str, int]:
        if isinstance(node, Name):
            return (node.variable if is_plain_name(node.variable) else f"variable({node.variable!r})"), _ATOM
        if isinstance(node, Number):
            return self._literal(node.value, False), _SIGN if node.value < 0 else _ATOM
        if isinstance(node, Text | Truth):
            return repr(node.value), _ATOM
        if isinstance(node, Missing):
            return "missing", _ATOM
        if isinstance(node, List):
            return "[" + ", ".join(self._text(member, _IF) for member in node.members) + "]", _ATOM
        if isinstance(node, Arithmetic):
            return self._arithmetic(node)
        if isinstance(node, Negative):
            # the sign of a bare number belongs to the number, so that it needs a bracket here
            inner = self._text(node.value, _SIGN)
            return "-" + (f"({inner})" if isinstance(node.value, Number) else inner), _SIGN
        if isinstance(node, Comparison | Membership | And | Or | Not | Conditional):
            return self._logic(node)
        return self._call(node), _ATOM

    def _arithmetic(self, node: Arithmetic) -> tuple[str, int]:
        if isinstance(node, Power):
            return f"{self._text(node.left, _ATOM)} ** {self._text(node.right, _SIGN)}", _POWER
        strength = _PRODUCT if isinstance(node, Multiply) or node.symbol == "/" else _SUM
        return f"{self._text(node.left, strength)} {node.symbol} {self._text(node.right, strength + 1)}", strength

    def _logic(self, node: Comparison | Membership | And | Or | Not | Conditional) -> tuple[str, int]:
        if isinstance(node, Comparison):
            words = [self._text(node.operands[0], _SUM)]
            for operator, operand in zip(node.operators, node.operands[1:], strict=True):
                words += [operator, self._text(operand, _SUM)]
            return " ".join(words), _COMPARE
        if isinstance(node, Membership):
            members = ", ".join(self._text(member, _IF) for member in node.members)
            return f"{self._text(node.value, _SUM)} {'not in' if node.negated else 'in'} [{members}]", _COMPARE
        if isinstance(node, And):
            return f"{self._text(node.left, _AND)} and {self._text(node.right, _NOT)}", _AND
        if isinstance(node, Or):
            return f"{self._text(node.left, _OR)} or {self._text(node.right, _AND)}", _OR
        if isinstance(node, Not):
            return f"not {self._text(node.value, _NOT)}", _NOT
        branches = (self._text(node.then, _OR), self._text(node.condition, _OR), self._text(node.otherwise, _IF))
        return "{} if {} else {}".format(*branches), _IF

    def _call(self, node: Node) -> str:
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
                text = self._text(value, _IF)
            elif field.metadata.get("spread"):
                text = ", ".join(self._text(member, _IF) for member in value)
            elif field.metadata["role"] == "arguments":
                single = field.default is dataclasses.MISSING and len(value) == 1 and not isinstance(value[0], List)
                text = self._text(value[0], _IF) if single else "[" + ", ".join(self._text(v, _IF) for v in value) + "]"
            else:
                text = self._option(node, value, field.metadata["accept"].mapping)
            by_name = by_name or field.default is not dataclasses.MISSING
            words.append(f"{field.name}={text}" if by_name else text)
        return f"{node.name}({', '.join(words)})"

    def _option(self, node: Node, value: Any, mapping: bool) -> str:
        """Return the text of an option; a long one is stored, and held by its operation."""
        if self.most is not None or not isinstance(value, tuple) or len(value) <= LONG:
            return self._literal(value, mapping)
        literal = stored_literal(value, mapping)
        node.hold(literal)
        return literal.text

    def _literal(self, value: Any, mapping: bool) -> str:
        if self.most is None:
            return literal_text(value, mapping)
        if not isinstance(value, tuple) or len(value) <= self.most:
            return literal_text(_rounded(value), mapping)
        return f"{{.. {len(value)} entries}}" if mapping else f"[.. {len(value)} entries]"
