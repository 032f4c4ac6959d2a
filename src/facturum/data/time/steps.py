"""The steps of time that there are, from the longest: what each is called, how long it is, what it is taken for."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Step:
    """A step from one period to the next.

    Args:
        name: as plans write it.
        noun: what a period of it is called; its name where none is given.
        minutes: how long it is, of a step below a day.
        said: whether a time is taken for it only where that is said.
        rows: whether it is one of the rows of a plan; a step that is not is but a period that a time lies in.
        longer: the steps that a whole number of it makes up, each with that number, for hints.
        seasons: the parts of the calendar that a first plan proposes.
    """

    name: str
    noun: str = ""
    minutes: int | None = None
    said: bool = False
    rows: bool = True
    longer: tuple[tuple[int, str], ...] = ()
    seasons: tuple[str, ...] = ()


STEPS_OF_TIME = (
    Step("year"),
    Step("quarter", longer=((4, "year"),), seasons=("quarter",)),
    Step("month", longer=((12, "year"), (3, "quarter")), seasons=("month",)),
    Step("week", seasons=("quarter",)),
    Step("day", longer=((7, "week"),), seasons=("month", "weekday")),
    Step("workday", said=True, longer=((5, "week"),), seasons=("month", "weekday")),
    Step("hour", minutes=60, longer=((24, "day"),), seasons=("month", "hour")),
    Step("30 minutes", "half hour", 30, said=True, longer=((2, "hour"),), seasons=("month", "hour")),
    Step(
        "15 minutes", "quarter hour", 15, said=True, longer=((4, "hour"), (2, "30 minutes")), seasons=("month", "hour")
    ),
    Step("minute", minutes=1, rows=False),
)
ROW = "row"  # rows follow one another as they stand
STEPS = (*(each.name for each in STEPS_OF_TIME if each.rows and not each.said), ROW)  # that a time is taken for
OWN_STEPS = tuple(each.name for each in STEPS_OF_TIME if each.said)
ROW_STEPS = tuple(each.name for each in STEPS_OF_TIME if each.rows)
PERIODS = tuple(each.name for each in STEPS_OF_TIME if not each.said)  # that a time lies in
BELOW_A_DAY = tuple(each.name for each in STEPS_OF_TIME if each.minutes is not None)
MINUTES = {each.name: each.minutes for each in STEPS_OF_TIME if each.minutes is not None and each.minutes < 60}
NOUNS = {each.name: each.noun or each.name for each in STEPS_OF_TIME}
LONGER_STEPS = {each.name: each.longer for each in STEPS_OF_TIME if each.longer}
SEASONS = {each.name: each.seasons for each in STEPS_OF_TIME if each.seasons}


def is_shorter(step: str, other: str) -> bool:
    """Return whether one step of the calendar is shorter than another; workdays and rows have no place among them.

    Example:
        >>> is_shorter("day", "month"), is_shorter("year", "month"), is_shorter("workday", "month")
        (True, False, False)
    """
    lengths = [each.name for each in STEPS_OF_TIME if each.name != "workday"]
    return step in lengths and other in lengths and lengths.index(step) > lengths.index(other)
