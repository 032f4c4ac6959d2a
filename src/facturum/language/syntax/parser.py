"""From text to nodes: Python's expression grammar, walked by a whitelist and never evaluated by Python."""

from __future__ import annotations

import ast
import math
import re
import warnings
from collections.abc import Callable
from contextlib import suppress
from functools import lru_cache, reduce
from threading import RLock
from typing import Any

from facturum.errors import PlanError
from facturum.language.core import arithmetic, literals, logic
from facturum.language.families import REGISTRY
from facturum.language.syntax.binding import bind, known_operations
from facturum.language.syntax.other_words import meant
from facturum.language.tree.nodes import Node, Span
from facturum.language.tree.options import MISSING
from facturum.language.tree.stored import WORD, found

LONGEST_TEXT = 64 * 1024
LONGEST_KNOWN = 500  # characters of an expression that is kept in mind
LONGEST_LEARNED = 4 * 1024 * 1024
DEEPEST_BRACKETS = 100
MAX_NODES = 10_000
DEEPEST = 200
LONGEST_RANGE = 1000
_ONE_AT_A_TIME = RLock()  # in Python 3.11 the depth of ast.parse is counted for all threads together
OPTION = "an option is a number, a text, True, False, missing, a list or a dict of these"

_ARITHMETIC: dict[type[ast.operator], type[arithmetic.Arithmetic]] = {
    ast.Add: arithmetic.Add,
    ast.Sub: arithmetic.Subtract,
    ast.Mult: arithmetic.Multiply,
    ast.Div: arithmetic.Divide,
    ast.Pow: arithmetic.Power,
}
_COMPARISONS: dict[type[ast.cmpop], str] = {
    ast.Lt: "<",
    ast.LtE: "<=",
    ast.Gt: ">",
    ast.GtE: ">=",
    ast.Eq: "==",
    ast.NotEq: "!=",
}
_REFUSED: dict[type[ast.AST], tuple[str, str]] = {
    ast.Attribute: ("a dot after a name has no meaning here", 'A name with a dot is written variable("a.b").'),
    ast.Subscript: ("square brackets after an expression have no meaning here", "Write lag(x, 1) or a condition."),
    ast.Lambda: ("functions cannot be defined here", "Write the expression itself."),
    ast.NamedExpr: ("':=' has no meaning here", "Define the variable under [derived]."),
    ast.JoinedStr: ("formatted text has no meaning here", "Write plain text in quotes."),
    ast.Tuple: ("a comma outside a list has no meaning here", "Write a list in square brackets."),
    ast.Starred: ("'*' before a name has no meaning here", "Write the list itself."),
}


def parse(text: str, learned: bool = False) -> Node:
    """Return the expression of a text.

    Args:
        text: an expression in the language of plans.
        learned: whether resolving has written it, so that its tables may be long.

    Returns:
        The node; its `span` is its place in the text.

    Raises:
        PlanError: with the place marked, for anything outside the language or beyond its sizes.

    Example:
        >>> str(parse("log(price)*2"))
        'log(price) * 2'
        >>> parse("__import__('os')")
        Traceback (most recent call last):
        facturum.errors.PlanError: operation '__import__' not found
            __import__('os')
            ^^^^^^^^^^
        'facturum operations' lists them.
    """
    if len(text) <= LONGEST_KNOWN:
        with suppress(*[PlanError] if learned else []):  # what resolving has written may be larger
            return _known(text)
    return _parsed(text, learned)


@lru_cache(maxsize=8192)  # as a plan's texts are read for their names, their kinds and their readings
def _known(text: str) -> Node:
    return _parsed(text, False)


def _parsed(text: str, learned: bool) -> Node:
    try:
        _refuse_hostile(text, LONGEST_LEARNED if learned else LONGEST_TEXT)
        plain = text.replace("\r", " ")  # which the grammar would take for the end of a line
        lead = len(plain) - len(plain.lstrip())
        tree = _tree(plain.strip())
        walker = _Walker(plain.strip(), lead)
        _refuse_size(tree, learned)
        return walker.node(tree.body)
    except PlanError as error:
        if error.text is None:
            error.text = text
        raise


def _tree(text: str) -> ast.Expression:
    if not text:
        raise PlanError("the expression is empty", remedy="Write a variable or an operation.")
    try:
        with _ONE_AT_A_TIME, warnings.catch_warnings(action="ignore"):
            return ast.parse(_source(text), mode="eval")
    except SyntaxError as problem:
        raise _syntax_error(text, problem) from None
    except (RecursionError, MemoryError, ValueError, OverflowError):
        raise PlanError("the expression is too large or too deeply nested", remedy="Split it with [derived].") from None


def _source(text: str) -> str:
    """Return what Python's parser is given: a text of several lines is put in brackets."""
    return text if "\n" not in text else "(" + text + "\n)"


_SYNTAX = (  # the message of Python's parser, ours, and the remedy
    ("never closed", "a bracket is opened that is never closed", "Close it where its operation ends."),
    ("does not match", "a bracket is closed by one of another kind", "Close ( with ), and [ with ]."),
    ("unterminated", "a text begins that never ends", "Close it with the quote that it begins with."),
    ("leading zeros", "a number begins with a zero", "Leave the zero out, or write a text if it is a code: '01'."),
)


def _syntax_error(text: str, problem: SyntaxError) -> PlanError:
    """Return the error for a text that Python's parser refuses, in the words of a plan."""
    span = None
    at = min(problem.offset - 1 if problem.offset else len(text.rstrip()), len(text))  # 0 is the end of the text
    if "\n" not in text:
        span = (at, max(problem.end_offset or 0, at + 2) - 1)
    for said, what, remedy in _SYNTAX:
        if said in problem.msg:
            return PlanError(f"not a valid expression: {what}", span=span, remedy=remedy)
    remedy = "Look for a missing bracket, quote, comma or operator at the mark."
    if text[at : at + 1] in ("&", "|"):
        remedy = "Write 'and', 'or' and 'not' between conditions."
    elif text[at : at + 1] == "=":
        remedy = "A comparison is written with ==."
    what = "the rest cannot be read" if problem.offset else "it ends too early"
    return PlanError(f"not a valid expression: {what}", span=span, remedy=remedy)


_NO_TEXT = re.compile("[\0\ud800-\udfff]")
_BRACKETS = re.compile(r"\\.|['\"#\n()\[\]{}]", re.DOTALL)


def _refuse_hostile(text: str, longest: int) -> None:
    if len(text.encode("utf-8", "surrogatepass")) > longest:
        raise PlanError(
            f"the expression is longer than {longest // 1024} kB", text="", remedy="Split it with [derived]."
        )
    if wrong := _NO_TEXT.search(text):
        span = (wrong.start(), wrong.end())
        raise PlanError("the expression holds a character that is not valid text", span=span, text=repr(text))
    depth = 0
    quote = ""
    for bracket in _BRACKETS.finditer(text):
        char, at = bracket[0], bracket.start()
        if quote:  # of a text or a comment, which run to the end of the line at most
            quote = "" if char == quote or char == "\n" else quote
        elif char in "'\"#":
            quote = "\n" if char == "#" else char
        elif char in "([{":
            depth += 1
            if depth > DEEPEST_BRACKETS:
                raise PlanError("brackets are nested more than 100 deep", span=(at, at + 1), text=text)
        elif char in ")]}":
            depth -= 1
            if depth < 0:
                raise PlanError("not a valid expression: a bracket is closed that was never opened", span=(at, at + 1))


def _refuse_size(tree: ast.Expression, learned: bool) -> None:
    """Refuse an expression of too many parts; in one that resolving has written, literals do not count."""
    counted = (
        (ast.expr,) if not learned else tuple(set(ast.expr.__subclasses__()) - {ast.Constant, ast.Tuple, ast.UnaryOp})
    )
    count = 0
    level: list[ast.AST] = [tree.body]
    depth = 0
    while level:
        depth += 1
        count += sum(1 for item in level if isinstance(item, counted))
        if count > MAX_NODES or depth > DEEPEST:
            raise PlanError("the expression is too large or too deeply nested", text="", remedy="Split it up.")
        level = [child for item in level for child in ast.iter_child_nodes(item)]


class _Walker:
    def __init__(self, text: str, lead: int) -> None:
        self._wrapped = "\n" in text
        self._lines = _source(text).split("\n")
        self._lead = lead
        self._length = len(text)

    def node(self, tree: ast.expr) -> Node:
        """Return the node for a syntax tree."""
        parsed = self._made(tree)
        object.__setattr__(parsed, "span", self.span(tree))
        return parsed

    def span(self, tree: ast.expr | ast.keyword) -> Span:
        """Return the place of a syntax tree in the text, in characters."""
        start = self._offset(tree.lineno, tree.col_offset)
        end = self._offset(tree.end_lineno or tree.lineno, tree.end_col_offset or tree.col_offset)
        return start + self._lead, end + self._lead

    def _offset(self, line: int, column: int) -> int:
        before = sum(len(part) + 1 for part in self._lines[: line - 1])
        at = len(self._lines[line - 1].encode()[:column].decode(errors="replace"))
        return min(max(before + at - (1 if self._wrapped else 0), 0), self._length)

    def error(self, tree: ast.expr | ast.keyword, what: str, remedy: str | None = None) -> PlanError:
        return PlanError(what, span=self.span(tree), remedy=remedy)

    def _made(self, tree: ast.expr) -> Node:
        makers: dict[type[ast.expr], Callable[[Any], Node]] = {
            ast.Name: self._name,
            ast.Constant: self._constant,
            ast.BinOp: self._arithmetic,
            ast.UnaryOp: self._unary,
            ast.BoolOp: self._connective,
            ast.Compare: self._comparison,
            ast.IfExp: lambda t: logic.Conditional(self.node(t.body), self.node(t.test), self.node(t.orelse)),
            ast.List: lambda t: literals.List(tuple(self.node(member) for member in t.elts)),
            ast.Call: self._call,
        }
        make = makers.get(type(tree))
        if make is None:
            what, remedy = _REFUSED.get(type(tree), ("this has no meaning here", "See docs/language.md."))
            raise self.error(tree, what, remedy)
        return make(tree)

    def _name(self, tree: ast.Name) -> Node:
        if tree.id == "missing":
            return literals.Missing()
        written = self._source(tree)
        if written != tree.id:
            raise self.error(
                tree, f"the name {written!r} would be read as {tree.id!r}", f"Write variable({written!r})."
            )
        return literals.Name(tree.id)

    def _source(self, tree: ast.expr) -> str:
        line = self._lines[tree.lineno - 1].encode()
        return line[tree.col_offset : tree.end_col_offset].decode(errors="replace")

    def _constant(self, tree: ast.Constant) -> Node:
        value = self._plain(tree)
        if isinstance(value, bool):
            return literals.Truth(value)
        if isinstance(value, int | float):
            return literals.Number(value)
        if isinstance(value, str):
            return literals.Text(value)
        raise self.error(tree, f"{value!r} has no meaning here", "Write missing for a missing value.")

    def _plain(self, tree: ast.Constant) -> Any:
        value = tree.value
        if isinstance(value, complex | bytes) or value is Ellipsis:
            raise self.error(tree, "only numbers, texts and truth values may be written", None)
        if isinstance(value, float) and not math.isfinite(value):
            raise self.error(tree, "the number is too large for a double", "Write a smaller one.")
        if isinstance(value, int) and not isinstance(value, bool) and abs(value) >= 2**63:
            raise self.error(tree, "the number has too many digits", "Write it as text if it is a code.")
        if isinstance(value, str) and any("\ud800" <= char <= "\udfff" or char == "\0" for char in value):
            raise self.error(tree, "the text holds a character that is not valid text", None)
        return value

    def _arithmetic(self, tree: ast.BinOp) -> Node:
        operation = _ARITHMETIC.get(type(tree.op))
        if operation is None:
            remedy = "Write 'and' and 'or' between conditions; + - * / ** between numbers."
            raise self.error(tree, "this operator has no meaning here", remedy)
        return operation(self.node(tree.left), self.node(tree.right))  # type: ignore[call-arg]

    def _unary(self, tree: ast.UnaryOp) -> Node:
        if isinstance(tree.op, ast.Not):
            return logic.Not(self.node(tree.operand))
        if isinstance(tree.op, ast.UAdd):
            return self.node(tree.operand)
        if isinstance(tree.op, ast.USub):
            operand = tree.operand
            written = not self._source_before(operand).endswith("(")
            if isinstance(operand, ast.Constant) and written and type(operand.value) in (int, float):
                return literals.Number(-self._plain(operand) or 0)
            return arithmetic.Negative(self.node(operand))
        raise self.error(tree, "this operator has no meaning here", "Write 'not' before a condition.")

    def _source_before(self, tree: ast.expr) -> str:
        return self._lines[tree.lineno - 1].encode()[: tree.col_offset].decode(errors="replace").rstrip()

    def _connective(self, tree: ast.BoolOp) -> Node:
        operation = logic.And if isinstance(tree.op, ast.And) else logic.Or
        return reduce(operation, map(self.node, tree.values))

    def _comparison(self, tree: ast.Compare) -> Node:
        operators = [type(op) for op in tree.ops]
        if operators in ([ast.In], [ast.NotIn]):
            if not isinstance(tree.comparators[0], ast.List):
                raise self.error(tree.comparators[0], "'in' needs a list", "Write x in ['a', 'b'].")
            members = tuple(map(self.node, tree.comparators[0].elts))
            return logic.Membership(self.node(tree.left), members, operators == [ast.NotIn])
        unknown = [op for op in operators if op not in _COMPARISONS]
        if unknown:
            raise self.error(tree, "this comparison has no meaning here", "Write < <= > >= == != or in [..].")
        operands = tuple(map(self.node, (tree.left, *tree.comparators)))
        return logic.Comparison(operands, tuple(_COMPARISONS[op] for op in operators))

    def _call(self, tree: ast.Call) -> Node:
        if not isinstance(tree.func, ast.Name):
            raise self.error(tree.func, "only operations can be called", "See docs/language.md.")
        name = tree.func.id
        if name == "variable":
            return self._variable(tree)
        operation = REGISTRY.get(name)
        if operation is None:
            beside = [ast.get_source_segment("\n".join(self._lines), each) or ".." for each in tree.args]
            hint, remedy = meant(name, known_operations(), beside)
            raise self.error(tree.func, f"operation '{name}' not found{hint}", remedy)
        for word in tree.keywords:
            if word.arg is None:
                raise self.error(tree, "'**' has no meaning in a call", "Write the options by name.")
        given = [(None, value) for value in tree.args] + [(word.arg, word.value) for word in tree.keywords]
        words = {word.value: word for word in tree.keywords}  # an option is marked with its name

        def error(at: ast.expr | None, what: str, remedy: str | None) -> PlanError:
            return self.error(words.get(at, at) if at is not None else tree, what, remedy)

        return bind(operation, given, self.node, self._literal, self._pairs, error)

    def _pairs(self, tree: ast.expr) -> list[Node]:
        if not isinstance(tree, ast.Dict) or not tree.keys or None in tree.keys:
            raise self.error(tree, "conditions and values are written in braces", "Write {price > 40: 'dear'}, say.")
        return [self.node(part) for pair in zip(tree.keys, tree.values, strict=True) for part in pair if part]

    def _variable(self, tree: ast.Call) -> Node:
        first = tree.args[0] if len(tree.args) == 1 and not tree.keywords else None
        if not isinstance(first, ast.Constant) or not isinstance(first.value, str):
            raise self.error(
                tree, "variable(..) takes one name in quotes", 'Write variable("..") with the name as the table has it.'
            )
        return literals.Name(self._plain(first))

    def _range(self, tree: ast.Call) -> tuple[int, ...]:
        """Return the whole numbers of ``range(1, 13)``, which ends before its last number."""
        ends = [arg.value if isinstance(arg, ast.Constant) else None for arg in tree.args]
        named = isinstance(tree.func, ast.Name) and tree.func.id == "range" and not tree.keywords
        if not named:
            raise self.error(tree, OPTION, None)
        if len(ends) not in (1, 2) or any(type(end) is not int or abs(end) > 10**6 for end in ends):
            raise self.error(tree, "a range has whole numbers for its ends", "range(1, 13) stands for 1 to 12.")
        numbers = range(*[end for end in ends if isinstance(end, int)])
        if len(numbers) > LONGEST_RANGE:
            raise self.error(tree, f"the range has {len(numbers):,} numbers", f"Write at most {LONGEST_RANGE}.")
        return tuple(numbers)

    def _stored(self, tree: ast.Call) -> Any:
        """Return what the digest of a long literal stands for."""
        digest = tree.args[0].value if len(tree.args) == 1 and isinstance(tree.args[0], ast.Constant) else None
        literal = None if not isinstance(digest, str) or tree.keywords else found(digest)
        if literal is None:
            raise self.error(
                tree,
                "the learned table that this names is not at hand",
                "Keep its learned-..parquet beside the plan, and load the plan from its file.",
            )
        return literal.value

    def _literal(self, tree: ast.expr) -> Any:
        """Return a literal option: lists become tuples, dicts tuples of pairs."""
        if isinstance(tree, ast.Call) and isinstance(tree.func, ast.Name) and tree.func.id == WORD:
            return self._stored(tree)
        if isinstance(tree, ast.Constant):
            return self._plain(tree)
        if isinstance(tree, ast.Name) and tree.id in ("missing", "all"):
            return MISSING if tree.id == "missing" else tree.id
        if isinstance(tree, ast.UnaryOp) and isinstance(tree.op, ast.USub) and isinstance(tree.operand, ast.Constant):
            value = self._plain(tree.operand)
            if isinstance(value, int | float):
                return -value or 0
        if isinstance(tree, ast.Call):
            return self._range(tree)
        if isinstance(tree, ast.List | ast.Tuple):
            return tuple(self._literal(member) for member in tree.elts)
        if isinstance(tree, ast.Dict) and None not in tree.keys:
            pairs = zip(tree.keys, tree.values, strict=True)
            return tuple((self._literal(key), self._literal(value)) for key, value in pairs if key is not None)
        raise self.error(tree, OPTION, None)
