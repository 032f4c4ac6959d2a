"""The type that all cells of a text column have."""

from __future__ import annotations

import re

import pyarrow as pa
import pyarrow.compute as pc

from facturum.data.number_text import NumberForm

_CODE = r"^[+-]?0\d+$"  # a leading zero would be lost as a number
_PATTERNS = {
    "whole": r"^[+-]?\d+$",
    "plain": r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$|^[+-]?(?i:inf|infinity)$",
    "truth": r"^(?i:true|false)$",
    "day": r"^\d{4}-\d{2}-\d{2}$",
    "moment": r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}(:\d{2}(\.\d{1,6})?)?$",
}
_WORDS = {what: re.compile(pattern, re.ASCII) for what, pattern in _PATTERNS.items()}


class CellType:
    """The type that all cells of a text column have, found from its words.

    Args:
        form: how numbers are written.

    Example:
        >>> cells = CellType(NumberForm())
        >>> cells.see(pa.array(["1", "2"]))
        >>> cells.see(pa.array(["2.5"]))
        >>> cells.typed(pa.array(["1", "2.5"]).dictionary_encode()).to_pylist()
        [1.0, 2.5]
    """

    def __init__(self, form: NumberForm) -> None:
        self._form = form
        self._seen = self._code = False
        self._may_be = dict.fromkeys(("whole", "fitting", "plain", "formed", "truth", "day", "moment"), True)
        self._may_be["plain"] = form.decimal == "."
        self._may_be["formed"] = form != NumberForm()

    def see(self, words: pa.Array) -> None:
        """Take note of further words, each once."""
        if not len(words):
            return
        self._seen = True
        self._see_first(words[0].as_py().strip())
        if not any(self._may_be[what] for what in (*_PATTERNS, "formed")):
            return
        trimmed = pc.utf8_trim_whitespace(words)
        for what, pattern in _PATTERNS.items():
            self._may_be[what] = self._may_be[what] and _all_match(trimmed, pattern)
        if self._may_be["whole"]:
            self._code = self._code or bool(pc.any(pc.match_substring_regex(trimmed, _CODE)).as_py())
            self._may_be["fitting"] = self._may_be["fitting"] and self._casts(trimmed, "whole")
        elif self._may_be["formed"] and not self._may_be["plain"]:
            self._may_be["formed"] = None not in [self._form.number(word) for word in trimmed.to_pylist()]
        for what in ("day", "moment"):
            if self._may_be[what] and not self._casts(trimmed, what):
                self._may_be["fitting"] = False  # a date that no calendar has, so that all are text

    def _see_first(self, word: str) -> None:
        """Take note of one word, which tells nearly all columns of text."""
        for what, pattern in _WORDS.items():
            self._may_be[what] = self._may_be[what] and pattern.match(word) is not None
        if self._may_be["formed"] and not self._may_be["plain"]:
            self._may_be["formed"] = self._form.number(word) is not None

    def _casts(self, words: pa.Array, kind: str) -> bool:
        try:
            self._converted(words, kind)
            return True
        except pa.ArrowInvalid:
            return False

    @property
    def kind(self) -> str | None:
        """What all cells are; None for text."""
        if self._may_be["whole"]:  # a leading zero would be lost; too many digits are a code, kept as text
            return "whole" if not self._code and self._may_be["fitting"] else None
        for kind in ("plain", "formed", "truth"):
            if self._may_be[kind]:
                return kind
        return next((kind for kind in ("day", "moment") if self._may_be[kind] and self._may_be["fitting"]), None)

    def typed(self, words: pa.DictionaryArray) -> pa.Array:
        """Return cells in the type that all cells of the column have.

        Args:
            words: of some cells, each once, and which of them each cell is.
        """
        if not self._seen:
            return pa.nulls(len(words))
        if self.kind is None:
            return words
        return self._converted(pc.utf8_trim_whitespace(words.dictionary), self.kind).take(words.indices)

    def _converted(self, words: pa.Array, kind: str) -> pa.Array:
        if kind in ("whole", "plain"):
            unsigned = pc.replace_substring_regex(words, r"^\+", "")
            return unsigned.cast(pa.int64() if kind == "whole" else pa.float64())
        if kind == "formed":
            return pa.array([self._form.number(word) for word in words.to_pylist()], pa.float64())
        if kind == "truth":
            return pc.equal(pc.utf8_lower(words), "true")
        return words.cast(pa.date32() if kind == "day" else pa.timestamp("us"))


def _all_match(words: pa.Array, pattern: str) -> bool:
    return bool(pc.all(pc.match_substring_regex(words, pattern)).as_py())
