"""The entries of the column map that tell of changes of the source."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field


class Part(BaseModel):
    """A part of the column map."""

    model_config = ConfigDict(frozen=True, extra="forbid")


class SidesEntry(Part):
    """The rows before and after a change, told by the matrix: a sum of columns each, the constant under ""."""

    among: dict[str, float] = Field({}, description="what is 1 in the rows that are averaged over; empty for all")
    before: dict[str, dict[str, float]] = Field({}, description="each column that is another one before the change")
    after: dict[str, dict[str, float]] = Field({}, description="each column that is another one after it")


class ChangeEntry(Part):
    """A change of a source variable, and how the columns of the matrix move with it on average."""

    variable: str = Field(description="the variable of the source")
    change: str = Field(description="in words")
    where: str = Field("", description="in which rows, or where other variables are; empty for all rows alike")
    weights: dict[str, float] = Field(description="the average movement of each column that moves")
    rows: int = Field(description="over how many rows the movement is averaged")
    same: bool = Field(True, description="whether all of them move alike")
    cycle: list[str] = Field([], description="of the parts of a cycle, which is compared with which")
    sides: SidesEntry | None = Field(None, description="the rows before and after, which a link is taken of")
