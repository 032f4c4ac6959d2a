"""Which encoding the bytes of a text are in: by its mark, by UTF-8's own rules, or by the letters of a language."""

from __future__ import annotations

import codecs
import re
from collections.abc import Sequence

COMMON = ("cp1252", "cp1250", "iso8859-2", "cp1251", "koi8-r", "cp1253", "cp1254")
RARE = ("mac-roman", "cp850", "cp852", "cp866")  # of other systems, where none of the common ones tells
# where the rare ones have letters and the common ones signs, but for the euro, dashes, dots and the apostrophe
OTHERS_LETTERS = frozenset(range(0x80, 0xA0)) - {0x80, 0x85, 0x92, 0x96, 0x97}
_MARKS = (
    (codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"),
)  # fmt: skip
_LANGUAGES = tuple(  # the letters beyond ASCII of texts in one language
    frozenset(letters + letters.upper())
    for letters in (
        "äöüß", "àâæçéèêëîïôœùûüÿ", "áéíóúüñ", "áâãàçéêíóôõú", "åäöéü", "æøåé", "àèéìíîòóù", "áéíóöőúüű", "ąćęłńóśźż",
        "áčďéěíňóřšťúůýž", "áäčďéíľňóôšťúýž", "čćđšž", "ăâîșțşţ", "çğıİöşüâî", "áðéíóúýþæö", "õäöüšž",
        "абвгдежзийклмнопрстуфхцчшщъыьэюяёіїєґ", "αβγδεζηθικλμνξοπρσςτυφχψωάέήίόύώϊϋ",
    )
)  # fmt: skip
_SIGNS = frozenset("€£¥§°²³½¼¾µ«»„“”‚‘’–—…•·%‰©®™±×÷ºª¿¡\u00a0№")
_LETTER = r"[^\W\d_]"
_ODD = re.compile(
    rf"[€£¥§½¼¾±×÷µ‰]{_LETTER}|{_LETTER}[€£¥§½¼¾±×÷¿¡‰‚„]|{_LETTER}[„“”«»°²³ºª•·©®™]{_LETTER}"  # signs within words
    r"|[a-zA-Z][\u0370-\u052f]|[\u0370-\u052f][a-zA-Z]"  # two scripts in one word
    r"|[ńćśźŃĆŚŹ][aeiouyąęóAEIOUYĄĘÓ]"  # which Polish writes ni, ci, si, zi
    r"|ς[α-ω]|[a-zà-ÿа-яα-ω][A-ZÀ-ÖØ-ÞА-ЯΑ-Ω]"  # a last sigma within a word, a capital after a small letter
)


def encodings_of(data: bytes) -> list[str]:
    """Return the encodings that the bytes of a text may be in: one where they tell, several where they differ by it.

    UTF-8 and UTF-16 are known by their marks or their rules. Of the single-byte ones, those are left under which all
    letters beyond ASCII belong to one language, stand in words, and are not in capitals within small ones.

    Args:
        data: the bytes.

    Returns:
        Encodings that give different texts, the most common first; none where no one fits.

    Example:
        >>> encodings_of("Größe;Höhe".encode()), encodings_of("Größe;Höhe".encode("cp1252"))
        (['utf-8'], ['cp1252'])
        >>> encodings_of("Łódź;źródło;część".encode("cp1250")), encodings_of("Größe;Höhe".encode("cp850"))
        (['cp1250'], ['cp850'])
    """
    for mark, name in _MARKS:
        if data.startswith(mark):
            return [name]
    zeros = (data[0:400:2].count(0), data[1:400:2].count(0))
    if max(zeros) > len(data[:400]) // 3:
        return ["utf-16-be" if zeros[0] > zeros[1] else "utf-16-le"]
    try:
        data.decode("utf-8")
        return ["utf-8"]
    except UnicodeDecodeError as problem:
        if problem.end == len(data) and problem.reason == "unexpected end of data":
            return ["utf-8"]  # the sample ends within a character
    common = _plausible(data, COMMON)
    if common and not any(byte in OTHERS_LETTERS for byte in data):
        return common
    return [*common, *(each for each in _plausible(data, RARE) if each not in common)]


def _plausible(data: bytes, encodings: Sequence[str]) -> list[str]:
    """Return the encodings under which bytes are a text of one language, one for each text."""
    found: dict[str, str] = {}
    for name in encodings:
        try:
            text = data.decode(name)
        except UnicodeDecodeError:
            continue
        if _is_text(text):
            found.setdefault("".join(char for char in text if not char.isascii()), name)
    return list(found.values())


def _is_text(text: str) -> bool:
    letters = {char for char in text if not char.isascii() and char.isalpha()}
    others = {char for char in text if not char.isascii() and not char.isalpha()}
    fits = others <= _SIGNS and any(letters <= language for language in _LANGUAGES)
    return fits and not _ODD.search(text)
