"""Categories that say yes and no, in the languages of exports."""

from __future__ import annotations

from collections.abc import Sequence

_NO = frozenset({
    "no", "nein", "non", "não", "nao", "nej", "nie", "ne", "nei", "nee", "ei", "нет", "hayır", "false", "falsch",
    "faux", "falso", "off", "n", "f",
})  # fmt: skip
_YES = frozenset({
    "yes", "ja", "oui", "si", "sí", "sim", "tak", "da", "да", "evet", "kyllä", "jo", "true", "wahr", "vrai", "vero",
    "on", "y", "j", "t",
})  # fmt: skip


def said_no(labels: Sequence[object]) -> str | None:
    """Return which of two categories says no where the other says yes; None of others.

    Example:
        >>> said_no(("ja", "nein")), said_no(("boat", "road"))
        ('nein', None)
    """
    texts = [label for label in labels if isinstance(label, str)]
    no, yes = ([text for text in texts if text.strip().casefold() in words] for words in (_NO, _YES))
    return no[0] if len(texts) == len(labels) == 2 and len(no) == len(yes) == 1 else None
