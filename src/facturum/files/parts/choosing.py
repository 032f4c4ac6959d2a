"""Whether a table and its matrix fit into memory, or are read and written in parts."""

from __future__ import annotations

from pathlib import Path

from facturum.engine.passes.build import resolve
from facturum.engine.planning.sections.projection import variables_needed
from facturum.engine.planning.sections.spec import PlanSpec
from facturum.engine.planning.shaping import Given
from facturum.errors import FacturumError
from facturum.files.scans.scans import Scan

SHARE = 0.5  # of the free memory, which the table or the matrix may take
MANY = 20_000  # columns; tables of which so many would fit are not looked at
LOOKED_AT = 65_536  # rows
CODES = 4  # bytes of a category in memory
_GROUPS = (
    ("/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory.current"),
    ("/sys/fs/cgroup/memory/memory.limit_in_bytes", "/sys/fs/cgroup/memory/memory.usage_in_bytes"),
)


def free_memory() -> float:
    """Return the bytes of memory that the machine or the process's control group has left; infinity if unknown."""
    return min(_of_machine(), *[_of_group(Path(most), Path(used)) for most, used in _GROUPS])


def _of_machine() -> float:
    try:
        lines = Path("/proc/meminfo").read_text("ascii").splitlines()
        return next(float(line.split()[1]) * 1024 for line in lines if line.startswith("MemAvailable:"))
    except (OSError, StopIteration, ValueError, IndexError):
        return float("inf")


def _of_group(most: Path, used: Path) -> float:
    try:
        return float(most.read_text("ascii")) - float(used.read_text("ascii"))
    except (OSError, ValueError):  # where there is no group, or no limit ("max")
        return float("inf")


def is_large(spec: PlanSpec, scan: Scan, free: float) -> bool:
    """Return whether a table or its matrix would take more than half of the free memory, judged by its first rows.

    Args:
        spec: the plan.
        scan: the table.
        free: bytes of memory.
    """
    if scan.about * 8 * MANY <= SHARE * free:
        return False
    columns = variables_needed(spec)
    first = scan.first(columns, LOOKED_AT)
    if first is None or not first.length:
        return False
    row = sum(CODES if variable.labels is not None else variable.data.dtype.itemsize for variable in first)
    try:
        width = len([name for names in (resolve(spec, Given(first)).spec.columns or {}).values() for name in names])
    except FacturumError:  # as where the first rows do not suffice, or a series is needed
        width = len(spec.terms)
    return scan.about * max(row, 8 * width) > SHARE * free
