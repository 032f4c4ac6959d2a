"""The files beside a plan that hold its long learned tables."""

from __future__ import annotations

import io
import re
from collections.abc import Callable, Iterable, Iterator

import pyarrow as pa
from pyarrow import parquet

from facturum.engine.planning.sections.spec import PlanSpec
from facturum.errors import PlanError
from facturum.files.folder import Buffer
from facturum.files.scans.file_scans import UNREADABLE
from facturum.language.tree.stored import WORD, StoredLiteral, found, read_literal

_NAMED = re.compile(rf"\b{WORD}\('([0-9a-f]{{24}})'\)")


def file_name(digest: str) -> str:
    """Return the name of the file of a learned table.

    Example:
        >>> file_name("0f" * 12)
        'learned-0f0f0f0f0f0f0f0f0f0f0f0f.parquet'
    """
    return f"learned-{digest}.parquet"


def named_in(texts: Iterable[str | None]) -> list[str]:
    """Return the digests of the learned tables that expressions name, each once.

    Example:
        >>> named_in(["within(x, by=[g], effects=stored('" + "0f" * 12 + "'))", None])
        ['0f0f0f0f0f0f0f0f0f0f0f0f']
    """
    return list(dict.fromkeys(digest for text in texts if text for digest in _NAMED.findall(text)))


def with_tables(spec: PlanSpec, read: Callable[[str], Buffer]) -> PlanSpec:
    """Return a plan with the learned tables that it names.

    Args:
        spec: the plan.
        read: returns the content of a file by its name.

    Raises:
        PlanError: where a table is missing, or not the one that was learned.
    """
    named = named_in([spec.response, *spec.terms.values(), *spec.derived.values()])
    return spec.holding([found(digest) or _read(digest, read) for digest in named])


def learned_tables(spec: PlanSpec) -> Iterator[tuple[str, bytes]]:
    """Yield the files of the long learned tables of a plan, each with its name."""
    for literal in spec.held:
        buffer = io.BytesIO()
        parquet.write_table(literal.table, buffer, compression="zstd", write_page_checksum=True)
        yield file_name(literal.digest), buffer.getvalue()


def _read(digest: str, read: Callable[[str], Buffer]) -> StoredLiteral:
    name = file_name(digest)
    try:
        data = read(name)
        with parquet.ParquetFile(pa.BufferReader(pa.py_buffer(data)), page_checksum_verification=True) as file:
            literal = read_literal(file.read())
    except (*UNREADABLE, SyntaxError) as problem:
        raise PlanError(
            f"the learned table {name} cannot be read: {str(problem).splitlines()[0] if str(problem) else name}",
            remedy="Keep it beside the plan, as the build wrote it.",
        ) from None
    if literal.digest != digest:
        raise PlanError(
            f"the learned table {name} is not the one that was learned",
            remedy="Take both from the build that learned it, or build anew.",
        )
    return literal
