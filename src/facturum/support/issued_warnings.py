"""Warnings of builds, as Python issues them."""

from __future__ import annotations

import warnings
from collections.abc import Iterable

from facturum.errors import FacturumWarning


def issue(texts: Iterable[str], stacklevel: int) -> None:
    """Issue what a column map warns of.

    Args:
        texts: the warnings.
        stacklevel: how far up the caller is, to whom they are shown.
    """
    for text in texts:
        warnings.warn(text, FacturumWarning, stacklevel=stacklevel)


def are_shown() -> bool:
    """Return whether warnings of ours are not ignored altogether, so that the map need not be made for them."""
    for action, message, category, module, _ in warnings.filters:
        if message is None and module is None and issubclass(FacturumWarning, category):
            return action != "ignore"
    return True
