"""What a check found, and the checks that there are."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from facturum.engine.planning.sections.spec import ChecksSpec
from facturum.errors import ChecksFailed, option

WARNING: Literal["warning"] = "warning"
NOTE: Literal["note"] = "note"


@dataclass(frozen=True)
class Finding:
    """Something that a check found.

    Args:
        check: which, by its key in [checks].
        text: one sentence on it.
        remedy: what to do, in a sentence; "" where there is nothing.
        columns: concerned.
        rows: source row numbers, the first few.
        level: warning, or note for what is good to know.
        edit: the new text of each term that the remedy changes, None where it is left out; none without such a remedy.
    """

    check: str
    text: str
    columns: tuple[str, ...] = ()
    rows: tuple[int, ...] = ()
    level: Literal["warning", "note"] = "warning"
    edit: Mapping[str, str | None] | None = None
    remedy: str = ""

    @property
    def told(self) -> str:
        """The sentence with its remedy."""
        return f"{self.text} {self.remedy}" if self.remedy else self.text


def refuse(findings: list[Finding], levels: ChecksSpec) -> None:
    """Refuse a build with findings of checks that are set to "error", or with warnings of those set to "strict".

    Raises:
        ChecksFailed: with all of them.
    """
    levels_refused = {WARNING: ("strict", "error"), NOTE: ("error",)}
    wrong = [each for each in findings if levels.of(each.check) in levels_refused[each.level]]
    if wrong:
        first, *others = wrong
        more = "".join(f"\nchecks.{each.check}: {each.told}" for each in others)
        keys = ", ".join(dict.fromkeys(f'{each.check} = "warn"' for each in wrong))
        raise ChecksFailed(
            first.told + more,
            place=f"checks.{first.check}",
            remedy=f"Mend it, or write {keys} in [checks]{option(' (and build without --strict)', '')}.",
        )


def times_text(value: float) -> str:
    """Return by how much a variance is inflated, in three digits.

    Example:
        >>> times_text(1404.7), times_text(95.25)
        ('1,400', '95.2')
    """
    return f"{rounded(value, 3):,.0f}" if 100 <= value < 1e15 else f"{value:.3g}"


def rounded(value: float, digits: int = 6) -> float:
    """Return a figure as it is stored: with so few digits that no processor's roundings show.

    Example:
        >>> rounded(0.30000000000000004)
        0.3
    """
    return float(f"{value:.{digits}g}")
