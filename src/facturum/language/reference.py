"""The reference of the language, made from the registry and the docstrings."""

from __future__ import annotations

import dataclasses
import inspect
import re

from facturum.errors import PlanError
from facturum.language.families import REGISTRY
from facturum.language.syntax.binding import known_operations, signature
from facturum.language.syntax.other_words import meant, written_here
from facturum.language.tree.nodes import Node
from facturum.language.tree.writer import literal_text

FAMILIES = (
    "core",
    "statistics",
    "transforms",
    "rounding",
    "polynomials",
    "curves",
    "categories",
    "bins",
    "texts",
    "choices",
    "missing",
    "across",
    "time",
    "selectors",
)

_HEAD = """# The language of plans

*Made from the docstrings by `make docs`; CI checks that it is up to date.*

An expression is written in Python's expression grammar and walked by a whitelist; Python never evaluates it.

- **Values**: numbers, texts in quotes, `True`, `False`, `missing`; variables by name, or `variable("snow depth")`
  where the name is not an identifier.
- **Arithmetic**: `+ - * / **`. Whole powers are chains of multiplications. A result that is not finite is an error
  that names the rows.
- **Comparisons**: `< <= > >= == !=`, chains such as `10 <= x < 20`, and `in [..]`, `not in [..]`. Categories are
  compared with texts, ordered ones by their order. A text compared with a time stands for its whole period:
  `month < '2023-01'` is before its start, `<=` before its end, `==` inside.
- **Logic**: `and`, `or`, `not` are three-valued: `False and missing` is false. `a if c else b` can fail only in the
  branch taken.
- **Missing values**: arithmetic and comparisons with a missing value are missing. A truth value used as a number is
  1 or 0.
- **Blocks**: `[a, b]` is the block of its members, and an operation with a list in first place is applied to each
  member: `log([price, beds])`. `*` between blocks is their interaction, all pairs of columns.
- **Bare categories**: a category in a term, also inside a product, means `category(x)`.
- **Learned options**, marked *learned* below, may be left out; resolving a plan writes them.
- **Sizes**: a text up to 64 kB, brackets up to 100 deep, up to 10,000 parts, 200 deep
  (through derived variables too). What resolving has written may hold tables of up to 4 MB.
"""


def reference() -> str:
    """Return the reference as Markdown: every operation, by family."""
    parts = [_HEAD]
    for family, operations in families().items():
        parts.append(f"\n## {family.capitalize()}\n")
        parts += [entry_of(operation) for operation in operations]
    return "\n".join(parts)


def families() -> dict[str, list[type[Node]]]:
    """Return the operations of the language, by family.

    Example:
        >>> [made.name for made in families()["polynomials"]]
        ['recurrence', 'polynomial']
    """
    by_family: dict[str, list[type[Node]]] = {}
    for operation in sorted(REGISTRY.values(), key=lambda operation: (_rank(operation.family), operation.__module__)):
        by_family.setdefault(operation.family, []).append(operation)
    return by_family


@dataclasses.dataclass(frozen=True)
class Looked:
    """What a word leads to.

    Args:
        operations: those that it means.
        written: how what it means is written, where it is a word for something else here; None for our own words.
        family: the family that it names.
    """

    operations: tuple[type[Node], ...]
    written: str | None = None
    family: str | None = None


def looked_up(word: str) -> Looked:
    """Return what an operation, a family or another word for one of them leads to.

    Raises:
        PlanError: where it leads to nothing, with the nearest name.

    Example:
        >>> [found.name for found in looked_up("rolling").operations], looked_up("rolling").written
        (['moving_average'], 'moving_average(x, 3)')
    """
    if word in REGISTRY:
        return Looked((REGISTRY[word],))
    if word in families():
        return Looked(tuple(families()[word]), family=word)
    written = written_here(word)
    if written is not None:
        names = dict.fromkeys(re.findall(r"[a-z_]+(?=\()", written))
        return Looked(tuple(REGISTRY[name] for name in names if name in REGISTRY), written)
    hint, remedy = meant(word, known_operations())
    raise PlanError(f"operation '{word}' not found{hint}", remedy=remedy)


def summary_of(operation: type[Node]) -> str:
    """Return the first sentence of the documentation of an operation.

    Example:
        >>> summary_of(REGISTRY["mean"])
        'The mean over the learning rows, or within groups.'
    """
    return " ".join(inspect.cleandoc(operation.__doc__ or "").split("\n\n")[0].split())


def _rank(family: str) -> tuple[int, str]:
    return (FAMILIES.index(family) if family in FAMILIES else len(FAMILIES), family)


def entry_of(operation: type[Node]) -> str:
    """Return the documentation of an operation, as Markdown."""
    text = inspect.cleandoc(operation.__doc__ or "")
    lines = [f"### `{signature(operation)}`", "", text, ""]
    for field in dataclasses.fields(operation):  # type: ignore[arg-type]
        words = field.metadata["words"]
        accept = field.metadata.get("accept")
        kind = "an expression" if accept is None else accept.words
        if field.metadata["role"] == "arguments":
            kind = "expressions by condition" if field.metadata["pairs"] else "an expression or a list of them"
        default = "" if field.default is dataclasses.MISSING else f"; default `{literal_text(field.default)}`"
        learned = "; *learned*" if field.metadata.get("learned") else ""
        lines.append(f"- `{field.name}`: {words} ({kind}{default}{learned})")
    return "\n".join([*lines, ""])
